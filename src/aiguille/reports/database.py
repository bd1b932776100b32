"""The tables of an audit as a database of SQLite, for questions no report answers; written row by row, however many there are."""

from __future__ import annotations

import sqlite3
import tempfile
from collections.abc import Iterator
from pathlib import Path

from aiguille.reports.dossier import Dossier
from aiguille.reports.tables import CAUSES, FINDINGS, OUTCOMES, SUMMARY, UNREAD, Table
from aiguille.reports.text import visible_lines

TABLES = (SUMMARY, FINDINGS, CAUSES, OUTCOMES, UNREAD)
"""A table each, its columns called as in the workbook, with ``_`` for blanks."""

_TYPES = {str: "TEXT", int: "INTEGER", float: "REAL"}
_PIECE = 1 << 20


def as_database(dossier: Dossier) -> Iterator[bytes]:
    """The file (https://www.sqlite.org/fileformat2.html), piece by piece."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "audit"
        base = sqlite3.connect(path, isolation_level=None)
        try:
            base.execute("PRAGMA journal_mode=OFF")
            base.execute("BEGIN")
            for table in TABLES:
                _write(base, table, dossier)
            base.execute("COMMIT")
        finally:
            base.close()
        with path.open("rb") as file:
            while piece := file.read(_PIECE):
                yield piece


def _write(base: sqlite3.Connection, table: Table, dossier: Dossier) -> None:
    columns = ", ".join(f"{name_of(one.heading)} {_TYPES[one.type]}" for one in table.columns)
    base.execute(f"CREATE TABLE {name_of(table.name)} ({columns})")
    marks = ", ".join("?" for _ in table.columns)
    rows = (
        tuple(visible_lines(cell) if isinstance(cell, str) else cell for cell in row) for row in table.rows(dossier)
    )
    base.executemany(f"INSERT INTO {name_of(table.name)} VALUES ({marks})", rows)


def name_of(heading: str) -> str:
    """A heading as the name of a column: ``accepted because`` is ``accepted_because``. Quoted, as some are words of SQL."""
    return '"' + heading.replace(" ", "_") + '"'

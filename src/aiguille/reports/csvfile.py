"""Tables as CSV (RFC 4180), safe to open in a spreadsheet."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Iterator

from aiguille.reports.tables import Cell, Table
from aiguille.reports.text import visible_lines

_FORMULA = re.compile(r"[=+\-@]")
"""What spreadsheets take for the beginning of a formula, blanks before it or not."""


def as_csv(table: Table, rows: Iterable[tuple[Cell, ...]]) -> str:
    """The table with a row of headings.

    Text that a spreadsheet might take for a formula gets an apostrophe in front, which spreadsheets hide; numbers stay
    numbers. Control characters are made visible.
    """
    return "".join(csv_text(table, rows))


def csv_text(table: Table, rows: Iterable[tuple[Cell, ...]]) -> Iterator[str]:
    """The same, line by line."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow([column.heading for column in table.columns])
    for row in rows:
        yield out.getvalue()
        out.seek(0)
        out.truncate()
        writer.writerow([_cell(value) for value in row])
    yield out.getvalue()


def _cell(value: Cell) -> Cell:
    if not isinstance(value, str):
        return value
    text = visible_lines(value)
    return f"'{text}" if _FORMULA.match(text.lstrip()) or text.startswith("'") else text

"""What an empty sheet for a dialect of the sheet family looks like: tables, headings, and what belongs under each."""

from __future__ import annotations

import re
from collections.abc import Iterator

from msgspec import Struct

from aiguille.readers.keys import key_docs
from aiguille.readers.mapped.loading import shipped
from aiguille.readers.mapped.spec import Dialect, SheetStructure, Value, field_kinds, fields_of, paths_of

_SETTING = re.compile(r"/?(\w+)/row\[(\w+)=([^\]]+)\]/\w+")


class Column(Struct, frozen=True):
    """A column: its heading, what belongs there, and the other headings it may have."""

    heading: str
    means: str
    others: tuple[str, ...]


class SheetTable(Struct, frozen=True):
    """A table. `first_cells` are what stands in the first column of the rows it comes with, and what belongs beside each."""

    name: str
    others: tuple[str, ...]
    columns: tuple[Column, ...]
    first_cells: tuple[tuple[str, str], ...]


def sheet_tables() -> tuple[SheetTable, ...]:
    """The tables of the sheet that comes with the package."""
    return template(next(one for one in shipped() if isinstance(one.structure, SheetStructure)))


def template(dialect: Dialect) -> tuple[SheetTable, ...]:
    """The tables of an empty sheet. Raises TypeError for a dialect of another family."""
    structure = dialect.structure
    if not isinstance(structure, SheetStructure):
        raise TypeError(f"dialect '{dialect.dialect}' does not describe sheets")
    means = dict(_meanings(dialect, "", dialect))
    if structure.device_column:
        means[next(iter(structure.tables)), structure.device_column] = "the firewall, where the sheet is about several"
    by_path = {path: said for (_, path), said in means.items()}
    rows: dict[str, dict[str, str]] = {}
    for _, path in paths_of(dialect):
        if found := _SETTING.fullmatch(path):
            rows.setdefault(found[1], {}).setdefault(found[3], by_path.get(path, ""))
    return tuple(
        SheetTable(
            name,
            table.called,
            tuple(
                Column(column, means.get((name, column), ""), others)
                for column, others in table.columns.items()
            ),
            tuple(rows.get(name, {}).items()),
        )
        for name, table in structure.tables.items()
    )  # fmt: skip


def _meanings(given: object, table: str, dialect: Dialect) -> Iterator[tuple[tuple[str, str], str]]:
    """What each column of each table is read as."""
    if isinstance(given, tuple):
        for one in given:
            yield from _meanings(one, table, dialect)
    elif isinstance(given, Struct):
        at = getattr(given, "at", "")
        table = at.lstrip("/").partition("/")[0] if isinstance(at, str) and at else table
        docs, kinds = key_docs(type(given)), field_kinds(type(given))
        for field in fields_of(type(given)):
            value = getattr(given, field.name)
            if kinds.get(field.name) == "place" and value is not None:
                path = value if isinstance(value, str) else value.source
                said = _said(docs.get(field.encode_name, ""), value, dialect)
                for one in (path,) if isinstance(path, str) else path or ():
                    yield (table, one), said
            elif not isinstance(value, Value):
                yield from _meanings(value, table, dialect)


def _said(doc: str, value: str | Value, dialect: Dialect) -> str:
    """What a key means, without what concerns writers of dialects only, and the words that may stand there."""
    doc = re.split(r",? by a word table|[;,] (?:or unknown|`)| \(a bare", doc)[0]
    if not isinstance(value, Value):
        return doc
    if value.words is not None:
        first: dict[object, str] = {}
        for word, ours in dialect.words[value.words].items():
            first.setdefault(ours, word)
        doc += f" ({', '.join(first.values())})"
    if value.unit is not None:
        doc += f", in {value.unit}"
    signs = " or ".join({"\n": "a line break"}.get(sign, sign) for sign in value.split)
    return doc + (f"; several set apart by {signs}" if signs else "")

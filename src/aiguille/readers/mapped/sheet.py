"""Sheets of rows and columns into a tree: CSV and the like, and workbooks that were made lines of (`files`)."""

from __future__ import annotations

import csv
import re
from collections.abc import Sequence

from aiguille.model import UnreadableError
from aiguille.readers.files import ExportFile
from aiguille.readers.mapped.spec import SheetStructure, Table
from aiguille.readers.mapped.tree import Asides, Node, Token

_SEPARATORS = ",;\t|"

LOOKED_AT = 2000
"""Lines of a file that are looked at to recognise it."""


_TITLES = 20
"""Lines that may stand above the headings of a table."""


def parse(files: Sequence[ExportFile], structure: SheetStructure, asides: Asides) -> Node:
    """The tree of all tables: a node for each by our name, in it `row` nodes with a child for each filled cell.

    A table begins with its headings. What it is tells the name of the sheet it is on, or a row above the headings that holds
    nothing but that name; if neither does, it is the first table of the structure. Raises UnreadableError for a table
    without headings that are known.
    """
    top: list[Node] = []
    for file in files:
        top += _Sheet(file, structure, asides).tables()
    if structure.device_column:
        first = next(iter(structure.tables))
        others = [node for node in top if node.name != first]
        top = [*_by_device([node for node in top if node.name == first], structure.device_column, files[0]), *others]
    return Node("", (), files[0].path, 1, 1, max(len(files[0].lines), 1), tuple(top))


def _by_device(tables: list[Node], column: str, file: ExportFile) -> list[Node]:
    """A node for each device, in the order they first occur, that holds its rows; one for all of them where none is named.

    A row that names nobody goes with the one above it, as where cells are joined; those above all names with the first named.
    """
    rows: dict[str, list[tuple[Node, Node]]] = {}
    names: dict[str, Node] = {}
    every = [
        (table, row, next((cell for cell in row.inner if cell.name == column), None))
        for table in tables
        for row in table.inner
    ]
    name = next((described.words[0].text for *_, described in every if described is not None), "")
    for table, row, described in every:
        name = described.words[0].text if described is not None else name
        rows.setdefault(name, []).append((table, row))
        if described is not None:
            names.setdefault(name, described)
    if not rows:
        # It stands on no line of its own, and there may be none.
        return [Node("device", (), file.path, 1, 0, 0, taken=True)]
    return [_device(name, held, names.get(name), column) for name, held in rows.items()]


def _device(name: str, held: list[tuple[Node, Node]], described: Node | None, column: str) -> Node:
    first = held[0][0]
    parts = []
    for table in dict.fromkeys(table for table, _ in held):
        mine = tuple(_without(row, column) for whose, row in held if whose is table)
        parts.append(Node(table.name, (), table.file, table.first, table.first, mine[-1].last, mine))
    own = (
        () if described is None else (Node(column, described.words, described.file, described.first, described.first),)
    )
    return Node("device", (), first.file, first.first, first.first, parts[-1].last, (*own, *parts))


def _without(row: Node, column: str) -> Node:
    cells = tuple(cell for cell in row.inner if cell.name != column)
    return Node(row.name, row.words, row.file, row.first, row.head_last, inner=cells)


def has_headings(file: ExportFile, table: Table, wanted: Sequence[str]) -> bool:
    """Whether some row holds all headings wanted of a table, by our names of its columns."""
    try:
        rows = _rows(file, LOOKED_AT)
    except UnreadableError:
        return False
    return any(set(_named(table, cells)).issuperset(wanted) for _, cells in rows)


class _Sheet:
    def __init__(self, file: ExportFile, structure: SheetStructure, asides: Asides) -> None:
        self.file = file
        self.structure = structure
        self.asides = asides
        self.names = {_plain(word): name for name, table in structure.tables.items() for word in (name, *table.called)}

    def tables(self) -> list[Node]:
        out: list[Node] = []
        current = self.names.get(_plain(self.file.table)) or next(iter(self.structure.tables))
        columns: list[str | None] | None = None
        rows: list[Node] = []
        head = 1

        def close() -> None:
            nonlocal rows
            if rows:
                out.append(Node(current, (), self.file.path, head, head, rows[-1].last, tuple(rows)))
            elif columns is not None and current in self.structure.tables:
                self.asides.set_aside(self.file.span(head), "a table without rows")
            rows = []

        for (first, last), cells in _rows(self.file):
            filled = [text.strip() for text, _ in cells if text.strip()]
            if not filled or _is_remark(filled):
                if cells:
                    self.asides.set_aside(self.file.span(first, last), "comment" if filled else "an empty row")
            elif len(filled) == 1 and (found := self.names.get(_plain(filled[0].strip("[]")))) is not None:
                close()
                current, columns, head = found, None, first
                self.asides.set_aside(self.file.span(first, last), "the name of a table")
            elif columns is None and self._is_above(current, cells, first):
                self.asides.set_aside(self.file.span(first, last), "a line above the headings")
            elif columns is None:
                columns, head = self._headings(current, cells), first
                table = self.structure.tables[current]
                lacking = [name for name in table.needs if name not in columns]
                if not any(columns) or lacking:
                    if not self.file.table:
                        what = (
                            f"no heading of table '{current}' is '{lacking[0]}'"
                            if any(columns)
                            else f"none of the headings is known for table '{current}'"
                        )
                        raise UnreadableError(f"{self.file.path}:{first}: {what}; known are {', '.join(table.columns)}")
                    # A sheet of another kind in a workbook: its rows are shown as not understood.
                    current, columns = self.file.table, [None] * len(cells)
                # An unknown heading keeps its own name, so that cells below it are shown as not understood.
                columns = [name or (text.strip() or None) for name, (text, _) in zip(columns, cells, strict=True)]
            elif len(filled) == 1 and self._says_nothing(current, columns, cells):
                self.asides.set_aside(self.file.span(first, last), "a remark among the rows of the table")
            else:
                rows.append(self._row(current, columns, first, last, cells))
        close()
        return out

    def _is_above(self, table: str, cells: list[tuple[str, int]], line: int) -> bool:
        """Whether a row is no headings, and some soon after it are: offices put titles above their tables."""
        wanted = set(self.structure.tables[table].needs)
        if not wanted or wanted <= set(self._headings(table, cells)):
            return False
        soon = [row for (first, _), row in _rows(self.file, line + _TITLES) if first > line]
        return any(wanted <= set(self._headings(table, row)) for row in soon)

    def _says_nothing(self, table: str, columns: list[str | None], cells: list[tuple[str, int]]) -> bool:
        """Whether the only filled cell of a row is none that a row of the table needs."""
        needs = self.structure.tables[table].needs if table in self.structure.tables else ()
        at = next(number for number, (text, _) in enumerate(cells) if text.strip())
        return bool(needs) and (at >= len(columns) or columns[at] not in needs)

    def _headings(self, table: str, cells: list[tuple[str, int]]) -> list[str | None]:
        return _named(self.structure.tables[table], cells)

    def _is_neutral(self, table: str, column: str | None, text: str) -> bool:
        """Whether a cell below a heading nobody knows says nothing, as "any" and "-" do."""
        described = self.structure.tables.get(table)
        return described is not None and column not in described.columns and _plain(text) in described.neutral

    def _row(self, table: str, columns: list[str | None], first: int, last: int, cells: list[tuple[str, int]]) -> Node:
        children = []
        for number, (text, start) in enumerate(cells):
            bare = text.strip()
            name = columns[number] if number < len(columns) else None
            if bare:
                name = "aside" if self._is_neutral(table, name, bare) else name
                # Where quotes hide a cell's place, it may be anywhere in its row: what is secret must not show.
                begin, stop = 0, 1 << 30
                if start >= 0:
                    begin = start + len(text) - len(text.lstrip())
                    stop = begin + len(bare)
                token = Token(bare, self.file.path, first, begin, stop, last=last)
                children.append(Node(name or f"column {number + 1}", (token,), self.file.path, first, last))
        return Node("row", (), self.file.path, first, last, inner=tuple(children))


def _is_remark(filled: list[str]) -> bool:
    """Whether a row is a comment; a heading "#" is the number of rules."""
    return filled[0].startswith("#") and (filled[0] != "#" or len(filled) == 1)


def _named(table: Table, cells: Sequence[tuple[str, int]]) -> list[str | None]:
    """Our names of the columns below some headings, None for those we do not know."""
    known = _columns(table)
    headings = [_plain(text) for text, _ in cells]
    out = [known.get(heading) for heading in headings]
    for column, others in table.instead.items():
        wanted = {_plain(one) for one in others}
        if column not in out and (at := next((n for n, text in enumerate(headings) if text in wanted), -1)) >= 0:
            out[at] = column
    return out


def _columns(table: Table) -> dict[str, str]:
    """The name of a column by every heading it may have, made once for each table."""
    found = _KNOWN.get(id(table))
    if found is None or found[0] is not table:
        known = {_plain(word): name for name, others in table.columns.items() for word in (name, *others)}
        found = _KNOWN[id(table)] = (table, known)
    return found[1]


_KNOWN: dict[int, tuple[Table, dict[str, str]]] = {}
"""By the place of a table in memory; the table is held, so that no other comes to stand there."""


def _plain(text: str) -> str:
    """A heading or name without what people write differently: case, spaces, hyphens, dots."""
    return re.sub(r"[\s_.:-]+", " ", text).strip().lower()


def _rows(file: ExportFile, limit: int = 0) -> list[tuple[tuple[int, int], list[tuple[str, int]]]]:
    """Rows as first and last line, and cells with the column they start in (-1 where quotes hide it)."""
    lines = file.lines[:limit] if limit else file.lines
    described = [line for line in lines[:LOOKED_AT] if not re.match(r"#\s*\w", line)]
    separator = "," if file.table else max(_SEPARATORS, key=lambda sign: sum(line.count(sign) for line in described))
    out = []
    reader = csv.reader((f"{line}\n" for line in lines), delimiter=separator, strict=False)
    before = 0
    try:
        for cells in reader:
            first, last = before + 1, reader.line_num
            before = last
            line = lines[first - 1]
            at, placed = 0, []
            for cell in cells:
                found = line.find(cell, at) if first == last else -1
                placed.append((cell, found))
                at = found + len(cell) if found >= 0 else at
            out.append(((first, last), placed))
    except csv.Error as error:
        raise UnreadableError(f"{file.path}:{reader.line_num}: this is not a readable table: {error}") from error
    return out

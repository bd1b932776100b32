"""Tables of packets: CSV with the header of `COLUMNS`, into columns of numbers where rows are complete.

A file is cut into parts that can be read on their own. In a part without quotes, rows in the plain spelling become numbers
all at once; every other row is read by itself.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from aiguille.model import UsageError
from aiguille.packets.cells import LINE, Cells, Lines, Numbers, Text, classes
from aiguille.packets.rows import (
    DPORT,
    DST,
    IN,
    OUT,
    PROTOCOL,
    SPORT,
    SRC,
    STATE,
    TYPE,
    Group,
    Ids,
    PacketTable,
    RowReader,
    are_named,
)
from aiguille.packets.sentences import COLUMNS
from aiguille.space.fields import PORT_TOP, WITH_PORTS, Symbols

PART = 1 << 22
"""Bytes of a part: some ten thousand rows, so that most of those that are decided together have many like them."""

WIDEST = 64
"""Bytes of a name in a row that is read together with others."""

_WAYS, _PROTOCOLS, _ENDINGS = (IN, OUT), (PROTOCOL, PROTOCOL), (TYPE, STATE)
"""Columns that stand side by side, have few values and are looked at as one."""


class Part(Struct, frozen=True):
    """A stretch of a file: the number of its first line, its first byte and the one after its last."""

    line: int
    start: int
    stop: int


class TableFile:
    """A table of packets as bytes, in parts that can be read one by one, in whatever process.

    Raises UnicodeDecodeError if it is not UTF-8, UsageError for a wrong header.
    """

    def __init__(self, data: bytes) -> None:
        self._data = data = data.removeprefix(b"\xef\xbb\xbf")
        if not data.isascii():
            data.decode()
        # A cell in quotes may hold a line break, and a lone carriage return ends a line for CSV, but for nobody else.
        lone = b"\r" in data and data.count(b"\r") != data.count(b"\r\n")
        self._plain = b'"' not in data and b"\0" not in data and not lone
        head = data.find(b"\n") + 1 if self._plain and b"\n" in data else len(data)
        _check_header(next(_numbered(data[:head]), (1, []))[1])
        self.parts: tuple[Part, ...] = (Part(1, 0, len(data)),)
        if self._plain:
            self.parts, self.lines = self._cut(head)
        else:
            self.lines = data.count(b"\n") + 1

    def _cut(self, start: int) -> tuple[tuple[Part, ...], int]:
        """The parts, and the number of lines. The first part is small: others may begin once it is known to be a table."""
        line, parts, size = 2, [], PART // 16
        signs = np.frombuffer(self._data, np.uint8)
        while start < len(self._data):
            stop = self._data.find(b"\n", min(start + size, len(self._data) - 1)) + 1 or len(self._data)
            parts.append(Part(line, start, stop))
            line += int(np.count_nonzero(signs[start:stop] == LINE))
            start, size = stop, PART
        return tuple(parts), line

    def last_id(self) -> str:
        """What the last row begins with."""
        data = self._data
        start = data.rfind(b"\n", 0, max(0, len(data) - 1)) + 1
        return data[start : start + WIDEST].split(b",")[0].decode(errors="replace")

    def read(self, part: Part, symbols: Symbols) -> PacketTable:
        """Read a part. RowReader that are wrong become faults."""
        if self._plain:
            return _Together(self._data[part.start : part.stop], part.line, symbols).read()
        rows = RowReader(symbols)
        numbered = _numbered(self._data)
        next(numbered)
        for line, cells in numbered:
            rows.add(line, cells)
        return rows.table()


def _numbered(data: bytes) -> Iterator[tuple[int, list[str]]]:
    """Each row's last line and cells; raises UsageError for what is no CSV."""
    reader = csv.reader(io.StringIO(data.decode(), newline=""))
    try:
        for cells in reader:
            yield reader.line_num, cells
    except csv.Error as error:
        raise UsageError(f"line {reader.line_num}: {error}") from error


def _check_header(cells: Sequence[str]) -> None:
    header = [cell.strip().lower() for cell in cells]
    if tuple(header) == COLUMNS:
        return
    missing = [c for c in COLUMNS if c not in header]
    extra = [c for c in header if c not in COLUMNS]
    problem = (
        f"lacks {', '.join(missing)}"
        if missing
        else f"has unknown {', '.join(extra)}"
        if extra
        else "is in another order"
    )
    raise UsageError(f"line 1: the header {problem}; it must be {','.join(COLUMNS)}")


class _Together:
    """The rows of a part without quotes: those in the plain spelling at once, the others one by one."""

    def __init__(self, data: bytes, line: int, symbols: Symbols) -> None:
        self._data, self._line = data, line  # of the first
        self._rows = RowReader(symbols)
        self._text = Text(data)
        self._lines = Lines(self._text, len(COLUMNS))

    def read(self) -> PacketTable:
        plain, groups = self._plain()
        if len(plain) == len(self._lines):
            return PacketTable(self._ids(plain), plain + self._line, groups)
        odd = np.setdiff1d(np.arange(len(self._lines)), plain, assume_unique=True)
        for at in odd.tolist():
            # Without quotes, a row is what stands between commas.
            row = self._data[self._lines.starts[at] : self._lines.stops[at]].decode()
            self._rows.add(self._line + at, row.split(",") if row else [])
        table = self._rows.table()
        # Both kinds of rows get the numbers they have in the file, faults left out.
        single = table.lines - self._line
        lines = np.sort(np.concatenate([plain, single]))
        kept = np.searchsorted(lines, single)
        table.groups = [replace(group, rows=kept[group.rows]) for group in table.groups]
        table.others = {int(kept[row]): sketch for row, sketch in table.others.items()}
        table.groups += [replace(group, rows=np.searchsorted(lines, group.rows)) for group in groups]
        table.ids, table.lines = self._ids(lines), lines + self._line
        return table

    def _ids(self, lines: Numbers) -> Ids:
        cells = self._lines.first(lines)
        longest = int(cells.lengths.max(initial=0))
        if self._data.isascii() and longest <= 8:
            return Ids(cells.words().view("S8"))
        if self._data.isascii() and longest <= 16:
            return Ids(np.stack([cells.words(0), cells.words(8)], axis=1).view("S16")[:, 0])
        spans = zip(cells.starts.tolist(), cells.stops.tolist(), strict=True)
        return Ids.of([self._data[a:b].decode() for a, b in spans])

    def _plain(self) -> tuple[Numbers, list[Group]]:
        """(P,) the rows in the plain spelling, and their packets: complete, numbers as digits."""
        whole = self._lines.whole()
        if not len(whole):
            return whole, []
        cuts = self._lines.cuts(whole)
        narrow = np.all([cuts[b + 1] - cuts[a] - 1 <= WIDEST for a, b in (_WAYS, _PROTOCOLS, _ENDINGS)], axis=0)
        if not narrow.all():
            whole = whole[narrow]
            cuts = self._lines.cuts(whole)
        right = np.zeros(len(whole), np.bool_)
        read: Numbers = whole[:0]
        groups: list[Group] = []
        if b"." in self._data:
            (source, right), (destination, also) = (
                self._cells(cuts, SRC).addresses(),
                self._cells(cuts, DST).addresses(),
            )
            right &= also
            if right.any():
                read, groups = self._packets(4, whole, cuts, source, destination, right)
        if b":" in self._data and not right.all():
            others = np.flatnonzero(~right)
            cuts = [column[others] for column in cuts] if len(others) < len(whole) else cuts
            (wide, right), (far, also) = self._cells(cuts, SRC).wide(), self._cells(cuts, DST).wide()
            six, more = self._packets(6, whole[others], cuts, wide, far, right & also)
            read, groups = np.sort(np.concatenate([read, six])), groups + more
        return read, groups

    def _cells(self, cuts: Sequence[Numbers], first: int, last: int | None = None) -> Cells:
        """The cells of a column, or of several side by side as one."""
        return Cells(self._text, cuts[first] + 1, cuts[(first if last is None else last) + 1])

    def _packets(
        self,
        family: int,
        whole: Numbers,
        cuts: Sequence[Numbers],
        source: NDArray[Any],
        destination: NDArray[Any],
        right: NDArray[np.bool_],
    ) -> tuple[Numbers, list[Group]]:
        """(P,) those rows of one family whose other cells are in the plain spelling too, and their packets.

        right: (R,) which rows have addresses of the family
        """
        way, spelt = self._spelt(self._cells(cuts, *_WAYS))
        names = [(inward, outward) for inward, outward in spelt]
        spoken, spellings = self._spelt(self._cells(cuts, *_PROTOCOLS), self._cells(cuts, *_ENDINGS))
        kinds = [self._rows.kind(family, spelling) for spelling in spellings]
        numbers = np.array([kind or (0, 0, 0, 0, 0) for kind in kinds], np.int64).reshape(-1, 5)
        protocol, flags, state, a, b = np.ascontiguousarray(numbers.T)[:, spoken]
        right = right & np.array([are_named(*pair) for pair in names], np.bool_)[way]
        right &= np.array([kind is not None for kind in kinds], np.bool_)[spoken]
        ported = np.isin(numbers[:, 0], WITH_PORTS)[spoken]
        for column, found in ((SPORT, a), (DPORT, b)):
            ports = self._cells(cuts, column)
            value, number = ports.numbers(PORT_TOP)
            right &= np.where(ported, number, ports.lengths == 0)
            found[:] = np.where(ported, value, found)
        inward, outward = (
            np.array([self._rows.interface(pair[end]) for pair in names], np.int64)[way] for end in (0, 1)
        )
        values = (inward, outward, source, destination, protocol, a, b, flags, state)
        groups = []
        for comes, leaves in ((True, True), (True, False), (False, True)):
            of_this = np.array([(bool(i), bool(o)) == (comes, leaves) for i, o in names], np.bool_)[way]
            mask = right & of_this
            chosen: NDArray[np.intp] | slice = slice(None) if mask.all() else np.flatnonzero(mask)
            if mask.any():
                part = tuple(column[chosen] for column in values)
                groups.append(Group(family, comes, leaves, whole[chosen], names, way[chosen], part))
        return (whole if right.all() else whole[right]), groups

    def _spelt(self, *columns: Cells) -> tuple[NDArray[np.intp], list[tuple[str, ...]]]:
        """(R,) which spelling of some cells each row has, and the spellings, cut at commas."""
        found, rows = classes(*columns)
        cells = (b",".join(self._data[c.starts[row] : c.stops[row]] for c in columns) for row in rows.tolist())
        return found, [tuple(cell.decode().split(",")) for cell in cells]

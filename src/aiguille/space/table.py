"""Tables of packets: CSV with the header of `COLUMNS`, into columns of numbers where rows are complete.

A file is cut into parts that can be read on their own. In a part without quotes, rows in the plain spelling become numbers
all at once; every other row is read by itself.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterator, Sequence
from ipaddress import IPv4Address, IPv6Address
from typing import Any

import numpy as np
from msgspec import Struct, field
from msgspec.structs import replace
from numpy.typing import NDArray

from aiguille.model import State, UsageError
from aiguille.model.protocols import TCP_FLAGS
from aiguille.space.cells import COMMA, LINE, RETURN, Cells, Numbers, Text, classes
from aiguille.space.fields import ICMP_OF, PORT_TOP, SYN, TCP, WITH_PORTS, Axis, Space, Symbols
from aiguille.space.packets import Packet, packet_at
from aiguille.space.sentences import ANY, COLUMNS, Sketch, is_number, read_row

PART = 1 << 22
"""Bytes of a part: some ten thousand rows."""

WIDEST = 64
"""Bytes of a name in a row that is read together with others."""

_ID, _IN, _OUT, _SRC, _DST, _PROTOCOL, _SPORT, _DPORT, _TYPE, _CODE, _FLAGS, _STATE = range(len(COLUMNS))


class Fault(Struct, frozen=True):
    """A row that cannot be read: its line in the file, its id, and why."""

    line: int
    id: str
    why: str


class Group(Struct, frozen=True):
    """Complete packets of one family and direction.

    comes, leaves: whether they come in, and whether they leave by an interface
    rows: (P,) numbers of the table's rows
    names, named: names of interfaces in and out, and (P,) which of them each packet has; the space may not tell them apart
    columns: (P,) values for each axis but the destination type; IPv6 addresses as objects, which no machine word holds
    """

    family: int
    comes: bool
    leaves: bool
    rows: NDArray[np.int64]
    names: Sequence[tuple[str, str]]
    named: NDArray[np.intp]
    columns: tuple[NDArray[Any], ...]

    def packet(self, space: Space, at: int) -> Packet:
        """The packet at position `at` of the group."""
        inward, outward = self.names[self.named[at]]
        found = packet_at(space, (*(int(column[at]) for column in self.columns), 0))
        return replace(found, in_interface=inward, out_interface=outward)


class PacketTable(Struct):
    """A table, or a part of one, as read.

    ids, lines: (R,) of all rows that could be read, in order; the line is that of the file
    groups: complete rows
    others: rows that leave something open, by number
    """

    ids: list[str] = field(default_factory=list)
    lines: list[int] = field(default_factory=list)
    groups: list[Group] = field(default_factory=list)
    others: dict[int, Sketch] = field(default_factory=dict)
    faults: list[Fault] = field(default_factory=list)


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
        self._plain = b'"' not in data and b"\0" not in data and data.count(b"\r") == data.count(b"\r\n")
        head = data.find(b"\n") + 1 if self._plain and b"\n" in data else len(data)
        _check_header(next(_numbered(data[:head]), (1, []))[1])
        self.lines = data.count(b"\n") + 1
        self.parts: tuple[Part, ...] = (Part(1, 0, len(data)),)
        if self._plain:
            self.parts = tuple(self._cut(head))

    def _cut(self, start: int) -> Iterator[Part]:
        line = 2
        while start < len(self._data):
            stop = self._data.find(b"\n", min(start + PART, len(self._data) - 1)) + 1 or len(self._data)
            yield Part(line, start, stop)
            line += self._data.count(b"\n", start, stop)
            start = stop

    def read(self, part: Part, symbols: Symbols) -> PacketTable:
        """Read a part. Rows that are wrong become faults."""
        if self._plain:
            return _Together(self._data[part.start : part.stop], part.line, symbols).read()
        rows = _Rows(symbols)
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


class _Rows:
    """Rows read one by one; each distinct cell is understood once."""

    def __init__(self, symbols: Symbols) -> None:
        self._symbols = symbols
        self._addresses: dict[str, tuple[int, int] | None] = {}
        self._interfaces: dict[str, int] = {"": 0}
        self._kinds: dict[tuple[str, ...], tuple[int, int, int] | None] = {}
        self._names: dict[tuple[str, str], int] = {}
        self._groups: dict[tuple[int, bool, bool], list[tuple[int, int, tuple[int, ...]]]] = {}
        self._table = PacketTable()

    def add(self, line: int, cells: list[str]) -> None:
        """Enter one more row."""
        if not cells:
            return
        table = self._table
        if len(cells) != len(COLUMNS):
            table.faults.append(Fault(line, cells[_ID], f"has {len(cells)} cells instead of {len(COLUMNS)}"))
            return
        row = len(table.ids)
        point = self._point(cells)
        if point is not None:
            family, values = point
            pair = (cells[_IN], cells[_OUT])
            name = self._names.setdefault(pair, len(self._names))
            self._groups.setdefault((family, bool(pair[0]), bool(pair[1])), []).append((row, name, values))
        else:
            try:
                table.others[row] = read_row(dict(zip(COLUMNS, cells, strict=True)))
            except UsageError as error:
                table.faults.append(Fault(line, cells[_ID], error.message))
                return
        table.ids.append(cells[_ID])
        table.lines.append(line)

    def table(self) -> PacketTable:
        """All that was entered."""
        names = tuple(self._names)
        for (family, comes, leaves), entered in self._groups.items():
            rows, named, points = zip(*entered, strict=True)
            wide = (Axis.SRC, Axis.DST) if family == 6 else ()
            columns = tuple(
                np.array(column, object if axis in wide else np.int64)
                for axis, column in enumerate(zip(*points, strict=True))
            )
            group = Group(family, comes, leaves, np.array(rows, np.int64), names, np.array(named, np.intp), columns)
            self._table.groups.append(group)
        return self._table

    def _point(self, cells: list[str]) -> tuple[int, tuple[int, ...]] | None:
        """The family and the coordinates of a complete row; None if something is open, unusual or wrong."""
        inward, outward, sport, dport = cells[_IN], cells[_OUT], cells[_SPORT], cells[_DPORT]
        source, destination = self._address(cells[_SRC]), self._address(cells[_DST])
        if source is None or destination is None or source[0] != destination[0] or not _named(inward, outward):
            return None
        kind = self.kind(source[0], (cells[_PROTOCOL], *cells[_TYPE:]))
        if kind is None:
            return None
        number, flags, state, a, b = kind
        if number in WITH_PORTS:
            if not (_is_port(sport) and _is_port(dport)):
                return None
            a, b = int(sport), int(dport)
        elif sport or dport:
            return None
        place = (self.interface(inward), self.interface(outward))
        return source[0], (*place, source[1], destination[1], number, a, b, flags, state)

    def _address(self, text: str) -> tuple[int, int] | None:
        found = self._addresses.get(text, ...)
        if found is ...:
            found = self._addresses[text] = _single_address(text)
        return found

    def interface(self, name: str) -> int:
        """The symbol of an interface."""
        number = self._interfaces.get(name)
        if number is None:
            number = self._interfaces[name] = self._symbols.number(name)
        return number

    def kind(self, family: int, cells: tuple[str, ...]) -> tuple[int, int, int, int, int] | None:
        """Protocol, flags, state, ICMP type and code, out of these columns; None if one is open, unusual or wrong."""
        protocol, icmp_type, icmp_code, flags, state = cells
        key = (protocol, flags, state)
        if key not in self._kinds:
            self._kinds[key] = _kind(*key)
        found = self._kinds[key]
        if found is None:
            return None
        if found[0] == ICMP_OF[family]:
            usual = _is_byte(icmp_type) and _is_byte(icmp_code)
            return (*found, int(icmp_type), int(icmp_code)) if usual else None
        if found[0] in ICMP_OF.values() or icmp_type or icmp_code:
            return None
        return (*found, 0, 0)


class _Together:
    """The rows of a part without quotes: those in the plain spelling at once, the others one by one."""

    def __init__(self, data: bytes, line: int, symbols: Symbols) -> None:
        self._data, self._line = data, line
        self._rows = _Rows(symbols)
        self._text = Text(data)
        signs = self._text.bytes[: len(data)]
        ends = np.flatnonzero(signs == LINE)
        if not len(ends) or ends[-1] != len(data) - 1:
            ends = np.append(ends, len(data))
        self._starts = np.concatenate([[0], ends[:-1] + 1])
        self._stops = ends - ((ends > self._starts) & (self._text.bytes[ends - 1] == RETURN))
        self._commas = np.flatnonzero(signs == COMMA)

    def read(self) -> PacketTable:
        plain, groups = self._plain()
        odd = np.setdiff1d(np.arange(len(self._starts)), plain, assume_unique=True)
        for at in odd.tolist():
            # Without quotes, a row is what stands between commas.
            row = self._data[self._starts[at] : self._stops[at]].decode()
            self._rows.add(self._line + at, row.split(",") if row else [])
        table = self._rows.table()
        # Both kinds of rows get the numbers they have in the file, faults left out.
        single = np.array(table.lines, np.int64) - self._line
        lines = np.sort(np.concatenate([plain, single]))
        kept = np.searchsorted(lines, single)
        table.groups = [replace(group, rows=kept[group.rows]) for group in table.groups]
        table.others = {int(kept[row]): sketch for row, sketch in table.others.items()}
        table.groups += [replace(group, rows=np.searchsorted(lines, group.rows)) for group in groups]
        table.ids, table.lines = self._ids(lines), (lines + self._line).tolist()
        return table

    def _ids(self, lines: Numbers) -> list[str]:
        starts = self._starts[lines]
        cells = Cells(self._text, starts, self._commas[np.searchsorted(self._commas, starts)])
        if self._data.isascii() and cells.lengths.max(initial=0) <= 16:
            short: list[str] = np.stack([cells.words(0), cells.words(8)], axis=1).view("S16")[:, 0].astype("U").tolist()
            return short
        return [self._data[a:b].decode() for a, b in zip(starts.tolist(), cells.stops.tolist(), strict=True)]

    def _plain(self) -> tuple[Numbers, list[Group]]:
        """(P,) the rows in the plain spelling, and their packets: complete, IPv4, numbers as digits."""
        whole, first = self._whole()
        if not len(whole):
            return whole, []
        cuts = self._cuts(whole, first)
        # Columns that stand side by side and have few values are looked at as one.
        ways, protocols, endings = ((_IN, _OUT), (_PROTOCOL, _PROTOCOL), (_TYPE, _STATE))
        narrow = np.all([cuts[b + 1] - cuts[a] - 1 <= WIDEST for a, b in (ways, protocols, endings)], axis=0)
        if not narrow.all():
            whole = whole[narrow]
            cuts = self._cuts(whole, first)

        def cells(first: int, last: int) -> Cells:
            return Cells(self._text, cuts[first] + 1, cuts[last + 1])

        source, right = cells(_SRC, _SRC).addresses()
        destination, also = cells(_DST, _DST).addresses()
        way, spelt = self._spelt(cells(*ways))
        names = [(inward, outward) for inward, outward in spelt]
        spoken, spellings = self._spelt(cells(*protocols), cells(*endings))
        kinds = [self._rows.kind(4, spelling) for spelling in spellings]
        numbers = np.array([kind or (0, 0, 0, 0, 0) for kind in kinds], np.int64).reshape(-1, 5)
        protocol, flags, state, a, b = np.ascontiguousarray(numbers.T)[:, spoken]
        right &= also & np.array([_named(*pair) for pair in names], np.bool_)[way]
        right &= np.array([kind is not None for kind in kinds], np.bool_)[spoken]
        ported = np.isin(numbers[:, 0], WITH_PORTS)[spoken]
        for ports, column in ((cells(_SPORT, _SPORT), a), (cells(_DPORT, _DPORT), b)):
            value, number = ports.numbers(PORT_TOP)
            right &= np.where(ported, number, ports.lengths == 0)
            column[:] = np.where(ported, value, column)
        inward, outward = (
            np.array([self._rows.interface(pair[end]) for pair in names], np.int64)[way] for end in (0, 1)
        )
        values = (inward, outward, source, destination, protocol, a, b, flags, state)
        groups = []
        for comes, leaves in ((True, True), (True, False), (False, True)):
            of_this = np.array([(bool(i), bool(o)) == (comes, leaves) for i, o in names], np.bool_)[way]
            chosen = np.flatnonzero(right & of_this)
            if len(chosen):
                part = tuple(column[chosen] for column in values)
                groups.append(Group(4, comes, leaves, whole[chosen], names, way[chosen], part))
        return whole[right], groups

    def _whole(self) -> tuple[Numbers, Numbers]:
        """(P,) the rows with as many cells as there are columns; (R,) where each row's first comma is among all."""
        wanted, rows = len(COLUMNS) - 1, np.arange(len(self._starts))
        if len(self._commas) == wanted * len(rows):
            first, last = self._commas[::wanted], self._commas[wanted - 1 :: wanted]
            if (first >= self._starts).all() and (last < self._stops).all():
                return rows, rows * wanted
        before = np.searchsorted(self._commas, self._starts)
        return np.flatnonzero(np.searchsorted(self._commas, self._stops) - before == wanted), before

    def _cuts(self, rows: Numbers, first: Numbers) -> list[Numbers]:
        """(R,) the byte before each column's cell, and at last the one behind the row."""
        commas = (self._commas[first[rows] + column] for column in range(len(COLUMNS) - 1))
        return [self._starts[rows] - 1, *commas, self._stops[rows]]

    def _spelt(self, *columns: Cells) -> tuple[NDArray[np.intp], list[tuple[str, ...]]]:
        """(R,) which spelling of some cells each row has, and the spellings, cut at commas."""
        found, rows = classes(*columns)
        cells = (b",".join(self._data[c.starts[row] : c.stops[row]] for c in columns) for row in rows.tolist())
        return found, [tuple(cell.decode().split(",")) for cell in cells]


def _named(inward: str, outward: str) -> bool:
    """Whether interfaces are told, and as they are: neither "any" nor with blanks around."""
    return bool(inward or outward) and all(name != ANY and name == name.strip() for name in (inward, outward))


def _is_port(text: str) -> bool:
    return is_number(text, PORT_TOP)


def _is_byte(text: str) -> bool:
    return is_number(text, 255)


def _quietly(read: Callable[[], Sketch]) -> Sketch | None:
    try:
        return read()
    except UsageError:
        return None


def _row(**cells: str) -> dict[str, str]:
    return {**dict.fromkeys(COLUMNS, ""), "in": ANY, **cells}


def _single_address(text: str) -> tuple[int, int] | None:
    try:
        return (6, int(IPv6Address(text))) if ":" in text else (4, int(IPv4Address(text)))
    except ValueError:
        return None  # empty, a network, or wrong: `read_row` knows which


def _kind(protocol: str, flags: str, state: str) -> tuple[int, int, int] | None:
    sketch = _quietly(lambda: read_row(_row(protocol=protocol, tcp_flags=flags, state=state))) if protocol else None
    if sketch is None or sketch.protocol is None:
        return None
    byte = 0
    if sketch.protocol == TCP:
        byte = sketch.flags if sketch.flags is not None else SYN if sketch.state is State.NEW else TCP_FLAGS["ACK"]
    return sketch.protocol, byte, sketch.state.number


__all__ = ["Fault", "Group", "PacketTable", "Part", "TableFile"]

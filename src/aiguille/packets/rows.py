"""Rows of a table of packets, one by one, into columns of numbers where they are complete."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from ipaddress import IPv4Address, IPv6Address
from typing import Any

import numpy as np
from msgspec import Struct, field
from msgspec.structs import replace
from numpy.typing import NDArray

from aiguille.model import State, UsageError
from aiguille.model.protocols import TCP_FLAGS
from aiguille.packets.cells import as_number, as_wide, read_wide
from aiguille.packets.packet import Packet, packet_at
from aiguille.packets.sentences import ANY, COLUMNS, Sketch, is_number, read_row
from aiguille.space.fields import ICMP_OF, PORT_TOP, SYN, TCP, WITH_PORTS, Axis, Space, Symbols

# The columns, by their place in `COLUMNS`.
ID, IN, OUT, SRC, DST, PROTOCOL, SPORT, DPORT, TYPE, CODE, FLAGS, STATE = range(len(COLUMNS))


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
    columns: (P,) values for each axis but the destination type; IPv6 addresses as `Wide`
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
        found = packet_at(space, (*(as_number(column[at]) for column in self.columns), 0))
        return replace(found, in_interface=inward, out_interface=outward)


class Ids:
    """What packets are called: (R,) ASCII as bytes, without a 0, or any text as objects."""

    __slots__ = ("array",)

    def __init__(self, array: NDArray[Any]) -> None:
        self.array = array

    @classmethod
    def of(cls, names: Sequence[str]) -> Ids:
        array = np.empty(len(names), object)
        array[:] = names
        return cls(array)

    def __len__(self) -> int:
        return len(self.array)

    def __getitem__(self, row: int) -> str:
        name = self.array[row]
        return name.decode() if isinstance(name, bytes) else str(name)

    def __iter__(self) -> Iterator[str]:
        return iter(self.array.tolist() if self.array.dtype == object else self.array.astype("U").tolist())

    def kept(self, mask: NDArray[np.bool_]) -> Ids:
        """Those that a mask holds."""
        return Ids(self.array[mask])

    def as_bytes(self, unlike: bytes = b"") -> NDArray[np.bytes_] | None:
        """(R,) them as bytes if all are of ASCII's printable signs, but for those given; None if some are not."""
        if self.array.dtype == object:
            return None
        signs = self.array.view(np.uint8)
        # 0 fills the shorter ones; one less, it is the highest of all.
        odd = (signs > 126).any() or (signs - np.uint8(1) < 31).any() or any((signs == sign).any() for sign in unlike)
        return None if odd else self.array


class PacketTable(Struct):
    """A table, or a part of one, as read.

    ids, lines: (R,) of all rows that could be read, in order; the line is that of the file
    groups: complete rows
    others: rows that leave something open, by number
    """

    ids: Ids
    lines: NDArray[np.int64]
    groups: list[Group] = field(default_factory=list)
    others: dict[int, Sketch] = field(default_factory=dict)
    faults: list[Fault] = field(default_factory=list)


class RowReader:
    """Rows read one by one; each distinct cell is understood once."""

    def __init__(self, symbols: Symbols) -> None:
        self._symbols = symbols
        self._addresses: dict[str, tuple[int, int] | None] = {}
        self._interfaces: dict[str, int] = {"": 0}
        self._kinds: dict[tuple[str, ...], tuple[int, int, int] | None] = {}
        self._names: dict[tuple[str, str], int] = {}
        self._groups: dict[tuple[int, bool, bool], list[tuple[int, int, tuple[int, ...]]]] = {}
        self._ids: list[str] = []
        self._lines: list[int] = []
        self._others: dict[int, Sketch] = {}
        self._faults: list[Fault] = []

    def add(self, line: int, cells: list[str]) -> None:
        """Enter one more row."""
        if not cells:
            return
        if len(cells) != len(COLUMNS):
            self._faults.append(
                Fault(line, cells[ID], f"has {len(cells)} cell{'s' * (len(cells) > 1)} instead of {len(COLUMNS)}")
            )
            return
        row = len(self._ids)
        point = self._point(cells)
        if point is not None:
            family, values = point
            pair = (cells[IN], cells[OUT])
            name = self._names.setdefault(pair, len(self._names))
            self._groups.setdefault((family, bool(pair[0]), bool(pair[1])), []).append((row, name, values))
        else:
            try:
                self._others[row] = read_row(dict(zip(COLUMNS, cells, strict=True)))
            except UsageError as error:
                self._faults.append(Fault(line, cells[ID], error.message))
                return
        self._ids.append(cells[ID])
        self._lines.append(line)

    def table(self) -> PacketTable:
        """All that was entered."""
        names = tuple(self._names)
        lines = np.array(self._lines, np.int64)
        table = PacketTable(Ids.of(self._ids), lines, others=self._others, faults=self._faults)
        for (family, comes, leaves), entered in self._groups.items():
            rows, named, points = zip(*entered, strict=True)
            wide = (Axis.SRC, Axis.DST) if family == 6 else ()
            columns = tuple(
                as_wide(column) if axis in wide else np.array(column, np.int64)
                for axis, column in enumerate(zip(*points, strict=True))
            )
            group = Group(family, comes, leaves, np.array(rows, np.int64), names, np.array(named, np.intp), columns)
            table.groups.append(group)
        return table

    def _point(self, cells: list[str]) -> tuple[int, tuple[int, ...]] | None:
        """The family and the coordinates of a complete row; None if something is open, unusual or wrong."""
        inward, outward, sport, dport = cells[IN], cells[OUT], cells[SPORT], cells[DPORT]
        source, destination = self._address(cells[SRC]), self._address(cells[DST])
        if source is None or destination is None or source[0] != destination[0] or not are_named(inward, outward):
            return None
        kind = self.kind(source[0], (cells[PROTOCOL], *cells[TYPE:]))
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


def are_named(inward: str, outward: str) -> bool:
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
    found = read_wide(text)  # several times as quick as what shows more of it
    if found is not None:
        return 6, found
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

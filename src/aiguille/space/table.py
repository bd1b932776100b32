"""Tables of packets: CSV with the header of `COLUMNS`, into columns of numbers where rows are complete."""

from __future__ import annotations

import csv
from array import array
from collections.abc import Callable, Iterable, MutableSequence
from ipaddress import IPv4Address, IPv6Address

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.model import State, UsageError
from aiguille.model.protocols import TCP_FLAGS
from aiguille.space.fields import ICMP_OF, SYN, TCP, WITH_PORTS, Axis, Space, Symbols
from aiguille.space.packets import Packet, packet_at
from aiguille.space.sentences import ANY, COLUMNS, Sketch, read_row


class Fault(Struct, frozen=True):
    """A row that cannot be read: its line in the file, its id, and why."""

    line: int
    id: str
    why: str


class Group(Struct):
    """Complete packets of one family and direction.

    rows: numbers of the table's rows; columns: a list of values for each axis but the destination type
    interfaces: the names of each packet's interfaces, which may be none the space tells apart
    """

    family: int
    rows: list[int] = field(default_factory=list)
    interfaces: list[tuple[str, str]] = field(default_factory=list)
    columns: tuple[MutableSequence[int], ...] = ()

    def __post_init__(self) -> None:
        """Columns are arrays, which NumPy takes as they are, but for addresses that no machine word holds."""
        wide = (Axis.SRC, Axis.DST) if self.family == 6 else ()
        self.columns = tuple([] if axis in wide else array("q") for axis in Axis if axis is not Axis.TYPE)

    def packet(self, space: Space, at: int) -> Packet:
        """The packet at position `at` of the group."""
        inward, outward = self.interfaces[at]
        found = packet_at(space, (*(column[at] for column in self.columns), 0))
        return replace(found, in_interface=inward, out_interface=outward)


class PacketTable(Struct):
    """A table as read.

    ids: (R,) of all rows that could be read, in order
    groups: complete rows by family, whether they come in, and whether they leave by an interface
    others: rows that leave something open
    """

    ids: list[str] = field(default_factory=list)
    groups: dict[tuple[int, bool, bool], Group] = field(default_factory=dict)
    others: dict[int, Sketch] = field(default_factory=dict)
    faults: list[Fault] = field(default_factory=list)


def read_table(lines: Iterable[str], symbols: Symbols) -> PacketTable:
    """Read a table. Rows that are wrong become faults; raises UsageError for a wrong header."""
    reader = csv.reader(lines)
    header = [cell.strip().lower() for cell in next(reader, [])]
    if tuple(header) != COLUMNS:
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
    table = PacketTable()
    fast = _Fast(symbols)
    names: dict[tuple[str, str], tuple[str, str]] = {}
    for cells in reader:
        if not cells:
            continue
        if len(cells) != len(COLUMNS):
            why = f"has {len(cells)} cells instead of {len(COLUMNS)}"
            table.faults.append(Fault(reader.line_num, cells[0], why))
            continue
        row = len(table.ids)
        point = fast.point(cells)
        if point is not None:
            family, values = point
            group = table.groups.setdefault((family, bool(cells[1]), bool(cells[2])), Group(family))
            group.rows.append(row)
            group.interfaces.append(names.setdefault((cells[1], cells[2]), (cells[1], cells[2])))
            for column, value in zip(group.columns, values, strict=True):
                column.append(value)
        else:
            try:
                table.others[row] = read_row(dict(zip(COLUMNS, cells, strict=True)))
            except UsageError as error:
                table.faults.append(Fault(reader.line_num, cells[0], error.message))
                continue
        table.ids.append(cells[0])
    return table


class _Fast:
    """Complete rows into numbers; each distinct cell is understood once."""

    def __init__(self, symbols: Symbols) -> None:
        self._symbols = symbols
        self._addresses: dict[str, tuple[int, int] | None] = {}
        self._interfaces: dict[str, int] = {"": 0}
        self._kinds: dict[tuple[str, str, str], tuple[int, int, int] | None] = {}

    def point(self, cells: list[str]) -> tuple[int, tuple[int, ...]] | None:
        """The family and the coordinates of a complete row; None if something is open, unusual or wrong."""
        _, inward, outward, src, dst, protocol, sport, dport, icmp_type, icmp_code, flags, state = cells
        source, destination = self._address(src), self._address(dst)
        if source is None or destination is None or source[0] != destination[0] or not (inward or outward):
            return None
        kind = self._kind(protocol, flags, state)
        if kind is None or ANY in (inward, outward):
            return None
        number, flag_byte, state_number = kind
        ported = number in WITH_PORTS
        try:
            if ported:
                a, b = int(sport), int(dport)
                if icmp_type or icmp_code or not (0 <= a <= 65535 and 0 <= b <= 65535) or not sport.isdecimal():
                    return None
            elif number == ICMP_OF[source[0]]:
                a, b = int(icmp_type), int(icmp_code)
                if sport or dport or not (0 <= a <= 255 and 0 <= b <= 255):
                    return None
            elif number in ICMP_OF.values() or sport or dport or icmp_type or icmp_code:
                return None
            else:
                a = b = 0
        except ValueError:
            return None
        place = (self._interface(inward), self._interface(outward))
        return source[0], (*place, source[1], destination[1], number, a, b, flag_byte, state_number)

    def _address(self, text: str) -> tuple[int, int] | None:
        found = self._addresses.get(text, ...)
        if found is ...:
            found = self._addresses[text] = _single_address(text)
        return found

    def _interface(self, name: str) -> int:
        number = self._interfaces.get(name)
        if number is None:
            number = self._interfaces[name] = self._symbols.number(name)
        return number

    def _kind(self, protocol: str, flags: str, state: str) -> tuple[int, int, int] | None:
        key = (protocol, flags, state)
        if key not in self._kinds:
            self._kinds[key] = _kind(*key)
        return self._kinds[key]


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


__all__ = ["Fault", "Group", "PacketTable", "read_table"]

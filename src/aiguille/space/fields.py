"""The fields of a packet, and the symbols that stand for interface names.

A packet is a point with one coordinate a field. Two fields are shared between protocols, as they are in the kernel's
connection tuple: `A` is the source port or the ICMP type, `B` the destination port or the ICMP code. Protocols with
neither have 0 in both. `Space.classes` holds the regions in which a combination of fields makes sense, so that no
answer rests on an ICMP message with a port.
"""

from __future__ import annotations

from collections.abc import Iterable
from enum import IntEnum
from functools import cached_property

from msgspec import Struct

from aiguille.model import DestinationType, InterfaceName, State
from aiguille.space.intervals import IntervalSet


class Axis(IntEnum):
    """Fields in the order of a box's coordinates."""

    IN = 0
    OUT = 1
    SRC = 2
    DST = 3
    PROTO = 4
    A = 5
    B = 6
    FLAGS = 7
    STATE = 8
    TYPE = 9


AXES = len(Axis)
ALL_AXES = tuple(Axis)

PORT_TOP = 65535
WITH_PORTS = (6, 17, 33, 132, 136)  # TCP, UDP, DCCP, SCTP, UDP-Lite (IANA protocol numbers)
ICMP_OF = {4: 1, 6: 58}
TCP, UDP = 6, 17
SYN = 0x02
MULTICAST = {4: (0xE0000000, 0xEFFFFFFF), 6: (0xFF << 120, (1 << 128) - 1)}
"""Destinations meant for whoever listens (RFC 5771, RFC 4291 2.7), by family."""
LAST_ADDRESS = {4: (1 << 32) - 1, 6: (1 << 128) - 1}

# How much packet space something covers is counted over these; the others say under which circumstances.
COUNTED = (Axis.SRC, Axis.DST, Axis.PROTO, Axis.A, Axis.B)

Box = tuple[IntervalSet | None, ...]
"""A product of sets, one per axis; None stands for every value of the axis."""

EVERYTHING: Box = (None,) * AXES


def box(fields: Iterable[tuple[Axis, IntervalSet]]) -> Box:
    """A box that restricts the axes named; ValueError if one is named twice."""
    out: list[IntervalSet | None] = [None] * AXES
    for axis, values in fields:
        if out[axis] is not None:
            raise ValueError(f"{axis.name} is given twice")
        out[axis] = values
    return tuple(out)


class Symbols:
    """Numbers for interface names: 0 is "no interface", then the names that occur, then one symbol for each wildcard
    prefix that occurs (any other name beginning with it), last one for all other names.

    The loopback comes after other names, so that a witness prefers an interface that traffic really arrives on.
    """

    __slots__ = ("_made_up", "_numbers", "_prefixes", "names")

    def __init__(self, names: Iterable[str], prefixes: Iterable[str] = ()) -> None:
        ordered = sorted(set(names) - {""}, key=lambda name: (name == "lo", name))
        self._prefixes = tuple(sorted(set(prefixes) - {""}))
        self.names: tuple[str, ...] = ("", *ordered)
        self._made_up: dict[int, list[str]] = {}
        self._numbers = {name: number for number, name in enumerate(self.names)}

    @property
    def prefixes(self) -> tuple[str, ...]:
        return self._prefixes

    @property
    def top(self) -> int:
        return len(self.names) + len(self._prefixes)

    @property
    def present(self) -> IntervalSet:
        """Every symbol but "no interface"."""
        return IntervalSet([(1, self.top)])

    def number(self, name: str) -> int:
        """The symbol of a concrete interface name."""
        if name in self._numbers:
            return self._numbers[name]
        fitting = [prefix for prefix in self._prefixes if name.startswith(prefix)]
        if not fitting:
            return self.top
        return len(self.names) + self._prefixes.index(max(fitting, key=len))

    def matching(self, pattern: InterfaceName) -> IntervalSet:
        """All symbols a pattern covers. A wildcard's prefix must have been given when the symbols were made."""
        if not pattern.prefix:
            return IntervalSet.of(self.number(pattern.name))
        if not pattern.name:
            return self.present
        named = [n for name, n in self._numbers.items() if name.startswith(pattern.name)]
        classes = [len(self.names) + i for i, p in enumerate(self._prefixes) if p.startswith(pattern.name)]
        return IntervalSet.of(*named, *classes)

    def name(self, number: int, nth: int = 0) -> str:
        """A concrete interface name for a symbol; made up, and not one that occurs, for the classes of other names, which
        have as many as asked for: the nth is not the one before it."""
        if number < len(self.names):
            return self.names[number]
        made = self._made_up.setdefault(number, [])
        stem = "other" if number == self.top else self._prefixes[number - len(self.names)]
        fitting = (name for i in range(10**6) if self.number(name := f"{stem}{i}") == number and name not in made)
        while len(made) <= nth:
            made.append(next(fitting))
        return made[nth]


class Space(Struct, frozen=True, dict=True):
    """The space of packets of one address family, with the interface names of one device.

    local: the device's own addresses, None where the export does not state all of them
    broadcasts: the last addresses of the networks it is in (IPv4)
    """

    family: int
    symbols: Symbols
    local: IntervalSet | None = None
    broadcasts: IntervalSet = IntervalSet()

    def kind(self, out_interface: int, destination: int) -> int:
        """The kind of destination as routing sees it, by the number of its `DestinationType` (RFC 5771, RFC 4291 2.7, RFC 919).

        out_interface: symbol of the interface the packet leaves by, 0 where it stays here
        """
        for values, kind in self.kinds_by_address:
            if destination in values:
                return kind.number
        return (DestinationType.UNICAST if out_interface else DestinationType.LOCAL).number

    @cached_property
    def kinds_by_address(self) -> tuple[tuple[IntervalSet, DestinationType], ...]:
        """Disjoint destinations whose kind does not depend on where the packet leaves."""
        if self.family == 6:
            loopback, broadcast = IntervalSet.of(1), IntervalSet()
        else:
            loopback = IntervalSet([(0x7F000000, 0x7FFFFFFF)])
            broadcast = IntervalSet.of(0xFFFFFFFF) | self.broadcasts
        multicast = IntervalSet([MULTICAST[self.family]])
        local = (loopback | (self.local or IntervalSet())) - broadcast - multicast
        return (
            (multicast, DestinationType.MULTICAST),
            (broadcast, DestinationType.BROADCAST),
            (local, DestinationType.LOCAL),
        )

    @cached_property
    def kinds(self) -> tuple[Box, ...]:
        """Disjoint regions that hold every packet whose kind of destination fits its destination and way out."""
        rest = IntervalSet([(0, self.tops[Axis.DST])])
        special = []
        for values, kind in self.kinds_by_address:
            rest = rest - values
            if values:
                special.append(box([(Axis.DST, values), (Axis.TYPE, IntervalSet.of(kind.number))]))
        usual = (
            (self.symbols.present, DestinationType.UNICAST),
            (IntervalSet.of(0), DestinationType.LOCAL),
        )
        others = [box([(Axis.OUT, out), (Axis.DST, rest), (Axis.TYPE, IntervalSet.of(k.number))]) for out, k in usual]
        # Packets people know come first: to an address of the device where these are told.
        return (*special[-1:], *others, *special[:-1]) if self.local else (*others, *special)

    @cached_property
    def tops(self) -> tuple[int, ...]:
        """The largest value of each axis."""
        bits = 32 if self.family == 4 else 128
        interfaces = self.symbols.top
        address = (1 << bits) - 1
        return (
            interfaces,
            interfaces,
            address,
            address,
            255,
            PORT_TOP,
            PORT_TOP,
            255,
            len(State) - 1,
            len(DestinationType) - 1,
        )

    @cached_property
    def classes(self) -> tuple[Box, ...]:
        """Disjoint regions that together hold every packet that can exist: TCP; other protocols with ports; ICMP; the rest."""
        none = IntervalSet.of(0)
        octet = IntervalSet([(0, 255)])
        icmp = ICMP_OF[self.family]
        ported = IntervalSet.of(*WITH_PORTS)
        rest = (ported | IntervalSet.of(icmp)).complement(255)
        return (
            box([(Axis.PROTO, IntervalSet.of(TCP))]),
            box([(Axis.PROTO, ported - IntervalSet.of(TCP)), (Axis.FLAGS, none)]),
            box([(Axis.PROTO, IntervalSet.of(icmp)), (Axis.A, octet), (Axis.B, octet), (Axis.FLAGS, none)]),
            box([(Axis.PROTO, rest), (Axis.A, none), (Axis.B, none), (Axis.FLAGS, none)]),
        )

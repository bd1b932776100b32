"""Traffic in few rows: what of a region is treated alike, as products of sets that people can read.

A region is cut along the rules that overlap it, each piece is asked what it is called, and pieces of one name are put together
again: values whose rest is alike first (`Slices.parts`), then boxes that differ on one axis only, then protocols. The rows are
disjoint and together hold exactly the packets with a name.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Iterator, Sequence

from msgspec import Struct

from aiguille.analysis.loopback import LOOPBACK
from aiguille.analysis.program import Program, own_addresses
from aiguille.analysis.witness import Chooser
from aiguille.model import Direction, State
from aiguille.model.spelling import grouped, spell_numbers, spell_protocol, spell_spans
from aiguille.packets import Packet
from aiguille.space import Axis, Box, Cell, IntervalSet, Slices, box, overlap
from aiguille.space.effort import spend
from aiguille.space.fields import ICMP_OF, PORT_TOP, SYN, TCP, WITH_PORTS

NEW = IntervalSet.of(State.NEW.number)

_SERVICE = (Axis.PROTO, Axis.A, Axis.B)

_OCTET = IntervalSet([(0, 255)])
_PORTS = IntervalSet([(0, PORT_TOP)])
_NONE = IntervalSet.of(0)


class Service(Struct, frozen=True):
    """Protocols with their ports, or with types and codes: (source ports or types) x (destination ports or codes)."""

    protocols: IntervalSet
    first: IntervalSet
    second: IntervalSet


class Traffic(Struct, frozen=True):
    """New connections that are treated alike: a product of sets.

    enters, leaves: names of interfaces; none where the device itself is that end, "any" where it may be any but the loopback
    packet: one of them; cells: the products of all axes that hold them
    """

    family: int
    direction: Direction
    enters: tuple[str, ...]
    leaves: tuple[str, ...]
    sources: IntervalSet
    destinations: IntervalSet
    services: tuple[Service, ...]
    packet: Packet
    cells: tuple[Cell, ...] = ()

    def __contains__(self, point: Sequence[int]) -> bool:
        return any(all(value in values for value, values in zip(point, cell, strict=True)) for cell in self.cells)

    def words(self, most: int = 6) -> str:
        """From where to where, and which services."""
        source, destination = (spell_spans(self.family, v.spans, most) for v in (self.sources, self.destinations))
        entering = f" entering {_names(self.enters)}" if self.enters not in ((), ANY) else ""
        leaving = f" leaving {_names(self.leaves)}" if self.leaves not in ((), ANY) else ""
        return f"{self.service_words(most)} from {source} to {destination}{entering}{leaving}"

    def service_words(self, most: int = 6) -> str:
        """The services alone: ``tcp 22,443; udp 53``, or ``any service``."""
        return spell_services(self.family, self.services, most)


def _names(names: Sequence[str]) -> str:
    return names[0] if len(names) == 1 else "any of " + ", ".join(names[:4]) + (" ..." if len(names) > 4 else "")


def whole_classes(family: int) -> tuple[Service, ...]:
    """Services that together are any service."""
    icmp = ICMP_OF[family]
    ported = IntervalSet.of(*WITH_PORTS)
    return (
        Service(ported, _PORTS, _PORTS),
        Service(IntervalSet.of(icmp), _OCTET, _OCTET),
        Service((ported | IntervalSet.of(icmp)).complement(255), _NONE, _NONE),
    )


def spell_services(family: int, services: Iterable[Service], most: int = 6) -> str:
    """``tcp 22,443; udp 53; icmp``, or ``any service``."""
    found = sorted(services, key=lambda one: (one.protocols.first, one.second.first))
    covered = IntervalSet(s for one in found if _is_whole(family, one) for s in one.protocols.spans)
    if covered.size == 256:
        return "any service"
    said = []
    if covered.size > 128:
        left = covered.complement(255)
        said.append("any protocol but " + ", ".join(spell_protocol(p) for p in left))
        found = [one for one in found if not _is_whole(family, one)]
    for one in found:
        names = "/".join(spell_protocol(p) for p in one.protocols) if one.protocols.size <= 4 else "other protocols"
        if one.protocols.first in WITH_PORTS:
            names += "" if one.second == _PORTS else f" {spell_numbers(one.second.spans, PORT_TOP, most)}"
            names += "" if one.first == _PORTS else f" from port {spell_numbers(one.first.spans, PORT_TOP, most)}"
        elif one.protocols.first == ICMP_OF[family]:
            names += "" if one.first == _OCTET else f" type {spell_numbers(one.first.spans, 255, most)}"
            names += "" if one.second == _OCTET else f" code {spell_numbers(one.second.spans, 255, most)}"
        said.append(names)
    return "; ".join(said)


def extent(program: Program, regions: Iterable[Box]) -> str:
    """How wide regions of a program are, in words: ``any source to 192.0.2.5 on tcp 443``."""
    top = program.space.tops[Axis.SRC]
    boxes = [part for region in regions for part in program.regions(region)]
    places = []
    for axis, many in ((Axis.SRC, "any source"), (Axis.DST, "any destination")):
        spans = IntervalSet([s for one in boxes for s in ((0, top),) if one[axis] is None]
                            + [s for one in boxes for s in (one[axis] or IntervalSet()).spans])  # fmt: skip
        if axis is Axis.DST and program.direction is Direction.THROUGH_DEVICE:
            spans = _whole(spans, own_addresses(program.device, program.family))
        places.append(many if spans.size > top else _place(program.family, spans))
    return f"{places[0]} to {places[1]} on {services_of(program.family, boxes)}"


def _whole(destinations: IntervalSet, own: IntervalSet | None) -> IntervalSet:
    """Destinations with the device's own addresses among them: what is for itself does not go through it, and no rule says so."""
    joined = destinations | own if own is not None else destinations
    return joined if len(joined.spans) < len(destinations.spans) else destinations


def _place(family: int, values: IntervalSet) -> str:
    """Addresses in a few words: by name where they are few, else how many there are."""
    if values.size > 1 << (31 if family == 4 else 127):
        return spell_spans(family, values.spans, _FEW)
    if len(values.spans) <= _FEW:
        return spell_spans(family, values.spans)
    return f"{grouped(values.size)} addresses in {grouped(len(values.spans))} ranges"


_FEW = 2
"""Ranges of addresses that are reported one by one."""


def services_of(family: int, boxes: Iterable[Box]) -> str:
    """The services of boxes whose packets can exist, in words."""
    found: dict[tuple[IntervalSet, IntervalSet], set[int]] = {}
    for one in boxes:
        for protocol in one[Axis.PROTO] or IntervalSet([(0, 255)]):
            whole = _PORTS if protocol in WITH_PORTS else _OCTET if protocol == ICMP_OF[family] else _NONE
            key = (one[Axis.A] or whole, one[Axis.B] or whole) if whole is not _NONE else (_NONE, _NONE)
            found.setdefault(key, set()).add(protocol)
    return spell_services(family, (Service(IntervalSet.of(*numbers), *key) for key, numbers in found.items()), 4)


def _is_whole(family: int, one: Service) -> bool:
    return any(
        one.protocols.issubset(whole.protocols) and one.first == whole.first and one.second == whole.second
        for whole in whole_classes(family)
    )


def opening(program: Program, region: Box) -> Iterator[Box]:
    """The parts of a region whose packets can exist and open connections."""
    new = overlap(region, box([(Axis.STATE, NEW)]))
    for part in program.regions(new) if new is not None else ():
        if part[Axis.PROTO] == IntervalSet.of(TCP):
            syn = overlap(part, box([(Axis.FLAGS, IntervalSet.of(SYN))]))
            if syn is not None:
                yield syn
        else:
            yield part


class Alike(Struct, frozen=True):
    """Products of one label from and to the same places, with all the services between them."""

    label: Hashable
    enters: IntervalSet
    leaves: IntervalSet
    sources: IntervalSet
    destinations: IntervalSet
    services: tuple[Service, ...]
    cells: tuple[Cell, ...]


def alike(found: Iterable[tuple[Cell, Hashable]]) -> Iterator[Alike]:
    """Labelled disjoint products put together where they differ in services alone, or in destinations alone."""
    groups: dict[tuple[Hashable, tuple[IntervalSet, ...]], list[Cell]] = {}
    for cell, label in merged(found):
        place = tuple(cell[axis] for axis in (Axis.IN, Axis.OUT, Axis.SRC, Axis.DST))
        groups.setdefault((label, place), []).append(cell)
    # The kind of a destination follows from its address: rows that differ by that alone are one.
    together: dict[tuple[Hashable, tuple[IntervalSet, ...], frozenset[Service]], list[Cell]] = {}
    for (label, place), cells in groups.items():
        offered = frozenset(Service(*(cell[axis] for axis in _SERVICE)) for cell in cells)
        together.setdefault((label, place[:-1], offered), []).extend(cells)
    for (label, (enters, leaves, sources), services), cells in together.items():
        destinations = IntervalSet(span for cell in cells for span in cell[Axis.DST].spans)
        ordered = tuple(sorted(services, key=lambda one: (one.protocols.first, one.second.first, one.first.first)))
        yield Alike(label, enters, leaves, sources, destinations, ordered, tuple(cells))


def rows(program: Program, found: Iterable[tuple[Cell, Hashable]]) -> list[tuple[Traffic, Hashable]]:
    """Labelled disjoint products as few rows, those that take most packets first."""
    out = []
    chooser = Chooser(program.device, program.space)
    for one in alike(found):
        traffic = Traffic(
            program.family,
            program.direction,
            _interfaces(program, one.enters),
            _interfaces(program, one.leaves),
            one.sources,
            one.destinations,
            one.services,
            chooser.choose(one.cells[0]),
            one.cells,
        )
        out.append((traffic, one.label))
    out.sort(key=lambda item: (-item[0].sources.size * item[0].destinations.size, item[0].words()))
    return out


ANY = ("any",)


def _interfaces(program: Program, numbers: IntervalSet) -> tuple[str, ...]:
    symbols = program.space.symbols
    real = symbols.present
    if LOOPBACK in symbols.names:
        real = real - IntervalSet.of(symbols.number(LOOPBACK))
    if real.issubset(numbers):
        return ANY
    return tuple(symbols.name(n) for n in numbers if n)


def merged(found: Iterable[tuple[Cell, Hashable]]) -> list[tuple[Cell, Hashable]]:
    """The same points in fewer products: those of one label that differ on a single axis are one."""
    cells = list(found)
    before = -1
    while before != len(cells):
        before = len(cells)
        for axis in (Axis.B, Axis.A, Axis.PROTO, Axis.DST, Axis.SRC, Axis.OUT, Axis.IN, Axis.TYPE, Axis.FLAGS):
            alike: dict[tuple[Hashable, Cell, Cell], list[Cell]] = {}
            for cell, label in cells:
                alike.setdefault((label, cell[:axis], cell[axis + 1 :]), []).append(cell)
            spend(len(cells))
            cells = []
            for (label, first, last), some in alike.items():
                values = some[0][axis]
                if len(some) > 1:
                    values = IntervalSet(span for cell in some for span in cell[axis].spans)
                cells.append(((*first, values, *last), label))
    return cells


def cut(
    region: Box, boxes: Sequence[Box], program: Program, label: Callable[[int, int], Hashable]
) -> list[tuple[Cell, Hashable]]:
    """The labelled parts of a region cut along boxes; what only circumstances tell apart stands together."""
    return Slices(region, boxes, program.space.tops).parts(label)

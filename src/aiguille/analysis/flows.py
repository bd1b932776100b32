"""Who reaches whom: the matrix of a device's zones and itself, and the rows of traffic behind a cell."""

from __future__ import annotations

import difflib
from collections.abc import Hashable, Iterable, Iterator, Sequence
from enum import StrEnum
from typing import cast

from msgspec import Struct

from aiguille.analysis.decide import Cut, Ends, accepting_steps, maybe_accepted, rows_of, surely_accepted
from aiguille.analysis.exposure import rated
from aiguille.analysis.homes import living_behind
from aiguille.analysis.program import Program, Programs, Step, families, own_addresses
from aiguille.analysis.services import known_services
from aiguille.analysis.sides import each_interface, not_loopback
from aiguille.analysis.study import Study
from aiguille.analysis.traffic import Service, Traffic, cut, opening, rows, spell_services, whole_classes
from aiguille.model import Addresses, Direction, Side, UsageError
from aiguille.model.protocols import PORTS, PROTOCOLS, SPOKEN_SERVICES, transports
from aiguille.packets.sentences import read_ports
from aiguille.space import EVERYTHING, Axis, Box, Cell, IntervalSet, box, overlap
from aiguille.space.fields import ICMP_OF, PORT_TOP, TCP, UDP, WITH_PORTS

DEVICE = "device"
"""What the device itself is called among the ends of traffic."""


class End(Struct, frozen=True):
    """A place that traffic comes from or goes to: a zone, interfaces of no zone, or the device itself (no interfaces)."""

    name: str
    interfaces: IntervalSet
    side: Side | None = None

    @property
    def is_device(self) -> bool:
        return not self.interfaces


class Reach(StrEnum):
    """How much of the new connections from one end to another is let through."""

    NOTHING = "nothing"
    SOME = "some"
    EVERYTHING = "everything"


class MatrixCell(Struct, frozen=True):
    """What gets from one end to another in one family, as new connections.

    reach: for certain; perhaps: with what a condition stands in the way of; services: what gets through, for certain, in words
    may: the services beside these that perhaps get through
    """

    source: str
    destination: str
    family: int
    reach: Reach
    perhaps: Reach
    services: str = ""
    may: str = ""

    @property
    def certain(self) -> bool:
        return self.reach is self.perhaps and not self.may


class Flow(Struct, frozen=True):
    """A row of a cell: traffic that gets through, or perhaps, and the rules that let it in."""

    traffic: Traffic
    certain: bool
    deciders: tuple[Step, ...]


class Matrix(Struct, frozen=True):
    """A device's cells; `missing` are the directions and families its export has no rules for."""

    device: str
    ends: tuple[End, ...]
    cells: tuple[MatrixCell, ...]
    missing: tuple[tuple[Direction, int], ...]


class Wish(Struct, frozen=True):
    """What rows are asked for: ends by name, services, addresses at either end; None, or no services, for all.

    others: all services but those named
    """

    source: str | None = None
    destination: str | None = None
    services: tuple[tuple[int, IntervalSet], ...] = ()
    addresses: tuple[tuple[int, IntervalSet], ...] = ()
    others: bool = False


def ends_of(study: Study) -> tuple[End, ...]:
    """Zones first, then interfaces that are in none, then the device itself."""
    found = [
        one for one in study.entrances if one.side is not None or (one.interfaces.size and study.device.zone(one.label))
    ]
    if not found:
        found = list(each_interface(study.programs))
    out = [End(one.label, one.interfaces, one.side) for one in found]
    placed = IntervalSet(span for one in out for span in one.interfaces.spans)
    if found and found[0] in study.entrances:
        symbols = study.programs.resolver(4).space.symbols
        named = IntervalSet([(1, max(len(symbols.names) - 1, 1))])  # what no rule and no zone names is left out
        rest = [e for e in each_interface(study.programs) if not e.interfaces & placed and e.interfaces & named]
        out += [End(e.label, e.interfaces) for e in rest]
    return (*out, End(DEVICE, IntervalSet(), Side.DEVICE))


def matrix(study: Study) -> Matrix:
    """Every pair of different ends in every family the export speaks of."""
    ends = ends_of(study)
    cells: list[MatrixCell] = []
    missing: dict[tuple[Direction, int], None] = {}
    for source in ends:
        for destination in ends:
            direction = direction_of(source, destination)
            if direction is None:
                continue
            for family in families(study.device):
                program = study.programs.get(family, direction)
                if program is None or not speaks(program):
                    missing[direction, family] = None
                elif source is not destination or source.is_device:
                    cells.append(_cell(study, program, source, destination))
    return Matrix(study.device.name, ends, tuple(cells), tuple(missing))


def speaks(program: Program) -> bool:
    """Whether the export says anything of this traffic: a rule, or what becomes of the rest."""
    return any(step.rule is not None for step in program.steps) or program.default is not None


def direction_of(source: End, destination: End) -> Direction | None:
    if source.is_device:
        return None if destination.is_device else Direction.FROM_DEVICE
    return Direction.TO_DEVICE if destination.is_device else Direction.THROUGH_DEVICE


def regions(
    study: Study, program: Program, source: End, destination: End, within: Box = EVERYTHING, *, forged: bool = False
) -> Iterator[Box]:
    """The new connections from one end to another that can exist.

    forged: those too that come from outside with an address that lives behind another interface
    """
    start = (
        study.arriving_at(source.name, source.interfaces, source.side, program.family)
        if source.interfaces
        else EVERYTHING
    )
    here = overlap(start, within)
    if here is not None and source.side is Side.OUTSIDE and not forged:
        inner = living_behind(study.device, program, source.interfaces)
        real = inner.complement(program.space.tops[Axis.SRC])
        here = overlap(here, box([(Axis.SRC, real)])) if inner else here
    if here is not None and source.interfaces:
        here = overlap(here, not_loopback(program.space.symbols))
    if here is not None and destination.interfaces:
        here = overlap(here, box([(Axis.OUT, destination.interfaces)]))
    own = own_addresses(study.device, program.family)
    if here is not None and own is not None:
        if destination.is_device:
            here = overlap(here, box([(Axis.DST, own)]))
        elif not source.is_device:
            here = overlap(here, box([(Axis.DST, own.complement(program.space.tops[Axis.DST]))]))
    for way in program.along(here) if here is not None else ():
        yield from opening(program, way)


def _cell(study: Study, program: Program, source: End, destination: End) -> MatrixCell:
    decider = study.decider(program)
    here = list(regions(study, program, source, destination))
    certainly: list[Service] = []
    perhaps: list[Service] = []

    def certain(ends: Ends) -> bool:
        return maybe_accepted(ends) and (surely_accepted(ends) or rated(program, ends))

    def may_only(ends: Ends) -> bool:
        return maybe_accepted(ends) and not certain(ends)

    wholly = [decider.find(region, lambda ends: not certain(ends)) is None for region in here]
    partly = [decider.find(region, lambda ends: not maybe_accepted(ends)) is None for region in here]
    for region in here:
        for part, axis in _by_service(program, region):
            for wanted, out in ((certain, certainly), (may_only, perhaps)):
                values = decider.project(part, axis, wanted)
                # Which source ports get in is reported as well: a rule that asks for one lets a stranger choose it.
                own = decider.project(part, Axis.A, wanted) if values and axis is Axis.B else None
                out += _services(program, part, axis, values, own)
    reach = Reach.EVERYTHING if here and all(wholly) else Reach.SOME if certainly else Reach.NOTHING
    most = Reach.EVERYTHING if here and all(partly) else Reach.SOME if certainly or perhaps else Reach.NOTHING
    words = spell_services(program.family, _joined(certainly), 4) if certainly and reach is not Reach.EVERYTHING else ""
    may = spell_services(program.family, _joined(perhaps), 4) if perhaps else ""
    return MatrixCell(source.name, destination.name, program.family, reach, most, words, may)


def _by_service(program: Program, region: Box) -> Iterator[tuple[Box, Axis]]:
    """The parts of a region whose services are distinguished by one axis, and that axis."""
    icmp = ICMP_OF[program.family]
    protocols = region[Axis.PROTO] or IntervalSet([(0, 255)])
    for some, axis in (
        (IntervalSet.of(TCP), Axis.B),
        (IntervalSet.of(UDP), Axis.B),
        (IntervalSet.of(icmp), Axis.A),
        (IntervalSet.of(TCP, UDP, icmp).complement(255), Axis.PROTO),
    ):
        if common := protocols & some:
            yield (*region[: Axis.PROTO], common, *region[Axis.PROTO + 1 :]), axis


def _services(program: Program, region: Box, axis: Axis, values: IntervalSet, own: IntervalSet | None) -> list[Service]:
    if not values:
        return []
    mine = (region[Axis.PROTO] or IntervalSet()) if axis is not Axis.PROTO else values
    out = []
    for whole in whole_classes(program.family):
        if common := mine & whole.protocols:
            first = values if axis is Axis.A else whole.first if own is None else own
            out.append(Service(common, first, values if axis is Axis.B else whole.second))
    return out


def _joined(found: Iterable[Service]) -> list[Service]:
    """Services of one kind as one."""
    out: dict[tuple[IntervalSet, IntervalSet], list[IntervalSet]] = {}
    for one in found:
        out.setdefault((one.protocols, one.first), []).append(one.second)
    return [
        Service(protocols, first, IntervalSet(span for second in seconds for span in second.spans))
        for (protocols, first), seconds in out.items()
    ]


def flows(study: Study, wish: Wish) -> list[Flow]:
    """The traffic of the cells asked for that gets through, or perhaps, as few disjoint rows; the widest first.

    Raises UsageError for an end that is not there.
    """
    ends = ends_of(study)
    sources, destinations = (named(study, ends, name) for name in (wish.source, wish.destination))
    out: list[Flow] = []
    for source in sources:
        for destination in destinations:
            direction = direction_of(source, destination)
            if direction is None or (source is destination and not source.is_device):
                continue
            for program in filter(speaks, study.programs.all(direction)):
                out += _flows(study, program, source, destination, wish)
    return out


def named(study: Study, ends: Sequence[End], name: str | None) -> list[End]:
    """The ends a name stands for, alone or after the device's; raises UsageError where there are none."""
    if name is None:
        return list(ends)
    name = name.removeprefix(f"{study.device.name}/")
    found = [one for one in ends if name in (one.name, one.side)]
    if not found and name in study.programs.resolver(4).space.symbols.names:
        number = study.programs.resolver(4).space.symbols.number(name)
        found = [End(name, IntervalSet.of(number), one.side) for one in ends if number in one.interfaces]
    if not found:
        known = list(dict.fromkeys(one.name for one in ends))
        near = difflib.get_close_matches(name, known, n=2) or known
        raise UsageError(f"{study.device.name} has no zone, side or interface '{name}'; there is {', '.join(near)}")
    return found


def _flows(study: Study, program: Program, source: End, destination: End, wish: Wish) -> Iterator[Flow]:
    found: list[tuple[Cell, Hashable]] = []
    every = tuple(rows_of(program))
    for within in wished(program.family, program.space.tops, wish):
        for region in regions(study, program, source, destination, within):
            here = Cut(program, region, every)

            def label(alive: int, full: int, here: Cut = here) -> Hashable:
                ends = here.ends(alive, full)
                if ends is None:
                    return None
                if not maybe_accepted(ends):
                    return False
                return surely_accepted(ends) or rated(program, ends), accepting_steps(program, ends)

            found += cut(region, [row.box for row in here.rows], program, label)
    for traffic, named in rows(program, found):
        certain, numbers = cast("tuple[bool, frozenset[int]]", named)
        yield Flow(traffic, certain, tuple(program.steps[number] for number in sorted(numbers)))


def wished(family: int, tops: Sequence[int], wish: Wish) -> Iterator[Box]:
    """Disjoint regions that hold the services and addresses asked for."""
    places = [EVERYTHING]
    if wish.addresses:
        mine = IntervalSet(span for at, values in wish.addresses if at == family for span in values.spans)
        others = mine.complement(tops[Axis.SRC])
        places = [box([(Axis.SRC, mine)]), box([(Axis.SRC, others), (Axis.DST, mine)])] if mine else []
    for service in service_boxes(family, wish.services, others=wish.others):
        yield from (common for one in places if (common := overlap(service, one)) is not None)


def service_boxes(family: int, services: Iterable[tuple[int, IntervalSet]], *, others: bool = False) -> Iterator[Box]:
    """The packets of some services, or with `others` of all but these; of all where none is named."""
    named = [(ICMP_OF[family] if one in ICMP_OF.values() else one, ports) for one, ports in services]
    if not named:
        yield EVERYTHING
    elif not others:
        for number, ports in named:
            yield box([(Axis.PROTO, IntervalSet.of(number)), *([(Axis.B, ports)] if ports else [])])
    else:
        for number in dict.fromkeys(number for number, _ in named):
            mine = [ports for one, ports in named if one == number]
            if all(mine):
                taken = IntervalSet(span for ports in mine for span in ports.spans)
                yield box([(Axis.PROTO, IntervalSet.of(number)), (Axis.B, taken.complement(PORT_TOP))])
        yield box([(Axis.PROTO, IntervalSet.of(*(number for number, _ in named)).complement(255))])


def read_services(text: str) -> tuple[tuple[int, IntervalSet], ...]:
    """``tcp/443``, ``udp/53,123``, ``tcp/8000-8100``, ``icmp``, or a well-known service such as ``https``: protocols by their numbers,
    each with its ports, none for all.

    Raises UsageError.
    """
    name, slash, ports = text.lower().partition("/")
    number = PROTOCOLS.get(name, int(name) if name.isdecimal() and name.isascii() and len(name) < 4 else -1)
    if 0 <= number <= 255:
        if ports and number not in WITH_PORTS:
            raise UsageError(
                f"'{text}' names ports or types of {name}, which has none that are told apart here; write '{name}'"
            )
        spans = [read_ports(one) for one in ports.split(",")] if ports else []
        return ((number, IntervalSet(spans)),)
    if not slash and name in SPOKEN_SERVICES:
        return tuple(term for one in SPOKEN_SERVICES[name] for term in read_services(one))
    if not slash and name in PORTS:
        return tuple((protocol, IntervalSet.of(PORTS[name])) for protocol in transports(name))
    known = {one.name.lower(): one for one in known_services()}
    if slash or name not in known:
        near = difflib.get_close_matches(name, [*PROTOCOLS, *PORTS, *SPOKEN_SERVICES, *known], n=2) or ["tcp", "udp"]
        raise UsageError(f"'{name}' is neither a protocol nor a service; did you mean {' or '.join(near)}?")
    return tuple(
        (term.protocol.first, IntervalSet((port.first, port.last) for port in term.destination_ports))
        for term in known[name].terms
    )


def addresses_named(
    programs: Programs, networks: Iterable[Addresses], name: str | None
) -> tuple[tuple[int, IntervalSet], ...]:
    """Networks, and what an address object of the device stands for, by family.

    Raises UsageError for an object that is not there, or whose addresses the export does not state.
    """
    out = [(one.family, IntervalSet([(one.first, one.last)])) for one in networks]
    if name is None:
        return tuple(out)
    device = programs.device
    names = [one.name for one in device.addresses]
    if name not in names:
        near = difflib.get_close_matches(name, names, n=2) or names[:6]
        listed = f"; there is {', '.join(near)}" if near else ""
        raise UsageError(f"{device.name} has no address object '{name}'{listed}")
    for family in (4, 6):
        values = programs.resolver(family).exactly(name)
        if values is None:
            raise UsageError(f"the export of {device.name} does not list all addresses of '{name}'")
        if values:
            out.append((family, values))
    return tuple(out)

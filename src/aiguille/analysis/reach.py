"""End to end: what gets from a zone of one device to a zone of another, over every device on the way.

Whole regions of new connections are led as `paths` leads a packet: translated on arrival, routed by their new destinations,
decided by the rules, translated as they leave, and on to the next device. A region is cut wherever its parts fare differently, so
that what is said of one holds for each of its packets. It is named by what its sender sends; where translations put something
else in place of it, that is kept beside it.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Hashable, Iterable, Iterator, Sequence
from functools import cached_property
from typing import cast

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.analysis.decide import Cut, accepting_steps, maybe_accepted, rows_of, surely_accepted
from aiguille.analysis.exposure import rated
from aiguille.analysis.flows import End, Wish, ends_of, speaks, wished
from aiguille.analysis.network import NOTHING_ASSUMED, Leg, Network, is_of_one_link
from aiguille.analysis.program import Program, Programs, Step, families
from aiguille.analysis.rewriting import rewrites
from aiguille.analysis.rows import StepRow
from aiguille.analysis.study import Study
from aiguille.analysis.traffic import cut, merged, opening
from aiguille.model import (
    Device,
    Direction,
    Estate,
    Side,
    Stage,
    Translate,
    TranslationKind,
    UsageError,
)
from aiguille.space import Axis, Box, Cell, IntervalSet, box, overlap
from aiguille.space.effort import limited
from aiguille.space.fields import WITH_PORTS

HOPS = 60
"""Devices beyond which packets go round in circles; fewer than the time to live most of them start with (RFC 1700)."""

REACH_EFFORT = 30_000_000
"""Steps of work that what one end reaches may take; see `space.effort`."""

_SHIFTS = 64
"""Networks a translation by prefix may move one by one; more count as anywhere in its range."""


class Place(Struct, frozen=True):
    """An end of traffic: a zone, an interface or the device itself.

    also: the places of other devices in the same networks, which are one place with it
    addresses: by family what lives there, none where nothing shows
    outside: whether it faces the world, and not another device of the estate
    """

    device: Device
    end: End
    addresses: tuple[tuple[int, IntervalSet], ...]
    also: tuple[tuple[Device, End], ...] = ()
    outside: bool = False

    @property
    def name(self) -> str:
        return f"{self.device.name}/{self.end.name}"

    @property
    def names(self) -> tuple[str, ...]:
        return (self.name, *(f"{device.name}/{end.name}" for device, end in self.also))

    @property
    def devices(self) -> frozenset[str]:
        return frozenset((self.device.name, *(device.name for device, _ in self.also)))

    def of(self, family: int) -> IntervalSet:
        return next((values for at, values in self.addresses if at == family), IntervalSet())


class Stop(Struct, frozen=True):
    """A device on the way. deciders: the rules that let it through there; none where they are not asked for"""

    device: Device
    enters: str
    leaves: str
    deciders: tuple[Step, ...] = ()


class Passage(Struct, frozen=True):
    """New connections that fare alike from one place on.

    sent: what the sender sends; seen: the destinations it is for where it ends, after translation
    stops: the devices on the way, the last the one that delivers or refuses it
    destination: where it arrives, None where it is refused; why: what refuses it that is no rule
    assumed: what the exports do not show
    """

    family: int
    source: Place
    destination: Place | None
    sent: Box
    seen: IntervalSet
    stops: tuple[Stop, ...]
    certain: bool
    why: str = ""
    assumed: tuple[str, ...] = NOTHING_ASSUMED

    @property
    def sure(self) -> bool:
        """Whether it is as said, and rests on nothing assumed."""
        return self.certain and not self.assumed

    def __contains__(self, point: Sequence[int]) -> bool:
        return all(values is None or at in values for values, at in zip(self.sent, point, strict=True))


class _Part(Struct, frozen=True):
    """Packets under way: as they were sent, what translations put in place of that, and what they met."""

    sent: Box
    given: tuple[tuple[Axis, IntervalSet], ...] = ()
    certain: bool = True
    stops: tuple[Stop, ...] = ()
    assumed: tuple[str, ...] = NOTHING_ASSUMED

    @property
    def now(self) -> Box:
        out = list(self.sent)
        for axis, values in self.given:
            out[axis] = values
        return tuple(out)

    def within(self, cell: Sequence[IntervalSet | None]) -> _Part | None:
        """What of it lies in a cell, as far as addresses and services go; of what a translation chose nobody knows which."""
        out, given, certain = list(self.sent), dict(self.given), self.certain
        for axis in _CARRIED:
            values = cell[axis]
            if values is None:
                continue
            mine = given[axis] if axis in given else out[axis]
            common = values if mine is None else mine & values
            if not common:
                return None
            if axis in given:
                certain = certain and common == given[axis]
                given[axis] = common
            else:
                out[axis] = common
        return replace(self, sent=tuple(out), given=tuple(given.items()), certain=certain)

    def put(self, fields: Iterable[tuple[Axis, IntervalSet]]) -> _Part:
        return replace(self, given=tuple({**dict(self.given), **dict(fields)}.items()))


_CARRIED = (Axis.SRC, Axis.DST, Axis.PROTO, Axis.A, Axis.B, Axis.FLAGS, Axis.STATE)


class Reaches(Struct, dict=True):
    """Who reaches whom in an estate of several devices.

    detailed: whether the rules on the way are kept, which parts what they treat alike
    """

    estate: Estate
    detailed: bool = False
    studies: dict[str, Study] = field(default_factory=dict)

    @cached_property
    def network(self) -> Network:
        return Network(self.estate)

    def study(self, device: Device) -> Study:
        found = self.studies.get(device.name)
        if found is None:
            found = self.studies[device.name] = Study(device, self.estate, Programs(device))
        return found

    @cached_property
    def places(self) -> tuple[Place, ...]:
        """Every end of every device; those in the same networks are one."""
        out: dict[Hashable, Place] = {}
        for device in self.estate.devices:
            study = self.study(device)
            for end in self._ends(device):
                if not end.is_device and not self._interfaces(device, end):
                    continue
                addresses = self._addresses(study, end)
                outside = end.side is Side.OUTSIDE and not self._meets_another(device, end)
                shared = addresses and not outside and not end.is_device and not self._is_apart(device, end)
                key: Hashable = addresses[0] if shared else (device.name, end.name)
                if key in out:
                    first = out[key]
                    both = sorted(dict([*addresses, *first.addresses]).items(), key=lambda one: one[0])
                    out[key] = replace(first, also=(*first.also, (device, end)), addresses=tuple(both))
                    if first.end.side is Side.OUTSIDE and end.side is not Side.OUTSIDE:
                        # What is the outside to a host has the name that the device before it gives it.
                        beside = ((first.device, first.end), *first.also)
                        out[key] = replace(out[key], device=device, end=end, also=beside)
                else:
                    out[key] = Place(device, end, addresses, (), outside)
        return tuple(out.values())

    def _is_apart(self, device: Device, end: End) -> bool:
        """Whether an end is a network that other devices have for themselves as well."""
        names = self._interfaces(device, end)
        return any(name in names and network in self.network.apart for name, network in self.network.links[device.name])

    def _meets_another(self, device: Device, end: End) -> bool:
        """Whether an end is a network that other devices are in as well: what is beyond is told of them."""
        mine = {n for name, n in self.network.links[device.name] if name in self._interfaces(device, end)}
        return any(
            network in mine and network not in self.network.apart
            for other in self.estate.devices
            if other is not device
            for _, network in self.network.links[other.name]
        )

    def _addresses(self, study: Study, end: End) -> tuple[tuple[int, IntervalSet], ...]:
        device, found = study.device, []
        for family in (4, 6):
            if end.is_device:
                values = self.network.own(device, family)
            else:
                names = self._interfaces(device, end)
                held = [*study.networks(end.name), *(n for name, n in self.network.links[device.name] if name in names)]
                values = IntervalSet((n.first, n.last) for n in held if n.family == family and not is_of_one_link(n))
                values = values - self._taken[family]
            if values:
                found.append((family, values))
        return tuple(found)

    @cached_property
    def _taken(self) -> dict[int, IntervalSet]:
        """By family, the addresses that are those of devices."""
        return {f: IntervalSet.of(*(a for at, a in self.network.owners if at == f)) for f in (4, 6)}

    @cached_property
    def _place_at(self) -> dict[tuple[str, str], Place]:
        return {(device, end): place for place in self.places for device, end in _ends(place)}

    def leads(self, source: Place, destination: Place, family: int) -> bool:
        """Whether routes and networks told lead from one place to another, whatever rules say; never over the outside."""
        there = destination.of(family)
        if not there:
            return False
        mine, target = source.of(family), there.first
        legs: list[Leg]
        if source.end.is_device:
            legs = [(source.device, "")]
        elif mine and not source.outside and not self._is_apart(source.device, source.end):
            try:
                legs = self.network.starts(family, mine.first, target)[0]
            except UsageError:
                return False
        else:
            legs = [(source.device, name) for name in self._interfaces(source.device, source.end)]
        seen: set[tuple[str, str]] = set()
        while legs:
            device, enters = legs.pop()
            if (device.name, enters) in seen:
                continue
            seen.add((device.name, enters))
            if self.network.owns(device, family, target):
                return destination.device is device or device.name in destination.devices
            way = self.network.way(device, family, target)
            if way is None or not way.leads or way.assumed:
                continue
            onward, assumed = self.network.onward(device, way.interface, family, target)
            if not onward and not assumed and self._end_at(device, way.interface).name in _ends_on(destination, device):
                return True
            outer = self._end_at(device, way.interface).side is Side.OUTSIDE
            legs += [leg for leg in onward if not outer or self.network.meet((device, way.interface), leg)]
        return False

    # From one place

    def reach(self, source: Place, wish: Wish | None = None) -> list[Passage]:
        """What becomes of all new connections that a place opens to somewhere else, of the services and addresses asked for.

        Raises TooComplexError where that takes too many steps.
        """
        out: list[Passage] = []
        with limited(REACH_EFFORT, apart=True):
            for family in self._families(source):
                tops = self.study(source.device).programs.resolver(family).space.tops
                for within in wished(family, tops, wish or Wish()):
                    for leg, part in self._starts(source, family, within):
                        out += self._follow(source, family, leg, part)
        return out

    def _families(self, source: Place) -> tuple[int, ...]:
        known = families(source.device)
        return tuple(
            family for family in known if source.of(family) or not source.addresses or not source.end.is_device
        )

    def _starts(self, source: Place, family: int, within: Box) -> Iterator[tuple[Leg, _Part]]:
        """The first devices, each with what of a place's packets it may get."""
        space = self.study(source.device).programs.resolver(family).space
        mine = source.of(family)
        known = not source.outside and bool(mine)
        near = mine if known else self._strangers(source, family)
        whole = overlap(within, box([(Axis.SRC, near)])) if near is not None else within
        if whole is None:
            return
        targets = (whole[Axis.DST] or IntervalSet([(0, space.tops[Axis.DST])])) - mine
        names = () if source.end.is_device else self._interfaces(source.device, source.end)
        if not known or source.end.is_device or self._is_apart(source.device, source.end):
            for name in names or ("",):
                yield (source.device, name), _Part(_with(whole, Axis.DST, targets))
            return
        alike: dict[Hashable, tuple[list[IntervalSet], list[_Start]]] = {}
        for origin in self._atoms(family, whole[Axis.SRC] or mine):
            groups: dict[Hashable, _Start] = {}
            for target in self._atoms(family, targets):
                try:
                    legs, assumed = self.network.starts(family, origin.first, target.first)
                except UsageError:
                    legs, assumed = [(source.device, name) for name in names], NOTHING_ASSUMED
                groups.setdefault((_named(legs), assumed), (legs, assumed, []))[2].extend(target.spans)
            key = tuple((said, tuple(spans)) for said, (_, _, spans) in groups.items())
            alike.setdefault(key, ([], list(groups.values())))[0].append(origin)
        for origins, starts in alike.values():
            here = _with(whole, Axis.SRC, IntervalSet(span for one in origins for span in one.spans))
            for legs, assumed, spans in starts:
                part = _Part(_with(here, Axis.DST, IntervalSet(spans)), assumed=assumed)
                yield from ((leg, replace(part, certain=len(legs) == 1)) for leg in legs)

    def _strangers(self, source: Place, family: int) -> IntervalSet | None:
        """What lives behind none of the other interfaces of a device, whose addresses come from outside if they are forged; None
        for anything."""
        device = source.device
        names = self._interfaces(device, source.end)
        if source.end.is_device:
            return None
        inner = IntervalSet(
            (n.first, n.last) for name, n in self.network.links[device.name] if n.family == family and name not in names
        )
        return inner.complement((1 << (32 if family == 4 else 128)) - 1) if inner else None

    def _interfaces(self, device: Device, end: End) -> tuple[str, ...]:
        """The interfaces of an end that have a name."""
        symbols = self.study(device).programs.resolver(4).space.symbols
        return tuple(symbols.name(number) for number in end.interfaces if number < len(symbols.names))

    def _atoms(self, family: int, values: IntervalSet) -> Iterator[IntervalSet]:
        """A set of addresses in pieces whose members all go the same ways."""
        borders = self.network.borders(family)
        held: dict[int, list[tuple[int, int]]] = {}
        for first, last in values.spans:
            at = bisect_right(borders, first) - 1
            while first <= last:
                end = min(last, borders[at + 1] - 1) if at + 1 < len(borders) else last
                held.setdefault(at, []).append((first, end))
                first, at = end + 1, at + 1
        return (IntervalSet.canonical(tuple(spans)) for spans in held.values())

    # Over the devices

    def _follow(self, source: Place, family: int, leg: Leg, part: _Part) -> Iterator[Passage]:
        todo = [(leg, part)]
        while todo:
            (device, enters), now = todo.pop()
            been = any((stop.device, stop.enters) == (device, enters) for stop in now.stops)
            if been or len(now.stops) >= HOPS:
                yield self._refused(source, family, now, device, enters, "the routes lead in a circle")
                continue
            for one in self._cross(source, family, device, enters, now):
                if isinstance(one, Passage):
                    yield one
                else:
                    todo.append(one)

    def _refused(
        self,
        source: Place,
        family: int,
        part: _Part,
        device: Device,
        enters: str,
        why: str,
        deciders: tuple[Step, ...] = (),
    ) -> Passage:
        stops = (*part.stops, Stop(device, enters, "", deciders))
        seen = part.now[Axis.DST] or IntervalSet()
        return Passage(family, source, None, part.sent, seen, stops, part.certain, why, part.assumed)

    def _arrived(self, source: Place, family: int, part: _Part, device: Device, leaves: str) -> Passage:
        end = self._end_at(device, leaves)
        place = self._place_at.get((device.name, end.name)) or Place(device, end, ())
        seen = part.now[Axis.DST] or IntervalSet()
        return Passage(family, source, place, part.sent, seen, part.stops, part.certain, "", part.assumed)

    def _end_at(self, device: Device, leaves: str) -> End:
        """The end of a device's traffic that an interface belongs to; the device itself where there is none."""
        study = self.study(device)

        def find() -> End:
            number = study.programs.resolver(4).space.symbols.number(leaves) if leaves else 0
            ends = (e for e in self._ends(device) if (number in e.interfaces if leaves else e.is_device))
            return next(ends, End(leaves, IntervalSet.of(number)))

        found: End = study.once(("end at", leaves), find)
        return found

    def _ends(self, device: Device) -> tuple[End, ...]:
        study = self.study(device)
        found: tuple[End, ...] = study.once("ends", lambda: ends_of(study))
        return found

    def _cross(
        self, source: Place, family: int, device: Device, enters: str, part: _Part
    ) -> Iterator[Passage | tuple[Leg, _Part]]:
        """One device: what arrives at it or behind it, what it refuses, and what goes on to which device."""
        if not enters:
            yield from self._sent(source, family, device, part)
            return
        for change, moved in self._rewritten(family, device, Stage.PREROUTING, Axis.IN, enters, part):
            if change is None:
                yield from self._routed(source, family, device, enters, moved)
                continue
            for led in self._led(family, device, enters, moved, change):
                stays = change.kind is TranslationKind.TO_DEVICE
                yield from self._routed(source, family, device, enters, led, stays=stays)

    def _sent(self, source: Place, family: int, device: Device, part: _Part) -> Iterator[Passage | tuple[Leg, _Part]]:
        """What a device itself sends. By which interface, its translations may ask before it is routed anew: they leave it open."""
        found = list(self._rewritten(family, device, Stage.OUTPUT, Axis.IN, "", part))
        sure = not any(change is not None for change, _ in found)
        for change, moved in found:
            now = replace(moved, certain=moved.certain and sure)
            if change is None:
                yield from self._routed(source, family, device, "", now)
            elif change.kind is TranslationKind.TO_DEVICE:
                yield self._refused(source, family, now, device, "", "it is sent back to the device itself")
            else:
                for led in self._led(family, device, "", now, change):
                    yield from self._routed(source, family, device, "", led)

    def _rewritten(
        self, family: int, device: Device, stage: Stage, axis: Axis, interface: str, part: _Part
    ) -> Iterator[tuple[Translate | None, _Part]]:
        """A part as the translations of a stage take it; axis, interface: by which it comes or goes"""
        programs = self.study(device).programs
        number = programs.resolver(family).space.symbols.number(interface) if interface else 0
        region = overlap(part.now, box([(axis, IntervalSet.of(number))]))
        for one in rewrites(programs, family, stage, region) if region is not None else ():
            narrowed = part.within(one.box)
            if narrowed is not None:
                yield one.change, replace(narrowed, certain=narrowed.certain and one.sure)

    def _led(self, family: int, device: Device, enters: str, part: _Part, change: Translate) -> Iterator[_Part]:
        """Packets with the destination a translation gives them."""
        fields: list[tuple[Axis, IntervalSet]] = []
        if change.ports is not None and part.now[Axis.PROTO] is not None:
            protocols = part.now[Axis.PROTO] or IntervalSet()
            if protocols.issubset(IntervalSet.of(*WITH_PORTS)):
                fields.append((Axis.B, IntervalSet([(change.ports.first, change.ports.last)])))
        if change.kind is TranslationKind.TO_DEVICE:
            own = [a for i in device.interfaces if i.name == enters for a in i.addresses if a.family == family]
            if own:
                fields.append((Axis.DST, IntervalSet.of(own[0].first)))
            else:
                part = replace(part, assumed=(*part.assumed, _untold(device)))
        elif change.addresses is not None and change.netmap_bits is not None:
            yield from (p.put(fields) for p in _shifted(part, change))
            return
        elif change.addresses is not None:
            fields.append((Axis.DST, IntervalSet([(change.addresses.first, change.addresses.last)])))
        elif change.ports is None:
            part = replace(part, certain=False, assumed=(*part.assumed, _untold(device)))
        yield part.put(fields)

    def _routed(
        self, source: Place, family: int, device: Device, enters: str, part: _Part, *, stays: bool = False
    ) -> Iterator[Passage | tuple[Leg, _Part]]:
        """Packets by the ways their destinations, and where the kernel asks for it their sources, go.

        stays: they were sent to the device itself
        """
        network = self.network
        top = (1 << (32 if family == 4 else 128)) - 1
        targets = part.now[Axis.DST] or IntervalSet([(0, top)])
        origins = part.now[Axis.SRC] or IntervalSet([(0, top)])
        asks = family == 4 and bool(enters) and network.asks_for_sources(device, enters)
        if asks:
            refused: dict[str, list[tuple[int, int]]] = {}
            for origin in self._atoms(family, origins):
                why = network.source_refused(device, family, origin.first, enters)
                refused.setdefault(why, []).extend(origin.spans)
            origins = IntervalSet(refused.pop("", ()))
            for why, spans in refused.items():
                here = part.within(box([(Axis.SRC, IntervalSet(spans))]))
                if here is not None:
                    yield self._refused(source, family, here, device, enters, why)
            if not origins:
                return
        groups: dict[tuple[str, str, tuple[str, ...]], list[tuple[int, int]]] = {}
        for target in self._atoms(family, targets):
            if stays or network.owns(device, family, target.first):
                leaves, why, assumed = "", "", NOTHING_ASSUMED
            else:
                leaves, why, assumed = network.leaves(device, family, target.first, enters)
            groups.setdefault((leaves, _shortened(why), assumed), []).extend(target.spans)
        for (leaves, why, assumed), spans in groups.items():
            here = part.within(box([(Axis.SRC, origins), (Axis.DST, IntervalSet(spans))]))
            if here is None:
                continue
            here = replace(here, assumed=tuple(dict.fromkeys((*here.assumed, *assumed))))
            if why:
                yield self._refused(source, family, here, device, enters, why)
            else:
                yield from self._decided(source, family, device, enters, leaves, here)

    def _decided(
        self, source: Place, family: int, device: Device, enters: str, leaves: str, part: _Part
    ) -> Iterator[Passage | tuple[Leg, _Part]]:
        """Packets by what a device's rules say of them."""
        study = self.study(device)
        direction = Direction.FROM_DEVICE if not enters else Direction.THROUGH_DEVICE if leaves else Direction.TO_DEVICE
        program = study.programs.get(family, direction)
        if program is None or not speaks(program):
            why = f"the export of {device.name} holds no rules for IPv{family} on this way"
            yield from self._let_through(
                source, family, device, enters, leaves, (), replace(part, assumed=(*part.assumed, why))
            )
            return
        for cell, label in self._labelled(program, enters, leaves, part):
            here = part.within(cell)
            if here is None:
                continue
            verdict, steps = cast("tuple[bool | None, tuple[int, ...]]", label)
            deciders = tuple(program.steps[number] for number in steps)
            if verdict is False:
                yield self._refused(source, family, here, device, enters, "", deciders)
                continue
            if verdict is None:
                here = replace(here, certain=False)
            yield from self._let_through(source, family, device, enters, leaves, deciders, here)

    def _labelled(self, program: Program, enters: str, leaves: str, part: _Part) -> list[tuple[Cell, Hashable]]:
        """A part cut by what the rules say: accepted (True), perhaps (None) or refused, and by which steps."""
        symbols = program.space.symbols
        fields = [(Axis.IN, IntervalSet.of(symbols.number(enters) if enters else 0))]
        fields.append((Axis.OUT, IntervalSet.of(symbols.number(leaves) if leaves else 0)))
        region = overlap(part.now, box(fields))
        found: list[tuple[Cell, Hashable]] = []
        rows = self._rows(program)
        for one in opening(program, region) if region is not None else ():
            here = Cut(program, one, rows)

            def label(alive: int, full: int, here: Cut = here) -> Hashable:
                ends = here.ends(alive, full)
                if ends is None:
                    return None
                if not maybe_accepted(ends):
                    steps = frozenset(end.step for end in ends) if self.detailed else frozenset()
                    return False, tuple(sorted(steps))
                sure = surely_accepted(ends) or rated(program, ends)
                return True if sure else None, tuple(sorted(accepting_steps(program, ends))) if self.detailed else ()

            found += cut(one, [row.box for row in here.rows], program, label)
        return merged(found)

    def _rows(self, program: Program) -> tuple[StepRow, ...]:
        study = self.study(program.device)
        found: tuple[StepRow, ...] = study.once(("rows", program), lambda: tuple(rows_of(program)))
        return found

    def _let_through(
        self,
        source: Place,
        family: int,
        device: Device,
        enters: str,
        leaves: str,
        deciders: tuple[Step, ...],
        part: _Part,
    ) -> Iterator[Passage | tuple[Leg, _Part]]:
        """Packets that a device lets through: to itself, or on their way with the source they leave with."""
        part = replace(part, stops=(*part.stops, Stop(device, enters, leaves, deciders)))
        if not leaves:
            yield self._arrived(source, family, part, device, "")
            return
        # What the internet brings to the next device is said of the outside there.
        outer = self._end_at(device, leaves).side is Side.OUTSIDE
        for hidden in self._hidden(family, device, leaves, part):
            groups: dict[Hashable, _Start] = {}
            top = (1 << (32 if family == 4 else 128)) - 1
            for target in self._atoms(family, hidden.now[Axis.DST] or IntervalSet([(0, top)])):
                legs, assumed = self.network.onward(device, leaves, family, target.first)
                legs = [leg for leg in legs if not outer or self.network.meet((device, leaves), leg)]
                groups.setdefault((_named(legs), assumed), (legs, assumed, []))[2].extend(target.spans)
            for legs, assumed, spans in groups.values():
                here = hidden.within(box([(Axis.DST, IntervalSet(spans))]))
                if here is None:
                    continue
                here = replace(here, assumed=tuple(dict.fromkeys((*here.assumed, *assumed))))
                if not legs and assumed:
                    stops = here.stops[:-1]
                    yield self._refused(
                        source, family, replace(here, stops=stops, certain=False), device, enters, NO_WAY
                    )
                elif not legs:
                    yield self._arrived(source, family, here, device, leaves)
                for leg in legs:
                    yield leg, replace(here, certain=here.certain and len(legs) == 1)

    def _hidden(self, family: int, device: Device, leaves: str, part: _Part) -> Iterator[_Part]:
        """Packets with the source they leave a device with."""
        for change, here in self._rewritten(family, device, Stage.POSTROUTING, Axis.OUT, leaves, part):
            if change is None:
                yield here
            elif change.addresses is not None:
                yield here.put([(Axis.SRC, IntervalSet([(change.addresses.first, change.addresses.last)]))])
            else:
                own = [a for i in device.interfaces if i.name == leaves for a in i.addresses if a.family == family]
                if own:
                    yield here.put([(Axis.SRC, IntervalSet.of(own[0].first))])
                else:
                    yield replace(here, certain=False, assumed=(*here.assumed, _untold(device)))


_Start = tuple[list[Leg], tuple[str, ...], list[tuple[int, int]]]
"""The devices that some destinations are handed to, what was assumed, and the destinations."""

NO_WAY = "nothing shows how it gets there"
"""Why a packet is not followed to an address that is known to be behind another device."""


def _named(legs: Sequence[Leg]) -> Hashable:
    return tuple((device.name, name) for device, name in legs)


def _shortened(why: str) -> str:
    """A reason without the address it was found for: it holds for all of a region."""
    if why.startswith(("there is no route to", "nothing shows a route to")):
        return why.partition(" to ")[0]
    return "a route refuses or swallows it" if why.startswith("a route refuses") else why


def _untold(device: Device) -> str:
    return f"{device.name} sends it to or from an address the export does not state"


def _ends(place: Place) -> Iterator[tuple[str, str]]:
    yield place.device.name, place.end.name
    yield from ((device.name, end.name) for device, end in place.also)


def _ends_on(place: Place, device: Device) -> set[str]:
    return {end for name, end in _ends(place) if name == device.name}


def _with(whole: Box, axis: Axis, values: IntervalSet) -> Box:
    return (*whole[:axis], values, *whole[axis + 1 :])


def _shifted(part: _Part, change: Translate) -> Iterator[_Part]:
    """A translation of a whole network: the host part stays."""
    to, bits = cast("tuple[int, int]", (change.addresses.first if change.addresses else 0, change.netmap_bits))
    targets = part.now[Axis.DST] or IntervalSet()
    blocks = {first >> bits for span in targets.spans for first in span}
    if (
        not targets
        or len(blocks) > _SHIFTS
        or any(last >> bits > (first >> bits) + _SHIFTS for first, last in targets.spans)
    ):
        yield replace(part, certain=False).put([(Axis.DST, IntervalSet([(to, to | (1 << bits) - 1)]))])
        return
    for block in sorted({n for first, last in targets.spans for n in range(first >> bits, (last >> bits) + 1)}):
        here = targets & IntervalSet([(block << bits, (block << bits) | (1 << bits) - 1)])
        low = block << bits
        narrowed = part.within(box([(Axis.DST, here)]))
        if narrowed is not None:
            yield narrowed.put(
                [(Axis.DST, IntervalSet((to + first - low, to + last - low) for first, last in here.spans))]
            )

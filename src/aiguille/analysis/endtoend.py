"""What `reach` finds, told in few words: which places of different devices reach each other, with what, and by which rules."""

from __future__ import annotations

import difflib
from collections.abc import Hashable, Iterable, Iterator, Sequence

from msgspec import Struct

from aiguille.analysis.flows import Reach, Wish
from aiguille.analysis.reach import Passage, Place, Reaches, Stop
from aiguille.analysis.traffic import Service, Traffic, alike, spell_services, whole_classes
from aiguille.analysis.witness import Chooser
from aiguille.model import Direction, TooComplexError, UsageError
from aiguille.model.spelling import spell_operand
from aiguille.space import Axis, Cell, IntervalSet
from aiguille.space.boxes import full_cell


class Pair(Struct, frozen=True):
    """What gets from one place to one of another device, as new connections of one family.

    services: what gets there for certain, in words; may: what perhaps does
    by: the devices that refuse something of it, the one that refuses first for each
    assumed: what the exports do not show and was taken for granted
    """

    source: Place
    destination: Place
    family: int
    reach: Reach
    perhaps: Reach
    services: str = ""
    may: str = ""
    by: tuple[str, ...] = ()
    assumed: tuple[str, ...] = ()


class Row(Struct, frozen=True):
    """Traffic from place to place that takes one way, with the rules that let it through at each device, or refuse it at the last.

    traffic: as it is sent; arrives: the destinations it has where it ends, where translations change them
    """

    source: Place
    destination: Place | None
    traffic: Traffic
    arrives: IntervalSet | None
    stops: tuple[Stop, ...]
    certain: bool
    why: str
    assumed: tuple[str, ...]
    refused: bool = False


class EndToEnd(Struct, frozen=True):
    """The pairs of an estate, what could not be told of which place since its rules are too entangled, and what else to know.

    rows: where some places were asked for, what gets from one to the other, in place of pairs
    """

    places: tuple[Place, ...] = ()
    pairs: tuple[Pair, ...] = ()
    faults: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    rows: tuple[Row, ...] | None = None


def end_to_end(reaches: Reaches) -> EndToEnd:
    """Every pair of places of different devices of which anything is known: something gets through, or something refuses it."""
    notes = [
        f"{', '.join(names)} have the same address in {spell_operand(network)}: it is taken for a network of each"
        for network, names in reaches.network.apart.items()
    ]
    sources = [place for place in reaches.places if _is_joined(reaches, place)]
    if len(sources) > MANY:
        notes.append(
            f"{len(sources)} places are joined, too many for one table: --from and --to tell of those you name"
        )
        return EndToEnd(reaches.places, notes=tuple(notes))
    pairs: list[Pair] = []
    faults: list[str] = []
    for source in sources:
        try:
            pairs += pairs_from(reaches, source)
        except TooComplexError as error:
            faults.append(f"from {source.name}: {error.message}")
    return EndToEnd(reaches.places, tuple(pairs), tuple(faults), tuple(notes))


MANY = 300
"""Places beyond which nobody reads who reaches whom in one table."""


def _is_joined(reaches: Reaches, place: Place) -> bool:
    return any(reaches.network.joined(device) for device in (place.device, *(d for d, _ in place.also)))


def pairs_from(reaches: Reaches, source: Place) -> list[Pair]:
    """The pairs from one place. Raises TooComplexError."""
    by_family: dict[int, tuple[list[Passage], list[Passage]]] = {4: ([], []), 6: ([], [])}
    for one in reaches.reach(source):
        by_family[one.family][one.destination is None].append(one)
    out: list[Pair] = []
    for destination in reaches.places:
        if destination is source or destination.device is source.device:
            continue
        if source.outside and destination.outside:
            continue
        for family, (accepted, stopped) in by_family.items():
            arrived = [
                one for one in accepted if one.destination is not None and one.destination.name == destination.name
            ]
            if not arrived and not reaches.leads(source, destination, family):
                continue
            there = destination.of(family)
            if destination.outside or not there:
                elsewhere = _elsewhere(reaches, family)
                refused = [one for one in stopped if one.seen.overlaps(elsewhere)]
            else:
                refused = [one for one in stopped if one.seen.overlaps(there)]
            out.append(_pair(source, destination, family, arrived, refused))
    return out


def _elsewhere(reaches: Reaches, family: int) -> IntervalSet:
    """Addresses of no place."""
    taken = IntervalSet(span for place in reaches.places for span in place.of(family).spans)
    return taken.complement((1 << (32 if family == 4 else 128)) - 1)


def _pair(
    source: Place, destination: Place, family: int, arrived: Sequence[Passage], refused: Sequence[Passage]
) -> Pair:
    sure = [one for one in arrived if one.sure]
    doubtful = [one for one in arrived if not one.sure]
    reach = Reach.NOTHING if not sure else Reach.SOME if refused or doubtful else Reach.EVERYTHING
    perhaps = Reach.NOTHING if not arrived else Reach.SOME if refused else Reach.EVERYTHING
    by = tuple(dict.fromkeys(one.stops[-1].device.name for one in refused))
    assumed = tuple(dict.fromkeys(said for one in doubtful for said in one.assumed))
    services = _services(family, sure) if sure and reach is not Reach.EVERYTHING else ""
    may = _services(family, doubtful) if doubtful else ""
    return Pair(source, destination, family, reach, perhaps, services, may, by, assumed)


def _services(family: int, passages: Sequence[Passage]) -> str:
    """The services of passages in words, those of one kind together."""
    found: dict[tuple[int, IntervalSet], list[tuple[int, int]]] = {}
    for one in passages:
        for whole in whole_classes(family):
            protocols = whole.protocols & (one.sent[Axis.PROTO] or whole.protocols)
            ported = whole.second.size > 1
            first, second = (one.sent[axis] if ported else None for axis in (Axis.A, Axis.B))
            for protocol in protocols:
                found.setdefault((protocol, first or whole.first), []).extend((second or whole.second).spans)
    kinds: dict[tuple[IntervalSet, IntervalSet], list[int]] = {}
    for (protocol, first), spans in found.items():
        kinds.setdefault((first, IntervalSet(spans)), []).append(protocol)
    return spell_services(family, (Service(IntervalSet.of(*some), *key) for key, some in kinds.items()), 4)


def between(reaches: Reaches, source: str | None, destination: str | None, wish: Wish) -> EndToEnd:
    """The rows from the places of one name to those of another; raises UsageError for a name that is nowhere.

    `reaches` must be detailed.
    """
    sources, destinations = (places_named(reaches, name) for name in (source, destination))
    try:
        return EndToEnd(rows=tuple(rows_between(reaches, sources, destinations, wish)))
    except TooComplexError as error:
        return EndToEnd(faults=(f"from {source or 'everywhere'}: {error.message}",))


def rows_between(
    reaches: Reaches,
    sources: Sequence[Place],
    destinations: Sequence[Place],
    wish: Wish | None = None,
    *,
    refusals: bool = False,
) -> list[Row]:
    """What gets from some places to others of different devices, as few rows, each with its way.

    refusals: tell what is refused everywhere, not only where nothing at all gets from one to the other

    Raises TooComplexError. `reaches` must be detailed.
    """
    out: list[Row] = []
    names = {one.name for one in destinations}
    for source in sources:
        passages = reaches.reach(source, wish)
        arrived = [
            one
            for one in passages
            if one.destination is not None
            and one.destination.name in names
            and (len(one.stops) > 1 or source.device is not one.destination.device)
        ]
        out += _rows(reaches, arrived)
        reached = {one.destination.name for one in arrived if one.destination is not None}
        for place in destinations:
            if (place.name in reached and not refusals) or source.device is place.device:
                continue
            refused = [
                one
                for one in passages
                if one.destination is None
                and one.seen & place.of(one.family)
                and reaches.leads(source, place, one.family)
            ]
            out += _rows(reaches, refused, place)
    return out


def _rows(reaches: Reaches, passages: Iterable[Passage], towards: Place | None = None) -> Iterator[Row]:
    """Passages that take one way as few rows."""
    groups: dict[Hashable, list[Passage]] = {}
    for one in passages:
        ways = tuple((s.device.name, s.enters, s.leaves, tuple(map(id, s.deciders))) for s in one.stops)
        end = one.destination.name if one.destination is not None else ""
        groups.setdefault((one.family, one.source.name, end, ways, one.sure, one.why, one.assumed), []).append(one)
    for some in groups.values():
        first = some[0]
        programs = reaches.study(first.stops[0].device).programs
        space = programs.resolver(first.family).space
        tops = full_cell(tuple(space.tops))
        cells: list[tuple[Cell, Hashable]] = []
        for one in some:
            whole = tuple(tops[axis] if values is None else values for axis, values in enumerate(one.sent))
            moved = one.seen if one.seen != one.sent[Axis.DST] else None
            if towards is not None:
                kept = whole[Axis.DST] & towards.of(first.family) if moved is None else whole[Axis.DST]
                if not kept:
                    continue
                whole = (*whole[: Axis.DST], kept, *whole[Axis.DST + 1 :])
            cells.append((whole, moved))
        chooser = Chooser(first.stops[0].device, space)
        numbers = [space.symbols.number(name) if name else 0 for name in (first.stops[0].enters, first.stops[0].leaves)]
        for group in alike(cells):
            cell = group.cells[0]
            placed = (*(IntervalSet.of(n) for n in numbers), *cell[Axis.SRC :])
            traffic = Traffic(
                first.family, Direction.THROUGH_DEVICE, (), (), group.sources, group.destinations, group.services,
                chooser.choose(placed), group.cells,
            )  # fmt: skip
            arrives = group.label if isinstance(group.label, IntervalSet) else None
            yield Row(
                first.source,
                first.destination or towards,
                traffic,
                arrives,
                first.stops,
                first.sure,
                first.why,
                first.assumed,
                first.destination is None,
            )


def places_named(reaches: Reaches, name: str | None) -> list[Place]:
    """The places a name stands for: `valley-gw/guests`, a device, a zone, a side or `device` wherever there is one.

    Raises UsageError, with the nearest names, for one there is not.
    """
    if name is None:
        return list(reaches.places)
    found = [
        place
        for place in reaches.places
        if name in (*place.names, *place.devices)
        or any(name in (end.name, end.side) for end in (place.end, *(end for _, end in place.also)))
    ]
    if not found:
        known = [n for place in reaches.places for n in place.names]
        near = difflib.get_close_matches(name, [*known, *(n.rpartition("/")[2] for n in known)], n=3) or known[:6]
        raise UsageError(f"no device has a zone, side or interface '{name}'; there is {', '.join(dict.fromkeys(near))}")
    return found

"""What is said of a device without its rules: what reports list, and what the checks of other devices need to know of it.

An estate of thousands of devices fits into memory as outlines; of devices themselves only those at work are at hand.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence

from msgspec import Struct
from msgspec.structs import replace

from aiguille.analysis.program import says_nothing_of_six
from aiguille.analysis.siblings import Siblings, features, shared_by, siblings_of
from aiguille.analysis.sides import interface_names
from aiguille.analysis.ways import all_ways_known, led_to
from aiguille.model import Device, Estate, Ledger, Setting, Source, Zone
from aiguille.space import IntervalSet

_FAMILIES = (4, 6)


class Outline(Struct, frozen=True):
    """A device without its rules and lines.

    sources, ledger: their counts and sums, without lines and without entries but for problems
    interfaces: the names of its interfaces; lists_interfaces: whether the export lists them, and so all there are
    rules: how many it has
    ways: by family, where its known networks and routes lead, as (first, last); see `ways.led_to`
    whole_ways: the families of which all that is known
    describes: whether it says of some object what it is for
    features: what siblings are compared by
    silent_of_six: whether it says nothing of IPv6
    """

    name: str
    dialect: str
    make: str
    recognised: str
    firmware: Setting[str]
    taken_at: Setting[str]
    sources: tuple[Source, ...]
    ledger: Ledger
    tags: tuple[str, ...]
    interfaces: tuple[str, ...]
    lists_interfaces: bool
    zones: tuple[Zone, ...]
    rules: int
    ways: dict[int, tuple[tuple[int, int], ...]]
    whole_ways: tuple[int, ...]
    describes: bool
    features: dict[str, str]
    silent_of_six: bool


def outline(device: Device) -> Outline:
    """What is said of a device without its rules."""
    return Outline(
        name=device.name,
        dialect=device.dialect,
        make=device.make,
        recognised=device.recognised,
        firmware=device.firmware,
        taken_at=device.taken_at,
        sources=tuple(replace(one, lines=()) for one in device.sources),
        ledger=replace(device.ledger, set_aside=(), unread=()),
        tags=device.tags,
        interfaces=tuple(interface_names(device)),
        lists_interfaces=bool(device.interfaces),
        zones=device.zones,
        rules=sum(1 for base in device.rulebases for _ in base.rules()),
        ways={family: led_to(device, family).spans for family in _FAMILIES},
        whole_ways=tuple(family for family in _FAMILIES if all_ways_known(device, family)),
        describes=any(one.comment for one in device.addresses) or any(one.comment for one in device.services),
        features={what: value for what, (value, _) in features(device).items()},
        silent_of_six=says_nothing_of_six(device),
    )


class Surroundings(Struct, frozen=True):
    """What the checks of a device ask of the others of its estate.

    ways: by family, where the networks and routes of any device lead
    describing: the dialects of which some device says what an object is for
    siblings: the largest group each device belongs to, for those that belong to one of two or more
    """

    ways: dict[int, tuple[tuple[int, int], ...]]
    describing: frozenset[str]
    siblings: dict[str, Siblings]


def outlines(estate: Estate) -> Sequence[Outline]:
    """The outlines of an estate's devices, in order; made once."""
    known: Sequence[Outline] | None = estate.known.get("outlines")
    if known is None:
        known = estate.known["outlines"] = tuple(outline(device) for device in estate.devices)
    return known


def at_hand(estate: Estate) -> Sequence[Device | Outline]:
    """The devices where they are in memory, else their outlines: for what both say of themselves."""
    known: Sequence[Outline] | None = estate.known.get("outlines")
    return estate.devices if known is None else known


def with_only(estate: Estate, names: Collection[str]) -> Estate:
    """The estate with some of its devices, of which no other is looked at."""
    chosen = [at for at, one in enumerate(outlines(estate)) if one.name in names]
    out = replace(estate, devices=tuple(estate.devices[at] for at in chosen))
    out.known["outlines"] = tuple(outlines(estate)[at] for at in chosen)
    return out


def surroundings(estate: Estate) -> Surroundings:
    """What the checks of a device ask of the others of its estate; made once."""
    known: Surroundings | None = estate.known.get("surroundings")
    if known is None:
        known = estate.known["surroundings"] = surroundings_of(outlines(estate))
    return known


def set_outlines(estate: Estate, known: Sequence[Outline]) -> None:
    """Let an estate whose devices are not at hand know what they are."""
    estate.known["outlines"] = known


def set_surroundings(estate: Estate, known: Surroundings) -> None:
    """Let an estate that holds some devices only know what the others are like."""
    estate.known["surroundings"] = known


def surroundings_of(every: Sequence[Outline]) -> Surroundings:
    """What the checks of each of some devices ask of the others."""
    return Surroundings(
        {family: IntervalSet([span for one in every for span in one.ways[family]]).spans for family in _FAMILIES},
        frozenset(one.dialect for one in every if one.describes),
        _siblings(every),
    )


def _siblings(every: Sequence[Outline]) -> dict[str, Siblings]:
    groups: dict[tuple[str, str], list[Outline]] = {}
    for one in every:
        for words in shared_by(one.tags, one.sources):
            groups.setdefault((words, one.dialect), []).append(one)
    made: dict[tuple[str, str], Siblings] = {}
    out: dict[str, Siblings] = {}
    for one in every:
        shared = shared_by(one.tags, one.sources)
        largest = max(shared, key=lambda words: len(groups[words, one.dialect]), default="")
        key = (largest, one.dialect)
        if largest and len(groups[key]) > 1:
            if key not in made:
                made[key] = siblings_of(largest, [(each.name, each.features) for each in groups[key]])
            out[one.name] = made[key]
    return out

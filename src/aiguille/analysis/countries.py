"""Countries as sets of packets: objects and filters of a device, computed from location data."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from functools import lru_cache

from msgspec import Struct
from msgspec.structs import replace

from aiguille.model import (
    Action,
    Addresses,
    AddressObject,
    Base,
    Chain,
    Condition,
    Device,
    Field,
    GeoFilter,
    InterfaceName,
    Locations,
    Log,
    Match,
    Named,
    Qualifier,
    Ranges,
    Rule,
    Rulebase,
    Side,
    Stage,
)
from aiguille.model.countries import claimed_country, country_code
from aiguille.space import IntervalSet
from aiguille.space.fields import LAST_ADDRESS

RULEBASE = "filters by country"
PRIORITY = -50
"""Ahead of filter rules (priority 0), behind what comes before them on purpose."""


class Share(Struct, frozen=True):
    """How much of a country a set holds: addresses, and their share of all the country has."""

    code: str
    addresses: int
    share: float


def located(device: Device, locations: Locations) -> Device:
    """The device with countries resolved to addresses, and its filters by country as rules of their own."""
    if not locations:
        return device
    addresses = tuple(_resolved(one, locations) for one in device.addresses)
    filters = [one for one in device.geo_filters if one.enabled and one.countries]
    return replace(device, addresses=addresses, rulebases=(*device.rulebases, *_rulebases(device, filters, locations)))


def _resolved(one: AddressObject, locations: Locations) -> AddressObject:
    known = {word: code for word in one.countries if (code := country_code(word)) in locations.countries()}
    if not known:
        return one
    members = tuple(operands(locations, known.values()))
    left = tuple(word for word in one.unresolved if word not in known)
    return replace(one, members=(*one.members, *members), unresolved=left)


def operands(
    locations: Locations, codes: Iterable[str | None], families: Iterable[int] = (4, 6)
) -> Iterator[Addresses]:
    """The ranges of some countries as addresses of the model."""
    wanted = [code for code in codes if code]
    for family in families:
        for first, last in locations.of(family, wanted):
            yield Addresses(family, first, last)


def codes_of(one: GeoFilter) -> tuple[str, ...]:
    """The codes of the countries a filter names; words that are no country are left out."""
    return tuple(code for word in one.countries if (code := country_code(word)) is not None)


def blocked(one: GeoFilter, locations: Locations) -> tuple[str, ...]:
    """The countries a filter keeps out, of those the data knows."""
    named = set(codes_of(one))
    return tuple(code for code in locations.countries() if (code not in named if one.allows else code in named))


def country_set(locations: Locations, codes: Iterable[str], family: int) -> IntervalSet:
    """The addresses of some countries."""
    return _set_of(locations, frozenset(codes), family)


@lru_cache(maxsize=16)
def _set_of(locations: Locations, codes: frozenset[str], family: int) -> IntervalSet:
    # Neighbouring ranges of one country are one range already, those of two are not.
    spans = locations.of(family, codes)
    return IntervalSet.canonical(spans) if len(codes) == 1 else IntervalSet(spans)


@lru_cache(maxsize=2)
def _sizes(ranges: Ranges) -> list[int]:
    """How many addresses every country has; the same for all devices of an estate."""
    return ranges.sizes()


@lru_cache(maxsize=256)
def shares(values: IntervalSet, locations: Locations, family: int) -> tuple[Share, ...]:
    """How much of each country is in a set of addresses, the fullest first."""
    ranges = locations.blocks.get(family)
    if not ranges:
        return ()
    sizes = _sizes(ranges)
    # What lets a few countries in touches few of a million ranges, and what keeps a few out leaves few out.
    rest = values.complement(LAST_ADDRESS[family])
    if ranges.touched(values.spans) <= ranges.touched(rest.spans):
        held = ranges.counts(values.spans)
    else:
        held = [size - left for size, left in zip(sizes, ranges.counts(rest.spans), strict=True)]
    counted = zip(ranges.codes, held, sizes, strict=True)
    out = [Share(code, addresses, addresses / size) for code, addresses, size in counted if addresses]
    return tuple(sorted(out, key=lambda one: (-one.share, one.code)))


_BY_COUNTRY = re.compile(r"(?i)(^|[^a-z])(geo|countr|nation|land[-_ ]|blocked[-_ ]?countr)")


def by_country(rule: Rule) -> bool:
    """Whether a rule is about the countries packets come from: by a condition on them, or by an object or set named for them."""
    names = (
        o.name
        for c in rule.match.conditions
        if c.field in (Field.SOURCE, Field.SET)
        for o in c.operands
        if isinstance(o, Named)
    )
    asked = any(q.name == "country" and "destination" not in q.text for q in rule.qualifiers)
    return asked or any(claimed_country(name) is not None or _BY_COUNTRY.search(name) for name in names)


def _rulebases(device: Device, filters: list[GeoFilter], locations: Locations) -> Iterator[Rulebase]:
    if not filters:
        return
    outer = tuple(InterfaceName(n) for z in device.zones if z.side is Side.OUTSIDE for n in z.interfaces)
    families = sorted({family for base in device.rulebases for family in base.families})
    for family in families:
        chains = []
        for stage, inward in ((Stage.PREROUTING, True), (Stage.FORWARD, False), (Stage.OUTPUT, False)):
            wanted = [one for one in filters if (one.inward if inward else one.outward)]
            rules: list[Rule] = []
            for one in wanted:
                for rule in _rules(one, inward, outer, locations, family):
                    rules.append(replace(rule, number=len(rules) + 1))
            if rules:
                name = {Stage.PREROUTING: "countries in", Stage.FORWARD: "countries out"}.get(
                    stage, "countries out, own"
                )
                base = Base(stage, PRIORITY)
                chains.append(Chain(name, tuple(rules), None, base, Action.ACCEPT, policy_is_default=True))
        if chains:
            yield Rulebase(RULEBASE, frozenset({family}), tuple(chains))


def _rules(
    one: GeoFilter, inward: bool, outer: tuple[InterfaceName, ...], locations: Locations, family: int
) -> Iterator[Rule]:
    """What a filter does one way. Where its place or its countries are not known its rules only may match."""
    if one.before_rules.known and not one.before_rules.value:
        # Rules have had their say before it; what they accept it does not see.
        return
    field = Field.SOURCE if inward else Field.DESTINATION
    way = [Condition(Field.IN_INTERFACE if inward else Field.OUT_INTERFACE, outer)] if outer else []
    name = one.name or "countries"
    doubts = [] if one.before_rules.known else ["whether it stands before the rules"]
    # A country without ranges is none to keep out; to let it in alone may be to let nobody in.
    missing = [code for code in codes_of(one) if one.allows and not locations.of(family, [code])]
    doubts += [f"no location data for {', '.join(missing)}"] if missing else []
    doubts += ["words that are no country"] if len(codes_of(one)) < len(one.countries) else []
    qualifiers = tuple(Qualifier("location", text) for text in doubts)
    effects = (Log(),) if one.logged.known and one.logged.value else ()
    if one.exceptions:
        match = Match((*way, Condition(field, one.exceptions)))
        yield Rule(1, one.where, Action.ACCEPT, match, "exception", f"exceptions of {name}", built_in=True)
    ranges = tuple(operands(locations, codes_of(one), (family,)))
    if ranges or one.allows:
        condition = Condition(field, ranges or (Addresses(family, 0, 0),), negated=one.allows)
        yield Rule(
            1,
            one.where,
            Action.DROP,
            Match((*way, condition)),
            "filter by country",
            name,
            one.comment,
            effects=effects,
            qualifiers=qualifiers,
            built_in=True,
            log_unknown=not one.logged.known,
        )

"""Devices that were meant to be alike, and what sets one of them apart."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import combinations

from msgspec import Struct

from aiguille.model import Device, Estate, Source, Span
from aiguille.model.facts import known_facts


class Oddity(Struct, frozen=True):
    """Something all siblings but this one agree on.

    what: in words; theirs, mine: the values, empty for what is not there
    """

    what: str
    theirs: str
    mine: str
    where: Span | None


class Siblings(Struct, frozen=True):
    """Devices of one make that share a tag or an export, two or more, by what they have in common.

    words: what they share: "tagged 'hut'", or "of huts.json"
    likeness: see `likeness`
    values: of each feature, how many have which value
    order: the features of the first of them, and those of the second
    first: the name of the first of them
    """

    words: str
    size: int
    likeness: float
    values: dict[str, dict[str, int]]
    order: tuple[tuple[str, ...], tuple[str, ...]]
    first: str


COMPARED = 200
"""Siblings that are compared with one another at most, to see whether they were set up alike: the first ones."""


def siblings_of(words: str, members: Sequence[tuple[str, Mapping[str, str]]]) -> Siblings:
    """What siblings have in common.

    words: what they share
    members: the name of each, two at least, and its features
    """
    values: dict[str, dict[str, int]] = {}
    for _, mine in members:
        for what, value in mine.items():
            counts = values.setdefault(what, {})
            counts[value] = counts.get(value, 0) + 1
    alike = _better_half([mine for _, mine in members[:COMPARED]])
    order = (tuple(members[0][1]), tuple(members[1][1]))
    return Siblings(words, len(members), alike, values, order, members[0][0])


def oddities(device: Device, siblings: Siblings) -> list[Oddity]:
    """What all the others have in common and this device does not; at least two others are needed to agree."""
    mine = features(device)
    others = siblings.size - 1
    out: list[Oddity] = []
    if others < 2:
        return out
    for what in dict.fromkeys([*siblings.order[device.name == siblings.first], *mine]):
        own, where = mine.get(what, ("", None))
        counts = dict(siblings.values.get(what, {}))
        counts[""] = siblings.size - sum(counts.values()) + counts.get("", 0)
        counts[own] -= 1
        theirs = next(value for value, count in counts.items() if count)
        if counts[theirs] == others and own != theirs:
            out.append(Oddity(what, theirs, own, where))
    return out


def likeness(devices: Sequence[Device]) -> float:
    """How alike devices are, from 0 to 1: the share of named rules two of them have in common, the mean of the better half of
    all pairs, so that one odd device among them does not count.

    A tag alone makes nobody siblings, nor do a make's defaults; where no rule is named, all they say is compared.
    """
    return _better_half([{what: value for what, (value, _) in features(one).items()} for one in devices])


def _better_half(every: Sequence[Mapping[str, str]]) -> float:
    described = []
    for one in every:
        named = {pair for pair in one.items() if pair[0].startswith("rule ")}
        described.append(named or set(one.items()))
    shares = sorted((len(a & b) / len(a | b) for a, b in combinations(described, 2) if a | b), reverse=True)
    better = shares[: (len(shares) + 1) // 2]
    return sum(better) / len(better) if better else 0.0


MEANT_ALIKE = 0.6
"""The share of what they say that siblings have in common at least: a tag such as edge brings together what was never alike."""


def groups_of_sites(estate: Estate) -> Iterator[tuple[Device, ...]]:
    """Devices that were set up alike, in groups: siblings that have most of their named rules, and interfaces, in common."""
    seen: set[str] = set()
    for device in estate.devices:
        group = _largest_group(estate, device)
        if device.name in seen or len(group) < 2 or likeness(group) < MEANT_ALIKE:
            continue
        names = [{one.name for one in member.interfaces} for member in group]
        if any(2 * len(a & b) < len(a | b) for a, b in combinations(names, 2)):
            continue
        seen |= {one.name for one in group}
        yield group


def _largest_group(estate: Estate, device: Device) -> tuple[Device, ...]:
    """The devices of its make that share a tag or an export with a device, itself among them."""
    shared = shared_by(device.tags, device.sources)
    groups = ([d for d in estate.devices if words in shared_by(d.tags, d.sources)] for words in shared)
    return max((tuple(d for d in one if d.dialect == device.dialect) for one in groups), key=len, default=())


def shared_by(tags: Sequence[str], sources: Sequence[Source]) -> list[str]:
    """What a device may share with others, in words: its tags, its export."""
    shared = [f"tagged '{tag}'" for tag in tags]
    return [*shared, f"of {sources[0].path}"] if sources else shared


def most_like(group: Sequence[Device]) -> Device:
    """The one whose settings and named rules the others share most; the first of several."""
    return max(group, key=lambda one: sum(likeness((one, other)) for other in group if other is not one))


def features(device: Device) -> dict[str, tuple[str, Span | None]]:
    """What siblings are compared by: settings, services by interface, defaults, and rules by chain and name."""
    return {what: (value, where) for what, value, where in _features(device)}


def _features(device: Device) -> Iterator[tuple[str, str, Span | None]]:
    for row, setting in known_facts(device):
        if row.compared:
            yield row.compared, str(setting.value), setting.where
    for one in device.interfaces:
        yield f"services on {one.name}", ", ".join(sorted(one.services)) or "none", one.where
    for account in device.administration.accounts:
        yield (
            f"account {account.name}",
            f"{account.role or 'may log in'}{'' if account.enabled else ', disabled'}",
            account.where,
        )
    for filter_ in device.geo_filters:
        countries = ("only " if filter_.allows else "not ") + ", ".join(sorted(filter_.countries))
        yield f"filter by country {filter_.name}".strip(), countries, filter_.where
    for rulebase in device.rulebases:
        for chain in rulebase.chains:
            if chain.policy is not None:
                yield f"default of {chain.name}", chain.policy.value, chain.policy_where
            for rule in chain.rules:
                name = rule.name or rule.comment
                if name and not rule.built_in:
                    state = rule.action.value + ("" if rule.enabled else ", switched off")
                    yield f"rule '{name}' of {chain.name}", state, rule.where

"""Devices that were meant to be alike, and what sets one of them apart."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from itertools import combinations

from msgspec import Struct

from aiguille.model import Device, Estate, Span
from aiguille.model.facts import known_facts


class Oddity(Struct, frozen=True):
    """Something all siblings but this one agree on.

    what: in words; theirs, mine: the values, empty for what is not there
    """

    what: str
    theirs: str
    mine: str
    where: Span | None


def siblings_of(estate: Estate, device: Device) -> tuple[str, tuple[Device, ...]]:
    """The devices of the same make that share a tag with this one, or its export, itself among them; the largest such group.

    The group is given in words: "tagged 'hut'", or "of huts.json".
    """
    best: tuple[str, tuple[Device, ...]] = ("", ())
    groups = [(f"tagged '{tag}'", [d for d in estate.devices if tag in d.tags]) for tag in device.tags]
    if device.sources:
        path = device.sources[0].path
        groups.append((f"of {path}", [d for d in estate.devices if d.sources and d.sources[0].path == path]))
    for words, members in groups:
        alike = tuple(d for d in members if d.dialect == device.dialect)
        if len(alike) > len(best[1]):
            best = (words, alike)
    return best


def oddities(device: Device, siblings: Sequence[Device]) -> list[Oddity]:
    """What all the others have in common and this device does not; at least two others are needed to agree."""
    others = [features(one) for one in siblings if one is not device]
    mine = features(device)
    out: list[Oddity] = []
    if len(others) < 2:
        return out
    for what in dict.fromkeys([*(name for one in others for name in one), *mine]):
        values = Counter(one[what][0] if what in one else "" for one in others)
        ((theirs, count),) = values.most_common(1)
        own = mine.get(what, ("", None))
        if count == len(others) and own[0] != theirs:
            out.append(Oddity(what, theirs, own[0], own[1]))
    return out


def likeness(devices: Sequence[Device]) -> float:
    """How alike devices are, from 0 to 1: the share of named rules two of them have in common, the mean of the better half of
    all pairs, so that one odd device among them does not count.

    A tag alone makes nobody siblings, nor do a make's defaults; where no rule is named, all they say is compared.
    """
    described = []
    for one in devices:
        pairs = {(name, value) for name, (value, _) in features(one).items()}
        described.append({pair for pair in pairs if pair[0].startswith("rule ")} or pairs)
    shares = sorted((len(a & b) / len(a | b) for a, b in combinations(described, 2) if a | b), reverse=True)
    better = shares[: (len(shares) + 1) // 2]
    return sum(better) / len(better) if better else 0.0


MEANT_ALIKE = 0.6
"""The share of what they say that siblings have in common at least: a tag such as edge brings together what was never alike."""


def groups_of_sites(estate: Estate) -> Iterator[tuple[Device, ...]]:
    """Devices that were set up alike, in groups: siblings that have most of their named rules, and interfaces, in common."""
    seen: set[str] = set()
    for device in estate.devices:
        _, group = siblings_of(estate, device)
        if device.name in seen or len(group) < 2 or likeness(group) < MEANT_ALIKE:
            continue
        names = [{one.name for one in member.interfaces} for member in group]
        if any(2 * len(a & b) < len(a | b) for a, b in combinations(names, 2)):
            continue
        seen |= {one.name for one in group}
        yield group


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

"""What was written differently: rules added, removed, moved and changed, objects, settings and accounts of two devices."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator
from enum import StrEnum
from typing import Any

from msgspec import Struct

from aiguille.analysis.alignment import content, in_order
from aiguille.model import Chain, Device, Rule, Rulebase, Setting, Span
from aiguille.model.spelling import spell_operand


class Edit(StrEnum):
    """What became of a thing."""

    ADDED = "added"
    REMOVED = "removed"
    MOVED = "moved"
    CHANGED = "changed"


class RuleEdit(Struct, frozen=True):
    """A rule that was edited; `before` and `after` are None where it is not there."""

    edit: Edit
    rulebase: str
    chain: str
    before: Rule | None
    after: Rule | None


class ThingEdit(Struct, frozen=True):
    """An object, a setting or an account that was edited, with its values in words."""

    edit: Edit
    kind: str
    name: str
    before: str = ""
    after: str = ""
    where: tuple[Span, ...] = ()


def rule_edits(one: Device, other: Device) -> list[RuleEdit]:
    """The rules that differ, chain by chain; one that only has another number is none."""
    out: list[RuleEdit] = []
    first, second = _chains(one), _chains(other)
    for place in dict.fromkeys((*first, *second)):
        name, _, chain = place
        before, after = first.get(place, ()), second.get(place, ())
        out += _in_chain(name, chain, before, after)
    return out


def _chains(device: Device) -> dict[tuple[str, frozenset[int], str], tuple[Rule, ...]]:
    out: dict[tuple[str, frozenset[int], str], tuple[Rule, ...]] = {}
    for base in device.rulebases:
        for chain in base.chains:
            place = (base.name, base.families, str(chain.name))
            rules = _with_default(base, chain)
            out[place] = (*out.get(place, ()), *rules)
    return out


def _with_default(_: Rulebase, chain: Chain) -> tuple[Rule, ...]:
    """A chain's rules, its default as one more."""
    if chain.policy is None or chain.where is None:
        return chain.rules
    return (*chain.rules, Rule(0, chain.policy_where or chain.where, chain.policy, name="default"))


def _in_chain(rulebase: str, chain: str, before: tuple[Rule, ...], after: tuple[Rule, ...]) -> Iterator[RuleEdit]:
    kept = in_order([_content(rule) for rule in before], [_content(rule) for rule in after])
    gone = [rule for at, rule in enumerate(before) if at not in kept]
    came = [rule for at, rule in enumerate(after) if at not in set(kept.values())]
    for rule in list(gone):
        same = next((new for new in came if _content(new) == _content(rule)), None)
        if same is not None:
            gone.remove(rule)
            came.remove(same)
            yield RuleEdit(Edit.MOVED, rulebase, chain, rule, same)
    for rule in list(gone):
        close = max(came, key=lambda new: _likeness(rule, new), default=None)
        if close is not None and _likeness(rule, close) >= _ALIKE:
            gone.remove(rule)
            came.remove(close)
            yield RuleEdit(Edit.CHANGED, rulebase, chain, rule, close)
    yield from (RuleEdit(Edit.REMOVED, rulebase, chain, rule, None) for rule in gone)
    yield from (RuleEdit(Edit.ADDED, rulebase, chain, None, rule) for rule in came)


_ALIKE = 0.5
"""Likeness from which two rules are one that was changed."""


def _content(rule: Rule) -> Hashable:
    return (content(rule), rule.name == "default" and rule.number == 0)


def _likeness(one: Rule, other: Rule) -> float:
    if (one.number == 0) != (other.number == 0):
        return 0.0
    if one.number == 0:
        return 1.0  # the default of a chain
    if one.comment and one.comment == other.comment:
        return 0.9
    mine, theirs = set(one.match.conditions), set(other.match.conditions)
    if mine == theirs:
        return 0.9
    shared = len(mine & theirs) / max(len(mine | theirs), 1)
    fields = {c.field for c in mine} & {c.field for c in theirs}
    all_fields = {c.field for c in mine} | {c.field for c in theirs}
    return (shared + len(fields) / max(len(all_fields), 1)) / 2 if one.action is other.action else shared / 2


def thing_edits(one: Device, other: Device) -> list[ThingEdit]:
    """Objects, sets, accounts and settings that differ."""
    out: list[ThingEdit] = []
    for kind, of in _THINGS.items():
        out += _named(kind, of(one), of(other))
    mine, theirs = _settings(one), _settings(other)
    for name in dict.fromkeys((*mine, *theirs)):
        before, after = mine.get(name), theirs.get(name)
        values = [_value(setting) for setting in (before, after)]
        if values[0] != values[1]:
            where = tuple(s.where for s in (before, after) if s is not None and s.where is not None)
            out.append(ThingEdit(Edit.CHANGED, "setting", name, values[0], values[1], where))
    return out


Things = dict[str, tuple[str, Span | None]]


def _named(kind: str, before: Things, after: Things) -> Iterator[ThingEdit]:
    for name in dict.fromkeys((*before, *after)):
        old, new = before.get(name), after.get(name)
        where = tuple(found[1] for found in (old, new) if found is not None and found[1] is not None)
        if old is None and new is not None:
            yield ThingEdit(Edit.ADDED, kind, name, after=new[0], where=where)
        elif new is None and old is not None:
            yield ThingEdit(Edit.REMOVED, kind, name, before=old[0], where=where)
        elif old is not None and new is not None and old[0] != new[0]:
            yield ThingEdit(Edit.CHANGED, kind, name, old[0], new[0], where)


def _objects(device: Device) -> Things:
    return {
        one.name: (
            ", ".join(
                [
                    *(spell_operand(m) for m in one.members),
                    *(f"not {spell_operand(m)}" for m in one.excluded),
                    *one.unresolved,
                ]
            ),
            one.where,
        )
        for one in device.addresses
    }


def _services(device: Device) -> Things:
    return {one.name: (", ".join(spell_operand(m) for m in one.members), one.where) for one in device.services}


def _sets(device: Device) -> Things:
    return {
        one.name: ("; ".join(" . ".join(spell_operand(v) for v in entry.values) for entry in one.entries), one.where)
        for one in device.sets
    }


def _accounts(device: Device) -> Things:
    out: Things = {}
    for one in device.administration.accounts:
        sources = (
            ", ".join(spell_operand(s) for s in one.sources.value)
            if one.sources.known and one.sources.value
            else "any source"
        )
        out[one.name] = (
            f"{one.role or 'no role stated'}, from {sources}{'' if one.enabled else ', switched off'}",
            one.where,
        )
    return out


def _ways_in(device: Device) -> Things:
    return {
        one.name: (", ".join(spell_operand(term) for term in one.terms) if one.enabled else "switched off", one.where)
        for one in device.administration.services
    }


def _zones(device: Device) -> Things:
    return {one.name: (", ".join(one.interfaces), one.where) for one in device.zones}


_THINGS: dict[str, Callable[[Device], Things]] = {
    "address object": _objects,
    "service object": _services,
    "set": _sets,
    "account": _accounts,
    "way of managing": _ways_in,
    "zone": _zones,
}


def _settings(device: Device) -> dict[str, Setting[Any]]:
    out: dict[str, Setting[Any]] = {}
    for prefix, part in (("", device), ("", device.administration), ("logging ", device.logging)):
        for name in part.__struct_fields__:
            value = getattr(part, name)
            if isinstance(value, Setting) and name not in ("taken_at", "counters_since"):
                out[f"{prefix}{name.replace('_', ' ')}"] = value
    out.update((fact.name, fact.setting) for fact in device.system)
    return out


def _value(setting: Setting[Any] | None) -> str:
    if setting is None or not setting.known:
        return "not stated"
    value = setting.value
    if isinstance(value, tuple):
        return ", ".join(map(str, value)) or "none"
    return str(value)

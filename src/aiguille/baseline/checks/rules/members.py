"""What rules say they are for, against the groups there are: one member where all of them were meant."""

from __future__ import annotations

import re
from collections.abc import Iterator

from msgspec import Struct

from aiguille.baseline.catalogue import (
    Answer,
    Check,
    Found,
    NotApplicable,
    Passed,
    Severity,
    Subject,
    check,
    refer,
    rule_subject,
    speak,
)
from aiguille.baseline.wording import capital, counted
from aiguille.model import Action, Addresses, Condition, Field, Named, NameKind, Rule
from aiguille.space import IntervalSet

_WORDS = re.compile(r"[a-z0-9]+")
_DECIDING = (Action.ACCEPT, Action.DROP, Action.REJECT)
_GENERAL = frozenset(
    [
        "addresses",
        "all",
        "any",
        "clients",
        "group",
        "groups",
        "hosts",
        "inside",
        "list",
        "local",
        "nets",
        "networks",
        "outside",
        "servers",
        "users",
    ]
)
"""Names a description may hold without meaning the group of that name."""


class _Group(Struct, frozen=True):
    """A group, the words of its name, and its addresses by family."""

    name: str
    words: tuple[str, ...]
    holds: dict[int, IntervalSet]


@check(
    id="rules.one-of-group",
    title="A rule that speaks of a group holds one of its members",
    severity=Severity.LOW,
    controls=("CM-3", "CM-6"),
    why="Where the member was picked in place of the group, the others go without what everybody thinks they have.",
    how="A rule whose name or description holds the name of a group, that does not use the group, and whose sources or destinations "
    "are some of the group's members.",
    fix="Ask whether the group was meant, and use it; else say in the description which member it is about.",
)
def one_of_group(subject: Subject) -> Iterator[Answer]:
    groups = _groups(subject)
    if not groups:
        yield NotApplicable("the export defines no group of addresses whose name a description could hold")
        return
    looked, found = 0, False
    for base in subject.device.rulebases:
        for chain, rule in base.rules():
            if not rule.enabled or rule.action not in _DECIDING or rule.shipped or rule.implied or rule.built_in:
                continue
            said = tuple(_WORDS.findall(f"{rule.name} {rule.comment}".lower()))
            for group in groups:
                if not _holds(said, group.words):
                    continue
                looked += 1
                if not _uses(rule, group.name) and (held := _part_of(subject, rule, group)):
                    found = True
                    yield Found(
                        f"{capital(speak(chain, rule))} speaks of '{group.name}' and holds {held} of its "
                        f"{counted(_size(group), 'address', 'addresses')}.",
                        f"{rule_subject(chain, rule)} {group.name}",
                        (rule.where,),
                        rules=(refer(base, chain, rule),),
                    )
    if not looked:
        yield NotApplicable("no rule's name or description holds the name of a group")
    elif not found:
        yield Passed(
            f"{counted(looked, 'description')} that hold the name of a group stand with rules that use it, or with others"
        )


def _groups(subject: Subject) -> list[_Group]:
    """Objects and sets of several addresses under a name that says something."""
    device = subject.device
    resolvers = {family: subject.programs.resolver(family) for family in (4, 6)}
    named = [
        (one.name, {f: r.exactly(one.name) for f, r in resolvers.items()})
        for one in device.addresses
        if len(one.members) > 1
    ]
    for one in device.sets:
        values = [entry.values[0] for entry in one.entries if len(entry.values) == 1 and not entry.excluded]
        if one.complete and len(values) > 1 and all(isinstance(value, Addresses) for value in values):
            named.append((one.name, {f: r.addresses(v for v in values if v.family == f) for f, r in resolvers.items()}))  # type: ignore[union-attr]
    out = []
    for name, described in named:
        words = tuple(_WORDS.findall(name.lower()))
        holds = {family: held for family, held in described.items() if held is not None and held}
        if holds and len("".join(words)) > 3 and not _GENERAL.issuperset(words):
            out.append(_Group(name, words, holds))
    return out


def _size(group: _Group) -> int:
    return sum(held.size for held in group.holds.values())


def _holds(said: tuple[str, ...], words: tuple[str, ...]) -> bool:
    """Whether words follow one another in a text."""
    return any(said[at : at + len(words)] == words for at in range(len(said) - len(words) + 1))


def _uses(rule: Rule, name: str) -> bool:
    return any(isinstance(o, Named) and o.name == name for c in rule.match.conditions for o in c.operands)


def _part_of(subject: Subject, rule: Rule, group: _Group) -> str:
    """How many addresses of a group the sources or destinations of a rule are, in words; empty where they are all, or others."""
    for one in rule.match.conditions:
        if one.field in (Field.SOURCE, Field.DESTINATION) and not one.negated:
            for family, whole in group.holds.items():
                held = _addresses(subject, one, family)
                if held and held.issubset(whole) and held.size < whole.size:
                    return str(held.size)
    return ""


def _addresses(subject: Subject, condition: Condition, family: int) -> IntervalSet | None:
    """What a condition holds, None where not all of it is known."""
    resolver = subject.programs.resolver(family)
    for one in condition.operands:
        if isinstance(one, Named) and one.kind is NameKind.ADDRESS:
            known = resolver.exactly(one.name) is not None
        else:
            known = isinstance(one, Addresses)
        if not known:
            return None
    return resolver.addresses(condition.operands)


CHECKS: tuple[Check, ...] = (one_of_group,)

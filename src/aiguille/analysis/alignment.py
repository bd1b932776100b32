"""Which entries of two lists are the same ones, in the same order: what is left over was added, removed or moved.

And what makes two rules the same one, written twice.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Hashable, Sequence

from aiguille.model import Log, Rule, Rulebase


def in_order(one: Sequence[Hashable], other: Sequence[Hashable]) -> dict[int, int]:
    """Places of equal entries in one order on both sides, as many as there are where each entry occurs once (the longest
    ascending run of places; Hunt and Szymanski, Communications of the ACM 20(5), 1977)."""
    where: dict[Hashable, list[int]] = {}
    for number, key in enumerate(other):
        where.setdefault(key, []).append(number)
    seen: dict[Hashable, int] = {}
    pairs = []
    for number, key in enumerate(one):
        at = seen.get(key, 0)
        seen[key] = at + 1
        if at < len(where.get(key, ())):
            pairs.append((number, where[key][at]))
    tails: list[int] = []
    ends: list[int] = []
    previous: list[int] = []
    for index, (_, place) in enumerate(pairs):
        at = bisect_left(tails, place)
        previous.append(ends[at - 1] if at else -1)
        if at == len(tails):
            tails.append(place)
            ends.append(index)
        else:
            tails[at], ends[at] = place, index
    out: dict[int, int] = {}
    index = ends[-1] if ends else -1
    while index >= 0:
        out[pairs[index][0]] = pairs[index][1]
        index = previous[index]
    return out


def content(rule: Rule) -> Hashable:
    """What a rule says, in whatever order; its place, number, counters and remarks are left aside."""
    return (*_body(rule), rule.reply, rule.effects, frozenset(rule.qualifiers), rule.enabled)


def shape(rule: Rule) -> Hashable:
    """As `content`, for rules out of different sources: how they spell a limit, a log's prefix or a reject's answer is left aside."""
    effects = tuple("log" if isinstance(one, Log) else one for one in rule.effects)
    return (*_body(rule), effects, frozenset(one.name for one in rule.qualifiers))


def _body(rule: Rule) -> tuple[Hashable, ...]:
    conditions = frozenset((one.field, frozenset(one.operands), one.negated) for one in rule.match.conditions)
    return rule.action, rule.target, conditions, frozenset(rule.marks)


def written_alike(one: Sequence[Rulebase], other: Sequence[Rulebase]) -> bool:
    """Whether two rule sets say the same, rule for rule, wherever their rule bases and chains stand in the list."""
    return _lists(one) == _lists(other)


def _lists(bases: Sequence[Rulebase]) -> dict[Hashable, Hashable]:
    return {
        (base.name, base.families, chain.name): (
            chain.base, chain.policy, chain.policy_log_unknown, chain.policy_logs,
            tuple((content(rule), rule.schedule, rule.log_unknown, rule.implied) for rule in chain.rules),
        )
        for base in bases
        for chain in base.chains
    }  # fmt: skip

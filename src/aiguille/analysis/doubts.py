"""What conditions that a packet does not settle are worth: whether they keep anybody away for good.

A rate lets everybody through now and then, hours let everybody in at their time; a list of the blocked that is not known keeps few
away. A hardware address, a mark or a knock may keep everybody away but one.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from enum import IntEnum

from aiguille.analysis.marks import passes_unmarked
from aiguille.analysis.resolve import SENT, Piece, Resolver
from aiguille.analysis.usual import is_avoided, is_met
from aiguille.model import Action, Condition, DestinationType, Field, Named, Numbers, Qualifier, Rule, Rulebase

RATES = frozenset({"rate limit", "recently seen addresses", "number of connections", "random share"})
"""Qualifiers that thin traffic out without keeping any source away for good."""

GENUINE = frozenset({"reverse path"})
"""Qualifiers that only keep away packets whose source is forged."""

HOURS = "time of day"

_NOBODY = frozenset({DestinationType.BROADCAST.number, DestinationType.MULTICAST.number, DestinationType.OTHER.number})


class Doubt(IntEnum):
    """How much a condition keeps away: nobody for good, nobody at its hours, or perhaps everybody."""

    NONE = 0
    HOURS = 1
    BARS = 2


def doubt_of(
    rulebase: Rulebase, rule: Rule | None, pieces: Sequence[Piece], resolver: Resolver, *, marked: bool, guessed: bool
) -> Doubt:
    """What the conditions of a step are worth that the packet does not settle.

    pieces: what it matches; marked: whether anything on the device marks packets
    guessed: whether a rule that was not understood may leave packets untracked
    """
    if all(piece.sure for piece in pieces):
        return Doubt.NONE
    if rule is None:
        return Doubt.BARS
    does = what_it_does(rulebase, rule)
    meant = passes_unmarked(rule.marks)
    # Whoever sends what another rule marks gets the mark, as a forward is taken by whoever sends there.
    given = does is Action.ACCEPT and not meant and resolver.marked(rule.marks) is not None
    if rule.marks and not given and (marked or does is Action.JUMP or (does is Action.ACCEPT) is not meant):
        return Doubt.BARS
    if guessed and any(one.field is Field.STATE for one in rule.match.conditions):
        return Doubt.BARS
    if any(not piece.sure for piece in resolver.match(rule.match)) and not _keeps_few_away(rule, does, resolver):
        return Doubt.BARS
    return max((_worth(one, rule, does) for one in rule.qualifiers), default=Doubt.NONE)


def what_it_does(rulebase: Rulebase, rule: Rule) -> Action:
    """What a rule does with packets, a jump what alone its chain and those that calls do: accept, drop, or either (jump)."""
    if rule.action not in (Action.JUMP, Action.GOTO):
        return Action.DROP if rule.action.refuses else rule.action
    found: set[Action] = set()
    seen: set[str] = set()
    waiting = [rule.target]
    while waiting:
        name = waiting.pop()
        chain = rulebase.chain(name) if name is not None and name not in seen else None
        if chain is None:
            continue
        seen.add(chain.name)
        for one in chain.rules:
            found.add(Action.DROP if one.action.refuses else one.action)
            waiting.append(one.target)
    if Action.UNKNOWN in found or found >= {Action.ACCEPT, Action.DROP}:
        return Action.JUMP
    return Action.ACCEPT if Action.ACCEPT in found else Action.DROP


def _worth(one: Qualifier, rule: Rule, does: Action) -> Doubt:
    if one.name == "recently seen addresses":
        # Refusing those who come often thins out; accepting those who came before is a knock, unless it is said the other way round.
        thins = does is Action.DROP or "--set" in one.text or "!" in one.text
        return Doubt.NONE if thins or (does is Action.JUMP and "hitcount" in one.text) else Doubt.BARS
    if one.name in RATES | GENUINE:
        return Doubt.NONE
    if (does is Action.DROP and is_avoided(one, rule)) or (does is Action.ACCEPT and is_met(one)):
        return Doubt.NONE
    if one.name == HOURS:
        return Doubt.HOURS if "date" not in one.text else Doubt.BARS
    if one.name == "address type":
        return Doubt.NONE if does is not Action.ACCEPT else Doubt.BARS
    return Doubt.BARS


def _keeps_few_away(rule: Rule, does: Action, resolver: Resolver) -> bool:
    """Whether each condition that is not settled looks for odd addresses, for a list of the blocked, or accepts what a forward
    sends on: whoever sends there takes it."""
    open_ones = [c for c in rule.match.conditions if resolver.condition(c).maybe]
    return bool(open_ones) and all(
        _is_odd(one, does) or lists_in([one], does) or (one.field in SENT and not one.negated and does is Action.ACCEPT)
        for one in open_ones
    )


def _is_odd(one: Condition, does: Action) -> bool:
    kinds = {n for o in one.operands if isinstance(o, Numbers) for n in range(o.first, o.last + 1)}
    if does is Action.ACCEPT:
        return one.field is Field.SOURCE_TYPE and (DestinationType.UNICAST.number in kinds) is not one.negated
    return one.field is Field.SOURCE_TYPE and kinds <= _NOBODY and not one.negated


def lists_in(conditions: Iterable[Condition], does: Action) -> list[str]:
    """The lists of sources that conditions of a refusal look into, or of an accept that leaves them out."""
    out: list[str] = []
    if does not in (Action.ACCEPT, Action.DROP):
        return out
    for one in conditions:
        named = [operand for operand in one.operands if isinstance(operand, Named)]
        by_source = one.field is Field.SOURCE or (
            one.field is Field.SET and all(n.roles[:1] in (("src",), ("source",)) for n in named)
        )
        if by_source and one.negated is (does is Action.ACCEPT) and named and len(named) == len(one.operands):
            out += [operand.name for operand in named]
    return out

"""What rules do to packets beside letting them through: where they send them instead, and which they record.

Two rule sets may let the same packets through and yet differ there. What a rule takes is looked at through the chains that lead to
it, without what these return surely; that a rule before it may have decided on something counts on neither side.
"""

from __future__ import annotations

from collections.abc import Iterator
from enum import StrEnum

from msgspec import Struct

from aiguille.analysis.compare import in_one_space
from aiguille.analysis.program import Programs
from aiguille.analysis.resolve import Resolver
from aiguille.model import Action, Chain, Device, Log, Rule, Rulebase, Translate, TranslationKind
from aiguille.model.identity import Same
from aiguille.space import EVERYTHING, Box, overlap, subtract
from aiguille.space.effort import spend

_DEEP = 16


class Does(StrEnum):
    """What is done, in the order in which it matters."""

    SENDS = "sends packets elsewhere"
    HIDES = "hides where packets come from"
    RECORDS = "records packets"


class Apart(Struct, frozen=True):
    """A rule that does something to packets to which the other rule set does not do it; `first`: it is one of the first set."""

    does: Does
    chain: Chain
    rule: Rule
    first: bool


class _Done(Struct, frozen=True):
    does: Does
    effect: Translate | None
    chain: Chain
    rule: Rule
    box: Box


def effects_apart(one: Device, other: Device) -> list[Apart]:
    """The rules of either device that do what the other's do not, the gravest first; each rule once.

    Families that only one of them has rules for are not compared. Raises TooComplexError where that takes too many steps.
    """
    first, second = in_one_space(one, other)
    out: dict[tuple[bool, Same], Apart] = {}
    for family in (4, 6):
        mine, theirs = _all_done(first, family), _all_done(second, family)
        if mine is None or theirs is None:
            continue
        tops = first.resolver(family).space.tops
        for is_first, some, others in ((True, mine, theirs), (False, theirs, mine)):
            for done in some:
                if not _is_covered(done, others, tops):
                    out.setdefault((is_first, Same(done.rule)), Apart(done.does, done.chain, done.rule, is_first))
    return sorted(out.values(), key=lambda apart: list(Does).index(apart.does))


def _is_covered(done: _Done, others: list[_Done], tops: tuple[int, ...]) -> bool:
    left = [done.box]
    for other in others:
        if (other.does, other.effect) == (done.does, done.effect):
            spend(len(left))
            left = [piece for part in left for piece in subtract(part, other.box, tops)]
            if not left:
                return True
    return False


def _all_done(programs: Programs, family: int) -> list[_Done] | None:
    """Everything rules do of a family; None if there are none for it."""
    bases = [base for base in programs.device.rulebases if family in base.families]
    if not bases:
        return None
    resolver = programs.resolver(family)
    return [
        done
        for base in bases
        for chain in base.chains
        if chain.base is not None
        for done in _within(base, chain, EVERYTHING, resolver, ())
    ]


def _within(base: Rulebase, chain: Chain, box: Box, resolver: Resolver, around: tuple[str, ...]) -> Iterator[_Done]:
    if chain.name in around or len(around) > _DEEP:
        return
    left = [box]
    for rule in chain.rules:
        pieces = resolver.rule(rule)
        parts = [part for one in left for piece in pieces if (part := overlap(one, piece.box)) is not None]
        spend(len(parts) + 1)
        for effect in rule.effects:
            if isinstance(effect, Log):
                yield from (_Done(Does.RECORDS, None, chain, rule, part) for part in parts)
            elif isinstance(effect, Translate):
                does = Does.HIDES if effect.kind is TranslationKind.SOURCE else Does.SENDS
                yield from (_Done(does, effect, chain, rule, part) for part in parts)
        if rule.action is Action.RETURN:
            for piece in pieces:
                if piece.sure:
                    left = [part for one in left for part in subtract(one, piece.box, resolver.space.tops)]
            spend(len(left))
        target = base.chain(rule.target) if rule.target is not None else None
        if target is not None:
            for part in parts:
                yield from _within(base, target, part, resolver, (*around, chain.name))

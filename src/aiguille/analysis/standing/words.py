"""The words and bounds of standings."""

from __future__ import annotations

from enum import StrEnum
from math import log2

from msgspec import Struct

from aiguille.analysis.program import Kind, Step
from aiguille.model import Action, Chain, Rule, Rulebase, State
from aiguille.model.rules import Effect
from aiguille.packets import Packet
from aiguille.space import COUNTED, Axis, IntervalSet, box

OPENNESS_NODES = 300
"""Nodes spent on counting one rule's packets before bounds are given instead."""

OPENNESS_ROWS = 60
"""Rows above a rule beyond which bounds are given without trying to count."""

MANY = 12
"""Rows above a rule from which on cheap answers are tried before it is cut along them."""

CLOSE_ENOUGH = 1.05
"""Where many rows overlap, bounds this close to one another are not worth counting."""

EXPLAIN_NODES = 20_000
"""Nodes spent on finding the shortest explanation before any irreducible one is given."""

PARALLEL_STEPS = 2_000
"""Steps of a program from which on sharing it among processes pays."""

BECAUSE_LIMIT = 20
"""Rules named as reasons; more would explain nothing."""

NEW = box([(Axis.STATE, IntervalSet.of(State.NEW.number))])
UNCOUNTED = tuple(axis for axis in Axis if axis not in COUNTED)


class Standing(StrEnum):
    """What a rule is worth where it stands; in the order in which they are tried."""

    OFF = "off"
    IMPOSSIBLE = "impossible"
    SHADOWED = "shadowed"
    REDUNDANT = "redundant"
    CONTRADICTED = "contradicted"
    PARTLY_HIDDEN = "partly hidden"
    LIVE = "live"


class Openness(Struct, frozen=True):
    """How many packets a rule really decides, counted over source, destination, protocol, ports and message types.

    low, high: equal where the count is exact
    """

    low: int
    high: int

    def __add__(self, other: Openness) -> Openness:
        return Openness(self.low + other.low, self.high + other.high)

    @property
    def exact(self) -> bool:
        return self.low == self.high

    @property
    def bits(self) -> float | None:
        """The upper bound as a power of two; None for no packet at all."""
        return log2(self.high) if self.high else None

    @property
    def low_bits(self) -> float | None:
        return log2(self.low) if self.low else None


NOTHING = Openness(0, 0)

Place = tuple[Rulebase, Chain, Rule | None]
"""A rule, or with None the policy of a chain."""


class StandingReport(Struct, frozen=True):
    """One rule with what was found of it.

    because: the rules that make it so; for hidden rules a smallest set that covers it (`shortest` if that is proven)
    why: what cannot be said by naming rules
    witness: a packet that reaches the rule, as its chain sees it; None if there is none
    settled: False where the rules are too entangled to tell, and `live` says no more than that the rule may be
    jumps: for each of `because`, the jump that chose it: the first that somebody wrote on its way and that does not lead to the rule
        as well; None if there is none
    """

    rulebase: Rulebase
    chain: Chain
    rule: Rule
    standing: Standing
    because: tuple[Place, ...] = ()
    why: str = ""
    witness: Packet | None = None
    openness: Openness = NOTHING
    shortest: bool = True
    settled: bool = True
    jumps: tuple[Place | None, ...] = ()

    @property
    def unreached(self) -> bool:
        """Whether no packet gets to the rule, since those above it take all that it matches."""
        hidden = self.standing in (Standing.SHADOWED, Standing.REDUNDANT)
        return hidden and self.settled and self.witness is None


class Judged(Struct):
    """One step judged by itself."""

    step: int
    standing: Standing
    because: tuple[int, ...] = ()
    witness: Packet | None = None
    openness: Openness = NOTHING
    shortest: bool = True
    settled: bool = True


class Fate(Struct, frozen=True):
    """What a step that decides does with a packet: two steps with equal fates are interchangeable."""

    action: Action
    effects: tuple[Effect, ...] = ()


_PLAIN = {action: Fate(action) for action in Action}
ACCEPTED, RETURNED = _PLAIN[Action.ACCEPT], _PLAIN[Action.RETURN]


def fate(step: Step) -> Fate:
    """What a deciding step does with a packet."""
    if step.kind is Kind.SKIP:
        return ACCEPTED if step.settles else RETURNED
    if step.rule is not None and step.rule.effects and step.chain.base is not None and step.chain.base.kind == "nat":
        return Fate(step.action, step.rule.effects)
    return ACCEPTED if step.kind is Kind.ACCEPT else _PLAIN[step.action]


def opposite(one: Step, other: Step) -> bool:
    """Whether one accepts what the other refuses."""
    return {one.kind, other.kind} in ({Kind.ACCEPT, Kind.REFUSE}, {Kind.SKIP, Kind.REFUSE}) and (
        (one.kind is not Kind.SKIP or one.settles) and (other.kind is not Kind.SKIP or other.settles)
    )

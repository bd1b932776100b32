"""Steps that keep somebody away, and whom: the members of a list nobody knows, or packets with a forged source."""

from __future__ import annotations

from aiguille.analysis.doubts import GENUINE, lists_in, what_it_does
from aiguille.analysis.program import Program, Step
from aiguille.space import Axis, IntervalSet


def blocked_lists(step: Step) -> tuple[str, ...]:
    """The lists of sources that a step keeps away and the export does not state.

    Whoever is on no such list gets past it, whatever else the rule asks for: a list of the blocked keeps strangers away as little
    as a rate does.
    """
    rule = step.rule
    if rule is None or any(piece.sure for piece in step.pieces):
        return ()
    return tuple(lists_in(rule.match.conditions, what_it_does(step.rulebase, rule)))


def drops_forged(program: Program, interfaces: IntervalSet) -> Step | None:
    """The step that drops whatever comes by some interfaces and not by the one that leads back to its source (RFC 3704)."""
    for step in program.steps:
        rule = step.rule
        if rule is None or step.kind != "refuse" or {one.name for one in rule.qualifiers} != GENUINE:
            continue
        for piece in step.pieces:
            into = piece.box[Axis.IN]
            free = all(piece.box[axis] is None for axis in Axis if axis is not Axis.IN)
            if free and (into is None or interfaces.issubset(into)):
                return step
    return None

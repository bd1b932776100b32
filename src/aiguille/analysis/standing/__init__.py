"""What each rule is worth where it stands.

First match decides, so a rule sees only what the rules above leave over. For each rule the rows that overlap it are found at once
(`BoxIndex`); only then is a packet looked for that reaches it, by cutting the rule along those rows (`Slices`). Definitions, for
the packets that can go the program's way:

* *off*: the export says that the rule is switched off.
* *impossible*: its own conditions exclude one another, or nothing ever calls its chain.
* *shadowed*: rules above surely take every packet it matches or may match, one of them with another outcome.
* *redundant*: without it every packet would have the same verdict, be it for the rules above or for those below and the default.
* *contradicted*: packets it matches are also matched by a rule above, of its own rule base, with the opposite outcome.
* *partly hidden*: some of its packets are surely taken above in its rule base, all with the same outcome.
* *live*: none of these.

The first that applies is given. Contradicted and partly hidden are judged on packets that open connections wherever a rule takes any:
below the usual rules for established and invalid packets every other rule would be both, which tells nobody anything.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from aiguille.analysis.program import Program, Programs, Step
from aiguille.analysis.sharing import share
from aiguille.analysis.standing.judge import Judge
from aiguille.analysis.standing.words import (
    BECAUSE_LIMIT,
    NOTHING,
    PARALLEL_STEPS,
    Judged,
    Openness,
    Place,
    Standing,
    StandingReport,
)
from aiguille.model import Chain, Rule, Rulebase
from aiguille.model.identity import Same
from aiguille.space import Axis
from aiguille.space.effort import ENTANGLED

RULE_EFFORT, PROGRAM_EFFORT = 500, 1_000_000
"""Steps of work that judging one rule may take at the least, and all rules of a program about; see `space.effort`."""


def standings(programs: Programs, jobs: int = 1) -> tuple[StandingReport, ...]:
    """Every rule of a device in the order of its export, each judged over all places it is called from.

    jobs: processes to share long programs among, where the system can fork; the result does not depend on it
    """
    return tuple(_reports(programs, jobs, Judge.step))


def hidden_rules(programs: Programs, jobs: int = 1) -> tuple[StandingReport, ...]:
    """The rules that no packet reaches, or of which that cannot be told, as `standings` reports them and in its order; also those that
    are switched off. Nothing is found out of the others, which takes less than half as long."""
    found = _reports(programs, jobs, Judge.hidden)
    return tuple(one for one in found if one.standing is not Standing.LIVE or not one.settled)


def _reports(programs: Programs, jobs: int, ask: Ask) -> Iterator[StandingReport]:
    judged: dict[Same, list[tuple[Program, Judged]]] = {}
    for program in programs.everything():
        for one in _judge_all(Judge(program), ask, jobs):
            rule = program.steps[one.step].rule
            if rule is not None:
                judged.setdefault(Same(rule), []).append((program, one))
    for rulebase in programs.device.rulebases:
        for chain, rule in rulebase.rules():
            yield _report(programs, rulebase, chain, rule, judged.get(Same(rule), ()))


Ask = Callable[[Judge, int], Judged]
"""What is asked of a step: `Judge.step` or `Judge.hidden`."""


def hidden_steps(program: Program) -> list[int]:
    """Indexes of the steps with a rule that no packet can reach, whatever else there is to say of them."""
    judge = Judge(program)
    return [
        number for number, step in enumerate(program.steps) if step.rule is not None and not judge.reachable(number)
    ]


def _judge_all(judge: Judge, ask: Ask, jobs: int) -> list[Judged]:
    """All steps judged, in order: those that are easy first, then the others with what all of them leave of the effort."""
    numbers = judge.judged()
    each = max(RULE_EFFORT, PROGRAM_EFFORT // max(len(numbers), 1))
    out = {one.step: one for one in _judge_some(judge, ask, numbers, each, jobs)}
    left = [number for number in numbers if not out[number].settled]
    more = PROGRAM_EFFORT // max(len(left), 1)
    if left and more > each:
        out.update((one.step, one) for one in _judge_some(judge, ask, left, more, jobs))
    return [out[number] for number in numbers]


def _judge_some(judge: Judge, ask: Ask, numbers: Sequence[int], effort: int, jobs: int) -> list[Judged]:
    """Steps judged, each within an effort of its own. Long programs are split in pieces that forked processes take in turn."""
    count = len(numbers)
    if jobs < 2 or count < PARALLEL_STEPS:
        return [judge.within(effort, number, ask) for number in numbers]
    size = -(-count // (4 * jobs))
    pieces = [numbers[start : start + size] for start in range(0, count, size)]
    rows = judge.program.rows
    here, out = os.getpid(), []

    def work(piece: Sequence[int]) -> tuple[list[Judged], Any]:
        found = [judge.within(effort, number, ask) for number in piece]
        within = rows.first[piece[0]], rows.first[piece[-1] + 1]
        # Whoever asks for the hidden ones asks for nothing else.
        return found, rows.index.known(*within) if os.getpid() != here and ask is Judge.step else None

    for found, known in share(work, pieces, jobs):
        out += found
        if known is not None:
            rows.index.learn(known)
    return out


def _report(
    programs: Programs, rulebase: Rulebase, chain: Chain, rule: Rule, judged: Sequence[tuple[Program, Judged]]
) -> StandingReport:
    """Join what was found at each place a rule is called from: it is as good as it is at its best place."""
    if not rule.enabled:
        return StandingReport(rulebase, chain, rule, Standing.OFF, why="the export says that it is switched off")
    if not judged:
        why = "no rule calls its chain" if chain.base is None else "nothing passes its chain"
        return StandingReport(rulebase, chain, rule, Standing.IMPOSSIBLE, why=why)
    order = tuple(Standing)
    program, best = max(judged, key=lambda item: (order.index(item[1].standing), item[1].witness is not None))
    openness = sum((one.openness for _, one in judged), NOTHING)
    places: dict[tuple[Same, Same], tuple[Place, Place | None]] = {}
    for where, one in judged:
        if one.standing is best.standing:
            for number in one.because:
                step = where.steps[number]
                jump = _jump_to(step, where.steps[one.step])
                places.setdefault((Same(step.chain), Same(step.rule)), ((step.rulebase, step.chain, step.rule), jump))
    why = ""
    if best.standing is Standing.IMPOSSIBLE:
        why = _why_impossible(programs, rule, program, program.steps[best.step])
    shown = list(places.values())[:BECAUSE_LIMIT]
    settled = best.settled or best.witness is not None
    if not settled:
        why = f"cannot tell: {ENTANGLED}"
    because, jumps = (tuple(each) for each in zip(*shown, strict=True)) if shown else ((), ())
    return StandingReport(
        rulebase, chain, rule, best.standing, because, why, best.witness, openness, best.shortest, settled, jumps
    )


def _jump_to(step: Step, judged: Step) -> Place | None:
    """The first jump somebody wrote by which a step is entered and another is not; chains that a program makes of a line have jumps of
    its own between them."""
    way = {Same(rule) for _, rule in judged.via}
    own = ((c, r) for c, r in step.via if not (r.built_in or r.implied or r.shipped or r.made))
    return next(((step.rulebase, chain, rule) for chain, rule in own if Same(rule) not in way), None)


def _why_impossible(programs: Programs, rule: Rule, program: Program, step: Step) -> str:
    pieces = programs.resolver(program.family).rule(rule)
    if not pieces:
        return "its own conditions exclude one another, or speak of the other address family"
    begun = step.via[0][0] if step.via else step.chain
    if begun.base is not None and not begun.base.routed and all(one.box[Axis.OUT] is not None for one in pieces):
        stage = begun.base.stage
        return f"it asks by which interface packets leave, and at {stage} none is known yet; ask for that in a chain at forward"
    return "its conditions exclude those of every rule that calls its chain, or of the direction it stands in"


__all__ = ["Openness", "Place", "Standing", "StandingReport", "hidden_rules", "hidden_steps", "standings"]

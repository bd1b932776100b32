"""What is recorded."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from aiguille.analysis.countries import RULEBASE
from aiguille.analysis.decide import Decider, Ends, Proof, surely_refused
from aiguille.analysis.program import Kind, Program, Step
from aiguille.analysis.sides import not_loopback
from aiguille.baseline.catalogue import (
    Answer,
    CannotTell,
    Check,
    Found,
    NotApplicable,
    Passed,
    Severity,
    Subject,
    check,
    lines_of,
    refer,
    rule_subject,
    speak,
)
from aiguille.baseline.keepers import needs_no_record
from aiguille.baseline.wording import NO_INWARD_RULES, listed
from aiguille.model import DestinationType, Direction, State
from aiguille.model.identity import Same
from aiguille.space import Axis, IntervalSet, box, overlap


@check(
    id="logging.refusals",
    title="Refused traffic leaves no trace in the log",
    severity=Severity.MEDIUM,
    controls=("AU-2", "AU-12", "SI-4"),
    why="Probes, misconfigured hosts and broken rules all show first as refusals; without them nobody notices or can explain.",
    how="Each refusing rule or policy must record the new connections it refuses, itself or a rule before it. Final refusals "
    "without a record are one finding; where they are recorded, other refusals that are not make a low one. Traffic through the "
    "device counts where something speaks for its forwarding.",
    fix="Record refused packets at the final refusal, with a rate limit so that a flood does not drown the log.",
)
def refusals(subject: Subject) -> Iterator[Answer]:
    through = subject.study.forwards and subject.study.speaks_of_passing
    inward = (Direction.TO_DEVICE, Direction.THROUGH_DEVICE) if through else (Direction.TO_DEVICE,)
    programs = [p for d in inward for p in subject.programs.all(d)]
    if not programs:
        yield CannotTell(NO_INWARD_RULES)
    silent: list[_Silent] = []
    for program in programs:
        going = f"IPv{program.family} traffic {program.direction.value.replace('-', ' the ')}"
        if _is_switched_off(subject, program):
            yield NotApplicable(f"{going} is switched off as a whole")
            continue
        found = list(_silent(program, subject.study.decider(program)))
        silent += found
        if not any(step.kind is Kind.REFUSE for step in program.steps):
            yield NotApplicable(f"nothing is refused in {going}")
        elif not found:
            yield Passed(f"what is refused in {going} is recorded")
    for one in silent:
        if one.step.log_unknown:
            yield CannotTell(
                f"the export does not say whether what {speak(one.step.chain, one.step.rule)} refuses is recorded; ask for the "
                "setting, or look at the log of the device"
            )
        elif not one.certain:
            yield CannotTell(
                f"{speak(one.step.chain, one.step.rule)} records nothing, and whether it refuses packets depends on a condition "
                "the export does not settle"
            )
    described = [one for one in silent if one.certain and not one.step.log_unknown]
    finals = [one for one in described if one.final]
    if finals:
        # Whoever records the final refusals hears of what the others refuse, or decides about them at once.
        yield _finding(finals, True)
    elif described:
        yield _finding(described, False, Severity.LOW)


def _is_switched_off(subject: Subject, program: Program) -> bool:
    """Whether one line of the export makes all rules and defaults there are, and they let nothing in: a switch of a program."""
    if any(one.program.family == program.family for one in subject.study.admissions(program.direction)):
        return False
    bases = [rulebase for rulebase, _ in program.bases]
    rules = {rule.where for one in bases for _, rule in one.rules()}
    defaults = {chain.policy_where for one in bases for chain in one.chains if chain.policy is not None}
    return len(rules) == 1 and rules == defaults


class _Silent(Struct, frozen=True):
    """A step that refuses new connections without a record, or may, and whether it is the final refusal."""

    step: Step
    proof: Proof
    final: bool
    certain: bool = True


def _silent(program: Program, decider: Decider) -> Iterator[_Silent]:
    new = box([(Axis.STATE, IntervalSet.of(State.NEW.number))])
    narrowed = overlap(new, not_loopback(program.space.symbols)) or new
    recorded = {step.where for step in program.steps if step.logs and step.rule is not None and step.rule.made}
    defaults = {Same(step) for step in program.defaults}
    ends = [
        Same(step) in defaults or (step.rule is not None and step.rule.implied and _ends_a_pair(step))
        for step in program.steps
    ]
    # Where a final refusal leaves no trace, nobody asks about the others, which may be thousands.
    described = False
    for number in sorted(range(len(ends)), key=lambda at: not ends[at]):
        step, final = program.steps[number], ends[number]
        if described and not final:
            return
        if step.rule is not None and step.rule.made and not final and (step.rule.implied or step.where in recorded):
            continue  # what the program refuses beside its own record was never meant to be read
        if step.kind is not Kind.REFUSE or step.logs or step.rulebase.name == RULEBASE or _for_all(step):
            continue  # what filters by country refuse would only drown the log
        if needs_no_record(step.chain.name):
            continue

        def silently_here(ends: Ends, number: int = number) -> bool:
            return surely_refused(ends) and any(e.step == number and not e.logged for e in ends)

        def perhaps(ends: Ends, number: int = number) -> bool:
            return any(e.step == number and not e.logged for e in ends)

        for piece in step.pieces:
            here = overlap(piece.box, narrowed)
            proof = decider.find(here, silently_here, number) if here is not None else None
            if proof is not None:
                described = described or (final and not step.log_unknown)
                yield _Silent(step, proof, final)
                break
            if here is not None and (proof := decider.find(here, perhaps, number)) is not None:
                yield _Silent(step, proof, final, certain=False)
                break


def _ends_a_pair(step: Step) -> bool:
    """Whether a step refuses whatever is left of what comes and goes by some interfaces: a policy for a pair of zones.

    A zone may be some networks of an interface; what is refused of those in some states alone is no more than a precaution.
    """
    free = (Axis.PROTO, Axis.A, Axis.B, Axis.FLAGS, Axis.TYPE)
    ends = (Axis.SRC, Axis.DST)
    return bool(step.pieces) and all(
        p.sure
        and p.box[Axis.IN] != p.box[Axis.OUT]
        and all(p.box[axis] is None for axis in free)
        and (p.box[Axis.STATE] is None or all(p.box[axis] is None for axis in ends))
        for p in step.pieces
    )


def _for_all(step: Step) -> bool:
    """Whether a step refuses nothing but broadcast and multicast, which would drown the log."""
    usual = {DestinationType.UNICAST.number, DestinationType.LOCAL.number}
    kinds = [piece.box[Axis.TYPE] for piece in step.pieces]
    return bool(kinds) and all(one is not None and not usual & set(one) for one in kinds)


def _finding(silent: list[_Silent], final: bool, severity: Severity | None = None) -> Found:
    first = silent[0]
    places = list(dict.fromkeys(speak(one.step.chain, one.step.rule) for one in silent))
    shown = listed(places, 3)
    verb = "refuses" if len(places) == 1 else "refuse"
    going = (
        f"{{family}} traffic {first.proof.program.direction.value.replace('-', ' the ')} "
        if len(silent) == 1
        else "new connections "
    )
    rest = "all other " if final else ""
    return Found(
        detail=f"{shown[0].upper()}{shown[1:]} {verb} {rest}{going}without recording it.",
        subject="; ".join(dict.fromkeys(rule_subject(one.step.chain, one.step.rule) for one in silent)),
        where=tuple(dict.fromkeys(where for one in silent for where in lines_of(one.step))),
        rules=tuple(dict.fromkeys(refer(one.step.rulebase, one.step.chain, one.step.rule) for one in silent)),
        proof=first.proof,
        severity=severity,
        family=first.proof.program.family if len(silent) == 1 else None,
    )


CHECKS: tuple[Check, ...] = (refusals,)

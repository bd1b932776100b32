"""Rules that allow more than anybody can have meant."""

from __future__ import annotations

from collections.abc import Iterator

from aiguille.analysis.decide import Decider, Ends, maybe_accepted
from aiguille.analysis.doubts import Doubt
from aiguille.analysis.exposure import hours_of
from aiguille.analysis.program import Kind, Program, Step
from aiguille.analysis.sides import existing, not_loopback
from aiguille.analysis.study import among_named, is_for_translated
from aiguille.baseline.catalogue import (
    Answer,
    CannotTell,
    Check,
    Found,
    NotApplicable,
    Passed,
    Severity,
    Subject,
    Who,
    check,
    lines_of,
    refer,
    rule_subject,
    speak,
)
from aiguille.model import DestinationType, Direction, Side, State
from aiguille.space import Axis, Box, IntervalSet, box, meets, overlap

_ANYTHING = (Axis.SRC, Axis.DST, Axis.PROTO, Axis.A, Axis.B)


@check(
    id="rules.any-to-any",
    title="A rule accepts anything from anywhere to anywhere",
    severity=Severity.HIGH,
    controls=("AC-4", "SC-7", "AC-6"),
    why="Such a rule allows what nobody asked for, today and after every change of the networks around it.",
    how="An accepting rule that leaves source, destination and service free, and that some packet reaches, is a finding: high if that "
    "packet may come from the outside, or from guests or a dmz to the device itself, critical if it leads from the outside to inside "
    "networks, else medium.",
    fix="Replace it by rules that name source, destination and service; log what it lets through first to learn which are needed.",
)
def any_to_any(subject: Subject) -> Iterator[Answer]:
    looked = 0
    for direction in (Direction.TO_DEVICE, Direction.THROUGH_DEVICE):
        for program in subject.programs.all(direction):
            decider = Decider(program)
            for number, step in enumerate(program.steps):
                if (
                    step.rule is None
                    or step.rule.shipped
                    or is_for_translated(step.rule)
                    or step.rule.built_in  # the make's defaults are judged by the checks on defaults
                    or step.kind not in (Kind.ACCEPT, Kind.SKIP)
                    or (step.kind is Kind.SKIP and not step.settles)
                ):
                    continue
                looked += 1
                wide = _wide(program, step)
                if wide is not None and program.doubts[number] > Doubt.HOURS:
                    yield CannotTell(
                        f"{speak(step.chain, step.rule)} accepts packets whatever their source, destination and service, under a "
                        "condition the export does not settle"
                    )
                elif wide is not None:
                    found = _if_live(subject, decider, number, step, wide)
                    if found is not None:
                        yield found
    if looked:
        yield Passed(f"none of {looked} accepting rules is open in source, destination and service at once")
    elif subject.device.rulebases:
        yield NotApplicable("no rule accepts anything; what the defaults accept is the matter of the checks on them")
    else:
        yield CannotTell("the export holds no rules for traffic to or through the device")


def _wide(program: Program, step: Step) -> Box | None:
    """The part of a rule that takes new connections from anything to anything, None if there is no such part."""
    for piece in step.pieces:
        usual = DestinationType.LOCAL if program.direction is Direction.TO_DEVICE else DestinationType.UNICAST
        kinds = piece.box[Axis.TYPE]
        if all(piece.box[axis] is None for axis in _ANYTHING) and (kinds is None or usual.number in kinds):
            new = box([(Axis.STATE, IntervalSet.of(State.NEW.number))])
            common = overlap(piece.box, new)
            common = overlap(common, not_loopback(program.space.symbols)) if common is not None else None
            if common is not None and step.rule is not None and step.rule.made:
                common = among_named(common, program)
            if common is not None and meets(common, program.region) and _leads_on(program, common):
                return common
    return None


def _leads_on(program: Program, region: Box) -> bool:
    """Whether packets come in by an interface that exists and, where they leave, by one they did not come in by."""
    real = existing(program.device, program.space.symbols)
    into, out = (real if region[axis] is None else (region[axis] or real) & real for axis in (Axis.IN, Axis.OUT))
    if program.direction is Direction.TO_DEVICE:
        return bool(into)
    # The last symbol stands for every interface nobody names, so packets may leave by another of them.
    one = into == out and into.size == 1 and into.first < len(program.space.symbols.names)
    return bool(into) and bool(out) and not one


def _if_live(subject: Subject, decider: Decider, number: int, step: Step, region: Box) -> Found | None:
    """The finding, unless rules above leave the rule nothing to accept."""

    program = decider.program

    def decided_here(ends: Ends) -> bool:
        return maybe_accepted(ends) and any(number in (end.step, end.settled) for end in ends)

    real = existing(program.device, program.space.symbols)
    out = region[Axis.OUT]
    if program.direction is Direction.THROUGH_DEVICE and out is not None and out.size == 1:
        # Nothing goes out where it came in; the last symbol stands for every interface nobody names.
        named = out.first < len(program.space.symbols.names)
        others = (region[Axis.IN] or program.space.symbols.present) - out if named else IntervalSet()
        region = overlap(region, box([(Axis.IN, others)])) or region if others else region
    ways_in = box([(axis, real) for axis in (Axis.IN, Axis.OUT) if program.direction is not Direction.TO_DEVICE])
    alive = overlap(region, ways_in)
    proof = decider.find(alive, decided_here, number) if alive is not None else None
    if proof is None or step.rule is None:
        return None
    inward = program.space.symbols.number(proof.packet.in_interface)
    symbols = program.space.symbols
    outside = {
        symbols.number(name) for zone in subject.device.zones if zone.side is Side.OUTSIDE for name in zone.interfaces
    }
    entering, leaving = region[Axis.IN], region[Axis.OUT]
    if alive is not None and outside and program.direction is Direction.THROUGH_DEVICE:
        # Chains that lead here may take from some interfaces only.
        arriving = decider.project(alive, Axis.IN, decided_here)
        if arriving and not real.issubset(arriving | (leaving or IntervalSet())):
            entering = arriving
            region = overlap(region, box([(Axis.IN, arriving)])) or region
    from_outside = entering is None or any(n in entering for n in outside) or inward in outside or not outside
    inner = subject.study.on(Side.INSIDE, Side.MANAGEMENT)
    everything = bool(outside) and (entering is None or any(n in entering for n in outside))
    into_inside = (
        program.direction is Direction.THROUGH_DEVICE and bool(inner) and (leaving is None or leaving.overlaps(inner))
    )
    severity = Severity.CRITICAL if everything and into_inside else None if from_outside else Severity.MEDIUM
    outer = subject.study.on(Side.OUTSIDE)
    if leaving is not None and outer and leaving.issubset(outer):
        # An inside network that may go anywhere outside: see deny.egress. Nobody outside gains a way in.
        severity = Severity.MEDIUM if from_outside else Severity.LOW
    strange = subject.study.on(Side.GUEST, Side.DMZ)
    if program.direction is Direction.TO_DEVICE and entering is not None and entering.overlaps(strange):
        severity = None  # whoever visits, or has taken over a published host, is no better than a stranger
    place = speak(step.chain, step.rule)
    ways = _ways(program, region)
    hours = hours_of(proof)
    limit = (
        ""
        if all(piece.sure for piece in step.pieces)
        else f", at its hours ({hours[0]})"
        if hours
        else ", within its rate limit"
    )
    return Found(
        detail=f"{place[0].upper()}{place[1:]} accepts {{family}} packets{ways} whatever their source, destination and "
        f"service{limit}.",
        subject=f"{program.direction} {rule_subject(step.chain, step.rule)}",
        where=lines_of(step),
        rules=(refer(step.rulebase, step.chain, step.rule),),
        proof=proof,
        severity=severity,
        family=program.family,
        who=Who.ANYBODY if from_outside else Who.INSIDE,
    )


def _ways(program: Program, region: Box) -> str:
    """Which way the packets go, where the rule says so."""
    symbols = program.space.symbols
    out = ""
    for axis, verb in ((Axis.IN, "entering"), (Axis.OUT, "leaving")):
        values = region[axis]
        if values is not None and values.size < symbols.top - 1:
            out += f" {verb} by " + " or ".join(symbols.name(n) for n in values)
    if program.direction is Direction.TO_DEVICE:
        out += " to the device"
    return out


CHECKS: tuple[Check, ...] = (any_to_any,)

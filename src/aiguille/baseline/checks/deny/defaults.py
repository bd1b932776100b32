"""Everything not expressly allowed is refused, in every direction."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from msgspec.structs import replace

from aiguille.analysis.decide import Decider, Ends, Proof, surely_accepted, surely_refused
from aiguille.analysis.program import Kind, Program, Step, ipv6_is_off
from aiguille.analysis.study import OPENING
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
    without_rules,
)
from aiguille.baseline.wording import UNSAID
from aiguille.model import Chain, Direction, Rulebase, State
from aiguille.model.identity import Same
from aiguille.space import EVERYTHING, Axis, IntervalSet, box

_NEW = box([(Axis.STATE, IntervalSet.of(State.NEW.number))])
_SPEAK = {
    Direction.TO_DEVICE: "to the device itself",
    Direction.THROUGH_DEVICE: "through the device",
    Direction.FROM_DEVICE: "from the device itself",
}


def _default_deny(direction: Direction) -> Callable[[Subject], Iterator[Answer]]:
    def run(subject: Subject) -> Iterator[Answer]:
        programs = list(subject.programs.all(direction))
        if not programs:
            yield CannotTell(
                f"the export holds no rules for traffic {_SPEAK[direction]}, nor says what happens without; export the filter rules too"
            )
        for program in programs:
            answer = _judge(program)
            if direction is Direction.THROUGH_DEVICE and isinstance(answer, Found):
                if subject.study.forwards is False:
                    answer = NotApplicable(f"IPv{program.family}: the default accepts, but the kernel forwards nothing")
                elif subject.study.forwards is None:
                    more = " Nothing in the export shows that the host forwards; it would as soon as a program switches that on."
                    answer = replace(answer, severity=Severity.LOW, detail=answer.detail + more)
            yield answer
        if {program.family for program in programs} == {4} and not ipv6_is_off(subject.device):
            yield Passed("IPv6: the export says nothing of it")

    return run


def _judge(program: Program) -> Answer:
    family = f"IPv{program.family}"
    going = _SPEAK[program.direction]
    defaults = program.defaults
    accepting = [step for step in defaults if step.kind is not Kind.REFUSE]
    if not defaults:
        return CannotTell(
            f"{family}: what happens to traffic {going} that no rule matches is not determined by the export"
        )
    if not accepting:
        ends = " or ".join(speak(step.chain, step.rule) for step in defaults)
        return Passed(f"{family}: what no rule allows is refused ({ends})")

    def by_default(ends: Ends) -> bool:
        return surely_accepted(ends) and any(
            program.steps[n] in accepting for e in ends for n in (e.step, e.settled) if n >= 0
        )

    def perhaps_by_default(ends: Ends) -> bool:
        return any(program.steps[e.step] in accepting for e in ends)

    decider = Decider(program)
    proof = _ported(decider, by_default)
    rest = proof is None and _refuse_ported(program, decider, accepting)
    proof = proof or decider.find(_NEW, by_default)
    default = next((s for s in accepting if proof is not None and s in proof.steps), accepting[0])
    if proof is None:
        if default.kind is Kind.OPEN and default.rule is None:
            return CannotTell(f"{family}: {UNSAID} {going} that no rule takes")
        if decider.find(_NEW, perhaps_by_default) is not None:
            return CannotTell(
                f"{family}: {speak(default.chain, default.rule)} accepts traffic {going}, and whether rules before it refuse "
                "all of it depends on a condition the export does not settle"
            )
        return Passed(f"{family}: the default accepts, but rules before it refuse every new connection")
    # A ruleset of one family lets the other through, and that is another thing than a default somebody left open.
    unseen = all(chain.policy_is_default and not chain.rules for _, chain in program.bases)
    accepted = f"{{family}} traffic {going} that no rule speaks of is accepted ({speak(default.chain, default.rule)})"
    if unseen:
        accepted = f"{{family}} traffic {going} is accepted, as no rules look at it"
    return Found(
        detail=accepted + ("; of TCP and UDP, rules before it refuse what no other allows." if rest else "."),
        severity=None
        if not rest
        else Severity.MEDIUM
        if program.direction is Direction.THROUGH_DEVICE
        else Severity.LOW,
        subject="no rules" if unseen else rule_subject(default.chain, default.rule),
        where=lines_of(default),
        rules=(refer(default.rulebase, default.chain, default.rule),),
        proof=proof,
        family=program.family,
    )


def _refuse_ported(program: Program, decider: Decider, accepting: Sequence[Step]) -> bool:
    """Whether rules refuse TCP and UDP before the default, but for what rules that somebody wrote accept."""

    def unasked(ends: Ends) -> bool:
        steps = [program.steps[end.step] for end in ends]
        kept = (s for s in steps if s.kind is Kind.ACCEPT and s.rule is not None and s.rule.built_in)
        return any(s in accepting for s in steps) or any(kept)

    refused = all(decider.find(one, surely_refused) is not None for one in OPENING.values())
    return refused and _ported(decider, unasked) is None


def _ported(decider: Decider, wanted: Callable[[Ends], bool]) -> Proof | None:
    """A packet that opens a connection of TCP, or UDP, and is treated as wanted."""
    return next((found for one in OPENING.values() if (found := decider.find(one, wanted)) is not None), None)


_FIX = (
    "End the rules with a refusal of everything, or set the default to refuse, and allow what is needed by rules above it; traffic "
    "that no rules look at needs some."
)

to_device = check(
    id="deny.to-device",
    title="Traffic to the device is accepted by default",
    severity=Severity.HIGH,
    controls=("SC-7(5)", "CM-7"),
    why="Every service that listens, now or after the next update, answers everybody no rule has thought of.",
    how="As for traffic through the device, for what is meant for itself.",
    fix=_FIX,
)(_default_deny(Direction.TO_DEVICE))

through_device = check(
    id="deny.through-device",
    title="Traffic between networks is accepted by default",
    severity=Severity.HIGH,
    controls=("SC-7(5)", "AC-4"),
    why="Networks that share the device reach one another unless a rule happens to say no.",
    how="What happens to packets that no more special rule matches is computed, with every chain and jump; accepting any that open "
    "connections is a finding, with one of them as proof.",
    fix=_FIX,
)(_default_deny(Direction.THROUGH_DEVICE))

from_device = check(
    id="deny.from-device",
    title="The device itself may connect anywhere",
    severity=Severity.LOW,
    controls=("SC-7(5)", "AC-4"),
    why="A device that was broken into can fetch tools and report home unhindered.",
    how="As for traffic through the device, for what it sends itself.",
    fix="Allow the device names, time, mail relay, updates and log collector, and refuse the rest.",
)(_default_deny(Direction.FROM_DEVICE))


@check(
    id="deny.after-catch-all",
    title="Rules stand after one that catches everything",
    severity=Severity.MEDIUM,
    controls=("CM-6", "SC-7"),
    why="They never see a packet: what they were meant to allow or refuse is decided above them.",
    how="A rule that surely takes every packet ends its chain; enabled rules behind it in the same chain are one finding.",
    fix="Decide for each rule whether it was meant to hold: move it above the catch-all then; else it can go, which changes nothing.",
)
def after_catch_all(subject: Subject) -> Iterator[Answer]:
    chains = 0
    for rulebase in subject.device.rulebases:
        for chain in rulebase.chains:
            if not chain.rules:
                continue
            chains += 1
            found = _dead_tail(subject, rulebase, chain)
            if found is not None:
                yield found
    if chains:
        yield Passed(f"no rule of {chains} chains stands after one that catches everything")
    else:
        yield without_rules(subject.device)


def dead_rules(subject: Subject) -> Iterator[Same]:
    """The enabled rules that stand behind one which takes everything, in their chain."""
    for rulebase in subject.device.rulebases:
        for chain in rulebase.chains:
            found = _dead_tail(subject, rulebase, chain) if chain.rules else None
            numbers = {ref.rule for ref in found.rules[:-1]} if found is not None else set()
            yield from (Same(rule) for rule in chain.rules if rule.number in numbers)


def _dead_tail(subject: Subject, rulebase: Rulebase, chain: Chain) -> Found | None:
    resolvers = [subject.programs.resolver(family) for family in sorted(rulebase.families)]
    for at, rule in enumerate(chain.rules[:-1]):
        if not rule.action.refuses and rule.action.value not in ("accept", "return", "goto"):
            continue
        if all(any(p.sure and p.box == EVERYTHING for p in resolver.rule(rule)) for resolver in resolvers):
            dead = [r for r in chain.rules[at + 1 :] if r.enabled]
            if not dead:
                return None
            what = speak(chain, dead[0])
            if len(dead) > 1:
                what = f"rules {dead[0].number} to {dead[-1].number} of chain {chain.name}"
            return Found(
                detail=f"{what[0].upper()}{what[1:]} can never match: rule {rule.number} above takes every packet.",
                subject=f"{rulebase.name} {rule_subject(chain, rule)} before "
                + "; ".join(rule_subject(chain, r) for r in dead),
                where=(*(r.where for r in dead), rule.where),
                rules=(*(refer(rulebase, chain, r) for r in dead), refer(rulebase, chain, rule)),
                family=resolvers[0].space.family,
            )
    return None


CHECKS: tuple[Check, ...] = (to_device, through_device, from_device, after_catch_all)

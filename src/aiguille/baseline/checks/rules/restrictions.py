"""Restrictions that restrict nothing: somebody else gets in beside them, at another address, faster, or by another way."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator

from aiguille.analysis.decide import Ends, Proof, surely_accepted
from aiguille.analysis.doubts import RATES
from aiguille.analysis.forwards import forwards_of, taken, ways_of
from aiguille.analysis.program import Kind, Program
from aiguille.analysis.sides import not_loopback
from aiguille.analysis.standing import Standing
from aiguille.analysis.study import NEW, lets_forwarded_in, lets_in
from aiguille.baseline.catalogue import (
    Answer,
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
from aiguille.baseline.checks.rules.order import names_sources, undermined_by, unsettled
from aiguille.baseline.wording import capital, counted, listed
from aiguille.model import Action, Direction, Field, Named, Rule, Side, Span
from aiguille.model.identity import Same
from aiguille.model.spelling import spell_operand, spell_spans
from aiguille.space import Axis, Box, IntervalSet, box, covers, meets, overlap
from aiguille.space.fields import ICMP_OF


@check(
    id="rules.no-effect",
    title="A restriction has no effect",
    severity=Severity.MEDIUM,
    controls=("AC-4", "CM-6", "SC-7"),
    why="Whoever reads the restriction believes that it keeps all others out.",
    how="A rule that lets named sources use a service changes nothing, because another rule lets any source use the same service. Or a "
    "refusal of a service names one address of an interface of the device, and a rule that names none lets the same service in at "
    "another address of that interface, or a port forward takes its packets before the refusal sees them. Or a rule accepts within "
    "a rate, and whatever exceeds it is accepted all the same by a later rule or default, or all of it by one before (low for ICMP "
    "alone). Or a list of sources "
    "is kept from what lies behind the device and not from the device itself, or the other way round (low).",
    fix="If the restriction is meant, take the wide rule away, name every address in it, refuse the service where it is forwarded, or "
    "refuse what exceeds the rate right below; else the narrow one is not needed.",
)
def no_effect(subject: Subject) -> Iterator[Answer]:
    if not subject.study.standings:
        yield without_rules(subject.device)
        return
    yield from unsettled(subject)
    looked, found = 0, False
    for _, reports in subject.study.written:
        report = reports[0]
        if report.rule.action is Action.ACCEPT and names_sources(report.rule):
            looked += 1
            wide = undermined_by(subject, report)
            if wide is not None and report.standing in (Standing.REDUNDANT, Standing.SHADOWED):
                found = True
                place = next((b, c) for b, c, r in report.because if r is wide)
                yield Found(
                    f"{capital(speak(report.chain, report.rule))} lets named sources in, and {speak(place[1], wide)} lets in any.",
                    f"{report.rulebase.name} {rule_subject(report.chain, report.rule)}",
                    (report.rule.where, wide.where),
                    (refer(place[0], place[1], wide), refer(report.rulebase, report.chain, report.rule)),
                )
    written = {where for where, _ in subject.study.written}
    for answer in (
        *_half_guarded(subject, written),
        *_bypassed(subject, written),
        *_unlimited(subject, written),
        *_late_limits(subject),
        *_one_way_lists(subject, written),
    ):
        looked += 1
        if answer is not None:
            found = True
            yield answer
    if not looked:
        yield NotApplicable(
            "no rule lets named sources in, refuses a service at named addresses of the device, or accepts within a rate"
        )
    elif not found:
        yield Passed(f"each of {counted(looked, 'rule')} that restricts a service has an effect")


def _half_guarded(subject: Subject, written: set[Span]) -> Iterator[Found | None]:
    """For each refusal of a service at some of an interface's addresses: what still gets in at another of them, or None."""
    for program in subject.programs.all(Direction.TO_DEVICE):
        siblings = [IntervalSet((a.first, a.last) for a in one.addresses if a.family == program.family)
                    for one in subject.device.interfaces if one.enabled]  # fmt: skip
        for number, step in enumerate(program.steps):
            rule = step.rule
            if rule is None or step.kind is not Kind.REFUSE or rule.where not in written:
                continue
            for piece in step.pieces:
                named = piece.box[Axis.DST]
                if named is None or piece.box[Axis.B] is None or not piece.sure:
                    continue
                others = next((own - named for own in siblings if own.overlaps(named)), None)
                if not others:
                    continue
                there = tuple(
                    others if axis is Axis.DST else values for axis, values in zip(Axis, piece.box, strict=True)
                )
                proof = _beside(subject, program, number, there)
                if proof is None:
                    yield None
                    continue
                last = proof.steps[-1]
                here, at = (spell_spans(program.family, v.spans, 2) for v in (named, others))
                yield Found(
                    f"{capital(speak(step.chain, rule))} refuses the service at {here} alone, and "
                    f"{speak(last.chain, last.rule)} lets the same in at {at}.",
                    f"{step.rulebase.name} {rule_subject(step.chain, rule)}",
                    (rule.where, *lines_of(last)),
                    (refer(step.rulebase, step.chain, rule), refer(last.rulebase, last.chain, last.rule)),
                    proof,
                    family=program.family,
                )
                break


def _bypassed(subject: Subject, written: set[Span]) -> Iterator[Found | None]:
    """For each refusal of a service at the device: the forward that sends the same service on before, and lets it in, or None."""
    outer = subject.study.on(Side.OUTSIDE)
    every = forwards_of(subject.device)
    for program in subject.programs.all(Direction.TO_DEVICE) if every else ():
        ways = outer or program.space.symbols.present
        for step in program.steps:
            rule = step.rule
            if rule is None or step.kind is not Kind.REFUSE or rule.where not in written:
                continue
            parts = [piece.box for piece in step.pieces if piece.box[Axis.B] is not None]
            mine = [f for f in every if any(_takes(one, part) for one in taken(program, f) for part in parts)]
            for forward in mine:
                proof = next((p for _, through, region in ways_of(subject.study, forward, ways)
                              if (p := subject.study.find(through, region, lets_forwarded_in(through))) is not None), None)  # fmt: skip
                if proof is None:
                    yield None
                    continue
                last = proof.steps[-1]
                yield Found(
                    f"{capital(speak(step.chain, rule))} refuses a service at the device, which {speak(forward.chain, forward.rule)} "
                    f"sends on to {spell_operand(forward.target)} before, where {speak(last.chain, last.rule)} lets it in.",
                    f"{step.rulebase.name} {rule_subject(step.chain, rule)}",
                    (rule.where, forward.rule.where, *lines_of(last)),
                    (refer(step.rulebase, step.chain, rule), refer(forward.rulebase, forward.chain, forward.rule)),
                    proof,
                    family=program.family,
                )
                break


def _unlimited(subject: Subject, written: set[Span]) -> Iterator[Found | None]:
    """For each rule that accepts within a rate: what accepts whatever exceeds the rate as well, or None."""
    for direction in (Direction.TO_DEVICE, Direction.THROUGH_DEVICE):
        for program in subject.programs.all(direction):
            ways = overlap(NEW, not_loopback(program.space.symbols)) or NEW
            for number, step in enumerate(program.steps):
                rule = step.rule
                if rule is None or step.kind is not Kind.ACCEPT or rule.where not in written or not _is_limited(rule):
                    continue
                regions = [region for piece in step.pieces if (region := overlap(piece.box, ways)) is not None]

                def exceeds(ends: Ends, number: int = number) -> bool:
                    return len(ends) > 1 and any(end.step == number for end in ends)

                def in_vain(ends: Ends, exceeds: Callable[[Ends], bool] = exceeds) -> bool:
                    return exceeds(ends) and surely_accepted(ends)

                def in_force(ends: Ends, exceeds: Callable[[Ends], bool] = exceeds) -> bool:
                    return exceeds(ends) and not surely_accepted(ends)

                if any(subject.study.find(program, region, in_force) for region in regions):
                    yield None
                    continue
                proof = next((p for r in regions if (p := subject.study.find(program, r, in_vain)) is not None), None)
                if proof is None:
                    continue
                other = next(end for end in proof.ends if end.step != number)
                last = program.steps[other.step]
                kinds = {region[Axis.PROTO] for region in regions}
                yield Found(
                    f"{capital(speak(step.chain, rule))} accepts within a rate, and {speak(last.chain, last.rule)} accepts what "
                    "exceeds it.",
                    f"{step.rulebase.name} {rule_subject(step.chain, rule)}",
                    (rule.where, *lines_of(last)),
                    (refer(step.rulebase, step.chain, rule), refer(last.rulebase, last.chain, last.rule)),
                    proof,
                    Severity.LOW if all(one is not None and one.issubset(_ICMP) for one in kinds) else None,
                    family=program.family,
                )


def _late_limits(subject: Subject) -> Iterator[Found]:
    """Rules that accept within a rate what a rule above them, in their chain, accepts without one."""
    for _, reports in subject.study.written:
        report = reports[0]
        useless = report.standing in (Standing.REDUNDANT, Standing.SHADOWED)
        if report.rule.action is not Action.ACCEPT or not useless or not _is_limited(report.rule):
            continue
        above = {Same(rule) for rule in report.chain.rules if rule.number < report.rule.number}
        freely = [
            p for p in report.because if p[2] is not None and Same(p[2]) in above and p[2].action is Action.ACCEPT
        ]
        first = next((p for p in freely if p[2] is not None and _takes_all(subject, p[2], report.rule)), None)
        if first is None or first[2] is None:
            continue
        kinds = [piece.box[Axis.PROTO] for _, step in subject.study.places(report.rule) for piece in step.pieces]
        yield Found(
            f"{capital(speak(report.chain, report.rule))} accepts within a rate that never applies: {speak(*first[1:])} accepts "
            "the same before.",
            f"{report.rulebase.name} {rule_subject(report.chain, report.rule)}",
            (report.rule.where, first[2].where),
            (refer(report.rulebase, report.chain, report.rule), refer(*first)),
            severity=Severity.LOW if all(one is not None and one.issubset(_ICMP) for one in kinds) else None,
        )


def _takes_all(subject: Subject, rule: Rule, other: Rule) -> bool:
    """Whether one rule surely takes every new connection that another may."""
    resolvers = [subject.programs.resolver(family) for family in (4, 6)]
    return all(
        any(one.sure and covers(one.box, new) for one in resolver.rule(rule))
        for resolver in resolvers
        for piece in resolver.rule(other)
        if (new := overlap(piece.box, NEW)) is not None
    )


_ICMP = IntervalSet.of(*ICMP_OF.values())


def _is_limited(rule: Rule) -> bool:
    """Whether nothing but a rate, or a number of connections, makes a rule doubtful, and what keeps within it is accepted."""
    return bool(rule.qualifiers) and all(
        one.name in RATES - {"recently seen addresses", "random share"} and not _EXCEEDING.search(one.text)
        for one in rule.qualifiers
    )


_EXCEEDING = re.compile(r"above|over|!")
"""How limits say that what exceeds them matches."""


def _one_way_lists(subject: Subject, written: set[Span]) -> Iterator[Found | None]:
    """For each named list of sources kept from either the device or what lies behind it: how its members reach the other, or None."""
    outer = subject.study.on(Side.OUTSIDE)
    every = [p for d in _WAYS for p in subject.programs.all(d)] if outer else []
    for program in every:
        for step in program.steps:
            rule = step.rule
            if rule is None or step.kind is not Kind.REFUSE or rule.where not in written:
                continue
            names = _lists_alone(rule)
            if not names:
                continue
            other = next(
                (p for p in every if p.family == program.family and p.direction is not program.direction), None
            )
            if other is None or any(
                one.kind is Kind.REFUSE and one.rule is not None and names & _lists_of(one.rule) for one in other.steps
            ):
                continue
            ways = [(Axis.IN, outer)]
            if other.direction is Direction.THROUGH_DEVICE:
                ways.append((Axis.OUT, other.space.symbols.present - outer))
            sources = [piece.box[Axis.SRC] for piece in step.pieces if piece.sure]
            regions = [overlap(NEW, box([*ways, (Axis.SRC, one)])) for one in sources if one is not None]
            proof = next((p for r in regions if (p := subject.study.find(other, r, lets_in(other))) is not None), None)
            if proof is None:
                yield None
                continue
            last = proof.steps[-1]
            kept, reached = _WAYS[program.direction], _WAYS[other.direction]
            yield Found(
                f"{capital(speak(step.chain, rule))} keeps '{listed(sorted(names))}' from {kept}, and "
                f"{speak(last.chain, last.rule)} lets the same sources reach {reached}.",
                f"{step.rulebase.name} {rule_subject(step.chain, rule)}",
                (rule.where, *lines_of(last)),
                (refer(step.rulebase, step.chain, rule), refer(last.rulebase, last.chain, last.rule)),
                proof,
                Severity.LOW,
                family=program.family,
            )


_WAYS = {Direction.TO_DEVICE: "the device itself", Direction.THROUGH_DEVICE: "what lies behind the device"}


def _lists_of(rule: Rule) -> frozenset[str]:
    """The named lists a rule looks its sources up in."""
    return frozenset(
        operand.name
        for one in rule.match.conditions
        if not one.negated and one.field in (Field.SOURCE, Field.SET)
        for operand in one.operands
        if isinstance(operand, Named) and (one.field is Field.SOURCE or operand.roles[:1] in (("src",), ("source",)))
    )


def _lists_alone(rule: Rule) -> frozenset[str]:
    """Those of a rule that asks for nothing else but the way in."""
    others = {c.field for c in rule.match.conditions} - {
        Field.FAMILY, Field.SOURCE, Field.SET, Field.IN_INTERFACE, Field.IN_ZONE, Field.STATE,
    }  # fmt: skip
    return frozenset() if others or rule.qualifiers else _lists_of(rule)


def _takes(forward: Box, refusal: Box) -> bool:
    """Whether a forward takes all the ports that a refusal names, by some interface it looks at."""
    ports = forward[Axis.B], refusal[Axis.B]
    return meets(forward, refusal) and None not in ports and ports[1].issubset(ports[0])  # type: ignore[union-attr, arg-type]


def _beside(subject: Subject, program: Program, number: int, region: Box) -> Proof | None:
    """A new connection of a region that a rule below a step, which names no destination, surely accepts."""

    def plainly(ends: Ends) -> bool:
        rules = [program.steps[end.step] for end in ends]
        return surely_accepted(ends) and all(
            end.step > number and one.rule is not None and all(p.box[Axis.DST] is None for p in one.pieces)
            for end, one in zip(ends, rules, strict=True)
        )

    ways = overlap(NEW, not_loopback(program.space.symbols)) or NEW
    return subject.study.find(program, overlap(region, ways), plainly)


CHECKS: tuple[Check, ...] = (no_effect,)

"""Checks of one's own: a condition over rules, written in a baseline file."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from aiguille.analysis.program import Program
from aiguille.analysis.resolve import Piece
from aiguille.analysis.standing import StandingReport
from aiguille.analysis.study import NEW, Study
from aiguille.baseline.asking import service_boxes
from aiguille.baseline.catalogue import (
    Answer,
    CannotTell,
    Check,
    Found,
    Passed,
    Subject,
    refer,
    rule_subject,
    speak,
    without_rules,
)
from aiguille.baseline.spec import AddressTest, OwnCheck, RuleTest
from aiguille.baseline.values import networks
from aiguille.baseline.wording import capital, counted
from aiguille.model import Direction, Rule
from aiguille.model.patterns import pattern
from aiguille.space import Axis, Box, IntervalSet, meets, overlap


def as_check(own: OwnCheck) -> Check:
    """A check of the catalogue's kind."""
    return Check(
        id=own.id,
        title=own.title,
        severity=own.severity,
        controls=own.controls,
        why=own.why,
        how="Every enabled rule that fits the condition of the baseline file is a finding.",
        fix=own.advice.replace("{", "{{").replace("}", "}}"),
        run=_runner(own),
    )


def _runner(own: OwnCheck) -> Callable[[Subject], Iterator[Answer]]:
    def run(subject: Subject) -> Iterator[Answer]:
        reports = [r for _, reports in subject.study.written for r in reports if r.rule.enabled]
        if not reports:
            yield without_rules(subject.device)
            return
        tests = [own.rules, *([own.unless] if own.unless else [])]
        if any(t.hits_at_most is not None or t.hits_at_least is not None for t in tests) and all(
            r.rule.hits is None for r in reports
        ):
            yield CannotTell("the export counts no hits; export the rules with their counters")
            return
        found = 0
        for report in reports:
            certain = fits(subject.study, report, own.rules)
            if certain is None or (own.unless is not None and fits(subject.study, report, own.unless) is True):
                continue
            found += 1
            chain, rule = report.chain, report.rule
            doubt = "" if certain else ", for some of its packets perhaps"
            yield Found(
                f"{capital(speak(chain, rule))}: {own.title}{doubt}.",
                f"{report.rulebase.name} {rule_subject(chain, rule)}",
                (rule.where,),
                (refer(report.rulebase, chain, rule),),
            )
        if not found:
            yield Passed(f"none of {counted(len(reports), 'rule')} fits")

    return run


def fits(study: Study, report: StandingReport, test: RuleTest) -> bool | None:
    """True if a rule fits, False if it fits with a part that only may match, None if it does not."""
    rule = report.rule
    text = " ".join(filter(None, (rule.name, rule.comment)))
    bits = report.openness.bits
    plain = (
        rule.action.value in test.action
        and (test.logged is None or rule.logs is test.logged)
        and (test.openness_above is None or (bits is not None and bits > test.openness_above))
        and _hits(rule, test)
        and (test.comment_matches is None or pattern(test.comment_matches).search(text) is not None)
        and (test.comment_lacks is None or pattern(test.comment_lacks).search(text) is None)
    )
    if not plain:
        return None
    if not (test.from_ or test.to or test.source or test.destination or test.service):
        return True
    doubtful = False
    for program, step in study.places(rule):
        for piece in step.pieces:
            if _piece_fits(study, program, piece, test):
                if piece.sure:
                    return True
                doubtful = True
    return False if doubtful else None


def _hits(rule: Rule, test: RuleTest) -> bool:
    if test.hits_at_most is None and test.hits_at_least is None:
        return True
    if rule.hits is None:
        return False
    count = rule.hits.packets
    return (test.hits_at_most is None or count <= test.hits_at_most) and (
        test.hits_at_least is None or count >= test.hits_at_least
    )


def _piece_fits(study: Study, program: Program, piece: Piece, test: RuleTest) -> bool:
    # Replies to what was let in are nobody's doing: only what opens connections counts, where a rule takes any of it.
    box = overlap(piece.box, NEW)
    box = overlap(box, program.region) if box is not None else None
    if box is None:
        return False
    family = program.family
    return (
        _comes_from(study, box, test.from_, family)
        and _goes_to(study, program, box, test.to)
        and _addresses(box, Axis.SRC, test.source, family)
        and _addresses(box, Axis.DST, test.destination, family)
        and (not test.service or any(meets(box, one) for _, one in service_boxes(test.service, family)))
    )


def _interfaces(study: Study, words: tuple[str, ...]) -> IntervalSet:
    """The interfaces of sides or zones named by words."""
    symbols = study.programs.resolver(4).space.symbols
    names = [
        n
        for z in study.device.zones
        if z.name in words or (z.side is not None and z.side.value in words)
        for n in z.interfaces
    ]
    return IntervalSet.of(*(symbols.number(name) for name in names))


def _comes_from(study: Study, box: Box, words: tuple[str, ...], family: int) -> bool:
    if not words:
        return True
    sides = [one for one in study.entrances if one.label in words or (one.side is not None and one.side.value in words)]
    return any(meets(box, study.arriving(one, family)) for one in sides)


def _goes_to(study: Study, program: Program, box: Box, words: tuple[str, ...]) -> bool:
    if not words:
        return True
    if program.direction is Direction.TO_DEVICE:
        return "device" in words
    mine, wanted = box[Axis.OUT], _interfaces(study, words)
    return bool(wanted) and (mine is None or mine.overlaps(wanted))


def _addresses(box: Box, axis: Axis, test: AddressTest | None, family: int) -> bool:
    if test is None:
        return True
    mine = box[axis]
    if test.within:
        wanted = networks(test.within, family)
        if mine is None or not wanted or not mine.issubset(wanted):
            return False
    if test.covers:
        wanted = networks(test.covers, family)
        if not wanted or (mine is not None and not wanted.issubset(mine)):
            return False
    return True

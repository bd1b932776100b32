"""What rules are worth where they stand, and those that say the same in more words than needed."""

from __future__ import annotations

from collections.abc import Iterator

from aiguille.analysis import Standing, StandingReport
from aiguille.baseline.catalogue import (
    Answer,
    CannotTell,
    Check,
    Found,
    NotApplicable,
    Passed,
    Severity,
    Subject,
    canonical,
    check,
    refer,
    rule_subject,
    speak,
)
from aiguille.baseline.checks.deny import dead_rules
from aiguille.baseline.wording import capital, counted, listed
from aiguille.model import Chain, Field, Rule

NO_RULES = "the export holds no rules"
NO_STATEMENTS = "nobody wrote a rule here: all there are come with what the export switches on"


def _because(report: StandingReport) -> str:
    if report.why:
        return f": {report.why}"
    if not report.because:
        return ""
    return " by " + listed((speak(chain, rule) for _, chain, rule in report.because), 3)


def _finding(report: StandingReport, detail: str, severity: Severity | None = None) -> Found:
    where = [report.rule.where, *(rule.where for *_, rule in report.because[:3] if rule is not None)]
    return Found(
        detail=detail,
        subject=f"{report.rulebase.name} {rule_subject(report.chain, report.rule)}",
        where=tuple(dict.fromkeys(where)),
        rules=(
            refer(report.rulebase, report.chain, report.rule),
            *(refer(base, chain, rule) for base, chain, rule in report.because[:3]),
        ),
        severity=severity,
    )


def _dead(subject: Subject) -> set[int]:
    """The rules below one that takes everything, by identity: another check's matter."""
    found: set[int] = subject.study.once("dead", lambda: set(dead_rules(subject)))
    return found


def _judged(subject: Subject, standing: Standing, verb: str) -> Iterator[Answer]:
    """The statements all of whose rules have a standing."""
    if not subject.study.standings:
        yield CannotTell(NO_RULES)
        return
    found = 0
    written = {where for where, _ in subject.study.written}
    for _, reports in subject.study.written:
        report = reports[0]
        if any(r.standing is not standing for r in reports) or any(id(r.rule) in _dead(subject) for r in reports):
            continue
        if standing is Standing.REDUNDANT and report.rule.logs:
            continue
        if standing is Standing.CONTRADICTED:
            others = [rule for *_, rule in report.because if rule is not None and rule.where in written]
            if _takes_the_rest(report.rule) or not others:
                continue
        found += 1
        yield _finding(report, f"{capital(speak(report.chain, report.rule))} {verb}{_because(report)}.")
    if not written:
        yield NotApplicable(NO_STATEMENTS)
    elif not found:
        yield Passed(f"none of {counted(len(written), 'statement')} {verb}")


def _takes_the_rest(rule: Rule) -> bool:
    """Whether a rule refuses what is left over, or odd packets: exceptions above such rules are what they are there for."""
    return rule.action.refuses and all(
        c.field in (Field.STATE, Field.IN_INTERFACE, Field.IN_ZONE, Field.OUT_ZONE) for c in rule.match.conditions
    )


@check(
    id="rules.shadowed",
    title="A rule never sees the packets it was meant to decide",
    severity=Severity.MEDIUM,
    controls=("CM-6", "SC-7", "AC-4"),
    why="Somebody believes that it works: what it should allow is refused, or what it should refuse is let in.",
    how="Every packet the rule matches is surely taken by rules above, one of them with another "
    "outcome; computed as sets, unions of rules "
    "included. Rules below one that takes everything are the matter of deny.after-catch-all.",
    fix="Move the rule above those that hide it if it is right; else delete it.",
)
def shadowed(subject: Subject) -> Iterator[Answer]:
    yield from _judged(subject, Standing.SHADOWED, "is hidden")


@check(
    id="rules.redundant",
    title="A rule changes nothing",
    severity=Severity.LOW,
    controls=("CM-6", "CM-7"),
    why="Rules without effect hide those with one, and come to life when the rule beside them goes.",
    how="Without the rule every packet would have the same verdict: rules above take what it matches "
    "with its own outcome, or rules below "
    "and the default do the same.",
    fix="Delete the rule, or keep it with a remark that says why.",
)
def redundant(subject: Subject) -> Iterator[Answer]:
    yield from _judged(subject, Standing.REDUNDANT, "changes no verdict, given what is decided")


@check(
    id="rules.contradicted",
    title="A rule above decides a part of it otherwise",
    severity=Severity.INFO,
    controls=("CM-6",),
    why="Exceptions look like this, and so do mistakes; whoever moves one of the two changes what is let in.",
    how="Some new connections the rule matches are decided the other way by a rule above, in the same rule base.",
    fix="Check that the rule above is meant as an exception, and say so in its description.",
)
def contradicted(subject: Subject) -> Iterator[Answer]:
    yield from _judged(subject, Standing.CONTRADICTED, "is contradicted in part")


@check(
    id="rules.impossible",
    title="No packet can match a rule",
    severity=Severity.LOW,
    controls=("CM-6",),
    why="A rule that cannot match was meant to do something else.",
    how="The rule's own conditions exclude one another, or nothing leads to its chain.",
    fix="Correct the conditions, or delete the rule.",
)
def impossible(subject: Subject) -> Iterator[Answer]:
    yield from _judged(subject, Standing.IMPOSSIBLE, "can match no packet")


_MERGED = (
    "source",
    "destination",
    "service",
    "source port",
    "destination port",
    "protocol",
    "interface in",
    "zone in",
    "zone out",
)


@check(
    id="rules.near-duplicate",
    title="Rules differ in one field only",
    severity=Severity.INFO,
    controls=("CM-6",),
    why="Rules that belong together drift apart when only one of them is changed.",
    how="Rules of one chain with nothing but one of their kind between them, which do the same and differ in exactly one condition.",
    fix="Make one rule of them, with a group or a list in the field that differs.",
)
def near_duplicate(subject: Subject) -> Iterator[Answer]:
    looked = found = 0
    written = {where for where, _ in subject.study.written}
    for rulebase in subject.device.rulebases:
        for chain in rulebase.chains:
            for field, group in _runs(chain):
                if not written.issuperset(r.where for r in group) or len({r.where for r in group}) < len(group):
                    continue
                found += 1
                first, last = group[0], group[-1]
                yield Found(
                    f"Rules {', '.join(str(r.number) for r in group)} of chain {chain.name} differ only in {field}.",
                    f"{rulebase.name} {chain.name} {field}: " + "; ".join(canonical(r.match) for r in group),
                    tuple(r.where for r in group),
                    tuple(refer(rulebase, chain, r) for r in (first, last)),
                )
            looked += len(chain.rules)
    if not looked:
        yield CannotTell(NO_RULES)
    elif not found:
        yield Passed(f"no neighbours among {counted(looked, 'rule')} differ in one field only")


def _runs(chain: Chain) -> Iterator[tuple[str, list[Rule]]]:
    """Neighbours that differ in the same single field."""
    run: list[Rule] = []
    field = ""
    for rule in chain.rules:
        if rule.built_in or not rule.enabled:
            continue
        differs = _single_difference(run[-1], rule) if run else ""
        if differs and field in ("", differs):
            run.append(rule)
            field = differs
            continue
        if len(run) > 1:
            yield field, run
        run, field = [rule], ""
    if len(run) > 1:
        yield field, run


def _single_difference(one: Rule, other: Rule) -> str:
    """The only field in which two rules differ, empty if they are alike or differ in more."""
    rest = ("action", "target", "qualifiers", "marks", "effects", "schedule", "reply")
    if any(getattr(one, name) != getattr(other, name) for name in rest) or one.action.value not in (
        "accept",
        "drop",
        "reject",
    ):
        return ""
    mine = {c.field.value: c for c in one.match.conditions}
    theirs = {c.field.value: c for c in other.match.conditions}
    if set(mine) != set(theirs) or len(mine) != len(one.match.conditions) or len(theirs) != len(other.match.conditions):
        return ""
    differs = [name for name in mine if mine[name] != theirs[name]]
    if len(differs) != 1 or differs[0] not in _MERGED or mine[differs[0]].negated or theirs[differs[0]].negated:
        return ""
    return differs[0]


CHECKS: tuple[Check, ...] = (shadowed, redundant, contradicted, impossible, near_duplicate)

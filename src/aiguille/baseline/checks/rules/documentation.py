"""What is written about rules: what for, who asked, until when."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date
from itertools import pairwise

from aiguille.analysis.study import Admission
from aiguille.baseline.catalogue import (
    Answer,
    Check,
    Found,
    NotApplicable,
    Of,
    Param,
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
from aiguille.baseline.dates import read_date, until
from aiguille.baseline.keepers import is_kept
from aiguille.baseline.wording import capital, counted
from aiguille.model import Action, Chain, Direction, Field, Log, Rule, Rulebase
from aiguille.model.patterns import pattern


def _written(subject: Subject) -> list[tuple[Rulebase, Chain, Rule]]:
    """The rules people wrote, each statement once, in the order of the export."""
    return [(r[0].rulebase, r[0].chain, r[0].rule) for _, r in subject.study.written]


def _admitting(subject: Subject) -> list[Admission]:
    """The statements that let new connections in, each once; replies to what is asked need no reason."""
    out: dict[object, Admission] = {}
    written = {where for where, _ in subject.study.written}
    for direction in (Direction.TO_DEVICE, Direction.THROUGH_DEVICE):
        for one in subject.study.admissions(direction):
            if (
                one.rule.where in written
                and not is_kept(one.step.chain.name)
                and not (one.rule.shipped or one.rule.implied)
            ):
                out.setdefault(one.rule.where, one)
    return list(out.values())


def _text(rule: Rule) -> str:
    return " ".join(filter(None, (rule.name, rule.comment)))


def _said(rule: Rule) -> str:
    """Whatever somebody wrote beside a rule: its text, and what its records begin with."""
    return " ".join(filter(None, (_text(rule), *(e.prefix for e in rule.effects if isinstance(e, Log)))))


def _about(one: Admission, detail: str, of: int = 0) -> Found:
    step = one.step
    return Found(
        detail,
        rule_subject(step.chain, step.rule),
        lines_of(step),
        (refer(step.rulebase, step.chain, step.rule),),
        name=speak(step.chain, step.rule),
        of=of,
    )


@check(
    id="rules.undocumented",
    together="accepting rules have no description",
    title="Nothing says what a rule is for",
    severity=Severity.LOW,
    controls=("CM-3", "CM-6"),
    why="Rules nobody can explain are never removed.",
    how="Accepting statements without a name, description, ticket or requester.",
    fix="Write down what the rule is for, who asked and under which ticket; remove it if nobody knows.",
)
def undocumented(subject: Subject) -> Iterator[Answer]:
    rules = _admitting(subject)
    if not subject.study.standings:
        yield without_rules(subject.device)
        return
    bare = [
        one
        for one in rules
        if not _text(one.rule) and not one.rule.documentation.ticket and not one.rule.documentation.requester
    ]
    for one in bare:
        yield _about(one, f"{capital(speak(one.step.chain, one.rule))} has no description.", len(rules))
    if not rules:
        yield NotApplicable("no rule that somebody wrote lets new connections in")
    elif not bare:
        yield Passed(f"all of {counted(len(rules), 'accepting statement')} have a name or a description")


@check(
    id="rules.copied-description",
    title="A description was copied with the rule",
    severity=Severity.LOW,
    controls=("CM-3", "CM-6"),
    why="Whoever reads it believes it, and the rule's real purpose is lost.",
    how="Accepting statements with the same description that share neither source, destination nor service.",
    fix="Describe each rule by what it does itself.",
)
def copied_description(subject: Subject) -> Iterator[Answer]:
    if not subject.study.standings:
        yield without_rules(subject.device)
        return
    by_text: dict[str, list[Admission]] = {}
    for one in _admitting(subject):
        if one.rule.comment.strip():
            by_text.setdefault(one.rule.comment.strip().lower(), []).append(one)
    found = False
    for alike in by_text.values():
        for first, second in pairwise(alike):
            if first.program.family == second.program.family and not _akin(first.rule, second.rule):
                found = True
                where = capital(speak(second.step.chain, second.rule))
                yield _about(
                    second,
                    f"{where} has the description of {speak(first.step.chain, first.rule)}, with which it shares nothing else.",
                )
    if by_text and not found:
        yield Passed(f"{counted(len(by_text), 'description')} stand with rules that have something in common")
    elif not by_text:
        yield NotApplicable("no rule has a description")


def _akin(one: Rule, other: Rule) -> bool:
    """Whether two rules share a source, destination or service, or are the two ways between the same networks."""
    fields = (Field.SOURCE, Field.DESTINATION, Field.SERVICE, Field.DESTINATION_PORT)
    mine = {(c.field, c.operands) for c in one.match.conditions if c.field in fields}
    theirs = {(c.field, c.operands) for c in other.match.conditions if c.field in fields}
    turned = {(_TURNED.get(field, field), operands) for field, operands in theirs}
    return bool(mine & theirs) or bool(mine & turned) or min(len(mine), len(theirs)) < 2


_TURNED = {Field.SOURCE: Field.DESTINATION, Field.DESTINATION: Field.SOURCE}


_TICKET = r"(?i:\b(?:ticket|change|request|case)\b\W{0,3}\w*-?\d+)|\b[A-Z]-\d{2,}|[A-Z]{2,}-?\d+|#\d+"


@check(
    id="rules.incomplete-documentation",
    together="described rules name no ticket, or lack what else is asked for",
    title="A rule's documentation is incomplete",
    severity=Severity.INFO,
    controls=("CM-3",),
    params=(
        Param(
            "ticket",
            str,
            _TICKET,
            "pattern (RE2)",
            "what ticket numbers mostly look like, or a number behind the word",
            Of.PATTERN,
        ),
        Param("requester", bool, False, "true or false", "few exports have a place for it; ask for it where yours do"),
        Param("date", bool, False, "true or false", "as for the requester"),
    ),
    why="Without a ticket nobody can find out who agreed to it, and whether it is still needed.",
    how="Accepting statements that are described but name no ticket, in its field or in the "
    "description; and no requester or date where "
    "the parameters ask for them.",
    fix="Add the ticket, and the requester and date where your rules ask for them.",
)
def incomplete_documentation(subject: Subject) -> Iterator[Answer]:
    rules = [one for one in _admitting(subject) if _text(one.rule) or one.rule.documentation.requester]
    if not subject.study.standings:
        yield without_rules(subject.device)
        return
    found = False
    for one in rules:
        papers = one.rule.documentation
        missing = []
        if not papers.ticket and not pattern(subject.params["ticket"]).search(_text(one.rule)):
            missing.append("ticket")
        if subject.params["requester"] and not (papers.requester or papers.created_by):
            missing.append("requester")
        if subject.params["date"] and not (papers.created_at or read_date(_text(one.rule))):
            missing.append("date")
        if missing:
            found = True
            yield _about(
                one, f"{capital(speak(one.step.chain, one.rule))} names no {' and no '.join(missing)}.", len(rules)
            )
    if rules and not found:
        yield Passed(f"{counted(len(rules), 'described rule')} name what is asked for")
    elif not rules:
        yield NotApplicable("no rule is described at all")


def _ends(subject: Subject, rule: Rule) -> date | None:
    """The date a rule ends, from its own field, its schedule or its description."""
    said = rule.documentation.expires
    if said and (found := read_date(said) or until(f"until {said}")) is not None:
        return found
    schedule = next((s.text for s in subject.device.schedules if s.name == rule.schedule), "") if rule.schedule else ""
    texts = (f"{rule.schedule or ''} {schedule}", *(q.text for q in rule.qualifiers), _text(rule))
    return next((found for text in texts if (found := until(text)) is not None), None)


@check(
    id="rules.expired",
    title="A rule has outlived its date",
    severity=Severity.MEDIUM,
    controls=("CM-3", "AC-2", "AC-6"),
    why="What was agreed for a while has become permanent without anybody agreeing.",
    how="The date a rule ends is taken from its own field, its schedule, or words like 'until "
    "2026-03-31' in its description, and compared "
    "with the day of the audit.",
    fix="Remove the rule, or have it agreed again with a new date.",
)
def expired(subject: Subject) -> Iterator[Answer]:
    dated = past = 0
    for rulebase, chain, rule in _written(subject):
        end = _ends(subject, rule)
        if end is None or not rule.enabled:
            continue
        dated += 1
        if end < subject.study.estate.as_of:
            past += 1
            text = f"{capital(speak(chain, rule))} was to end on {end}."
            yield Found(
                text, f"{rulebase.name} {rule_subject(chain, rule)}", (rule.where,), (refer(rulebase, chain, rule),)
            )
    if not subject.study.standings:
        yield without_rules(subject.device)
    elif not dated:
        yield NotApplicable("no rule has an end date")
    elif not past:
        yield Passed(f"none of {counted(dated, 'dated rule')} is past its date")


TEMPORARY = (
    r"(?i)\b(temporar\w*|for now|for a while|for the (?:inspection|exercise|test|moment)|until|trial)\b",
    r"(?i)\b(vorübergehend\w*|provisorisch\w*|temporär\w*|befristet|vorläufig\w*|temporaire\w*|provisoire\w*|temporane\w*|provvisori\w*)\b",
    r"(?i)\b(tidy up|to be (?:closed|removed)|(?:remove|delete) (?:in|me|later|after|when)|test of|back on \w+day)\b",
    r"(?i)\b(tmp|temp|todo|fixme|debug\w*|for testing|testing only|test (?:only|rule)|just testing|work-?around|quick fix)\b",
)


def may_go(subject: Subject, rule: Rule) -> bool:
    """Whether a rule has an end, or is said to be there for a while: what stands beside it must not lean on it."""
    text = _said(rule)
    return _ends(subject, rule) is not None or any(pattern(words).search(text) for words in TEMPORARY)


_TRIED = r"(?i)\b(test\w*|debug\w*|try\w*|trac(?:e|ing))\b"
"""How people name records they look at once: a rule that only records is left over when nobody looks any more."""


@check(
    id="rules.temporary",
    title="A rule is said to be temporary and has no end",
    severity=Severity.LOW,
    controls=("CM-3", "AC-6"),
    params=(Param("words", tuple, TEMPORARY, "patterns", "how people say that something will not stay", Of.PATTERN),),
    why="Nothing lasts like the temporary.",
    how="Looks for the parameter's words in names, descriptions and log prefixes of enabled rules that have no end "
    "date; in rules that do nothing but record, for words of a trial as well.",
    fix="Give the rule an end date, or remove it if its time is over.",
)
def temporary(subject: Subject) -> Iterator[Answer]:
    with_text, found = 0, False
    for rulebase, chain, rule in _written(subject):
        text = _said(rule)
        if not text or not rule.enabled:
            continue
        with_text += 1
        words = (*subject.params["words"], *((_TRIED,) if rule.action is Action.CONTINUE and rule.logs else ()))
        said = next((m for p in words if (m := pattern(p).search(text))), None)
        if said is not None and _ends(subject, rule) is None:
            found = True
            detail = f"{capital(speak(chain, rule))} says '{said[0]}' and has no end date."
            yield Found(
                detail, f"{rulebase.name} {rule_subject(chain, rule)}", (rule.where,), (refer(rulebase, chain, rule),)
            )
    if not with_text:
        yield NotApplicable("no rule is described")
    elif not found:
        yield Passed(f"none of {counted(with_text, 'described rule')} is said to be temporary")


@check(
    id="rules.disabled",
    together="rules are switched off",
    title="A rule is switched off",
    severity=Severity.LOW,
    controls=("CM-6", "CM-7"),
    why="It is one click away from working again, and nobody remembers what it did.",
    how="Counts rules the export says are switched off.",
    fix="Decide whether it is still needed; one that is not can go, and the records of changes keep it.",
)
def disabled(subject: Subject) -> Iterator[Answer]:
    rules = _written(subject)
    if not rules:
        yield without_rules(subject.device)
        return
    off = [(base, chain, rule) for base, chain, rule in rules if not rule.enabled]
    for base, chain, rule in off:
        text = f"{capital(speak(chain, rule))} is switched off."
        yield Found(
            text,
            f"{base.name} {rule_subject(chain, rule)}",
            (rule.where,),
            (refer(base, chain, rule),),
            name=speak(chain, rule),
            of=len(rules),
        )
    if not off:
        yield Passed(f"none of {counted(len(rules), 'rule')} is switched off")


CHECKS: tuple[Check, ...] = (
    undocumented,
    copied_description,
    incomplete_documentation,
    expired,
    temporary,
    disabled,
)

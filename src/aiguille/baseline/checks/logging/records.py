"""What else is recorded, for how long, where, and what drowns it."""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import zip_longest
from math import isinf

from aiguille.analysis.countries import by_country
from aiguille.analysis.doubts import RATES
from aiguille.analysis.exposure import Exposure
from aiguille.analysis.program import Kind, Program, Step
from aiguille.analysis.study import Admission, is_for_translated, is_wide
from aiguille.baseline.asking import INWARD, RULES_TO_DEVICE, about, name_of, service_boxes
from aiguille.baseline.catalogue import (
    Answer,
    CannotTell,
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
)
from aiguille.baseline.wording import NO_INWARD_RULES, by_default, capital, counted, lines, listed
from aiguille.model import Action, Chain, Direction, Rule, Setting, Side
from aiguille.model.identity import Same
from aiguille.space import Axis, IntervalSet, box, meets, overlap


@check(
    id="logging.management",
    together="rules let logins in without recording them",
    title="Logins to the device leave no trace in the firewall's log",
    severity=Severity.LOW,
    controls=("AU-2", "AU-12", "AC-17"),
    why="Who tried to manage the device, from where and when, is the first question after an incident.",
    how="For every way of managing the device that answers somewhere, the rules a packet meets must "
    "record it, the accepting one or one "
    "before it. Rules the make has built in may be recorded elsewhere and are left out.",
    fix="Record new connections to the management services.",
    asks=(RULES_TO_DEVICE,),
)
def management(subject: Subject) -> Iterator[Answer]:
    looked = 0
    silent: dict[tuple[int, Same], list[Exposure]] = {}
    unknown = False
    for exposure in subject.study.exposures:
        step = exposure.proof.steps[-1]
        if not exposure.certain or step.rule is None or step.rule.built_in:
            continue
        looked += 1
        if step.log_unknown:
            unknown = True
        elif not all(end.logged for end in exposure.proof.ends if end.accepts):
            silent.setdefault((exposure.proof.program.family, Same(step.rule)), []).append(exposure)
    for alike in silent.values():
        proof = max(alike, key=lambda e: e.networks).proof
        step = proof.steps[-1]
        names = listed(e.service.name for e in alike)
        yield Found(
            f"{capital(speak(step.chain, step.rule))} lets {{family}} connections to {names} in without recording them.",
            rule_subject(step.chain, step.rule),
            lines_of(step),
            (refer(step.rulebase, step.chain, step.rule),),
            proof,
            family=proof.program.family,
            name=f"{speak(step.chain, step.rule)} ({names})",
        )
    if unknown:
        yield CannotTell("the export does not say whether rules for management are recorded")
    elif looked and not silent:
        yield Passed("connections to the management services are recorded")
    elif not looked:
        yield NotApplicable("no rule somebody wrote lets management in")


def _width(one: Admission) -> bool:
    """Whether a rule is permissive: any service, and any source or destination."""
    return not is_for_translated(one.rule) and any(
        region[Axis.PROTO] is None
        and (is_wide(region, Axis.SRC, one.program) or is_wide(region, Axis.DST, one.program))
        for region in one.regions
    )


@check(
    id="logging.permissive",
    together="permissive rules leave no trace in the log",
    title="A permissive rule leaves no trace in the log",
    severity=Severity.LOW,
    controls=("AU-2", "AU-12", "AC-4"),
    why="Only its records can show what such a rule is used for, and so what may replace it.",
    how="Accepting rules for any service from any source or to any destination must record what they let in.",
    fix="Record what the rule lets in until it is replaced by narrower ones.",
)
def permissive(subject: Subject) -> Iterator[Answer]:
    yield from _recorded(
        subject,
        [a for d in INWARD for a in subject.study.admissions(d) if _width(a) and not a.rule.shipped],
        "permissive",
    )


def _recorded(subject: Subject, admissions: list[Admission], what: str) -> Iterator[Answer]:
    if not any(True for d in INWARD for _ in subject.programs.all(d)):
        yield CannotTell(NO_INWARD_RULES)
        return
    silent = 0
    for one in admissions:
        if one.step.log_unknown:
            silent += 1
            yield CannotTell(
                f"the export does not say whether {speak(one.step.chain, one.step.rule)} records what it lets in"
            )
        elif not _may_record(subject, one.program) or not all(end.logged for end in one.proof.ends if end.accepts):
            silent += 1
            yield about(one, f"{name_of(one)} lets {{family}} packets in without recording them")
    if admissions and not silent:
        yield Passed(f"what {counted(len(admissions), f'{what} rule')} let in is recorded")
    elif not admissions:
        yield Passed(f"there is no {what} rule")


def _may_record(subject: Subject, program: Program) -> bool:
    """Whether any step records something."""
    recording: bool = subject.study.once(("records", program), lambda: any(step.logs for step in program.steps))
    return recording


SENSITIVE = (
    "tcp/22",
    "tcp/23",
    "tcp/445",
    "tcp/502",
    "tcp/1433",
    "tcp/3306",
    "tcp/3389",
    "tcp/4840",
    "tcp/5432",
    "tcp/5900-5901",
)


@check(
    id="logging.sensitive",
    together="rules for sensitive services leave no trace in the log",
    title="Use of a sensitive service leaves no trace in the log",
    severity=Severity.LOW,
    controls=("AU-2", "AU-12"),
    params=(
        Param(
            "services",
            tuple,
            SENSITIVE,
            "services",
            "remote control, databases, shared files and plant control",
            Of.SERVICE,
        ),
        Param("ports", int, 64, "ports", "a rule open on more is not about one service"),
    ),
    why="Such connections are few, and each is worth a line when something went wrong.",
    how="Accepting rules through the device that name one of the services, and not more ports than the parameter, must record.",
    fix="Record new connections to these services.",
)
def sensitive(subject: Subject) -> Iterator[Answer]:
    found = []
    for one in subject.study.admissions(Direction.THROUGH_DEVICE):
        wanted = service_boxes(subject.params["services"], one.program.family)
        narrow = [r for r in one.regions if r[Axis.B] is not None and r[Axis.B].size <= subject.params["ports"]]  # type: ignore[union-attr]
        if any(meets(region, box) for region in narrow for _, box in wanted):
            found.append(one)
    yield from _recorded(subject, found, "sensitive")


def _kept(setting: Setting[float], least: float, whose: str) -> Iterator[Answer]:
    if setting.value >= least:
        yield Passed(
            f"records stay {whose} " + ("without limit of time" if isinf(setting.value) else f"{setting.value:g} days")
        )
    else:
        yield Found(
            f"Records stay {whose} for {setting.value:g} days only{by_default(setting)}.", whose, lines(setting.where)
        )


@check(
    id="logging.device-days",
    title="Records are gone from the device too soon",
    severity=Severity.MEDIUM,
    controls=("AU-4", "AU-11"),
    needs=("logging.device_days",),
    params=(Param("at_least", float, 7.0, "days", "most incidents are noticed after a weekend, not within the hour"),),
    why="What happened before somebody looked can no longer be found out.",
    how="Compares how long records stay on the device with the parameter.",
    fix="Keep records on the device for at least {at_least:g} days.",
)
def device_days(subject: Subject) -> Iterator[Answer]:
    yield from _kept(subject.device.logging.device_days, subject.params["at_least"], "on the device")


@check(
    id="logging.collector-days",
    title="Records are gone from the collector too soon",
    severity=Severity.LOW,
    controls=("AU-11", "AU-4"),
    needs=("logging.collector_days",),
    params=(Param("at_least", float, 30.0, "days", "intruders stay unnoticed for weeks"),),
    why="An intrusion that began a month ago has to be traced to its beginning.",
    how="Compares how long records stay on the collector with the parameter, where the export states it.",
    fix="Keep records on the collector for at least {at_least:g} days.",
)
def collector_days(subject: Subject) -> Iterator[Answer]:
    yield from _kept(subject.device.logging.collector_days, subject.params["at_least"], "on the collector")


@check(
    id="logging.collector",
    title="Records are sent nowhere",
    severity=Severity.MEDIUM,
    controls=("AU-4(1)", "AU-9", "AU-6"),
    needs=("logging.collectors",),
    why="Whoever takes the device over wipes its log, and a dead device has no log to read.",
    how="Asks for the hosts that records are sent to.",
    fix="Send records to a collector on another machine.",
)
def collector(subject: Subject) -> Iterator[Answer]:
    collectors, others = subject.device.logging.collectors, subject.device.logging.elsewhere
    if collectors.value:
        yield Passed(f"records are sent to {listed(collectors.value)}")
    elif others:
        yield Found(
            f"What the rules record is sent to no collector; only other records go to {listed(others)}.",
            "collector",
            lines(collectors.where),
        )
    else:
        yield Found(f"Records are sent to no collector{by_default(collectors)}.", "collector", lines(collectors.where))


@check(
    id="logging.noise",
    title="The log drowns in what nobody will read",
    severity=Severity.LOW,
    controls=("AU-4", "AU-6"),
    params=(
        Param("share", float, 0.2, "of all hits", "one rule that fills a fifth of the log hides the rest"),
        Param("services", tuple, ("tcp/80", "tcp/443", "udp/443"), "services", "public web pages", Of.SERVICE),
    ),
    why="A log that is full of the expected hides the unexpected, and is overwritten sooner.",
    how="Rules that record what they accept of the services from the outside, or do nothing but record it, with a greater share "
    "of the recorded hits than the parameter; and filters by country that record what they refuse.",
    fix="Stop recording hits of the busy public rule and of the country filter, unless you are looking for a fault.",
)
def noise(subject: Subject) -> Iterator[Answer]:
    outer = subject.study.on(Side.OUTSIDE)
    counted_rules = [r for base in subject.device.rulebases for _, r in base.rules() if r.hits is not None]
    total = sum(r.hits.packets for r in counted_rules if r.hits is not None and r.logs)
    found = False
    for one in subject.device.geo_filters:
        if one.enabled and one.logged.known and one.logged.value:
            found = True
            yield Found(
                "Everything the filter by country refuses is recorded.",
                f"filter {one.name}",
                lines(one.logged.where, one.where),
            )
    for chain, rule in _recorded_countries(subject):
        found = True
        yield Found(
            f"{capital(speak(chain, rule))} records everything it refuses of some countries.",
            rule_subject(chain, rule),
            (rule.where,),
        )
    for admission in subject.study.admissions(Direction.THROUGH_DEVICE):
        rule = admission.rule
        wanted = service_boxes(subject.params["services"], admission.program.family)
        public = admission.anything(Axis.SRC) and admission.values(Axis.IN).overlaps(outer)
        if (
            rule.logs
            and public
            and rule.hits is not None
            and any(overlap(r, b) for r in admission.regions for _, b in wanted)
        ):
            share = rule.hits.packets / total if total else 0.0
            if share > subject.params["share"]:
                found = True
                yield about(admission, f"{name_of(admission)} makes {share:.0%} of the recorded hits")
    for step in _recording_public(subject, outer):
        hits = step.rule.hits.packets if step.rule is not None and step.rule.hits is not None else 0
        if total and hits / total > subject.params["share"]:
            found = True
            yield Found(
                f"{capital(speak(step.chain, step.rule))} makes {hits / total:.0%} of the recorded hits.",
                rule_subject(step.chain, step.rule),
                lines_of(step),
                (refer(step.rulebase, step.chain, step.rule),),
            )
    if found:
        return
    logging = [r for base in subject.device.rulebases for _, r in base.rules() if r.logs]
    if logging and not counted_rules:
        yield CannotTell("the export counts no hits, so nothing shows how full of what the log is")
    else:
        yield Passed("neither a busy public rule nor a filter by country fills the log")


def _recorded_countries(subject: Subject) -> Iterator[tuple[Chain, Rule]]:
    """Rules that refuse countries and record each packet of them, a rate aside."""
    described = set()
    for base in subject.device.rulebases:
        before: Rule | None = None
        above: Chain | None = None
        for chain, rule in base.rules():
            before = before if chain is above else None
            refuses = rule.action.refuses and by_country(rule)
            # A record may be made by a rule of its own, right before the refusal.
            recorded = rule.logs or (before is not None and before.logs and before.match == rule.match)
            limited = any(
                q.name in RATES for one in (rule, before) if one is not None and one.logs for q in one.qualifiers
            )
            if refuses and rule.enabled and recorded and not limited and rule.where not in described:
                described.add(rule.where)
                yield chain, rule
            before, above = rule, chain


def _recording_public(subject: Subject, outer: IntervalSet) -> Iterator[Step]:
    """Rules that do nothing but record connections of anybody outside to the public services."""
    for program in subject.programs.all(Direction.THROUGH_DEVICE):
        wanted = [one for _, one in service_boxes(subject.params["services"], program.family)]
        for step in program.steps:
            if step.rule is None or step.kind is not Kind.PASS or not step.rule.logs or step.rule.qualifiers:
                continue
            boxes = [piece.box for piece in step.pieces]
            if boxes and all(
                is_wide(one, Axis.SRC, program)
                and meets(one, box([(Axis.IN, outer)]))
                and _within(one[Axis.B], [w[Axis.B] for w in wanted if meets(one, w)])
                for one in boxes
            ):
                yield step


def _within(ports: IntervalSet | None, wanted: list[IntervalSet | None]) -> bool:
    """Whether ports are named, and all of them wanted."""
    union = IntervalSet(span for one in wanted if one is not None for span in one.spans)
    return ports is not None and bool(union) and ports.issubset(union)


_RATE = re.compile(
    r"(\d+)\s*/\s*(s|sec|second|m|min|minute|h|hour|d|day|week)\w*|(\d+) an? (second|minute|hour|day|week)"
)
_PER_MINUTE = {"s": 60.0, "m": 1.0, "h": 1 / 60, "d": 1 / 1440, "w": 1 / 10080}


@check(
    id="logging.rate",
    title="A rate limit leaves next to nothing of the log, or limits nothing",
    severity=Severity.LOW,
    controls=("AU-2", "AU-5", "AU-12"),
    params=(Param("at_least", float, 1.0, "records a minute", "fewer do not show that something goes on"),),
    why="A limit against floods that is set too low hides the slow and patient as well; behind the record it stops no flood.",
    how="Reads the rates of rules that record. Those below the parameter are findings, and those nft comes to when it has recorded.",
    fix="Raise the limit to at least {at_least:g} records a minute; in rules of nft, write it before log.",
)
def rate(subject: Subject) -> Iterator[Answer]:
    looked, found = 0, False
    for rulebase in subject.device.rulebases:
        for chain in rulebase.chains:
            for rule, after in zip_longest(chain.rules, chain.rules[1:]):
                if not rule.logs or not rule.enabled:
                    continue
                looked += 1
                wrong = [f"no more than {described}" for described in _too_few(rule, subject.params["at_least"])]
                if _is_late(rule, after):
                    wrong.append("every packet: its limit stands behind the record")
                for what in wrong:
                    found = True
                    text = f"{capital(speak(chain, rule))} records {what}."
                    yield Found(text, rule_subject(chain, rule), (rule.where,), (refer(rulebase, chain, rule),))
    if not looked:
        yield NotApplicable("no rule records anything")
    elif not found:
        yield Passed(f"none of {counted(looked, 'recording rule')} is limited to next to nothing")


def _too_few(rule: Rule, at_least: float) -> Iterator[str]:
    """The rates of a rule that are below so many records a minute, as it is written."""
    for qualifier in rule.qualifiers:
        described = _RATE.search(qualifier.text) if qualifier.name == "rate limit" else None
        if described is None or "over" in qualifier.text:
            continue
        number, unit = int(described[1] or described[3]), (described[2] or described[4])[0]
        if number * _PER_MINUTE[unit] < at_least:
            yield described[0].strip()


def _is_late(rule: Rule, after: Rule | None) -> bool:
    """Whether what goes on behind a record, as part of the same rule, is a rate and lets nothing through."""
    return (
        after is not None
        and (after.where, after.number) == (rule.where, rule.number)
        and (after.action is Action.CONTINUE or after.action.refuses)
        and any(one.name == "rate limit" and one not in rule.qualifiers for one in after.qualifiers)
    )


@check(
    id="logging.time-source",
    title="The clock is set by nobody",
    severity=Severity.MEDIUM,
    controls=("AU-8", "SC-45"),
    needs=("time_sources",),
    why="Records whose times do not agree cannot be put together, and convince nobody.",
    how="Asks for the servers the device takes the time from.",
    fix="Name at least one time server, the same for all devices.",
)
def time_source(subject: Subject) -> Iterator[Answer]:
    sources = subject.device.time_sources
    if sources.value:
        yield Passed(f"the time comes from {listed(sources.value)}")
    else:
        yield Found(f"No time server is named{by_default(sources)}.", "time source", lines(sources.where))


CHECKS: tuple[Check, ...] = (
    management,
    permissive,
    sensitive,
    device_days,
    collector_days,
    collector,
    noise,
    rate,
    time_source,
)

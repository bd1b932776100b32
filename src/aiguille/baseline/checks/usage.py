"""What nobody uses any more."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import date

from msgspec.structs import replace

from aiguille.analysis.loopback import LOOPBACK
from aiguille.analysis.ordering import best_order
from aiguille.analysis.standing import Standing, StandingReport
from aiguille.analysis.study import lets_in
from aiguille.baseline.asking import about, name_of
from aiguille.baseline.catalogue import (
    Answer,
    CannotTell,
    Check,
    Found,
    NotApplicable,
    Param,
    Passed,
    Severity,
    Subject,
    check,
    refer,
    rule_subject,
    speak,
)
from aiguille.baseline.dates import is_never, read_date, read_day, seen_at
from aiguille.baseline.wording import NO_RULES, capital, counted, lines, listed
from aiguille.model import Action, Addresses, Direction, InterfaceName, Known, Rule, Span
from aiguille.model.identity import Same
from aiguille.space import Axis, IntervalSet, box, overlap
from aiguille.space.fields import TCP, UDP


@check(
    id="usage.never-hit",
    together="rules were never hit",
    title="A rule was never hit",
    severity=Severity.LOW,
    controls=("CM-6", "CM-7", "AC-6"),
    params=(Param("days", int, 60, "days of counting", "some work is done once a month; less proves nothing"),),
    why="A permission nobody uses is a way in nobody watches.",
    how="Only where the export states since when hits are counted, or another rule was hit long ago and never since, and that is as "
    "long as the parameter asks. A rule hidden by rules above is distinguished from one for which there is no traffic.",
    fix="Ask who needs the rule, switch it off for a while, then delete it.",
)
def never_hit(subject: Subject) -> Iterator[Answer]:
    device = subject.device
    counted_rules = [
        (r, where)
        for where, group in subject.study.written
        for r in group[:1]
        if r.rule.hits is not None or r.rule.last_hit
    ]
    if not counted_rules:
        yield CannotTell("the export counts no hits; export the rules with their counters")
        return
    since = read_date(device.counters_since.value) if device.counters_since.known else None
    day, least = seen_at(device, subject.study.estate.as_of), subject.params["days"]
    other = _hit_first(counted_rules) if since is None else None
    if other is not None and (day - other[0]).days >= least:
        since = other[0]  # what is nearer says nothing of how long it has been
    if since is None:
        yield CannotTell(
            "the export does not state since when hits are counted; note when the counters were last set to zero"
        )
        return
    days = (day - since).days
    # A host that is up so long may have loaded its rules anew, which sets the counters to zero.
    by_start = device.counters_since.standing is Known.DEFAULT
    long = counted(days, "day")
    if days < least:
        most = "at most " if by_start else ""
        yield CannotTell(f"hits are counted for {most}{long} only; export again when it is {least}")
        return
    period = f"since the device started {long} ago" if by_start else f"in {long}"
    if other is not None:
        period = f"in the {long} since {speak(other[1].chain, other[1].rule)} was hit for the last time"
    idle = 0
    for report, where in counted_rules:
        rule = report.rule
        hit = read_day(rule.last_hit)
        if (
            not _unhit(rule)
            or (hit is not None and hit >= since)
            or not rule.enabled
            or report.standing is Standing.SHADOWED
        ):
            continue
        idle += 1
        hidden = report.standing is Standing.REDUNDANT and report.witness is None
        names = listed((speak(chain, other) for _, chain, other in report.because), 2) if report.because else ""
        why = f"it is hidden by {names}" if hidden and names else "there was no such traffic"
        if by_start:
            why += ", unless the rules were loaded anew since"
        elif other is not None:
            why += ", unless the rule is younger"
        last = f", last on {rule.last_hit}" if rule.last_hit and not is_never(rule.last_hit) else ""
        yield Found(
            f"{capital(speak(report.chain, rule))} was not hit {period}{last}: {why}.",
            f"{report.rulebase.name} {rule_subject(report.chain, rule)}",
            (where,),
            (refer(report.rulebase, report.chain, rule),),
            name=f"{speak(report.chain, rule)} ({why})",
            of=len(counted_rules),
        )
    if not idle:
        yield Passed(f"each of {counted(len(counted_rules), 'counted rule')} was hit {period}")


def _unhit(rule: Rule) -> bool:
    """Whether the export says that a rule has not been hit, by its count or by the day."""
    return not rule.hits.packets if rule.hits is not None else is_never(rule.last_hit)


def _hit_first(counted_rules: Sequence[tuple[StandingReport, Span]]) -> tuple[date, StandingReport] | None:
    """The day of the oldest last hit that is still counted, and its rule: so long at the least hits have been counted."""
    days = (
        (day, report)
        for report, _ in counted_rules
        if not _unhit(report.rule) and (day := read_day(report.rule.last_hit)) is not None
    )
    return min(days, key=lambda one: one[0], default=None)


@check(
    id="usage.long-idle",
    together="rules have not been hit for long",
    title="A rule has not been hit for long",
    severity=Severity.LOW,
    controls=("CM-6", "CM-7", "AC-6"),
    params=(Param("days", int, 180, "days since the last hit", "some work is done twice a year; less proves nothing"),),
    why="What was needed once stays open, and nobody notices who uses it next.",
    how="The day on which the export says that a rule which lets something in was last hit, against the day of the export.",
    fix="Ask who needs the rule; switch it off for a while, then delete it.",
)
def long_idle(subject: Subject) -> Iterator[Answer]:
    device = subject.device
    day = seen_at(device, subject.study.estate.as_of)
    dated = [
        (report, where, last)
        for where, group in subject.study.written
        for report in group[:1]
        if (rule := report.rule).enabled
        and rule.action is Action.ACCEPT
        and (last := rule.last_hit)
        and not is_never(last)
    ]
    if not dated:
        yield NotApplicable("the export does not say when rules were last hit")
        return
    idle, unread = 0, [last for _, _, last in dated if read_day(last) is None]
    for report, where, last in dated:
        hit = read_day(last)
        if hit is None or (day - hit).days < subject.params["days"] or report.standing is Standing.SHADOWED:
            continue
        idle += 1
        yield Found(
            f"{capital(speak(report.chain, report.rule))} was last hit on {hit.isoformat()}, {counted((day - hit).days, 'day')} ago.",
            f"{report.rulebase.name} {rule_subject(report.chain, report.rule)}",
            (where,),
            (refer(report.rulebase, report.chain, report.rule),),
            name=f"{speak(report.chain, report.rule)} ({hit.isoformat()})",
            of=len(dated),
        )
    if unread:
        yield CannotTell(f"what says when a rule was last hit is no date ('{unread[0]}')")
    elif not idle:
        yield Passed(
            f"each of {counted(len(dated), 'rule')} that lets something in was hit in the last {subject.params['days']} days"
        )


@check(
    id="usage.unused-interface",
    title="An interface is up and used for nothing",
    severity=Severity.LOW,
    controls=("CM-7", "SC-7"),
    why="Whoever plugs in there is on the device, and no rule was written for them.",
    how="Interfaces in use that no rule names, and that have no address and no zone, or an address but nothing plugged in.",
    fix="Shut the interface down until it is needed.",
)
def unused_interface(subject: Subject) -> Iterator[Answer]:
    device = subject.device
    if not any(one.where is not None for one in device.interfaces):
        yield CannotTell("the export lists no interfaces; add `ip -j addr` or the make's list")
        return
    named = {o.name for base in device.rulebases for _, r in base.rules() for c in r.match.conditions
             for o in c.operands if isinstance(o, InterfaceName)}  # fmt: skip
    # Who guesses a side from an address does not say that the interface is used.
    zoned = {name for zone in device.zones if not zone.guessed for name in zone.interfaces}
    idle = [
        one
        for one in device.interfaces
        if one.enabled
        and one.name != LOOPBACK
        and one.name not in named | zoned
        and not one.zone
        and (one.linked is False or not _has_global(one.addresses))
    ]
    for one in idle:
        what = (
            "with an address, nothing plugged in and no rule"
            if _has_global(one.addresses)
            else "without address, zone or rule"
        )
        yield Found(f"Interface {one.name} is up, {what}.", one.name, lines(one.where))
    if not idle:
        yield Passed(f"each of {counted(len(device.interfaces), 'interface')} is used or shut")


def _has_global(addresses: tuple[Addresses, ...]) -> bool:
    return any(a.family == 4 or a.first >> 118 != 0x3FA for a in addresses)


@check(
    id="usage.unused-account",
    together="accounts were not used for long",
    title="An account was not used for long",
    severity=Severity.MEDIUM,
    controls=("AC-2", "AC-2(3)"),
    params=(Param("days", int, 90, "days", "a quarter; whoever was away longer can ask for it again"),),
    why="Accounts of people who have left are tried first and watched least.",
    how="Compares the day an account last logged in with the day of the audit, where the export states it.",
    fix="Disable the account, and delete it if nobody asks for it.",
)
def unused_account(subject: Subject) -> Iterator[Answer]:
    accounts = [one for one in subject.device.administration.accounts if one.enabled]
    described = [
        (one, day) for one in accounts if one.last_used.known and (day := read_date(one.last_used.value)) is not None
    ]
    idle = 0
    for one, day in described:
        days = (subject.study.estate.as_of - day).days
        if days > subject.params["days"]:
            idle += 1
            yield Found(
                f"Account '{one.name}' was last used {counted(days, 'day')} ago.",
                one.name,
                lines(one.where, one.last_used.where),
            )
    if described and len(described) < len(accounts):
        names = listed(one.name for one in accounts if all(one is not other for other, _ in described))
        yield CannotTell(f"the export does not state when {names} was last used")
    if not described:
        yield CannotTell("the export does not state when accounts were last used")
    elif not idle:
        yield Passed(
            f"each of {counted(len(described), 'account')} was used within {counted(subject.params['days'], 'day')}"
        )


@check(
    id="usage.closed-service",
    title="A service runs that no rule lets in",
    severity=Severity.LOW,
    controls=("CM-7",),
    why="It waits for the first rule that is too wide.",
    how="Ways of managing the device that the export says are switched on, and sockets it lists, that no source reaches through any "
    "interface.",
    fix="Switch the service off, or let it listen at the loopback alone.",
)
def closed_service(subject: Subject) -> Iterator[Answer]:
    running = [s for s in subject.device.administration.services if s.enabled and s.where is not None]
    if not running:
        yield CannotTell("the export does not state which services run; add `ss -H -tuln` or the make's list")
        return
    if not any(True for _ in subject.programs.all(Direction.TO_DEVICE)):
        yield CannotTell(NO_RULES)
        return
    reached = {e.service.name for e in subject.study.exposures}
    shut = [s for s in running if s.name not in reached]
    for one in shut:
        yield Found(f"{capital(one.name)} runs and is let in from nowhere.", one.name, lines(one.where))
    spoken = {
        (term.protocol.first, port)
        for service in running
        for term in service.terms
        for ports in term.destination_ports
        for port in range(ports.first, min(ports.last, ports.first + _FEW) + 1)
    }
    unheard = [
        one
        for protocol in (TCP, UDP)
        for open_to in [subject.study.open_ports_anywhere(protocol)]
        for one in subject.device.listeners
        if one.protocol == protocol
        and one.port not in open_to
        and (protocol, one.port) not in spoken
        and not (
            protocol == UDP and one.port in _ANSWERED_BY_ITSELF
        )  # a lease's answer needs no rule, and no lease no address
    ]
    if unheard:
        ports = dict.fromkeys(_spell(one.protocol, one.port) for one in unheard)
        verb = "waits" if len(ports) == 1 else "wait"
        text = f"{capital(listed(ports, 6))} {verb} for connections and {'is' if len(ports) == 1 else 'are'} let in from nowhere."
        yield Found(text, "sockets", lines(*dict.fromkeys(one.where for one in unheard)))
    if not shut and not unheard:
        yield Passed(f"each of {counted(len(running), 'service')} that runs is let in somewhere")


def _spell(protocol: int, port: int) -> str:
    return f"{'tcp' if protocol == TCP else 'udp'}/{port}"


_ADD_SOCKETS = "add `ss -H -tuln`"

_FEW = 16
"""Ports of a rule that names its ports."""

_ANSWERED_BY_ITSELF = (68, 546)
"""Ports of clients that ask for a lease, and get their answers whatever rules say (RFC 2131, RFC 8415)."""


@check(
    id="usage.no-listener",
    together="rules let in what no program waits for",
    title="Nothing listens where a rule lets in",
    severity=Severity.LOW,
    controls=("CM-7", "SC-7"),
    why="The next program that takes the port is open from its first moment, and nobody will have asked.",
    how="Accepting rules to the device that name few ports, with one at which no socket of the export waits, the loopback's apart. "
    "Where the export lists no sockets the outcome is open.",
    fix="Ask whether the service is still meant to run; if not, take the rule out.",
)
def no_listener(subject: Subject) -> Iterator[Answer]:
    sockets = {(one.protocol, one.port) for one in subject.device.listeners}
    known = subject.device.listed
    if not known:
        yield CannotTell(f"the export does not state which sockets wait for connections; {_ADD_SOCKETS}")
        return
    looked, found, unlisted = 0, False, False
    for one in subject.study.admissions(Direction.TO_DEVICE):
        if one.rule.implied or one.rule.shipped or one.rule.built_in:
            continue
        spans = {
            (protocol, span)
            for region in one.regions
            for protocol in (TCP, UDP)
            if region[Axis.PROTO] is not None and protocol in (region[Axis.PROTO] or ())
            for ports in [region[Axis.B]]
            if ports is not None and ports.size <= _FEW
            for span in ports.spans
            if span[0] not in _ANSWERED_BY_ITSELF
        }
        looked += bool(spans)
        unlisted = unlisted or any(protocol not in known for protocol, _ in spans)
        idle = sorted(
            (protocol, first)
            for protocol, (first, last) in spans
            if protocol in known and not any(at == protocol and first <= port <= last for at, port in sockets)
        )
        if idle:
            found = True
            described = listed((_spell(*pair) for pair in idle), 4)
            answer = about(one, f"{name_of(one)} lets {{family}} connections to {described} in, where no socket waits")
            waits = box([(Axis.PROTO, IntervalSet.of(idle[0][0])), (Axis.B, IntervalSet.of(idle[0][1]))])
            shown = (
                subject.study.find(one.program, overlap(r, waits), lets_in(one.program), one.number)
                for r in one.regions
            )
            proof = next((p for p in shown if p is not None), one.proof)
            yield replace(answer, proof=proof, name=f"{speak(one.step.chain, one.rule)} ({described})")
    if not looked:
        yield NotApplicable("no rule to the device names ports")
    elif not found and unlisted:
        names = listed(name for number, name in ((TCP, "TCP"), (UDP, "UDP")) if number not in known)
        yield CannotTell(f"the export lists no sockets of {names}; {_ADD_SOCKETS}")
    elif not found:
        yield Passed(f"a socket waits behind each of {counted(looked, 'rule')} that names ports")


@check(
    id="usage.rule-order",
    title="Busy rules stand far down",
    severity=Severity.INFO,
    controls=("SC-5", "CM-6"),
    params=(
        Param("gain", float, 1.5, "times fewer comparisons", "less is not worth a change"),
        Param("comparisons", float, 3.0, "comparisons a packet today", "short walks cost nothing"),
    ),
    why="Every packet is compared with all rules before its own.",
    how="From the hits of a chain the comparisons a hit takes are computed, today and in the best order found that changes no verdict: "
    "rules that share packets and decide them differently, or that record, keep their order.",
    fix="Move the busy rule up; the order given changes no verdict.",
)
def rule_order(subject: Subject) -> Iterator[Answer]:
    looked, found = 0, False
    for direction in Direction:
        programs = list(subject.programs.all(direction))
        chains = {Same(chain): (base, chain) for program in programs for base, chain in program.bases}
        for rulebase, chain in chains.values():
            order = best_order([p for p in programs if any(c is chain for _, c in p.bases)], chain)
            if order is None:
                continue
            looked += 1
            if order.now < subject.params["comparisons"] or order.now < order.better * subject.params["gain"]:
                continue
            found = True
            rule, places = order.moved
            yield Found(
                f"Chain {chain.name} takes {order.now:.1f} comparisons a hit, {order.better:.1f} in the order "
                f"{', '.join(map(str, order.order))}; rule {rule.number} gains most, {counted(places, 'place')} up.",
                f"{rulebase.name} {chain.name}",
                (rule.where,),
                (refer(rulebase, chain, rule),),
            )
    if not looked:
        yield CannotTell("no chain has hits on all of its rules; export the rules with their counters")
    elif not found:
        yield Passed(f"no better order of {counted(looked, 'chain')} spares much")


CHECKS: tuple[Check, ...] = (
    never_hit,
    long_idle,
    unused_interface,
    unused_account,
    closed_service,
    no_listener,
    rule_order,
)

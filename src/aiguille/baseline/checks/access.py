"""Who can reach the device's own login, from where, and over what."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from math import isinf

from aiguille.analysis import (
    Entrance,
    Exposure,
    Programs,
    each_interface,
    entrances,
    exposures,
    networks_in,
    outside_known,
)
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
    lines_of,
    refer,
    rule_subject,
    speak,
)
from aiguille.baseline.services import management_services
from aiguille.model import Direction, ManagementService, Side, Span
from aiguille.space import Axis, IntervalSet

_SOURCES = Param(
    "at_most_sources",
    int,
    64,
    "addresses (IPv6: networks of 64 bits)",
    "a handful of named hosts or a small management network, not a whole client network",
)

SETTLE_OUTSIDE = "state the interface that faces the outside in engagement.toml (zones.outside)"


@dataclass(slots=True)
class _Group:
    """Exposures that one rule causes in one family, on every entrance of a kind."""

    exposures: list[Exposure] = field(default_factory=list)

    @property
    def worst(self) -> Exposure:
        return max(self.exposures, key=lambda e: e.networks)

    def services(self) -> str:
        return _listed(dict.fromkeys(e.service.name for e in self.exposures))

    def entrances(self) -> str:
        ways = dict.fromkeys(e.entrance for e in self.exposures)
        labels = _listed(dict.fromkeys(w.label for w in ways))
        if all(way.side is None for way in ways):
            return f"through {labels}"
        return f"through zone{'s' if len(ways) > 1 else ''} {labels}"


def _grouped(found: Iterable[Exposure]) -> list[_Group]:
    groups: dict[tuple[object, ...], _Group] = {}
    for exposure in found:
        rules = tuple(id(s.rule) for s in exposure.proof.steps)
        groups.setdefault((exposure.proof.program.family, exposure.certain, rules), _Group()).exposures.append(exposure)
    return list(groups.values())


def _listed(names: Iterable[str]) -> str:
    every = list(names)
    return every[0] if len(every) == 1 else ", ".join(every[:-1]) + " and " + every[-1]


def _sources(exposure: Exposure) -> str:
    program = exposure.proof.program
    if exposure.sources.size > program.space.tops[Axis.SRC] // 2:
        return "any {family} address"
    unit = "addresses" if program.family == 4 else "networks of 64 bits"
    return f"{exposure.networks:,} {unit}".replace(",", " ")


def _describe(group: _Group) -> Found:
    worst = group.worst
    steps = worst.proof.steps
    spans = [where for step in steps for where in lines_of(step)]
    spans += [e.service.where for e in group.exposures if e.service.where is not None]
    limited = " within the rule's rate limit" if worst.rated else ""
    verb = "answers" if len({e.service.name for e in group.exposures}) == 1 else "answer"
    last = steps[-1]
    return Found(
        detail=f"{group.services()} {verb} {group.entrances()} to {_sources(worst)}{limited}.",
        subject=rule_subject(last.chain, last.rule),
        where=tuple(dict.fromkeys(spans)),
        rules=tuple(refer(s.rulebase, s.chain, s.rule) for s in steps),
        proof=worst.proof,
        family=worst.proof.program.family,
    )


def _doubt(group: _Group) -> CannotTell:
    step = group.worst.proof.steps[0]
    return CannotTell(
        f"{group.services()} may be reachable {group.entrances()}: whether {speak(step.chain, step.rule)} "
        f"({step.where or 'built in'}) takes a packet depends on a condition the export does not settle; have its sets, "
        "lists or names exported too"
    )


def _exposed(subject: Subject, wanted: Sequence[Entrance], services: Sequence[ManagementService]) -> list[Exposure]:
    return [e for entrance in wanted for e in exposures(subject.programs, entrance, services)]


def _to_device(programs: Programs) -> bool:
    return any(True for _ in programs.all(Direction.TO_DEVICE))


NO_RULES = "the export holds no rules for traffic to the device itself; export the filter rules too"


@check(
    id="access.reachable-from-outside",
    title="Management answers on the outside",
    severity=Severity.HIGH,
    controls=("AC-17", "SC-7", "CM-7"),
    params=(_SOURCES,),
    why="Whoever can reach a login can try passwords and use its next flaw; on the outside that is everybody.",
    fix="Allow management from the outside only from named addresses (at most {at_most_sources}), or better through a VPN to "
    "an inside address, and refuse it to all others.",
)
def reachable_from_outside(subject: Subject) -> Iterator[Answer]:
    if not _to_device(subject.programs):
        yield CannotTell(NO_RULES)
        return
    services = management_services(subject.device)
    if outside_known(subject.device):
        ways = tuple(e for e in entrances(subject.programs) if e.side is Side.OUTSIDE)
        open_to = _wide(subject, ways, services)
        certain, doubtful = [e for e in open_to if e.certain], [e for e in open_to if not e.certain]
    else:
        ways = each_interface(subject.programs)
        certain, doubtful = _whichever(ways, _wide(subject, ways, services))
    for group in _grouped(certain):
        yield _describe(group)
    for group in _grouped(e for e in doubtful if e.certain):
        yield CannotTell(
            f"{group.services()} can be reached {group.entrances()}, and the export does not say whether that is the "
            f"outside; {SETTLE_OUTSIDE}"
        )
    for group in _grouped(e for e in doubtful if not e.certain):
        yield _doubt(group)
    if not certain and not doubtful:
        yield Passed(f"none of {len(services)} management services answers on the outside beyond named sources")


def _wide(subject: Subject, ways: Sequence[Entrance], services: Sequence[ManagementService]) -> list[Exposure]:
    """What can be reached from more sources than the baseline allows, all rules together; the rules that are too wide
    by themselves if there are such, else all that add up to it."""
    limit = subject.params["at_most_sources"]
    together: dict[tuple[object, ...], list[Exposure]] = {}
    for exposure in _exposed(subject, ways, services):
        key = (exposure.proof.program.family, exposure.entrance.label, exposure.service.name, exposure.certain)
        together.setdefault(key, []).append(exposure)
    out: list[Exposure] = []
    for alike in together.values():
        everybody = IntervalSet(span for exposure in alike for span in exposure.sources.spans)
        if networks_in(everybody, alike[0].proof.program.family) > limit:
            wide = [e for e in alike if e.networks > limit]
            out += wide or alike
    return out


def _whichever(ways: Sequence[Entrance], found: Sequence[Exposure]) -> tuple[list[Exposure], list[Exposure]]:
    """With the outside unknown: what can be reached by every interface, and so by that one; and the rest.

    Of the first, one exposure stands for all interfaces.
    """
    open_by: dict[tuple[int, str], list[Exposure]] = {}
    for exposure in found:
        open_by.setdefault((exposure.proof.program.family, exposure.service.name), []).append(exposure)
    everywhere: list[Exposure] = []
    rest: list[Exposure] = []
    for alike in open_by.values():
        certain = [e for e in alike if e.certain]
        if len({e.entrance.label for e in certain}) == len(ways):
            last = [e for e in certain if e.entrance == ways[-1]]
            everywhere += [replace(e, entrance=replace(e.entrance, label="any interface")) for e in last]
        else:
            rest += alike
    return everywhere, rest


@check(
    id="access.no-source-restriction",
    title="Management is open to ordinary inside hosts",
    severity=Severity.MEDIUM,
    controls=("AC-3", "AC-17", "SC-7"),
    params=(_SOURCES,),
    why="One infected workstation or visitor inside is enough to attack the device's login.",
    fix="Restrict management to the administrators' addresses (at most {at_most_sources}) or a management network.",
)
def no_source_restriction(subject: Subject) -> Iterator[Answer]:
    if not _to_device(subject.programs):
        yield CannotTell(NO_RULES)
        return
    services = management_services(subject.device)
    skipped = (Side.OUTSIDE, Side.MANAGEMENT, None)
    ways = [e for e in entrances(subject.programs) if e.side not in skipped]
    if not ways:
        yield CannotTell(
            "the export does not say which interfaces face inside networks; state zones in engagement.toml"
        )
        return
    open_to = _wide(subject, ways, services)
    for group in _grouped(e for e in open_to if e.certain):
        yield _describe(group)
    for group in _grouped(e for e in open_to if not e.certain):
        yield _doubt(group)
    if not open_to:
        labels = ", ".join(e.label for e in ways)
        yield Passed(f"management answers only named sources in {labels}")


@check(
    id="access.cleartext",
    title="A cleartext protocol can be used to manage the device",
    severity=Severity.MEDIUM,
    controls=("SC-8", "AC-17", "IA-5"),
    why="Passwords and session cookies cross the network readable; anyone on the path can take them.",
    fix="Switch the cleartext service off and refuse its port; use SSH, HTTPS or SNMP version 3 instead.",
)
def cleartext(subject: Subject) -> Iterator[Answer]:
    if not _to_device(subject.programs):
        yield CannotTell(NO_RULES)
        return
    services = [s for s in management_services(subject.device) if s.cleartext]
    if not services:
        yield Passed("no cleartext management service is configured")
        return
    found = _exposed(subject, entrances(subject.programs), services)
    for group in _grouped(e for e in found if e.certain):
        answer = _describe(group)
        if any(e.entrance.side is Side.OUTSIDE for e in group.exposures):
            answer = replace(answer, severity=Severity.HIGH)
        yield answer
    for group in _grouped(e for e in found if not e.certain):
        yield _doubt(group)
    if not found:
        yield Passed(f"none of {len(services)} cleartext services is let in")


@check(
    id="access.lockout-threshold",
    title="Failed logins lock out too late or never",
    severity=Severity.MEDIUM,
    controls=("AC-7",),
    needs=("administration.lockout_attempts",),
    params=(Param("at_most", int, 3, "failed logins", "three leave room for a slip and none for guessing"),),
    why="Without a lockout passwords can be guessed at the speed of the network.",
    fix="Lock an account or source out after {at_most} failed logins or fewer.",
)
def lockout_threshold(subject: Subject) -> Iterator[Answer]:
    attempts = subject.device.administration.lockout_attempts
    limit = subject.params["at_most"]
    if attempts.value <= limit:
        yield Passed(f"lockout after {attempts.value:g} failed logins")
        return
    how = (
        "Failed logins never lock out"
        if isinf(attempts.value)
        else f"Lockout comes only after {attempts.value:g} failed logins"
    )
    yield Found(f"{how}{_by_default(attempts.standing)}.", "lockout threshold", _lines(attempts.where))


@check(
    id="access.lockout-duration",
    title="A lockout is over too soon",
    severity=Severity.MEDIUM,
    controls=("AC-7",),
    needs=("administration.lockout_seconds", "administration.lockout_attempts"),
    params=(
        Param(
            "at_least", int, 300, "seconds", "five minutes make guessing hopeless and wait out a forgetful colleague"
        ),
    ),
    why="A lockout of seconds slows guessing down no more than a slow line does.",
    fix="Let a lockout last at least {at_least} seconds.",
)
def lockout_duration(subject: Subject) -> Iterator[Answer]:
    administration = subject.device.administration
    if isinf(administration.lockout_attempts.value):
        yield NotApplicable("there is no lockout whose duration could be judged")
        return
    seconds = administration.lockout_seconds
    if seconds.value >= subject.params["at_least"]:
        yield Passed(
            "a lockout lasts until it is lifted"
            if isinf(seconds.value)
            else f"a lockout lasts {seconds.value:g} seconds"
        )
        return
    yield Found(
        f"A lockout lasts only {seconds.value:g} seconds{_by_default(seconds.standing)}.",
        "lockout duration",
        _lines(seconds.where),
    )


def _by_default(standing: str) -> str:
    return ", the make's default, as the export says nothing else" if standing == "default" else ""


def _lines(where: Span | None) -> tuple[Span, ...]:
    return () if where is None else (where,)


CHECKS: tuple[Check, ...] = (
    reachable_from_outside,
    no_source_restriction,
    cleartext,
    lockout_threshold,
    lockout_duration,
)

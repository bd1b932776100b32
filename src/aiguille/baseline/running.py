"""Running a baseline over an estate, device by device."""

from __future__ import annotations

import gc
import os
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import contextmanager, suppress

import msgspec
from msgspec import Struct

from aiguille.analysis.decide import LONG
from aiguille.analysis.outlines import surroundings
from aiguille.analysis.program import Programs
from aiguille.analysis.sharing import share
from aiguille.analysis.standing import StandingReport
from aiguille.analysis.standing.sending import Packed, packed, unpacked
from aiguille.analysis.study import Study
from aiguille.baseline.audit import Audit, Results
from aiguille.baseline.catalogue import (
    Check,
    Subject,
)
from aiguille.baseline.findings import CheckOutcome, Finding, order
from aiguille.baseline.folding import is_claim
from aiguille.baseline.judging import answers_of, findings_of, found_by, outcome_of
from aiguille.baseline.reaching import Reach, reaches
from aiguille.baseline.tailoring import Baseline, Chosen
from aiguille.model import Device, Direction, Estate, TooComplexError
from aiguille.space.effort import limited


def run(
    estate: Estate,
    baseline: Baseline | Sequence[Check],
    *,
    jobs: int = 1,
    progress: Callable[[int, int], None] | None = None,
    raise_crashes: bool = False,
    devices: Collection[str] | None = None,
) -> Audit:
    """Run what a baseline asks for on every device.

    jobs: processes to share the devices among, or the rules of a single one, where the system can fork; the result does not
        depend on it
    progress: called with how many devices of how many are done
    raise_crashes: let an error in a check through instead of answering "cannot tell"; for tests
    devices: the names of those that are audited, all the others only being asked about; default: all
    """
    chosen = baseline if isinstance(baseline, Baseline) else Baseline.of(baseline)
    outcomes: list[CheckOutcome] = []
    findings: list[Finding] = []
    places = [at for at, one in enumerate(estate.devices) if devices is None or one.name in devices]
    count = len(places)
    keeps = not is_long(estate)
    work = _Work(estate, chosen, raise_crashes, jobs if count == 1 else 1, keeps)
    chunk = max(1, min(16, count // (4 * max(jobs, 1))))
    surroundings(estate)  # once, and not in each process
    results: dict[str, Results] = {}
    raw: dict[str, list[Finding]] = {}
    if keeps:
        estate.known[_RAW] = (chosen, raw)
    for number, (described, found, sent) in enumerate(share(work.device, places, jobs, chunk), 1):
        device = estate.devices[places[number - 1]]
        outcomes += described
        findings += found
        raw[device.name] = found
        if sent is not None:
            results[device.name] = sent.held(device)
        if progress is not None:
            progress(number, count)
    return Audit(estate, tuple(outcomes), tuple(findings), chosen, results=results)


def is_long(estate: Estate) -> bool:
    """Whether an estate has so many rules that no more is kept of them than has to be."""
    return sum(1 for device in estate.devices for base in device.rulebases for _ in base.rules()) > _KEPT


def check_device(
    study: Study,
    baseline: Baseline,
    *,
    only: Callable[[Check], bool] = lambda check: True,
    raise_crashes: bool = False,
) -> tuple[list[CheckOutcome], list[Finding]]:
    """What a baseline says of one device: an outcome of each check, and the findings, gravest first.

    only: which of its checks are asked
    """
    device = study.device
    size = sum(1 for base in device.rulebases for _ in base.rules())
    steps = _DEVICE_STEPS + _STEPS_A_RULE * size
    checks = [one for one in baseline.for_device(device) if only(one.check)]
    with _leaving_garbage(size):
        answered = _shared(study, checks, steps, raise_crashes) if study.jobs > 1 and size >= LONG else None
        if answered is None:
            answered = _in_turn(study, checks, steps, raise_crashes)
    findings = [found for one in answered for found in one.findings]
    findings.sort(key=order)
    return [one.outcome for one in answered], findings


class _Answered(Struct, frozen=True):
    """What a check says of a device. used: steps that took; stopped: whether something was left open for want of steps"""

    outcome: CheckOutcome
    findings: list[Finding]
    used: int
    stopped: bool


def _answered(study: Study, one: Chosen, steps: int, raise_crashes: bool) -> _Answered:
    with limited(steps, apart=True) as question:
        answers = answers_of(one.check, Subject(study, one.params), raise_crashes=raise_crashes)
    found = found_by(one.check, answers)
    with limited(steps, apart=True) as shown:  # where too little is left for a packet the finding stands all the same
        findings = [*findings_of(one, study, found)]
    used, stopped = question.used + shown.used, question.stopped or shown.stopped
    return _Answered(outcome_of(one.check, study.device, answers, found), findings, used, stopped)


def _in_turn(study: Study, checks: Sequence[Chosen], steps: int, raise_crashes: bool) -> list[_Answered]:
    """Each check with at most half of the steps that those before it left."""
    out, left = [], steps
    for one in checks:
        # The first checks must not leave nothing to the last: whatever happens, each has a share of its own.
        out.append(_answered(study, one, max(left // 2, _LEAST_STEPS), raise_crashes))
        left -= out[-1].used
    return out


def _shared(study: Study, checks: Sequence[Chosen], steps: int, raise_crashes: bool) -> list[_Answered] | None:
    """The same by several processes; None where steps are so short that it could make a difference in which order they are taken."""
    with limited(steps // 2, apart=True) as question, suppress(TooComplexError):
        _ = study.standings
        for direction in Direction:
            _ = study.admissions(direction)
    out = list(
        share(lambda at: _answered(study, checks[at], steps // 2, raise_crashes), range(len(checks)), study.jobs)
    )
    used = question.used + sum(one.used for one in out)
    return None if used > steps // 8 or question.stopped or any(one.stopped for one in out) else out


@contextmanager
def _leaving_garbage(size: int) -> Iterator[None]:
    """Look for no garbage meanwhile, unless a device has very many rules: nearly all that is made lives as long as its study, and
    looking through it again and again would cost up to a quarter."""
    collecting = gc.isenabled() and size <= _KEPT
    if collecting:
        gc.disable()
    try:
        yield
    finally:
        if collecting:
            gc.enable()


def claims_alone(estate: Estate, baseline: Baseline) -> Iterator[tuple[list[CheckOutcome], list[Finding]]]:
    """What the claims among a baseline's checks say of each device, as `check_device` does."""
    for device in estate.devices:
        yield check_device(Study(device, estate, Programs(device)), baseline, only=is_claim)


def audit_one(estate: Estate, baseline: Baseline, device: str) -> list[Finding]:
    """Every finding of a baseline on one device of an estate, none folded under another; not looked for again after `run`."""
    asked, known = estate.known.get(_RAW, (None, {}))
    if asked is baseline and device in known:
        found: list[Finding] = known[device]
        return found
    number = next(at for at, one in enumerate(estate.devices) if one.name == device)
    return _Work(estate, baseline, raise_crashes=False, helpers=1).device(number)[1]


_RAW = "every finding, by baseline and device"

_KEPT = 20_000
"""Rules of an estate up to which what was found out about them is kept for reports, at some kilobytes each."""


_DEVICE_STEPS, _STEPS_A_RULE, _LEAST_STEPS = 1_000_000, 300, 20_000
"""What the checks on a device may take together, of which each has at most half of what those before it left; see `effort`.

Rule sets that people wrote take less than a twentieth of it.
"""


class _Sent(Struct, frozen=True):
    """What a process sends of a device beside outcomes and findings."""

    standings: Packed
    reaches: tuple[Reach, ...]

    def held(self, device: Device) -> Results:
        return Results(unpacked(device, self.standings), self.reaches)


class _Here(Struct, frozen=True):
    """The same where the device was looked at in this process."""

    standings: tuple[StandingReport, ...]
    reaches: tuple[Reach, ...]

    def held(self, device: Device) -> Results:
        return Results(self.standings, self.reaches)


class _Work(Struct, frozen=True, dict=True):
    """What a process needs to audit any device of the estate.

    helpers: processes that each device may be shared among; keeps: whether what was found out of rules is sent along
    started: the process that asks
    """

    estate: Estate
    baseline: Baseline
    raise_crashes: bool
    helpers: int
    keeps: bool = False
    started: int = msgspec.field(default_factory=os.getpid)

    def device(self, number: int) -> tuple[list[CheckOutcome], list[Finding], _Sent | _Here | None]:
        device = self.estate.devices[number]
        study = Study(device, self.estate, Programs(device), self.helpers)
        outcomes, findings = check_device(study, self.baseline, raise_crashes=self.raise_crashes)
        return outcomes, findings, self._sent(study)

    def _sent(self, study: Study) -> _Sent | _Here | None:
        if not self.keeps or "standings" not in vars(study) or not all(one.settled for one in study.standings):
            return None
        ways = reaches(study) if self.estate.locations else ()
        if os.getpid() == self.started:
            return _Here(study.standings, ways)
        described = packed(study.device, study.standings)
        return _Sent(described, ways) if described is not None else None

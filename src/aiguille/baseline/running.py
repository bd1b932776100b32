"""Running a baseline over an estate, device by device."""

from __future__ import annotations

import gc
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import contextmanager

from msgspec import Struct

from aiguille.analysis.outlines import surroundings
from aiguille.analysis.program import Programs
from aiguille.analysis.sharing import share
from aiguille.analysis.standing.sending import Packed, packed, unpacked
from aiguille.analysis.study import Study
from aiguille.baseline.audit import Audit, Results
from aiguille.baseline.catalogue import (
    Check,
    Subject,
)
from aiguille.baseline.findings import CheckOutcome, Finding, order
from aiguille.baseline.folding import is_claim
from aiguille.baseline.judging import answers_of, findings_of, outcome_of
from aiguille.baseline.reaching import Reach, reaches
from aiguille.baseline.tailoring import Baseline
from aiguille.model import Estate
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
    size = sum(1 for device in estate.devices for base in device.rulebases for _ in base.rules())
    work = _Work(estate, chosen, raise_crashes, jobs if count == 1 else 1, size <= _KEPT)
    chunk = max(1, min(16, count // (4 * max(jobs, 1))))
    surroundings(estate)  # once, and not in each process
    results: dict[str, Results] = {}
    raw: dict[str, list[Finding]] = {}
    if size <= _KEPT:
        estate.known[_RAW] = (chosen, raw)
    for number, (described, found, sent) in enumerate(share(work.device, places, jobs, chunk), 1):
        outcomes += described
        findings += found
        raw[estate.devices[places[number - 1]].name] = found
        if sent is not None:
            device = estate.devices[places[number - 1]]
            results[device.name] = Results(unpacked(device, sent[0]), sent[1])
        if progress is not None:
            progress(number, count)
    return Audit(estate, tuple(outcomes), tuple(findings), chosen, results=results)


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
    outcomes: list[CheckOutcome] = []
    findings: list[Finding] = []
    size = sum(1 for base in device.rulebases for _ in base.rules())
    left = _DEVICE_STEPS + _STEPS_A_RULE * size
    with _leaving_garbage(size):
        for one in baseline.for_device(device):
            if not only(one.check):
                continue
            # The first checks must not leave nothing to the last: whatever happens, each has a share of its own.
            with limited(max(left // 2, _LEAST_STEPS), apart=True) as question:
                answers = answers_of(one.check, Subject(study, one.params), raise_crashes=raise_crashes)
            left -= question.used
            outcomes.append(outcome_of(one.check, device, answers))
            findings += findings_of(one, study, answers)
    findings.sort(key=order)
    return outcomes, findings


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


_Sent = tuple[Packed, tuple[Reach, ...]]
"""What a process sends of a device beside outcomes and findings."""


class _Work(Struct, frozen=True, dict=True):
    """What a process needs to audit any device of the estate.

    helpers: processes that each device may be shared among; keeps: whether what was found out of rules is sent along
    """

    estate: Estate
    baseline: Baseline
    raise_crashes: bool
    helpers: int
    keeps: bool = False

    def device(self, number: int) -> tuple[list[CheckOutcome], list[Finding], _Sent | None]:
        device = self.estate.devices[number]
        study = Study(device, self.estate, Programs(device), self.helpers)
        outcomes, findings = check_device(study, self.baseline, raise_crashes=self.raise_crashes)
        return outcomes, findings, self._sent(study)

    def _sent(self, study: Study) -> _Sent | None:
        if not self.keeps or "standings" not in vars(study) or not all(one.settled for one in study.standings):
            return None
        described = packed(study.device, study.standings)
        return (described, reaches(study) if self.estate.locations else ()) if described is not None else None

"""An audit: an estate with the outcomes and findings of a baseline, and what people ask of it."""

from __future__ import annotations

import difflib
from collections import Counter
from collections.abc import Iterable, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, TypeVar

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.analysis.outlines import outlines, surroundings, with_only
from aiguille.analysis.standing import StandingReport
from aiguille.baseline.catalogue import (
    Area,
    Outcome,
    Severity,
)
from aiguille.baseline.causes import Cause, causes, with_causes
from aiguille.baseline.findings import Acceptance, CheckOutcome, Finding, Reply, first_line
from aiguille.baseline.folding import folded, with_siblings
from aiguille.baseline.frames import findings_frame, outcomes_frame
from aiguille.baseline.reaching import Reach
from aiguille.baseline.tailoring import Baseline
from aiguille.model import Estate, UsageError

if TYPE_CHECKING:
    import pandas as pd

_Reported = TypeVar("_Reported", "Finding", "CheckOutcome")


def _by_device(described: Iterable[_Reported]) -> dict[str, tuple[_Reported, ...]]:
    out: dict[str, list[_Reported]] = {}
    for one in described:
        also: tuple[str, ...] = getattr(one, "also_on", ())
        for name in (one.device, *also):
            out.setdefault(name, []).append(one)
    return {name: tuple(mine) for name, mine in out.items()}


class Results(Struct, frozen=True):
    """What an audit found out about a device on the way: the standing of every rule, the ways in from the outside."""

    standings: tuple[StandingReport, ...]
    reaches: tuple[Reach, ...]


class Audit(Struct, frozen=True, dict=True):
    """An estate with what the baseline says of it.

    baseline: what it was checked against; None if nothing was
    accepted: findings somebody answers for, with the entry that says so
    notes: what there is to say of the baseline and the accepted risks
    answers: what the auditee says of findings, those that are gone included
    results: by device, as far as the audit asked for them; reports compute the rest
    """

    estate: Estate
    outcomes: Sequence[CheckOutcome]
    findings: Sequence[Finding]
    baseline: Baseline | None = None
    accepted: tuple[tuple[Finding, Acceptance], ...] = ()
    notes: tuple[str, ...] = ()
    answers: tuple[Reply, ...] = ()
    results: dict[str, Results] = field(default_factory=dict)

    def counts(self) -> dict[Severity, int]:
        """The number of findings of each severity, most severe first."""
        return {severity: sum(f.severity is severity for f in self.findings) for severity in Severity}

    def counts_on(self, device: str) -> dict[Severity, int]:
        """The number of findings of each severity on a device, most severe first."""
        mine = [one.severity for one in self.findings_on(device)]
        return {severity: mine.count(severity) for severity in Severity}

    def tally(self) -> dict[Outcome, int]:
        """How many outcomes there are of each kind, of those that occur."""
        return dict(Counter(one.outcome for one in self.outcomes))

    def causes(self) -> Sequence[Cause]:
        """What one change each would mend, in the order of the gravest finding of each."""
        return causes(self.findings)

    def held(self) -> Audit:
        """The audit with all of it in memory, as it is but for one of very many devices."""
        return self

    def findings_on(self, device: str) -> tuple[Finding, ...]:
        """The findings on a device, in order."""
        return self._findings_by_device.get(device, ())

    def reported_on(self, device: str) -> tuple[Finding, ...]:
        """The findings a report tells where it tells of a device: each stands with the first of the audit's devices it is on."""
        return tuple(one for one in self.findings_on(device) if self.home(one) == device)

    def reported_elsewhere(self, device: str) -> tuple[Finding, ...]:
        """The findings on a device that a report tells where it tells of another; see `reported_on`."""
        return tuple(one for one in self.findings_on(device) if self.home(one) != device)

    def home(self, finding: Finding) -> str:
        """The first of the audit's devices that a finding is on."""
        return next((one for one in (finding.device, *finding.also_on) if one in self._names), finding.device)

    def outcomes_on(self, device: str) -> tuple[CheckOutcome, ...]:
        """The outcomes on a device, in order."""
        return self._outcomes_by_device.get(device, ())

    def open_questions(self, device: str) -> dict[str, list[str]]:
        """Why checks cannot tell on a device, and which checks have that reason."""
        reasons: dict[str, list[str]] = {}
        for one in self.outcomes_on(device):
            if one.outcome is Outcome.CANNOT_TELL:
                reasons.setdefault(one.because, []).append(one.check)
        return reasons

    @cached_property
    def _names(self) -> set[str]:
        return {device.name for device in outlines(self.estate)}

    @cached_property
    def _findings_by_device(self) -> dict[str, tuple[Finding, ...]]:
        return _by_device(self.findings)

    @cached_property
    def _outcomes_by_device(self) -> dict[str, tuple[CheckOutcome, ...]]:
        return _by_device(self.outcomes)

    def folded(self) -> Audit:
        """The audit with one finding for each cause: what follows from the same rule stands under the gravest of its findings.

        Findings come gravest first over the whole estate, then by who can use them.
        """
        place = {device.name: number for number, device in enumerate(outlines(self.estate))}
        alike = {name: group.words for name, group in surroundings(self.estate).siblings.items()}
        every = (one for device in outlines(self.estate) for one in folded(self.findings_on(device.name)))
        kept = with_siblings(every, alike)
        kept.sort(
            key=lambda f: (
                -f.severity.rank,
                -_reach(f),
                place[f.device],
                f.check,
                first_line(f),
                f.detail,
                f.fingerprint,
            )
        )
        return replace(self, findings=with_causes(replace(f, number=n) for n, f in enumerate(kept, 1)))

    def narrowed(
        self,
        *,
        device: Sequence[str] = (),
        severity: str | None = None,
        area: Sequence[str] = (),
        check: Sequence[str] = (),
        cause: Sequence[str] = (),
    ) -> Audit:
        """The audit with the findings and outcomes that fit what is given, and the devices named.

        cause: numbers of causes, C-3 or 3

        Raises UsageError, with the nearest names, for a device, area, check or cause that is not there.
        """
        if not (device or severity or area or check or cause):
            return self
        behind = self._behind(cause)
        devices = self._names
        checks = {one.id for one in self.baseline.catalogue} if self.baseline else {o.check for o in self.outcomes}
        for what, given, known in (("device", device, devices), ("area", area, {*Area}), ("check", check, checks)):
            for name in given:
                if name not in known:
                    near = difflib.get_close_matches(name, sorted(known), n=2) or sorted(known)[:8]
                    raise UsageError(f"there is no {what} '{name}'; did you mean {' or '.join(near)}?")
        least = Severity(severity).rank if severity else 0

        def fits(found: Finding) -> bool:
            ids = {found.check, *(one.check for one in found.consequences)}
            areas = {one.partition(".")[0] for one in ids}
            named = not device or not {found.device, *found.also_on}.isdisjoint(device)
            kept = (not area or not areas.isdisjoint(area)) and (not check or not ids.isdisjoint(check))
            meant = behind is None or found.fingerprint in behind
            return named and kept and meant and found.severity.rank >= least

        def meant(one: CheckOutcome) -> bool:
            here = (not area or one.check.partition(".")[0] in area) and (not check or one.check in check)
            return here and (not device or one.device in device)

        named = {*device} or {
            name for f in self.findings if behind and f.fingerprint in behind for name in (f.device, *f.also_on)
        }
        return replace(
            self.held(),
            estate=with_only(self.estate, named) if named else self.estate,
            findings=tuple(filter(fits, self.findings)),
            outcomes=tuple(filter(meant, self.outcomes)),
            accepted=tuple((found, why) for found, why in self.accepted if fits(found)),
        )

    def _behind(self, numbers: Sequence[str]) -> set[str] | None:
        """The fingerprints of the findings that causes are behind; None if none is named."""
        if not numbers:
            return None
        known = {one.number: one for one in causes(self.findings)}
        out: set[str] = set()
        for name in numbers:
            text = name.upper().removeprefix("C-").removeprefix("C")
            if not text.isdecimal() or int(text) not in known:
                described = ", ".join(f"C-{number}" for number in list(known)[:8]) or "none"
                raise UsageError(f"there is no cause '{name}'; there are {described}{' ...' if len(known) > 8 else ''}")
            out |= {one.fingerprint for one in known[int(text)].findings}
        return out

    @property
    def rules(self) -> dict[str, set[tuple[str, str, int | str]]]:
        """The rules that findings speak of, by device: rulebase, chain and number. Defaults are none."""
        out: dict[str, set[tuple[str, str, int | str]]] = {}
        for one in self.findings:
            named = {(ref.rulebase, ref.chain, ref.rule) for ref in one.rules if ref.rule != "policy"}
            for device in (one.device, *one.also_on):
                out.setdefault(device, set()).update(named)
        return out

    def worst(self) -> Severity | None:
        return max((f.severity for f in self.findings), key=lambda s: s.rank, default=None)

    def to_frame(self) -> pd.DataFrame:
        """The findings as a data frame of pandas, accepted ones at the end.

        Columns: fingerprint, device, check, area, severity (an ordered category, info lowest), title, detail, file, line and
        text of the most decisive evidence, packet (a sentence) and certain, fix, controls, accepted_by and accepted_until.
        Raises UsageError if pandas is not installed.
        """
        return findings_frame(self.findings, self.accepted)

    def outcomes_frame(self) -> pd.DataFrame:
        """The outcomes as a data frame: device, check, outcome, because. Raises UsageError if pandas is not installed."""
        return outcomes_frame(self.outcomes)


def _reach(finding: Finding) -> int:
    return finding.who.rank if finding.who is not None else -1

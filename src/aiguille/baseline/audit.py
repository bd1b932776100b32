"""Running the catalogue over an estate: outcomes, findings, fingerprints."""

from __future__ import annotations

import difflib
import hashlib
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any, TypeVar

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.analysis.program import Programs
from aiguille.analysis.services import GENERAL_HOSTS
from aiguille.analysis.sharing import share
from aiguille.analysis.standing import StandingReport
from aiguille.analysis.standing.sending import Packed, packed, unpacked
from aiguille.analysis.study import Study, doubt
from aiguille.baseline.catalogue import (
    Answer,
    Area,
    CannotTell,
    Check,
    Found,
    NotApplicable,
    Outcome,
    Passed,
    RuleRef,
    Severity,
    Subject,
    Who,
)
from aiguille.baseline.keepers import where_to_change
from aiguille.baseline.reaching import Reach, reaches
from aiguille.model import AiguilleError, Device, Estate, Span, TooComplexError, UsageError
from aiguille.model.facts import FACT_AT
from aiguille.packets import Packet
from aiguille.space.effort import limited

if TYPE_CHECKING:
    import pandas as pd

    from aiguille.baseline.accepted import Acceptance
    from aiguille.baseline.answers import Reply
    from aiguille.baseline.tailoring import Baseline, Chosen


class Evidence(Struct, frozen=True):
    """Lines of an export, with their text; secrets are masked."""

    where: Span
    text: tuple[str, ...]


class Consequence(Struct, frozen=True):
    """A lighter finding that follows from the same rule, default or setting as another, and goes with it."""

    fingerprint: str
    check: str
    severity: Severity
    title: str
    detail: str
    evidence: tuple[Evidence, ...] = ()


class Finding(Struct, frozen=True):
    """One thing that is wrong on one device. `fingerprint` stays the same when rules are moved or lines are added.

    who: who can use it, None where that says nothing
    consequences: what else the same rule is behind
    also_on: siblings of the device on which the same lines do the same
    number: what people call it, 12 for F-12; 0 before an audit is folded
    cause: the number of the finding that its cause is called by, 3 for C-3; see `causes`
    answer: what the auditee says of it
    """

    fingerprint: str
    check: str
    area: str
    severity: Severity
    device: str
    title: str
    detail: str
    why: str
    fix: str
    controls: tuple[str, ...]
    evidence: tuple[Evidence, ...] = ()
    rules: tuple[RuleRef, ...] = ()
    proof: Witness | None = None
    who: Who | None = None
    consequences: tuple[Consequence, ...] = ()
    also_on: tuple[str, ...] = ()
    number: int = 0
    cause: int = 0
    answer: Reply | None = None


class Witness(Struct, frozen=True):
    """A packet that proves a finding, and whether it does so certainly; doubt: else what its fate depends on, in words."""

    packet: Packet
    certain: bool
    doubt: str = ""


class CheckOutcome(Struct, frozen=True):
    """What a check says of a device, and why."""

    check: str
    device: str
    outcome: Outcome
    because: str


_Told = TypeVar("_Told", "Finding", "CheckOutcome")


def _by_device(told: Iterable[_Told]) -> dict[str, tuple[_Told, ...]]:
    out: dict[str, list[_Told]] = {}
    for one in told:
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
    outcomes: tuple[CheckOutcome, ...]
    findings: tuple[Finding, ...]
    baseline: Baseline | None = None
    accepted: tuple[tuple[Finding, Acceptance], ...] = ()
    notes: tuple[str, ...] = ()
    answers: tuple[Reply, ...] = ()
    results: dict[str, Results] = field(default_factory=dict)

    def counts(self) -> dict[Severity, int]:
        """The number of findings of each severity, most severe first."""
        return {severity: sum(f.severity is severity for f in self.findings) for severity in Severity}

    def findings_on(self, device: str) -> tuple[Finding, ...]:
        """The findings on a device, in order."""
        return self._findings_by_device.get(device, ())

    def told_of(self, device: str) -> tuple[Finding, ...]:
        """The findings a report tells where it tells of a device: each stands with the first of the audit's devices it is on."""
        return tuple(one for one in self.findings_on(device) if self.home(one) == device)

    def told_elsewhere(self, device: str) -> tuple[Finding, ...]:
        """The findings on a device that a report tells where it tells of another; see `told_of`."""
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
        return {device.name for device in self.estate.devices}

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
        from aiguille.baseline.causes import with_causes
        from aiguille.baseline.folding import folded, with_siblings

        place = {device.name: number for number, device in enumerate(self.estate.devices)}
        kept = with_siblings(one for device in self.estate.devices for one in folded(self.findings_on(device.name)))
        kept.sort(key=lambda f: (-f.severity.rank, -_reach(f), place[f.device], f.check, _first_line(f), f.fingerprint))
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
        devices = {one.name for one in self.estate.devices}
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
        kept = tuple(one for one in self.estate.devices if not named or one.name in named)
        return replace(
            self,
            estate=replace(self.estate, devices=kept),
            findings=tuple(filter(fits, self.findings)),
            outcomes=tuple(filter(meant, self.outcomes)),
            accepted=tuple((found, why) for found, why in self.accepted if fits(found)),
        )

    def _behind(self, numbers: Sequence[str]) -> set[str] | None:
        """The fingerprints of the findings that causes are behind; None if none is named."""
        from aiguille.baseline.causes import causes

        if not numbers:
            return None
        known = {one.number: one for one in causes(self)}
        out: set[str] = set()
        for name in numbers:
            text = name.upper().removeprefix("C-").removeprefix("C")
            if not text.isdecimal() or int(text) not in known:
                told = ", ".join(f"C-{number}" for number in list(known)[:8]) or "none"
                raise UsageError(f"there is no cause '{name}'; there are {told}{' ...' if len(known) > 8 else ''}")
            out |= {one.fingerprint for one in known[int(text)].findings}
        return out

    def worst(self) -> Severity | None:
        return max((f.severity for f in self.findings), key=lambda s: s.rank, default=None)

    def to_frame(self) -> pd.DataFrame:
        """The findings as a data frame of pandas, accepted ones at the end.

        Columns: fingerprint, device, check, area, severity (an ordered category, info lowest), title, detail, file, line and
        text of the most telling evidence, packet (a sentence) and certain, fix, controls, accepted_by and accepted_until.
        Raises UsageError if pandas is not installed.
        """
        from aiguille.baseline.frames import findings_frame

        return findings_frame(self)

    def outcomes_frame(self) -> pd.DataFrame:
        """The outcomes as a data frame: device, check, outcome, because. Raises UsageError if pandas is not installed."""
        from aiguille.baseline.frames import outcomes_frame

        return outcomes_frame(self)


def run(
    estate: Estate,
    baseline: Baseline | Sequence[Check],
    *,
    jobs: int = 1,
    progress: Callable[[int, int], None] | None = None,
    raise_crashes: bool = False,
) -> Audit:
    """Run what a baseline asks for on every device.

    jobs: processes to share the devices among, or the rules of a single one, where the system can fork; the result does not
        depend on it
    progress: told how many devices of how many are done
    raise_crashes: let an error in a check through instead of answering "cannot tell"; for tests
    """
    from aiguille.baseline.tailoring import Baseline

    chosen = baseline if isinstance(baseline, Baseline) else Baseline.of(baseline)
    outcomes: list[CheckOutcome] = []
    findings: list[Finding] = []
    count = len(estate.devices)
    size = sum(1 for device in estate.devices for base in device.rulebases for _ in base.rules())
    work = _Work(estate, chosen, raise_crashes, jobs if count == 1 else 1, size <= _KEPT)
    chunk = max(1, min(16, count // (4 * max(jobs, 1))))
    results: dict[str, Results] = {}
    for number, (told, found, sent) in enumerate(share(work.device, range(count), jobs, chunk), 1):
        outcomes += told
        findings += found
        if sent is not None:
            device = estate.devices[number - 1]
            results[device.name] = Results(unpacked(device, sent[0]), sent[1])
        if progress is not None:
            progress(number, count)
    place = {device.name: number for number, device in enumerate(estate.devices)}
    findings.sort(key=lambda f: (place[f.device], -f.severity.rank, f.check, _first_line(f), f.fingerprint))
    return Audit(estate, tuple(outcomes), tuple(findings), chosen, results=results)


def audit_one(estate: Estate, baseline: Baseline, device: str) -> list[Finding]:
    """Every finding of a baseline on one device of an estate, none folded under another."""
    number = next(at for at, one in enumerate(estate.devices) if one.name == device)
    return _Work(estate, baseline, raise_crashes=False, helpers=1).device(number)[1]


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
        outcomes: list[CheckOutcome] = []
        findings: list[Finding] = []
        left = _DEVICE_STEPS + _STEPS_A_RULE * sum(1 for base in device.rulebases for _ in base.rules())
        for one in self.baseline.for_device(device):
            # The first checks must not leave nothing to the last: whatever happens, each has a share of its own.
            with limited(max(left // 2, _LEAST_STEPS), apart=True) as question:
                answers = _answers(one.check, Subject(study, one.params), raise_crashes=self.raise_crashes)
            left -= question.used
            outcomes.append(_outcome(one.check, device, answers))
            findings += _findings(one, device, answers)
        return outcomes, findings, self._sent(study)

    def _sent(self, study: Study) -> _Sent | None:
        if not self.keeps or "standings" not in vars(study) or not all(one.settled for one in study.standings):
            return None
        told = packed(study.device, study.standings)
        return (told, reaches(study) if self.estate.locations else ()) if told is not None else None


def _answers(one: Check, subject: Subject, *, raise_crashes: bool) -> list[Answer]:
    missing = [fact for fact in map(FACT_AT.__getitem__, one.needs) if not fact.of(subject.device).known]
    strange = [fact for fact in missing if fact.of_appliances]
    if strange and subject.device.dialect in GENERAL_HOSTS:
        what = " and ".join(sorted(fact.asked.removeprefix("whether ") for fact in strange))
        return [NotApplicable(f"no system of this kind has a setting for it ({what})")]
    if missing:
        words = " and ".join(fact.asked for fact in missing)
        return [CannotTell(f"the export does not tell {words}; add the configuration that states it, or ask for it")]
    try:
        if (
            lacking := next((said for need in one.asks if (said := need.missing(subject)) is not None), None)
        ) is not None:
            return [lacking]
        return [_with_evidence(one, answer) for answer in one.run(subject)]
    except TooComplexError as error:
        return [CannotTell(f"{error}{_most_entangled(subject.device) if error.where is None else ''}")]
    except AiguilleError as error:
        return [CannotTell(str(error))]
    except Exception as error:
        # A fault of ours must neither end the audit nor pass as an answer.
        if raise_crashes:
            raise
        return [CannotTell(f"the check itself failed ({type(error).__name__}: {error}); please report this")]


def _most_entangled(device: Device) -> str:
    """The rule that asks for most at once, as a place to look at when rules are too entangled."""
    rules = [rule for base in device.rulebases for _, rule in base.rules() if rule.match.conditions]
    if not rules:
        return ""
    most = max(rules, key=lambda rule: sum(len(c.operands) * (1 + 4 * c.negated) for c in rule.match.conditions))
    return f" (the rule that asks for most at once is {most.where})"


def _with_evidence(one: Check, answer: Answer) -> Answer:
    """The answer, unless it is a grave finding without a line to show: that would lose every argument."""
    if not isinstance(answer, Found) or answer.where:
        return answer
    if (answer.severity or one.severity).rank < Severity.HIGH.rank:
        return answer
    return CannotTell(
        f"{answer.detail} Nothing in the export states it; ask for the part that does".replace("{family}", "IP")
    )


def _outcome(one: Check, device: Device, answers: Sequence[Answer]) -> CheckOutcome:
    """Fail if anything was found, else cannot tell if anything is open, else pass; the reasons of that kind are given."""
    given = [*gathered(one, merged(answers)), *(a for a in answers if not isinstance(a, Found))]
    order: tuple[tuple[type, Outcome], ...] = (
        (Found, Outcome.FAIL),
        (CannotTell, Outcome.CANNOT_TELL),
        (Passed, Outcome.PASS),
        (NotApplicable, Outcome.NOT_APPLICABLE),
    )
    for kind, outcome in order:
        mine = [a for a in given if isinstance(a, kind)]
        if mine:
            reasons = dict.fromkeys(a.detail if isinstance(a, Found) else a.because for a in mine)
            between = " " if all(reason.endswith(".") for reason in reasons) else "; "
            return CheckOutcome(one.id, device.name, outcome, between.join(reasons))
    return CheckOutcome(one.id, device.name, Outcome.CANNOT_TELL, "the check gave no answer; please report this")


def _findings(one: Chosen, device: Device, answers: Sequence[Answer]) -> Iterator[Finding]:
    repeats: dict[str, int] = {}
    check = one.check
    fix = check.fix.format(**{name: _spelled(value) for name, value in one.params.items()})
    own = dict(device.advice).get(check.id)
    for answer in gathered(check, merged(answers)):
        # Two rules alike to the letter are two findings all the same.
        repeat = repeats[answer.subject] = repeats.get(answer.subject, 0) + 1
        yield Finding(
            fingerprint=fingerprint(check.id, device.name, answer.subject, repeat),
            check=check.id,
            area=check.area,
            severity=one.severity or answer.severity or check.severity,
            device=device.name,
            title=check.title,
            detail=answer.detail,
            why=check.why,
            fix=" ".join(filter(None, (fix, f"On this make: {own}" if own else "", where_to_change(answer.rules)))),
            controls=check.controls,
            evidence=tuple(Evidence(where, device.text(where)) for where in answer.where),
            rules=answer.rules,
            proof=_witness(answer),
            who=answer.who,
        )


def _witness(answer: Found) -> Witness | None:
    if answer.proof is not None:
        return Witness(answer.proof.packet, answer.proof.certain, doubt(answer.proof))
    return Witness(answer.packet, certain=True) if answer.packet is not None else None


def _spelled(value: Any) -> Any:
    """A parameter as advice names it."""
    return ", ".join(map(str, value)) if isinstance(value, tuple) else value


def merged(answers: Iterable[Answer]) -> list[Found]:
    """The findings among `answers`, those of one severity in both address families joined; ``{family}`` is filled in."""
    groups: dict[str, list[list[Found]]] = {}
    for answer in answers:
        if isinstance(answer, Found):
            alike = groups.setdefault(answer.subject, [])
            free = [g for g in alike if answer.family and all(f.family not in (None, answer.family) for f in g)]
            # What is said of the other family in the same words comes first; what is graver or lighter is another statement.
            same = [g for g in free if g[0].detail == answer.detail] or [
                g for g in free if g[0].severity == answer.severity
            ]
            other = same[0] if same else None
            if other is None:
                alike.append([answer])
            else:
                other.append(answer)
    out = []
    for group in (g for alike in groups.values() for g in alike):
        families = " and ".join(f"IPv{found.family}" for found in group if found.family)
        worst = min(group, key=lambda f: 0 if f.severity is None else -f.severity.rank)
        out.append(
            replace(
                group[0],
                detail=group[0].detail.replace("{family}", families),
                where=tuple(dict.fromkeys(where for found in group for where in found.where)),
                rules=tuple(dict.fromkeys(rule for found in group for rule in found.rules)),
                severity=worst.severity,
            )
        )
    return out


_TOGETHER = "together"
"""What such a statement is about: it stays the same when another thing joins those it counts."""

_NAMED = 3
"""Of things that are counted together, how many are named."""


def gathered(check: Check, found: list[Found]) -> list[Found]:
    """The findings of a check, those that are one statement on a device joined to it: they are counted, and some named."""
    if not check.together or not found:
        return found
    if len(found) == 1:
        return [replace(found[0], subject=_TOGETHER)]
    # Rules of both families, or all that a program makes of one line, are one statement.
    names = list(dict.fromkeys(one.name or one.detail.removesuffix(".") for one in found))
    if len(names) == 1:
        return [replace(found[0], subject=_TOGETHER, family=None)]
    more = f" and {len(names) - _NAMED} more" if len(names) > _NAMED else ""
    of = f" of {found[0].of}" if found[0].of else ""
    worst = max(found, key=lambda one: (one.severity or check.severity).rank)
    first = (
        next(one for one in found if one.proof is not None) if any(one.proof is not None for one in found) else found[0]
    )
    return [
        replace(
            first,
            detail=f"{len(names)}{of} {check.together}: {', '.join(names[:_NAMED])}{more}.",
            subject=_TOGETHER,
            where=tuple(dict.fromkeys(where for one in found for where in one.where)),
            rules=tuple(dict.fromkeys(rule for one in found for rule in one.rules)),
            severity=worst.severity,
            family=None,
        )
    ]


def fingerprint(check: str, device: str, subject: str, repeat: int = 1) -> str:
    """16 hexadecimal digits made of what a finding is about, not of where it is written."""
    text = "\0".join((check, device, subject, str(repeat)))
    return hashlib.sha256(text.encode()).hexdigest()[:16]


def _reach(finding: Finding) -> int:
    return finding.who.rank if finding.who is not None else -1


def _first_line(finding: Finding) -> tuple[str, int]:
    if not finding.evidence:
        return ("", 0)
    where = finding.evidence[0].where
    return (where.file, where.first)

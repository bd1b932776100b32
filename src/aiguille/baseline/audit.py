"""Running the catalogue over an estate: outcomes, findings, fingerprints."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from aiguille.analysis import Programs, Proof
from aiguille.baseline.catalogue import (
    Answer,
    CannotTell,
    Check,
    Found,
    NotApplicable,
    Outcome,
    Passed,
    RuleRef,
    Severity,
    Subject,
)
from aiguille.model import AiguilleError, Device, Estate, Setting, Span


@dataclass(frozen=True, slots=True)
class Evidence:
    """Lines of an export, with their text; secrets are masked."""

    where: Span
    text: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing that is wrong on one device. `fingerprint` stays the same when rules are moved or lines are added."""

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
    proof: Proof | None = None


@dataclass(frozen=True, slots=True)
class CheckOutcome:
    """What a check says of a device, and why."""

    check: str
    device: str
    outcome: Outcome
    because: str


@dataclass(frozen=True)
class Audit:
    """An estate with what the baseline says of it."""

    estate: Estate
    outcomes: tuple[CheckOutcome, ...]
    findings: tuple[Finding, ...]

    def counts(self) -> dict[Severity, int]:
        """The number of findings of each severity, most severe first."""
        return {severity: sum(f.severity is severity for f in self.findings) for severity in Severity}

    def worst(self) -> Severity | None:
        return max((f.severity for f in self.findings), key=lambda s: s.rank, default=None)


def run(
    estate: Estate,
    catalogue: Sequence[Check],
    params: Mapping[str, Mapping[str, Any]] | None = None,
    *,
    raise_crashes: bool = False,
) -> Audit:
    """Run every check on every device.

    params: check id -> parameters that differ from the defaults
    raise_crashes: let an error in a check through instead of answering "cannot tell"; for tests
    """
    outcomes: list[CheckOutcome] = []
    findings: list[Finding] = []
    for device in estate.devices:
        programs = Programs(device)
        for one in catalogue:
            values = {**one.defaults(), **(params or {}).get(one.id, {})}
            answers = _answers(one, Subject(device, programs, values), raise_crashes=raise_crashes)
            outcomes.append(_outcome(one, device, answers))
            findings += _findings(one, device, answers, values)
    findings.sort(key=lambda f: (_position(estate, f.device), -f.severity.rank, f.check, _first_line(f), f.fingerprint))
    return Audit(estate, tuple(outcomes), tuple(findings))


def _answers(one: Check, subject: Subject, *, raise_crashes: bool) -> list[Answer]:
    missing = [name for name in one.needs if not _setting(subject.device, name).known]
    if missing:
        words = " and ".join(name.rpartition(".")[2].replace("_", " ") for name in missing)
        return [
            CannotTell(f"the export does not tell the {words}; add the configuration that states it, or ask for it")
        ]
    try:
        return list(one.run(subject))
    except AiguilleError as error:
        return [CannotTell(str(error))]
    except Exception as error:
        # A fault of ours must neither end the audit nor pass as an answer.
        if raise_crashes:
            raise
        return [CannotTell(f"the check itself failed ({type(error).__name__}: {error}); please report this")]


def _setting(device: Device, name: str) -> Setting[Any]:
    found: Any = device
    for part in name.split("."):
        found = getattr(found, part)
    if not isinstance(found, Setting):
        raise TypeError(f"{name} is no setting")
    return found


def _outcome(one: Check, device: Device, answers: Sequence[Answer]) -> CheckOutcome:
    """Fail if anything was found, else cannot tell if anything is open, else pass; the reasons of that kind are given."""
    given = [*merged(answers), *(a for a in answers if not isinstance(a, Found))]
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
            return CheckOutcome(one.id, device.name, outcome, "; ".join(reasons))
    return CheckOutcome(one.id, device.name, Outcome.CANNOT_TELL, "the check gave no answer; please report this")


def _findings(one: Check, device: Device, answers: Sequence[Answer], values: Mapping[str, Any]) -> Iterator[Finding]:
    repeats: dict[str, int] = {}
    for answer in merged(answers):
        # Two rules alike to the letter are two findings all the same.
        repeat = repeats[answer.subject] = repeats.get(answer.subject, 0) + 1
        yield Finding(
            fingerprint=fingerprint(one.id, device.name, answer.subject, repeat),
            check=one.id,
            area=one.area,
            severity=answer.severity or one.severity,
            device=device.name,
            title=one.title,
            detail=answer.detail,
            why=one.why,
            fix=one.fix.format(**values),
            controls=one.controls,
            evidence=tuple(Evidence(where, device.text(where)) for where in answer.where),
            rules=answer.rules,
            proof=answer.proof,
        )


def merged(answers: Iterable[Answer]) -> list[Found]:
    """The findings among `answers`, those of both address families joined; ``{family}`` is filled in."""
    groups: dict[str, list[list[Found]]] = {}
    for answer in answers:
        if isinstance(answer, Found):
            alike = groups.setdefault(answer.subject, [])
            other = next(
                (g for g in alike if answer.family and all(f.family not in (None, answer.family) for f in g)), None
            )
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


def fingerprint(check: str, device: str, subject: str, repeat: int = 1) -> str:
    """16 hexadecimal digits made of what a finding is about, not of where it is written."""
    text = "\0".join((check, device, subject, str(repeat)))
    return hashlib.sha256(text.encode()).hexdigest()[:16]


def _position(estate: Estate, device: str) -> int:
    return next((i for i, d in enumerate(estate.devices) if d.name == device), len(estate.devices))


def _first_line(finding: Finding) -> tuple[str, int]:
    if not finding.evidence:
        return ("", 0)
    where = finding.evidence[0].where
    return (where.file, where.first)

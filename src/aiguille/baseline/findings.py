"""What an audit says of a device: findings with their evidence, outcomes of checks, and what is answered to them."""

from __future__ import annotations

import hashlib
from datetime import date
from enum import StrEnum
from fnmatch import fnmatchcase

from msgspec import Struct

from aiguille.baseline.catalogue import (
    Outcome,
    RuleRef,
    Severity,
    Who,
)
from aiguille.baseline.spec import AcceptedRisk
from aiguille.model import Span
from aiguille.packets import Packet


class Evidence(Struct, frozen=True):
    """Lines of an export, with their text; secrets are masked."""

    where: Span
    text: tuple[str, ...]


class Witness(Struct, frozen=True):
    """A packet that proves a finding, and whether it does so certainly; doubt: else what its fate depends on, in words."""

    packet: Packet
    certain: bool
    doubt: str = ""


class Consequence(Struct, frozen=True):
    """A lighter finding that follows from the same rule, default or setting as another, and goes with it."""

    fingerprint: str
    check: str
    severity: Severity
    title: str
    detail: str
    evidence: tuple[Evidence, ...] = ()


class Status(StrEnum):
    """How the auditee says a finding stands."""

    OPEN = "open"
    FIXED = "fixed"
    DISPUTED = "disputed"
    ACCEPTED = "accepted"


class Reply(Struct, frozen=True, forbid_unknown_fields=True):
    """What is said of one finding.

    due: the day it is to be done by, or for what is accepted the last day it is
    said: the day of the audit the answer was read at
    """

    finding: str
    status: Status
    device: str = ""
    check: str = ""
    owner: str = ""
    due: date | None = None
    remark: str = ""
    said: date | None = None

    def is_overdue(self, as_of: date) -> bool:
        return self.due is not None and self.due < as_of

    def says(self) -> str:
        """``fixed, head of network, by 2026-12-31: the port is closed``."""
        until = "until" if self.status is Status.ACCEPTED else "by"
        parts = [self.status.value, self.owner, f"{until} {self.due.isoformat()}" if self.due else ""]
        return ", ".join(filter(None, parts)) + (f": {self.remark}" if self.remark else "")


class Finding(Struct, frozen=True):
    """One thing that is wrong on one device. `fingerprint` stays the same when rules are moved or lines are added.

    who: who can use it, None where that says nothing
    consequences: what else the same rule is behind
    also_on: siblings of the device on which the same lines do the same
    number: what people call it, 12 for F-12; 0 before an audit is folded
    cause: the number of the finding that its cause is called by, 3 for C-3; see `causes`
    answer: what the auditee says of it
    hits: by device, how often the rule it speaks of first was hit, where the export counts
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
    hits: tuple[tuple[str, int], ...] = ()


class Acceptance(Struct, frozen=True):
    """An entry of a file of accepted risks, with its place."""

    risk: AcceptedRisk
    file: str
    line: int

    def covers(self, finding: Finding) -> bool:
        risk = self.risk
        if risk.finding:
            return finding.fingerprint == risk.finding
        return (
            finding.check == risk.check
            and fnmatchcase(finding.device, risk.device or "*")
            and (not risk.rule or any(risk.rule in text for e in finding.evidence for text in e.text))
        )

    @property
    def about(self) -> str:
        risk = self.risk
        if risk.finding:
            return f"finding {risk.finding}"
        words = [risk.check, f"on {risk.device}" if risk.device else "", f"'{risk.rule}'" if risk.rule else ""]
        return " ".join(filter(None, words))


class CheckOutcome(Struct, frozen=True):
    """What a check says of a device, and why."""

    check: str
    device: str
    outcome: Outcome
    because: str


def fingerprint(check: str, device: str, subject: str, repeat: int = 1) -> str:
    """16 hexadecimal digits made of what a finding is about, not of where it is written."""
    text = "\0".join((check, device, subject, str(repeat)))
    return hashlib.sha256(text.encode(errors="backslashreplace")).hexdigest()[:16]


def order(finding: Finding) -> tuple[int, str, tuple[str, int], str, str]:
    """By which the findings of a device are sorted, gravest first."""
    return -finding.severity.rank, finding.check, first_line(finding), finding.detail, finding.fingerprint


def first_line(finding: Finding) -> tuple[str, int]:
    if not finding.evidence:
        return ("", 0)
    where = finding.evidence[0].where
    return (where.file, where.first)

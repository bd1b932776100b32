"""Audits as data frames, for notebooks. Needs pandas, which only those who ask for a frame must have."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from aiguille.baseline.catalogue import Severity
from aiguille.baseline.findings import Acceptance, CheckOutcome, Finding
from aiguille.model import UsageError

if TYPE_CHECKING:
    from pandas import DataFrame


def findings_frame(findings: Sequence[Finding], accepted: Sequence[tuple[Finding, Acceptance]]) -> DataFrame:
    """A row for each finding, accepted ones included, in the order of the audit; see `Audit.to_frame`."""
    pd = pandas_or_refuse()
    rows = [_row(one, None) for one in findings] + [_row(one, by) for one, by in accepted]
    frame: DataFrame = pd.DataFrame(rows, columns=list(_COLUMNS)).astype(_COLUMNS)
    ranks = [severity.value for severity in sorted(Severity, key=lambda one: one.rank)]
    frame["severity"] = pd.Categorical(frame["severity"], ranks, ordered=True)
    frame["accepted_until"] = pd.to_datetime(frame["accepted_until"])
    return frame


def outcomes_frame(outcomes: Sequence[CheckOutcome]) -> DataFrame:
    """A row for each outcome: device, check, outcome, because."""
    pd = pandas_or_refuse()
    rows = [(one.device, one.check, one.outcome.value, one.because) for one in outcomes]
    frame: DataFrame = pd.DataFrame(rows, columns=["device", "check", "outcome", "because"]).astype("string")
    return frame


_COLUMNS = {
    "fingerprint": "string",
    "device": "string",
    "also_on": "string",
    "check": "string",
    "area": "string",
    "severity": "string",
    "title": "string",
    "detail": "string",
    "file": "string",
    "line": "Int64",
    "text": "string",
    "packet": "string",
    "certain": "boolean",
    "fix": "string",
    "controls": "string",
    "accepted_by": "string",
    "accepted_until": "string",
}


def _row(one: Finding, accepted: Acceptance | None) -> dict[str, Any]:
    first = one.evidence[0] if one.evidence else None
    return {
        "fingerprint": one.fingerprint,
        "device": one.device,
        "also_on": ", ".join(one.also_on) or None,
        "check": one.check,
        "area": str(one.area),
        "severity": one.severity.value,
        "title": one.title,
        "detail": one.detail,
        "file": first.where.file if first else None,
        "line": first.where.first if first else None,
        "text": "\n".join(first.text) if first else None,
        "packet": one.proof.packet.sentence() if one.proof else None,
        "certain": one.proof.certain if one.proof else None,
        "fix": one.fix,
        "controls": ", ".join(one.controls),
        "accepted_by": accepted.risk.owner if accepted else None,
        "accepted_until": accepted.risk.until.isoformat() if accepted else None,
    }


def pandas_or_refuse() -> Any:
    """The module pandas; raises UsageError, with what to install, where it is missing."""
    try:
        import pandas
    except ImportError as error:
        raise UsageError("data frames need pandas, which is not installed: pip install 'aiguille[frames]'") from error
    return pandas

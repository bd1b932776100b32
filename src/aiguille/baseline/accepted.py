"""Accepted risks: findings somebody answers for, with a reason and an end."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import date
from pathlib import Path

from msgspec.structs import replace

from aiguille.baseline.audit import Audit
from aiguille.baseline.catalogue import Check, Outcome
from aiguille.baseline.findings import Acceptance, CheckOutcome, Finding
from aiguille.baseline.spec import AcceptedFile
from aiguille.model import UsageError
from aiguille.model.identity import Same

_FINGERPRINT = re.compile(r"[0-9a-f]{16}")


def load(name: str, catalogue: Sequence[Check]) -> tuple[Acceptance, ...]:
    """Read a file of accepted risks; raises UsageError with file, line and what is wrong."""
    from aiguille.baseline.files import known_keys, unknown_check  # brings YAML with it
    from aiguille.readers import yamlfile
    from aiguille.readers.whole import whole_text

    text = whole_text(name)
    file = yamlfile.load(name, text, "a file of accepted risks", "accepted:")
    raw = yamlfile.convert(file, AcceptedFile, known_keys(), "a file of accepted risks")
    ids = [one.id for one in catalogue]
    out = []
    for number, risk in enumerate(raw.accepted):
        at = ("accepted", number)
        if bool(risk.finding) is bool(risk.check):
            raise file.fault("a risk is named by either 'finding' or 'check'", *at)
        if risk.finding and not _FINGERPRINT.fullmatch(risk.finding):
            raise file.fault(
                f"'{risk.finding}' is no fingerprint: 16 digits 0-9 and a-f, as the audit prints them", *at, "finding"
            )
        if risk.finding and (risk.device or risk.rule):
            raise file.fault("a fingerprint says it all; leave 'device' and 'rule' out", *at, "finding")
        if risk.check and risk.check not in ids:
            raise file.fault(unknown_check(risk.check, ids), *at, "check")
        for key, value in (("reason", risk.reason), ("owner", risk.owner)):
            if not value.strip():
                raise file.fault(f"'{key}' is empty; say it, or take the risk off the list", *at, key)
        out.append(Acceptance(risk, name, file.line(*at)))
    return tuple(out)


def is_one(path: Path) -> bool:
    """Whether a file looks like one of accepted risks, rather than a baseline."""
    try:
        return re.search(r"(?m)^accepted\s*:", path.read_text(encoding="utf-8")) is not None
    except (OSError, UnicodeDecodeError):
        return False


def refuse_past(acceptances: Sequence[Acceptance], as_of: date) -> None:
    """Raises UsageError for the first entry whose last day is past."""
    for one in expired(acceptances, as_of):
        raise UsageError(
            f"{one.file}:{one.line}: {one.about} is accepted until {one.risk.until}, which is past; renew it or take it off"
        )


def expired(acceptances: Sequence[Acceptance], as_of: date) -> list[Acceptance]:
    """Those whose last day is past."""
    return [one for one in acceptances if one.risk.until < as_of]


def apply(audit: Audit, acceptances: Sequence[Acceptance]) -> Audit:
    """The audit with accepted findings set aside.

    An entry that has expired lets its findings return, and one that covers nothing is reported.
    """
    past = {Same(one) for one in expired(acceptances, audit.estate.as_of)}
    kept: list[Finding] = []
    accepted = list(audit.accepted)
    used: set[Same] = set()
    for finding in audit.findings:
        mine = [one for one in acceptances if one.covers(finding)]
        used |= {Same(one) for one in mine}
        valid = next((one for one in mine if Same(one) not in past), None)
        if valid is None:
            kept.append(finding)
        else:
            accepted.append((finding, valid))
    notes = list(audit.notes)
    for one in acceptances:
        if Same(one) in past and Same(one) in used:
            notes.append(
                f"{one.file}:{one.line}: {one.about} was accepted by {one.risk.owner} until {one.risk.until}; that is over, and the "
                "finding is back"
            )
        elif Same(one) not in used:
            notes.append(f"{one.file}:{one.line}: {one.about} covers no finding; take it off the list")
    open_still = {(f.check, f.device) for f in kept}
    gone = {(f.check, f.device): a for f, a in accepted if (f.check, f.device) not in open_still}
    outcomes = tuple(_outcome(one, gone.get((one.check, one.device))) for one in audit.outcomes)
    return replace(audit, findings=tuple(kept), accepted=tuple(accepted), notes=tuple(notes), outcomes=outcomes)


def _outcome(one: CheckOutcome, accepted: Acceptance | None) -> CheckOutcome:
    if accepted is None:
        return one
    risk = accepted.risk
    return replace(
        one,
        outcome=Outcome.ACCEPTED,
        because=f"{one.because} Accepted by {risk.owner} until {risk.until}: {risk.reason}",
    )

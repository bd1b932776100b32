"""Accepted risks: findings somebody answers for, with a reason and an end."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator, Sequence
from datetime import date
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from aiguille.baseline.audit import Audit
from aiguille.baseline.catalogue import Check, Outcome
from aiguille.baseline.findings import Acceptance, CheckOutcome, Finding
from aiguille.baseline.spec import AcceptedFile
from aiguille.model import UsageError

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


class Settled(Struct, frozen=True):
    """Findings with those set aside that somebody answers for.

    accepted: those, each with the entry's place on the list
    used: the places of the entries that cover some finding, expired ones included
    """

    findings: tuple[Finding, ...]
    accepted: tuple[tuple[Finding, int], ...]
    outcomes: tuple[CheckOutcome, ...]
    used: frozenset[int]


def settle(
    findings: Iterable[Finding], outcomes: Iterable[CheckOutcome], acceptances: Sequence[Acceptance], as_of: date
) -> Settled:
    """Set accepted findings aside; an entry that has expired lets its findings return."""
    kept: list[Finding] = []
    accepted: list[tuple[Finding, int]] = []
    used: set[int] = set()
    for finding in findings:
        mine = [at for at, one in enumerate(acceptances) if one.covers(finding)]
        used.update(mine)
        valid = next((at for at in mine if acceptances[at].risk.until >= as_of), None)
        if valid is None:
            kept.append(finding)
        else:
            accepted.append((finding, valid))
    open_still = {(f.check, f.device) for f in kept}
    gone = {(f.check, f.device): acceptances[at] for f, at in accepted if (f.check, f.device) not in open_still}
    settled = tuple(_outcome(one, gone.get((one.check, one.device))) for one in outcomes)
    return Settled(tuple(kept), tuple(accepted), settled, frozenset(used))


def notes_on(acceptances: Sequence[Acceptance], used: Collection[int], as_of: date) -> Iterator[str]:
    """What there is to say of entries that have expired, and of those that cover nothing."""
    for at, one in enumerate(acceptances):
        if at not in used:
            yield f"{one.file}:{one.line}: {one.about} covers no finding; take it off the list"
        elif one.risk.until < as_of:
            yield (
                f"{one.file}:{one.line}: {one.about} was accepted by {one.risk.owner} until {one.risk.until}; that is over, "
                "and the finding is back"
            )


def apply(audit: Audit, acceptances: Sequence[Acceptance]) -> Audit:
    """The audit with accepted findings set aside.

    An entry that has expired lets its findings return, and one that covers nothing is reported.
    """
    settled = settle(audit.findings, audit.outcomes, acceptances, audit.estate.as_of)
    return replace(
        audit,
        findings=settled.findings,
        accepted=(*audit.accepted, *((finding, acceptances[at]) for finding, at in settled.accepted)),
        notes=(*audit.notes, *notes_on(acceptances, settled.used, audit.estate.as_of)),
        outcomes=settled.outcomes,
    )


def _outcome(one: CheckOutcome, accepted: Acceptance | None) -> CheckOutcome:
    if accepted is None:
        return one
    risk = accepted.risk
    return replace(
        one,
        outcome=Outcome.ACCEPTED,
        because=f"{one.because} Accepted by {risk.owner} until {risk.until}: {risk.reason}",
    )

"""The audit as Markdown (CommonMark with tables), for a ticket or a wiki."""

from __future__ import annotations

import re
from collections.abc import Iterator

from aiguille._version import __version__
from aiguille.baseline import Evidence, Finding, Outcome, Severity
from aiguille.model import Device
from aiguille.reports.dossier import Dossier
from aiguille.reports.text import counted, visible
from aiguille.reports.verdict import elsewhere, verdict

_SPECIAL = re.compile(r"([\\`*_{}\[\]#|~>$]|^[-+=]|^\d+(?=[.)]))")


def as_markdown(dossier: Dossier) -> str:
    """Head, verdict, a table of devices, findings by device, what is accepted, what cannot be determined or was not read."""
    audit = dossier.audit
    parts = [f"# {plain(audit.estate.title or 'Audit')}", "", *_about(dossier), "", *map(plain, verdict(dossier)), ""]
    parts += _devices(dossier)
    for device in dossier.devices:
        parts += ["", f"## {plain(device.name)}", "", f"{plain(device.make)}", ""]
        for source in device.sources:
            parts.append(f"- {code(source.path)}, {source.size} bytes, SHA-256 {code(source.sha256)}")
        findings = dossier.audit.reported_on(device.name)
        shared = elsewhere(dossier.audit, device.name)
        if not findings and not shared:
            parts += ["", "Nothing found."]
        for sentence in shared:
            parts += ["", plain(sentence)]
        for one in findings:
            parts += ["", *_finding(one)]
        parts += _open(dossier, device)
    parts += _accepted(dossier)
    parts += _not_read(dossier)
    parts += [
        "",
        "---",
        "",
        f"Aiguille {__version__}; fingerprints stay the same when rules are moved or lines are added.",
    ]
    return "\n".join(parts) + "\n"


def plain(text: str) -> str:
    """Text that means nothing in Markdown or HTML: every sign that might is escaped."""
    escaped = _SPECIAL.sub(r"\\\1", visible(text))
    return escaped.replace("&", "&amp;").replace("<", "&lt;")


def code(text: str) -> str:
    """A code span that holds any text, backticks included; not for tables, where a bar would end the cell."""
    shown = visible(text)
    fence = "`" * (1 + max((len(run) for run in re.findall("`+", shown)), default=0))
    pad = " " if shown.startswith("`") or shown.endswith("`") else ""
    return f"{fence}{pad}{shown}{pad}{fence}" if shown else ""


def _about(dossier: Dossier) -> Iterator[str]:
    audit = dossier.audit
    about = audit.estate.about
    yield f"As of {audit.estate.as_of.isoformat()}, against baseline {code(audit.baseline.name if audit.baseline else 'none')}."
    for label, text in (("For", about.client), ("By", about.auditor), ("Scope", about.scope)):
        if text:
            yield f"{label}: {plain(text)}\n"


def _devices(dossier: Dossier) -> Iterator[str]:
    shown = [severity for severity in Severity if any(s is severity for _, _, s in dossier.counts)]
    yield "| device | " + " | ".join([*(s.value for s in shown), "passed", "cannot tell"]) + " |"
    yield "|---|" + "---:|" * (len(shown) + 2)
    for device in dossier.devices:
        severities = [f.severity for f in dossier.audit.findings_on(device.name)]
        counts = [severities.count(severity) for severity in shown]
        mine = [o.outcome for o in dossier.audit.outcomes_on(device.name)]
        cells = [*counts, mine.count(Outcome.PASS), mine.count(Outcome.CANNOT_TELL)]
        yield f"| {plain(device.name)} | " + " | ".join(map(str, cells)) + " |"


def _finding(one: Finding) -> Iterator[str]:
    yield f"### {one.severity.value.upper()}: {plain(one.title)}"
    yield ""
    yield plain(one.detail)
    yield ""
    yield f"*Why:* {plain(one.why)}"
    for evidence in one.evidence:
        yield ""
        yield from _evidence(evidence)
    if one.proof is not None:
        doubt = f" (may be let in: depends on {plain(one.proof.doubt)})" if one.proof.doubt else ""
        yield ""
        yield f"*Packet:* {code(one.proof.packet.sentence())}{doubt}"
    yield ""
    yield f"*Fix:* {plain(one.fix)}"
    yield ""
    for also in one.consequences:
        yield f"Also {also.severity}: {plain(also.detail)} ({code(also.check)})"
        yield ""
    if one.also_on:
        yield f"The same on {', '.join(map(plain, one.also_on))}."
        yield ""
    if one.answer is not None:
        yield f"*Answer:* {plain(one.answer.says())}"
        yield ""
    number = f"F-{one.number}, " if one.number else ""
    yield f"{number}{code(one.check)}, fingerprint {code(one.fingerprint)}" + (
        f", {', '.join(one.controls)}" if one.controls else ""
    )


def _evidence(evidence: Evidence) -> Iterator[str]:
    yield code(str(evidence.where))
    if evidence.text:
        # A fence longer than any in the text, so that nothing in it can end the block.
        longest = max((len(run) for text in evidence.text for run in re.findall("`+", text)), default=0)
        fence = "`" * max(3, longest + 1)
        yield ""
        yield f"{fence}text"
        yield from map(visible, evidence.text)
        yield fence


def _open(dossier: Dossier, device: Device) -> Iterator[str]:
    reasons = dossier.audit.open_questions(device.name)
    if reasons:
        yield ""
        yield "### Cannot tell"
        yield ""
        for because, checks in reasons.items():
            yield f"- {', '.join(map(code, checks))}: {plain(because)}"


def _accepted(dossier: Dossier) -> Iterator[str]:
    if dossier.audit.accepted:
        yield ""
        yield "## Accepted risks"
        yield ""
        for one, acceptance in dossier.audit.accepted:
            risk = acceptance.risk
            yield (
                f"- {plain(one.device)}, {code(one.check)}, {code(one.fingerprint)}: {plain(one.detail)} "
                f"*{plain(risk.owner)}, until {risk.until.isoformat()}:* {plain(risk.reason)}"
            )


def _not_read(dossier: Dossier) -> Iterator[str]:
    estate = dossier.audit.estate
    lines = [
        f"{plain(device.name)}: {counted(device.ledger.unread_lines, 'line')} of {device.ledger.lines} not understood"
        for device in estate.devices
        if device.ledger.unread_lines
    ]
    lines += [
        f"{plain(device.name)}: {code(str(entry.where))}: {plain(entry.why)}"
        for device in estate.devices
        for entry in (*device.ledger.unread, *device.ledger.problems)
    ]
    lines += [plain(note) for note in (*estate.notes, *dossier.audit.notes)]
    lines += [f"**{plain(failure.message)}**" for failure in estate.failures]
    if lines:
        yield ""
        yield "## Not read, or read with warnings"
        yield ""
        yield from (f"- {line}" for line in lines)

"""The audit as Markdown (CommonMark with tables), for a ticket or a wiki."""

from __future__ import annotations

import re
from collections.abc import Iterator

from aiguille._version import __version__
from aiguille.baseline import Finding, Outcome, Severity
from aiguille.baseline.causes import Cause, effort
from aiguille.baseline.findings import Consequence
from aiguille.baseline.questions import over_devices, questions
from aiguille.reports.dossier import Dossier
from aiguille.reports.text import counted, visible
from aiguille.reports.verdict import decision, verdict

_SPECIAL = re.compile(r"([\\`*_{}\[\]#|~>$]|^[-+=]|^\d+(?=[.)]))")


LINES = 200
"""Lines that a ticket takes; what is more stands in the other reports."""

_ROWS = 25
"""Devices at most, and rows of findings that room is kept for."""

_FEW = 10
"""Requests, accepted risks and warnings at most."""


def as_markdown(dossier: Dossier) -> str:
    """A summary of at most `LINES` lines: verdict, what to mend first with packet and fix, the rest in a table, what is open."""
    audit = dossier.audit
    head = [
        f"# {plain(audit.estate.title or 'Audit')}",
        "",
        *_about(dossier),
        "",
        *map(plain, verdict(dossier)),
        *_decision(dossier),
        "",
    ]
    head = "\n".join(head).split("\n")
    tail = [*_devices(dossier), *_asked(dossier), *_accepted(dossier), *_not_read(dossier), *_foot()]
    return "\n".join([*head, *_to_mend(dossier, LINES - len(head) - len(tail)), *tail]) + "\n"


def _decision(dossier: Dossier) -> list[str]:
    asked = decision(dossier)
    return ["", plain(asked)] if asked else []


def _foot() -> tuple[str, ...]:
    more = "`.html` and `.txt` have every finding with all its lines, the exports' SHA-256 and all that was not read."
    return (
        "",
        "---",
        "",
        f"Aiguille {__version__}; {more} Fingerprints stay the same when rules are moved or lines are added.",
    )


def _to_mend(dossier: Dossier, room: int) -> list[str]:
    """As many causes in full as there is room for, and the others in a table; what does not fit is counted."""
    found = dossier.audit.causes()
    if not found:
        return []
    head = ["## To mend, gravest first", ""]
    table = ["| | severity | device | what | where |", "|---|---|---|---|---|"]
    blocks = [_cause(one, effort(one)) for one in found]
    rows = [_row(one) for one in found]
    full = 0
    used = len(head) + len(table) + min(len(rows), _ROWS) + 3
    while full < len(blocks) and used + len(blocks[full]) <= room:
        used += len(blocks[full])
        full += 1
    shown = [*head, *(line for block in blocks[:full] for line in block)]
    rest = rows[full:]
    fits = max(0, room - len(shown) - len(table) - 3)
    if rest:
        shown += [*table, *rest[:fits], ""]
    if len(rest) > fits:
        left = found[full + fits :]
        shown += [
            f"And {counted(sum(len(one.findings) for one in left), 'finding')} more, {left[0].severity} and below.",
            "",
        ]
    return shown


def _row(cause: Cause) -> str:
    first = cause.findings[0]
    number = f"F-{first.number}" if first.number else code(first.fingerprint)
    devices = plain(cause.devices[0]) + (f" +{len(cause.devices) - 1}" if len(cause.devices) > 1 else "")
    where = plain(str(cause.where)) if cause.where is not None else ""
    return f"| {number} | {first.severity} | {devices} | {plain(first.title)} | {where} |"


def _cause(cause: Cause, work: str) -> list[str]:
    """The gravest finding of a cause with its first line, packet, fix and how much work that is, and what else stands behind it."""
    one = cause.findings[0]
    number = f"F-{one.number}, " if one.number else ""
    lines = [f"### {number}{one.severity.value.upper()}, {plain(', '.join(cause.devices))}: {plain(one.title)}", ""]
    lines += [plain(one.detail), ""]
    if one.evidence:
        first = one.evidence[0]
        text = f": {code(' '.join(' '.join(first.text).split())[:300])}" if first.text else ""
        more = f" and {counted(len(one.evidence) - 1, 'place')} more" if len(one.evidence) > 1 else ""
        lines.append(f"- Line: {code(str(first.where))}{text}{more}")
    if one.proof is not None:
        doubt = f" (may be let in: depends on {plain(one.proof.doubt)})" if one.proof.doubt else ""
        lines.append(f"- Packet: {code(one.proof.packet.sentence())}{doubt}")
    lines.append(f"- Fix: {plain(one.fix)} ({plain(work)})")
    behind: list[Finding | Consequence] = [*one.consequences]
    for finding in cause.findings[1:]:
        behind += [finding, *finding.consequences]
    others = [f"{each.severity}: {plain(each.title)}" for each in behind if each.title != one.title]
    if others:
        lines.append(f"- Also behind it: {'; '.join(dict.fromkeys(others))}")
    if one.answer is not None:
        lines.append(f"- Answer: {plain(one.answer.says())}")
    controls = f", {plain(', '.join(one.controls))}" if one.controls else ""
    return [*lines, f"- Check: {code(one.check)}, fingerprint {code(one.fingerprint)}{controls}", ""]


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
            yield f"\n{label}: {plain(text)}"


def _devices(dossier: Dossier) -> Iterator[str]:
    """A table of the devices, those with the gravest findings first where not all fit."""
    shown = [severity for severity in Severity if any(s is severity for _, _, s in dossier.counts)]
    rows = []
    for device in dossier.devices:
        severities = [f.severity for f in dossier.audit.findings_on(device.name)]
        counts = [severities.count(severity) for severity in shown]
        mine = [o.outcome for o in dossier.audit.outcomes_on(device.name)]
        cells = [*counts, mine.count(Outcome.PASS), mine.count(Outcome.CANNOT_TELL)]
        rows.append(([-n for n in counts], f"| {plain(device.name)} | " + " | ".join(map(str, cells)) + " |"))
    if not rows:
        return
    if len(rows) > _ROWS:
        rows.sort(key=lambda row: row[0])
    yield "## Devices"
    yield ""
    yield "| device | " + " | ".join([*(s.value for s in shown), "passed", "cannot tell"]) + " |"
    yield "|---|" + "---:|" * (len(shown) + 2)
    yield from (row for _, row in rows[:_ROWS])
    if len(rows) > _ROWS:
        yield ""
        yield f"And {counted(len(rows) - _ROWS, 'device')} more."


def _asked(dossier: Dossier) -> Iterator[str]:
    lines = [
        f"{plain(request.ask)}{f': {code(request.command)}' if request.command else ''} "
        f"({', '.join(plain(one.device) for one in found[:3])}{f' +{len(found) - 3}' if len(found) > 3 else ''}; "
        f"settles {counted(sum(len(one.checks) for one in found), 'outcome')})"
        for request, found in over_devices(questions(dossier.audit))
    ]
    yield from _section("What could not be determined, and what settles it", lines)


def _accepted(dossier: Dossier) -> Iterator[str]:
    lines = [
        f"{plain(one.device)}, {code(one.check)}, {code(one.fingerprint)}: {plain(one.detail)} "
        f"*{plain(acceptance.risk.owner)}, until {acceptance.risk.until.isoformat()}:* {plain(acceptance.risk.reason)}"
        for one, acceptance in dossier.audit.accepted
    ]
    yield from _section("Accepted risks", lines)


def _not_read(dossier: Dossier) -> Iterator[str]:
    estate = dossier.audit.estate
    lines = [f"**{plain(failure.message)}**" for failure in estate.failures]
    lines += [
        f"{plain(device.name)}: {counted(device.ledger.unread_lines, 'line')} of {device.ledger.lines} not understood"
        for device in estate.devices
        if device.ledger.unread_lines
    ]
    lines += [
        f"{plain(device.name)}: {code(str(entry.where))}: {plain(entry.why)}"
        for device in estate.devices
        for entry in (*device.ledger.problems, *device.ledger.unread)
    ]
    lines += [plain(note) for note in (*estate.notes, *dossier.audit.notes)]
    yield from _section("Not read, or read with warnings", lines)


def _section(title: str, lines: list[str]) -> Iterator[str]:
    if not lines:
        return
    fits = lines if len(lines) <= _FEW else lines[: _FEW - 1]
    yield ""
    yield f"## {title}"
    yield ""
    yield from (f"- {line}" for line in fits)
    if len(fits) < len(lines):
        yield f"- and {len(lines) - len(fits)} more"

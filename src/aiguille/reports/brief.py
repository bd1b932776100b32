"""The audit on one page: the verdict, the ten gravest things to mend, the devices, and what to ask for. At most 40 lines."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from textwrap import wrap

from rich.console import Console
from rich.text import Text

from aiguille.analysis.outlines import outlines
from aiguille.baseline import Audit, Finding, Outcome, Severity
from aiguille.baseline.answers import tally
from aiguille.baseline.causes import Cause, causes
from aiguille.baseline.questions import over_devices, questions
from aiguille.model import Span
from aiguille.reports.styles import LINE_STYLE, severity_style
from aiguille.reports.text import counted, visible

LINES = 40
"""Lines of the page."""

_TOP = 10
_QUESTIONS = 3
_ROWS = 6
"""Devices that are worth more than the second lines of findings."""


def show_brief(console: Console, audit: Audit, *, top: int = _TOP) -> None:
    """Write the page; what is too long for it is cut, and all of it stands in the details."""
    for line in _lines(audit, console.width, top):
        line.truncate(console.width, overflow="ellipsis")
        console.print(line, no_wrap=True, crop=True)


def _lines(audit: Audit, width: int, top: int) -> Iterator[Text]:
    mended = _to_mend(audit)[:top]
    head = list(_head(audit, width))
    asked = list(_asked(audit, width))
    foot = list(_foot(audit, mended))
    devices = min(len(audit.estate.devices), _ROWS) + 2
    plain = len(mended) + 2
    spare = max(0, LINES - len(head) - len(asked) - len(foot) - plain - devices)
    found = list(_gravest(mended, width, spare, one_device=len(audit.estate.devices) == 1))
    room = max(3, LINES - len(head) - len(asked) - len(found) - len(foot))
    yield from head
    yield from found
    yield from _devices(audit, room)
    yield from asked
    yield from foot


def _head(audit: Audit, width: int) -> Iterator[Text]:
    estate = audit.estate
    title = visible(estate.title) or "Audit"
    against = f" against baseline '{visible(audit.baseline.name)}'" if audit.baseline else ""
    yield Text.assemble((title, "bold"), f", as of {estate.as_of.isoformat()}{against}")
    if not estate.devices:
        yield Text("Nothing could be read, so nothing was checked.", "bold")
        return
    yield Text(_verdict(audit), "bold")
    outcomes = audit.tally()
    passed, open_ones = outcomes.get(Outcome.PASS, 0), outcomes.get(Outcome.CANNOT_TELL, 0)
    answered = sum(outcomes.get(one, 0) for one in (Outcome.PASS, Outcome.FAIL, Outcome.ACCEPTED))
    yield Text(f"{passed} of {answered} determined outcomes pass; {open_ones} are open.")
    if audit.accepted:
        yield Text(f"{counted(len(audit.accepted), 'finding')} accepted by a named owner until a set date.")
    if audit.answers:
        yield Text(_answered(audit), "bold")
    times = sorted(visible(d.taken_at.value) for d in outlines(estate) if d.taken_at.known)
    if times:
        yield Text(f"Oldest export: {times[0]}.", "dim")
    guesses = [
        (d.name, z) for d in outlines(estate) for z in d.zones if z.guessed and z.side is not None and z.interfaces
    ]
    if guesses:
        described = [f"{visible(', '.join(z.interfaces))} faces {z.side}" for _, z in guesses[:4]]
        more = f" and {len(guesses) - 4} more" if len(guesses) > 4 else ""
        yield Text(f"Assumed: {', '.join(described)}{more}; state it with --side IFACE=SIDE.", "dim")
    silent = [visible(d.name) for d in outlines(estate) if d.silent_of_six]
    if silent:
        more = f" and {len(silent) - 3} more" if len(silent) > 3 else ""
        yield Text(f"Without rules for IPv6, so nothing is said of it: {', '.join(silent[:3])}{more}.", "bold")
    for failure in estate.failures[:2]:
        yield Text(visible(failure.message), "bold")
    unread = sum(d.ledger.unread_lines for d in outlines(estate))
    problems = [p for d in outlines(estate) for p in d.ledger.problems]
    if problems:
        more = f" and {len(problems) - 1} more" if len(problems) > 1 else ""
        yield Text(
            f"Read with warnings: {visible(problems[0].why)} ({visible(_place(problems[0].where))}){more}.", "dim"
        )
    if unread:
        yield Text(
            f"{counted(unread, 'line')} not understood; rules in them count as ones that may match (`aiguille read`).",
            "bold",
        )


def _answered(audit: Audit) -> str:
    """How the auditee's answers stand, in a sentence."""
    described = tally(audit)
    numbers = {
        "said to be fixed and still there": described.still,
        "overdue": described.overdue,
        "accepted until a day that is past": described.ended,
        "disputed": described.disputed,
    }
    words = [f"{len(found)} {what}{_some(found)}" for what, found in numbers.items() if found]
    gone = [f"{len(described.gone)} no longer found"] if described.gone else []
    return f"{counted(described.answered, 'finding')} answered: {', '.join([*words, *gone]) or 'all in time'}."


def _some(found: Sequence[Finding]) -> str:
    return " (" + ", ".join(f"F-{one.number}" for one in found[:3]) + (", …)" if len(found) > 3 else ")")


def _verdict(audit: Audit) -> str:
    described = [f"{n} {severity.value}" for severity, n in audit.counts().items() if n]
    devices = counted(len(audit.estate.devices), "device")
    if not audit.findings:
        if _mostly_open(audit):
            return f"No findings on {devices}, but the exports leave most open: ask for what is missing."
        return f"No findings on {devices}, as far as the exports show."
    worst = audit.worst()
    if worst is not None and worst.rank >= Severity.HIGH.rank:
        fails = "does not meet the baseline"
    elif _mostly_open(audit):
        fails = "shows no grave finding, but the exports leave most open"
    else:
        fails = "has no grave finding"
    who = "The device" if len(audit.estate.devices) == 1 else "The estate"
    return f"{who} {fails}: {', '.join(described)}."


def _mostly_open(audit: Audit) -> bool:
    """Whether more checks cannot tell than pass."""
    outcomes = audit.tally()
    return outcomes.get(Outcome.CANNOT_TELL, 0) > outcomes.get(Outcome.PASS, 0)


def _to_mend(audit: Audit) -> Sequence[Cause]:
    """What one change each would mend, gravest first; of a single cause, the findings behind it."""
    found = audit.causes()
    return found if len(found) > 1 else tuple(one for f in audit.findings for one in causes([f]))


def _gravest(mended: Sequence[Cause], width: int, spare: int, *, one_device: bool) -> Iterator[Text]:
    """The gravest to mend, a line each by its gravest finding.

    While lines are to spare, the first have a second for what does not fit.
    """
    if not mended:
        return
    yield Text("")
    shown = [one.findings[0] for one in mended]
    more = [f"+{one.clears - 1}" if one.clears > 1 else "" for one in mended]
    behind = max(map(len, more))
    if behind:
        yield Text("To mend first, and how many findings more stand behind the same cause:", "dim")
    digits = max(2, *(len(str(one.number)) for one in shown))
    names = [_on(one) for one in shown]
    places = [_place(one.evidence[0].where) if one.evidence else "" for one in shown]
    if not one_device:
        places = [place.rpartition("/")[2] for place in places]  # the device shows the folder
    beside = min(22, max(len("device"), *map(len, names))) if not one_device else 0
    room_for_place = min(max(12, width // 3), max(map(len, places)))
    left = 13 + digits + (beside + 2 if beside else 0) + (behind + 2 if behind else 0)
    room = max(20, width - left - room_for_place - 2)
    for one, name, place, others in zip(shown, names, places, more, strict=True):
        words = visible(one.detail.removesuffix("."))
        line = Text(f"F-{one.number:<{digits}} ", "dim")
        line.append(f"{one.severity.value.upper():<8}", severity_style(one.severity))
        line.append("  ")
        if beside:
            line.append(f"{_cut(name, beside):<{beside}}  ")
        if behind:
            line.append(f"{others:>{behind}}  ", "dim")
        wrapped = wrap(words, room, max_lines=2 if spare else 1, placeholder="…") or [""]
        line.append(wrapped[0].ljust(room) + "  ")
        line.append(_cut_left(place, room_for_place), LINE_STYLE)
        yield line
        for second in wrapped[1:]:
            spare -= 1
            yield Text(" " * left + second)


def _on(finding: Finding) -> str:
    more = f" +{len(finding.also_on)}" if finding.also_on else ""
    return visible(finding.device) + more


def _place(where: Span) -> str:
    """File and line, relative to the working folder where it lies below it."""
    path = os.path.relpath(where.file) if os.path.isabs(where.file) else where.file
    shown = where.file if path.startswith("..") else path
    return f"{visible(shown)}:{where.first}"


def _cut(text: str, room: int) -> str:
    return text if len(text) <= room else text[: max(1, room - 1)] + "…"


def _cut_left(text: str, room: int) -> str:
    return text if len(text) <= room else "…" + text[-max(1, room - 1) :]


def _devices(audit: Audit, room: int) -> Iterator[Text]:
    devices = outlines(audit.estate)
    if not devices:
        return
    yield Text("")
    beside = max(len("device"), *(len(visible(d.name)) for d in devices))
    heads = "".join(f"{severity.value:>10}" for severity in Severity)
    yield Text(f"{'device':<{beside}}{heads}{'passed':>12}", "dim")
    rows = []
    for device in devices:
        outcomes = [o.outcome for o in audit.outcomes_on(device.name)]
        described = sum(o in (Outcome.PASS, Outcome.FAIL, Outcome.ACCEPTED) for o in outcomes)
        counts = list(audit.counts_on(device.name).values())
        passed = f"{outcomes.count(Outcome.PASS)} of {described}"
        cells = "".join(f"{n or '·':>10}" for n in counts)
        rows.append((counts, Text.assemble((f"{visible(device.name):<{beside}}", "bold"), f"{cells}{passed:>12}")))
    fits = room - 2
    if len(rows) > fits:
        rows.sort(key=lambda row: [-n for n in row[0]])
        left = len(rows) - (fits - 1)
        yield from (line for _, line in rows[: fits - 1])
        yield Text(f"and {counted(left, 'more device')}", "dim")
    else:
        yield from (line for _, line in rows)


def _asked(audit: Audit, width: int) -> Iterator[Text]:
    asked = over_devices(questions(audit))
    if not asked:
        return
    yield Text("")
    yield Text("To settle most of what could not be determined, ask for (`aiguille questions` writes it out):", "dim")
    for request, found in asked[:_QUESTIONS]:
        settles = sum(len(one.checks) for one in found)
        command = f": {request.command}" if request.command else ""
        more = f" +{len(found) - 1}" if len(found) > 1 else ""
        whom = f"{visible(found[0].device)}{more}"
        yield Text.assemble((f"{settles:>4}  ", "dim"), (f"{whom}  ", "bold"), f"{request.ask}{command}")


def _foot(audit: Audit, shown: Sequence[Cause]) -> Iterator[Text]:
    if not audit.estate.devices:
        return
    light = sum(count for severity, count in audit.counts().items() if severity.rank < Severity.MEDIUM.rank)
    rest = len(audit.findings) - sum(len(one.findings) for one in shown)
    yield Text("")
    if light:
        yield Text(f"Hygiene: {counted(light, 'light finding')} among them; --severity medium leaves them out.", "dim")
    more = f"{counted(rest, 'more finding')} and the " if rest else "The "
    yield Text(f"{more}reasons, packets and fixes: --details, --out report.html", "dim")
    if audit.findings:
        yield Text("One finding alone: aiguille explain F-1 PATH", "dim")

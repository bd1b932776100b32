"""The terminal views. All text from exports passes through `visible`, and none is taken for markup."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from rich.console import Console
from rich.padding import Padding
from rich.rule import Rule as Line
from rich.table import Table
from rich.text import Text

from aiguille.baseline import Audit, Evidence, Finding, Outcome, Severity, Witness
from aiguille.model import Device, Estate, GeoFilter, Known, LedgerEntry
from aiguille.reports.data import settings_of
from aiguille.reports.layout import LabelledRows, beside, pieces, show
from aiguille.reports.styles import LINE_STYLE, PACKET_STYLE, severity_badge
from aiguille.reports.text import counted, visible
from aiguille.reports.verdict import elsewhere

_SHOWN_LINES = 8
_SHOWN_FILES = 6
_SHOWN_SETTINGS = 30
_CHECKS = 31


def show_audit(console: Console, audit: Audit) -> None:
    """A verdict on top, then findings by device and severity, then what could not be told or read."""
    _head(console, audit)
    for device in audit.estate.devices:
        mine = audit.reported_on(device.name)
        console.print()
        console.print(_device_line(device))
        _findings(console, mine)
        shared = elsewhere(audit, device.name)
        for sentence in shared or ([] if mine else ["nothing found"]):
            console.print(Padding(Text(visible(sentence)), (1, 0, 0, 2)))
        _open_questions(console, audit, device)
    _accepted(console, audit)
    _not_read(console, audit.estate)


def show_read(console: Console, estate: Estate, *, show: str = "summary") -> None:
    """What each export says, and what in it was not understood.

    show: "summary"; "unread" for the latter alone; "all" for lines set aside too
    """
    for number, device in enumerate(estate.devices):
        if number:
            console.print()
        console.print(_device_line(device))
        if show != "unread":
            _facts(console, device)
        _ledger(console, device, full=show == "all")
    _not_read(console, estate)


def _head(console: Console, audit: Audit) -> None:
    estate = audit.estate
    title = visible(estate.title) or "Audit"
    against = f", against baseline '{visible(audit.baseline.name)}'" if audit.baseline else ""
    console.print(Text.assemble((title, "bold"), f", as of {estate.as_of.isoformat()}{against}"))
    console.print(_verdict(audit))
    table = Table(box=None, padding=(0, 2, 0, 0), show_edge=False, header_style="dim", pad_edge=False)
    table.add_column("device", no_wrap=True)
    table.add_column("make", overflow="fold")
    for severity in Severity:
        table.add_column(severity.value, justify="right")
    for heading in ("passed", "cannot tell"):
        table.add_column(heading, justify="right")
    for device in estate.devices:
        severities = [f.severity for f in audit.findings_on(device.name)]
        counts = [severities.count(s) for s in Severity]
        outcomes = [o.outcome for o in audit.outcomes_on(device.name)]
        table.add_row(
            Text(visible(device.name), "bold"),
            Text(visible(device.make)),
            *(
                Text(str(n) if n else "·", "bold" if n and s.rank >= Severity.HIGH.rank else "")
                for s, n in zip(Severity, counts, strict=True)
            ),
            str(outcomes.count(Outcome.PASS)),
            str(outcomes.count(Outcome.CANNOT_TELL)),
        )
    if estate.devices:
        console.print()
        console.print(table)


def _verdict(audit: Audit) -> Text:
    devices = counted(len(audit.estate.devices), "device")
    if not audit.estate.devices:
        return Text("Nothing could be read, so nothing was checked.", "bold")
    bad = [f"{count} {severity.value}" for severity, count in audit.counts().items() if count]
    passed = sum(o.outcome is Outcome.PASS for o in audit.outcomes)
    found = f"{counted(len(audit.findings), 'finding')} ({', '.join(bad)})" if bad else "No findings"
    taken = f", {len(audit.accepted)} accepted" if audit.accepted else ""
    return Text(f"{found} on {devices}{taken}; {passed} of {counted(len(audit.outcomes), 'outcome')} passed.")


def _device_line(device: Device) -> Line:
    facts = [visible(device.make)]
    if device.firmware.known:
        facts.append(visible(device.firmware.value))
    if device.taken_at.known:
        facts.append(f"taken {visible(device.taken_at.value)}")
    title = Text.assemble((visible(device.name), "bold"), "  ", (", ".join(facts), "dim"))
    return Line(title, align="left", style="dim")


def _alike(findings: Sequence[Finding]) -> Iterator[list[Finding]]:
    """Findings one by one, but those of little weight by one check together: what they share is said once."""
    groups: dict[tuple[str, str, str], list[Finding]] = {}
    for finding in findings:
        light = finding.severity.rank < Severity.MEDIUM.rank
        key = (finding.check, finding.severity.value, "" if light else finding.fingerprint)
        groups.setdefault(key, []).append(finding)
    yield from groups.values()


def _findings(console: Console, findings: Sequence[Finding]) -> None:
    def lines() -> Iterator[tuple[Text, ...]]:
        for head, rows in map(_finding, _alike(findings)):
            yield ()
            yield from ((line,) for line in pieces(head, console.width))
            yield from rows.lines(console.width)

    show(console, lines())


def _finding(alike: Sequence[Finding]) -> tuple[Text, LabelledRows]:
    """A finding, or several alike, as a heading and rows."""
    finding = alike[0]
    head = Text.assemble(
        severity_badge(finding.severity),
        " ",
        (finding.title, "bold"),
        (f"  {len(alike)} times" if len(alike) > 1 else "", "dim"),
    )
    rows = LabelledRows()
    if len(alike) == 1:
        rows.add("", Text(visible(finding.detail)))
    rows.add("why", Text(finding.why))
    for one in alike if len(alike) > 1 else ():
        rows.add("", Text(visible(one.detail)))
        rows.add("line", _first_line(one))
        if one.proof is not None:
            rows.add("packet", _packet(one.proof))
    if len(alike) == 1:
        _proof(rows, finding)
    for one in alike:
        said = dict.fromkeys(
            (also.severity, also.detail) for also in one.consequences
        )  # several checks may say the same
        for severity, detail in said:
            rows.add("also", Text.assemble((f"{severity.value}  ", "dim"), visible(detail)))
        if one.also_on:
            rows.add("on", Text(f"{visible(one.device)} and {', '.join(map(visible, one.also_on))}"))
        if one.answer is not None:
            rows.add("answer", Text(visible(one.answer.says())))
    rows.add("fix", Text(finding.fix))
    prints = " ".join(f"F-{one.number} {one.fingerprint}" if one.number else one.fingerprint for one in alike)
    rows.add("id", Text(f"{finding.check}  {prints}  {', '.join(finding.controls)}", "dim"))
    return head, rows


def _first_line(finding: Finding) -> Text:
    """The most decisive line of a finding in one line; all of them are in the JSON."""
    if not finding.evidence:
        return Text("none: the export does not say it", "dim")
    evidence = finding.evidence[0]
    others = finding.evidence[1:]
    out = Text.assemble((visible(str(evidence.where)), "underline"))
    if evidence.text:
        out.append(f"  {visible(evidence.text[0].strip())}", LINE_STYLE)
    if others:
        more = f" and {len(others) - 2} more" if len(others) > 2 else ""
        out.append(f"  also {', '.join(visible(str(one.where)) for one in others[:2])}{more}", "dim")
    return out


def _proof(rows: LabelledRows, finding: Finding) -> None:
    for evidence in finding.evidence[:_SHOWN_LINES]:
        rows.add("line", _evidence(evidence))
    if len(finding.evidence) > _SHOWN_LINES:
        rows.add("", Text(f"and {counted(len(finding.evidence) - _SHOWN_LINES, 'more line')}", "dim"))
    if finding.proof is not None:
        rows.add("packet", _packet(finding.proof))


def _packet(proof: Witness) -> Text:
    doubt = f"  (may be let in: depends on {visible(proof.doubt)})" if proof.doubt else ""
    return Text.assemble((visible(proof.packet.sentence()), PACKET_STYLE), doubt)


def _evidence(evidence: Evidence) -> Text:
    out = Text()
    out.append(visible(str(evidence.where)), "underline")
    shown = evidence.text[:_SHOWN_LINES]
    indent = min((len(t) - len(t.lstrip()) for t in shown if t.strip()), default=0)
    for text in shown:
        out.append("\n")
        out.append(visible(text[indent:]), LINE_STYLE)
    if len(evidence.text) > _SHOWN_LINES:
        out.append(f"\n… {counted(len(evidence.text) - _SHOWN_LINES, 'more line')}", "dim")
    return out


def _open_questions(console: Console, audit: Audit, device: Device) -> None:
    """What could not be told, the checks with one reason together."""
    reasons = audit.open_questions(device.name)
    if not reasons:
        return
    console.print()
    console.print(Text(f"Cannot tell on {visible(device.name)}", "bold"))
    first = min(_CHECKS, max(1, console.width // 2 - 2))  # both columns have room on the narrowest terminal
    for because, checks in reasons.items():
        show(console, beside(Text("\n".join(checks), "dim"), Text(visible(because)), first, console.width))


def _accepted(console: Console, audit: Audit) -> None:
    """What somebody answers for, and what there is to say of the list."""
    if audit.accepted:
        console.print()
        console.print(Text("Accepted risks", "bold"))
        rows = Table.grid(padding=(0, 2))
        for finding, acceptance in audit.accepted:
            risk = acceptance.risk
            said = Text.assemble(
                visible(finding.detail), (f" {visible(risk.owner)}, until {risk.until}: {visible(risk.reason)}", "dim")
            )
            rows.add_row(Text(visible(finding.device)), Text(finding.check, "dim"), said)
        console.print(Padding(rows, (0, 0, 0, 2)))
    if audit.notes:
        console.print()
        console.print(Text("On the list of accepted risks", "bold"))
        for note in audit.notes:
            console.print(Padding(Text(visible(note)), (0, 0, 0, 2)))


def _geo(one: GeoFilter) -> str:
    """What a filter by country does, in words."""
    does = "lets only" if one.allows else "refuses"
    ways = "in and out" if one.inward and one.outward else "in" if one.inward else "out"
    name = f"{one.name}: " if one.name else ""
    off = "" if one.enabled else " (switched off)"
    return f"{name}{does} {', '.join(one.countries)} {ways}{off}"


def _facts(console: Console, device: Device) -> None:
    rows = LabelledRows(12)
    for source in device.sources[:_SHOWN_FILES]:
        rows.add("file", Text(f"{visible(source.path)}  {source.size} bytes  sha256 {source.sha256[:16]}…"))
    if len(device.sources) > _SHOWN_FILES:
        more = counted(len(device.sources) - _SHOWN_FILES, "more file")
        rows.add("", Text(f"and {more}, all listed with --json", "dim"))
    rows.add("recognised", Text(f"{device.dialect}: {visible(device.recognised)}"))
    if device.counters_since.known:
        earliest = " at the earliest" if device.counters_since.standing is Known.DEFAULT else ""
        rows.add("counters", Text(f"since {visible(device.counters_since.value)}{earliest}"))
    if device.interfaces:
        rows.add("interfaces", Text(", ".join(visible(i.name) for i in device.interfaces)))
    for zone in device.zones:
        guess = f"  a guess: {visible(zone.guessed)}" if zone.guessed else ""
        side = zone.side.value if zone.side else "side unknown"
        names = ", ".join(visible(n) for n in zone.interfaces) or "no interface"
        rows.add("zone", Text(f"{visible(zone.name)} ({side}): {names}{guess}"))
    for rulebase in device.rulebases:
        families = " and ".join(f"IPv{f}" for f in sorted(rulebase.families))
        described = [
            f"{visible(c.name)} {len(c.rules)}" + (f" then {c.policy}" if c.policy else "")
            for c in rulebase.chains
            if c.rules or c.policy
        ]
        if empty := len(rulebase.chains) - len(described):
            described.append(f"{counted(empty, 'chain')} without rules")
        rows.add("rules", Text(f"{visible(rulebase.name)}, {families}: {', '.join(described) or 'no chains'}"))
    if device.addresses or device.services:
        objects = f"{counted(len(device.addresses), 'address object')}, {counted(len(device.services), 'service')}"
        rows.add("objects", Text(objects))
    admin = device.administration
    if admin.services:
        ways = (f"{visible(one.name)} (cleartext)" if one.cleartext else visible(one.name) for one in admin.services)
        rows.add("management", Text(", ".join(dict.fromkeys(ways))))
    if admin.accounts:
        rows.add("accounts", Text(", ".join(visible(one.name) for one in admin.accounts)))
    for one in device.geo_filters:
        rows.add("countries", Text.assemble(visible(_geo(one)), (f"  {one.where}", "dim")))
    settings = list(settings_of(device))
    for number, (name, value, setting) in enumerate(settings[:_SHOWN_SETTINGS]):
        where = f"  {setting.where}" if setting.where is not None else ""
        said = Text.assemble(
            f"{visible(name)}: {visible(value)}", (f" ({setting.standing.value}){visible(where)}", "dim")
        )
        rows.add("" if number else "settings", said)
    if len(settings) > _SHOWN_SETTINGS:
        rows.add("", Text(f"and {len(settings) - _SHOWN_SETTINGS} more, all listed with --json", "dim"))
    rows.show(console)


def _ledger(console: Console, device: Device, *, full: bool) -> None:
    ledger = device.ledger
    console.print(
        Padding(
            Text(
                f"{counted(ledger.lines, 'line')}: {ledger.read} read, {ledger.known} set aside, {ledger.unread_lines} not understood",
                "bold" if ledger.unread_lines else "",
            ),
            (0, 0, 0, 2),
        )
    )
    _entries(console, device, ledger.unread)
    _entries(console, device, ledger.problems)
    if full:
        _entries(console, device, ledger.set_aside)


def _entries(console: Console, device: Device, entries: Iterable[LedgerEntry]) -> None:
    for entry in entries:
        text = Text.assemble((visible(str(entry.where)), "underline"), f"  {visible(entry.why)}")
        for line in device.text(entry.where)[:1]:
            text.append("\n  ")
            text.append(visible(line.strip()), LINE_STYLE)
        console.print(Padding(text, (0, 0, 0, 4)))


def _not_read(console: Console, estate: Estate) -> None:
    lines: list[Text] = []
    for device in estate.devices:
        ledger = device.ledger
        if ledger.unread_lines:
            lines.append(
                Text(
                    f"{visible(device.name)}: {counted(ledger.unread_lines, 'line')} of {ledger.lines} not understood, "
                    "from " + visible(str(ledger.unread[0].where)) + "; `aiguille read` lists them"
                )
            )
        lines += [Text(f"{visible(device.name)}: {visible(str(p.where))}: {visible(p.why)}") for p in ledger.problems]
    lines += [Text(visible(note)) for note in estate.notes]
    lines += [Text(visible(failure.message), "bold") for failure in estate.failures]
    if lines:
        console.print()
        console.print(Text("Not read, or read with warnings", "bold"))
        for line in lines:
            console.print(Padding(line, (0, 0, 0, 2)))

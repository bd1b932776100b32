"""The tables that spreadsheets, CSV files and data frames share: columns with types, and rows."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from math import log2

from msgspec import Struct

from aiguille.analysis.objects import kind_of, objects_of, uses
from aiguille.analysis.outlines import outlines
from aiguille.analysis.program import Programs
from aiguille.analysis.standing import StandingReport
from aiguille.baseline import Evidence, Finding, Outcome, Severity
from aiguille.baseline.causes import effort
from aiguille.model.identity import Same
from aiguille.reports.data import Data
from aiguille.reports.dossier import Dossier
from aiguille.reports.rules import Describer, object_members, rule_data

Cell = str | int | float | None


class Column(Struct, frozen=True):
    """A column: its heading, the type of its cells (any may be empty), and a width in characters for sheets."""

    heading: str
    type: type
    width: int = 12


class Table(Struct, frozen=True):
    """A table by name; each row has a cell for every column."""

    name: str
    columns: tuple[Column, ...]
    rows: Callable[[Dossier], Iterator[tuple[Cell, ...]]]


def lines_of(evidence: Evidence) -> str:
    """The text of evidence as it stands in a cell."""
    return "\n".join(evidence.text)


def _finding(one: Finding) -> tuple[Cell, ...]:
    first = one.evidence[0] if one.evidence else None
    others = ", ".join(str(e.where) for e in one.evidence[1:])
    proof = one.proof
    return (
        one.device,
        ", ".join(one.also_on) or None,
        one.severity.value,
        one.area,
        one.check,
        one.title,
        one.detail,
        first.where.file if first else None,
        first.where.first if first else None,
        lines_of(first) if first else None,
        others or None,
        proof.packet.sentence() if proof else None,
        ("yes" if proof.certain else "no") if proof else None,
        one.why,
        one.fix,
        ", ".join(one.controls),
        f"F-{one.number}" if one.number else None,
        one.fingerprint,
    )


_FINDING = (
    Column("device", str, 18),
    Column("also on", str, 18),
    Column("severity", str, 10),
    Column("area", str, 10),
    Column("check", str, 26),
    Column("title", str, 40),
    Column("what was found", str, 60),
    Column("file", str, 34),
    Column("line", int, 7),
    Column("text", str, 50),
    Column("further lines", str, 24),
    Column("packet", str, 50),
    Column("certain", str, 9),
    Column("why it matters", str, 50),
    Column("fix", str, 50),
    Column("controls", str, 14),
    Column("number", str, 8),
    Column("fingerprint", str, 19),
)


def _findings(dossier: Dossier) -> Iterator[tuple[Cell, ...]]:
    for one in dossier.audit.findings:
        yield (*_finding(one), None, None, None)
    for one, acceptance in dossier.audit.accepted:
        risk = acceptance.risk
        yield (*_finding(one), risk.reason, risk.owner, risk.until.isoformat())


def _causes(dossier: Dossier) -> Iterator[tuple[Cell, ...]]:
    for one in dossier.audit.causes():
        yield (
            f"C-{one.number}",
            one.severity.value,
            one.kind.value,
            one.words,
            ", ".join(one.devices),
            one.where.file if one.where else None,
            one.where.first if one.where else None,
            one.findings[0].detail,
            ", ".join(f"F-{finding.number}" for finding in one.findings),
            one.clears,
            effort(one),
            one.findings[0].fix,
        )


def _summary(dossier: Dossier) -> Iterator[tuple[Cell, ...]]:
    for device in outlines(dossier.audit.estate):
        mine = [o.outcome for o in dossier.audit.outcomes_on(device.name)]
        ledger = device.ledger
        yield (
            device.name,
            device.make,
            device.firmware.value if device.firmware.known else None,
            *dossier.audit.counts_on(device.name).values(),
            *(mine.count(outcome) for outcome in Outcome),
            ledger.lines,
            ledger.read,
            ledger.known,
            ledger.unread_lines,
            len(device.sources),
        )


def _rules(dossier: Dossier) -> Iterator[tuple[Cell, ...]]:
    for rules in dossier.rules.values():
        yield from map(_rule, rules)


def rules_rows(found: Iterable[tuple[Programs, Sequence[StandingReport]]]) -> Iterator[tuple[Cell, ...]]:
    """The rows of `RULES` for a listing."""
    for programs, reports in found:
        device = programs.device
        describer = Describer(device, programs)
        yield from (_rule(rule_data(device, describer, report)) for report in reports)


def _rule(one: Data) -> tuple[Cell, ...]:
    return (
        one["device"],
        one["rulebase"],
        one["chain"],
        one["rule"],
        one["name"] or one["comment"] or None,
        one["match"],
        one["action"],
        one["target"] or None,
        one["standing"],
        "; ".join(f"{b['chain']} {b['rule']}" for b in one["because"]) or one["why"],
        one["breadth"] or None,
        one["width"],
        one["openness"],
        one["hits"],
        one["last_hit"],
        one["file"],
        one["line"],
        one["text"],
    )


def _outcomes(dossier: Dossier) -> Iterator[tuple[Cell, ...]]:
    titles = {one.check.id: one.check.title for one in dossier.chosen}
    for one in dossier.audit.outcomes:
        yield (one.device, one.check, titles.get(one.check), one.outcome.value, one.because)


def _objects(dossier: Dossier) -> Iterator[tuple[Cell, ...]]:
    for device in dossier.devices:
        used = uses(device)
        for one in objects_of(device):
            named = used.get((kind_of(one), one.name), [])
            yield (
                device.name,
                kind_of(one).value,
                one.name,
                object_members(device, one),
                len({Same(use.rule) for use in named}),
                one.where.file,
                one.where.first,
            )


def _unread(dossier: Dossier) -> Iterator[tuple[Cell, ...]]:
    told = [bool(one.ledger.unread_lines or one.ledger.problems) for one in outlines(dossier.audit.estate)]
    for device in (dossier.devices[at] for at, any_ in enumerate(told) if any_):
        for kind, entries in (("not understood", device.ledger.unread), ("contradiction", device.ledger.problems)):
            for entry in entries:
                text = "\n".join(device.text(entry.where))
                yield (device.name, kind, entry.where.file, entry.where.first, entry.where.last, text, entry.why)
    for failure in dossier.audit.estate.failures:
        yield (None, "export not read", failure.path, None, None, None, failure.message)


def _reach(dossier: Dossier) -> Iterator[tuple[Cell, ...]]:
    for one in dossier.reach:
        for country in one.countries:
            yield (
                one.device,
                one.what,
                one.direction.value,
                f"IPv{one.family}",
                country.code,
                country.addresses,
                round(country.share, 6),
                round(log2(country.addresses), 2) if country.addresses else None,
                str(one.rule.where) if one.rule.where else None,
            )


SUMMARY = Table(
    "summary",
    (
        Column("device", str, 20),
        Column("make", str, 24),
        Column("release", str, 14),
        *(Column(severity.value, int, 9) for severity in Severity),
        *(Column(outcome.value, int, 14) for outcome in Outcome),
        Column("lines", int, 9),
        Column("read", int, 9),
        Column("set aside", int, 10),
        Column("not understood", int, 15),
        Column("files", int, 8),
    ),
    _summary,
)
FINDINGS = Table(
    "findings",
    (*_FINDING, Column("accepted because", str, 40), Column("accepted by", str, 20), Column("accepted until", str, 14)),
    _findings,
)
RULES = Table(
    "rules",
    (
        Column("device", str, 18),
        Column("rule base", str, 14),
        Column("chain", str, 18),
        Column("rule", int, 6),
        Column("name or comment", str, 30),
        Column("matches", str, 60),
        Column("action", str, 9),
        Column("target", str, 14),
        Column("standing", str, 14),
        Column("because of", str, 30),
        Column("opens", str, 40),
        Column("width (0 to 100)", float, 9),
        Column("opens (log2 of packets)", float, 12),
        Column("hits", int, 12),
        Column("last hit", str, 18),
        Column("file", str, 34),
        Column("line", int, 7),
        Column("text", str, 60),
    ),
    _rules,
)
OUTCOMES = Table(
    "outcomes",
    (
        Column("device", str, 18),
        Column("check", str, 28),
        Column("title", str, 44),
        Column("outcome", str, 15),
        Column("because", str, 90),
    ),
    _outcomes,
)
OBJECTS = Table(
    "objects",
    (
        Column("device", str, 18),
        Column("kind", str, 10),
        Column("name", str, 24),
        Column("stands for", str, 60),
        Column("rules that name it", int, 17),
        Column("file", str, 34),
        Column("line", int, 7),
    ),
    _objects,
)
UNREAD = Table(
    "unread",
    (
        Column("device", str, 18),
        Column("kind", str, 16),
        Column("file", str, 34),
        Column("line", int, 7),
        Column("last line", int, 9),
        Column("text", str, 60),
        Column("why", str, 70),
    ),
    _unread,
)
REACH = Table(
    "reach",
    (
        Column("device", str, 18),
        Column("service", str, 24),
        Column("direction", str, 15),
        Column("family", str, 8),
        Column("country", str, 9),
        Column("addresses", int, 14),
        Column("share of the country", float, 12),
        Column("log2 of addresses", float, 12),
        Column("rule", str, 40),
    ),
    _reach,
)
CAUSES = Table(
    "causes",
    (
        Column("number", str, 8),
        Column("severity", str, 10),
        Column("kind", str, 9),
        Column("what one change would mend", str, 50),
        Column("devices", str, 24),
        Column("file", str, 34),
        Column("line", int, 7),
        Column("gravest finding", str, 60),
        Column("findings", str, 16),
        Column("cleared with it", int, 10),
        Column("effort", str, 34),
        Column("fix", str, 50),
    ),
    _causes,
)

TABLES = (SUMMARY, CAUSES, FINDINGS, RULES, OUTCOMES, OBJECTS, UNREAD, REACH)

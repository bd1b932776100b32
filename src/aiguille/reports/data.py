"""What an estate or an audit says, as plain data for JSON. The shapes are published as JSON Schemas in `schemas/`."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, Any, TypeVar

from aiguille._version import __version__
from aiguille.analysis.outlines import Outline, outlines
from aiguille.model import Addresses, Device, Estate, LedgerEntry, Setting, Span
from aiguille.model.facts import known_facts
from aiguille.model.spelling import spell_operand
from aiguille.reports.text import to_json

if TYPE_CHECKING:
    from aiguille.baseline import Audit, Finding, RuleRef
    from aiguille.baseline.causes import Cause
    from aiguille.baseline.findings import Reply

Data = dict[str, Any]

T = TypeVar("T")


def audit_data(audit: Audit) -> Data:
    """An audit; `schemas/audit.schema.json`."""
    return {key: list(value) if isinstance(value, Iterator) else value for key, value in _parts(audit)}


def audit_text(audit: Audit) -> Iterator[str]:
    """`audit_data` as JSON text, the same as `dump` makes of it, piece by piece: nothing holds all of it."""
    before = "{\n"
    for key, value in _parts(audit):
        yield f"{before}  {to_json(key)}: "
        before = ",\n"
        if not isinstance(value, Iterator):
            yield _moved(to_json(value, indent=2), 2)
            continue
        between = "[\n"
        for one in value:
            yield f"{between}    {_moved(to_json(one, indent=2), 4)}"
            between = ",\n"
        yield "[]" if between == "[\n" else "\n  ]"
    yield "\n}\n"


def _moved(text: str, by: int) -> str:
    """Lines of JSON, all but the first moved to the right; there is no line break within a string."""
    return text.replace("\n", "\n" + " " * by)


def _parts(audit: Audit) -> Iterator[tuple[str, Any]]:
    """What JSON says of an audit, key by key; what may be long as an iterator."""
    estate = audit.estate
    yield "aiguille", {"version": __version__}
    yield "title", estate.title
    yield "client", estate.about.client
    yield "auditor", estate.about.auditor
    yield "scope", estate.about.scope
    yield "as_of", estate.as_of.isoformat()
    yield "baseline", audit.baseline.name if audit.baseline else ""
    yield "devices", (_device(device) for device in outlines(estate))
    yield "failures", _failures(estate)
    yield "notes", [*estate.notes, *audit.notes]
    yield "locations", list(estate.locations.sources)
    yield (
        "outcomes",
        (
            {"check": o.check, "device": o.device, "outcome": o.outcome.value, "because": o.because}
            for o in audit.outcomes
        ),
    )
    yield (
        "findings",
        ({"number": f"F-{one.number}", **finding_data(one), "answer": _answer(one.answer)} for one in audit.findings),
    )
    yield "causes", map(_cause, audit.causes())
    yield (
        "accepted",
        (
            {
                **finding_data(finding),
                "reason": one.risk.reason,
                "owner": one.risk.owner,
                "until": one.risk.until.isoformat(),
                "listed": f"{one.file}:{one.line}",
            }
            for finding, one in audit.accepted
        ),
    )
    counted = sorted((outcome.value, count) for outcome, count in audit.tally().items())
    yield (
        "summary",
        {
            "by_severity": {severity.value: count for severity, count in audit.counts().items()},
            "by_outcome": dict(counted),
        },
    )


def _cause(one: Cause) -> Data:
    from aiguille.baseline.causes import effort

    return {
        "number": f"C-{one.number}",
        "kind": one.kind.value,
        "words": one.words,
        "devices": list(one.devices),
        "severity": one.severity.value,
        **place_of(one.where),
        "findings": [f"F-{finding.number}" for finding in one.findings],
        "clears": one.clears,
        "effort": effort(one),
    }


def read_data(estate: Estate) -> Data:
    """What was read; `schemas/read.schema.json`."""
    return {
        "aiguille": {"version": __version__},
        "as_of": estate.as_of.isoformat(),
        "devices": [_read_device(device) for device in estate.devices],
        "failures": _failures(estate),
        "notes": list(estate.notes),
    }


def dump(data: Data) -> str:
    """JSON text, the same for the same data."""
    return to_json(data, indent=2) + "\n"


def _device(device: Device | Outline) -> Data:
    return {
        "name": device.name,
        "dialect": device.dialect,
        "make": device.make,
        "firmware": _value(device.firmware),
        "taken_at": _value(device.taken_at),
        "tags": list(device.tags),
        "sources": [{"path": s.path, "sha256": s.sha256, "size": s.size} for s in device.sources],
    }


def settings_of(device: Device) -> Iterator[tuple[str, str, Setting[Any]]]:
    """What the export says of the device itself: name, value in words, the setting."""
    for row, setting in known_facts(device):
        if row.shown:
            yield row.shown, row.spell(setting.value), setting
        if row.path == "portal.enabled" and device.portal.sources.known:
            sources = ", ".join(map(spell_operand, device.portal.sources.value))
            yield "portal answers to", sources or "any address", device.portal.sources
    for fact in device.system:
        if fact.setting.known:
            yield fact.name, fact.setting.value, fact.setting


def _read_device(device: Device) -> Data:
    ledger = device.ledger
    return {
        **_device(device),
        "recognised": device.recognised,
        "counters_since": _value(device.counters_since),
        "interfaces": [
            {"name": i.name, "zone": i.zone, "enabled": i.enabled, "services": list(i.services)}
            for i in device.interfaces
        ],
        "zones": [
            {"name": z.name, "side": z.side, "interfaces": list(z.interfaces), "guessed": z.guessed or None}
            for z in device.zones
        ],
        "rules": sum(len(chain.rules) for rulebase in device.rulebases for chain in rulebase.chains),
        "rulebases": [
            {
                "name": rulebase.name,
                "families": sorted(rulebase.families),
                "chains": [
                    {
                        "name": c.name,
                        "policy": c.policy,
                        "stage": c.base.stage if c.base else None,
                        "rules": len(c.rules),
                    }
                    for c in rulebase.chains
                ],
            }
            for rulebase in device.rulebases
        ],
        "management": [
            {
                "name": one.name,
                "cleartext": one.cleartext,
                "enabled": one.enabled,
                "sources": _sources(one.sources),
                **place_of(one.where),
            }
            for one in device.administration.services
        ],
        "accounts": [
            {
                "name": one.name,
                "role": one.role,
                "enabled": one.enabled,
                "sources": _sources(one.sources),
                "second_factor": _value(one.second_factor),
                "last_used": _value(one.last_used),
                **place_of(one.where),
            }
            for one in device.administration.accounts
        ],
        "settings": [
            {"name": name, "value": value, "standing": setting.standing.value, **place_of(setting.where)}
            for name, value, setting in settings_of(device)
        ],
        "portal_sources": _sources(device.portal.sources),
        "geo_filters": [
            {
                "name": one.name,
                "countries": list(one.countries),
                "allows": one.allows,
                "inward": one.inward,
                "outward": one.outward,
                "enabled": one.enabled,
                **place_of(one.where),
            }
            for one in device.geo_filters
        ],
        "schedules": [{"name": one.name, "times": one.text, **place_of(one.where)} for one in device.schedules],
        "objects": {"addresses": len(device.addresses), "services": len(device.services)},
        "ledger": {
            "lines": ledger.lines,
            "read": ledger.read,
            "known": ledger.known,
            "unread_lines": ledger.unread_lines,
            "unread": [entry_data(device, entry) for entry in ledger.unread],
            "problems": [entry_data(device, entry) for entry in ledger.problems],
            "set_aside": [entry_data(device, entry) for entry in ledger.set_aside],
        },
    }


def entry_data(device: Device, entry: LedgerEntry) -> Data:
    """An entry of a ledger with the text it speaks of."""
    return {**_span(entry.where), "text": "\n".join(device.text(entry.where)), "why": entry.why}


def _span(where: Span) -> Data:
    column = {"column": where.column} if where.column else {}
    return {"file": where.file, "line": where.first, "last_line": where.last, **column}


def params_data(params: Mapping[str, Any]) -> Data:
    """Parameters of a check, lists as JSON has them."""
    return {name: list(value) if isinstance(value, tuple) else value for name, value in params.items()}


def place_of(where: Span | None) -> Data:
    """File and line as JSON has them, each null where there is none."""
    return {"file": where.file if where else None, "line": where.first if where else None}


def _value(setting: Setting[T]) -> T | None:
    return setting.value if setting.known else None


def _sources(setting: Setting[tuple[Addresses, ...]]) -> list[str] | None:
    """The addresses something is restricted to: none for any, null where that is not known."""
    return [spell_operand(one) for one in setting.value] if setting.known else None


def _failures(estate: Estate) -> list[Data]:
    return [{"path": failure.path, "message": failure.message} for failure in estate.failures]


def finding_data(finding: Finding) -> Data:
    """A finding as `schemas/audit.schema.json` has it."""
    witness = None
    if finding.proof is not None:
        witness = {
            **finding.proof.packet.to_dict(),
            "sentence": finding.proof.packet.sentence(),
            "certain": finding.proof.certain,
        }
    return {
        "fingerprint": finding.fingerprint,
        "check": finding.check,
        "area": finding.area,
        "severity": finding.severity.value,
        "device": finding.device,
        "title": finding.title,
        "detail": finding.detail,
        "why": finding.why,
        "rules": [_rule(rule) for rule in finding.rules],
        "evidence": [{**_span(e.where), "text": "\n".join(e.text)} for e in finding.evidence],
        "witness": witness,
        "fix": finding.fix,
        "also_on": list(finding.also_on),
        "who": finding.who.value if finding.who is not None else None,
        "consequences": [
            {
                "fingerprint": one.fingerprint,
                "check": one.check,
                "severity": one.severity.value,
                "title": one.title,
                "detail": one.detail,
                "evidence": [{**_span(e.where), "text": "\n".join(e.text)} for e in one.evidence],
            }
            for one in finding.consequences
        ],
        "controls": list(finding.controls),
    }


def _answer(one: Reply | None) -> Data | None:
    """What the auditee says of a finding."""
    if one is None:
        return None
    due = one.due.isoformat() if one.due is not None else None
    return {"status": one.status.value, "owner": one.owner, "due": due, "remark": one.remark}


def _rule(rule: RuleRef) -> Data:
    return {"rulebase": rule.rulebase, "chain": rule.chain, "rule": rule.rule, **place_of(rule.where)}

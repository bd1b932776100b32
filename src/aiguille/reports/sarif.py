"""The audit as SARIF 2.1.0 (OASIS, Static Analysis Results Interchange Format), for whatever collects findings of tools."""

from __future__ import annotations

from aiguille._version import __version__
from aiguille.baseline import Acceptance, Check, Evidence, Finding, Severity
from aiguille.model import Device, Span
from aiguille.reports.baselines import fix_of
from aiguille.reports.data import Data, params_data
from aiguille.reports.dossier import Dossier
from aiguille.reports.text import uri_of, visible, visible_lines

SCHEMA = "https://json.schemastore.org/sarif-2.1.0.json"
FINGERPRINT = "aiguille/v1"

_LEVELS = {
    Severity.CRITICAL: "error",
    Severity.HIGH: "error",
    Severity.MEDIUM: "warning",
    Severity.LOW: "note",
    Severity.INFO: "note",
}


def as_sarif(dossier: Dossier) -> Data:
    """One run with a rule for each check that ran, and a result for each finding, accepted ones suppressed."""
    audit = dossier.audit
    checks = [one.check for one in dossier.chosen]
    places = {one.id: number for number, one in enumerate(checks)}
    # Several devices may come from one file.
    sources = list({source.path: source for device in dossier.devices for source in device.sources}.values())
    files = {source.path: number for number, source in enumerate(sources)}
    results = [_result(one, places, files, None) for one in audit.findings]
    results += [_result(one, places, files, acceptance) for one, acceptance in audit.accepted]
    run = {
        "tool": {
            "driver": {"name": "Aiguille", "version": __version__, "rules": [_rule(dossier, one) for one in checks]}
        },
        "invocations": [
            {"executionSuccessful": not audit.estate.failures, "toolExecutionNotifications": _notifications(dossier)}
        ],
        "artifacts": [
            {
                "location": {"uri": uri_of(source.path)},
                "length": source.size,
                "hashes": {"sha-256": source.sha256},
                "roles": ["analysisTarget"],
            }
            for source in sources
        ],
        "automationDetails": {"id": f"{audit.estate.title or 'audit'}/{audit.estate.as_of.isoformat()}"},
        "columnKind": "unicodeCodePoints",
        "results": results,
    }
    return {"$schema": SCHEMA, "version": "2.1.0", "runs": [run]}


def _rule(dossier: Dossier, one: Check) -> Data:
    fix = fix_of(one)
    return {
        "id": one.id,
        "shortDescription": {"text": one.title},
        "fullDescription": {"text": one.why},
        "help": {"text": f"{one.how}\n\nFix: {fix}", "markdown": f"{one.how}\n\n**Fix:** {fix}"},
        "defaultConfiguration": {"level": _LEVELS[one.severity]},
        "properties": {
            "tags": [one.area.value, *(f"NIST SP 800-53 Rev. 5/{control}" for control in one.controls)],
            "severity": one.severity.value,
            "parameters": next((params_data(c.params) for c in dossier.chosen if c.check.id == one.id), {}),
        },
    }


def _result(one: Finding, places: dict[str, int], files: dict[str, int], accepted: Acceptance | None) -> Data:
    locations = [_location(evidence, files) for evidence in one.evidence]
    names = dict.fromkeys((str(r.rule), f"{one.device}/{r.rulebase}/{r.chain}/{r.rule}") for r in one.rules)
    logical = [
        {"name": visible(name), "fullyQualifiedName": visible(path)}
        for name, path in names or {(one.device, one.device): None}
    ]
    first = locations[0] if locations else {}
    out: Data = {
        "ruleId": one.check,
        **({"ruleIndex": places[one.check]} if one.check in places else {}),
        "level": _LEVELS[one.severity],
        "kind": "fail",
        "message": {"text": visible(f"{', '.join((one.device, *one.also_on))}: {one.detail}")},
        "locations": [{**first, "logicalLocations": logical}],
        "relatedLocations": [{**location, "id": number} for number, location in enumerate(locations[1:], 1)],
        "partialFingerprints": {FINGERPRINT: one.fingerprint},
        "properties": {
            "device": one.device,
            **({"also on": list(one.also_on)} if one.also_on else {}),
            "severity": one.severity.value,
            "area": str(one.area),
            "fix": one.fix,
        },
    }
    if one.proof is not None:
        out["properties"]["packet"] = one.proof.packet.sentence()
        out["properties"]["certain"] = one.proof.certain
    if accepted is not None:
        risk = accepted.risk
        out["suppressions"] = [
            {
                "kind": "external",
                "status": "accepted",
                "justification": visible(f"{risk.owner}, until {risk.until.isoformat()}: {risk.reason}"),
                "location": {
                    "physicalLocation": {
                        "artifactLocation": {"uri": uri_of(accepted.file)},
                        "region": {"startLine": accepted.line},
                    }
                },
            }
        ]
    return out


def _location(evidence: Evidence, files: dict[str, int]) -> Data:
    return {"physicalLocation": _physical(evidence.where, files, visible_lines("\n".join(evidence.text)))}


def _physical(where: Span, files: dict[str, int], text: str) -> Data:
    artifact: Data = {"uri": uri_of(where.file)}
    if where.file in files:
        artifact["index"] = files[where.file]
    region: Data = {"startLine": where.first, "endLine": where.last}
    if where.column:
        region["startColumn"] = where.column
    if text:
        region["snippet"] = {"text": text}
    return {"artifactLocation": artifact, "region": region}


def _notifications(dossier: Dossier) -> list[Data]:
    """What could not be read, and what was read with warnings."""
    out: list[Data] = [
        {"level": "error", "message": {"text": visible(failure.message)}} for failure in dossier.audit.estate.failures
    ]
    for device in dossier.devices:
        out += _entries(device)
    out += [
        {"level": "note", "message": {"text": visible(note)}}
        for note in (*dossier.audit.estate.notes, *dossier.audit.notes)
    ]
    return out


def _entries(device: Device) -> list[Data]:
    kinds = (("warning", device.ledger.unread, "not understood"), ("warning", device.ledger.problems, "contradiction"))
    return [
        {
            "level": level,
            "message": {"text": visible(f"{device.name}: {kind}: {entry.why}")},
            "locations": [{"physicalLocation": _physical(entry.where, {}, "")}],
        }
        for level, entries, kind in kinds
        for entry in entries
    ]

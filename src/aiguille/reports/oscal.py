"""The audit as OSCAL assessment results (NIST, Open Security Controls Assessment Language 1.1), in JSON.

A finding of ours is an observation with a risk. What OSCAL calls a finding is told per control: whether the checks that speak of
it are all met on every device.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from uuid import UUID, uuid5

from aiguille._version import __version__
from aiguille.baseline import Acceptance, CheckOutcome, Finding, Outcome
from aiguille.readers import HOST
from aiguille.reports.data import Data
from aiguille.reports.dossier import Dossier
from aiguille.reports.text import uri_of, visible, visible_lines
from aiguille.reports.verdict import verdict

OSCAL_VERSION = "1.1.3"
NAMESPACE = "https://aiguille.example/ns/oscal"
"""Of our properties; a name, no address."""

_ROOT = UUID("6f2f1c0e-6a55-5d0c-9a3e-8f1b6f0c4d21")
_CONTROL = re.compile(r"([A-Z]{2})-(\d+)(?:\((\d+)\))?")


def as_oscal(dossier: Dossier) -> Data:
    """One result; the same identifiers for the same audit, as they are made of fingerprints and digests (RFC 9562, version 5)."""
    audit = dossier.audit
    estate = audit.estate
    stamp = f"{estate.as_of.isoformat()}T00:00:00Z"
    title = visible(estate.title or "Audit of firewalls")
    salt = f"{estate.title}/{estate.as_of.isoformat()}/" + "/".join(s.sha256 for d in estate.devices for s in d.sources)
    plan = _id("plan", salt)
    controls = _controls(dossier)
    described = [*((one, None) for one in audit.findings), *audit.accepted]
    result: Data = {
        "uuid": _id("result", salt),
        "title": title,
        "description": " ".join(map(visible, verdict(dossier))),
        "start": stamp,
        "end": stamp,
        "local-definitions": {"components": [_component(dossier, number) for number in range(len(estate.devices))]},
        "reviewed-controls": {"control-selections": [_selection(controls)]},
    }
    if not estate.devices:
        del result["local-definitions"]
    if remarks := _not_read(dossier):
        result["remarks"] = remarks
    if described:
        known = {device.name for device in dossier.devices}
        result["observations"] = [_observation(one, known, stamp) for one, _ in described]
        result["risks"] = [_risk(one, accepted) for one, accepted in described]
    if controls:
        result["findings"] = list(_findings(dossier, controls))
    return {
        "assessment-results": {
            "uuid": _id("results", salt),
            "metadata": _metadata(dossier, title, stamp),
            "import-ap": {"href": f"#{plan}"},
            "results": [result],
            "back-matter": {"resources": [_plan(dossier, plan), *_exports(dossier)]},
        }
    }


def _not_read(dossier: Dossier) -> str:
    """What could not be read, and what is to be known of the rest, a paragraph each."""
    lines = [failure.message for failure in dossier.audit.estate.failures]
    for device in dossier.devices:
        entries = (*device.ledger.unread, *device.ledger.problems)
        lines += [f"{device.name}: {entry.where}: {entry.why}" for entry in entries]
    lines += [*dossier.audit.estate.notes, *dossier.audit.notes]
    return "\n\n".join(map(visible, lines))


def _id(*parts: str) -> str:
    return str(uuid5(_ROOT, "\0".join(parts)))


def _prop(name: str, value: str) -> Data:
    return {"name": name, "ns": NAMESPACE, "value": visible(value).strip() or "none"}


def _metadata(dossier: Dossier, title: str, stamp: str) -> Data:
    about = dossier.audit.estate.about
    parties = [
        (role, {"uuid": _id("party", role, name), "type": "organization", "name": visible(name)})
        for role, name in (("assessor", about.auditor), ("asset-owner", about.client))
        if name
    ]
    out: Data = {
        "title": title,
        "last-modified": stamp,
        "version": dossier.audit.estate.as_of.isoformat(),
        "oscal-version": OSCAL_VERSION,
        "props": [_prop("tool", f"Aiguille {__version__}")],
    }
    if parties:
        out["roles"] = [{"id": role, "title": role.replace("-", " ").capitalize()} for role, _ in parties]
        out["parties"] = [party for _, party in parties]
        out["responsible-parties"] = [{"role-id": role, "party-uuids": [party["uuid"]]} for role, party in parties]
    if about.scope:
        out["remarks"] = visible(about.scope)
    return out


def _component(dossier: Dossier, number: int) -> Data:
    device = dossier.devices[number]
    props = [_prop("make", device.make), _prop("dialect", device.dialect)]
    if device.firmware.known:
        props.append(_prop("release", device.firmware.value))
    return {
        "uuid": _id("device", device.name),
        "type": "system" if device.dialect == HOST else "hardware",
        "title": visible(device.name).strip() or "device",
        "description": f"A firewall, read from {len(device.sources)} files as {device.dialect}.",
        "props": props,
        "status": {"state": "operational"},
    }


def _controls(dossier: Dossier) -> dict[str, list[str]]:
    """The controls that checks speak of, with those checks."""
    out: dict[str, list[str]] = {}
    for one in dossier.chosen:
        for control in one.check.controls:
            if found := _CONTROL.fullmatch(control):
                family, number, enhancement = found.groups()
                name = f"{family.lower()}-{int(number)}" + (f".{int(enhancement)}" if enhancement else "")
                out.setdefault(name, []).append(one.check.id)
    return dict(sorted(out.items()))


def _selection(controls: dict[str, list[str]]) -> Data:
    return {"include-controls": [{"control-id": name} for name in controls]} if controls else {"include-all": {}}


def _observation(one: Finding, known: set[str], stamp: str) -> Data:
    out: Data = {
        "uuid": _id("observation", one.fingerprint),
        "title": one.title,
        "description": visible(one.detail),
        "props": [
            _prop("check", one.check),
            _prop("fingerprint", one.fingerprint),
            _prop("severity", one.severity.value),
            *([_prop("packet", one.proof.packet.sentence())] if one.proof else []),
            *([_prop("packet-certain", "yes" if one.proof.certain else "no")] if one.proof else []),
        ],
        "methods": ["EXAMINE"],
        "types": ["finding"],
        "subjects": [
            {"subject-uuid": _id("device", name), "type": "component"}
            for name in (one.device, *one.also_on)
            if name in known
        ],
        "collected": stamp,
    }
    if one.evidence:
        out["relevant-evidence"] = [
            {
                "description": f"{visible(str(e.where))}\n{visible_lines(chr(10).join(e.text))}".strip(),
                "props": [_prop("file", e.where.file), _prop("line", str(e.where.first))],
            }
            for e in one.evidence
        ]
    return out


def _risk(one: Finding, accepted: Acceptance | None) -> Data:
    out: Data = {
        "uuid": _id("risk", one.fingerprint),
        "title": one.title,
        "description": visible(one.detail),
        "statement": one.why,
        "props": [_prop("severity", one.severity.value)],
        "status": "open" if accepted is None else "deviation-approved",
        "remediations": [
            {
                "uuid": _id("remediation", one.fingerprint),
                "lifecycle": "recommendation",
                "title": "Fix",
                "description": visible(one.fix),
            }
        ],
        "related-observations": [{"observation-uuid": _id("observation", one.fingerprint)}],
    }
    if accepted is not None:
        risk = accepted.risk
        out["deadline"] = f"{risk.until.isoformat()}T00:00:00Z"
        out["props"] += [_prop("accepted-by", risk.owner), _prop("accepted-because", risk.reason)]
    return out


def _findings(dossier: Dossier, controls: dict[str, list[str]]) -> Iterator[Data]:
    by_check: dict[str, list[Finding]] = {}
    for one in (*dossier.audit.findings, *(one for one, _ in dossier.audit.accepted)):
        by_check.setdefault(one.check, []).append(one)
    for control, checks in controls.items():
        outcomes = [one for check in checks for one in dossier.outcomes.get(check, {}).values()]
        related = [one for check in checks for one in by_check.get(check, ())]
        state, reason, words = _state(outcomes)
        out: Data = {
            "uuid": _id("finding", control, dossier.audit.estate.as_of.isoformat()),
            "title": f"{control.upper()}: {words}",
            "description": f"Checks that speak of it: {', '.join(checks)}.",
            "target": {
                "type": "objective-id",
                "target-id": f"{control}_obj",
                "status": {"state": state, "reason": reason},
            },
        }
        if related:
            out["related-observations"] = [{"observation-uuid": _id("observation", f.fingerprint)} for f in related]
            out["related-risks"] = [{"risk-uuid": _id("risk", f.fingerprint)} for f in related]
        yield out


def _state(outcomes: list[CheckOutcome]) -> tuple[str, str, str]:
    """State, reason and words; what cannot be determined never makes a control satisfied."""
    kinds = {one.outcome for one in outcomes}
    if Outcome.FAIL in kinds:
        devices = {one.device for one in outcomes if one.outcome is Outcome.FAIL}
        return "not-satisfied", "fail", f"not met on {', '.join(map(visible, sorted(devices)))}"
    if Outcome.CANNOT_TELL in kinds:
        return "not-satisfied", "other", "cannot be determined from the exports"
    if Outcome.ACCEPTED in kinds:
        return "not-satisfied", "other", "not met, and accepted for a while"
    if Outcome.PASS in kinds:
        return "satisfied", "pass", "met as far as it was looked at"
    return "not-satisfied", "other", "not applicable on any device"


def _plan(dossier: Dossier, plan: str) -> Data:
    baseline = dossier.audit.baseline.name if dossier.audit.baseline else "none"
    return {
        "uuid": plan,
        "title": visible(f"Baseline '{baseline}'"),
        "description": f"The plan is the baseline: {len(dossier.chosen)} checks, each with its parameters.",
        "props": [_prop("baseline", baseline)],
    }


def _exports(dossier: Dossier) -> Iterator[Data]:
    for device in dossier.devices:
        for source in device.sources:
            yield {
                "uuid": _id("export", source.path, source.sha256),
                "title": visible(source.path),
                "description": f"Export of {visible(device.name)}, {source.size} bytes.",
                "rlinks": [{"href": uri_of(source.path), "hashes": [{"algorithm": "SHA-256", "value": source.sha256}]}],
            }

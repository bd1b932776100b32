"""The sections of the report, each a piece of its own: a name, a title, and what its template is filled with.

A new section adds a function, a template of its name and a line in `SECTIONS`.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from typing import Any

from msgspec import Struct

from aiguille._version import __version__
from aiguille.analysis.program import says_nothing_of_six
from aiguille.baseline import Area, Chosen, Finding, Outcome, Severity
from aiguille.baseline.causes import effort
from aiguille.baseline.questions import over_devices, questions
from aiguille.model import Device, Direction
from aiguille.model.countries import country_name
from aiguille.reports import charts
from aiguille.reports.baselines import fix_of
from aiguille.reports.data import Data
from aiguille.reports.dossier import Dossier
from aiguille.reports.verdict import decision, holding, verdict

RULES_SHOWN = 3_000
"""Rules beyond which the page shows those alone that are not simply live; the workbook has them all."""

UNREAD_SHOWN = 2_000
_COUNTRIES_SHOWN = 12

_ORDER = (Outcome.FAIL, Outcome.ACCEPTED, Outcome.CANNOT_TELL, Outcome.PASS, Outcome.NOT_APPLICABLE)

Content = dict[str, Any]


class Section(Struct, frozen=True):
    """A part of the report. `build` makes what the template `NAME.html` is filled with, None where there is nothing to say.

    appendix: whether it is looked up rather than read; on paper only where that is asked for
    """

    name: str
    title: str
    build: Callable[[Dossier], Content | None]
    appendix: bool = False


def _scope(dossier: Dossier) -> Content:
    audit = dossier.audit
    return {
        "estate": audit.estate,
        "baseline": audit.baseline,
        "checks": len(dossier.chosen),
        "rules": {device.name: sum(len(list(base.rules())) for base in device.rulebases) for device in dossier.devices},
        "files": sum(len(device.sources) for device in dossier.devices),
    }


_SEVERITIES = (
    (
        Severity.CRITICAL,
        "Anybody outside gets a login of a device without encryption, control systems, or every service of a network.",
    ),
    (
        Severity.HIGH,
        "Anybody outside gets a login or data; guests or a dmz get a cleartext login or everything; updates have ended.",
    ),
    (
        Severity.MEDIUM,
        "One more service stands open outside, logins stand open inside, or a setting weakens what guards a login.",
    ),
    (Severity.LOW, "A trace is lost, or order: what makes the next mistake likely or hard to find."),
    (Severity.INFO, "Worth knowing; nothing has to be done."),
)
"""In short what docs/judging.md has as a table."""


def _method(dossier: Dossier) -> Content:
    devices = dossier.devices
    asked = over_devices(questions(dossier.audit))
    return {
        "severities": _SEVERITIES,
        "guesses": [
            (device.name, ", ".join(zone.interfaces) or zone.name, zone.side.value, zone.guessed)
            for device in devices
            for zone in device.zones
            if zone.guessed and zone.side is not None
        ],
        "one_family": [device.name for device in devices if says_nothing_of_six(device)],
        "undated": [device.name for device in devices if not device.taken_at.known],
        "asked": [
            (request, [one.device for one in found], sum(len(one.checks) for one in found)) for request, found in asked
        ],
        "layers": [one for one in dossier.audit.baseline.layers if one.sha256] if dossier.audit.baseline else [],
        "version": __version__,
    }


def _unread(dossier: Dossier) -> Content:
    estate = dossier.audit.estate
    entries = [
        {
            "device": device.name,
            "kind": kind,
            "where": str(entry.where),
            "text": device.text(entry.where),
            "why": entry.why,
        }
        for device in estate.devices
        for kind, found in (("not understood", device.ledger.unread), ("contradiction", device.ledger.problems))
        for entry in found
    ]
    return {
        "devices": estate.devices,
        "failures": estate.failures,
        "entries": entries[:UNREAD_SHOWN],
        "more": max(0, len(entries) - UNREAD_SHOWN),
        "notes": [*estate.notes, *dossier.audit.notes],
    }


_GRAVEST = 10
"""Findings named beside the verdict."""


def _verdict(dossier: Dossier) -> Content:
    return {
        "sentences": verdict(dossier),
        "decision": decision(dossier),
        "holding": holding(dossier),
        "gravest": [(one, effort(one)) for one in dossier.audit.causes() if one.severity.rank >= Severity.MEDIUM.rank][
            :_GRAVEST
        ],
        "counts": dossier.audit.counts(),
        "charts": charts.findings(dossier),
    }


def _matrix(dossier: Dossier) -> Content | None:
    if not dossier.devices:
        return None
    by_place: dict[tuple[str, str], dict[Severity, int]] = {}
    for (name, where, severity), count in dossier.counts.items():
        by_place.setdefault((name, str(where)), {})[severity] = count
    asked = Counter(
        (o.device, o.check.partition(".")[0]) for o in dossier.audit.outcomes if o.outcome is Outcome.CANNOT_TELL
    )
    rows = []
    for number, device in enumerate(dossier.devices):
        cells = [
            _cell(by_place.get((device.name, area.value), {}), asked[device.name, area.value]) for area in dossier.areas
        ]
        rows.append({"place": number, "device": device.name, "cells": cells})
    return {"areas": dossier.areas, "rows": rows}


def _cell(counts: dict[Severity, int], asked: int) -> Content:
    worst = max(counts, key=lambda severity: severity.rank, default=None)
    count, total = counts[worst] if worst else 0, sum(counts.values())
    more = [*([f"of {total}"] if total > count else []), *([f"{asked} open"] if asked else [])]
    return {"worst": worst, "count": count, "more": " · ".join(more)}


def _findings(dossier: Dossier) -> Content:
    audit = dossier.audit
    places = {device.name: number for number, device in enumerate(dossier.devices)}
    devices = []
    for name, number in places.items():
        groups = [
            {
                "findings": group,
                "places": [places[one] for one in (group[0].device, *group[0].also_on) if one in places],
            }
            for group in _groups(audit.reported_on(name))
        ]
        elsewhere = [(audit.home(one), one) for one in audit.reported_elsewhere(name)]
        devices.append({"place": number, "device": dossier.devices[number], "groups": groups, "elsewhere": elsewhere})
    seen = {one.severity for one in dossier.audit.findings}
    return {
        "devices": devices,
        "total": len(dossier.audit.findings),
        "severities": [severity for severity in Severity if severity in seen],
        "areas": [area for area in Area if any(one.area == area for one in dossier.audit.findings)],
    }


def _groups(findings: Iterable[Finding]) -> Iterator[list[Finding]]:
    """Findings of one check on the same devices together, as they share title, reason and fix."""
    groups: dict[tuple[str, Severity, str, tuple[str, ...]], list[Finding]] = {}
    for one in findings:
        groups.setdefault((one.check, one.severity, one.fix, one.also_on), []).append(one)
    yield from groups.values()


def _accepted(dossier: Dossier) -> Content | None:
    return {"accepted": dossier.audit.accepted} if dossier.audit.accepted else None


def _rules(dossier: Dossier) -> Content | None:
    total = sum(map(len, dossier.rules.values()))
    if not total:
        return None
    whole = total <= RULES_SHOWN
    devices = []
    for name, rules in dossier.rules.items():
        shown = [one for one in rules if whole or one["standing"] != "live"]
        standings = Counter(one["standing"] for one in rules)
        devices.append({"name": name, "count": len(rules), "standings": standings, "rules": shown})
    return {"devices": devices, "whole": whole, "total": total}


def _usage(dossier: Dossier) -> Content | None:
    counters = charts.counted_rules(dossier)
    if not counters:
        return None
    return {
        "sentence": charts.usage_sentence(counters),
        "busiest": charts.busiest(counters),
        "devices": [_used(device, dossier.rules[device.name]) for device in dossier.devices],
    }


def _used(device: Device, rules: list[Data]) -> Content:
    counters = [one for one in rules if one["hits"] is not None]
    return {
        "name": device.name,
        "since": device.counters_since.value if device.counters_since.known else "",
        "counters": len(counters),
        "hits": sum(one["hits"] for one in counters),
        "never": [f"{one['chain']} {one['rule']}" for one in counters if not one["hits"] and one["standing"] != "off"],
    }


def _geo(dossier: Dossier) -> Content | None:
    estate = dossier.audit.estate
    if not estate.locations:
        return None
    ways = charts.ways_in(dossier)
    rows = [
        {
            "device": one.device,
            "service": one.what,
            "at": "the device" if one.direction is Direction.TO_DEVICE else "behind it",
            "family": one.family,
            "countries": [(c.code, country_name(c.code), c.share) for c in one.countries[:_COUNTRIES_SHOWN]],
            "more": max(0, len(one.countries) - _COUNTRIES_SHOWN),
            "elsewhere": bool(one.outside_data),
            "rule": one.place,
            "where": str(one.rule.where) if one.rule.where else "built in",
        }
        for one in dossier.reach
    ]
    return {
        "sources": estate.locations.sources,
        "rows": rows,
        "ways": ways,
        "codes": [(code, country_name(code)) for code in ways.codes] if ways else [],
    }


def _baseline(dossier: Dossier) -> Content | None:
    if not dossier.chosen:
        return None
    areas = []
    for area in dossier.areas:
        checks = [_check(dossier, one) for one in dossier.chosen if one.check.area is area]
        areas.append({"area": area, "checks": checks})
    return {
        "baseline": dossier.audit.baseline,
        "areas": areas,
        "outcomes": _ORDER,
        "scoped": any(layer.scopes for layer in dossier.audit.baseline.layers) if dossier.audit.baseline else False,
    }


def _check(dossier: Dossier, one: Chosen) -> Content:
    described = dossier.outcomes.get(one.check.id, {})
    # Devices with one reason share a row: nothing is lost, and large estates stay readable.
    rows: dict[tuple[Outcome, str], list[str]] = {}
    for outcome in described.values():
        rows.setdefault((outcome.outcome, outcome.because), []).append(outcome.device)
    return {
        "check": one.check,
        "severity": one.severity or one.check.severity,
        "fix": fix_of(one.check),
        "params": [(param, _spelled(one.params.get(param.name, param.default))) for param in one.check.params],
        "counts": Counter(outcome.outcome for outcome in described.values()),
        "rows": sorted(
            ((outcome, because, devices) for (outcome, because), devices in rows.items()),
            key=lambda row: _ORDER.index(row[0]),
        ),
    }


def _spelled(value: Any) -> str:
    if isinstance(value, tuple):
        return ", ".join(map(str, value)) or "none"
    return "yes" if value is True else "no" if value is False else str(value)


SECTIONS = (
    Section("verdict", "Verdict", _verdict),
    Section("matrix", "Devices and areas", _matrix),
    Section("scope", "Scope and sources", _scope),
    Section("method", "Method, assumptions and limits", _method),
    Section("unread", "What could not be read", _unread),
    Section("findings", "Findings", _findings),
    Section("accepted", "Accepted risks", _accepted),
    Section("rules", "Appendix: rules and their standing", _rules, appendix=True),
    Section("usage", "Appendix: usage", _usage, appendix=True),
    Section("geo", "Appendix: reach by country", _geo, appendix=True),
    Section("baseline", "Appendix: baseline and outcomes", _baseline, appendix=True),
)
"""The page a manager reads first, then the order in which an auditor presents."""

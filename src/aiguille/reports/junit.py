"""Outcomes as JUnit XML, for whatever shows test results: a suite for each device, a case for each check."""

from __future__ import annotations

from collections import Counter

from lxml import etree

from aiguille.baseline import CheckOutcome, Finding, Outcome
from aiguille.reports.dossier import Dossier
from aiguille.reports.text import visible

_NAMES = {
    Outcome.CANNOT_TELL: "cannot tell",
    Outcome.NOT_APPLICABLE: "not applicable",
    Outcome.ACCEPTED: "accepted",
}
_PROGRAM = "aiguille"


def as_junit(dossier: Dossier) -> bytes:
    """A failed check is a failure; what cannot be determined, does not apply or is accepted is skipped, with the reason: it never
    counts as a pass. An export that could not be read is an error."""
    root = etree.Element("testsuites")
    by_device: dict[str, list[CheckOutcome]] = {}
    for one in dossier.audit.outcomes:
        by_device.setdefault(one.device, []).append(one)
    for number, device in enumerate(dossier.devices):
        _suite(root, number, dossier, by_device.get(device.name, []))
    failures = dossier.audit.estate.failures
    if failures:
        facts = {"what": "exports that could not be read"}
        suite = _begin(root, len(dossier.devices), dossier, "exports", facts, (len(failures), 0, len(failures), 0))
        for failure in failures:
            case = _case(suite, "read", failure.path)
            error = etree.SubElement(case, "error", type="unreadable", message=visible(failure.message))
            error.text = visible(failure.message)
        _end(suite)
    return etree.tostring(root, xml_declaration=True, encoding="UTF-8", pretty_print=True)


def _suite(root: etree._Element, number: int, dossier: Dossier, outcomes: list[CheckOutcome]) -> None:
    device = dossier.devices[number]
    facts = {"make": device.make, "dialect": device.dialect}
    counts = Counter(one.outcome for one in outcomes)
    skipped = sum(counts[kind] for kind in _NAMES)
    tests = (len(outcomes), counts[Outcome.FAIL], 0, skipped)
    suite = _begin(root, number, dossier, device.name, facts, tests)
    findings: dict[str, list[Finding]] = {}
    for finding in dossier.audit.findings_on(device.name):
        for check in (finding.check, *(one.check for one in finding.consequences)):
            findings.setdefault(check, []).append(finding)
    for one in outcomes:
        case = _case(suite, one.check.partition(".")[0], one.check)
        if one.outcome is Outcome.FAIL:
            mine = findings.get(one.check, [])
            worst = max((f.severity for f in mine), key=lambda s: s.rank, default=None)
            failure = etree.SubElement(
                case, "failure", type=worst.value if worst else "fail", message=visible(one.because)
            )
            failure.text = "\n\n".join(map(_described, mine))
        elif one.outcome in _NAMES:
            etree.SubElement(case, "skipped").text = visible(f"{_NAMES[one.outcome]}: {one.because}")
    _end(suite)


def _begin(
    root: etree._Element,
    number: int,
    dossier: Dossier,
    name: str,
    facts: dict[str, str],
    counts: tuple[int, int, int, int],
) -> etree._Element:
    tests, failures, errors, skipped = counts
    suite = etree.SubElement(
        root,
        "testsuite",
        name=visible(name),
        package=_PROGRAM,
        id=str(number),
        tests=str(tests),
        failures=str(failures),
        errors=str(errors),
        skipped=str(skipped),
        time="0",
        timestamp=f"{dossier.audit.estate.as_of.isoformat()}T00:00:00",
        hostname="localhost",  # where the tool runs; the device is the suite's name
    )
    properties = etree.SubElement(suite, "properties")
    for key, value in facts.items():
        etree.SubElement(properties, "property", name=key, value=visible(value))
    return suite


def _end(suite: etree._Element) -> None:
    etree.SubElement(suite, "system-out")
    etree.SubElement(suite, "system-err")


def _case(suite: etree._Element, area: str, name: str) -> etree._Element:
    return etree.SubElement(
        suite, "testcase", classname=f"{_PROGRAM}.{area}.{suite.get('name')}", name=visible(name), time="0"
    )


def _described(one: Finding) -> str:
    """A finding in a few lines of text."""
    lines = [f"{one.severity.value} {one.fingerprint}: {visible(one.detail)}"]
    for evidence in one.evidence:
        lines.append(f"  {visible(str(evidence.where))}")
        lines += [f"    {visible(text)}" for text in evidence.text]
    if one.proof is not None:
        lines.append(f"  packet: {visible(one.proof.packet.sentence())}")
    lines.append(f"  fix: {one.fix}")
    return "\n".join(lines)

"""What the audit says of small exports is what a competent auditor would say."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from aiguille.analysis.program import Programs
from aiguille.analysis.walk.probe import Prober
from aiguille.baseline import Audit
from tests.judgement.opinions import Case, audit_of, cases, wrong
from tests.judgement.said import NAME, kept, said

CASES = tuple(cases(Path(__file__).parent / "cases"))
KEPT = kept()


@pytest.mark.parametrize("case", CASES, ids=[case.title for case in CASES])
def test_the_audit_says_what_an_auditor_would(case: Case, tmp_path: Path) -> None:
    place = tmp_path / NAME
    audit = audit_of(case, place)
    assert not audit.estate.failures, audit.estate.failures
    faulty = [one for one in audit.outcomes if "please report this" in one.because]
    assert not faulty, "a check fell silent or failed"
    if case.title in KEPT:
        assert said(audit, place) == KEPT[case.title], (
            "write it anew with `python -m tests.judgement.said`, and read the diff"
        )
    against = [f"{line}: {why}" for line in case.expected if (why := wrong(audit, line))]
    assert not against, "\n".join(against)
    assert not list(refuted(audit)), "whoever probes the packet of a finding gets another answer"


OPEN = (
    "access.",
    "rules.any-",
    "rules.dangerous-service",
    "rules.outgoing-mail",
    "deny.to-device",
    "logging.sensitive",
)
"""Checks whose packets prove that something is let in."""
SHUT = ("logging.refusals", "rules.dead-forward")


def refuted(audit: Audit) -> Iterator[str]:
    """Findings whose packet, sent as it is shown, does not fare as they say: certainly, where they call it certain and the export
    shows which addresses are the device's own."""
    devices = {device.name: device for device in audit.estate.devices}
    probers = {name: Prober(Programs(device)) for name, device in devices.items()}
    for one in audit.findings:
        if one.proof is None or not one.check.startswith((*OPEN, *SHUT)):
            continue
        refused = {way.verdict.refuses for way in probers[one.device].probe(one.proof.packet).ways}
        certain = one.proof.certain and any(each.addresses for each in devices[one.device].interfaces)
        if (one.check in SHUT) not in refused or (certain and len(refused) > 1):
            yield f"{one.check}: {one.detail} {one.proof.packet.sentence()}: {refused}"


def test_there_are_opinions_enough() -> None:
    assert len(CASES) >= 150
    assert sum(len(case.expected) for case in CASES) >= 400

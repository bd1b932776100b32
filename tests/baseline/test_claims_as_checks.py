"""Claims beside an engagement are checks of the audit: refuted ones are findings with a packet and a line."""

from __future__ import annotations

from datetime import date
from pathlib import Path

import pytest

import aiguille
from aiguille.baseline import Audit
from aiguille.baseline.folding import CLAIM
from aiguille.model import Estate, UsageError
from tests.analysis.test_paths import router

RULES = """*filter
:INPUT DROP [0:0]
:FORWARD DROP [0:0]
:OUTPUT ACCEPT [0:0]
-A FORWARD -i eth2 -o eth1 -p tcp -m tcp --dport 502 -j ACCEPT
-A FORWARD -i eth1 -o eth0 -m set --match-set elsewhere src -j ACCEPT
COMMIT
"""
ENGAGEMENT = """[engagement]
[[device]]
name = "gw"
export = "gw.v4"
zones.street = { interfaces = ["eth0"], side = "outside" }
zones.lifts = { interfaces = ["eth1"], side = "inside" }
zones.terrace = { interfaces = ["eth2"], side = "guest" }
[[device]]
name = "other"
export = "other.v4"
"""


def audited(folder: Path, claims: str, *, named: bool = False, baseline: str | None = None) -> Audit:
    (folder / "engagement.toml").write_text(ENGAGEMENT)
    (folder / "gw.v4").write_text(RULES)
    (folder / "other.v4").write_text(RULES)
    file = folder / ("mine.yaml" if named else "claims.yaml")
    file.write_text(claims)
    return aiguille.audit(aiguille.read(folder), baseline, claims=str(file) if named else None)


@pytest.mark.parametrize("named", [False, True])
def test_each_claim_is_a_check(tmp_path: Path, named: bool) -> None:
    claims = """claims:
- {claim: never terrace to lifts, title: Guests stay out, reason: They are guests., severity: medium}
- {claim: never terrace to street, severity: critical}
- {claim: never lifts to street}
- {claim: never terrace to lifts on tcp/22, title: Guests stay out}
"""
    audit = audited(tmp_path, claims, named=named)
    told = {(one.check, one.device): one.outcome.value for one in audit.outcomes if one.check.startswith(CLAIM)}
    assert told == {
        (f"{CLAIM}guests-stay-out", "gw"): "fail",
        (f"{CLAIM}never-terrace-to-street", "gw"): "pass",
        (f"{CLAIM}never-lifts-to-street", "gw"): "cannot tell",
        (f"{CLAIM}guests-stay-out-2", "gw"): "pass",
        **{(f"{CLAIM}{name}", "other"): "not applicable" for name in
           ("guests-stay-out", "never-terrace-to-street", "never-lifts-to-street", "guests-stay-out-2")},
    }  # fmt: skip
    every = [c for f in audit.findings for c in (f, *f.consequences) if c.check.startswith(CLAIM)]
    (found,) = every
    assert (found.severity.value, found.title) == ("medium", "Refuted: Guests stay out")
    assert ["--dport 502" in text for one in found.evidence for text in one.text] == [True]


def test_claims_run_beside_a_baseline_that_chooses_few_checks(tmp_path: Path) -> None:
    few = tmp_path / "few.yaml"
    few.write_text("baseline: few\nchecks: [deny.to-device]\n")
    audit = audited(tmp_path, "claims: [{claim: never terrace to lifts}]\n", baseline=str(few))
    assert {one.check for one in audit.outcomes} == {"deny.to-device", f"{CLAIM}never-terrace-to-lifts"}


def test_a_claim_on_a_device_that_is_not_there_is_told(tmp_path: Path) -> None:
    audit = audited(tmp_path, "claims: [{claim: never terrace to lifts, devices: [gv]}]\n")
    assert [note for note in audit.notes if "claims.yaml:1: there is no device 'gv'; there is gw" in note]
    assert not [c for f in audit.findings for c in (f, *f.consequences) if c.check.startswith(CLAIM)]


@pytest.mark.parametrize(
    ("claims", "said"),
    [
        ("claims:\n- {claim: perhaps terrace}", "claims.yaml:2: "),
        ("claims: [{claim: never a to b, severity: awful}]", "claims.yaml:1: "),
    ],
)
def test_what_is_wrong_with_a_claim_is_told_with_its_line(tmp_path: Path, claims: str, said: str) -> None:
    with pytest.raises(UsageError) as error:
        audited(tmp_path, claims)
    assert said in str(error.value)


def test_what_holds_on_every_device_and_not_between_them(tmp_path: Path) -> None:
    """Each branch keeps its own visitors from its servers; the other branch's come in by the line between."""
    rules = "-A FORWARD -i lan -o wan -j ACCEPT\n-A FORWARD -i wan -o srv -p tcp --dport 443 -j ACCEPT\n"
    devices = tuple(
        router(
            f"branch{n}",
            {"lan": f"10.{n}.0.1/24", "srv": f"10.1{n}.0.1/24", "wan": f"10.255.0.{n}/24"},
            [(f"10.{k}.0.0/24", f"10.255.0.{other}") for other in (1, 2) if other != n for k in (other, 10 + other)],
            rules,
        )
        for n in (1, 2)
    )
    estate = Estate(devices, as_of=date(2026, 11, 28))
    file = tmp_path / "claims.yaml"

    def told(claim: str, more: str = "") -> list[tuple[str, str, bool]]:
        file.write_text(f"claims:\n  - claim: {claim}\n{more}")
        (found,) = aiguille.claims(estate, file)
        return [(one.device, one.holds.value, one.row is not None) for one in found.answers]

    alone = [("branch1", "proved", False), ("branch2", "proved", False)]
    assert told("never lan to srv but on https") == alone
    assert told("never lan to srv", "    devices: [branch1]\n") == alone[:1]
    assert told("never lan to srv", "    severity: critical\n") == [*alone, ("branch1, branch2", "refuted", True)]
    audit = aiguille.audit(estate, claims=str(file))
    (finding,) = [one for one in audit.findings if one.check.startswith(CLAIM)]
    assert finding.device == "branch1"
    assert "over branch1 (rule 1 of chain FORWARD" in finding.detail
    assert "then branch2 (rule 2 of chain FORWARD" in finding.detail
    assert finding.proof is not None
    assert finding.proof.packet.in_interface == "lan"

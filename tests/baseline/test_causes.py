"""Causes: findings gathered by what one change would mend, and exactly what goes with it."""

from __future__ import annotations

from pathlib import Path

import pytest
from msgspec.structs import replace

import aiguille
from aiguille.baseline import Audit, Severity
from aiguille.baseline.catalogue import refer
from aiguille.baseline.causes import CauseKind, causes, effort
from aiguille.baseline.mending import if_mended
from aiguille.model import Device, Estate, UsageError
from tests.baseline.devices import zoned
from tests.baseline.test_settings_checks import AS_OF

WIDE = "-A INPUT -i eth0 -p tcp -m tcp --dport 3306 -j ACCEPT"
NARROW = "-A INPUT -i eth0 -s 198.51.100.9/32 -p tcp -m tcp --dport 3306 -j ACCEPT"
ALL = "-A INPUT -i eth0 -p tcp -j ACCEPT"


def audited(device: Device) -> Audit:
    return aiguille.audit(Estate((device,), AS_OF))


def mended_by(audit: Audit, words: str) -> tuple[set[str], set[str], list[str], list[str]]:
    """Checks of findings that go and come, and traffic that closes and opens, without the rule that has these words."""
    device = audit.estate.devices[0]
    ref = next(
        refer(base, chain, rule)
        for base in device.rulebases
        for chain, rule in base.rules()
        if words in " ".join(device.text(rule.where))
    )
    finding = replace(audit.findings[0], rules=(ref,))
    found = if_mended(audit, finding, finding.device)
    assert found is not None
    assert found.closes is not None
    assert found.opens is not None
    return (
        {one.check for one in found.gone},
        {one.check for one in found.new},
        [row.traffic.words() for row in found.closes],
        [row.traffic.words() for row in found.opens],
    )


def test_a_cause_is_called_by_its_gravest_finding_and_keeps_its_number_when_others_are_left_out() -> None:
    audit = audited(zoned(f"{WIDE}\n{ALL}", policies="DAA"))
    found = causes(audit.findings)
    assert [one.number for one in found] == [one.findings[0].number for one in found]
    assert sum(len(one.findings) for one in found) == len(audit.findings)
    assert {one.kind for one in found} >= {CauseKind.RULE, CauseKind.DEFAULT}
    second = found[1]
    alone = audit.narrowed(cause=[f"C-{second.number}"])
    assert [one.fingerprint for one in alone.findings] == [one.fingerprint for one in second.findings]
    assert [one.number for one in causes(alone.findings)] == [second.number]
    with pytest.raises(UsageError, match="there is no cause 'C-999'; there are C-1"):
        audit.narrowed(cause=["C-999"])


def test_what_goes_with_a_rule_is_found_by_auditing_without_it() -> None:
    gone, _, closes, opens = mended_by(audited(zoned(f"{WIDE}\n{NARROW}")), WIDE)
    assert "access.exposed-service" in gone
    assert closes == ["tcp 3306 from any but 198.51.100.9 to any entering eth0"]
    assert not opens


@pytest.mark.parametrize(
    ("rule", "policies", "words"),
    [
        (WIDE, "DDA", "one rule; no counter says whether it is in use"),
        (f"[0:0] {WIDE}", "DDA", "one rule, never hit"),
        (f"[731:43860] {WIDE}", "DDA", "one rule, hit 731 times: ask who needs it first"),
        (NARROW, "AAA", "a default: rules for what must pass come first"),
    ],
)
def test_how_much_work_mending_is(rule: str, policies: str, words: str) -> None:
    audit = audited(zoned(rule, policies=policies))
    assert effort(causes(audit.findings)[0]) == words


def test_a_rule_that_hides_behind_another_mends_nothing_by_going() -> None:
    gone, _, closes, _ = mended_by(audited(zoned(f"{ALL}\n{WIDE}")), WIDE)
    assert "access.exposed-service" not in gone
    assert not closes


def test_a_refusal_that_goes_says_what_it_opens() -> None:
    late = "-A INPUT -s 203.0.113.0/24 -j DROP"
    _, new, _, opens = mended_by(audited(zoned(f"{NARROW}\n{late}\n{WIDE}", policies="ADA")), late)
    assert "tcp 3306 from 203.0.113.0/24 to any entering eth0" in opens
    assert all("from 203.0.113.0/24" in row for row in opens)
    assert not new


def test_an_accepting_default_is_mended_by_refusing() -> None:
    audit = audited(zoned(NARROW, policies="ADA"))
    finding = next(
        one for one in audit.findings if one.rules and one.rules[0].rule == "policy" and one.rules[0].chain == "INPUT"
    )
    found = if_mended(audit, finding, finding.device)
    assert found is not None
    assert "policy of chain INPUT refused" in found.change
    assert {"deny.to-device"} <= {one.check for one in found.gone}
    # Nothing can be taken away from a default that refuses.
    audit = audited(zoned(WIDE, policies="DDA"))
    silent = next(one for one in audit.findings if one.check == "logging.refusals")
    assert if_mended(audit, silent, silent.device) is None


def test_what_siblings_share_is_one_finding_with_the_lines_of_each() -> None:
    estate = aiguille.read(Path(aiguille.__file__).parent / "demo" / "valdrane")
    audit = aiguille.audit(estate)
    assert len(audit.findings) <= 200
    huts = {"hut-larch", "hut-pine", "hut-arolla", "hut-marmot"}
    shared = [f for f in audit.findings if {f.device, *f.also_on} == huts and f.check == "access.no-source-restriction"]
    (page,) = shared
    assert len({one.where for one in page.evidence}) >= len(huts)
    # What is said of one alone stays its own.
    assert any(f.device == "hut-marmot" and not f.also_on and f.severity is Severity.CRITICAL for f in audit.findings)

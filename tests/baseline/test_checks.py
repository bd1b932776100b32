"""Every check with devices on which it fails, passes, cannot tell or does not apply."""

from __future__ import annotations

import re
from datetime import date

import pytest
from msgspec.structs import replace

from aiguille.baseline import CATALOGUE, Audit, Severity, fingerprint, run
from aiguille.baseline.catalogue import rule_subject
from aiguille.model import Addresses, Device, Estate, Interface
from tests.baseline.devices import SSH, addressed, sheet, zoned
from tests.helpers import filter_table, veskara

DOORS = "socket a { holds 192.0.2.1/28, in s, answers [ web ] }\narea s { faces outside }\ndoors { door web { at 443 }\n%s\n}"
LOG_ALL = "-A INPUT -j LOG\n-A FORWARD -j LOG"


CASES = [
    # A rate lets some of them in, and the default all others, of which another check speaks.
    (
        "deny.invalid",
        "cannot tell",
        filter_table(
            "-A INPUT -m conntrack --ctstate ESTABLISHED -j ACCEPT\n-A INPUT -m limit --limit 3/min -j ACCEPT",
            policies="ADA",
        ),
    ),
    (
        "deny.invalid",
        "fail",
        filter_table(
            "-A INPUT -m conntrack --ctstate ESTABLISHED -j ACCEPT\n-A INPUT -p tcp -m tcp --dport 443 -j ACCEPT"
        ),
    ),
    # The largest group of sources that is one still.
    (
        "rules.contradicted",
        "fail",
        filter_table("-A INPUT -p tcp -m tcp --dport 443 -j ACCEPT\n-A INPUT -s 240.0.0.0/4 -j DROP"),
    ),
    ("logging.refusals", "cannot tell", sheet("src,dst,action", "any,any,deny")),
    ("logging.refusals", "fail", sheet("src,dst,action,log", "any,any,deny,no")),
    (
        "access.reachable-from-outside",
        "pass",
        addressed(f"-A INPUT -d 10.0.0.7/32 -i eth0 {SSH} -j ACCEPT", "192.0.2.1"),
    ),
    (
        "access.reachable-from-outside",
        "fail",
        addressed(f"-A INPUT -d 192.0.2.1/32 -i eth0 {SSH} -j ACCEPT", "192.0.2.1"),
    ),
    # One interface without an address may have got it from elsewhere.
    ("access.reachable-from-outside", "fail", addressed(f"-A INPUT -d 10.0.0.7/32 -i eth0 {SSH} -j ACCEPT")),
    ("access.reachable-from-outside", "fail", zoned(f"-A INPUT -i eth0 {SSH} -j ACCEPT")),
    ("access.reachable-from-outside", "fail", zoned("-A INPUT -i eth+ -p tcp -m tcp ! --dport 80 -j ACCEPT")),
    ("access.reachable-from-outside", "fail", zoned("-A INPUT ! -i eth1 -j ACCEPT")),
    (
        "access.reachable-from-outside",
        "fail",
        zoned(f"-A INPUT -i eth0 {SSH} -m limit --limit 3/min -j ACCEPT", policies="ADA"),
    ),
    ("access.reachable-from-outside", "fail", filter_table(f"-A INPUT {SSH} -j ACCEPT")),
    ("access.reachable-from-outside", "pass", zoned(f"-A INPUT -i eth1 {SSH} -j ACCEPT")),
    (
        "access.reachable-from-outside",
        "fail",
        zoned(f"-A INPUT -s 198.51.100.1/32 {SSH} -j ACCEPT\n-A INPUT {SSH} -j ACCEPT"),
    ),
    (
        "access.reachable-from-outside",
        "fail",
        zoned(f"-A INPUT -s 198.51.100.1/32 {SSH} -j ACCEPT\n-A INPUT {SSH} -m limit --limit 1/sec -j ACCEPT"),
    ),
    (
        "access.reachable-from-outside",
        "cannot tell",
        zoned(
            f"-A INPUT -s 198.51.100.1/32 {SSH} -j ACCEPT\n-A INPUT {SSH} -m mac --mac-source 00:11:22:33:44:55 -j ACCEPT"
        ),
    ),
    (
        "access.reachable-from-outside",
        "fail",
        zoned("\n".join(f"-A INPUT -s 198.51.{n}.0/27 {SSH} -j ACCEPT" for n in range(3))),
    ),
    ("access.reachable-from-outside", "pass", zoned(f"-A INPUT -s 198.51.100.0/28 -i eth0 {SSH} -j ACCEPT")),
    ("access.reachable-from-outside", "pass", zoned(f"-A INPUT -i eth0 -j DROP\n-A INPUT {SSH} -j ACCEPT")),
    (
        "access.reachable-from-outside",
        "pass",
        zoned(f"-A INPUT -i eth0 {SSH} -m conntrack --ctstate ESTABLISHED -j ACCEPT"),
    ),
    ("access.reachable-from-outside", "fail", filter_table(f"-A INPUT -i eth7 {SSH} -j ACCEPT")),
    (
        "access.reachable-from-outside",
        "cannot tell",
        zoned(f"-A INPUT -i eth0 {SSH} -m mac --mac-source 00:11:22:33:44:55 -j ACCEPT"),
    ),
    ("access.reachable-from-outside", "cannot tell", replace(zoned(""), rulebases=())),
    ("access.reachable-from-outside", "fail", veskara(DOORS % "keeper k { comes-from anyone }")),
    ("access.reachable-from-outside", "pass", veskara(DOORS % "keeper k { comes-from [ 198.51.100.1 ] }")),
    ("access.no-source-restriction", "fail", zoned(f"-A INPUT -i eth1 {SSH} -j ACCEPT")),
    ("access.no-source-restriction", "pass", zoned(f"-A INPUT -s 10.0.0.8/29 -i eth1 {SSH} -j ACCEPT")),
    ("access.no-source-restriction", "cannot tell", filter_table(f"-A INPUT -i eth1 {SSH} -j ACCEPT")),
    ("access.cleartext", "fail", zoned("-A INPUT -i eth1 -p tcp -m tcp --dport 23 -j ACCEPT")),
    ("access.cleartext", "pass", zoned(f"-A INPUT -i eth1 {SSH} -j ACCEPT")),
    ("access.cleartext", "cannot tell", replace(zoned(""), rulebases=())),
    ("deny.to-device", "fail", zoned("", policies="ADA")),
    ("deny.to-device", "fail", zoned("-A INPUT -i eth1 -j DROP", policies="ADA")),
    ("deny.to-device", "pass", zoned("")),
    ("deny.to-device", "pass", zoned("-A INPUT -j REJECT", policies="ADA")),
    ("deny.to-device", "pass", zoned("-A INPUT -m conntrack --ctstate NEW -j DROP", policies="ADA")),
    ("deny.to-device", "cannot tell", replace(zoned(""), rulebases=())),
    ("deny.through-device", "fail", zoned("", policies="DAA")),
    ("deny.through-device", "pass", zoned("-A FORWARD -j stop\n-A stop -j DROP", policies="DAA", chains=("stop",))),
    ("deny.through-device", "fail", veskara("passages { otherwise { then let } }")),
    ("deny.through-device", "pass", veskara("passages { }")),
    ("deny.through-device", "cannot tell", replace(zoned(""), rulebases=())),
    ("deny.to-device", "cannot tell", zoned("-A INPUT -m mac --mac-source 00:11:22:33:44:55 -j DROP", policies="ADA")),
    ("rules.any-to-any", "cannot tell", zoned("-A FORWARD -m policy --dir in --pol ipsec -j ACCEPT")),
    ("rules.any-to-any", "fail", zoned("-A FORWARD -m limit --limit 9/sec -j ACCEPT")),
    (
        "logging.refusals",
        "cannot tell",
        zoned("-A INPUT -m mac --mac-source 00:11:22:33:44:55 -j ACCEPT\n-A FORWARD -j LOG"),
    ),
    ("deny.from-device", "fail", zoned("")),
    ("deny.from-device", "pass", zoned("", policies="DDD")),
    ("deny.from-device", "cannot tell", replace(zoned(""), rulebases=())),
    ("deny.after-catch-all", "fail", zoned(f"-A INPUT -j DROP\n-A INPUT {SSH} -j ACCEPT")),
    ("deny.after-catch-all", "pass", zoned(f"-A INPUT {SSH} -j ACCEPT\n-A INPUT -j DROP")),
    ("deny.after-catch-all", "pass", zoned(f"-A INPUT -m limit --limit 1/sec -j DROP\n-A INPUT {SSH} -j ACCEPT")),
    ("deny.after-catch-all", "cannot tell", replace(zoned(""), rulebases=())),
    ("rules.any-to-any", "fail", zoned("-A FORWARD -i eth0 -j ACCEPT")),
    ("rules.any-to-any", "fail", zoned("-A FORWARD -m conntrack --ctstate NEW,ESTABLISHED -j ACCEPT")),
    (
        "rules.any-to-any",
        "pass",
        zoned("-A INPUT -i lo -j ACCEPT\n-A INPUT -m conntrack --ctstate ESTABLISHED -j ACCEPT"),
    ),
    ("rules.any-to-any", "pass", zoned("-A FORWARD -j DROP\n-A FORWARD -j ACCEPT")),
    ("rules.any-to-any", "cannot tell", replace(zoned(""), rulebases=())),
    ("logging.refusals", "fail", zoned("-A FORWARD -j LOG")),
    ("logging.refusals", "fail", zoned(f"-A INPUT -p tcp -j DROP\n{LOG_ALL}")),
    ("logging.refusals", "pass", zoned(LOG_ALL)),
    ("logging.refusals", "pass", zoned("-A INPUT -m limit --limit 5/min -j LOG\n-A FORWARD -j LOG")),
    (
        "logging.refusals",
        "pass",
        veskara("passages { otherwise { then swallow, note yes } }\nrecords { note-knocks yes }"),
    ),
    ("logging.refusals", "not applicable", zoned("", policies="AAA")),
    ("logging.refusals", "cannot tell", replace(zoned(""), rulebases=())),
]


def audit(device: Device) -> Audit:
    return run(Estate((device,), date(2026, 11, 30)), CATALOGUE, raise_crashes=True)


@pytest.mark.parametrize(
    ("check", "expected", "device"), CASES, ids=[f"{c}-{e}-{i}" for i, (c, e, _) in enumerate(CASES)]
)
def test_outcomes(check: str, expected: str, device: Device) -> None:
    result = audit(device)
    (outcome,) = [o for o in result.outcomes if o.check == check]
    assert outcome.outcome == expected, outcome.because
    assert outcome.because
    findings = [f for f in result.findings if f.check == check]
    assert bool(findings) == (expected == "fail")
    for finding in findings:
        assert finding.detail.endswith(".")
        assert "{" not in finding.detail + finding.fix
        for evidence in finding.evidence:
            assert evidence.text, "every line of evidence shows its text"
        if finding.proof is not None:
            assert finding.proof.certain or "limit" in finding.detail


def test_the_catalogue_is_well_formed() -> None:
    assert len({one.id for one in CATALOGUE}) == len(CATALOGUE)
    for one in CATALOGUE:
        assert one.area.value == one.id.split(".")[0]
        assert one.controls
        assert one.why.endswith(".")
        assert one.how.endswith(".")
        assert one.fix.format(**one.defaults()).endswith(".")
        assert all(re.fullmatch(r"[A-Z]{2}-[0-9]+(\([0-9]+\))?", control) for control in one.controls)
        for param in one.params:
            assert isinstance(param.default, param.type)
            assert param.why


def test_a_wider_door_is_worse_outside() -> None:
    rules = "-A INPUT -p tcp -m tcp --dport 23 -j ACCEPT"
    found = [f for f in audit(zoned(rules)).findings if f.check == "access.cleartext"]
    assert [f.severity for f in found] == [Severity.HIGH]


def test_fingerprints_outlive_added_lines_and_other_counters() -> None:
    rule = f"-A INPUT -i eth0 {SSH} -j ACCEPT"
    before = {f.fingerprint for f in audit(zoned(rule)).findings}
    moved = audit(zoned(f"-A INPUT -s 203.0.113.9/32 -j DROP\n[7:420] {rule}")).findings
    assert before <= {f.fingerprint for f in moved}
    other = {f.fingerprint for f in audit(zoned("-A INPUT -i eth0 -p tcp -m tcp --dport 20:22 -j ACCEPT")).findings}
    assert not before <= other


def test_fingerprints_are_made_of_words_that_later_versions_share() -> None:
    """The spelling is fixed here: a change of it would make every finding of an earlier audit new."""
    device = filter_table(
        f'-A INPUT -s 10.0.0.0/8 ! -i eth+ {SSH} -m limit --limit 1/sec -m comment --comment "a" -j ACCEPT'
    )
    chain = device.rulebases[0].chains[0]
    assert rule_subject(chain, chain.rules[0]) == (
        "INPUT: [, accept, ACCEPT, None, Match(conditions=["
        "Condition(field=source, operands=[Addresses(family=4, first=167772160, last=184549375)]), "
        "Condition(field=interface in, operands=[InterfaceName(name=eth, prefix=True)], negated=True), "
        "Condition(field=protocol, operands=[Numbers(first=6, last=6)]), "
        "Condition(field=destination port, operands=[Numbers(first=22, last=22)])]), "
        "[Qualifier(name=rate limit, text=-m limit --limit 1/sec)], [], a]"
    )
    assert rule_subject(chain, None) == "INPUT: policy drop"
    assert fingerprint("a.b", "device", "subject") == "3ed905ea832192c6"
    assert fingerprint("a.b", "device", "subject", 2) != fingerprint("a.b", "device", "subject")


def test_alike_rules_are_two_findings() -> None:
    rules = f"-A INPUT -i eth0 {SSH} -s 0.0.0.0/1 -j ACCEPT\n-A INPUT -i eth0 {SSH} -s 128.0.0.0/1 -j ACCEPT"
    found = [f for f in audit(zoned(rules)).findings if f.check == "access.reachable-from-outside"]
    assert len({f.fingerprint for f in found}) == len(found)
    assert found


def test_both_families_join_into_one_finding() -> None:
    four, six = filter_table("", policies="DAA"), filter_table("", policies="DAA", family=6)
    both = replace(four, rulebases=four.rulebases + six.rulebases)
    (finding,) = [f for f in audit(both).findings if f.check == "deny.through-device"]
    assert finding.detail.startswith("IPv4 and IPv6")


def test_a_crash_of_a_check_is_neither_pass_nor_finding() -> None:
    def broken(_subject: object) -> object:
        raise RuntimeError("boom")

    bad = replace(CATALOGUE[0], run=broken, needs=())  # type: ignore[arg-type]
    estate = Estate((zoned(""),), date(2026, 11, 30))
    (outcome,) = run(estate, [bad]).outcomes
    assert outcome.outcome == "cannot tell"
    assert "boom" in outcome.because
    with pytest.raises(RuntimeError):
        run(estate, [bad], raise_crashes=True)


@pytest.mark.parametrize(
    ("rules", "interfaces", "outcome"),
    [
        ("-A FORWARD -i eth1 -o eth0 -j ACCEPT", ("eth0", "eth1"), "fail"),
        ("-A FORWARD -i eth0 -o eth0 -j ACCEPT", ("eth0", "eth1"), "pass"),  # packets only turn back
        (
            "-A FORWARD -i eth0 -j DROP\n-A FORWARD -i eth1 -j DROP\n-A FORWARD -o eth0 -j ACCEPT",
            ("eth0", "eth1"),
            "pass",
        ),
        ("-A FORWARD -i eth0 -j DROP\n-A FORWARD -i eth1 -j DROP\n-A FORWARD -o eth0 -j ACCEPT", (), "fail"),
        ("-A FORWARD -i eth7 -o eth8 -j ACCEPT", ("eth0", "eth1"), "pass"),  # there are no such interfaces
        ("-A FORWARD -i eth7 -o eth8 -j ACCEPT", (), "fail"),
    ],
)
def test_any_to_any_counts_only_ways_that_exist(rules: str, interfaces: tuple[str, ...], outcome: str) -> None:
    own = Addresses(4, 0x0A000001, 0x0A000001)
    device = replace(zoned(rules), interfaces=tuple(Interface(name, None, (own,)) for name in interfaces))
    (found,) = [o for o in audit(device).outcomes if o.check == "rules.any-to-any"]
    assert found.outcome.value == outcome, found.because

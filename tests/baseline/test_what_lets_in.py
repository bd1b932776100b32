"""Which line is named, and what is said of it, where several have a say."""

from __future__ import annotations

from datetime import date, timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import aiguille
from aiguille.analysis.decide import Decider, maybe_accepted
from aiguille.analysis.program import Programs
from aiguille.analysis.sides import guess_sides
from aiguille.baseline import Audit, Finding, Severity
from aiguille.baseline.catalogue import RuleRef
from aiguille.baseline.dates import until
from aiguille.baseline.keepers import where_to_change
from aiguille.model import Device, Direction, Estate, Span
from aiguille.readers import host, nftables
from aiguille.readers.files import decode
from aiguille.space import Axis, IntervalSet, box
from tests.baseline.devices import EST, SSH, zoned
from tests.helpers import linux

AS_OF = date(2026, 11, 30)
HERE = Span("dump", 1, 1)


def audit_of(device: Device) -> Audit:
    return aiguille.audit(Estate((guess_sides(device),), AS_OF))


def told(audit: Audit, check: str) -> list[Finding]:
    """Findings of a check that stand by themselves."""
    return [one for one in audit.findings if one.check == check]


def outcome(audit: Audit, check: str) -> str:
    return next(one.outcome.value for one in audit.outcomes if one.check == check)


def ruleset(*rules: str, policy: str = "drop") -> Device:
    body = "\n".join(f"\t\t{rule}" for rule in rules)
    text = f"table inet f {{\n\tchain input {{\n\t\ttype filter hook input priority 0; policy {policy};\n{body}\n\t}}\n"
    text += "\tchain forward {\n\t\ttype filter hook forward priority 0; policy drop;\n\t}\n}\n"
    return nftables.read([decode("f.nft", text.encode())], "f")


@pytest.mark.parametrize(
    ("chain", "keeper"),
    [
        ("DOCKER", "container engine"),
        ("DOCKER-ISOLATION-STAGE-1", "container engine"),
        ("DOCKER-USER", ""),
        ("DOCKERS", ""),
        ("f2b-sshd", "fail2ban"),
        ("ufw-user-input", "ufw"),
        ("ufw6-user-input", "ufw"),
        ("KUBE-SERVICES", "program"),
        ("INPUT", ""),
    ],
)
def test_who_keeps_a_chain(chain: str, keeper: str) -> None:
    said = where_to_change((RuleRef("filter", chain, 1, HERE),))
    assert (keeper in said) if keeper else (said == "")
    assert where_to_change(()) == ""


@pytest.mark.parametrize("limit", ["-m limit --limit 5/sec", "-m recent --set --name x"])
def test_the_rule_that_lets_in_is_named_before_what_may_refuse(limit: str) -> None:
    """A rate may keep a packet away, and then the policy refuses it: the way in is the rule's all the same."""
    device = zoned(f"-A INPUT -i eth0 {limit} {SSH} -j ACCEPT")
    program = Programs(device).get(4, Direction.TO_DEVICE)
    assert program is not None
    proof = Decider(program).find(box([(Axis.B, IntervalSet.of(22)), (Axis.PROTO, IntervalSet.of(6))]), maybe_accepted)
    assert proof is not None
    assert not proof.certain
    assert [step.rule is None for step in proof.steps] == [True, False]
    (found,) = told(audit_of(device), "access.reachable-from-outside")
    assert "--dport 22" in found.evidence[0].text[0]


def test_a_helper_chain_that_takes_everything_is_named_after_the_jump_that_chose() -> None:
    text = (
        "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n:ok - [0:0]\n"
        f"-A INPUT -i eth0 {SSH} -j ok\n-A ok -j ACCEPT\nCOMMIT\n"
    )
    (found,) = told(audit_of(linux({}, text)), "access.reachable-from-outside")
    assert [one.where.first for one in found.evidence][:2] == [6, 7]


def test_records_before_accepting_count_though_another_rule_may_drop() -> None:
    guard = "fib saddr . iif oif missing drop"
    with_log = ruleset(guard, 'tcp dport 22 log prefix "ssh " accept')
    without = ruleset(guard, "tcp dport 22 accept")
    assert outcome(audit_of(with_log), "logging.management") == "pass"
    assert outcome(audit_of(without), "logging.management") == "fail"


@pytest.mark.parametrize(
    ("guard", "expected"),
    [
        ("fib saddr . iif oif missing drop", "pass"),
        ('iifname "lan0" fib saddr . iif oif missing drop', "fail"),
        ("", "fail"),
    ],
)
def test_a_check_of_the_path_back_counts_where_it_looks(guard: str, expected: str) -> None:
    device = ruleset(guard, 'iifname "wan0" tcp dport 443 accept', 'iifname "lan0" tcp dport 22 accept')
    assert outcome(audit_of(device), "deny.bogons") == expected


@pytest.mark.parametrize(
    ("rules", "expected"),
    [
        (("tcp dport 22 accept", "reject"), "fail"),
        (("ct state established,related accept", "tcp dport 22 accept", "reject"), "pass"),
        (("tcp dport 22 accept", "ct state new reject"), "pass"),
    ],
)
def test_a_refusal_of_everything_ahead_of_an_accepting_policy_cuts_off_replies(
    rules: tuple[str, ...], expected: str
) -> None:
    audit = audit_of(ruleset(*rules, policy="accept"))
    assert (outcome(audit, "deny.established") == "fail") is (expected == "fail")


NEIGHBOURS = "icmpv6 type { nd-neighbor-solicit, nd-neighbor-advert } accept"


@pytest.mark.parametrize(
    ("rules", "severity"),
    [
        ((NEIGHBOURS, 'iifname "wan0" tcp dport 443 accept'), None),
        (('iifname "wan0" tcp dport 443 accept',), Severity.MEDIUM),
        (('iifname "lan0" accept', 'iifname "wan0" tcp dport 443 accept'), Severity.LOW),
        (('iifname "lan0" accept', 'iifname "wg0" tcp dport 443 accept'), None),
    ],
)
def test_neighbours_are_looked_for_interface_by_interface(rules: tuple[str, ...], severity: Severity | None) -> None:
    found = told(audit_of(ruleset('iif "lo" accept', *rules)), "deny.neighbour-discovery")
    assert [one.severity for one in found] == ([] if severity is None else [severity])


@pytest.mark.parametrize(
    ("rule", "severity"),
    [
        ("-A INPUT -i eth0 -p tcp -m tcp --sport 53 -j ACCEPT", Severity.CRITICAL),
        ("-A FORWARD -i eth0 -p tcp -m tcp --sport 53 -j ACCEPT", Severity.HIGH),
        ("-A INPUT -i eth1 -p tcp -m tcp --sport 53 -j ACCEPT", Severity.MEDIUM),
        ("-A INPUT -i eth0 -s 203.0.113.53/32 -p tcp -m tcp --sport 53 -j ACCEPT", Severity.MEDIUM),
    ],
)
def test_a_source_port_anybody_can_choose_opens_everything(rule: str, severity: Severity) -> None:
    audit = audit_of(zoned(f"{EST}\n{rule}"))
    found = [
        one.severity
        for finding in audit.findings
        for one in (finding, *finding.consequences)
        if one.check == "rules.source-port"
    ]
    assert found == [severity]


def test_what_a_program_refuses_by_itself_does_not_hide_a_late_refusal(tmp_path: Path) -> None:
    files = {
        "zones": "fw firewall\nnet ipv4\n",
        "interfaces": "?FORMAT 2\nnet eth0 tcpflags,nosmurfs\n",
        "policy": "fw all ACCEPT\nnet all DROP info\nall all REJECT info\n",
        "rules": "?SECTION NEW\nACCEPT net fw tcp 22\nDROP net:203.0.113.0/24 fw\n",
        "shorewall.conf": "STARTUP_ENABLED=Yes\n",
    }
    for name, text in files.items():
        (tmp_path / name).write_text(text)
    audit = aiguille.audit(aiguille.read(tmp_path))
    assert outcome(audit, "rules.contradicted") == "fail"
    (tmp_path / "rules").write_text("?SECTION NEW\nDROP net:203.0.113.0/24 fw\nACCEPT net fw tcp 22\n")
    assert outcome(aiguille.audit(aiguille.read(tmp_path)), "rules.contradicted") == "pass"


def test_what_passes_between_interfaces_of_a_zone_counts_where_there_are_two() -> None:
    listing = "public (active)\n  target: default\n  interfaces: %s\n  services: ssh\n  ports: \n  forward: yes\n  masquerade: no\n"

    def read(interfaces: str) -> Audit:
        return audit_of(host.read([decode("zones.txt", (listing % interfaces).encode())], "box"))

    assert outcome(read("ens3"), "rules.any-to-any") == "pass"
    assert outcome(read("ens3 ens4"), "rules.any-to-any") == "fail"


@given(st.dates(date(2000, 1, 1), date(2099, 12, 31)))
def test_every_way_to_write_a_day_is_that_day(day: date) -> None:
    ways = ("%Y-%m-%d", "%Y/%m/%d", "%d.%m.%Y", "%d %B %Y", "%B %d, %Y", "%d %b %Y")
    assert {until(f"opened 2001-01-01, valid until {day.strftime(way)}; see there") for way in ways} == {day}
    slashed = until(day.strftime("remove after %d/%m/%Y"))
    assert slashed is not None
    assert slashed >= day
    month = until(day.strftime("ends %B %Y"))
    assert month is not None
    assert (month.year, month.month, (month + timedelta(1)).day) == (day.year, day.month, 1)

"""Checks on access by settings, on records, usage and the system: a failing, a passing and an open device each."""

from __future__ import annotations

from datetime import date

import pytest
from msgspec.structs import replace

from aiguille.baseline import CATALOGUE, Outcome, run
from aiguille.model import Device, Estate
from tests.baseline.devices import (
    EST,
    SSH,
    WEB,
    bare,
    entry,
    gate,
    host,
    network,
    perimeter,
    sheet,
    told,
    zoned,
)
from tests.helpers import DUMP, linux

AS_OF = date(2026, 11, 30)
SSHD = "etc__ssh__sshd_config"
TINDREL = ";; Tindrel router\n"
SHADOW = "passages {\npassage a { sender anyone, then swallow }\npassage b { sender anyone, then let, met 0 }\n}"
HITS = "about { counting-since %s }\npassages { passage a { out-of s, then let, met %s } }"


def hut(extra: str = "", people: str = "") -> Device:
    return told(
        "castrevo",
        '{"castrevo": {"written": "2026-11-06T05:00:00Z"}, "people": ['
        + people
        + '], "moulds": [{"key": "m"'
        + extra
        + "}],\n"
        '"places": [{"label": "hut", "mould": "m", "line": {"gate": "192.0.2.1/30", "answers": []}, "lanes": []}]}',
        "huts.json",
    )


def administrated(rules: str, *sources: str) -> Device:
    return replace(zoned(rules), administrators=tuple(map(network, sources)))


def stored(dump: str) -> Device:
    return linux({"etc/iptables/rules.v4": dump})


def release(name: str) -> Device:
    return linux({"etc/os-release": f'PRETTY_NAME="{name}"\n'})


SHEET = sheet("src,dst,action", "any,any,deny")
ROW = "src,dst,service,action,hits"
STILL = "".join(f"net.ipv{n}.conf.all.{k}_redirects = 0\n" for n, k in ((4, "accept"), (4, "send"), (6, "accept")))
STRAIGHT = "net.ipv4.conf.all.accept_source_route = 0\nnet.ipv6.conf.all.accept_source_route = -1\n"
SAME = DUMP.replace("-i lo", "-i lo -p tcp").replace("COMMIT", "-A INPUT -i lo ! -p tcp -j ACCEPT\nCOMMIT")
UNITS = "UNIT FILE STATE PRESET\nnetfilter-persistent.service %s enabled\n"
CASES: list[tuple[str, str, Device]] = [
    ("access.lockout-threshold", "fail", gate("doors { misses-before-lock 10 }")),
    ("access.lockout-threshold", "fail", gate("doors { misses-before-lock never }")),
    ("access.lockout-threshold", "fail", gate("doors { }")),
    ("access.lockout-threshold", "pass", gate("doors { misses-before-lock 3 }")),
    ("access.lockout-threshold", "cannot tell", gate("doors { misses-before-lock some }")),
    ("access.lockout-threshold", "cannot tell", zoned("")),
    ("access.lockout-duration", "fail", gate("doors { misses-before-lock 3, locked-for 60s }")),
    ("access.lockout-duration", "pass", gate("doors { misses-before-lock 3, locked-for 10m }")),
    ("access.lockout-duration", "pass", gate("doors { misses-before-lock 3, locked-for until-freed }")),
    ("access.lockout-duration", "not applicable", gate("doors { misses-before-lock never, locked-for 60s }")),
    ("access.lockout-duration", "cannot tell", zoned("")),
    ("access.idle-timeout", "fail", gate("doors { asleep-after 15m }")),
    ("access.idle-timeout", "fail", gate("doors { asleep-after never }")),
    ("access.idle-timeout", "pass", gate("doors { asleep-after 10m }")),
    ("access.idle-timeout", "cannot tell", zoned("")),
    ("access.redirect", "fail", perimeter("<doors><door kind='open-page'/><send-to-page>no</send-to-page></doors>")),
    (
        "access.redirect",
        "not applicable",
        perimeter("<doors><door kind='page'/><send-to-page>no</send-to-page></doors>"),
    ),
    ("access.redirect", "pass", perimeter("<doors><door kind='open-page'/></doors>")),
    ("access.redirect", "cannot tell", SHEET),
    ("access.redirect", "not applicable", zoned("")),
    ("access.default-account", "fail", gate('doors { keeper "Admin" { rank all } }')),
    ("access.default-account", "pass", gate('doors { keeper "Admin" { live no } keeper ann { rank all } }')),
    ("access.default-account", "cannot tell", zoned("")),
    ("access.shared-account", "fail", gate("doors { keeper hut-keepers { rank all } }")),
    ("access.shared-account", "fail", gate("doors { keeper night-team { rank all } }")),
    ("access.shared-account", "pass", gate("doors { keeper teamleader { rank all } }")),
    ("access.shared-account", "cannot tell", zoned("")),
    ("access.recovery-account", "fail", gate("doors { }")),
    ("access.recovery-account", "pass", gate("doors { rescue-keeper no }")),
    ("access.recovery-account", "cannot tell", SHEET),
    ("access.recovery-account", "not applicable", zoned("")),
    ("access.password-policy", "fail", gate("doors { shortest-proof 11 }")),
    ("access.password-policy", "fail", host(etc__security__pwquality_dot_conf="minclass = 3\n")),
    ("access.password-policy", "pass", host(etc__security__pwquality_dot_conf="minlen = 12\n")),
    ("access.password-policy", "cannot tell", host(etc__security__pwquality_dot_conf="minlen = long\n")),
    ("access.password-policy", "cannot tell", zoned("")),
    ("access.second-factor", "fail", host(**{SSHD: "Port 22\n"})),
    ("access.second-factor", "fail", host(**{SSHD: "PasswordAuthentication no\nKbdInteractiveAuthentication yes\n"})),
    ("access.second-factor", "fail", hut(people='{"who": "a", "may": "look"}')),
    ("access.second-factor", "pass", host(**{SSHD: "PasswordAuthentication no\n"})),
    ("access.second-factor", "pass", hut(people='{"who": "a", "may": "look", "second-proof": true}')),
    ("access.second-factor", "cannot tell", zoned("")),
    ("access.weak-ciphers", "fail", perimeter("<doors><old-ciphers>tolerated</old-ciphers></doors>")),
    ("access.weak-ciphers", "fail", host(**{SSHD: "KexAlgorithms diffie-hellman-group1-sha1\n"})),
    ("access.weak-ciphers", "pass", perimeter("<doors/>")),
    (
        "access.weak-ciphers",
        "pass",
        host(**{SSHD: "Ciphers aes256-gcm@openssh.com\nMACs -hmac-md5\nKexAlgorithms curve25519-sha256\n"}),
    ),
    ("access.weak-ciphers", "cannot tell", host(**{SSHD: "Ciphers aes256-gcm@openssh.com\n"})),
    ("access.link-layer", "fail", told("tindrel", TINDREL + "== care ==\nsleep after=5m\n")),
    ("access.discovery", "fail", host(ss="udp UNCONN 0 0 0.0.0.0:5353 0.0.0.0:*\n")),
    ("access.link-layer", "pass", told("tindrel", TINDREL + "== care ==\nneighbour-login live=no\n")),
    ("access.discovery", "pass", host(ss="udp UNCONN 0 0 127.0.0.1:5353 0.0.0.0:*\n")),
    ("access.discovery", "cannot tell", SHEET),
    ("access.link-layer", "cannot tell", SHEET),
    ("access.link-layer", "not applicable", zoned("")),
    ("access.root-login", "fail", host(**{SSHD: "Port 22\n"})),
    ("access.root-login", "fail", gate("doors { keeper root { rank all } }")),
    ("access.root-login", "pass", host(**{SSHD: "PermitRootLogin no\n"})),
    ("access.root-login", "pass", gate("doors { keeper ann { rank all } }")),
    ("access.root-login", "cannot tell", zoned("")),
    ("access.portal-open", "fail", gate("portal { live yes }")),
    ("access.portal-open", "pass", gate("portal { live no }")),
    ("access.portal-open", "pass", gate("portal { comes-from [ 198.51.100.1 ] }")),
    ("access.portal-open", "cannot tell", gate("portal { live sometimes }")),
    ("access.portal-open", "not applicable", zoned("")),
    (
        "access.keeper-refused",
        "fail",
        administrated(f"-A INPUT -i eth0 -s 203.0.113.0/28 {SSH} -j ACCEPT", "198.51.100.9"),
    ),
    (
        "access.keeper-refused",
        "pass",
        administrated(f"-A INPUT -i eth0 -s 203.0.113.0/28 {SSH} -j ACCEPT", "203.0.113.9"),
    ),
    ("access.keeper-refused", "cannot tell", replace(bare(), administrators=(network("203.0.113.9"),))),
    ("access.keeper-refused", "not applicable", zoned("")),
    ("logging.device-days", "fail", gate("records { kept-days 6 }")),
    ("logging.device-days", "pass", gate("records { kept-days 7 }")),
    ("logging.device-days", "pass", host(etc__systemd__journald_dot_conf="[Journal]\nStorage=persistent\n")),
    ("logging.device-days", "cannot tell", zoned("")),
    ("logging.collector-days", "fail", gate("records { kept-there-days 20 }")),
    ("logging.collector-days", "pass", gate("records { kept-there-days 30 }")),
    ("logging.collector-days", "cannot tell", zoned("")),
    ("logging.collector", "fail", perimeter("")),
    ("logging.collector", "pass", gate("records { sent-to [ 10.0.0.9 ] }")),
    ("logging.collector", "cannot tell", zoned("")),
    ("logging.time-source", "fail", gate("")),
    ("logging.time-source", "fail", host(etc__chrony__chrony_dot_conf="makestep 1 3\n")),
    ("logging.time-source", "pass", gate("clock { asks [ 10.0.0.2 ] }")),
    ("logging.time-source", "pass", host(etc__systemd__timesyncd_dot_conf="[Time]\n#NTP=\n")),
    ("logging.time-source", "pass", host(etc__ntp_dot_conf="pool 0.pool.example iburst\n")),
    ("logging.time-source", "cannot tell", zoned("")),
    ("usage.never-hit", "fail", gate(HITS % ("2026-08-01", "0"))),
    ("usage.never-hit", "pass", gate(HITS % ("2026-08-01", "7"))),
    ("usage.never-hit", "cannot tell", gate(HITS % ("2026-11-01", "0"))),
    ("usage.never-hit", "cannot tell", gate("passages { passage a { then let, met 0 } }")),
    ("usage.never-hit", "cannot tell", zoned(f"-A INPUT {SSH} -j ACCEPT")),
    ("usage.unused-interface", "fail", host(a='[{"ifname": "eth5", "flags": ["UP"], "addr_info": []}]\n')),
    ("usage.unused-interface", "pass", host(a='[{"ifname": "eth6", "flags": ["BROADCAST"], "addr_info": []}]\n')),
    ("usage.unused-interface", "cannot tell", zoned("")),
    ("usage.unused-account", "fail", gate("doors { keeper ann { last-in 2026-08-01 } }")),
    ("usage.unused-account", "pass", gate("doors { keeper ann { last-in 2026-11-01 } }")),
    ("usage.unused-account", "cannot tell", zoned("")),
    ("usage.closed-service", "fail", host(ss="tcp LISTEN 0 5 0.0.0.0:22 0.0.0.0:*\n")),
    (
        "usage.closed-service",
        "pass",
        linux({"ss": "tcp LISTEN 0 5 0.0.0.0:22 0.0.0.0:*\n"}, DUMP.replace("-i lo", "-p tcp")),
    ),
    ("usage.closed-service", "cannot tell", zoned("")),
    (
        "usage.rule-order",
        "fail",
        sheet(ROW, *(f"10.0.{n}.0/24,any,tcp/80,allow,1" for n in range(5)), "10.1.0.0/16,any,tcp/80,allow,90"),
    ),
    # The busy rule is an exception of those above: its place is no accident.
    (
        "usage.rule-order",
        "pass",
        sheet(ROW, *(f"10.0.{n}.0/24,any,tcp/80,deny,1" for n in range(5)), "10.0.0.0/8,any,tcp/80,allow,90"),
    ),
    ("usage.rule-order", "cannot tell", zoned(f"-A INPUT {SSH} -j ACCEPT")),
    ("system.updates", "fail", gate("about { build 5.1, offered-build 5.2 }")),
    ("system.updates", "fail", hut(', "updates-itself": false')),
    ("system.updates", "pass", gate("about { build 5.1, offered-build 5.1 }")),
    ("system.updates", "pass", hut()),
    ("system.updates", "cannot tell", zoned("")),
    ("system.unsaved", "fail", stored(DUMP.replace("-i lo", "-p tcp"))),
    ("system.unsaved", "pass", stored(SAME)),
    ("system.unsaved", "cannot tell", host()),
    ("system.start-up", "fail", host(units=UNITS % "disabled")),
    ("system.start-up", "pass", host(units=UNITS % "enabled")),
    ("system.start-up", "cannot tell", host()),
    ("system.spoofing", "fail", host(sysctl="net.ipv4.conf.eth0.rp_filter = 0\n")),
    ("system.spoofing", "pass", host(sysctl="net.ipv4.conf.all.rp_filter = 2\nnet.ipv4.conf.eth0.rp_filter = 0\n")),
    ("system.spoofing", "cannot tell", host()),
    ("system.spoofing", "not applicable", gate("")),
    ("system.redirects", "fail", host(sysctl="net.ipv6.conf.all.accept_redirects = 1\n")),
    ("system.redirects", "pass", host(sysctl=STILL)),
    ("system.redirects", "cannot tell", host()),
    ("system.end-of-support", "fail", release("Debian GNU/Linux 10 (buster)")),
    ("system.end-of-support", "fail", release("Ubuntu 18.04.6 LTS")),
    ("system.end-of-support", "pass", release("Debian GNU/Linux 13 (trixie)")),
    ("system.end-of-support", "cannot tell", release("Something of our own 3")),
    ("system.end-of-support", "cannot tell", host()),
    ("system.source-routing", "fail", host(sysctl="net.ipv4.conf.all.accept_source_route = 1\n")),
    ("system.source-routing", "pass", host(sysctl=STRAIGHT)),
    ("system.source-routing", "cannot tell", host()),
    ("deny.half-open", "fail", perimeter("")),
    ("deny.half-open", "fail", host(sysctl="net.ipv4.tcp_syncookies = 0\n")),
    ("deny.half-open", "pass", host(sysctl="net.ipv4.tcp_syncookies = 1\n")),
    ("deny.half-open", "cannot tell", zoned("")),
    ("deny.forwarding", "fail", replace(host(sysctl="net.ipv4.ip_forward = 1\n"), rulebases=())),
    ("deny.forwarding", "pass", replace(host(sysctl="net.ipv4.ip_forward = 0\n"), rulebases=())),
    ("deny.forwarding", "pass", zoned(EST)),
    ("deny.forwarding", "cannot tell", bare()),
    ("logging.management", "fail", zoned(f"-A INPUT {SSH} -j ACCEPT")),
    ("logging.management", "pass", zoned(f"-A INPUT {SSH} -j LOG\n-A INPUT {SSH} -j ACCEPT")),
    ("logging.management", "not applicable", zoned(f"-A INPUT {WEB} -m conntrack --ctstate INVALID -j ACCEPT")),
    ("logging.management", "cannot tell", bare()),
    ("logging.rate", "fail", zoned("-A INPUT -m limit --limit 2/hour -j LOG")),
    ("logging.rate", "pass", zoned("-A INPUT -m limit --limit 5/min -j LOG")),
    ("logging.rate", "not applicable", zoned("")),
    (
        "logging.noise",
        "fail",
        perimeter("", entry("pages", "10.0.4.9", "443", "<noted>yes</noted><seen packets='900'/>")),
    ),
    ("logging.noise", "fail", perimeter("<lands><rule title='x'><land>AQ</land><noted>yes</noted></rule></lands>")),
    (
        "logging.noise",
        "pass",
        perimeter("", entry("pages", "10.0.4.9", "443", "<noted>no</noted><seen packets='900'/>")),
    ),
    ("logging.noise", "cannot tell", zoned(f"-A FORWARD -i eth0 {WEB} -j LOG")),
]


@pytest.mark.parametrize(
    ("check", "expected", "device"), CASES, ids=[f"{c}-{e}-{i}" for i, (c, e, _) in enumerate(CASES)]
)
def test_outcomes(check: str, expected: str, device: Device) -> None:
    assert_outcome(check, expected, device)


def assert_outcome(check: str, expected: str, device: Device, estate: Estate | None = None) -> None:
    """A check says what is expected of a device, in sentences and with lines."""
    (one,) = [c for c in CATALOGUE if c.id == check]
    estate = estate or Estate((device,), AS_OF)
    result = run(estate, [one], raise_crashes=True)
    (outcome,) = [o for o in result.outcomes if o.device == device.name]
    findings = [f for f in result.findings if f.device == device.name]
    assert outcome.outcome == expected, (outcome.because, [str(f.detail) for f in findings])
    assert outcome.because
    assert bool(findings) == (outcome.outcome is Outcome.FAIL)
    for finding in findings:
        assert finding.detail.endswith(".")
        assert "{" not in finding.detail + finding.fix
        assert all(evidence.text for evidence in finding.evidence), "every line of evidence shows its text"


def test_hidden_rules_are_another_checks_matter() -> None:
    device = gate("about { counting-since 2026-01-01 }\n" + SHADOW)
    (one,) = [c for c in CATALOGUE if c.id == "usage.never-hit"]
    assert not run(Estate((device,), AS_OF), [one]).findings
    device = gate(HITS % ("2026-01-01", "0"))
    (finding,) = run(Estate((device,), AS_OF), [one]).findings
    assert "there was no such traffic" in finding.detail


@pytest.mark.parametrize(
    ("releases", "expected"),
    [
        (("Veskara zone gateway: 5.2",), "fail"),
        (("veskara: 5.1",), "pass"),
        (("veskara: 5.1.0.1",), "fail"),
        (("castrevo: 9",), "cannot tell"),
        ((), "cannot tell"),
    ],
)
def test_releases_are_compared_with_the_auditors_table(releases: tuple[str, ...], expected: str) -> None:
    from aiguille.baseline import Baseline

    (one,) = [c for c in CATALOGUE if c.id == "system.old-firmware"]
    chosen = Baseline.of([one], {one.id: {"releases": releases}})
    estate = Estate((gate("about { build 5.1.0 }"),), AS_OF)
    assert [o.outcome for o in run(estate, chosen).outcomes] == [expected]


def test_the_odd_one_out_among_siblings_is_named() -> None:
    base = "clock { asks [ 10.0.0.2 ] }\ndoors { misses-before-lock %s }\npassages { passage rest { then swallow, note yes } %s }"
    devices = [replace(gate(base % ("3", "")), name=f"g{n}", tags=("hut",)) for n in range(3)]
    odd = replace(gate(base % ("9", "passage own { then let }")), name="odd", tags=("hut",))
    estate = Estate((*devices, odd), AS_OF)
    (one,) = [c for c in CATALOGUE if c.id == "system.drift"]
    result = run(estate, [one])
    assert [o.outcome for o in result.outcomes] == ["pass", "pass", "pass", "fail"]
    (finding,) = result.findings
    assert "failed logins until lockout is 9.0 instead of 3.0" in finding.detail
    assert "rule 'own' of passages is accept instead of none" in finding.detail
    # A tag alone makes nobody siblings, and two devices cannot tell which of them is odd.
    own = "passages { passage p%d { then let } passage q%d { then let } }"
    strangers = [replace(gate(own % (n, n)), name=f"s{n}", tags=("x",)) for n in range(4)]
    assert {o.outcome.value for o in run(Estate(tuple(strangers), AS_OF), [one]).outcomes} == {"not applicable"}
    assert [o.outcome for o in run(Estate((devices[0], replace(odd, tags=())), AS_OF), [one]).outcomes] == [
        "not applicable"
    ] * 2
    # What one export describes was meant to be alike, tagged or not.
    untagged = tuple(replace(d, tags=()) for d in (*devices, odd))
    assert "of export" in run(Estate(untagged, AS_OF), [one]).findings[0].detail

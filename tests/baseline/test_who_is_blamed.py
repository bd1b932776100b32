"""What a check says of a rule set, to the severity, the lines it blames and the packet: not only that it fails."""

from __future__ import annotations

import re

import pytest

from aiguille.baseline import CATALOGUE
from aiguille.baseline.running import run
from aiguille.model import Device, Estate
from tests.baseline.devices import EST, SSH, WEB, three, zoned
from tests.baseline.test_settings_checks import AS_OF
from tests.helpers import linux

MAIL = "-p tcp -m tcp --dport 25"
PING = "-p icmp -m icmp --icmp-type 8"
RATE = "-m limit --limit 3/min"
RDP = "-p tcp -m tcp --dport 3389"
FORWARD = (
    "*nat\n:PREROUTING ACCEPT [0:0]\n"
    "-A PREROUTING -i eth0 -p tcp -m tcp --dport 2222 -j DNAT --to-destination 10.0.1.9:22\nCOMMIT\n"
)

CASES: list[tuple[str, Device, list[tuple[str, list[str], str]]]] = [
    # check, device; for each finding its severity, what its lines say in order, and what its packet is like
    ("rules.no-effect", zoned(f"-A INPUT -i eth0 {SSH} {RATE} -j ACCEPT", policies="ADA"),
     [("medium", [f"{SSH} {RATE}", ":INPUT ACCEPT"], "to .*:22 entering eth0")]),
    ("rules.no-effect", zoned(f"-A INPUT {PING} {RATE} -j ACCEPT\n-A INPUT -p icmp -j ACCEPT"),
     [("low", [f"{PING} {RATE}", "-p icmp -j ACCEPT"], "icmp type 8")]),
    ("rules.no-effect", zoned(f"-A INPUT {SSH} {RATE} -j ACCEPT\n-A INPUT {SSH} -j DROP", policies="ADA"), []),
    ("rules.no-effect", zoned(f"-A INPUT {SSH} {RATE} -j ACCEPT\n-A INPUT -s 10.0.1.0/24 {SSH} -j ACCEPT"), []),
    ("rules.no-effect", zoned(f"-A INPUT -s 203.0.113.9 {SSH} -j ACCEPT\n-A INPUT {SSH} -j ACCEPT"),
     [("medium", [f"-s 203.0.113.9 {SSH}", f"-A INPUT {SSH} -j ACCEPT"], "")]),
    ("rules.contradicted", zoned(f"-A INPUT -i eth0 -p udp -m udp --dport 67:68 -j ACCEPT\n-A INPUT -s 198.51.100.0/24 -j DROP\n"
                                 f"-A INPUT {WEB} -j ACCEPT"), []),
    ("rules.contradicted", zoned(f"-A INPUT {WEB} -j ACCEPT\n-A INPUT -s 198.51.100.0/24 -j DROP"),
     [("medium", ["-s 198.51.100.0/24", WEB], "from 198.51.100.* to .*:443")]),
    ("rules.contradicted", zoned(f"-A INPUT -s 198.51.100.7 {WEB} -j ACCEPT\n-A INPUT -s 198.51.100.0/24 -j DROP"), []),
    ("rules.outgoing-mail", zoned(f"-A FORWARD -s 10.0.1.25 -i eth1 -o eth0 {MAIL} -j ACCEPT"), []),
    ("rules.outgoing-mail", zoned(f"-A FORWARD -s 10.0.1.25 -i eth1 -o eth0 {MAIL} -j ACCEPT\n-A FORWARD -i eth1 -o eth0 -j ACCEPT"),
     [("medium", ["-A FORWARD -i eth1 -o eth0 -j ACCEPT"], "to .*:25 .*leaving eth0")]),
    ("rules.outgoing-mail", three(f"-A FORWARD -i eth1 -o eth0 {MAIL} -j ACCEPT\n-A FORWARD -i eth2 -o eth0 -j ACCEPT"),
     [("medium", [f"-i eth1 -o eth0 {MAIL}"], "entering eth1"), ("medium", ["-i eth2 -o eth0 -j ACCEPT"], "entering eth2")]),
    ("rules.any-to-any", three("-A INPUT -i eth2 -j ACCEPT"), [("high", ["-A INPUT -i eth2"], "entering eth2")]),
    ("rules.any-to-any", three("-A INPUT -i eth1 -j ACCEPT"), [("medium", ["-A INPUT -i eth1"], "entering eth1")]),
    ("rules.any-to-any", three("-A FORWARD -i eth0 -o eth1 -j ACCEPT"),
     [("critical", ["-i eth0 -o eth1"], "entering eth0 leaving eth1")]),
    ("rules.any-to-any", three("-A FORWARD -i eth1 -o eth0 -j ACCEPT"), [("low", ["-i eth1 -o eth0"], "leaving eth0")]),
    ("rules.any-to-any", three("-A FORWARD -o eth0 -j ACCEPT"), [("low", ["-o eth0"], "leaving eth0")]),
    ("rules.any-to-any", three("-A FORWARD -o eth1 -j ACCEPT"), [("critical", ["-o eth1"], "leaving eth1")]),
    ("rules.any-to-any", three("-A INPUT -j ACCEPT"), [("high", ["-A INPUT -j ACCEPT"], "")]),
    ("rules.any-service", three("-A INPUT -d 192.0.2.1 -i eth2 -p tcp -j ACCEPT"), [("high", ["-i eth2 -p tcp"], "")]),
    ("rules.any-service", three("-A INPUT -d 192.0.2.1 -i eth1 -p tcp -j ACCEPT"), [("medium", ["-i eth1 -p tcp"], "")]),
    ("rules.any-source", zoned(f"-A FORWARD -i eth0 -o eth1 {WEB} -j ACCEPT"), [("high", [WEB], "entering eth0 leaving eth1")]),
    ("rules.any-source", zoned(f"-A FORWARD -i eth0 -o eth1 {PING} -j ACCEPT"), [("low", [PING], "icmp type 8")]),
    ("rules.any-source", zoned("-A FORWARD -d 10.0.1.9 -i eth0 -o eth1 -p udp -m udp --dport 51820 -j ACCEPT"),
     [("medium", ["--dport 51820"], "udp .*:51820")]),
    ("rules.any-source", zoned(f"-A FORWARD -s 203.0.113.9 -i eth0 -o eth1 {WEB} -j ACCEPT"), []),
    ("rules.dangerous-service", zoned(f"-A FORWARD -i eth0 -o eth1 {RDP} -j ACCEPT"), [("high", [RDP], "to .*:3389")]),
    ("rules.dangerous-service", zoned(f"-A FORWARD -i eth0 -o eth1 {SSH} -j ACCEPT"), [("medium", [SSH], "to .*:22")]),
    ("rules.dangerous-service", zoned("-A FORWARD -i eth0 -o eth1 -p tcp -m tcp --dport 554 -j ACCEPT"),
     [("medium", ["--dport 554"], "to .*:554")]),
    ("rules.dangerous-service", zoned("-A FORWARD -i eth1 -o eth0 -p tcp -m tcp --dport 143 -j ACCEPT"), []),
    ("rules.dangerous-service", zoned("-A FORWARD -i eth0 -o eth1 -m conntrack --ctstate DNAT -j ACCEPT", nat=FORWARD),
     [("medium", ["--to-destination 10.0.1.9:22"], "")]),
    ("access.exposed-service", zoned("-A INPUT -i eth0 -p tcp -m multiport --dports 110,143 -j ACCEPT"),
     [("medium", ["--dports 110,143"], "entering eth0")]),
    ("access.exposed-service", zoned("-A INPUT -i eth0 -p tcp -m tcp --dport 3306 -j ACCEPT"),
     [("high", ["--dport 3306"], "to .*:3306 entering eth0")]),
    ("access.exposed-service", zoned("-A INPUT -i eth0 -s 203.0.113.0/24 -p tcp -m tcp --dport 3306 -j ACCEPT"),
     [("medium", ["--dport 3306"], "from 203.0.113")]),
    ("access.exposed-service", zoned("-A INPUT -i eth0 -s 203.0.113.9 -p tcp -m tcp --dport 3306 -j ACCEPT"), []),
    ("logging.refusals", zoned("-A INPUT -j f2b-sshd\n-A f2b-sshd -s 203.0.113.77 -j DROP\n-A INPUT -j LOG\n-A FORWARD -j LOG",
                               chains=("f2b-sshd",)), []),
    ("logging.refusals", zoned("-A INPUT -j odd\n-A odd -s 203.0.113.77 -j DROP\n-A INPUT -j LOG\n-A FORWARD -j LOG", chains=("odd",)),
     [("low", ["-A odd -s 203.0.113.77"], "from 203.0.113.77")]),
    ("system.spoofing", linux({"sysctl.txt": "net.ipv4.conf.all.rp_filter = 0\n"}),
     [("low", ["net.ipv4.conf.all.rp_filter = 0"], "")]),
    ("system.spoofing", linux({"sysctl.txt": "net.ipv4.conf.all.rp_filter = 2\n"}), []),
    ("system.spoofing", linux({"sysctl.txt": "net.ipv4.conf.all.rp_filter = 0\n"},
                              "*raw\n:PREROUTING ACCEPT [0:0]\n-A PREROUTING -m rpfilter --invert -j DROP\nCOMMIT\n"
                              f"*filter\n:INPUT DROP [0:0]\n-A INPUT {EST}\nCOMMIT\n"), []),
    ("system.spoofing", linux({"sysctl.txt": "net.ipv4.conf.all.rp_filter = 0\n"},
                              "*raw\n:PREROUTING ACCEPT [0:0]\n-A PREROUTING -p tcp -m rpfilter --invert -j DROP\nCOMMIT\n"
                              f"*filter\n:INPUT DROP [0:0]\n-A INPUT {EST}\nCOMMIT\n"),
     [("low", ["net.ipv4.conf.all.rp_filter = 0"], "")]),
    ("deny.bogons", zoned(f"-A INPUT -i eth0 {WEB} -j ACCEPT",
                          nat="*raw\n:PREROUTING ACCEPT [0:0]\n-A PREROUTING -p udp -m rpfilter --invert -j DROP\nCOMMIT\n"),
     [("low", [WEB], "from (10|172|192)")]),
    ("deny.bogons", zoned(f"-A INPUT -i eth0 {WEB} -j ACCEPT",
                          nat="*raw\n:PREROUTING ACCEPT [0:0]\n-A PREROUTING -i eth0 -m rpfilter --invert -j DROP\nCOMMIT\n"), []),
    ("deny.to-device", linux({"sysctl.txt": "net.ipv6.conf.all.disable_ipv6 = 1\n",
                              "rules.v6": "*filter\n:INPUT ACCEPT [0:0]\nCOMMIT\n"}), []),
    ("deny.guests-inside", three(f"-A FORWARD -i eth2 -o eth1 {RDP} -j ACCEPT"), [("high", [RDP], "entering eth2 leaving eth1")]),
    ("deny.guests-inside", three("-A FORWARD -i eth2 -o eth1 -p tcp -m tcp --dport 8000 -j ACCEPT"), [("medium", ["8000"], "")]),
    ("deny.guests-inside", three("-A FORWARD -i eth2 -o eth1 -p tcp -m tcp --dport 9100 -j ACCEPT"), [("low", ["9100"], "")]),
]  # fmt: skip


@pytest.mark.parametrize(("check", "device", "expected"), CASES, ids=[f"{n}-{one[0]}" for n, one in enumerate(CASES)])
def test_findings_to_the_line(check: str, device: Device, expected: list[tuple[str, list[str], str]]) -> None:
    (one,) = [c for c in CATALOGUE if c.id == check]
    found = run(Estate((device,), AS_OF), [one], raise_crashes=True).findings
    assert [f.severity.value for f in found] == [severity for severity, _, _ in expected], [f.detail for f in found]
    for finding, (_, lines, packet) in zip(found, expected, strict=True):
        said = [" ".join(evidence.text) for evidence in finding.evidence]
        assert len(said) >= len(lines), said
        for words, line in zip(lines, said, strict=False):
            assert words in line, f"{words!r} is not in {line!r}"
        told = finding.proof.packet.sentence() if finding.proof is not None else ""
        assert re.search(packet, told), f"{packet!r} is not like {told!r}"

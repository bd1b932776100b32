"""Where the real system and what is modelled of it part: certain only where nothing else can happen.

Each case is what the kernel or the program does (ipset(8), iptables-extensions(8), nft(8)); "open" where that depends on what
the export does not state.
"""

from __future__ import annotations

from pathlib import Path

import pytest

import aiguille

SSH = "tcp from 203.0.113.9:41000 to 192.0.2.10:22 entering eth0"
INPUT = "*filter\n:INPUT DROP [0:0]\n%s\nCOMMIT\n"
MATCH = INPUT % "-A INPUT -m set --match-set s %s -j ACCEPT"
HASH = "create s hash:%s family inet hashsize 1024 maxelem 65536%s\n"
MARKED = (
    "table inet f {\n chain p {\n  type filter hook prerouting priority mangle; policy accept;\n  %s\n }\n"
    " chain i {\n  type filter hook input priority filter; policy drop;\n  meta mark 0x1 accept\n }\n}\n"
)
DNATED = (
    "table ip n {\n chain p {\n  type nat hook prerouting priority dstnat; policy accept;\n  %s\n }\n}\n"
    "table ip f {\n chain f {\n  type filter hook forward priority filter; policy drop;\n  ct status dnat accept\n }\n}\n"
)
RETURNS = "*filter\n:INPUT ACCEPT [0:0]\n:X - [0:0]\n-A INPUT -j X\n-A X -m addrtype --dst-type LOCAL -j RETURN\n-A X -j DROP\nCOMMIT\n"


def sets(kind: str, entries: str, roles: str, more: str = "") -> dict[str, str]:
    create = f"create s {kind}{more}\n" if kind.startswith("bitmap") else HASH % (kind, more)
    return {"h.ipset": create + entries, "h.v4": MATCH % roles}


CASES: list[tuple[str, dict[str, str], str, str]] = [
    ("a netmask widens entries", sets("ip", "add s 192.0.2.0\n", "src", " netmask 24"), SSH.replace("203.0.113.9", "192.0.2.77"), "accept"),
    ("and no further", sets("ip", "add s 192.0.2.0\n", "src", " netmask 24"), SSH, "drop"),
    ("a bitmask is not modelled", sets("ip", "add s 192.0.2.0\n", "src", " bitmask 255.255.0.255"), SSH, "open"),
    ("nor is an option nobody knows", sets("ip", "add s 192.0.2.0\n", "src", " oddly 7"), SSH, "open"),
    ("an entry that begins names", sets("net,iface", "add s 203.0.113.0/24,eth wildcard\n", "src,src"), SSH, "accept"),
    ("a port of a bridge", sets("net,iface", "add s 203.0.113.0/24,physdev:eth0\n", "src,src"), SSH, "open"),
    ("of nested networks the narrowest counts", sets("net,iface", "add s 0.0.0.0/0,eth0\nadd s 203.0.113.0/24,eth1\n", "src,src"), SSH, "open"),
    ("an entry with a mark", sets("ip", "add s 203.0.113.9 skbmark 0x1\n", "src"), SSH, "open"),
    ("counters of an entry", sets("ip", "add s 203.0.113.9 packets 7 bytes 99\n", "src"), SSH, "accept"),
    ("a bitmap of ports holds TCP", sets("bitmap:port", "add s 22\n", "dst", " range 0-1024"), SSH, "accept"),
    ("and no SCTP", sets("bitmap:port", "add s 22\n", "dst", " range 0-1024"), SSH.replace("tcp", "sctp"), "drop"),
    ("ipip is protocol 94", {"h.v4": INPUT % "-A INPUT -p ipip -j ACCEPT"}, "ipip from 203.0.113.9 to 192.0.2.10 entering eth0", "accept"),
    ("and ipencap is 4", {"h.v4": INPUT % "-A INPUT -p ipencap -j ACCEPT"}, "ipip from 203.0.113.9 to 192.0.2.10 entering eth0", "drop"),
    ("a mark out of the connection", {"h.v4": "*mangle\n:PREROUTING ACCEPT [0:0]\n-A PREROUTING -j CONNMARK --restore-mark\nCOMMIT\n"
      + INPUT % "-A INPUT -m mark --mark 0x1 -j ACCEPT"}, SSH, "open"),
    ("a mark of the connection", {"h.v4": INPUT % "-A INPUT -m connmark --mark 0x1 -j ACCEPT"}, SSH, "open"),
    ("a mark out of a map", {"h.nft": MARKED % "meta mark set tcp dport map { 22 : 0x1, 80 : 0x2 }"}, SSH, "open"),
    ("a mark by way of the connection", {"h.nft": MARKED % "meta mark set ct mark"}, SSH, "open"),
    ("a mark that is told", {"h.nft": MARKED % "meta mark set 0x1"}, SSH, "accept"),
    ("a translation by maps", {"h.nft": DNATED % "dnat to tcp dport map { 22 : 10.0.0.5 } : tcp dport map { 22 : 80 }"},
      SSH + " leaving eth1", "accept"),
    ("a redirection sends nothing on", {"h.nft": DNATED % "redirect"}, "tcp from 203.0.113.9:1 to 10.0.0.5:80 entering eth0 leaving eth1 state established", "accept"),
    ("local, or the last address of a network", {"h.v4": RETURNS}, "tcp from 203.0.113.9:40000 to 192.0.2.3:22 entering eth0", "open"),
    ("an address that is the last of no network", {"h.v4": RETURNS}, SSH, "accept"),
    ("multicast tells by itself", {"h.v4": RETURNS}, "udp from 203.0.113.9:5353 to 224.0.0.251:5353 entering eth0", "drop"),
]  # fmt: skip


@pytest.mark.parametrize(("name", "files", "packet", "expected"), CASES, ids=[case[0] for case in CASES])
def test_certain_means_certain(name: str, files: dict[str, str], packet: str, expected: str, tmp_path: Path) -> None:
    for file, text in files.items():
        (tmp_path / file).write_text(text)
    estate = aiguille.read([tmp_path / next(iter(files)) if len(files) == 1 else tmp_path])
    assert not estate.failures
    answer = aiguille.probe(estate, packet)
    assert ("open" if not answer.certain else answer.verdicts[0].verdict.value) == expected


def test_a_thousand_rules_that_record_and_do_not_decide(tmp_path: Path) -> None:
    rules = (
        "-A INPUT -p tcp -j LOG\n-A INPUT -m limit --limit 3/min -j LOG\n" * 1000
        + "-A INPUT -p tcp -m tcp --dport 22 -j ACCEPT"
    )
    (tmp_path / "h.v4").write_text(INPUT % rules)
    answer = aiguille.probe(aiguille.read(tmp_path / "h.v4"), SSH)
    assert (answer.verdicts[0].verdict.value, answer.certain) == ("accept", True)

"""Where the real system and what is modelled of it part: certain only where nothing else can happen.

Each case is what the kernel or the program does (ipset(8), iptables-extensions(8), nft(8)); "open" where that depends on what
the export does not state.
"""

from __future__ import annotations

from json import dumps
from pathlib import Path
from typing import Any

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
FORWARDED = (
    "table ip f {\n chain f {\n  type filter hook forward priority filter; policy accept;\n  %s\n"
    "  ct state vmap { invalid : drop, untracked : drop }\n }\n}\n"
)
INVALID = "icmp type 0 code 0 from 10.0.1.6 to 10.0.2.3 entering v1 leaving v2 state invalid"
SIX = SSH.replace("203.0.113.9:", "[2001:db8::9]:").replace("192.0.2.10:", "[2001:db8:1::10]:")
JSON: dict[str, list[Any]] = {"nftables": [
    {"table": {"family": "ip", "name": "n"}}, {"table": {"family": "ip", "name": "f"}},
    {"chain": {"family": "ip", "table": "n", "name": "p", "type": "nat", "hook": "prerouting", "prio": -100, "policy": "accept"}},
    {"chain": {"family": "ip", "table": "f", "name": "f", "type": "filter", "hook": "forward", "prio": 0, "policy": "drop"}},
    {"set": {"family": "ip", "table": "f", "name": "s", "type": "ipv4_addr", "elem": ["203.0.113.9"]}},
]}  # fmt: skip

CALLED = (
    "*nat\n:PREROUTING ACCEPT [0:0]\n:X - [0:0]\n-A PREROUTING -m addrtype --dst-type LOCAL -j X\n"
    "-A X -p tcp -m tcp --dport 22 -j %s --to-destination 10.7.0.3\nCOMMIT\n"
    "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n-A FORWARD -o br0 -j ACCEPT\nCOMMIT\n"
)
DESCRIBED = {
    "ip-addr.json": dumps(
        [
            {"ifname": name, "flags": ["UP"], "addr_info": [{"family": "inet", "local": local, "prefixlen": 24}]}
            for name, local in (("eth0", "192.0.2.10"), ("br0", "10.7.0.1"))
        ]
    ),
    "ip-route.json": dumps([{"dst": "default", "gateway": "192.0.2.1", "dev": "eth0"}]),
}


def json(*rules: tuple[str, str, list[object]]) -> dict[str, str]:
    """A listing in JSON: table, chain and expressions of each rule."""
    made = [{"rule": {"family": "ip", "table": t, "chain": c, "expr": expr}} for t, c, expr in rules]
    return {"h.json": dumps({"nftables": [*JSON["nftables"], *made]})}


DNAT_STATUS = {"match": {"op": "in", "left": {"ct": {"key": "status"}}, "right": "dnat"}}
OF_SET = {"match": {"op": "==", "left": {"payload": {"protocol": "ip", "field": "saddr"}}, "right": "@s"}}
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
    ("a netmask of a bitmap", sets("bitmap:ip", "add s 203.0.113.0\n", "src", " range 203.0.0.0/16 netmask 24"), SSH, "accept"),
    ("marks of entries under a mask", sets("ip,mark", "add s 203.0.113.9,0x1\n", "src,src", " markmask 0x1"), SSH, "open"),
    ("a set of which rules make marks", sets("ip", "add s 203.0.113.9\n", "src", " skbinfo"), SSH, "open"),
    ("a set that rules fill", {"h.ipset": HASH % ("ip", ""), "h.v4": INPUT % "-A INPUT -p udp -j SET --add-set s src\n-A INPUT -m set --match-set s src -j ACCEPT"}, SSH, "open"),
    ("a set that rules empty", {"h.ipset": HASH % ("ip", "") + "add s 203.0.113.9\n", "h.v4": INPUT % "-A INPUT -p udp -j SET --del-set s src\n-A INPUT -m set --match-set s src -j ACCEPT"}, SSH, "open"),
    ("a mark out of a set", {"h.ipset": HASH % ("ip", ""), "h.v4": "*mangle\n:PREROUTING ACCEPT [0:0]\n-A PREROUTING -j SET --map-set s src --map-mark\nCOMMIT\n"
      + INPUT % "-A INPUT -m mark --mark 0x1 -j ACCEPT"}, SSH, "open"),
    ("a match turned round for exceptions", {"h.ipset": HASH % ("net", "") + "add s 203.0.113.0/24 nomatch\n", "h.v4": MATCH % "src --return-nomatch"}, SSH, "open"),
    ("types of one interface's addresses", {"h.v4": INPUT % "-A INPUT -m addrtype --dst-type UNICAST --limit-iface-in -j ACCEPT"}, SSH, "open"),
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
    ("a translation without its words", json(("n", "p", [{"xt": {"type": "target", "name": "DNAT"}}]), ("f", "f", [DNAT_STATUS, {"accept": None}])),
      SSH + " leaving eth1", "open"),
    ("a set that rules of a listing in JSON fill", json(("f", "f", [{"set": {"op": "add", "elem": {"payload": {"protocol": "ip", "field": "saddr"}}, "set": "@s"}}]),
      ("f", "f", [OF_SET, {"accept": None}])), SSH + " leaving eth1", "open"),
    ("a set that no rule fills", json(("f", "f", [OF_SET, {"accept": None}])), SSH + " leaving eth1", "accept"),
    ("a zone makes an invalid packet new", {"h.nft": FORWARDED % "ct zone set 0"}, INVALID, "accept"),
    ("an invalid packet without it", {"h.nft": FORWARDED % "counter"}, INVALID, "drop"),
    ("not tracked any more", {"h.nft": FORWARDED.replace("invalid : drop, ", "") % "notrack"}, INVALID, "drop"),
    ("tracked before it is asked for", {"h.nft": FORWARDED.replace("untracked : drop", "untracked : drop, new : accept") % "notrack"},
      "tcp from 203.0.113.9:41000 to 10.0.0.5:22 entering eth0 leaving eth1", "accept"),
    ("no interface out before routing", {"h.nft": "table ip f {\n chain p {\n  type filter hook prerouting priority -150; policy accept;\n"
      '  oifname "eth1" drop\n }\n}\n'}, SSH + " leaving eth1", "accept"),
    ("and so any but a name", {"h.nft": "table ip f {\n chain p {\n  type filter hook prerouting priority -150; policy accept;\n"
      '  iifname . oifname != { "eth0" . "eth1" } drop\n }\n}\n'}, SSH + " leaving eth1", "drop"),
    ("every IPv6 address but multicast is a unicast", {"h.v6": INPUT % "-A INPUT -m addrtype --dst-type UNICAST -j ACCEPT"}, SIX, "accept"),
    ("no IPv6 address is both", {"h.v6": INPUT % "-A INPUT -m addrtype --dst-type UNICAST,MULTICAST -j ACCEPT"}, SIX, "open"),
    ("its own and a unicast", {"h.v6": INPUT % "-A INPUT -m addrtype --dst-type UNICAST,LOCAL -j ACCEPT"}, SIX.replace("2001:db8:1::10", "ff02::1"), "drop"),
    ("local, or the last address of a network", {"h.v4": RETURNS}, "tcp from 203.0.113.9:40000 to 192.0.2.3:22 entering eth0", "open"),
    ("an address that is the last of no network", {"h.v4": RETURNS}, SSH, "accept"),
    ("translated for its own address", {"h.v4": CALLED % "DNAT", **DESCRIBED}, SSH, "accept"),
    ("an address that is not its own", {"h.v4": CALLED % "DNAT", **DESCRIBED}, SSH.replace("192.0.2.10", "192.0.2.77"), "drop"),
    ("by a called chain sent on nobody knows where", {"h.v4": CALLED % "SEND", **DESCRIBED}, SSH, "open"),
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

"""Packets that prove findings can exist, and fare as the finding says when somebody sends them."""

from __future__ import annotations

import json

import pytest

import aiguille
from aiguille.packets import Packet

RULES = """table inet fw {
	chain input {
		type filter hook input priority filter; policy drop;
		iifname "lo" accept
		ct state established,related accept
		iifname { "lan0", "vpn0" } ip saddr { 10.20.0.16/28, 10.99.0.0/24 } tcp dport 22 accept
		tcp dport 8006 accept
		ip saddr 10.0.0.0/8 udp dport 161 accept
		iifname { "lan0", "dmz0" } udp dport { 53, 67 } accept
	}
	chain forward {
		type filter hook forward priority filter; policy drop;
		ct state established,related accept
		iifname "lan0" oifname "wan0" accept
		iifname "dmz0" ip daddr 10.20.0.9 tcp dport 5432 accept
		iifname "wan0" ip daddr 10.30.0.5 tcp dport { 80, 443 } accept
		ct status dnat accept
		iifname "vpn0" oifname "lan0" accept
	}
	chain output {
		type filter hook output priority filter; policy accept;
	}
}
table ip nat {
	chain prerouting {
		type nat hook prerouting priority dstnat; policy accept;
		iifname "wan0" tcp dport 2222 dnat to 10.20.0.15:22
		iifname "wan0" tcp dport 443 dnat to 10.30.0.5
	}
}
"""
OWN = {"wan0": "203.0.113.2/29", "lan0": "10.20.0.1/24", "dmz0": "10.30.0.1/24", "vpn0": "10.99.0.1/24"}
LISTEN = (("udp", "UNCONN", 53), ("udp", "UNCONN", 161), ("tcp", "LISTEN", 22), ("tcp", "LISTEN", 8006))
FROM = "from 198.51.100.77:40000"


@pytest.fixture(scope="module")
def packets(tmp_path_factory: pytest.TempPathFactory) -> dict[str, list[Packet]]:
    place = tmp_path_factory.mktemp("depot")
    (place / "nft-ruleset.txt").write_text(RULES, encoding="utf-8")
    listed = [
        {"ifname": name, "flags": ["UP"], "addr_info": [{"family": "inet", "local": at, "prefixlen": int(length)}]}
        for name, (at, length) in ((name, own.split("/")) for name, own in OWN.items())
    ]
    (place / "ip-addr.json").write_text(json.dumps(listed), encoding="utf-8")
    route = [{"dst": "default", "gateway": "203.0.113.1", "dev": "wan0", "flags": []}]
    (place / "ip-route.json").write_text(json.dumps(route), encoding="utf-8")
    sockets = [f"{name} {how} 0 0 0.0.0.0:{port} 0.0.0.0:*\n" for name, how, port in LISTEN]
    (place / "ss-tuln.txt").write_text("".join(sockets), encoding="utf-8")
    out: dict[str, list[Packet]] = {}
    for one in aiguille.audit(aiguille.read([place])).findings:
        if one.proof is not None:
            assert one.proof.certain, one.detail
            out.setdefault(one.check, []).append(one.proof.packet)
    return out


@pytest.mark.parametrize(
    ("check", "sentence"),
    [
        # As it is sent, not as the filter sees it behind the translation.
        ("rules.any-source", f"tcp {FROM} to 203.0.113.2:2222 entering wan0"),
        # From a network of the interface it enters by, to one behind the interface it leaves by; never from the device's own address.
        ("access.no-source-restriction", "udp from 10.30.0.20:40000 to 10.30.0.1:161 entering dmz0"),
        ("access.no-source-restriction", "tcp from 10.20.0.20:40000 to 10.20.0.1:22 entering lan0"),
        ("rules.any-to-any", "tcp from 10.99.0.20:40000 to 10.20.0.10:443 entering vpn0 leaving lan0"),
        ("rules.dangerous-service", "tcp from 10.30.0.20:40000 to 10.20.0.9:5432 entering dmz0 leaving lan0"),
        ("rules.published-service", f"tcp {FROM} to 203.0.113.2:443 entering wan0"),
        # The port that nobody waits at, not another of the rule.
        ("usage.no-listener", "udp from 10.30.0.20:40000 to 10.30.0.1:67 entering dmz0"),
        ("deny.from-device", "tcp from 203.0.113.2:40000 to 203.0.113.77:443 leaving wan0"),
    ],
)
def test_a_packet_is_one_somebody_could_send(packets: dict[str, list[Packet]], check: str, sentence: str) -> None:
    assert sentence in [one.sentence() for one in packets[check]]


def test_what_is_translated_is_no_proof_of_what_the_filter_does_with_others(packets: dict[str, list[Packet]]) -> None:
    """TCP 443 from outside goes to the web server whatever its destination: no such packet is refused."""
    assert not [one for one in packets["logging.refusals"] if one.in_interface == "wan0" and one.dport in (443, 2222)]

"""Sides that nobody states: what is guessed of them from the rules alone, and what is left open."""

from __future__ import annotations

from pathlib import Path

import pytest

import aiguille
from aiguille.analysis.sides import guess_sides
from aiguille.model import Side
from aiguille.readers import nftables
from aiguille.readers.files import decode
from tests.helpers import filter_table

HIDES = "-A POSTROUTING -o eth0 -j MASQUERADE"


@pytest.mark.parametrize(
    ("rules", "hides", "sides"),
    [
        # The only interface beside the one that hides addresses; not where there are two, nor a tunnel.
        ("-A FORWARD -i eth1 -o eth0 -j ACCEPT", HIDES, {"eth0": "outside", "eth1": "inside"}),
        ("-A FORWARD -i eth1 -o eth0 -j ACCEPT\n-A INPUT -i eth2 -j ACCEPT", HIDES, {"eth0": "outside"}),
        ("-A FORWARD -i wg0 -o eth0 -j ACCEPT", HIDES, {"eth0": "outside"}),
        ("-A FORWARD -i partner0 -o eth0 -j ACCEPT", HIDES, {"eth0": "outside"}),
        ("-A FORWARD -i eth1 -s 203.0.113.0/24 -j ACCEPT", HIDES, {"eth0": "outside"}),
        ("-A FORWARD -i eth1 -j ACCEPT", "", {}),
        # Hosts that accepting rules name, all private; what refusals name says nothing of who is there.
        ("-A INPUT -i eth1 -s 10.0.0.0/24 -j ACCEPT\n-A INPUT -i eth2 -j ACCEPT", HIDES, {"eth0": "outside", "eth1": "inside"}),
        ("-A FORWARD -o eth1 -d 10.0.0.9 -j ACCEPT\n-A INPUT -i eth2 -j ACCEPT", HIDES, {"eth0": "outside", "eth1": "inside"}),
        ("-A INPUT -i eth1 -s 10.0.0.0/8 -j DROP\n-A INPUT -i eth2 -j ACCEPT", HIDES, {"eth0": "outside"}),
        ("-A INPUT -i eth1 -s 203.0.113.9 -j ACCEPT\n-A INPUT -i eth1 -s 10.0.0.1 -j ACCEPT\n-A INPUT -i eth2 -j ACCEPT",
         HIDES, {"eth0": "outside"}),
        ("-A INPUT -i partner0 -s 10.0.0.0/24 -j ACCEPT\n-A INPUT -i eth2 -j ACCEPT", HIDES, {"eth0": "outside"}),
        ("-A INPUT -i eth1 -s 10.0.0.0/24 -j NFLOG\n-A INPUT -i eth2 -j ACCEPT", HIDES, {"eth0": "outside"}),
    ],
)  # fmt: skip
def test_sides_that_rules_show(rules: str, hides: str, sides: dict[str, str]) -> None:
    device = guess_sides(
        filter_table(rules, nat=f"*nat\n:POSTROUTING ACCEPT [0:0]\n{hides}\nCOMMIT\n" if hides else "")
    )
    assert {zone.interfaces[0]: zone.side.value for zone in device.zones if zone.side is not None} == sides
    assert all(zone.guessed for zone in device.zones)


def test_a_rule_that_records_what_it_lets_in_shows_who_is_there() -> None:
    text = (
        "table inet t {\n\tchain c {\n\t\ttype filter hook input priority 0; policy drop;\n"
        'iifname "eth1" ip saddr 10.0.0.0/24 log accept\niifname "eth2" accept\n\t}\n'
        '\tchain n {\n\t\ttype nat hook postrouting priority 100;\noifname "eth0" masquerade\n\t}\n}\n'
    )
    device = guess_sides(nftables.read([decode("ruleset", text.encode())], "box"))
    assert {zone.interfaces[0]: zone.side for zone in device.zones} == {"eth0": Side.OUTSIDE, "eth1": Side.INSIDE}


@pytest.mark.parametrize(
    ("addresses", "outside"),
    [
        ("eth0 UP 203.0.113.9/29\neth1 UP 10.4.0.1/24\n", ["eth0"]),
        ("eth0 UP 203.0.113.9/29 2001:db8::9/64\neth1 UP 10.4.0.1/24 fe80::1/64\neth2 UP 192.168.9.1/24\n", ["eth0"]),
        ("eth0 UP 203.0.113.9/29\neth1 UP 198.51.100.1/24\neth2 UP 10.4.0.1/24\n", []),
        ("eth0 UP 203.0.113.9/29\n", []),
        ("wg0 UP 203.0.113.9/29\neth1 UP 10.4.0.1/24\n", []),
        ("eth0 UP 10.9.0.9/29\neth1 UP 10.4.0.1/24\n", []),
    ],
)
def test_the_outside_that_public_addresses_show(addresses: str, outside: list[str], tmp_path: Path) -> None:
    (tmp_path / "rules.v4").write_text("*filter\n:INPUT DROP [0:0]\n-A INPUT -p tcp --dport 22 -j ACCEPT\nCOMMIT\n")
    (tmp_path / "shown.txt").write_text(addresses)
    (device,) = aiguille.read([tmp_path]).devices
    assert [n for zone in device.zones if zone.side is Side.OUTSIDE for n in zone.interfaces] == outside
    (tmp_path / "routes.txt").write_text("10.8.0.0/16 via 10.4.0.9 dev eth1\n")
    (device,) = aiguille.read([tmp_path]).devices
    assert not [zone for zone in device.zones if zone.side is Side.OUTSIDE], (
        "routes that lead nowhere else say otherwise"
    )

"""Members of sets from anywhere in a host's bundle serve whatever looks into them, and what runs is compared by the same ones."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from aiguille.analysis.edits import Edit, rule_edits
from aiguille.analysis.program import Programs
from aiguille.analysis.walk.probe import Prober
from aiguille.model import Device
from aiguille.packets import read_sentence
from tests.helpers import linux

DUMP = "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n%sCOMMIT\n"
LOOKS = "-A INPUT -p tcp -m tcp --dport 22 -m set --match-set office src -j ACCEPT\n"
SETS = "create office hash:net family inet hashsize 1024 maxelem 65536\nadd office 203.0.113.8/30\n"
SHOREWALL = {
    "etc/shorewall/zones": "fw firewall\nnet ipv4\n",
    "etc/shorewall/interfaces": "?FORMAT 2\nnet eth0\n",
    "etc/shorewall/policy": "all all DROP\n",
    "etc/shorewall/rules": "?SECTION NEW\nACCEPT net:+office $FW tcp 22\n",
    "etc/shorewall/shorewall.conf": "STARTUP_ENABLED=Yes\n",
}
UFW = {
    "etc/default/ufw": 'IPV6=no\nDEFAULT_INPUT_POLICY="DROP"\nDEFAULT_OUTPUT_POLICY="ACCEPT"\nDEFAULT_FORWARD_POLICY="DROP"\n',
    "etc/ufw/ufw.conf": "ENABLED=yes\nLOGLEVEL=low\n",
    "etc/ufw/before.rules": "*filter\n:ufw-before-input - [0:0]\n"
    + LOOKS.replace("INPUT", "ufw-before-input")
    + "COMMIT\n",
    "etc/ufw/user.rules": "*filter\n:ufw-user-input - [0:0]\nCOMMIT\n",
}
FIREWALLD = {
    "etc/firewalld/firewalld.conf": "DefaultZone=drop\n",
    "etc/firewalld/zones/drop.xml": '<zone target="DROP"><interface name="eth0"/></zone>\n',
    "etc/firewalld/direct.xml": '<direct><rule ipv="ipv4" table="filter" chain="INPUT" priority="0">-p tcp --dport 22 -m set '
    "--match-set office src -j DROP</rule></direct>\n",
}


def verdict(device: Device, source: str) -> tuple[str, bool]:
    """What becomes of a new connection to SSH, and whether that is certain."""
    packet = read_sentence(f"tcp from {source}:40000 to 198.51.100.1:22 entering eth0").packet()
    assert packet is not None
    found = Prober(Programs(device)).probe(packet)
    return found.verdict.value, found.certain


@pytest.mark.parametrize("place", ["rules.ipset", "ipset.txt", "etc/iptables/ipsets", "etc/ipset.conf"])
@pytest.mark.parametrize("rules", [{"rules.v4": DUMP % LOOKS}, {"etc/iptables/rules.v4": DUMP % LOOKS}, SHOREWALL, UFW])
def test_a_set_serves_every_program(rules: dict[str, str], place: str) -> None:
    device = linux({**rules, place: SETS}, "")
    assert not [one for one in device.ledger.problems if "set 'office'" in one.why]
    assert verdict(device, "203.0.113.9") == ("accept", True)
    assert verdict(device, "203.0.113.77")[0] != "accept"
    without = linux(rules, "")
    assert [one for one in without.ledger.problems if "set 'office'" in one.why]
    assert not verdict(without, "203.0.113.9")[1]


@pytest.mark.parametrize("there", [True, False])
def test_direct_rules_look_into_them_too(there: bool) -> None:
    device = linux({**FIREWALLD, **({"a.ipset": SETS} if there else {})}, "")
    assert bool([one for one in device.ledger.problems if "set 'office'" in one.why]) is not there


def test_the_printed_set_counts_above_the_stored_one() -> None:
    stored = SETS.replace("203.0.113.8/30", "192.0.2.0/24")
    device = linux({"etc/ipset.conf": stored, "now.txt": SETS}, DUMP % LOOKS)
    assert [len(one.entries) for one in device.sets] == [1]
    assert verdict(device, "203.0.113.9") == ("accept", True)
    assert verdict(device, "192.0.2.9") == ("drop", True)


def test_what_stands_on_one_side_only_is_known_by_its_rule() -> None:
    extra = "-A INPUT -s 203.0.113.77/32 -p tcp -m tcp --dport 80 -j ACCEPT\n"
    device = linux({"rules.ipset": SETS, "etc/iptables/rules.v4": DUMP % LOOKS}, DUMP % (LOOKS + extra))
    assert device.saved is not None
    edits = rule_edits(device, replace(device, rulebases=device.saved))
    assert [(one.edit, one.before.where.first if one.before else 0) for one in edits] == [(Edit.REMOVED, 6)]

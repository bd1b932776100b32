"""What of the device itself can be reached from where, compared with probing address by address."""

from __future__ import annotations

import pytest

from aiguille.analysis.exposure import exposures
from aiguille.analysis.program import Programs
from aiguille.analysis.services import LOGINS, WELL_KNOWN, management_services
from aiguille.analysis.sides import each_interface, entrances, outside_known
from aiguille.analysis.walk.probe import Prober
from aiguille.model import Device, Side
from aiguille.packets import Packet
from tests.helpers import filter_table, veskara, with_zones

SSH = tuple(service for service in WELL_KNOWN if service.name == "ssh")

# rules for INPUT, addresses of 10.0.0.0/29 that reach SSH by eth0, whether that is certain, whether a rate stands between
CASES = [
    ("-A INPUT -s 10.0.0.0/30 -p tcp -m tcp --dport 22 -j ACCEPT", [0, 1, 2, 3], True, False),
    ("-A INPUT -s 10.0.0.1/32 -j DROP\n-A INPUT -s 10.0.0.0/30 -p tcp -j ACCEPT", [0, 2, 3], True, False),
    ("-A INPUT -i eth1 -j ACCEPT\n-A INPUT -p udp -j ACCEPT", [], True, False),
    ("-A INPUT -s 10.0.0.4/32 -p tcp -m tcp --dport 20:25 -m limit --limit 3/min -j ACCEPT", [4], True, True),
    ("-A INPUT -m recent --update --name x -j DROP\n-A INPUT -s 10.0.0.4/32 -j ACCEPT", [4], True, True),
    ("-A INPUT -s 10.0.0.4/32 -m mac --mac-source 00:11:22:33:44:55 -j ACCEPT", [4], False, False),
    (
        "-A INPUT -s 10.0.0.4/32 -m mac --mac-source 00:11:22:33:44:55 -j DROP\n-A INPUT -s 10.0.0.4/31 -j ACCEPT",
        [5],
        True,
        False,
    ),
    (
        "-A INPUT -p tcp -g side\n-A INPUT -j ACCEPT\n-A side -s 10.0.0.2/32 -j RETURN\n-A side -s 10.0.0.2/31 -j ACCEPT",
        [3],
        True,
        False,
    ),
    (
        "-A INPUT -m conntrack --ctstate ESTABLISHED -j ACCEPT\n-A INPUT -p tcp -m tcp --tcp-flags SYN SYN -j DROP\n-A INPUT -j ACCEPT",
        [],
        True,
        False,
    ),
]


def device(rules: str) -> Device:
    return with_zones(filter_table(rules, chains=("side",)), out=("eth0", Side.OUTSIDE), office=("eth1", Side.INSIDE))


@pytest.mark.parametrize(("rules", "hosts", "certain", "rated"), CASES)
def test_exposures(rules: str, hosts: list[int], certain: bool, rated: bool) -> None:
    programs = Programs(device(rules))
    (entrance,) = [e for e in entrances(programs) if e.side is Side.OUTSIDE]
    found = list(exposures(programs, entrance, SSH))
    reached = {
        n for e in found if (e.certain, e.rated) == (certain, rated) for n in range(8) if 0x0A000000 + n in e.sources
    }
    assert sorted(reached) == hosts
    prober = Prober(programs)
    for exposure in found:
        assert exposure.proof.packet.in_interface == "eth0"
        assert exposure.proof.packet.dport == 22
        assert exposure.proof.packet.source in exposure.sources
    possible = {n for e in found for n in range(8) if 0x0A000000 + n in e.sources}
    sure = {n for e in found if e.certain and not e.rated for n in range(8) if 0x0A000000 + n in e.sources}
    for number in range(8):
        verdict = prober.probe(Packet(4, "eth0", "", 0x0A000000 + number, 0xC0000201, 6, 4000, 22, flags=2))
        assert any(way.verdict == "accept" for way in verdict.ways) == (number in possible)
        assert all(way.verdict == "accept" for way in verdict.ways) == (number in sure)


def test_a_narrow_rule_neither_hides_nor_takes_the_blame_for_a_wide_one() -> None:
    narrow = "-A INPUT -s 10.0.0.1/32 -p tcp -m tcp --dport 22 -j ACCEPT\n"
    for wide, certain, rated in (
        ("", True, False),
        ("-m limit --limit 1/sec ", True, True),
        ("-m mac --mac-source 00:11:22:33:44:55 ", False, False),
    ):
        programs = Programs(device(f"{narrow}-A INPUT -p tcp {wide}-j ACCEPT"))
        (entrance,) = [e for e in entrances(programs) if e.side is Side.OUTSIDE]
        first, second = sorted(exposures(programs, entrance, SSH), key=lambda e: e.networks)
        assert (first.networks, first.certain, first.rated) == (1, True, False)
        assert (second.networks, second.certain, second.rated) == (2**32 - 1, certain, rated)
        assert [step.rule.number for step in first.proof.steps if step.rule] == [1]
        assert [step.rule.number for step in second.proof.steps if step.rule] == [2]


def test_ways_in() -> None:
    stated = Programs(device("-A INPUT -i eth7 -j ACCEPT"))
    sided = [("out", Side.OUTSIDE), ("office", Side.INSIDE), ("eth7", None)]
    assert [(e.label, e.side) for e in entrances(stated)] == sided
    assert outside_known(stated.device)
    bare = Programs(filter_table("-A INPUT -i eth7 -j ACCEPT\n-A INPUT -i lo -j ACCEPT"))
    assert not outside_known(bare.device)
    assert [e.label for e in entrances(bare)] == ["an interface of unknown side"]
    assert [e.label for e in each_interface(bare)] == ["eth7", "an interface no rule names"]


def test_exports_that_list_their_services_are_taken_at_their_word() -> None:
    assert management_services(filter_table("")) == LOGINS, "a web server is what a host is there for"
    listed = management_services(veskara("doors { door shell { at 2222 }\n door web { at 443, live no } }"))
    assert [service.name for service in listed] == ["shell"]
    assert listed[0].terms[0].destination_ports[0].first == 2222


def test_ipv6_sources_are_counted_by_network() -> None:
    rules = "-A INPUT -s 2001:db8:0:1::/64 -j ACCEPT\n-A INPUT -s 2001:db8:0:3::/64 -j ACCEPT"
    programs = Programs(with_zones(filter_table(rules, family=6), out=("eth0", Side.OUTSIDE)))
    assert [exposure.networks for exposure in exposures(programs, entrances(programs)[0], SSH)] == [1, 1]


def test_the_packet_comes_from_somebody_who_could_exist() -> None:
    rules = "-A INPUT -s 0.0.0.0 -g side\n-A INPUT -p tcp -m tcp --dport 22 -j ACCEPT\n-A side -p tcp -j ACCEPT"
    programs = Programs(device(rules))
    (entrance,) = [e for e in entrances(programs) if e.side is Side.OUTSIDE]
    sources = {exposure.networks: exposure.proof.packet.source for exposure in exposures(programs, entrance, SSH)}
    assert 1 not in sources  # nobody opens a connection from 0.0.0.0, and the rule takes no other
    assert sources
    assert all(source >= 1 << 24 for source in sources.values())


@pytest.mark.parametrize(
    ("first", "certain", "rated"),
    [
        ("-m rpfilter --invert -j DROP", True, False),  # only forged sources are kept away
        ("-m recent --update --name x -j DROP", True, True),
        ("-m rpfilter --invert -j DROP\n-A INPUT -m limit --limit 9/sec -j RETURN", True, False),
        ("-m mac --mac-source 00:11:22:33:44:55 -j DROP", True, False),
        ("-m mac ! --mac-source 00:11:22:33:44:55 -j DROP", False, False),
        ("-m rpfilter --invert -j DROP\n-A INPUT -m string --algo bm --string x -j DROP", True, False),
        ("-m ttl --ttl-lt 5 -j DROP\n-A INPUT -m length --length 1400:65535 -j DROP", True, False),
        ("-m ttl --ttl-lt 255 -j DROP", False, False),  # nobody further away than the link
        ("-m length --length 20:65535 -j DROP", False, False),
        ("-m pkttype --pkt-type broadcast -j DROP\n-A INPUT -m policy --dir in --pol ipsec -j DROP", True, False),
        ("-m policy --dir in --pol none -j DROP", False, False),
        ("-m geoip --source-country CN,RU -j DROP\n-A INPUT -m quota --quota 999 -j DROP", True, False),
        ("-m mark --mark 0x5 -j DROP", True, False),  # nothing here marks packets
        ("-m mark ! --mark 0x5 -j DROP", False, False),
        ("-m mark --mark 0x5 -j RETURN", True, False),
        ("-m mark --mark 0x0 -j RETURN", False, False),
        ("-p tcp -j MARK --set-mark 5\n-A INPUT -m mark --mark 0x5 -j DROP", False, False),
    ],
)
def test_what_stands_before_a_door_and_lets_everybody_real_pass(first: str, certain: bool, rated: bool) -> None:
    programs = Programs(device(f"-A INPUT {first}\n-A INPUT -s 10.0.0.4/31 -p tcp -j ACCEPT"))
    (entrance,) = [e for e in entrances(programs) if e.side is Side.OUTSIDE]
    (found,) = exposures(programs, entrance, SSH)
    assert (found.certain, found.rated, found.networks) == (certain, rated, 2)
    assert not found.proof.certain


MET = """
-m addrtype --src-type UNICAST; -m dscp --dscp 0x00; -m tos --tos 0x00; -m conntrack --ctstate NEW --ctproto tcp;
-m conntrack --ctdir ORIGINAL; -m conntrack --ctorigdstport 22; -m conntrack --ctorigdst 192.0.2.9;
-m physdev ! --physdev-is-bridged; -m osf --genre Linux;
-m ttl --ttl-gt 1; -m ttl --ttl-eq 64; -m quota --quota 99; -m ecn ! --ecn-tcp-cwr; -m tcpmss --mss 500:1500;
-m tcp --tcp-option 8; -m geoip ! --source-country CN; -m pkttype --pkt-type unicast; -m length --length 0:1500;
-m mac ! --mac-source 00:11:22:33:44:55; -m policy --dir in --pol none; -m mark --mark 0; -m mark ! --mark 1;
-m string --algo bm ! --string evil
"""
UNMET = """
-m conntrack --ctdir REPLY; -m physdev --physdev-in veth0; -m ttl --ttl-eq 255; -m ttl --ttl-gt 254;
-m pkttype --pkt-type multicast; -m length --length 1000:1500; -m mac --mac-source 00:11:22:33:44:55;
-m policy --dir in --pol ipsec; -m mark --mark 1; -m mark ! --mark 0; -m string --algo bm --string knock;
-m addrtype ! --src-type UNICAST; -m nosuch --word 1; -m string --algo bm --string knock!
"""


@pytest.mark.parametrize("condition", [*MET.split(";"), *UNMET.split(";")])
def test_what_usual_packets_meet_lets_everybody_in(condition: str) -> None:
    programs = Programs(device(f"-A INPUT -p tcp -m tcp --dport 22 {condition.strip()} -j ACCEPT"))
    (entrance,) = [e for e in entrances(programs) if e.side is Side.OUTSIDE]
    found = [one for one in exposures(programs, entrance, SSH) if one.certain]
    assert bool(found) is (condition in MET.split(";"))
    assert all(one.networks == 2**32 for one in found)

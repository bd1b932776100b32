"""Two devices compared as sets of packets; addresses by their type; destinations that were translated."""

from __future__ import annotations

import itertools
import json
import random
from collections.abc import Iterator
from datetime import date

import pytest
from msgspec.structs import replace

from aiguille.analysis.compare import changes, differences, in_one_space
from aiguille.analysis.effects import effects_apart
from aiguille.analysis.flows import Wish, flows
from aiguille.analysis.program import Programs
from aiguille.analysis.study import Study
from aiguille.analysis.walk.probe import Prober
from aiguille.baseline.comparing import compare_interfaces, compare_sites
from aiguille.model import Addresses, Device, Direction, Estate, Interface, State, UsageError
from aiguille.packets import Packet, read_sentence
from aiguille.readers import host, nftables
from aiguille.readers.files import decode
from aiguille.readers.literals import read_network
from tests.helpers import filter_table, linux

CONDITIONS = (
    "-s 10.0.0.0/8", "-s 10.0.0.1", "! -s 10.0.0.0/30", "-d 192.0.2.0/24", "-p tcp", "-p udp", "-p tcp --dport 22",
    "-p tcp --dport 20:25", "-i eth0", "-i eth+", "! -i eth0", "-m conntrack --ctstate NEW", "-p icmp", "",
)  # fmt: skip
ACTIONS = ("ACCEPT", "DROP", "REJECT", "RETURN", "c0", "c1")


def packets() -> Iterator[Packet]:
    """Every combination of a few values that the conditions tell apart."""
    for source, target, service, way, state in itertools.product(
        ("10.0.0.1", "10.0.0.9", "198.51.100.7"),
        ("192.0.2.9", "203.0.113.9"),
        (("tcp", ":22"), ("tcp", ":24"), ("tcp", ":80"), ("udp", ":22"), ("icmp type 8 code 0", "")),
        ("entering eth0", "entering eth1", "entering ppp0", "entering eth0 leaving eth1"),
        ("new", "established"),
    ):
        name, port = service
        source_port = ":4000" if port else ""
        text = f"{name} from {source}{source_port} to {target}{port} {way} state {state}"
        found = read_sentence(text).packet()
        assert found is not None
        yield found


def made(rnd: random.Random) -> str:
    chains = ("INPUT", "FORWARD", "c0", "c1")
    lines = []
    for chain in chains:
        for _ in range(rnd.randint(0, 4)):
            # Jumps lead onwards only, so that nothing goes in a circle.
            allowed = [
                a for a in ACTIONS if not (chain == "c1" and a in ("c0", "c1")) and not (chain == "c0" and a == "c0")
            ]
            lines.append(f"-A {chain} {rnd.choice(CONDITIONS)} -j {rnd.choice(allowed)}")
    return "\n".join(lines)


def through(device: Device, packet: Packet) -> frozenset[bool]:
    verdict = Prober(Programs(device)).probe(packet)
    return frozenset(not way.verdict.refuses for way in verdict.ways)


@pytest.mark.parametrize("seed", range(30))
def test_a_difference_is_found_exactly_where_packets_fare_differently(seed: int) -> None:
    rnd = random.Random(seed)
    one = filter_table(made(rnd), chains=("c0", "c1"))
    other = filter_table(made(rnd) if seed % 3 else made(random.Random(seed)), chains=("c0", "c1"))
    found = differences(one, other)
    for difference in found:
        packet = difference.packet
        assert through(one, packet) == difference.one, packet.sentence()
        assert through(other, packet) == difference.other, packet.sentence()
        assert difference.one != difference.other
    told = {difference.direction for difference in found}
    for packet in packets():
        direction = Direction.THROUGH_DEVICE if packet.out_interface else Direction.TO_DEVICE
        if through(one, packet) != through(other, packet):
            assert direction in told, packet.sentence()
    if not seed % 3:
        assert not found


def edited(rnd: random.Random, rules: str) -> str:
    """The same rules with a few taken away, moved and put in."""
    lines = rules.splitlines()
    for _ in range(rnd.randint(1, 3)):
        if lines and rnd.random() < 0.6:
            line = lines.pop(rnd.randrange(len(lines)))
            if rnd.random() < 0.5:
                lines.insert(rnd.randint(0, len(lines)), line)
        else:
            new = f"-A {rnd.choice(('INPUT', 'FORWARD', 'c1'))} {rnd.choice(CONDITIONS)} -j {rnd.choice(ACTIONS[:4])}"
            lines.insert(rnd.randint(0, len(lines)), new)
    return "\n".join(lines)


@pytest.mark.parametrize("seed", range(40))
def test_rows_of_changes_hold_exactly_the_new_connections_that_fare_differently(seed: int) -> None:
    rnd = random.Random(seed)
    rules = made(rnd)
    one = filter_table(rules, chains=("c0", "c1"))
    other = filter_table(edited(rnd, rules), chains=("c0", "c1"))
    found = changes(one, other)
    space = in_one_space(one, other)[0].resolver(4).space
    for packet in packets():
        if packet.state is not State.NEW:
            continue
        direction = Direction.THROUGH_DEVICE if packet.out_interface else Direction.TO_DEVICE
        rows = [row for row in found if row.traffic.direction is direction and packet.point(space) in row.traffic]
        verdicts = through(one, packet), through(other, packet)
        assert len(rows) == (verdicts[0] != verdicts[1]), packet.sentence()
        assert all((row.before, row.after) == verdicts for row in rows), packet.sentence()


@pytest.mark.parametrize("seed", range(15))
def test_rows_of_flows_hold_exactly_what_is_let_through(seed: int) -> None:
    device = filter_table(made(random.Random(seed)), chains=("c0", "c1"))
    study = Study(device, Estate((device,), as_of=date(2026, 11, 28)), Programs(device))
    found = flows(study, Wish())
    space = study.programs.resolver(4).space
    for packet in packets():
        if packet.state is not State.NEW:
            continue
        rows = [
            row
            for row in found
            if row.traffic.direction in _WAYS[bool(packet.out_interface)] and packet.point(space) in row.traffic
        ]
        verdict = through(device, packet)
        assert len(rows) == (True in verdict), packet.sentence()
        assert all(row.certain == (len(verdict) == 1) for row in rows), packet.sentence()


_WAYS = {True: (Direction.THROUGH_DEVICE,), False: (Direction.TO_DEVICE,)}


@pytest.mark.parametrize(
    ("rules", "changed", "sentence"),
    [
        ("-A INPUT -p tcp --dport 22 -j ACCEPT", "-A INPUT -p tcp --dport 22:23 -j ACCEPT", ":23 "),
        ("-A INPUT -s 10.0.0.0/8 -j ACCEPT", "-A INPUT -s 10.0.0.0/9 -j ACCEPT", "from 10."),
        (
            "-A INPUT -m conntrack --ctstate NEW -j ACCEPT",
            "-A INPUT -m conntrack --ctstate NEW,RELATED -j ACCEPT",
            "related",
        ),
        ("-A INPUT -i eth0 -j ACCEPT", "-A INPUT -i eth+ -j ACCEPT", "entering eth"),
        ("-A INPUT -p tcp -j ACCEPT", "-A INPUT -p tcp -m limit --limit 3/min -j ACCEPT", "tcp from"),
    ],
)
def test_the_packet_shows_what_changed(rules: str, changed: str, sentence: str) -> None:
    (difference,) = differences(filter_table(rules), filter_table(changed))
    assert sentence in f"{difference.packet.sentence()} "


def test_order_that_changes_nothing_is_no_difference() -> None:
    rules = ["-A INPUT -p tcp --dport 22 -j ACCEPT", "-A INPUT -p udp --dport 53 -j ACCEPT", "-A INPUT -i lo -j ACCEPT"]
    for order in itertools.permutations(rules):
        assert not differences(filter_table("\n".join(rules)), filter_table("\n".join(order)))
    split = "-A INPUT -s 10.0.0.0/9 -j ACCEPT\n-A INPUT -s 10.128.0.0/9 -j ACCEPT"
    assert not differences(filter_table("-A INPUT -s 10.0.0.0/8 -j ACCEPT"), filter_table(split))


def with_interfaces(device: Device, **networks: str) -> Device:
    out = []
    for name, text in networks.items():
        address, network = read_network(text.split("/")[0]), read_network(text)
        assert isinstance(address, Addresses)
        assert isinstance(network, Addresses)
        out.append(Interface(name, None, (address,), (network,)))
    return replace(device, interfaces=tuple(out))


TYPES = [
    ("BROADCAST", "0.0.0.9", True), ("BROADCAST", "255.255.255.255", True), ("BROADCAST", "192.0.2.15", True),
    ("BROADCAST", "192.0.2.16", False), ("BROADCAST", "10.0.0.255", True), ("BROADCAST", "10.0.1.255", False),
    ("MULTICAST", "224.0.0.9", True), ("MULTICAST", "192.0.2.9", False), ("LOCAL", "192.0.2.2", True),
    ("LOCAL", "127.0.0.9", True), ("LOCAL", "192.0.2.3", False),
]  # fmt: skip


@pytest.mark.parametrize(("kind", "source", "matches"), TYPES)
def test_sources_by_type_where_the_own_addresses_are_known(kind: str, source: str, matches: bool) -> None:
    bare = filter_table(f"-A INPUT -m addrtype --src-type {kind} -j ACCEPT")
    device = with_interfaces(bare, eth0="192.0.2.2/28", eth1="10.0.0.1/24")
    packet = read_sentence(f"udp from {source}:40000 to 192.0.2.2:53 entering eth0").packet()
    assert packet is not None
    assert through(device, packet) == {matches}
    if kind == "MULTICAST" or source in ("0.0.0.9", "255.255.255.255", "127.0.0.9"):
        assert through(bare, packet) == {matches}  # so it is everywhere
    else:
        assert through(bare, packet) == {True, False}


DNAT = (
    "*nat\n:PREROUTING ACCEPT [0:0]\n-A PREROUTING -i eth0 -p tcp --dport 80 -j DNAT --to-destination 10.0.0.5:8080\n"
    "-A PREROUTING -i eth0 -p tcp --dport 99 -j REDIRECT --to-ports 22\nCOMMIT\n"
)
PASSES = [
    ("tcp from 198.51.100.7:4000 to 192.0.2.2:80 entering eth0 leaving eth1", {True}),
    ("tcp from 198.51.100.7:4000 to 192.0.2.2:81 entering eth0 leaving eth1", {False}),
    ("tcp from 198.51.100.7:4000 to 10.0.0.5:8080 entering eth1 leaving eth0", {False}),
    ("tcp from 198.51.100.7:4000 to 192.0.2.2:99 entering eth0", {True}),
    ("tcp from 198.51.100.7:4000 to 192.0.2.2:22 entering eth0", {False}),
    ("tcp from 198.51.100.7:4000 to 10.0.0.5:8080 entering eth0 leaving eth1 state established", {True, False}),
]


@pytest.mark.parametrize(("sentence", "expected"), PASSES)
def test_packets_whose_destination_was_translated(sentence: str, expected: set[bool]) -> None:
    rules = "-A INPUT -m conntrack --ctstate DNAT -j ACCEPT\n-A FORWARD -m conntrack --ctstate DNAT -j ACCEPT"
    packet = read_sentence(sentence).packet()
    assert packet is not None
    assert through(filter_table(rules, nat=DNAT), packet) == expected
    if packet.state.value == "new":
        assert through(filter_table(rules), packet) == {False}


def test_rules_for_ipv6_are_compared_though_the_kernel_has_it_off() -> None:
    """Whoever switches it on again meets them."""
    sides = []
    for policy in ("DROP", "ACCEPT"):
        rules = f"*filter\n:INPUT {policy} [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\nCOMMIT\n"
        off = "net.ipv6.conf.all.disable_ipv6 = 1\n"
        sides.append(linux({"rules.v6": rules, "sysctl.txt": off}))
    (found,) = changes(*sides)
    assert found.opens
    assert found.traffic.family == 6
    assert not list(changes(sides[0], sides[0]))


KINDS = """-A INPUT -j kinds
-A kinds -m addrtype --dst-type LOCAL -j RETURN
-A kinds -m addrtype --dst-type MULTICAST -j RETURN
-A kinds -m addrtype --dst-type BROADCAST -j RETURN
-A kinds -j DROP"""


def test_what_differs_by_the_kind_of_its_destination_alone_is_one_row() -> None:
    before = filter_table(KINDS, chains=("kinds",))
    after = filter_table(f"-A INPUT -s 203.0.113.50 -p tcp --dport 3389 -j ACCEPT\n{KINDS}", chains=("kinds",))
    found = changes(before, after)
    assert [one.traffic.words() for one in found] == ["tcp 3389 from 203.0.113.50 to any"]
    assert len(found[0].traffic.cells) > 1


def test_rules_that_people_wrote_on_one_line_decide_apart() -> None:
    chain = "chain c { type filter hook input priority 0; policy drop; %s }"
    one, other = (
        nftables.read([decode("ruleset", f"table ip t {{ {chain % rules} }}\n".encode())], "box")
        for rules in ("", "tcp dport 22 accept; udp dport 53 accept;")
    )
    deciders = {
        change.traffic.service_words(): [step.rule for step in change.deciders[1]] for change in changes(one, other)
    }
    assert {words: [rule.number for rule in rules if rule] for words, rules in deciders.items()} == {
        "tcp 22": [1],
        "udp 53": [2],
    }


@pytest.mark.parametrize(
    ("returned", "apart"),
    [("-d 10.0.5.0/24", False), ("-d 10.0.5.0/25", True), ("-d 10.0.5.0/24 -m limit --limit 3/min", True)],
)
def test_what_a_chain_returns_is_not_recorded_in_it(returned: str, apart: bool) -> None:
    """As programs write exceptions; only what surely returns is none of the chain's."""
    said = filter_table("-A FORWARD ! -d 10.0.5.0/24 -p tcp -m tcp --dport 80 -j LOG")
    called = f"-A FORWARD -p tcp -m tcp --dport 80 -j excl\n-A excl {returned} -j RETURN\n-A excl -j LOG"
    assert bool(effects_apart(said, filter_table(called, chains=("excl",)))) is apart


SITE = """*filter
:INPUT DROP [0:0]
:FORWARD DROP [0:0]
:OUTPUT ACCEPT [0:0]
-A INPUT -i eth1 -s 10.{n}.1.8/29 -p tcp --dport 22 -j ACCEPT
-A FORWARD -i eth1 -s 10.{n}.1.0/24 -o eth0 -j ACCEPT
-A FORWARD -i eth2 -s 10.{n}.2.0/24 -o eth0 -p tcp --dport {port} -j ACCEPT
COMMIT
"""


def site(n: int, port: int = 443) -> Device:
    told = [
        {"ifname": f"eth{k}", "flags": ["UP"], "addr_info": [{"local": f"10.{n}.{k}.{n}", "prefixlen": 24}]} for k in range(3)
    ]  # fmt: skip
    files = {"rules.v4": SITE.format(n=n, port=port), "ip-addr.json": json.dumps(told)}
    return replace(host.read([decode(name, text.encode()) for name, text in files.items()], f"site{n}"), tags=("site",))


def test_sites_are_compared_at_their_own_networks() -> None:
    estate = Estate((site(1), site(2), site(3, 80)), as_of=date(2026, 11, 30))
    pairs = compare_sites(estate).pairs
    told = {pair.after.name: [(c.opens, c.traffic.words()) for c in pair.changes or ()] for pair in pairs}
    assert told == {
        "site2": [],
        "site3": [
            (True, "tcp 80 from 10.3.2.0/24 to any entering eth2 leaving eth0"),
            (False, "tcp 443 from 10.3.2.0/24 to any entering eth2 leaving eth0"),
        ],
    }
    assert {pair.against for pair in pairs} == {"site1"}
    assert [edit.edit.value for pair in pairs for edit in pair.rules] == ["changed"]
    with pytest.raises(UsageError, match="no sites to compare"):
        compare_sites(Estate((site(1),), as_of=date(2026, 11, 30)))


def test_interfaces_are_compared_as_if_one_stood_where_the_other_does() -> None:
    device = site(1)
    (pair,) = compare_interfaces(Estate((device,), as_of=date(2026, 11, 30)), device, "eth1", "eth2").pairs
    closes = [change.traffic.words() for change in pair.changes or () if not change.opens]
    assert "tcp 22 from 10.1.2.8/29 to any entering eth2" in closes  # what eth1 lets in, in terms of eth2
    assert not [change for change in pair.changes or () if change.opens]
    with pytest.raises(UsageError, match="has no interface 'eth7'"):
        compare_interfaces(Estate((device,), as_of=date(2026, 11, 30)), device, "eth1", "eth7")


def test_what_a_route_leads_to_lives_behind_its_interface() -> None:
    """A rule for a network behind a router inside opens for real senders, and is listed; forged ones are counted."""

    def gateway(rule: str) -> Device:
        told = [
            {"ifname": f"eth{n}", "flags": ["UP"], "addr_info": [{"local": f"10.{n}.0.1", "prefixlen": 24}]}
            for n in (1, 2)
        ]
        routes = [
            {"dst": "10.9.0.0/16", "gateway": "10.1.0.254", "dev": "eth1"},
            {"dst": "default", "gateway": "10.2.0.9", "dev": "eth2"},
        ]
        dump = f"*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n{rule}COMMIT\n"
        files = {"rules.v4": dump, "ip-addr.json": json.dumps(told), "ip-route.json": json.dumps(routes)}
        return host.read([decode(name, text.encode()) for name, text in files.items()], "gw")

    for source, likely in (("10.9.4.0/24", True), ("10.1.0.0/24", True), ("10.77.0.0/16", False), ("10.0.0.0/8", True)):
        rule = f"-A FORWARD -i eth1 -s {source} -o eth2 -p tcp --dport 443 -j ACCEPT\n"
        (opened,) = changes(gateway(""), gateway(rule))
        assert (opened.opens, opened.likely) == (True, likely), source

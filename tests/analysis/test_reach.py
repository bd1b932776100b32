"""Who reaches whom over several devices: regions led whole fare as each of their packets does when it is followed alone."""

from __future__ import annotations

import random
from datetime import date
from ipaddress import ip_address

import pytest

from aiguille.analysis.endtoend import end_to_end, places_named, rows_between
from aiguille.analysis.flows import Wish, read_services
from aiguille.analysis.network import Network
from aiguille.analysis.paths import Follower, is_certain
from aiguille.analysis.reach import Passage, Place, Reaches
from aiguille.model import Action, Device, Estate, State, UsageError
from aiguille.packets import Packet
from aiguille.space import AXES, Axis
from aiguille.space.fields import SYN, TCP, UDP
from tests.analysis.test_paths import OPEN, STATES, pair, router

_NETS = [f"10.{n}.0" for n in range(1, 9)]


def _estate(draw: random.Random, shape: str, count: int) -> Estate:
    """Routers in a row, or all behind the first, each with a network of its own; rules, routes and translations at random."""
    devices: list[Device] = []
    for n in range(count):
        ports = {"lan": f"{_NETS[n]}.1/24"}
        near = [(n - 1, n), (n, n + 1)] if shape == "row" else [(0, n)] if n else [(0, k) for k in range(1, count)]
        links = [(a, b) for a, b in near if a >= 0 and b < count and a != b]
        ports |= {f"to{b if a == n else a}": f"10.{100 + a}.{b}.{1 if a == n else 2}/24" for a, b in links}
        routes = []
        for other in range(count):
            if other == n or draw.random() < 0.08:
                continue
            hop = (n + (1 if other > n else -1)) if shape == "row" else (other if n == 0 else 0)
            a, b = min(n, hop), max(n, hop)
            routes.append((f"{_NETS[other]}.0/24", f"10.{100 + a}.{b}.{1 if hop == a else 2}"))
        if draw.random() < 0.3:
            routes.append((f"{draw.choice(_NETS)}.128/25", ""))
        devices.append(router(f"r{n}", ports, routes, _rules(draw), _nat(draw, n, list(ports)), _kernel(draw)))
    return Estate(tuple(devices), as_of=date(2026, 11, 28))


def _rules(draw: random.Random) -> str:
    out = []
    for chain in ("FORWARD",) * draw.randint(3, 7) + ("INPUT",) * 2:
        words = [f"-A {chain}"]
        if draw.random() < 0.8:
            words.append(f"-p {draw.choice(('tcp', 'udp'))}")
            first = draw.randrange(1, 90)
            words.append(f"--dport {first}:{first + draw.randrange(60)}" if draw.random() < 0.8 else "")
        if draw.random() < 0.3:
            words.append(f"-s {draw.choice(_NETS)}.0/{draw.choice((24, 25, 28))}")
        if draw.random() < 0.3:
            words.append(f"-d {draw.choice(_NETS)}.{draw.choice((0, 64, 9))}")
        if draw.random() < 0.1:  # of a list of the blocked that is not known it is taken that few are on it
            words.append("-m set --match-set friends src -j ACCEPT")
        else:
            words.append(f"-j {draw.choice(('ACCEPT', 'ACCEPT', 'ACCEPT', 'DROP'))}")
        out.append(" ".join(words))
    return "\n".join([*out, f"-A FORWARD -j {draw.choice(('ACCEPT', 'DROP'))}", ""])


def _nat(draw: random.Random, n: int, ports: list[str]) -> str:
    out = []
    if draw.random() < 0.5:
        out.append(
            f"-A PREROUTING -p tcp -d {_NETS[n]}.1 --dport {draw.randrange(80)}:90 -j DNAT --to-destination {draw.choice(_NETS)}.9:7"
        )
    if draw.random() < 0.3:
        out.append(f"-A PREROUTING -p tcp -d {_NETS[n]}.1 --dport 10:50 -j REDIRECT --to-ports 22")
    if draw.random() < 0.4:
        out.append(f"-A POSTROUTING -o {draw.choice(ports)} -p udp --dport {draw.randrange(60)}:80 -j MASQUERADE")
    if draw.random() < 0.3:
        out.append(f"-A PREROUTING -d 10.{50 + n}.0.0/24 -j NETMAP --to {draw.choice(_NETS)}.0/24")
    return "".join(f"{line}\n" for line in out)


def _kernel(draw: random.Random) -> str:
    return f"net.ipv4.ip_forward = {int(draw.random() < 0.95)}\nnet.ipv4.conf.all.rp_filter = {draw.randrange(3)}\n"


def _packet(draw: random.Random, count: int, source: Place) -> Packet:
    spans = source.of(4).spans
    first, last = draw.choice(spans)
    nets = [*(f"{net}." for net in _NETS[:count]), *(f"10.{50 + n}.0." for n in range(count))]
    target = draw.choice([*(net + str(draw.choice((1, 9, 64, 77, 200))) for net in nets), "198.51.100.7"])
    protocol = draw.choice((TCP, UDP))
    return Packet(
        4, "", "", draw.randint(first, last), int(ip_address(target)), protocol, 40000, draw.randrange(1, 120)
    )


def point_of(packet: Packet) -> tuple[int, ...]:
    """A new packet as it is sent, with no interface told."""
    out = [0] * AXES
    for axis, value in (
        (Axis.SRC, packet.source), (Axis.DST, packet.destination), (Axis.PROTO, packet.protocol), (Axis.A, packet.sport),
        (Axis.B, packet.dport), (Axis.FLAGS, SYN if packet.protocol == TCP else 0), (Axis.STATE, State.NEW.number),
    ):  # fmt: skip
        out[axis] = value or 0
    return tuple(out)


@pytest.mark.parametrize("seed", range(9))
def test_regions_fare_as_their_packets(seed: int) -> None:
    draw = random.Random(seed)
    shape, count = draw.choice(("row", "star")), draw.randint(3, 5)
    estate = _estate(draw, shape, count)
    reaches, follower = Reaches(estate, detailed=bool(seed % 2)), Follower(Network(estate))
    arrived = settled = 0
    for source in reaches.places:
        if not source.of(4) or source.end.name.startswith("to"):
            continue
        passages = reaches.reach(source)
        for _ in range(60):
            packet = _packet(draw, count, source)
            path = follower.path(packet)
            if not path.journeys[0].hops or packet.destination in source.of(4):
                continue
            held = [one for one in passages if point_of(packet) in one]
            what = f"{packet} from {source.name}: {[(h.device.name, h.verdict, h.why) for h in path.journeys[0].hops]}"
            if not held:
                # Nothing is said of what is for everybody in a network.
                assert packet.destination & 0xFF in (0, 255), what
                continue
            settled += all(one.sure for one in held)
            if all(one.sure for one in held):
                assert len(held) == 1, what
                assert is_certain(path.journeys), what
                arrived += _same(
                    held[0],
                    path.journeys[0].verdict is Action.ACCEPT,
                    [h.device.name for h in path.journeys[0].hops],
                    what,
                )
            lasts = {one.stops[-1].device.name for one in held}
            assert lasts & {journey.hops[-1].device.name for journey in path.journeys}, what
            if path.journeys[0].verdict is not Action.ACCEPT and is_certain(path.journeys):
                assert not any(one.sure and one.destination is not None for one in held), what
            elif path.journeys[0].verdict is Action.ACCEPT and is_certain(path.journeys):
                assert any(one.destination is not None for one in held), what
    assert arrived > 10 or not settled
    assert settled > 60


def _same(one: Passage, accepted: bool, hops: list[str], what: str) -> bool:
    assert (one.destination is not None) == accepted, f"{what}; {one.why}, {[s.device.name for s in one.stops]}"
    assert [stop.device.name for stop in one.stops] == hops, what
    return accepted


def _told(devices: list[Device], source: str, destination: str) -> list[str]:
    estate = Estate(tuple(devices), as_of=date(2026, 11, 28))
    found = [
        one
        for one in end_to_end(Reaches(estate)).pairs
        if (one.source.name, one.destination.name) == (source, destination)
    ]
    return [f"{one.reach.value} ({one.services}) perhaps ({one.may}) {','.join(one.by)}" for one in found]


WEB = "-A FORWARD -p tcp --dport 80 -j ACCEPT\n"


@pytest.mark.parametrize(
    ("devices", "told"),
    [
        (pair(), ["everything () perhaps () "]),
        (pair(rules=STATES + WEB), ["some (tcp 80) perhaps () near"]),
        (pair(rules=STATES), ["nothing () perhaps () near"]),
        (pair(rules=f"{STATES}-A FORWARD -m set --match-set friends src -j ACCEPT\n"), ["nothing () perhaps (any service) "]),
        (pair(routes=[("10.3.0.0/24", "")]), []),
        (pair(routes=[]), []),
        (pair(nat="-A POSTROUTING -o b -j MASQUERADE\n"), ["everything () perhaps () "]),
        # A service of the router itself that is sent on to a host behind the next.
        (
            pair(rules=STATES + WEB, nat="-A PREROUTING -d 10.1.0.1 -p tcp --dport 8080 -j DNAT --to-destination 10.3.0.9:80\n"),
            ["some (tcp 80,8080) perhaps () near"],
        ),
    ],
)  # fmt: skip
def test_pairs_of_places(devices: list[Device], told: list[str]) -> None:
    assert _told(devices, "near/a", "far/b") == told


def test_rows_tell_the_rule_at_every_device_or_who_refuses() -> None:
    devices = pair(
        rules=STATES + WEB, nat="-A PREROUTING -d 10.1.0.1 -p tcp --dport 8080 -j DNAT --to-destination 10.3.0.9:80\n"
    )
    reaches = Reaches(Estate(tuple(devices), as_of=date(2026, 11, 28)), detailed=True)
    near, far = places_named(reaches, "near/a"), places_named(reaches, "far/b")
    rows = rows_between(reaches, near, far)
    told = {
        row.traffic.words(): (
            row.certain, row.arrives is not None, [(s.device.name, [d.chain.name for d in s.deciders]) for s in row.stops],
        )
        for row in rows
    }  # fmt: skip
    way = [("near", ["FORWARD"]), ("far", ["FORWARD"])]
    assert told == {
        "tcp 80 from 10.1.0.0, 10.1.0.2-10.1.0.255 to 10.3.0.0, 10.3.0.2-10.3.0.255": (True, False, way),
        "tcp 8080 from 10.1.0.0, 10.1.0.2-10.1.0.255 to 10.1.0.1": (True, True, way),
    }
    (refused,) = rows_between(reaches, near, far, Wish(services=read_services("tcp/22")))
    assert (refused.refused, [s.device.name for s in refused.stops]) == (True, ["near"])
    with pytest.raises(UsageError, match="no device has a zone, side or interface 'fra/b'; there is far/b"):
        places_named(reaches, "fra/b")


def test_what_a_device_sends_elsewhere_is_followed_and_not_certain() -> None:
    nat = ":OUTPUT ACCEPT [0:0]\n-A OUTPUT -d 198.51.100.9 -p tcp --dport 80 -j DNAT --to-destination 10.3.0.9:80\n"
    reaches = Reaches(Estate(tuple(pair(nat=nat)), as_of=date(2026, 11, 28)))
    (sender,) = places_named(reaches, "near/device")
    target = int(ip_address("198.51.100.9"))
    packet = Packet(4, "", "", sender.of(4).first, target, TCP, 40000, 80)
    held = [one for one in reaches.reach(sender) if point_of(packet) in one]
    assert {(one.destination.name if one.destination else "", one.sure) for one in held} == {("far/b", False)}


def _branch(n: int, lan: str, rules: str) -> Device:
    ports = {"lan": lan, "wan": f"10.255.0.{n}/24"}
    return router(f"branch{n}", ports, [("10.9.0.0/24", "10.255.0.9")], rules)


def test_sites_with_the_same_numbers_are_not_one_network() -> None:
    """Two branches whose networks are numbered alike reach the centre, and not each other's hosts as if these were their own."""
    centre = router("centre", {"wan": "10.255.0.9/24", "core": "10.9.0.1/24"}, [], OPEN)
    alike = [_branch(n, "192.168.1.1/24", OPEN) for n in (1, 2)]
    found = end_to_end(Reaches(Estate((*alike, centre), as_of=date(2026, 11, 28))))
    told = {(one.source.name, one.destination.name): one.reach.value for one in found.pairs}
    assert told["branch1/lan", "centre/core"] == told["branch2/lan", "centre/core"] == "everything"
    assert ("branch1/lan", "branch2/lan") not in told
    assert len(found.notes) == 1
    assert found.notes[0].startswith("branch1, branch2 have the same address in 192.168.1.0/24")
    # Two gateways of one network have an address each: that is one network.
    pairs = [_branch(n, f"192.168.1.{n}/24", OPEN) for n in (1, 2)]
    joined = Reaches(Estate((*pairs, centre), as_of=date(2026, 11, 28)))
    assert [place.names for place in joined.places if place.also and "lan" in place.name] == [
        ("branch1/lan", "branch2/lan")
    ]
    assert not end_to_end(joined).notes


def test_a_table_that_nobody_reads_is_not_made(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("aiguille.analysis.endtoend.MANY", 3)
    found = end_to_end(Reaches(Estate(tuple(pair()), as_of=date(2026, 11, 28))))
    assert (found.pairs, len(found.notes)) == ((), 1)
    assert "--from and --to" in found.notes[0]

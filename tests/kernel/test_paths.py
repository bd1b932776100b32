"""Packets over several devices: what arrives, what is answered, and what is translated on the way is as in the kernel."""

from __future__ import annotations

import json
import random
import re
import socket
import subprocess
import sys
import textwrap
import uuid
from collections.abc import Iterator
from ipaddress import ip_address

import pytest
from msgspec.structs import replace

from aiguille.analysis.network import Network
from aiguille.analysis.paths import Follower, is_certain
from aiguille.analysis.reach import Reaches
from aiguille.model import Action, Estate
from aiguille.packets import Packet
from aiguille.readers import host
from aiguille.readers.files import decode
from tests.analysis.test_reach import point_of

SEED = 20261128
PACKETS = 300

_LISTEN = textwrap.dedent("""
    import json, select, socket, struct, sys
    answers, six = sys.argv[1] == "answers", sys.argv[3] == "6"
    family = socket.AF_INET6 if six else socket.AF_INET
    taker = socket.socket(family, socket.SOCK_RAW, socket.IPPROTO_UDP)
    if six:
        taker.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_RECVPKTINFO, 1)
    taker.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 22)
    print("ready", flush=True)
    seen, quiet = {}, None
    while True:
        # Told to end, it takes what is still on its way: on a busy machine packets come late.
        there, _, _ = select.select([taker] if quiet else [taker, sys.stdin], [], [], quiet)
        if not there:
            break
        if taker not in there:
            quiet = float(sys.argv[2])
            continue
        data, extra, _, sender = taker.recvmsg(2048, 512)
        if six:
            size, source, target = 0, sender[0], socket.inet_ntop(family, extra[0][2][:16])
        else:
            size = (data[0] & 15) * 4
            source, target = (socket.inet_ntoa(data[at:at + 4]) for at in (12, 16))
        sport, dport = struct.unpack("!HH", data[size:size + 4])
        body = data[size + 8:]
        if len(body) != 8 or body[:4] != b"aig" + (b"?" if answers else b"!"):
            continue
        seen[int.from_bytes(body[4:], "big")] = [source, sport, target, dport]
        if answers:
            back = struct.pack("!HHHH", dport, sport, 16, 0) + b"aig!" + body[4:]
            out = socket.socket(family, socket.SOCK_RAW, socket.IPPROTO_UDP)
            if six:
                out.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_CHECKSUM, 6)
            out.bind((target, 0))
            try:
                out.sendto(back, (source, 0))
            except OSError:
                pass
            out.close()
    print(json.dumps(seen))
""")

_SEND = textwrap.dedent("""
    import json, socket, struct, sys, time
    for number, source, target, sport, dport in json.load(sys.stdin):
        six = ":" in source
        out = socket.socket(socket.AF_INET6 if six else socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_UDP)
        if six:
            out.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_CHECKSUM, 6)
        out.bind((source, 0))
        try:
            out.sendto(struct.pack("!HHHH", sport, dport, 16, 0) + b"aig?" + number.to_bytes(4, "big"), (target, 0))
        except OSError:
            pass
        out.close()
        time.sleep(0.002)
""")


class Net:
    """Network namespaces joined by links. What is said in addresses of IPv4 is done in those of the family in hand."""

    def __init__(self) -> None:
        self.tag = uuid.uuid4().hex[:6]
        self.names: list[str] = []
        self.family = 4

    def put(self, text: str) -> str:
        """A text with its addresses in the family in hand: 10.1.0.9 becomes fd00:10:1:0::9, in brackets before a port."""
        if self.family == 4:
            return text

        def six(found: re.Match[str]) -> str:
            *network, last = found[1].split(".")
            bits, port = found[2] or "", found[3] or ""
            address = f"fd00:{':'.join(network)}::{last if not bits or last != '0' else ''}"
            return f"[{address}]{port}" if port else address + ("/64" if bits else "")

        return re.sub(r"(10(?:\.[0-9]+){3})(/24)?(:[0-9]+)?", six, text)

    def ip(self, name: str, *words: str) -> str:
        return self.run(name, "ip", f"-{self.family}", *map(self.put, words))

    def add(self, name: str) -> None:
        subprocess.run(["ip", "netns", "add", f"{self.tag}{name}"], check=True)
        self.names.append(name)
        self.run(name, "ip", "link", "set", "lo", "up")

    def run(self, name: str, *words: str, text: str | None = None) -> str:
        done = subprocess.run(
            ["ip", "netns", "exec", f"{self.tag}{name}", *words],
            input=text,
            capture_output=True,
            text=True,
            check=False,
        )
        assert done.returncode == 0, f"{name}: {words}: {done.stderr}"
        return done.stdout

    def link(self, one: str, other: str, network: str) -> None:
        """Join two by a link; their addresses end in the number of their name, a host's in 2."""
        ends = [(one, other), (other, one)]
        names = [f"to-{far}" for _, far in ends]
        subprocess.run(
            ["ip", "link", "add", names[0], "netns", f"{self.tag}{one}", "type", "veth",
             "peer", "name", names[1], "netns", f"{self.tag}{other}"], check=True,
        )  # fmt: skip
        for (mine, _), name in zip(ends, names, strict=True):
            last = int(mine[1:]) if mine[1:].isdigit() else 99
            self.run(mine, "ip", "link", "set", name, "up")
            self.ip(mine, "addr", "add", f"{network}.{last}/24", "dev", name, *(["nodad"] if self.family == 6 else []))

    def start(self, name: str, script: str, *words: str) -> subprocess.Popen[str]:
        return subprocess.Popen(
            ["ip", "netns", "exec", f"{self.tag}{name}", sys.executable, "-c", script, *words],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
        )  # fmt: skip

    def close(self) -> None:
        for name in self.names:
            subprocess.run(["ip", "netns", "del", f"{self.tag}{name}"], check=False)


@pytest.fixture
def net() -> Iterator[Net]:
    made = Net()
    yield made
    made.close()


def _rules(draw: random.Random, name: str) -> str:
    """A random policy for one router: states or none, ranges of ports, sources, translations."""
    forward = []
    if draw.random() < 0.7:
        forward.append("-A FORWARD -m conntrack --ctstate ESTABLISHED,RELATED -j ACCEPT")
    if draw.random() < 0.5:
        forward.append("-A FORWARD -m conntrack --ctstate INVALID -j DROP")
    for _ in range(draw.randint(2, 6)):
        words = ["-A FORWARD -p udp"]
        if draw.random() < 0.4:
            words.append(f"-s 10.1.0.{draw.choice((99, 100, 101))}")
        if draw.random() < 0.8:
            first = draw.randrange(7000, 7090)
            words.append(f"--dport {first}:{first + draw.randrange(20, 90)}")
        if draw.random() < 0.2:
            words.append(f"--sport {draw.randrange(20000, 20100)}:20400")
        forward.append(" ".join([*words, f"-j {draw.choice(('ACCEPT', 'ACCEPT', 'ACCEPT', 'DROP'))}"]))
    nat = []
    if name == "r1" and draw.random() < 0.6:
        nat.append(f"-A POSTROUTING -p udp --dport 7000:{draw.randrange(7020, 7080)} -o to-r2 -j MASQUERADE")
    if name == "r3":
        nat.append(
            f"-A PREROUTING -p udp -d 10.23.0.3 --dport 7040:7060 -j DNAT --to-destination 10.9.0.99:{draw.randrange(7000, 7099)}"
        )
    policy = draw.choice(("ACCEPT", "DROP"))
    return "\n".join([
        "*nat", ":PREROUTING ACCEPT [0:0]", ":INPUT ACCEPT [0:0]", ":OUTPUT ACCEPT [0:0]", ":POSTROUTING ACCEPT [0:0]", *nat, "COMMIT",
        "*filter", ":INPUT ACCEPT [0:0]", f":FORWARD {policy} [0:0]", ":OUTPUT ACCEPT [0:0]", *forward, "COMMIT", "",
    ])  # fmt: skip


LINKS = {
    "row": (("a", "r1", "10.1.0"), ("r1", "r2", "10.12.0"), ("r2", "r3", "10.23.0"), ("r3", "b", "10.9.0"),
            ("r3", "r4", "10.34.0"), ("r4", "r1", "10.14.0")),
    "star": (("a", "r1", "10.1.0"), ("r1", "r2", "10.12.0"), ("r3", "r2", "10.23.0"), ("r3", "b", "10.9.0"),
             ("r4", "r2", "10.24.0"), ("r4", "c", "10.4.0")),
}  # fmt: skip
"""Three routers in a row, and a fourth by which some answers come back past the second; and one in the middle of three."""

ROUTES = {
    "row": ("r1 10.9.0 10.12.0.2", "r1 10.23.0 10.12.0.2", "r2 10.9.0 10.23.0.3", "r2 10.1.0 10.12.0.1", "r3 10.12.0 10.23.0.2",
            "r4 10.1.0 10.14.0.1"),
    "star": ("r1 10.9.0 10.12.0.2", "r1 10.4.0 10.12.0.2", "r1 10.23.0 10.12.0.2", "r2 10.1.0 10.12.0.1", "r2 10.9.0 10.23.0.3",
             "r2 10.4.0 10.24.0.4", "r3 10.1.0 10.23.0.2", "r4 10.12.0 10.24.0.2"),
}  # fmt: skip
"""The fourth router of the star knows no way back to the senders."""

TURNS = [(turn, 4, "row") for turn in range(4)] + [(4, 4, "star"), (11, 6, "row"), (6, 6, "row"), (7, 6, "star")]


@pytest.mark.parametrize(("turn", "family", "shape"), TURNS)
def test_packets_arrive_and_are_answered_as_the_paths_say(net: Net, turn: int, family: int, shape: str) -> None:
    draw = random.Random(SEED + turn)
    net.family = family
    routers = ("r1", "r2", "r3", "r4")
    ends = ("a", "b") if shape == "row" else ("a", "b", "c")
    for name in (*ends, *routers):
        net.add(name)
    for one, other, network in LINKS[shape]:
        net.link(one, other, network)
    for extra in (100, 101):
        net.ip("a", "addr", "add", f"10.1.0.{extra}/24", "dev", "to-r1", *(["nodad"] if family == 6 else []))
    strict = turn % 2
    for name in routers:
        for key in ("all", "default", *(f"to-{far}" for far in (*ends, *routers))):
            subprocess.run(
                ["ip", "netns", "exec", f"{net.tag}{name}", "sysctl", "-qw", f"net.ipv4.conf.{key}.rp_filter={strict if name == 'r1' else 0}"],
                check=False, capture_output=True,
            )  # fmt: skip
        net.run(name, "sysctl", "-qw", "net.ipv4.ip_forward=1", "net.ipv6.conf.all.forwarding=1")
    tables, silence = ("iptables", ("icmp",)) if family == 4 else ("ip6tables", ("icmpv6", "--icmpv6-type", "1"))
    for name in ends:
        net.run(name, tables, "-A", "OUTPUT", "-p", *silence, "-j", "DROP")
    for name, gate in (("a", "10.1.0.1"), ("b", "10.9.0.3"), ("c", "10.4.0.4")):
        if name in ends:
            net.ip(name, "route", "add", "default", "via", gate)
    for route in ROUTES[shape]:
        name, network, gate = route.split()
        net.ip(name, "route", "add", f"{network}.0/24", "via", gate)
    away = ("10.34.0.4", "10.23.0.2") if turn not in (3, 6) else ("", "")
    if shape == "row" and away[turn % 2]:
        net.ip("r3", "route", "add", "10.1.0.0/24", "via", away[turn % 2])
    devices = []
    for name in routers:
        rules = net.put(_rules(draw, name))
        net.run(name, f"{tables}-restore", text=rules)
        keys = ["ipv4.ip_forward", "ipv6.conf.all.forwarding", "ipv4.conf.all.rp_filter"]
        if name == "r1":
            keys += [
                f"ipv4.conf.to-{far}.rp_filter"
                for one, far, _ in LINKS[shape]
                for one, far in ((one, far), (far, one))
                if one == "r1"
            ]
        told = "".join(f"net.{key} = {net.run(name, 'sysctl', '-n', f'net.{key}')}" for key in keys)
        bundle = [
            decode(f"rules.v{family}", net.run(name, f"{tables}-save").encode()),
            decode("ip-addr.json", net.run(name, "ip", "-j", "addr").encode()),
            decode("ip-route.json", net.run(name, "ip", "-j", "route").encode()),
            decode("ip-route6.json", net.run(name, "ip", "-6", "-j", "route").encode()),
            replace(decode("sysctl.txt", told.encode()), place="collected/sysctl.txt"),
        ]
        devices.append(host.read(bundle, name))
    estate = Estate(tuple(devices), as_of=None)  # type: ignore[arg-type]
    network, reaches = Follower(Network(estate)), Reaches(estate)
    sender = next(place for place in reaches.places if place.name == "r1/to-a")
    passages = reaches.reach(sender)
    targets = ("10.9.0.99", "10.9.0.99", "10.23.0.3") if shape == "row" else ("10.9.0.99", "10.9.0.99", "10.4.0.99")
    asked = [
        (number, net.put(f"10.1.0.{draw.choice((99, 100, 101))}"), net.put(draw.choice(targets)), 20000 + number, draw.randrange(7000, 7100))
        for number in range(PACKETS)
    ]  # fmt: skip
    takers = [net.start(name, _LISTEN, "answers", "3", str(family)) for name in ends[1:]]
    giver = net.start("a", _LISTEN, "takes", "0.5", str(family))
    for one in (*takers, giver):
        assert one.stdout is not None
        assert one.stdout.readline() == "ready\n"
    net.run("a", sys.executable, "-c", _SEND, text=json.dumps(asked))
    arrived = {number: seen for one in takers for number, seen in json.loads(one.communicate()[0]).items()}
    answered = json.loads(giver.communicate()[0])
    assert 20 < len(arrived) < PACKETS
    doors = {f"to-{name}" for name in ends[1:]}
    for number, source, target, sport, dport in asked:
        addresses = [int(ip_address(text)) for text in (source, target)]
        path = network.path(Packet(family, "", "", addresses[0], addresses[1], socket.IPPROTO_UDP, sport, dport))
        what = f"{source}:{sport} to {target}:{dport}, seed {SEED + turn}: {[(h.device.name, h.why, h.verdict) for h in path.journeys[0].hops]}"
        assert is_certain(path.journeys), what
        last = path.journeys[0].hops[-1]
        gets_there = path.journeys[0].verdict is Action.ACCEPT and last.leaves in doors
        assert gets_there == (str(number) in arrived), what
        point = point_of(path.packet)
        held = [one for one in passages if one.family == family and point in one]
        assert [(one.sure, one.destination is not None and one.stops[-1].leaves in doors) for one in held] == [
            (True, gets_there)
        ], what
        if gets_there:
            seen = arrived[str(number)]
            assert [int(ip_address(seen[0])), int(ip_address(seen[2])), seen[3]] == [
                last.went.source, last.went.destination, last.went.dport,
            ], what  # fmt: skip
            back = path.answers[0]
            how = f"{what}; answer {[(h.device.name, h.why, h.verdict) for h in back.hops]}"
            assert is_certain(path.answers), how
            assert (back.verdict is Action.ACCEPT) == (str(number) in answered), how

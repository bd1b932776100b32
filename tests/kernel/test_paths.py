"""Packets over several devices: what arrives, what is answered, and what is translated on the way is as in the kernel."""

from __future__ import annotations

import json
import random
import socket
import subprocess
import sys
import textwrap
import uuid
from collections.abc import Iterator
from ipaddress import IPv4Address

import pytest
from msgspec.structs import replace

from aiguille.analysis.paths import Network, is_certain
from aiguille.model import Action, Estate
from aiguille.readers import host
from aiguille.readers.files import decode
from aiguille.space import Packet

SEED = 20261128
PACKETS = 300

_LISTEN = textwrap.dedent("""
    import json, socket, struct, sys, time
    answers = sys.argv[1] == "answers"
    taker = socket.socket(socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_UDP)
    taker.settimeout(0.2)
    print("ready", flush=True)
    seen, end = {}, time.monotonic() + float(sys.argv[2])
    while time.monotonic() < end:
        try:
            data, _ = taker.recvfrom(2048)
        except TimeoutError:
            continue
        size = (data[0] & 15) * 4
        source, target = (socket.inet_ntoa(data[at:at + 4]) for at in (12, 16))
        sport, dport = struct.unpack("!HH", data[size:size + 4])
        body = data[size + 8:]
        if len(body) != 8 or body[:4] != b"aig" + (b"?" if answers else b"!"):
            continue
        seen[int.from_bytes(body[4:], "big")] = [source, sport, target, dport]
        if answers:
            back = struct.pack("!HHHH", dport, sport, 16, 0) + b"aig!" + body[4:]
            out = socket.socket(socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_UDP)
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
        out = socket.socket(socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_UDP)
        out.bind((source, 0))
        try:
            out.sendto(struct.pack("!HHHH", sport, dport, 16, 0) + b"aig?" + number.to_bytes(4, "big"), (target, 0))
        except OSError:
            pass
        out.close()
        time.sleep(0.002)
""")


class Net:
    """Network namespaces joined by links."""

    def __init__(self) -> None:
        self.tag = uuid.uuid4().hex[:6]
        self.names: list[str] = []

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
            self.run(mine, "ip", "addr", "add", f"{network}.{last}/24", "dev", name)
            self.run(mine, "ip", "link", "set", name, "up")

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


@pytest.mark.parametrize("turn", range(4))
def test_packets_arrive_and_are_answered_as_the_paths_say(net: Net, turn: int) -> None:
    """Three routers in a row, and a fourth by which some answers come back past the second."""
    draw = random.Random(SEED + turn)
    routers = ("r1", "r2", "r3", "r4")
    for name in ("a", *routers, "b"):
        net.add(name)
    for one, other, network in (
        ("a", "r1", "10.1.0"), ("r1", "r2", "10.12.0"), ("r2", "r3", "10.23.0"), ("r3", "b", "10.9.0"),
        ("r3", "r4", "10.34.0"), ("r4", "r1", "10.14.0"),
    ):  # fmt: skip
        net.link(one, other, network)
    for extra in (100, 101):
        net.run("a", "ip", "addr", "add", f"10.1.0.{extra}/24", "dev", "to-r1")
    strict = turn % 2
    for name in routers:
        for key in ("all", "default", *(f"to-{far}" for far in ("a", "b", *routers))):
            subprocess.run(
                ["ip", "netns", "exec", f"{net.tag}{name}", "sysctl", "-qw", f"net.ipv4.conf.{key}.rp_filter={strict if name == 'r1' else 0}"],
                check=False, capture_output=True,
            )  # fmt: skip
        net.run(name, "sysctl", "-qw", "net.ipv4.ip_forward=1")
    for name in ("a", "b"):
        net.run(name, "iptables", "-A", "OUTPUT", "-p", "icmp", "-j", "DROP")
    net.run("a", "ip", "route", "add", "default", "via", "10.1.0.1")
    net.run("b", "ip", "route", "add", "default", "via", "10.9.0.3")
    net.run("r1", "ip", "route", "add", "10.9.0.0/24", "via", "10.12.0.2")
    net.run("r1", "ip", "route", "add", "10.23.0.0/24", "via", "10.12.0.2")
    net.run("r2", "ip", "route", "add", "10.9.0.0/24", "via", "10.23.0.3")
    net.run("r2", "ip", "route", "add", "10.1.0.0/24", "via", "10.12.0.1")
    net.run("r3", "ip", "route", "add", "10.12.0.0/24", "via", "10.23.0.2")
    away = ("10.34.0.4", "10.23.0.2") if turn < 3 else ("", "")
    if away[turn % 2]:
        net.run("r3", "ip", "route", "add", "10.1.0.0/24", "via", away[turn % 2])
    net.run("r4", "ip", "route", "add", "10.1.0.0/24", "via", "10.14.0.1")
    devices = []
    for name in routers:
        rules = _rules(draw, name)
        net.run(name, "iptables-restore", text=rules)
        told = "".join(
            f"net.ipv4.{key} = {net.run(name, 'sysctl', '-n', f'net.ipv4.{key}')}"
            for key in (
                "ip_forward",
                "conf.all.rp_filter",
                "conf.to-a.rp_filter",
                "conf.to-r2.rp_filter",
                "conf.to-r4.rp_filter",
            )
            if key == "ip_forward" or ".all." in key or name == "r1"
        )
        bundle = [
            decode("rules.v4", net.run(name, "iptables-save").encode()),
            decode("ip-addr.json", net.run(name, "ip", "-j", "addr").encode()),
            decode("ip-route.json", net.run(name, "ip", "-j", "route").encode()),
            replace(decode("sysctl.txt", told.encode()), place="collected/sysctl.txt"),
        ]
        devices.append(host.read(bundle, name))
    network = Network(Estate(tuple(devices), as_of=None))  # type: ignore[arg-type]
    asked = [
        (number, f"10.1.0.{draw.choice((99, 100, 101))}", draw.choice(("10.9.0.99", "10.9.0.99", "10.23.0.3")), 20000 + number, draw.randrange(7000, 7100))
        for number in range(PACKETS)
    ]  # fmt: skip
    taker, giver = net.start("b", _LISTEN, "answers", "4"), net.start("a", _LISTEN, "takes", "4")
    for one in (taker, giver):
        assert one.stdout is not None
        assert one.stdout.readline() == "ready\n"
    net.run("a", sys.executable, "-c", _SEND, text=json.dumps(asked))
    arrived, answered = (json.loads(one.communicate()[0]) for one in (taker, giver))
    assert 20 < len(arrived) < PACKETS
    for number, source, target, sport, dport in asked:
        ends = [int(IPv4Address(text)) for text in (source, target)]
        path = network.path(Packet(4, "", "", ends[0], ends[1], socket.IPPROTO_UDP, sport, dport))
        what = f"{source}:{sport} to {target}:{dport}, seed {SEED + turn}: {[(h.device.name, h.why, h.verdict) for h in path.journeys[0].hops]}"
        assert is_certain(path.journeys), what
        last = path.journeys[0].hops[-1]
        reaches = path.journeys[0].verdict is Action.ACCEPT and last.leaves == "to-b"
        assert reaches == (str(number) in arrived), what
        if reaches:
            seen = arrived[str(number)]
            assert [int(IPv4Address(seen[0])), int(IPv4Address(seen[2])), seen[3]] == [
                last.went.source, last.went.destination, last.went.dport,
            ], what  # fmt: skip
            back = path.answers[0]
            how = f"{what}; answer {[(h.device.name, h.why, h.verdict) for h in back.hops]}"
            assert is_certain(path.answers), how
            assert (back.verdict is Action.ACCEPT) == (str(number) in answered), how

"""The interface a packet leaves by is the kernel's choice."""

from __future__ import annotations

import json
import random
import re
import subprocess
import sys
from ipaddress import ip_address
from typing import Any

from aiguille.analysis.program import Programs
from aiguille.analysis.resolve import symbols_of
from aiguille.analysis.walk.answers import answer
from aiguille.analysis.walk.probe import Prober
from aiguille.analysis.ways import ways
from aiguille.model import Device
from aiguille.packets import read_sentence
from aiguille.readers import host
from aiguille.readers.files import ExportFile, decode
from tests.kernel.conftest import Namespace

SEED = 20261128
PACKETS = 2000


def routed(namespace: Namespace, draw: random.Random) -> None:
    """Overlapping prefixes of routes, connected networks and a default route; routes that refuse."""
    for number, address in ((0, "192.0.2.2/28"), (1, "10.1.0.1/16"), (2, "10.1.64.1/24")):
        namespace.run("ip", "link", "add", f"eth{number}", "type", "veth", "peer", "name", f"far{number}")
        namespace.run("ip", "link", "set", f"far{number}", "up")
        namespace.run("ip", "addr", "add", address, "dev", f"eth{number}")
        namespace.run("ip", "link", "set", f"eth{number}", "up")
    namespace.run("ip", "route", "add", "default", "via", "192.0.2.1", "dev", "eth0")
    for _ in range(30):
        length = draw.randint(9, 30)
        network = draw.getrandbits(24) | 10 << 24
        prefix = ip_address(network >> (32 - length) << (32 - length))
        device = f"eth{draw.randint(0, 2)}"
        what = ["blackhole", f"{prefix}/{length}"] if draw.random() < 0.2 else [f"{prefix}/{length}", "dev", device]
        namespace.run("ip", "route", "replace", *what)


def destinations(draw: random.Random) -> list[int]:
    addresses: list[int] = []
    while len(addresses) < PACKETS:
        near = draw.random() < 0.8
        value = (10 << 24 | draw.getrandbits(24)) if near else draw.randrange(0x0B000000, 0xDF000000)
        if not ip_address(value).is_loopback:
            addresses.append(value)
    return addresses


def described(namespace: Namespace, *rules: ExportFile) -> Device:
    facts = [
        decode("ip-addr.json", namespace.run("ip", "-j", "addr").encode()),
        decode("ip-route.json", namespace.run("ip", "-j", "route").encode()),
    ]
    return host.read([*rules, *facts], "gw")


def test_the_way_out_is_the_one_the_kernel_takes(namespace: Namespace) -> None:
    draw = random.Random(SEED)
    routed(namespace, draw)
    dump = "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n-A INPUT -i lo -j ACCEPT\nCOMMIT\n"
    device = described(namespace, decode("rules.v4", dump.encode()))
    symbols = symbols_of(device)
    known = ways(device, 4, symbols)
    addresses = destinations(draw)
    asked = "".join(f"route get {ip_address(value)}\n" for value in addresses)
    words = ["ip", "netns", "exec", namespace.name, "ip", "-force", "-batch", "-"]
    done = subprocess.run(words, input=asked, capture_output=True, text=True, check=False)
    answers = [line for line in done.stdout.splitlines() if line[:1].strip() and len(line.split()) > 1]
    told = {line.split()[0 if line[0].isdigit() else 1]: line for line in answers}
    agreed = refused = 0
    for value in addresses:
        line = told.get(str(ip_address(value)), "")
        if line.startswith(("local", "broadcast")):
            continue
        found = re.search(r" dev (\S+)", line)
        (way,) = [one for one in known if value in one.destinations]
        ours = {symbols.name(number) for number in way.leaves}
        assert ours == ({found[1]} if found else set()), f"{ip_address(value)} from seed {SEED}: {line}"
        agreed += 1
        refused += found is None
    assert agreed > PACKETS * 0.95
    assert refused


TRANSLATED = """table ip gate {
  map hosts { type inet_service : ipv4_addr; elements = { %s } }
  set seen { type ifname . inet_service; size 65535; flags dynamic; }
  chain pre { type nat hook prerouting priority dstnat; dnat to udp dport map @hosts; }
  chain through { type filter hook forward priority 0; add @seen { oifname . udp dport } counter drop; }
}
"""
SEND = """
import socket, struct, sys, time
mac = bytes.fromhex(sys.argv[1].replace(":", ""))
out = socket.socket(socket.AF_PACKET, socket.SOCK_RAW)
out.bind(("far0", 0))
whence = socket.inet_aton("198.51.100.77")
def checked(head):
    total = sum(struct.unpack("!10H", head))
    total = (total & 0xFFFF) + (total >> 16)
    return head[:10] + struct.pack("!H", 0xFFFF & ~(total + (total >> 16))) + head[12:]
for number, line in enumerate(sys.stdin):
    time.sleep(0.05 if number % 200 == 0 else 0)  # what waits for the kernel is held in a short line
    port, to = line.split()
    port = int(port)
    head = checked(struct.pack("!BBHHHBBH4s4s", 0x45, 0, 28, 1, 0, 64, 17, 0, whence, socket.inet_aton(to)))
    out.send(mac + bytes(6) + b"\\x08\\x00" + head + struct.pack("!HHHH", 40000, port, 8, 0))
"""


def send(namespace: Namespace, to: dict[int, int]) -> None:
    """A packet for each port, to the address beside it, all from one sender on the far side of eth0."""
    (link,) = json.loads(namespace.run("ip", "-j", "link", "show", "eth0"))
    lines = "".join(f"{port} {ip_address(value)}\n" for port, value in to.items())
    namespace.run(sys.executable, "-c", SEND, link["address"], text=lines)


def recorded(namespace: Namespace, name: str) -> list[Any]:
    """The elements rules have put into a set of the table 'gate'."""
    listed = json.loads(namespace.run("nft", "-j", "list", "set", "ip", "gate", name))["nftables"]
    (found,) = [one["set"] for one in listed if "set" in one]
    return found.get("elem", [])


def test_the_way_out_of_what_was_translated_is_the_one_the_kernel_takes(namespace: Namespace) -> None:
    """A port each is sent on to a random destination; which interface the kernel chose for it the forward chain sees, and what a route
    refuses it does not see."""
    draw = random.Random(SEED + 1)
    routed(namespace, draw)
    hosts = dict(enumerate(destinations(draw), 2000))
    elements = ", ".join(f"{port} : {ip_address(value)}" for port, value in hosts.items())
    namespace.run(
        "sysctl", "-qw", "net.ipv4.ip_forward=1", "net.ipv4.conf.all.rp_filter=0", "net.ipv4.conf.eth0.rp_filter=0"
    )
    namespace.run("nft", "-f", "-", text=TRANSLATED % elements)
    device = described(namespace, decode("nft-ruleset.txt", namespace.run("nft", "list", "ruleset").encode()))
    send(namespace, dict.fromkeys(hosts, 0xC0000202))
    seen = {port: name for name, port in (_plain(one)["concat"] for one in recorded(namespace, "seen"))}
    prober = Prober(Programs(device))
    known = ways(device, 4, prober.programs.resolver(4).space.symbols)
    local = {one.first for interface in device.interfaces for one in interface.addresses}
    agreed = 0
    for port, value in hosts.items():
        if value in local:
            continue
        sentence = f"udp from 198.51.100.77:40000 to 192.0.2.2:{port} entering eth0"
        if port in seen:
            (verdict,) = answer(prober, read_sentence(sentence)).verdicts
            told = {
                visit.packet.out_interface
                for way in verdict.ways
                for visit in way.visits
                if visit.chain.name == "through"
            }
            assert told == {seen[port]}, f"{ip_address(value)} from seed {SEED + 1}: {sentence}"
        else:
            assert not next(one for one in known if value in one.destinations).leaves, (
                f"{ip_address(value)}: {sentence}"
            )
        agreed += 1
    assert agreed > PACKETS * 0.95
    assert len(seen) < agreed, "no route refused any"


KINDS = ("local", "unicast", "broadcast", "multicast")


def test_what_kind_of_destination_an_address_is_the_kernel_says(namespace: Namespace) -> None:
    """Before routing, and all addresses of the device known: its own, the ends of its networks, those of others."""
    draw = random.Random(SEED + 2)
    routed(namespace, draw)
    namespace.run("ip", "link", "set", "lo", "up")
    own = [0xC0000202, 0x0A010001, 0x0A014001]
    ends = [0xC0000200, 0xC000020F, 0x0A010000, 0x0A01FFFF, 0x0A0140FF, 0x7F000001, 0x7F123456, 0xE00000FB, 0xFFFFFFFF]
    near = [value + draw.choice([-1, 1]) for value in own]
    values = dict(enumerate([*own, *ends, *near, *destinations(draw)[:200]], 2000))
    sets = "".join(f"  set {kind} {{ type inet_service; size 65535; flags dynamic; }}\n" for kind in KINDS)
    rules = "".join(f"    fib daddr type {kind} add @{kind} {{ udp dport }}\n" for kind in KINDS)
    chain = f"  chain pre {{\n    type filter hook prerouting priority -150;\n{rules}  }}\n"
    through = (
        "  chain through { type filter hook forward priority 0; }\n  chain in { type filter hook input priority 0; }\n"
    )
    namespace.run("nft", "-f", "-", text=f"table ip gate {{\n{sets}{chain}{through}}}\n")
    device = described(namespace, decode("nft-ruleset.txt", namespace.run("nft", "list", "ruleset").encode()))
    send(namespace, values)
    seen = {port: kind for kind in KINDS for port in recorded(namespace, kind)}
    prober = Prober(Programs(device))
    certain = 0
    for port, value in values.items():
        sentence = f"udp from 198.51.100.77:40000 to {ip_address(value)}:{port} entering eth0"
        (verdict,) = answer(prober, read_sentence(sentence)).verdicts
        visits = [visit for way in verdict.ways for visit in way.visits if visit.rule is not None]
        sure = all(visit.matched for visit in visits)
        told = {KINDS[visit.rule.number - 1] for visit in visits if visit.rule is not None}
        assert not sure or told == {seen[port]}, f"{sentence}, from seed {SEED + 2}"
        certain += sure
    assert certain > 0.95 * len(values)


def _plain(element: dict[str, Any]) -> dict[str, Any]:
    """An element without what stands beside it."""
    inner: dict[str, Any] = element.get("elem", {}).get("val", element)
    return inner

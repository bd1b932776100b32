"""A firewall in a network namespace, and packets put on its wires from outside.

Three veth pairs lead into the namespace: v0 to v2 inside, their peers outside. Packets are complete Ethernet frames, so that any
address, flag and state can be made; routes and permanent neighbours inside see to it that whatever is accepted can also leave.
"""

from __future__ import annotations

import itertools
import re
import socket
import struct
import subprocess
import time
import uuid
from dataclasses import dataclass, field
from ipaddress import ip_address

from aiguille.packets import Packet

INSIDE = ("v0", "v1", "v2")
OWN = {4: ("192.0.2.1", "192.0.2.65", "192.0.2.129"), 6: ("2001:db8:0:a0::1", "2001:db8:0:a1::1", "2001:db8:0:a2::1")}
"""The firewall's own address on each interface."""
BEHIND = {
    4: ("10.0.0.0/24", "10.0.1.0/24", "10.0.2.0/24"),
    6: ("2001:db8:0::/64", "2001:db8:0:1::/64", "2001:db8:0:2::/64"),
}
"""What lies behind each interface."""
_PEER_MAC = "02:00:00:00:00:%02x"
_OWN_MAC = "02:00:00:00:01:%02x"


def sh(*words: str, text: str | None = None) -> str:
    done = subprocess.run(words, input=text, capture_output=True, text=True, check=False)
    assert done.returncode == 0, f"{' '.join(words)}: {done.stderr}"
    return done.stdout


@dataclass
class Firewall:
    """The namespace with its wires; use as a context."""

    name: str = field(default_factory=lambda: uuid.uuid4().hex[:6])

    def __enter__(self) -> Firewall:
        self.ns = f"aig-{self.name}"
        sh("ip", "netns", "add", self.ns)
        self.sockets = []
        for n, inner in enumerate(INSIDE):
            peer = f"aig{self.name}{n}"
            sh(
                "ip",
                "link",
                "add",
                peer,
                "address",
                _PEER_MAC % n,
                "type",
                "veth",
                "peer",
                "name",
                inner,
                "netns",
                self.ns,
            )
            # The host's own chatter must not reach the firewall.
            sh("sysctl", "-qw", f"net.ipv6.conf.{peer}.disable_ipv6=1")
            sh("ip", "link", "set", peer, "up")
        for key in ("ipv4.ip_forward", "ipv6.conf.all.forwarding", "netfilter.nf_conntrack_tcp_be_liberal"):
            self.run("sysctl", "-qw", f"net.{key}=1")
        for key in ("ipv4.conf.all.rp_filter", "ipv4.conf.default.rp_filter", "netfilter.nf_conntrack_tcp_loose"):
            self.run("sysctl", "-qw", f"net.{key}=0")
        self.run("ip", "link", "set", "lo", "up")
        for n, inner in enumerate(INSIDE):
            self.run("sysctl", "-qw", f"net.ipv4.conf.{inner}.rp_filter=0", f"net.ipv6.conf.{inner}.accept_dad=0")
            self.run("ip", "link", "set", inner, "address", _OWN_MAC % n, "up")
            for family, length, gateway in ((4, 26, 2), (6, 64, 2)):
                own = OWN[family][n]
                via = str(ip_address(own) + gateway - 1)
                extra = ("nodad",) if family == 6 else ()
                self.run("ip", f"-{family}", "addr", "add", f"{own}/{length}", "dev", inner, *extra)
                self.run(
                    "ip",
                    f"-{family}",
                    "neigh",
                    "replace",
                    via,
                    "lladdr",
                    _PEER_MAC % n,
                    "dev",
                    inner,
                    "nud",
                    "permanent",
                )
                self.run("ip", f"-{family}", "route", "add", BEHIND[family][n], "via", via, "dev", inner)
            out = socket.socket(socket.AF_PACKET, socket.SOCK_RAW)
            out.bind((f"aig{self.name}{n}", 0))
            self.sockets.append(out)
        return self

    def __exit__(self, *_: object) -> None:
        for out in self.sockets:
            out.close()
        sh("ip", "netns", "del", self.ns)

    def run(self, *words: str, text: str | None = None) -> str:
        return sh("ip", "netns", "exec", self.ns, *words, text=text)

    def load(self, family: int, dump: str) -> None:
        self.run("iptables-restore" if family == 4 else "ip6tables-restore", text=dump)

    def load_sets(self, text: str) -> None:
        """Replace all sets; no rule may refer to any. The kernel lets go of them a little after the last such rule."""
        # A list holds on to its members until it is emptied.
        self.run("ipset", "flush")
        for attempt in range(40):
            words = ["ip", "netns", "exec", self.ns, "ipset", "destroy"]
            done = subprocess.run(words, capture_output=True, text=True, check=False)
            if done.returncode == 0:
                break
            time.sleep(0.005 * (attempt + 1))
        assert done.returncode == 0, done.stderr
        self.run("ipset", "restore", text=text)

    def counters(self, family: int) -> dict[tuple[str, str, int | str], int]:
        """Packets counted so far by (table, chain, rule number or "policy")."""
        out: dict[tuple[str, str, int | str], int] = {}
        numbers: dict[tuple[str, str], int] = {}
        table = ""
        for line in self.run("iptables-save" if family == 4 else "ip6tables-save", "-c").splitlines():
            if line.startswith("*"):
                table = line[1:]
            elif found := re.match(r":(\S+) \S+ \[(\d+):", line):
                out[table, found[1], "policy"] = int(found[2])
            elif found := re.match(r"\[(\d+):\d+\] -A (\S+)", line):
                number = numbers[table, found[2]] = numbers.get((table, found[2]), 0) + 1
                out[table, found[2], number] = int(found[1])
        return out

    def send(self, packet: Packet) -> None:
        """Put a packet on the wire of the interface it enters by."""
        at = INSIDE.index(packet.in_interface)
        kind = 0x0800 if packet.family == 4 else 0x86DD
        macs = bytes.fromhex((_OWN_MAC % at + _PEER_MAC % at).replace(":", ""))
        self.sockets[at].send(macs + struct.pack("!H", kind) + datagram(packet))

    def counted(
        self, packet: Packet, before: dict[tuple[str, str, int | str], int]
    ) -> dict[tuple[str, str, int | str], int]:
        """Send a packet and wait until some counter has moved; what has moved, by how much."""
        self.send(packet)
        for attempt in range(40):
            after = self.counters(packet.family)
            moved = {key: after[key] - before.get(key, 0) for key in after if after[key] != before.get(key, 0)}
            if moved:
                before.clear()
                before.update(after)
                return moved
            time.sleep(0.002 * (attempt + 1))
        return {}


_IDENTITIES = itertools.count(1)
"""No two ICMP messages of a run belong to one exchange, so that none answers another by accident."""


def datagram(packet: Packet) -> bytes:
    """The packet from its network header on, checksums included (RFC 791, 8200, 9293, 768, 792, 4443)."""
    size = 4 if packet.family == 4 else 16
    source, destination = packet.source.to_bytes(size), packet.destination.to_bytes(size)
    body = _transport(packet, source, destination)
    if packet.family == 6:
        return struct.pack("!IHBB", 6 << 28, len(body), packet.protocol, 64) + source + destination + body
    head = struct.pack("!BBHHHBBH", 0x45, 0, 20 + len(body), 1, 0, 64, packet.protocol, 0) + source + destination
    return head[:10] + struct.pack("!H", checksum(head)) + head[12:] + body


def _transport(packet: Packet, source: bytes, destination: bytes) -> bytes:
    sport, dport = packet.sport or 0, packet.dport or 0
    pseudo = source + destination
    match packet.protocol:
        case 6:
            flags = packet.flags or 0
            body = struct.pack("!HHIIBBHHH", sport, dport, 1000, 2001 if flags & 16 else 0, 0x50, flags, 8192, 0, 0)
            where = 16
        case 17:
            body = struct.pack("!HHHH", sport, dport, 12, 0) + b"data"
            where = 6
        case 1 | 58:
            body = (
                struct.pack("!BBHHH", packet.icmp_type or 0, packet.icmp_code or 0, 0, next(_IDENTITIES) & 0xFFFF, 1)
                + b"data"
            )
            where = 2
            if packet.protocol == 1:
                pseudo = b""
        case 132:  # RFC 9260: an INIT chunk, whose sender awaits a tag
            head = struct.pack("!HHI", sport, dport, 0)
            body = struct.pack("!BBHIIHHI", 1, 0, 20, next(_IDENTITIES), 0xFFFF, 1, 1, 1)
            return head + struct.pack("<I", _crc32c(head + bytes(4) + body)) + body
        case _:
            return b"data"
    if pseudo:
        pseudo += struct.pack("!IBBBB", len(body), 0, 0, 0, packet.protocol)
    value = checksum(pseudo + body)
    return body[:where] + struct.pack("!H", value) + body[where + 2 :]


def checksum(data: bytes) -> int:
    """The Internet checksum (RFC 1071)."""
    if len(data) % 2:
        data += b"\0"
    total = sum(struct.unpack(f"!{len(data) // 2}H", data))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF


def _crc32c(data: bytes) -> int:
    """The checksum of SCTP (RFC 9260, appendix A)."""
    value = 0xFFFFFFFF
    for byte in data:
        value ^= byte
        for _ in range(8):
            value = value >> 1 ^ (0x82F63B78 if value & 1 else 0)
    return value ^ 0xFFFFFFFF


def address(text: str) -> int:
    return int(ip_address(text))

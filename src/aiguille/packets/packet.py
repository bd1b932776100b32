"""Concrete packets: between the numbers of a space and the words of people."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from aiguille.model import State
from aiguille.model.spelling import spell_address, spell_flags, spell_protocol
from aiguille.space.fields import ICMP_OF, SYN, TCP, WITH_PORTS, Axis, Space

STATES = tuple(State)


class Packet(Struct, frozen=True):
    """One packet at the point where it meets the device.

    in_interface, out_interface: names; empty where the device itself sends or receives it
    source, destination: addresses as integers of `family` 4 or 6
    sport, dport: for protocols with ports; icmp_type, icmp_code: for ICMP and ICMPv6; None elsewhere
    flags: TCP flag byte, None elsewhere
    """

    family: int
    in_interface: str
    out_interface: str
    source: int
    destination: int
    protocol: int
    sport: int | None = None
    dport: int | None = None
    icmp_type: int | None = None
    icmp_code: int | None = None
    flags: int | None = None
    state: State = State.NEW

    def point(self, space: Space) -> tuple[int, ...]:
        """The packet's coordinates in `space`."""
        number = space.symbols.number
        if self.protocol in WITH_PORTS:
            a, b = self.sport or 0, self.dport or 0
        else:
            a, b = self.icmp_type or 0, self.icmp_code or 0
        leaves = number(self.out_interface) if self.out_interface else 0
        return (
            number(self.in_interface) if self.in_interface else 0,
            leaves,
            self.source,
            self.destination,
            self.protocol,
            a,
            b,
            self.flags or 0,
            self.state.number,
            space.kind(leaves, self.destination),
        )

    def to_dict(self) -> dict[str, str | int | None]:
        """The packet for JSON, addresses and protocol in their usual spelling."""
        return {
            "in": self.in_interface,
            "out": self.out_interface,
            "src": spell_address(self.family, self.source),
            "dst": spell_address(self.family, self.destination),
            "protocol": spell_protocol(self.protocol),
            "sport": self.sport,
            "dport": self.dport,
            "icmp_type": self.icmp_type,
            "icmp_code": self.icmp_code,
            "tcp_flags": None if self.flags is None else spell_flags(self.flags),
            "state": self.state.value,
        }

    def sentence(self) -> str:
        """The packet as `aiguille probe --packet` takes it."""
        words = [spell_protocol(self.protocol)]
        if self.icmp_type is not None:
            words.append(f"type {self.icmp_type} code {self.icmp_code}")
        words += ["from", _end(self.family, self.source, self.sport)]
        words += ["to", _end(self.family, self.destination, self.dport)]
        if self.in_interface:
            words += ["entering", self.in_interface]
        if self.out_interface:
            words += ["leaving", self.out_interface]
        if self.flags is not None and self.flags != SYN:
            words += ["flags", spell_flags(self.flags)]
        if self.state is not State.NEW:
            words += ["state", self.state.value]
        return " ".join(words)


def packet_at(space: Space, point: Sequence[int]) -> Packet:
    """The packet at the coordinates `point` of `space`."""
    protocol = point[Axis.PROTO]
    ported = protocol in WITH_PORTS
    icmp = protocol == ICMP_OF[space.family]
    return Packet(
        family=space.family,
        in_interface=space.symbols.name(point[Axis.IN]),
        out_interface=space.symbols.name(point[Axis.OUT]),
        source=point[Axis.SRC],
        destination=point[Axis.DST],
        protocol=protocol,
        sport=point[Axis.A] if ported else None,
        dport=point[Axis.B] if ported else None,
        icmp_type=point[Axis.A] if icmp else None,
        icmp_code=point[Axis.B] if icmp else None,
        flags=point[Axis.FLAGS] if protocol == TCP else None,
        state=STATES[point[Axis.STATE]],
    )


def _end(family: int, address: int, port: int | None) -> str:
    text = spell_address(family, address)
    if port is None:
        return text
    return f"{text}:{port}" if family == 4 else f"[{text}]:{port}"

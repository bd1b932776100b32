"""Packets as people write them: a sentence, or a row of a table. What is left out is unspecified.

tcp from 203.0.113.9:41000 to 192.0.2.10:443 entering eth0 leaving eth1
icmp type 8 code 0 from 10.0.0.1 to 10.0.0.2 entering eth1
udp from any to [2001:db8::53]:53 leaving eth0 state established
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from ipaddress import IPv4Address, IPv6Address, ip_network

from msgspec import Struct
from msgspec.structs import replace

from aiguille.model import State, UsageError
from aiguille.model.protocols import PORTS, PROTOCOL_NAMES, PROTOCOLS, TCP_FLAGS
from aiguille.packets.packet import Packet
from aiguille.space.fields import ICMP_OF, PORT_TOP, SYN, TCP, WITH_PORTS, Axis, Box, Space, box
from aiguille.space.intervals import IntervalSet

EXAMPLE = "tcp from 203.0.113.9:41000 to 192.0.2.10:443 entering eth0 leaving eth1"

COLUMNS = (
    "id",
    "in",
    "out",
    "src",
    "dst",
    "protocol",
    "sport",
    "dport",
    "icmp_type",
    "icmp_code",
    "tcp_flags",
    "state",
)
"""The header of a table of packets."""

ANY = "any"


class Sketch(Struct, frozen=True):
    """A packet with some fields left open (None).

    in_interface, out_interface: "" for the device itself, "any" for every interface
    source, destination: closed ranges of addresses of `family`
    """

    in_interface: str = ""
    out_interface: str = ""
    family: int | None = None
    source: tuple[int, int] | None = None
    destination: tuple[int, int] | None = None
    protocol: int | None = None
    sport: int | None = None
    dport: int | None = None
    icmp_type: int | None = None
    icmp_code: int | None = None
    flags: int | None = None
    state: State = State.NEW

    def packet(self) -> Packet | None:
        """The packet, if nothing it needs is left open."""
        single = all(span is not None and span[0] == span[1] for span in (self.source, self.destination))
        if self.family is None or self.protocol is None or not single or ANY in (self.in_interface, self.out_interface):
            return None
        if self.protocol in WITH_PORTS and (self.sport is None or self.dport is None):
            return None
        if self.protocol == ICMP_OF[self.family] and (self.icmp_type is None or self.icmp_code is None):
            return None
        return Packet(
            self.family,
            self.in_interface,
            self.out_interface,
            self.source[0] if self.source else 0,
            self.destination[0] if self.destination else 0,
            self.protocol,
            self.sport,
            self.dport,
            self.icmp_type,
            self.icmp_code,
            self._flags() if self.protocol == TCP else None,
            self.state,
        )

    def region(self, space: Space) -> Box:
        """All packets of `space` that fit, beside what the direction says of interfaces."""
        fields: list[tuple[Axis, IntervalSet]] = [(Axis.STATE, IntervalSet.of(self.state.number))]
        for axis, name in ((Axis.IN, self.in_interface), (Axis.OUT, self.out_interface)):
            if name not in ("", ANY):
                fields.append((axis, IntervalSet.of(space.symbols.number(name))))
        for axis, span in ((Axis.SRC, self.source), (Axis.DST, self.destination)):
            if span is not None:
                fields.append((axis, IntervalSet([span])))
        if self.protocol is not None:
            fields.append((Axis.PROTO, IntervalSet.of(self.protocol)))
        elif self.sport is not None or self.dport is not None:
            fields.append((Axis.PROTO, IntervalSet.of(*WITH_PORTS)))
        for axis, one, other in ((Axis.A, self.sport, self.icmp_type), (Axis.B, self.dport, self.icmp_code)):
            value = one if one is not None else other
            if value is not None:
                fields.append((axis, IntervalSet.of(value)))
        if self.protocol == TCP:
            fields.append((Axis.FLAGS, IntervalSet.of(self._flags())))
        return box(fields)

    def naming(self, packet: Packet) -> Packet:
        """A packet that fits, with the interfaces by the names they were asked by: rules may not tell these apart from others."""
        asked = {"in_interface": self.in_interface, "out_interface": self.out_interface}
        named = {end: name for end, name in asked.items() if name not in ("", ANY) and getattr(packet, end)}
        return replace(packet, **named)

    def _flags(self) -> int:
        """The flags of a TCP packet: SYN opens a connection, ACK is what belongs to one."""
        if self.flags is not None:
            return self.flags
        return SYN if self.state is State.NEW else TCP_FLAGS["ACK"]


_TAKES = {
    "from": "an address",
    "to": "an address",
    "entering": "an interface",
    "leaving": "an interface",
    "state": "a state",
    "flags": "flag names",
    "type": "a number",
    "code": "a number",
}
"""The words that are followed by a value, and what that is."""


def read_sentence(text: str, *, placed: bool = True) -> Sketch:
    """Read a packet in words; raises UsageError that points at the word it does not understand.

    placed: whether it must say by which interface the packet comes or goes
    """
    words = text.split()
    if not words:
        raise UsageError(f"the packet is empty; write for example: {EXAMPLE}")

    def fault(word: str, why: object) -> UsageError:
        return UsageError(f"'{word}' in the packet '{text}' is not understood: {why}; write for example: {EXAMPLE}")

    sketch, at = Sketch(), 0
    if words[0].lower() not in _TAKES:
        try:
            sketch = replace(sketch, protocol=_protocol(words[0].lower()))
        except UsageError as error:
            raise fault(words[0], error) from error
        at = 1
    while at < len(words):
        word = words[at].lower()
        if word not in _TAKES:
            raise fault(words[at], f"expected {', '.join(_TAKES)}")
        if at + 1 == len(words):
            raise fault(words[at], f"it ends the packet without {_TAKES[word]}")
        try:
            sketch = _described(sketch, word, words[at + 1])
        except UsageError as error:
            raise fault(words[at + 1], error) from error
        at += 2
    return _checked(sketch, placed=placed)


def _described(sketch: Sketch, word: str, value: str) -> Sketch:
    """The sketch with one more thing told of it."""
    match word:
        case "from" | "to":
            return _with_end(sketch, value, source=word == "from")
        case "entering":
            return replace(sketch, in_interface=value)
        case "leaving":
            return replace(sketch, out_interface=value)
        case "state":
            return replace(sketch, state=_state(value))
        case "flags":
            return replace(sketch, flags=_flags(value))
        case "type":
            return replace(sketch, icmp_type=_number(value, 255, "an ICMP type"))
        case _:
            return replace(sketch, icmp_code=_number(value, 255, "an ICMP code"))


def read_row(row: Mapping[str, str], *, placed: bool = True) -> Sketch:
    """Read a packet out of the columns of `COLUMNS`; raises UsageError with the reason. placed: as for `read_sentence`"""
    sketch = Sketch(in_interface=row["in"].strip(), out_interface=row["out"].strip())
    for column, source in (("src", True), ("dst", False)):
        if text := row[column].strip():
            family, span = _address(text)
            sketch = _with_address(sketch, family, span, source)
    sketch = replace(
        sketch,
        protocol=_protocol(text.lower()) if (text := row["protocol"].strip()) else None,
        sport=_optional(row["sport"], PORT_TOP, "a source port"),
        dport=_optional(row["dport"], PORT_TOP, "a destination port"),
        icmp_type=_optional(row["icmp_type"], 255, "an ICMP type"),
        icmp_code=_optional(row["icmp_code"], 255, "an ICMP code"),
        flags=_flags(text) if (text := row["tcp_flags"].strip()) else None,
        state=_state(text) if (text := row["state"].strip()) else State.NEW,
    )
    return _checked(sketch, placed=placed)


def _checked(sketch: Sketch, *, placed: bool) -> Sketch:
    if placed and not sketch.in_interface and not sketch.out_interface:
        raise UsageError(
            "the packet neither enters nor leaves by an interface; add entering or leaving (in, out), 'any' for every one"
        )
    # ICMP is spelt alike for both families; the addresses show which is meant.
    if sketch.family == 6 and sketch.protocol == ICMP_OF[4]:
        sketch = replace(sketch, protocol=ICMP_OF[6])
    if (
        sketch.protocol is not None
        and sketch.protocol not in WITH_PORTS
        and (sketch.sport, sketch.dport) != (None, None)
    ):
        raise UsageError(f"protocol {PROTOCOL_NAMES.get(sketch.protocol, sketch.protocol)} has no ports")
    if sketch.family is not None and sketch.protocol == ICMP_OF[10 - sketch.family]:
        raise UsageError("the protocol and the addresses belong to different address families")
    return sketch


def _with_end(sketch: Sketch, text: str, *, source: bool) -> Sketch:
    address, port = _split_port(text)
    if port is not None:
        number = PORTS[port] if port in PORTS else _number(port, PORT_TOP, "a port")
        sketch = replace(sketch, sport=number) if source else replace(sketch, dport=number)
    if address.lower() == ANY:
        return sketch
    family, span = _address(address)
    return _with_address(sketch, family, span, source)


def _with_address(sketch: Sketch, family: int, span: tuple[int, int], source: bool) -> Sketch:
    if sketch.family not in (None, family):
        raise UsageError("source and destination belong to different address families")
    sketch = replace(sketch, family=family)
    return replace(sketch, source=span) if source else replace(sketch, destination=span)


def _split_port(text: str) -> tuple[str, str | None]:
    if text.startswith("["):
        address, _, rest = text[1:].partition("]")
        return address, rest[1:] if rest.startswith(":") else None
    if text.count(":") == 1:
        address, _, port = text.partition(":")
        return address or ANY, port
    return text, None


def _address(text: str) -> tuple[int, tuple[int, int]]:
    try:
        if "/" in text:
            network = ip_network(text, strict=False)
            return network.version, (int(network[0]), int(network[-1]))
        value = int(IPv6Address(text)) if ":" in text else int(IPv4Address(text))
    except ValueError as error:
        raise UsageError(f"'{text}' is not an address such as 192.0.2.10 or 2001:db8::10") from error
    return (6 if ":" in text else 4), (value, value)


def _protocol(text: str) -> int | None:
    if text in (ANY, "ip"):
        return None
    if text in PROTOCOLS:
        return PROTOCOLS[text]
    return _number(text, 255, "a protocol such as tcp, udp or icmp")


def _number(text: str, top: int, what: str) -> int:
    if not is_number(text, top):
        raise UsageError(f"'{text}' is not {what} (a number up to {top})")
    return int(text)


def read_ports(text: str) -> tuple[int, int]:
    """A port or a range of them, by number or name: ``443``, ``https``, ``8000-8100``; raises UsageError."""
    first, _, last = text.partition("-")
    ends = [PORTS.get(one, int(one) if is_number(one, PORT_TOP) else -1) for one in (first, last or first)]
    if not 0 <= ends[0] <= ends[1]:
        raise UsageError(f"'{text}' is no port or range of ports")
    return ends[0], ends[1]


def is_number(text: str, top: int) -> bool:
    """Whether a text is a decimal number up to `top`."""
    return text.isdecimal() and text.isascii() and len(text) < 20 and int(text) <= top


def _optional(text: str, top: int, what: str) -> int | None:
    text = text.strip()
    return _number(text, top, what) if text else None


def _state(text: str) -> State:
    if text.lower() not in tuple(State):
        raise UsageError(f"'{text}' is not a state; known are {', '.join(State)}")
    return State(text.lower())


def _flags(text: str) -> int:
    if text.upper() == "NONE":
        return 0
    value = 0
    for name in text.upper().replace("|", ",").replace(" ", ",").split(","):
        if name not in TCP_FLAGS:
            raise UsageError(f"'{name}' is not a TCP flag; known are {', '.join(TCP_FLAGS)} and NONE")
        value |= TCP_FLAGS[name]
    return value


def families_of(sketch: Sketch) -> Iterator[int]:
    """The address families a sketch may belong to."""
    for family in (4, 6):
        if sketch.family in (None, family) and sketch.protocol != ICMP_OF[10 - family]:
            yield family

"""How wide a rule is by its own conditions, in words and as a number: how many sources reach how many destinations, on what."""

from __future__ import annotations

from math import log2

from msgspec import Struct

from aiguille.analysis.program import Programs
from aiguille.analysis.resolve import Resolver
from aiguille.analysis.sides import loopback
from aiguille.model import Action, Chain, Rule, Rulebase, Stage, State, Translate
from aiguille.model.spelling import grouped, spell_protocol
from aiguille.space.fields import ICMP_OF, WITH_PORTS, Axis, Box
from aiguille.space.intervals import IntervalSet
from aiguille.space.packetset import PacketSet

_NETWORK = 64
"""Bits of an address of IPv6 that a network has to itself (RFC 4291, 2.5.1)."""

_NETWORKS = 1_000_000
"""Networks of that size up to which their number says something."""


_NETWORK_SHARE = 0.25
"""What a network of IPv6 counts for, of all of it: as much as a /24 does of IPv4, which networks there mostly have."""

_SERVICES = 24
"""Bits of a protocol and a port (RFC 791, 3.1; RFC 9293, 3.1)."""


_OWN = {Stage.INPUT: Axis.DST, Stage.OUTPUT: Axis.SRC}
"""The end of its packets that is the device itself, by where a chain begins."""


class Breadth(Struct, frozen=True):
    """How wide an accepting rule is.

    words: "any source to 1 destination on 2 ports of tcp"; empty for what opens nothing new
    width: 0 for one source, destination and service, 100 for any of each, in the family where it is wider; each of the
        three counts a third, by the logarithm of how many there are. None where `words` is empty
    """

    words: str
    width: float | None


NOTHING = Breadth("", None)


def breadth(programs: Programs, rulebase: Rulebase, chain: Chain, rule: Rule) -> Breadth:
    """What an accepting rule of a chain matches of new connections.

    `NOTHING` for rules that accept nothing new, translate or are for the loopback alone, and for conditions that exclude one
    another. In a chain that begins with what comes to the device, or leaves it, that end is the device.
    """
    if rule.action is not Action.ACCEPT or any(isinstance(one, Translate) for one in rule.effects):
        return NOTHING
    matched = {
        family: found
        for family in sorted(rulebase.families)
        if (found := _matched(programs.resolver(family), rule)) is not None
    }
    if not matched:
        return NOTHING
    own = _OWN.get(chain.base.stage) if chain.base is not None else None
    width = max(round(100 * _width(found, family, own), 1) for family, found in matched.items())
    said = {family: _said(found, own) for family, found in matched.items()}
    by_words = dict.fromkeys(said.values())
    if len(by_words) == 1 and len(said) == len(rulebase.families):
        return Breadth(next(iter(by_words)), width)
    first = {words: next(family for family, one in said.items() if one == words) for words in by_words}
    return Breadth("; ".join(f"IPv{family}: {words}" for words, family in first.items()), width)


def _matched(resolver: Resolver, rule: Rule) -> PacketSet | None:
    inner = loopback(resolver.space.symbols)
    boxes = [piece.box for piece in resolver.rule(rule) if _is_new(piece.box) and not _is_within(piece.box, inner)]
    return PacketSet.of(resolver.space.tops, boxes) if boxes else None


def _said(matched: PacketSet, own: Axis | None) -> str:
    sources, destinations = (
        "the device" if axis is own else _ends(matched, axis, noun)
        for axis, noun in ((Axis.SRC, "source"), (Axis.DST, "destination"))
    )
    return f"{sources} to {destinations} on {_services(matched)}"


def _width(matched: PacketSet, family: int, own: Axis | None) -> float:
    ends = [axis for axis in (Axis.SRC, Axis.DST) if axis is not own]
    addresses = sum(_share(matched.project(axis).size, family) for axis in ends)
    return (addresses + min(1.0, _service_bits(matched) / _SERVICES)) / 3


def _share(size: int, family: int) -> float:
    """Where a number of addresses stands between one, 0, and all of a family, 1."""
    if family == 4:
        return log2(max(size, 1)) / 32
    bits = log2(max(size, 1))
    if bits <= _NETWORK:
        return _NETWORK_SHARE * bits / _NETWORK
    return _NETWORK_SHARE + (1 - _NETWORK_SHARE) * (bits - _NETWORK) / (128 - _NETWORK)


def _service_bits(matched: PacketSet) -> float:
    protocols = matched.project(Axis.PROTO)
    if _covers(protocols, matched.tops[Axis.PROTO]):
        return _SERVICES
    with_ports = sum(number in protocols for number in WITH_PORTS)
    ports = matched.project(Axis.B).size if with_ports else 0
    return log2(max(1, with_ports * ports + protocols.size - with_ports))


def _is_new(box: Box) -> bool:
    states = box[Axis.STATE]
    return states is None or State.NEW.number in states


def _is_within(box: Box, interfaces: IntervalSet) -> bool:
    """Whether packets arrive on these alone, or leave by them."""
    return any(not values - interfaces for axis in (Axis.IN, Axis.OUT) if (values := box[axis]) is not None)


def _ends(matched: PacketSet, axis: Axis, noun: str) -> str:
    values = matched.project(axis)
    if _covers(values, matched.tops[axis]):
        return f"any {noun}"
    if values.size < 1 << _NETWORK:
        return f"{grouped(values.size)} {noun}{'' if values.size == 1 else 's'}"
    networks = values.size >> _NETWORK
    if networks < _NETWORKS:
        return f"{noun}s of {grouped(networks)} network{'' if networks == 1 else 's'}"
    return f"{noun}s of a /{129 - values.size.bit_length()}"


def _services(matched: PacketSet) -> str:
    protocols = matched.project(Axis.PROTO)
    if _covers(protocols, matched.tops[Axis.PROTO]):
        return "any service"
    numbers = [n for first, last in protocols.spans for n in range(first, last + 1)]
    if set(numbers) <= set(ICMP_OF.values()):
        return "ICMP"
    names = " and ".join(spell_protocol(n) for n in numbers[:3])
    if not set(numbers) <= set(WITH_PORTS):
        return names if len(numbers) <= 3 else f"{len(numbers)} protocols"
    ports = matched.project(Axis.B)
    if _covers(ports, matched.tops[Axis.B]):
        return f"any port of {names}"
    if ports.size == 1:
        return f"{names}/{ports.spans[0][0]}" if len(numbers) == 1 else f"port {ports.spans[0][0]} of {names}"
    return f"{grouped(ports.size)} ports of {names}"


def _covers(values: IntervalSet, top: int) -> bool:
    return values.size == top + 1

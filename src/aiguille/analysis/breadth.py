"""How wide a rule is by its own conditions, in words: how many sources reach how many destinations, on what."""

from __future__ import annotations

from aiguille.analysis.program import Programs
from aiguille.model import Action, Rule, Rulebase, State, Translate
from aiguille.model.spelling import grouped, spell_protocol
from aiguille.space.fields import ICMP_OF, WITH_PORTS, Axis, Box
from aiguille.space.intervals import IntervalSet
from aiguille.space.packetset import PacketSet

_NETWORK = 64
"""Bits of an address of IPv6 that a network has to itself (RFC 4291, 2.5.1)."""

_NETWORKS = 1_000_000
"""Networks of that size up to which their number says something."""


def breadth(programs: Programs, rulebase: Rulebase, rule: Rule) -> str:
    """What an accepting rule matches of new connections, as "any source to 1 destination on 2 ports of tcp".

    Empty for rules that accept nothing new or translate, or whose conditions exclude one another.
    """
    if rule.action is not Action.ACCEPT or any(isinstance(one, Translate) for one in rule.effects):
        return ""
    by_words: dict[str, list[int]] = {}
    for family in sorted(rulebase.families):
        if words := _in_family(programs, family, rule):
            by_words.setdefault(words, []).append(family)
    if len(by_words) == 1 and len(next(iter(by_words.values()))) == len(rulebase.families):
        return next(iter(by_words))
    return "; ".join(f"IPv{families[0]}: {words}" for words, families in by_words.items())


def _in_family(programs: Programs, family: int, rule: Rule) -> str:
    resolver = programs.resolver(family)
    boxes = [piece.box for piece in resolver.rule(rule) if _is_new(piece.box)]
    if not boxes:
        return ""
    matched = PacketSet.of(resolver.space.tops, boxes)
    sources, destinations = (
        _ends(matched, axis, noun) for axis, noun in ((Axis.SRC, "source"), (Axis.DST, "destination"))
    )
    return f"{sources} to {destinations} on {_services(matched)}"


def _is_new(box: Box) -> bool:
    states = box[Axis.STATE]
    return states is None or State.NEW.number in states


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

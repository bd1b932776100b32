"""Port forwards: translations that send what comes from outside to an address behind the device, and what becomes of it there."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct

from aiguille.analysis.loopback import LOOPBACK
from aiguille.analysis.program import Program
from aiguille.analysis.sides import interface_names
from aiguille.analysis.study import OPENING, Study, is_wide
from aiguille.model import Addresses, Chain, Device, Direction, Numbers, Rule, Rulebase, Translate, TranslationKind
from aiguille.space import Axis, Box, IntervalSet, box, overlap
from aiguille.space.fields import TCP, UDP


class Forward(Struct, frozen=True):
    """A rule that sends packets to `target`; to `ports` of it, or to those they were for."""

    rulebase: Rulebase
    chain: Chain
    rule: Rule
    target: Addresses
    ports: Numbers | None


def forwards_of(device: Device) -> list[Forward]:
    """The port forwards in force, in the order of the export."""
    return [
        Forward(base, chain, rule, effect.addresses, effect.ports)
        for base in device.rulebases
        for chain, rule in base.rules()
        for effect in rule.effects
        if rule.enabled
        and isinstance(effect, Translate)
        and effect.kind is TranslationKind.DESTINATION
        and effect.addresses is not None
    ]


def taken(program: Program, forward: Forward) -> list[Box]:
    """What a forward takes from anybody, before it is translated."""
    pieces = program.resolver.rule(forward.rule)
    return [piece.box for piece in pieces if piece.sure and is_wide(piece.box, Axis.SRC, program)]


def meant_ports(program: Program, forward: Forward, protocol: int) -> IntervalSet:
    """The ports of a protocol that a forward sends packets to."""
    boxes = [piece.box for piece in program.resolver.rule(forward.rule)]
    ports = [one[Axis.B] for one in boxes if one[Axis.PROTO] is None or protocol in (one[Axis.PROTO] or ())]
    if forward.ports is not None:
        ports = [IntervalSet([(forward.ports.first, forward.ports.last)])] if ports else []
    top = program.space.tops[Axis.B]
    return IntervalSet(s for one in ports for s in (((0, top),) if one is None else one.spans))


def for_itself_alone(program: Program, region: Box, forwards: Sequence[Forward]) -> bool:
    """Whether a region goes to hosts that the device publishes to itself alone, at an address of its loopback: rules let in what comes
    to their own address all the same, and who sends that can only be a neighbour. forwards: of the device"""
    ends, ports = region[Axis.DST], region[Axis.B]
    if ends is None or ports is None:
        return False
    published = [
        one
        for one in forwards
        if one.target.family == program.family
        and ends.overlaps(IntervalSet([(one.target.first, one.target.last)]))
        and any(meant_ports(program, one, protocol).overlaps(ports) for protocol in (TCP, UDP))
    ]
    asked = [piece.box[Axis.DST] for one in published for piece in program.resolver.rule(one.rule)]
    return bool(asked) and all(one is not None and one.issubset(_LOOPED[program.family]) for one in asked)


_LOOPED = {4: IntervalSet([(127 << 24, (128 << 24) - 1)]), 6: IntervalSet.of(1)}
"""A host's addresses for itself (RFC 1122 3.2.1.3, RFC 4291 2.5.3)."""


def ways_of(study: Study, forward: Forward, outer: IntervalSet) -> Iterator[tuple[int, Program, Box]]:
    """By protocol, what a forward makes of connections that anybody outside opens; none if it is not for anybody."""
    target = forward.target
    program = study.programs.get(target.family, Direction.THROUGH_DEVICE)
    if program is None:
        return
    pieces = [p.box for p in program.resolver.rule(forward.rule) if is_wide(p.box, Axis.SRC, program)]
    enters = IntervalSet(span for one in pieces for span in (outer & (one[Axis.IN] or outer)).spans)
    if not enters:
        return
    whence = box([(Axis.IN, enters), (Axis.SRC, study.strangers(program)), *_inward(study, program, outer)])
    for protocol in (TCP, UDP):
        if ports := meant_ports(program, forward, protocol):
            place = box([(Axis.DST, IntervalSet([(target.first, target.last)])), (Axis.B, ports)])
            region = overlap(whence, place)
            region = overlap(region, OPENING[protocol]) if region is not None else None
            if region is not None:
                yield protocol, program, region


def _inward(study: Study, program: Program, outer: IntervalSet) -> list[tuple[Axis, IntervalSet]]:
    """The interface what is forwarded leaves by, where nothing shows of networks and there is but one beside the outside."""
    device, symbols = study.device, program.space.symbols
    if device.routes or any(one.networks for one in device.interfaces) or any(one.networks for one in device.zones):
        return []
    names = [symbols.number(name) for name in interface_names(device) if name != LOOPBACK and name in symbols.names]
    others = IntervalSet.of(*names) - outer
    return [(Axis.OUT, others)] if others.size == 1 else []

"""Packets whose destination a translation changes before the filter sees them.

What the filter is asked about is what the translation made; whoever sends a packet to prove it must send what was there before.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct
from msgspec.structs import replace

from aiguille.analysis.moves import moves_of
from aiguille.analysis.program import Program
from aiguille.analysis.witness import own_addresses
from aiguille.model import Chain, Direction, Stage, Translate
from aiguille.packets import Packet
from aiguille.space import Axis, Box


class Diversion(Struct, frozen=True):
    """What one piece of a rule takes, as it comes, and what the rule makes of it; sure: whether it takes all of that."""

    box: Box
    change: Translate
    sure: bool

    def takes(self, point: Sequence[int]) -> bool:
        return all(values is None or at in values for values, at in zip(self.box, point, strict=True))


def diversions(program: Program) -> tuple[Diversion, ...]:
    """The translations of destinations that packets of a program may have met, in the order of the export.

    Jumps to their chains are not looked at: a diversion may take less than it says.
    """
    stage = Stage.OUTPUT if program.direction is Direction.FROM_DEVICE else Stage.PREROUTING
    return tuple(
        Diversion(piece.box, change, piece.sure)
        for base in program.device.rulebases
        if program.family in base.families and any(_translates_at(chain, stage) for chain in base.chains)
        for _, rule in base.rules()
        for change in moves_of(rule)
        for piece in program.resolver.rule(rule)
    )


def _translates_at(chain: Chain, stage: Stage) -> bool:
    return chain.base is not None and chain.base.kind == "nat" and chain.base.stage is stage


def as_sent(program: Program, known: Sequence[Diversion], packet: Packet) -> Iterator[Packet]:
    """Packets that translations may turn into one the filter sees, as they are sent: to an address of the device where that fits.

    First without the interface they leave by: where routes show that, it follows from where they are led.
    """
    space = program.space
    enters = space.symbols.number(packet.in_interface)
    own = own_addresses(program.device, program.family, packet.in_interface)
    for one in known:
        kept = ((one.box[Axis.IN], enters), (one.box[Axis.SRC], packet.source), (one.box[Axis.PROTO], packet.protocol))
        if any(values is not None and value not in values for values, value in kept) or not _leads(one.change, packet):
            continue
        ends, ports, port = one.box[Axis.DST], one.box[Axis.B], packet.dport
        destination = own[0] if ends is None else next((at for at in own if at in ends), ends.first)
        if ports is not None and port is not None:
            shifted = port if one.change.ports is None else ports.first + port - one.change.ports.first
            port = shifted if shifted in ports else ports.first
        sent = replace(packet, destination=destination, dport=port)
        yield from (replace(sent, out_interface=""), sent)


def _leads(change: Translate, packet: Packet) -> bool:
    to, ports = change.addresses, change.ports
    return (to is None or to.first <= packet.destination <= to.last) and (
        ports is None or packet.dport is None or ports.first <= packet.dport <= ports.last
    )

"""Probing what is only sketched: the possible verdicts of all packets that fit, each with an example."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct
from msgspec.structs import replace

from aiguille.analysis.decide import Decider, Ends
from aiguille.analysis.diversions import diversions
from aiguille.analysis.moves import moved
from aiguille.analysis.program import Program
from aiguille.analysis.walk.probe import Prober, Verdict
from aiguille.model import Action, Direction, UsageError
from aiguille.packets import Packet, Sketch, families_of
from aiguille.space import Axis, Box, IntervalSet, box, overlap, subtract

PARTS_LIMIT = 200
"""Parts a region is cut into to set aside what is translated; beyond, verdicts of packets never translated may go missing."""


class Answer(Struct, frozen=True):
    """What becomes of the packets that fit a sketch: one verdict each of the kinds that occur, by example."""

    verdicts: tuple[Verdict, ...]

    @property
    def certain(self) -> bool:
        return len(self.verdicts) == 1 and self.verdicts[0].certain


def answer(prober: Prober, sketch: Sketch) -> Answer:
    """Probe a sketch. A packet with nothing left open has one verdict; else every verdict that some fitting packet gets.

    Raises UsageError if the export says nothing on the families and directions the sketch may mean.
    """
    packet = sketch.packet()
    if packet is not None:
        return Answer((prober.probe(packet),))
    found: dict[tuple[Action, bool], Verdict] = {}
    candidates = [
        made
        for family in families_of(sketch)
        for direction, makes in ((_direction(sketch), _candidates), (Direction.THROUGH_DEVICE, _led_on))
        if (program := prober.programs.get(family, direction)) is not None
        for made in makes(prober, program, sketch)
    ]
    if not candidates and all(prober.programs.get(f, _direction(sketch)) is None for f in families_of(sketch)):
        raise UsageError(
            f"the export of {prober.device.name} holds no rules for {_direction(sketch).value} traffic of this address family"
        )
    for candidate in map(sketch.naming, candidates):
        verdict = prober.probe(candidate)
        found.setdefault((verdict.verdict, verdict.certain), verdict)
    return Answer(tuple(found.values()))


def _direction(sketch: Sketch) -> Direction:
    if not sketch.in_interface:
        return Direction.FROM_DEVICE
    return Direction.THROUGH_DEVICE if sketch.out_interface else Direction.TO_DEVICE


def _candidates(prober: Prober, program: Program, sketch: Sketch) -> Iterator[Packet]:
    """Packets that fit, at least one for every verdict that occurs: as they come, and by way of each translation."""
    region = sketch.region(program.space)
    decider = Decider(program)
    translations = [(one.box, one.change) for one in diversions(program)]
    untouched = [region]
    for piece, _ in translations:
        if len(untouched) < PARTS_LIMIT:
            untouched = [part for one in untouched for part in subtract(one, piece, program.space.tops)]
    for part in [*untouched, region]:
        yield from _by_verdict(decider, program, part)
    for piece, change in translations:
        common = overlap(piece, region)
        if common is None:
            continue
        for packet in _by_verdict(decider, program, moved(common, change)):
            yield _as_it_came(packet, common)


def _led_on(prober: Prober, program: Program, sketch: Sketch) -> Iterator[Packet]:
    """Packets that fit a sketch without an interface out, and yet go through the device: as translated, or to others' addresses."""
    if _direction(sketch) is not Direction.TO_DEVICE:
        return
    decider, space = Decider(program), program.space
    region = sketch.region(space)
    others = IntervalSet([(0, space.tops[Axis.DST])])
    for values, _ in space.kinds_by_address:
        others -= values
    away = box([(Axis.DST, others)])
    pieces = [
        (common, change)
        for piece, change in ((one.box, one.change) for one in diversions(program))
        if (common := _inward(piece, region)) is not None
    ]
    after_it = [(common, overlap(moved(common, change), away)) for common, change in pieces]
    if space.local is not None and sketch.destination is not None:
        after_it.append((region, overlap(region, away)))
    for before, after in after_it:
        for part in program.along(after) if after is not None else ():
            for packet in _by_verdict(decider, program, part):
                yield replace(_as_it_came(packet, before), out_interface="")


def _inward(piece: Box, region: Box) -> Box | None:
    """What a region has in common with a rule of translation, whatever interface it may leave by afterwards."""
    out = list(piece)
    out[Axis.OUT] = out[Axis.TYPE] = None
    return overlap(tuple(out), region)


def _by_verdict(decider: Decider, program: Program, region: Box) -> Iterator[Packet]:
    for action in (Action.ACCEPT, Action.DROP, Action.REJECT):

        def ends_so(ends: Ends, action: Action = action) -> bool:
            return any(
                end.accepts if action is Action.ACCEPT else program.steps[end.step].action is action for end in ends
            )

        proof = decider.find(region, ends_so)
        if proof is not None:
            yield proof.packet


def _as_it_came(packet: Packet, region: Box) -> Packet:
    """A translated packet with the destination it had before, taken from the region the translation applies to."""
    out = packet
    destinations, ports = region[Axis.DST], region[Axis.B]
    if destinations is not None and packet.destination not in destinations:
        out = replace(out, destination=destinations.first)
    if ports is not None and packet.dport is not None and packet.dport not in ports:
        out = replace(out, dport=ports.first)
    return out

"""Whether two devices let the same packets through, as sets, with a packet that proves it where they do not."""

from __future__ import annotations

from msgspec import Struct

from aiguille.analysis.decide import Cut, Ends, rows_of
from aiguille.analysis.program import Program, Programs
from aiguille.analysis.witness import Chooser
from aiguille.model import Device, Direction
from aiguille.space import EVERYTHING, Box, Packet, Slices, Symbols, symbols_of


class Difference(Struct, frozen=True):
    """A packet that fares differently: what each of the two may do with it, True for letting it through."""

    direction: Direction
    packet: Packet
    one: frozenset[bool]
    other: frozenset[bool]


def in_one_space(one: Device, other: Device) -> tuple[Programs, Programs]:
    """The programs of two devices over the same interface names, so that their packets can be compared."""
    first, second = symbols_of(one), symbols_of(other)
    symbols = Symbols({*first.names, *second.names}, {*first.prefixes, *second.prefixes})
    return Programs(one, symbols), Programs(other, symbols)


def difference(one: Program, other: Program, region: Box = EVERYTHING) -> Difference | None:
    """A packet of `region` that one program may accept or refuse and the other may not; None if there is none.

    Both must be of the same family and direction and made by `in_one_space`.
    """
    for part in one.regions(region):
        first, second = Cut(one, part, rows_of(one)), Cut(other, part, rows_of(other))
        shift = len(first.rows)
        mine = (1 << shift) - 1
        joint = Slices(part, [row.box for row in (*first.rows, *second.rows)], one.space.tops)

        def differ(alive: int, full: int, first: Cut = first, second: Cut = second) -> bool | None:
            ends = first.ends(alive & mine, full & mine)  # noqa: B023 - called within this turn of the loop only
            others = second.ends(alive >> shift, full >> shift)  # noqa: B023
            return None if ends is None or others is None else _verdicts(ends) != _verdicts(others)

        found = joint.find(differ)
        if found is not None:
            packet = Chooser(one.device, one.space).choose(found)
            point = packet.point(one.space)
            return Difference(one.direction, packet, _verdicts(first.ends_at(point)), _verdicts(second.ends_at(point)))
    return None


def _verdicts(ends: Ends) -> frozenset[bool]:
    return frozenset(end.accepts for end in ends)


def differences(one: Device, other: Device) -> list[Difference]:
    """A packet for each family and direction in which two devices differ, both having a say there."""
    out = []
    first, second = in_one_space(one, other)
    for direction in Direction:
        for mine in first.all(direction):
            theirs = second.get(mine.family, direction)
            if theirs is not None and (found := difference(mine, theirs)) is not None:
                out.append(found)
    return out

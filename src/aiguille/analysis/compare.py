"""Whether two devices let the same packets through, as sets, with a packet that proves it where they do not."""

from __future__ import annotations

from collections.abc import Hashable, Iterator, Sequence
from typing import cast

from msgspec import Struct

from aiguille.analysis.alignment import in_order, written_alike
from aiguille.analysis.decide import Cut, Ends, rows_of
from aiguille.analysis.homes import at_home
from aiguille.analysis.program import Program, Programs, Step
from aiguille.analysis.resolve import symbols_of
from aiguille.analysis.traffic import Traffic, cut, opening, rows
from aiguille.analysis.witness import Chooser
from aiguille.model import Device, Direction
from aiguille.packets import Packet
from aiguille.space import (
    COUNTED,
    EVERYTHING,
    Axis,
    Box,
    Cell,
    IntervalSet,
    Slices,
    Symbols,
    box,
    box_size,
    overlap,
    subtract,
)


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


def difference(one: Program, other: Program, region: Box = EVERYTHING, *, certainly: bool = False) -> Difference | None:
    """A packet of `region` that one program may accept or refuse and the other may not; None if there is none.

    Both must be of the same family and direction and made by `in_one_space`.
    certainly: only a packet that one of them surely accepts and the other surely refuses
    """

    def fare(mine: frozenset[bool], theirs: frozenset[bool]) -> bool:
        return not mine & theirs if certainly else mine != theirs

    for part in one.regions(region):
        first, second = Cut(one, part, rows_of(one)), Cut(other, part, rows_of(other))
        shift = len(first.rows)
        mine = (1 << shift) - 1
        joint = Slices(part, [row.box for row in (*first.rows, *second.rows)], one.space.tops)

        def differ(alive: int, full: int, first: Cut = first, second: Cut = second) -> bool | None:
            ends = first.ends(alive & mine, full & mine)  # noqa: B023 - called within this turn of the loop only
            others = second.ends(alive >> shift, full >> shift)  # noqa: B023
            return None if ends is None or others is None else fare(_verdicts(ends), _verdicts(others))

        found = joint.find(differ)
        if found is not None:
            packet = Chooser(one.device, one.space).choose(found)
            point = packet.point(one.space)
            return Difference(one.direction, packet, _verdicts(first.ends_at(point)), _verdicts(second.ends_at(point)))
    return None


def _verdicts(ends: Ends) -> frozenset[bool]:
    return frozenset(end.accepts for end in ends)


PAIR_EFFORT = 3_000_000
"""Steps of work that comparing the traffic of one pair may take; see `space.effort`."""

_MEANT = ("interfaces", "zones", "addresses", "services", "sets", "schedules", "geo_filters", "routes")
"""Parts of a device that say what its rules mean."""


def differences(one: Device, other: Device, *, certainly: bool = False) -> list[Difference]:
    """A packet for each family and direction in which two devices differ, both having a say there.

    certainly: only where the two surely do
    """
    if all(getattr(one, part) == getattr(other, part) for part in _MEANT) and written_alike(
        one.rulebases, other.rulebases
    ):
        return []
    out = []
    first, second = in_one_space(one, other)
    for direction in Direction:
        for mine in first.held(direction):
            theirs = second.get(mine.family, direction)
            if theirs is not None and (found := difference(mine, theirs, certainly=certainly)) is not None:
                out.append(found)
    return out


class Change(Struct, frozen=True):
    """New connections that fare differently.

    before, after: what may become of them on either side, True for letting them through
    deciders: the steps that decide them before and after
    likely: whether their sources live behind the interface they enter by, and they leave by the one that leads to their destinations,
        as far as networks are known; other packets are forged, or lost
    """

    traffic: Traffic
    before: frozenset[bool]
    after: frozenset[bool]
    deciders: tuple[tuple[Step, ...], tuple[Step, ...]]
    likely: bool = True

    @property
    def opens(self) -> bool:
        """Whether something gets through that did not, for certain or perhaps."""
        return True in self.after and (True not in self.before or False in self.before)

    @property
    def certain(self) -> bool:
        return len(self.before) == 1 == len(self.after)


def changes(one: Device, other: Device, interface: str | None = None) -> list[Change]:
    """What newly opens and what newly closes from one device to another, in few disjoint rows; what opens comes first.

    interface: look only at what enters or leaves by it

    Families and directions that only one of the two has rules for are not compared; see `silent`.
    """
    first, second = in_one_space(one, other)
    out: list[Change] = []
    for direction in Direction:
        for mine in first.held(direction):
            theirs = second.get(mine.family, direction)
            if theirs is not None:
                out += _changes(mine, theirs, interface)
    return sorted(out, key=lambda found: (not found.opens, not found.likely))


def silent(one: Device, other: Device) -> list[tuple[int, Direction, bool]]:
    """Families and directions with rules on one side only; True where that is the second."""
    first, second = in_one_space(one, other)
    found = []
    for direction in Direction:
        for family in (4, 6):
            has = [programs.get(family, direction) is not None for programs in (first, second)]
            if has[0] != has[1]:
                found.append((family, direction, has[1]))
    return found


def _changes(one: Program, other: Program, interface: str | None) -> Iterator[Change]:
    within = [EVERYTHING]
    if interface is not None:
        number = IntervalSet.of(one.space.symbols.number(interface))
        beside = number.complement(one.space.tops[Axis.IN])
        within = [box([(Axis.IN, number)]), box([(Axis.IN, beside), (Axis.OUT, number)])]
    done: list[Box] = []
    likely: list[tuple[Cell, Hashable]] = []
    others: list[tuple[Cell, Hashable]] = []
    written = _by_line(one), _by_line(other)
    homes = at_home(other)
    for place in _places(one, other):
        left = [common for part in within if (common := overlap(place, part)) is not None]
        for earlier in done:
            left = [piece for part in left for piece in subtract(part, earlier, one.space.tops)]
        done.append(place)
        for region in left:
            rest = [region]
            for home in homes:
                common = overlap(region, home)
                for part in other.along(common) if common is not None else ():
                    for piece in opening(one, part):
                        likely += _differing(one, other, piece, written)
                    rest = [piece for each in rest for piece in subtract(each, part, one.space.tops)]
            for part in (piece for each in rest for piece in opening(one, each)):
                others += _differing(one, other, part, written)
    whole, apart = rows(one, [*likely, *others]), rows(one, likely)
    # What is one row for all sources need not be taken apart by where they live.
    parted = ((apart, True), (rows(one, others), False)) if len(apart) < len(whole) else ((whole, True),)
    for found, is_likely in parted:
        for traffic, label in found:
            before, after, mine, theirs = cast("_Label", label)
            steps = tuple(one.steps[number] for number in sorted(mine)), tuple(other.steps[n] for n in sorted(theirs))
            yield Change(traffic, before, after, steps, is_likely)


def _by_line(program: Program) -> list[int]:
    """For each step the first one that a program made of the same line and that does the same: those decide as one."""
    first: dict[Hashable, int] = {}
    return [
        first.setdefault((step.where, step.action), number) if step.where is not None and _is_made(step) else number
        for number, step in enumerate(program.steps)
    ]


def _is_made(step: Step) -> bool:
    return step.rule.made if step.rule is not None else True


_Label = tuple[frozenset[bool], frozenset[bool], frozenset[int], frozenset[int]]


def _differing(
    one: Program, other: Program, region: Box, written: tuple[Sequence[int], Sequence[int]]
) -> list[tuple[Cell, Hashable]]:
    first, second = Cut(one, region, rows_of(one)), Cut(other, region, rows_of(other))
    shift = len(first.rows)
    mine = (1 << shift) - 1

    def label(alive: int, full: int) -> Hashable:
        ends = first.ends(alive & mine, full & mine)
        others = second.ends(alive >> shift, full >> shift)
        if ends is None or others is None:
            return None
        verdicts = _verdicts(ends), _verdicts(others)
        if verdicts[0] == verdicts[1]:
            return False
        deciders = (
            frozenset(lines[end.step] for end in some) for lines, some in zip(written, (ends, others), strict=True)
        )
        return (*verdicts, *deciders)

    return cut(region, [row.box for row in (*first.rows, *second.rows)], one, label)


def _places(one: Program, other: Program) -> list[Box]:
    """Boxes outside of which both programs have the same steps in the same order, so that nothing can differ there."""
    keys = [[_key(step) for step in program.steps] for program in (one, other)]
    kept = in_order(keys[0], keys[1])
    out: dict[Box, None] = {}
    for program, mine in zip((one, other), (set(kept), set(kept.values())), strict=True):
        for number, step in enumerate(program.steps):
            if number not in mine:
                out.update((piece.box, None) for piece in step.pieces)
    # Widest first: what they hold is not looked at again.
    boxes = sorted(out, key=lambda box: -box_size(box, one.space.tops, COUNTED))
    return boxes if EVERYTHING not in boxes else [EVERYTHING]


def _key(step: Step) -> Hashable:
    """What makes two steps one and the same."""
    calls = tuple(chain.name for chain, _ in step.via)
    return (step.kind, step.action, step.chain.name, calls, step.pieces, step.settles)

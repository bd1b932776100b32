"""Verdicts for very many packets at once.

Every axis is cut at the boundaries of the program's rows; each interval between two boundaries has a row of bits, one for each
row of the program that holds it. A packet's bits are the conjunction of its intervals' bits, and the first bit among rows that
surely decide is its rule. Packets for which a row that only may match, or a skip, comes first are left to the walk of `probe`.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import MutableSequence, Sequence

import numpy as np
from numpy.typing import NDArray

from aiguille.analysis.answers import Answer, answer
from aiguille.analysis.decide import rows_of
from aiguille.analysis.probe import Prober
from aiguille.analysis.program import Kind, Program
from aiguille.model import DestinationType, Direction, NoTracking, SetMark, Stage, Translate, TranslationKind
from aiguille.space import Axis, PacketTable
from aiguille.space.table import Group

CHUNK = 1 << 16

_LOWEST = np.array([(byte & -byte).bit_length() - 1 if byte else 0 for byte in range(256)], np.int64)

WALKS = 2000
"""Rows of a table up to which every packet's whole way is told."""

LEFT_OPEN = -1
"""Marks a packet whose verdict needs the packet-by-packet walk."""


Decision = tuple[Program, int]
"""A certain verdict: the index of the step of a program that gives it."""


def probe_table(prober: Prober, table: PacketTable, walks_up_to: int = WALKS) -> list[Answer | Decision]:
    """What becomes of every row of a table, in order.

    walks_up_to: tables of at most so many rows are walked packet by packet, which tells the whole way of each
    Raises UsageError if the export says nothing on some packets' family and direction.
    """
    out: list[Answer | Decision | None] = [None] * len(table.ids)
    for (family, comes, leaves), group in table.groups.items():
        program = prober.programs.get(family, _direction(comes, leaves))
        if program is not None and len(table.ids) > walks_up_to and suits(program) and not prober.without:
            _settle(program, group, leaves, out)
        space = prober.programs.resolver(family).space
        for at, row in enumerate(group.rows):
            if out[row] is None:
                out[row] = Answer((prober.probe(group.packet(space, at)),))
    for row, sketch in table.others.items():
        out[row] = answer(prober, sketch)
    return [one for one in out if one is not None]


def _direction(comes: bool, leaves: bool) -> Direction:
    if not comes:
        return Direction.FROM_DEVICE
    return Direction.THROUGH_DEVICE if leaves else Direction.TO_DEVICE


def _settle(program: Program, group: Group, leaves: bool, out: list[Answer | Decision | None]) -> None:
    """Enter the decision of every packet of a group that takes no walk."""
    destinations = group.columns[Axis.DST]
    kind = DestinationType.UNICAST if leaves else DestinationType.LOCAL
    kinds = np.full(len(group.rows), kind.number, np.int64)
    if program.family == 4:
        values = np.asarray(destinations, np.int64)
        kinds[values >> 28 == 0xE] = DestinationType.MULTICAST.number
        kinds[values == 0xFFFFFFFF] = DestinationType.BROADCAST.number
    else:
        multicast = np.array([value >> 120 == 0xFF for value in destinations], np.bool_)
        kinds[multicast] = DestinationType.MULTICAST.number
    steps = Classifier(program).steps([*group.columns, kinds])
    decisions = [(program, step) for step in range(len(program.steps))]
    for row, step in zip(group.rows, steps.tolist(), strict=True):
        if step != LEFT_OPEN:
            out[row] = decisions[step]


def suits(program: Program) -> bool:
    """Whether a program's verdicts are those of the packet as it came: nothing changes the packet on its way, and the
    last chain that has a say is the filter's own."""
    last = program.bases[-1][1].base
    if last is None or last.priority != 0 or last.stage in (Stage.PREROUTING, Stage.POSTROUTING):
        return False
    for rulebase in program.device.rulebases:
        if program.family not in rulebase.families:
            continue
        for _, rule in rulebase.rules():
            if rule.marks:
                return False
            for effect in rule.effects:
                if isinstance(effect, SetMark | NoTracking):
                    return False
                if isinstance(effect, Translate) and effect.kind is not TranslationKind.SOURCE:
                    return False
    return True


class Classifier:
    """Finds the deciding step of many packets of one program."""

    def __init__(self, program: Program) -> None:
        self.program = program
        rows = [row for row in rows_of(program) if program.steps[row.step].kind is not Kind.PASS]
        self._step_of = np.array([row.step for row in rows], np.int64)
        kinds = [program.steps[row.step].kind for row in rows]
        final = np.array(
            [r.sure and k in (Kind.ACCEPT, Kind.REFUSE) for r, k in zip(rows, kinds, strict=True)], np.bool_
        )
        self._final = np.packbits(final, bitorder="little")
        self._open = np.packbits(~final, bitorder="little")
        self._any_open = bool((~final).any())
        self._starts: dict[Axis, list[int]] = {}
        self._bits: dict[Axis, NDArray[np.uint8]] = {}
        for axis in Axis:
            column = [row.box[axis] for row in rows]
            if all(values is None for values in column):
                continue
            ends = sorted({0, *(e for v in column if v is not None for a, b in v.spans for e in (a, b + 1))})
            place = {end: at for at, end in enumerate(ends)}
            held = np.zeros((len(ends), len(rows)), np.bool_)
            for number, values in enumerate(column):
                if values is None:
                    held[:, number] = True
                else:
                    for first, stop in ((a, b + 1) for a, b in values.spans):
                        held[place[first] : place[stop], number] = True
            self._starts[axis] = ends
            self._bits[axis] = np.packbits(held, axis=1, bitorder="little")

    def steps(self, points: Sequence[Sequence[int] | MutableSequence[int] | NDArray[np.int64]]) -> NDArray[np.int64]:
        """(P,) index of the step that decides each packet, `LEFT_OPEN` where that takes a walk.

        points: one sequence of P values for each axis, in the order of `Axis`
        """
        count = len(points[0])
        out = np.empty(count, np.int64)
        places = {axis: self._places(axis, points[axis]) for axis in self._starts}
        for start in range(0, count, CHUNK):
            part = slice(start, min(count, start + CHUNK))
            bits: NDArray[np.uint8] | None = None
            for axis, place in places.items():
                rows = self._bits[axis][place[part]]
                bits = rows if bits is None else np.bitwise_and(bits, rows, out=bits)
            if bits is None:
                bits = np.full((part.stop - part.start, len(self._final)), 0xFF, np.uint8)
            decided = _first(bits & self._final)
            steps = self._step_of[np.minimum(decided, len(self._step_of) - 1)]
            if self._any_open:
                steps = np.where(_first(bits & self._open) < decided, LEFT_OPEN, steps)
            out[part] = np.where(decided < len(self._step_of), steps, LEFT_OPEN)
        return out

    def _places(self, axis: Axis, values: Sequence[int] | MutableSequence[int] | NDArray[np.int64]) -> NDArray[np.intp]:
        starts = self._starts[axis]
        if starts[-1] < 1 << 62:
            found: NDArray[np.intp] = np.searchsorted(starts, np.asarray(values, np.int64), side="right") - 1
            return found
        return np.array([bisect_right(starts, int(value)) - 1 for value in values], np.intp)


def _first(bits: NDArray[np.uint8]) -> NDArray[np.int64]:
    """(P,) position of the lowest bit set in each row, beyond the last where there is none."""
    occupied = bits != 0
    byte = occupied.argmax(axis=1)
    found = occupied[np.arange(len(bits)), byte]
    lowest = byte * 8 + _LOWEST[bits[np.arange(len(bits)), byte]]
    out: NDArray[np.int64] = np.where(found, lowest, bits.shape[1] * 8)
    return out

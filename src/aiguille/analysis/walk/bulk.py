"""Verdicts for very many packets at once.

Packets are sorted by the axes that have few values (interfaces, protocol, flags, state), which leaves a few of the program's
rows for each lot. There the axes with many values are cut at the boundaries of those rows; each interval between two
boundaries has a row of bits, one for each row of the program that holds it. A packet's bits are the conjunction of its
intervals' bits, and the first of them is its row. If that row only may match, or skips, the packet is left to the walk of `probe`.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cached_property, partial
from itertools import pairwise
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from aiguille.analysis.decide import rows_of
from aiguille.analysis.program import Kind, Program
from aiguille.analysis.rows import StepRow
from aiguille.analysis.walk.answers import Answer, answer
from aiguille.analysis.walk.probe import Prober, filters
from aiguille.model import (
    DestinationType,
    Direction,
    LoseMark,
    NewTracking,
    NoTracking,
    SetMark,
    Stage,
    Translate,
    TranslationKind,
    UsageError,
)
from aiguille.packets.cells import Wide, as_wide
from aiguille.packets.rows import Fault, Group, Ids
from aiguille.packets.table import Part, TableFile
from aiguille.space import Axis, IntervalSet
from aiguille.space.fields import PORT_TOP

CELLS = 1 << 20
"""Words of bits looked at together."""

SLAB = 2048
"""Rows whose boundaries are compared at once: the bits grow with the square."""

SLABS = 256
"""Lots of so many rows kept for later packets, a few megabytes each at most."""

LOOKED_UP = PORT_TOP + 1
"""Largest boundary of an axis whose values are looked up in a table instead of being searched for."""

_INT64_TOP, _WIDE_TOP = (1 << 63) - 1, (1 << 128) - 1

_WIDE = (Axis.SRC, Axis.DST, Axis.A, Axis.B)

WALKS = 2000
"""Rows of a table up to which every packet's whole way is reported."""

LEFT_OPEN = -1
"""Marks a packet whose verdict needs the packet-by-packet walk."""


Decision = tuple[Program, int]
"""A certain verdict: the index of the step of a program that gives it."""


class Probed(Struct, frozen=True):
    """What becomes of the packets of a table.

    ids: of the packets there are; which: (P,) number of each one's answer
    answers: what becomes of some packet, most of many
    faults: what is wrong with the other rows
    """

    ids: Ids
    which: NDArray[np.int32]
    answers: list[Answer | Decision]
    faults: list[Fault]

    def each(self) -> list[Answer | Decision]:
        """Every packet's answer."""
        return [self.answers[number] for number in self.which.tolist()]


class TableProber:
    """Tells what becomes of the packets of a table, part by part."""

    def __init__(self, prober: Prober, file: TableFile, walks_up_to: int = WALKS) -> None:
        """walks_up_to: tables of at most so many lines are walked packet by packet, which shows the whole way of each"""
        self.file = file
        self._prober = prober
        self._symbols = prober.programs.resolver(4).space.symbols
        self._walks = file.lines <= walks_up_to or bool(prober.without)
        self._classifiers: dict[tuple[int, Direction], Classifier | None] = {}

    def probe(self, part: Part) -> Probed:
        """What becomes of every row of a part, in order."""
        table = self.file.read(part, self._symbols)
        which = np.full(len(table.ids), LEFT_OPEN, np.int32)
        answers: list[Answer | Decision] = []
        faults = table.faults

        def enter(row: int, work: Callable[[], Answer]) -> None:
            try:
                answers.append(work())
                which[row] = len(answers) - 1
            except UsageError as error:  # the export says nothing on packets of this family and direction
                faults.append(Fault(int(table.lines[row]), table.ids[row], error.message))

        for group in table.groups:
            classifier = None if self._walks else self._classifier(group.family, _direction(group.comes, group.leaves))
            left: Iterable[int] = range(len(group.rows))
            if classifier is not None:
                steps = settle(classifier, group)
                counts = np.bincount(steps + 1, minlength=len(classifier.program.steps) + 1)
                used = np.flatnonzero(counts[1:])
                number = np.full(len(counts), LEFT_OPEN, np.int32)
                number[used] = np.arange(len(answers), len(answers) + len(used))
                which[group.rows] = number[steps]  # the last of them stands for those left open
                answers += [(classifier.program, step) for step in used.tolist()]
                left = np.flatnonzero(steps == LEFT_OPEN).tolist() if counts[0] else []
            for at in left:
                enter(int(group.rows[at]), partial(self._walk, group, at))
        for row, sketch in table.others.items():
            enter(row, partial(answer, self._prober, sketch))
        kept = which != LEFT_OPEN
        ids, which = (table.ids, which) if kept.all() else (table.ids.kept(kept), which[kept])
        return Probed(ids, which, answers, sorted(faults, key=lambda fault: fault.line))

    def _walk(self, group: Group, at: int) -> Answer:
        space = self._prober.programs.resolver(group.family).space
        return Answer((self._prober.probe(group.packet(space, at)),))

    def _classifier(self, family: int, direction: Direction) -> Classifier | None:
        key = (family, direction)
        if key not in self._classifiers:
            program = self._prober.programs.get(family, direction)
            self._classifiers[key] = Classifier(program) if program is not None and suits(program) else None
        return self._classifiers[key]


def _direction(comes: bool, leaves: bool) -> Direction:
    if not comes:
        return Direction.FROM_DEVICE
    return Direction.THROUGH_DEVICE if leaves else Direction.TO_DEVICE


def settle(classifier: Classifier, group: Group) -> NDArray[np.int64]:
    """(P,) the step that decides each packet of a group, `LEFT_OPEN` where that takes a walk."""
    program, destinations = classifier.program, group.columns[Axis.DST]
    foreign = np.full(len(group.rows), program.space.local is not None and group.comes and not group.leaves)
    kind = DestinationType.UNICAST if group.leaves else DestinationType.LOCAL
    kinds = np.full(len(group.rows), kind.number, np.int64)
    for values, of_address in program.space.kinds_by_address:
        for first, last in values.spans:
            low, high = (first, last) if program.family == 4 else as_wide([first, last])
            mine = (destinations >= low) & (destinations <= high)
            kinds[mine] = of_address.number
            foreign &= ~mine
    steps = classifier.steps([*group.columns, kinds])
    steps[foreign] = LEFT_OPEN  # it goes to nobody here, so on through the device
    return steps


def suits(program: Program) -> bool:
    """Whether a program's verdicts are those of the packet as it came: nothing changes the packet on its way, the last chain that
    has a say is the filter's own, and no other one filters that only accepts and so is none of the program's."""
    last = program.bases[-1][1].base
    if last is None or last.priority != 0 or last.stage in (Stage.PREROUTING, Stage.POSTROUTING):
        return False
    mine = [chain for _, chain in program.bases]
    for rulebase in program.device.rulebases:
        if program.family not in rulebase.families:
            continue
        beside = (
            c
            for c in rulebase.chains
            if c.base is not None and c.base.stage is last.stage and c.rules and c not in mine
        )
        if any(filters(rulebase, chain) for chain in beside):
            return False
        for _, rule in rulebase.rules():
            if rule.marks:
                return False
            for effect in rule.effects:
                if isinstance(effect, SetMark | LoseMark | NoTracking | NewTracking):
                    return False
                if isinstance(effect, Translate) and effect.kind is not TranslationKind.SOURCE:
                    return False
    return True


class Classifier:
    """Finds the deciding step of many packets of one program."""

    def __init__(self, program: Program) -> None:
        self.program = program
        self._rows = [row for row in rows_of(program) if program.steps[row.step].kind is not Kind.PASS]
        self._ends = np.array(
            [
                row.step if row.sure and program.steps[row.step].kind in (Kind.ACCEPT, Kind.REFUSE) else LEFT_OPEN
                for row in self._rows
            ],
            np.int64,
        )
        used = [axis for axis in Axis if any(row.box[axis] is not None for row in self._rows)]
        self._wide = [axis for axis in used if axis in _WIDE]
        self._narrow = {axis: _Axis([row.box[axis] for row in self._rows]) for axis in used if axis not in _WIDE}
        self._corners: dict[tuple[int, ...], list[_Slab]] = {}

    def steps(self, points: Sequence[NDArray[Any]]) -> NDArray[np.int64]:
        """(P,) index of the step that decides each packet, `LEFT_OPEN` where that takes a walk.

        points: (P,) values for each axis, in the order of `Axis`
        """
        count = len(points[0])
        if not self._narrow:
            return self._steps((), {axis: points[axis] for axis in self._wide}, count)
        places = [axis.places(points[number]) for number, axis in self._narrow.items()]
        sizes = [len(axis.starts) for axis in self._narrow.values()]
        keys = np.ravel_multi_index(places, sizes)
        # Sixteen bits are sorted by counting.
        order = np.argsort(keys.astype(np.uint16) if math.prod(sizes) <= 1 << 16 else keys, kind="stable")
        ordered = keys[order]
        firsts = np.flatnonzero(np.concatenate([[True], ordered[1:] != ordered[:-1]]))
        wide = {axis: points[axis][order] for axis in self._wide}
        steps, out = np.empty(count, np.int64), np.empty(count, np.int64)
        for start, stop in pairwise([*firsts.tolist(), count]):
            corner = tuple(int(place[order[start]]) for place in places)
            of_corner = {axis: values[start:stop] for axis, values in wide.items()}
            steps[start:stop] = self._steps(corner, of_corner, stop - start)
        out[order] = steps
        return out

    def _steps(self, corner: tuple[int, ...], wide: Mapping[Axis, NDArray[Any]], count: int) -> NDArray[np.int64]:
        """(P,) the steps of packets that share a corner."""
        out = np.full(count, LEFT_OPEN, np.int64)
        open_ones = np.arange(count)
        for slab in self._slabs(corner):
            found = slab.first(wide, len(open_ones))
            taken = found >= 0
            out[open_ones[taken]] = self._ends[found[taken]]
            if taken.all():
                break
            open_ones = open_ones[~taken]
            wide = {axis: values[~taken] for axis, values in wide.items()}
        return out

    def _slabs(self, corner: tuple[int, ...]) -> list[_Slab]:
        found = self._corners.get(corner)
        if found is None:
            alive = np.ones(len(self._rows), np.bool_)
            for axis, place in zip(self._narrow.values(), corner, strict=True):
                alive &= axis.holders(place)
            numbers = np.flatnonzero(alive)
            if sum(map(len, self._corners.values())) > SLABS:
                self._corners.clear()
            found = self._corners[corner] = [
                _Slab(numbers[start : start + SLAB], self._rows, self._wide) for start in range(0, len(numbers), SLAB)
            ]
        return found


class _Axis:
    """One axis cut at the boundaries of some sets: (E,) first values of its pieces, (E, W) the sets that hold each, as bits."""

    def __init__(self, column: Sequence[IntervalSet | None]) -> None:
        ends = sorted({0, *(e for v in column if v is not None for a, b in v.spans for e in (a, b + 1))})
        place = {end: at for at, end in enumerate(ends)}
        held = np.zeros((-(-len(column) // 64) * 64, len(ends)), np.bool_)
        held[[number for number, values in enumerate(column) if values is None]] = True
        for number, values in enumerate(column):
            for first, last in () if values is None else values.spans:
                held[number, place[first] : place[last + 1]] = True
        self.count = len(column)
        self.bits = np.ascontiguousarray(np.packbits(held, axis=0, bitorder="little").T).view("<u8")
        self.starts = ends
        self._ends = np.array([end for end in ends if end <= _INT64_TOP], np.int64)
        self._places: NDArray[Any] | None = None
        if ends[-1] <= LOOKED_UP:
            pieces = np.arange(len(ends), dtype=np.min_scalar_type(len(ends)))
            self._places = pieces.repeat(np.diff(ends, append=ends[-1] + 1))

    @cached_property
    def _wide(self) -> Wide:
        return as_wide([end for end in self.starts if end <= _WIDE_TOP])

    def places(self, values: NDArray[Any]) -> NDArray[Any]:
        """(P,) the piece that holds each value."""
        if values.dtype != np.int64:
            return self._wide.searchsorted(values, side="right") - 1
        if self._places is not None:
            return self._places.take(values, mode="clip")
        return self._ends.searchsorted(values, side="right") - 1

    def holders(self, place: int) -> NDArray[np.bool_]:
        """(N,) which sets hold a piece."""
        return np.unpackbits(self.bits[place].view(np.uint8), count=self.count, bitorder="little").astype(np.bool_)


class _Slab:
    """Some rows that are alike on the narrow axes, in order, and where they lie on the wide ones."""

    def __init__(self, numbers: NDArray[np.intp], rows: Sequence[StepRow], wide: Sequence[Axis]) -> None:
        self._numbers = numbers
        axes = {axis: _Axis([rows[number].box[axis] for number in numbers.tolist()]) for axis in wide}
        self._axes = {axis: pieces for axis, pieces in axes.items() if len(pieces.starts) > 1}
        words = -(-len(numbers) // 64)
        self._all = np.packbits(np.arange(words * 64) < len(numbers), bitorder="little").view("<u8")

    def first(self, points: Mapping[Axis, NDArray[Any]], count: int) -> NDArray[np.intp]:
        """(P,) number of the first row that holds each packet, or -1."""
        out = np.empty(count, np.intp)
        chunk = max(1, CELLS // len(self._all))
        for start in range(0, count, chunk):
            part = slice(start, min(count, start + chunk))
            bits = np.repeat(self._all[None], part.stop - part.start, axis=0)
            for axis, pieces in self._axes.items():
                bits &= pieces.bits.take(pieces.places(points[axis][part]), axis=0)
            at = _lowest(bits)
            out[part] = np.where(at >= 0, self._numbers.take(at, mode="clip"), -1)
        return out


def _lowest(bits: NDArray[np.uint64]) -> NDArray[np.intp]:
    """(P,) number of the first bit set in each row, or -1. bits: (P, W)"""
    if bits.shape[1] == 1:
        word, lowest = np.zeros(1, np.intp), bits[:, 0]
    else:
        word = (bits != 0).argmax(axis=1)
        lowest = bits[np.arange(len(bits)), word]
    at: NDArray[np.intp] = word * 64 + np.bitwise_count((lowest & -lowest) - np.uint64(1)).astype(np.intp)
    at[lowest == 0] = -1
    return at

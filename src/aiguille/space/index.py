"""Which boxes of a long list overlap a given one, found for all of them at once.

Boxes of real rule sets are made of few distinct sets. Each distinct set is compared once with all others, by the ranks of
its end points, in one vectorised step; the answer is a row of bits, one a box. Overlap in all axes is the conjunction of a box's rows.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from aiguille.space.fields import Axis, Box
from aiguille.space.intervals import IntervalSet

ROWS_LIMIT = 3 << 30
"""Bytes that remembered rows may take together; beyond that they are made anew when asked for."""


class _AxisIndex:
    """The distinct sets of one axis, and which boxes have which."""

    __slots__ = ("_first", "_has_all", "_ids", "_last", "_rows", "_starts", "sets")

    def __init__(self, column: Sequence[IntervalSet | None]) -> None:
        known: dict[IntervalSet, int] = {}
        ids = np.empty(len(column), np.int32)
        for number, values in enumerate(column):
            ids[number] = -1 if values is None else known.setdefault(values, len(known))
        self.sets = known
        self._ids = ids
        self._has_all = bool((ids < 0).any())
        ends = sorted({end for values in known for span in values.spans for end in span})
        rank = {end: position for position, end in enumerate(ends)}
        spans = [span for values in known for span in values.spans]
        self._first = np.array([rank[first] for first, _ in spans], np.int32)
        self._last = np.array([rank[last] for _, last in spans], np.int32)
        self._starts = np.cumsum([0, *(len(values.spans) for values in known)], dtype=np.int64)
        self._rows: dict[int, NDArray[np.uint8]] = {}

    def row(self, values: IntervalSet, remember: bool) -> NDArray[np.uint8]:
        """Bits, eight a byte, low ones first, of the boxes whose set on this axis has a member in common with `values`."""
        number = self.sets[values]
        found = self._rows.get(number)
        if found is not None:
            return found
        start, stop = self._starts[number], self._starts[number + 1]
        touched: NDArray[np.bool_] | None = None
        for at in range(start, stop):
            one = (self._first <= self._last[at]) & (self._last >= self._first[at])
            touched = one if touched is None else touched | one
        if touched is None:  # the empty set overlaps nothing
            touched = np.zeros(len(self._first), np.bool_)
        by_set = touched if len(self._first) == len(self.sets) else np.logical_or.reduceat(touched, self._starts[:-1])
        # Boxes without a restriction on this axis have number -1, which picks the element appended here.
        by_box = np.append(by_set, True)[self._ids]
        row = np.packbits(by_box, bitorder="little")
        if remember:
            self._rows[number] = row
        return row


class BoxIndex:
    """A list of boxes that can be asked which of them overlap one of them."""

    def __init__(self, boxes: Sequence[Box]) -> None:
        self.boxes = boxes
        self._axes = [_AxisIndex([one[axis] for one in boxes]) for axis in Axis]
        self._budget = ROWS_LIMIT // max(1, (len(boxes) + 7) // 8)
        self._made = 0

    def overlapping(self, number: int) -> NDArray[np.intp]:
        """Ascending numbers of the boxes that have a point in common with box `number`, itself among them."""
        bits: NDArray[np.uint8] | None = None
        for axis, values in enumerate(self.boxes[number]):
            if values is None:
                continue
            self._made += 1
            row = self._axes[axis].row(values, self._made <= self._budget)
            bits = row if bits is None else bits & row
        if bits is None:
            return np.arange(len(self.boxes))
        return np.flatnonzero(np.unpackbits(bits, count=len(self.boxes), bitorder="little"))

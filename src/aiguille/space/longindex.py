"""Which boxes of a long list overlap one another, found for all of them in a few vectorised steps.

Boxes of real rule sets are made of few distinct sets. On axes with few end points (interfaces, protocols, ports) each end point
has a row of bits, one a box, for the boxes that hold it. The disjunction of those a set holds shows which boxes meet it, and
the conjunction over these axes leaves few candidates. On the other axes (addresses) those pairs alone are compared, interval by
interval, all pairs of a batch at once.
"""

from __future__ import annotations

from bisect import bisect_right, insort
from collections.abc import Sequence
from functools import cached_property
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from aiguille.space.fields import Axis, Box
from aiguille.space.intervals import IntervalSet

MASK_ENDS = 1024
"""An axis with at most this many distinct end points has its boxes told by these, for all of them at once."""

TREE_BYTES = 256 << 20
"""Bytes that may take for one axis."""

BATCH_BYTES = 64 << 20
"""Size of the largest intermediate array of a batch, about."""

ROWS = 512
"""Boxes whose candidates are looked for at once; processes that share a list each look for those of their own."""

PAIRS = 500_000
"""Pairs of boxes compared at once."""

HELD = 1 << 22
"""Candidates compared, and overlaps kept, at once."""

Numbers = NDArray[np.int64]


def distinct(values: Numbers) -> tuple[Numbers, Numbers]:
    """The distinct of (N,) values, ascending, and (N,) the place of each value among them.

    As `numpy.unique` gives them; that imports all of NumPy's masked arrays, which takes longer than many an audit.
    """
    order = np.argsort(values, kind="stable")
    ordered = values[order]
    new = np.ones(values.size, np.bool_)
    new[1:] = ordered[1:] != ordered[:-1]
    place = np.empty(values.size, np.intp)
    place[order] = np.cumsum(new) - 1
    return ordered[new], place


class _AxisIndex:
    """The distinct sets of one axis, and which boxes have which.

    ids: (N,) number of each box's set, -1 for None
    first, last: (K,) ends of all intervals of all sets, as ranks among the ends that occur
    starts: (D + 1,) where the intervals of each set begin
    """

    def __init__(self, column: Sequence[IntervalSet | None]) -> None:
        known: dict[IntervalSet, int] = {}
        self.ids = np.fromiter(
            (-1 if values is None else known.setdefault(values, len(known)) for values in column), np.int64, len(column)
        )
        self.distinct = len(known)
        spans = [span for values in known for span in values.spans]
        rank = {end: position for position, end in enumerate(sorted({end for span in spans for end in span}))}
        self.first = np.array([rank[first] for first, _ in spans], np.int32)
        self.last = np.array([rank[last] for _, last in spans], np.int32)
        self.starts = np.cumsum([0, *(len(values.spans) for values in known)], dtype=np.int64)
        self.ends = len(rank)
        self.low = self.first[self.starts[:-1]] if known else self.first
        self.high = self.last[self.starts[1:] - 1] if known else self.last

    @cached_property
    def _levels(self) -> list[NDArray[np.uint8]]:
        """A tree over the end points: (E, N / 8) bits, low ones first, of the boxes that hold each; above it those that hold
        any of two neighbours, and so on."""
        held = np.ones((self.distinct + 1, self.ends), np.bool_)  # the last row is that of None
        held[:-1] = False
        owner = np.repeat(np.arange(self.distinct), np.diff(self.starts))
        for number, first, last in zip(owner.tolist(), self.first.tolist(), self.last.tolist(), strict=True):
            held[number, first : last + 1] = True
        level = np.concatenate(
            [
                np.packbits(held[:, at : at + 64][self.ids].T, axis=1, bitorder="little")
                for at in range(0, self.ends, 64)
            ]
        )
        levels = [level]
        while len(level) > 1:
            pairs = level[: len(level) // 2 * 2]
            level = np.concatenate([pairs[::2] | pairs[1::2], level[len(pairs) :]])
            levels.append(level)
        return levels

    def rows(self, start: int, stop: int) -> NDArray[np.uint8]:
        """(stop - start, N / 8) bits, low ones first, of the boxes whose set meets that of each box from `start` on.

        Two sets meet exactly if they share an end point: the first member of an intersection is one of one of them.
        """
        sets, place = distinct(self.ids[start:stop])
        # Most sets are of one end point, whose row is there.
        single = (np.diff(self.starts)[sets] == 1) & (self.low == self.high)[sets] & (sets >= 0)
        out = self._levels[0][np.where(single, self.low[sets], 0)]
        for at in np.flatnonzero(~single).tolist():
            number, row = int(sets[at]), out[at]
            row[:] = 0 if number >= 0 else 0xFF
            for span in range(self.starts[number], self.starts[number + 1]) if number >= 0 else ():
                self._join(row, int(self.first[span]), int(self.last[span]))
        return out[place]

    def _join(self, row: NDArray[np.uint8], first: int, last: int) -> None:
        """Add the boxes that hold any of the end points from `first` to `last`."""
        for level in self._levels:
            if first > last:
                return
            if first & 1:
                row |= level[first]
                first += 1
            if not last & 1:
                row |= level[last]
                last -= 1
            first, last = first >> 1, last >> 1

    @cached_property
    def _hulls(self) -> tuple[Numbers, Numbers]:
        """(N,) ranks of the lowest and the highest member of each box's set."""
        some = self.ids >= 0
        return np.where(some, self.low[self.ids], 0), np.where(some, self.high[self.ids], self.ends)

    def near_count(self) -> int:
        """How many pairs `near` finds, in either order and each box with itself."""
        low, high = self._hulls
        before = np.searchsorted(np.sort(high), low, "left")
        return int((np.searchsorted(np.sort(low), high, "right") - before).sum())

    def near(self) -> tuple[Numbers, Numbers]:
        """Pairs of boxes, each once, whose sets overlap if taken from their lowest to their highest member."""
        low, high = self._hulls
        order = np.argsort(low, kind="stable")
        place = np.arange(len(order))
        # What begins behind a box and not after its end.
        size = np.searchsorted(low[order], high[order], "right") - place - 1
        one = np.repeat(place, size)
        other = np.arange(size.sum()) - np.repeat(np.cumsum(size) - size, size) + one + 1
        return order[one], order[other]

    def meeting(self, one: Numbers, other: Numbers) -> NDArray[np.bool_]:
        """(P,) whether the sets of each pair of boxes have a member in common."""
        a, b = self.ids[one], self.ids[other]
        out = (a < 0) | (b < 0)
        # Most sets lie far apart as a whole; only the others are compared interval by interval.
        near = (self.low[a] <= self.high[b]) & (self.low[b] <= self.high[a])
        todo = np.flatnonzero(~out & near)
        if not todo.size:
            return out
        pairs, back = distinct(a[todo] * self.distinct + b[todo])
        out[todo] = self._touching(*np.divmod(pairs, self.distinct))[back]
        return out

    def _touching(self, a: Numbers, b: Numbers) -> NDArray[np.bool_]:
        """(P,) whether the sets numbered a and b have a member in common, each interval of the smaller looked up in the other."""
        size = np.diff(self.starts)
        a, b = np.where(size[a] <= size[b], a, b), np.where(size[a] <= size[b], b, a)
        each = size[a]
        out = np.zeros(a.size, np.bool_)
        bounds = np.searchsorted(np.cumsum(each), np.arange(0, each.sum(), BATCH_BYTES // 8))
        for start, stop in pairwise([*sorted(set(bounds.tolist())), a.size]):
            some = each[start:stop]
            pair = np.repeat(np.arange(start, stop), some)
            mine = self.starts[a][pair] + np.arange(pair.size) - np.repeat(np.cumsum(some) - some, some)
            # The first interval of the other set that does not end before this one begins.
            at = np.searchsorted(self._keys, b[pair] * self.ends + self.first[mine])
            inside = at < self.starts[b[pair] + 1]
            touch = inside & (self.first[np.minimum(at, self.first.size - 1)] <= self.last[mine])
            out[start:stop] = np.bincount(pair - start, touch, stop - start) > 0
        return out

    @cached_property
    def _keys(self) -> Numbers:
        """(I,) ascending: each interval's set and last end as one number."""
        owner = np.repeat(np.arange(self.distinct), np.diff(self.starts))
        return owner * self.ends + self.last


def _ones(bits: NDArray[np.uint8], count: int) -> tuple[Numbers, Numbers]:
    """Rows and columns below `count` of the bits that are set, in order. Few are: only bytes that are not zero are unpacked."""
    flat = np.flatnonzero(bits)
    byte, bit = np.nonzero(np.unpackbits(bits.ravel()[flat][:, None], axis=1, bitorder="little"))
    row, column = np.divmod(flat[byte], bits.shape[1])
    column = column * 8 + bit
    inside = column < count
    return row[inside], column[inside]


_Stretch = tuple[int, int, Numbers, Numbers]
"""Where boxes whose overlaps are known begin and end, and of these the bounds of each and all in a row."""


def _begin(stretch: _Stretch) -> int:
    return stretch[0]


class LongIndex:
    """A `BoxIndex` of any number of boxes."""

    def __init__(self, boxes: Sequence[Box]) -> None:
        self.boxes = boxes
        axes = [_AxisIndex([one[axis] for one in boxes]) for axis in Axis]
        row_bytes = (len(boxes) + 7) // 8
        axes = [a for a in axes if a.distinct]
        self._coarse = [a for a in axes if a.ends <= MASK_ENDS and 2 * a.ends * row_bytes <= TREE_BYTES]
        self._fine = [a for a in axes if a not in self._coarse]
        self._batch = min(ROWS, max(1, 8 * BATCH_BYTES // max(1, len(boxes))))
        # Boxes whose candidates are known: the first of them, and the bits and how many those of each and all before it are.
        self._first = 0
        self._bits = np.zeros((0, 0), np.uint8)
        self._sizes: Numbers = np.zeros(0, np.int64)
        # Boxes whose overlaps are known, and stretches of others that are kept, as long as there is room.
        self._start = self._stop = 0
        self._bounds: Numbers = np.zeros(1, np.int64)
        self._found: Numbers = np.zeros(0, np.int64)
        self._kept: list[_Stretch] = []
        self._room = HELD

    def overlapping(self, number: int) -> Numbers:
        """As `BoxIndex` says; a batch of answers is found at once."""
        if not self._start <= number < self._stop:
            self._find(number)
        at = number - self._start
        return self._found[self._bounds[at] : self._bounds[at + 1]]

    def marks(self, flags: Sequence[bool]) -> NDArray[np.bool_]:
        return np.array(flags, np.bool_)

    def kept(self, numbers: Numbers, marks: NDArray[np.bool_]) -> Numbers:
        return numbers[marks[numbers]]

    def joined(self, several: Sequence[Numbers]) -> Numbers:
        return distinct(np.concatenate(several))[0]

    def _find(self, number: int) -> None:
        """Find the overlaps of a box and of more behind it."""
        at = bisect_right(self._kept, number, key=_begin) - 1
        if at >= 0 and number < self._kept[at][1]:
            self._start, self._stop, self._bounds, self._found = self._kept[at]
            return
        if not self._first <= number < self._first + len(self._bits):
            self._look(number)
        at, last = number - self._first, len(self._bits)
        if self._sizes[-1] * (len(self.boxes) // last) > HELD and self._decisive is not None:
            self._enter(0, len(self.boxes), *self._all(self._decisive))
            return
        before = int(self._sizes[at - 1]) if at else 0
        last = max(at + 1, int(np.searchsorted(self._sizes, before + HELD, "right")))
        start = self._first + at
        self._enter(
            start, self._first + last, *self._meeting(*_ones(self._bits[at:last], len(self.boxes)), start, self._fine)
        )

    def _look(self, number: int) -> None:
        """Find the candidates of a box and of more behind it."""
        count = len(self.boxes)
        start = number
        stop = min(count, start + self._batch)
        bits = np.full((stop - start, (count + 7) // 8), 0xFF, np.uint8)
        bits[:, -1] &= 0xFF >> -count % 8
        for axis in self._coarse:
            bits &= axis.rows(start, stop)
        self._first, self._bits = start, bits
        self._sizes = np.cumsum(np.bitwise_count(bits).sum(axis=1, dtype=np.int64))

    def _enter(self, start: int, stop: int, one: Numbers, other: Numbers) -> None:
        self._start, self._stop = start, stop
        self._bounds = np.searchsorted(one, np.arange(stop - start + 1))
        self._found = other
        self._keep((start, stop, self._bounds, other))

    def _keep(self, stretch: _Stretch) -> None:
        size = stretch[3].size
        if size <= self._room:
            self._room -= size
            insort(self._kept, stretch, key=_begin)

    def known(self, first: int, stop: int) -> list[_Stretch]:
        return [one for one in self._kept if first <= one[0] < stop]

    def learn(self, known: list[_Stretch]) -> None:
        for one in known:
            self._keep(one)

    def _all(self, decisive: _AxisIndex) -> tuple[Numbers, Numbers]:
        """The overlaps of all boxes, by way of an axis that tells them apart."""
        one, other = self._meeting(*decisive.near(), 0, [*self._coarse, *self._fine])
        everyone = np.arange(len(self.boxes))
        one, other = np.concatenate([one, other, everyone]), np.concatenate([other, one, everyone])
        order = np.lexsort((other, one))
        return one[order], other[order]

    @cached_property
    def _decisive(self) -> _AxisIndex | None:
        """The axis, if any, that leaves few pairs of all boxes where the coarse ones do not, as where each has a host of its own."""
        found = min(((axis.near_count(), at) for at, axis in enumerate(self._fine)), default=None)
        return self._fine[found[1]] if found is not None and found[0] <= HELD else None

    def _meeting(self, one: Numbers, other: Numbers, start: int, axes: Sequence[_AxisIndex]) -> tuple[Numbers, Numbers]:
        """Those pairs, the first of each counted from `start`, that meet on some axes too."""
        for axis in axes:
            kept = np.concatenate(
                [axis.meeting(one[at : at + PAIRS] + start, other[at : at + PAIRS]) for at in range(0, one.size, PAIRS)]
                or [np.zeros(0, np.bool_)]
            )
            one, other = one[kept], other[kept]
        return one, other

"""Sets of integers as sorted, disjoint, non-touching closed intervals: one canonical form, so equal sets are equal."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator
from itertools import accumulate
from operator import itemgetter

MANY = 16
"""Intervals beyond which a set is searched, as the sets of whole countries are."""

LOOKUP = 8
"""Intervals passed over in the time it takes to look one up among many."""

_first = itemgetter(0)


class IntervalSet:
    """An immutable set of non-negative integers.

    `spans`: closed intervals, ascending, never touching. All operations are linear in the number of intervals.
    """

    __slots__ = ("_counted", "_hash", "_size", "spans")

    spans: tuple[tuple[int, int], ...]
    _size: int | None
    _counted: tuple[int, ...] | None

    def __init__(self, spans: Iterable[tuple[int, int]] = ()) -> None:
        """Build from any closed intervals, in any order, overlapping or not; ValueError if one runs backwards."""
        merged: list[tuple[int, int]] = []
        for first, last in sorted(spans):
            if first > last or first < 0:
                raise ValueError(f"interval {first}-{last} is empty or negative")
            if merged and first <= merged[-1][1] + 1:
                if last > merged[-1][1]:
                    merged[-1] = (merged[-1][0], last)
            else:
                merged.append((first, last))
        self.spans = tuple(merged)
        self._hash = hash(self.spans)
        self._size = self._counted = None

    @classmethod
    def canonical(cls, spans: tuple[tuple[int, int], ...]) -> IntervalSet:
        """Wrap intervals that already are in canonical form; the caller vouches for it."""
        made = cls.__new__(cls)
        made.spans = spans
        made._hash = hash(spans)
        made._size = made._counted = None
        return made

    @classmethod
    def of(cls, *values: int) -> IntervalSet:
        return cls((value, value) for value in values)

    def __reduce__(self) -> tuple[object, ...]:
        return IntervalSet, (self.spans,)

    def __hash__(self) -> int:
        return self._hash

    def __eq__(self, other: object) -> bool:
        return isinstance(other, IntervalSet) and self.spans == other.spans

    def __repr__(self) -> str:
        return "IntervalSet(" + ", ".join(f"{a}" if a == b else f"{a}-{b}" for a, b in self.spans) + ")"

    def __bool__(self) -> bool:
        return bool(self.spans)

    def __contains__(self, value: int) -> bool:
        if len(self.spans) > MANY:
            at = bisect_right(self.spans, value, key=_first) - 1
            return at >= 0 and value <= self.spans[at][1]
        for first, last in self.spans:  # noqa: SIM110 - a plain loop: this is the innermost test of all
            if first <= value <= last:
                return True
        return False

    def __iter__(self) -> Iterator[int]:
        for first, last in self.spans:
            yield from range(first, last + 1)

    def __and__(self, other: IntervalSet) -> IntervalSet:
        mine, theirs = self.spans, other.spans
        # Most sets are single intervals, and most intersections empty or one of the two.
        if not mine or not theirs or mine[-1][1] < theirs[0][0] or theirs[-1][1] < mine[0][0]:
            return _NOTHING
        if len(mine) == 1 and mine[0][0] <= theirs[0][0] and theirs[-1][1] <= mine[0][1]:
            return other
        if len(theirs) == 1 and theirs[0][0] <= mine[0][0] and mine[-1][1] <= theirs[0][1]:
            return self
        out: list[tuple[int, int]] = []
        i = j = 0
        while i < len(mine) and j < len(theirs):
            first = mine[i][0] if mine[i][0] > theirs[j][0] else theirs[j][0]
            last = mine[i][1] if mine[i][1] < theirs[j][1] else theirs[j][1]
            if first <= last:
                out.append((first, last))
            if mine[i][1] < theirs[j][1]:
                i += 1
            else:
                j += 1
        return IntervalSet.canonical(tuple(out))

    def common_size(self, other: IntervalSet) -> int:
        """The number of members two sets have in common, without making their intersection."""
        mine, theirs = self.spans, other.spans
        if len(mine) > len(theirs):
            return other.common_size(self)
        if len(theirs) > MANY and len(mine) * LOOKUP < len(theirs):
            return sum(other._up_to(last) - other._up_to(first - 1) for first, last in mine)
        if not mine:
            return 0
        size = i = j = 0
        first, last = mine[0]
        start, stop = theirs[0]
        while True:
            if last < stop:
                if last >= start:
                    size += last - (first if first > start else start) + 1
                i += 1
                if i == len(mine):
                    return size
                first, last = mine[i]
            else:
                if stop >= first:
                    size += stop - (first if first > start else start) + 1
                j += 1
                if j == len(theirs):
                    return size
                start, stop = theirs[j]

    def __or__(self, other: IntervalSet) -> IntervalSet:
        return IntervalSet(self.spans + other.spans)

    def __sub__(self, other: IntervalSet) -> IntervalSet:
        out: list[tuple[int, int]] = []
        theirs = other.spans
        j = 0
        for first, last in self.spans:
            at = first
            while j < len(theirs) and theirs[j][1] < at:
                j += 1
            k = j
            while k < len(theirs) and theirs[k][0] <= last:
                if theirs[k][0] > at:
                    out.append((at, theirs[k][0] - 1))
                at = theirs[k][1] + 1
                k += 1
            if at <= last:
                out.append((at, last))
        return IntervalSet.canonical(tuple(out))

    def complement(self, top: int) -> IntervalSet:
        """Everything from 0 to `top` that is not in the set."""
        return IntervalSet.canonical(((0, top),)) - self

    def issubset(self, other: IntervalSet) -> bool:
        theirs = other.spans
        at, count = 0, len(theirs)
        for first, last in self.spans:
            while at < count and theirs[at][1] < first:
                at += 1
            if at == count or theirs[at][0] > first or theirs[at][1] < last:
                return False
        return True

    def overlaps(self, other: IntervalSet) -> bool:
        """Whether two sets have a member in common, without making their intersection."""
        mine, theirs = self.spans, other.spans
        if not mine or not theirs or mine[-1][1] < theirs[0][0] or theirs[-1][1] < mine[0][0]:
            return False
        i = j = 0
        while i < len(mine) and j < len(theirs):
            if mine[i][1] < theirs[j][0]:
                i += 1
            elif theirs[j][1] < mine[i][0]:
                j += 1
            else:
                return True
        return False

    @property
    def size(self) -> int:
        if self._size is None:
            self._size = sum([last - first + 1 for first, last in self.spans])
        return self._size

    def _counts(self) -> tuple[int, ...]:
        """How many members there are before each interval, and in all; counted once."""
        if self._counted is None:
            self._counted = (0, *accumulate(last - first + 1 for first, last in self.spans))
        return self._counted

    def _up_to(self, value: int) -> int:
        """How many members are at most `value`."""
        at = bisect_right(self.spans, value, key=_first) - 1
        if at < 0:
            return 0
        first, last = self.spans[at]
        return self._counts()[at] + min(value, last) - first + 1

    @property
    def first(self) -> int:
        """The smallest member; LookupError for the empty set."""
        if not self.spans:
            raise LookupError("the empty set has no first member")
        return self.spans[0][0]


_NOTHING = IntervalSet()

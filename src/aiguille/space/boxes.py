"""What two boxes have in common, how much a box holds, and points of it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import lru_cache

from aiguille.space.fields import AXES, Axis, Box
from aiguille.space.intervals import IntervalSet

Cell = tuple[IntervalSet, ...]
"""A non-empty product of sets, one an axis, all of whose points a question treats alike."""


@lru_cache(maxsize=64)
def full_cell(tops: tuple[int, ...]) -> Cell:
    """Every value of every axis."""
    return tuple(IntervalSet.canonical(((0, top),)) for top in tops)


def samples(region: Box, tops: Sequence[int]) -> Iterator[tuple[int, ...]]:
    """A few points of a region: all first values, all last ones, and two mixtures."""
    whole = full_cell(tuple(tops))
    cells = [whole[axis] if values is None else values for axis, values in enumerate(region)]
    firsts = [values.spans[0][0] for values in cells]
    lasts = [values.spans[-1][1] for values in cells]
    middles = [_inner(values.spans[len(values.spans) // 2]) for values in cells]
    yield tuple(firsts)
    yield tuple(lasts)
    yield tuple(middles)
    yield tuple(first if axis % 2 else last for axis, (first, last) in enumerate(zip(firsts, lasts, strict=True)))


def _inner(span: tuple[int, int]) -> int:
    return min(span[0] + 1, span[1])


def box_size(region: Box, tops: Sequence[int], counted: Sequence[Axis]) -> int:
    """How many combinations of values a box holds on the axes named."""
    size = 1
    for axis in counted:
        values = region[axis]
        size *= tops[axis] + 1 if values is None else values.size
    return size


def common_size(one: Box, other: Box, tops: Sequence[int], counted: Sequence[Axis]) -> int:
    """How many combinations of values on the axes named two boxes, which overlap, have in common."""
    size = 1
    for axis in counted:
        mine, theirs = one[axis], other[axis]
        if mine is None or theirs is None or mine is theirs:
            values = theirs if mine is None else mine
            size *= tops[axis] + 1 if values is None else values.size
            continue
        size *= mine.common_size(theirs)
        if not size:
            return 0
    return size


def holds(one: Box, point: Sequence[int]) -> bool:
    """Whether a point lies in a box."""
    for values, value in zip(one, point):  # noqa: B905 - a plain loop over one entry an axis, for speed
        if values is not None:
            spans = values.spans
            if len(spans) == 1:  # as most are
                if not spans[0][0] <= value <= spans[0][1]:
                    return False
            elif value not in values:
                return False
    return True


def meets(one: Box, other: Box) -> bool:
    """Whether two boxes have a point in common."""
    for mine, theirs in zip(one, other):  # noqa: B905 - as in `overlap`
        if mine is not None and theirs is not None and mine is not theirs and not mine.overlaps(theirs):
            return False
    return True


def covers(one: Box, other: Box) -> bool:
    """Whether a box holds all points of another."""
    for mine, theirs in zip(one, other):  # noqa: B905 - as in `overlap`
        if mine is None or mine is theirs:
            continue
        if theirs is None or not theirs.issubset(mine):
            return False
    return True


def overlap(one: Box, other: Box) -> Box | None:
    """The intersection of two boxes, or None if they have no point in common."""
    out: list[IntervalSet | None] = []
    for mine, theirs in zip(one, other):  # noqa: B905 - both have one entry an axis; strictness costs a fifth here
        if mine is None or mine is theirs:
            out.append(theirs)
            continue
        if theirs is None:
            out.append(mine)
            continue
        common = mine & theirs
        if not common:
            return None
        out.append(common)
    return tuple(out)


def subtract(one: Box, other: Box, tops: Sequence[int]) -> list[Box]:
    """`one` without `other`, as at most one disjoint box an axis."""
    common = overlap(one, other)
    if common is None:
        return [one]
    out: list[Box] = []
    inner = list(one)
    for axis in range(AXES):
        theirs = other[axis]
        if theirs is None:
            continue
        mine = inner[axis]
        left = theirs.complement(tops[axis]) if mine is None else mine - theirs
        if left:
            out.append((*inner[:axis], left, *inner[axis + 1 :]))
        inner[axis] = common[axis]
    return out

"""Which boxes of a list overlap one another.

Boxes of real rule sets are made of few distinct sets, so sets are compared, not boxes: once, axis by axis. A short list is
compared with Python's own integers as masks of boxes; a long one in vectorised steps (`longindex`). NumPy is imported for
the latter alone, since that takes longer than many an audit.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import chain
from typing import Any, Protocol

from aiguille.space.fields import Box
from aiguille.space.intervals import IntervalSet
from aiguille.space.slices import bits_of

SHORT_BOXES = 1000
"""Boxes up to which a list is short."""

SHORT_INTERVALS = 10_000
"""Intervals of all distinct sets of a short list; sets of whole countries have thousands."""


class BoxIndex(Protocol):
    """A list of boxes that can be asked which of them overlap one of them.

    Numbers of boxes are a list or an array, ascending; marks are what `marks` gives.
    """

    def overlapping(self, number: int) -> Any:
        """The numbers of the boxes that have a point in common with box `number`, itself among them.

        Fast if asked in ascending order.
        """

    def marks(self, flags: Sequence[bool]) -> Any:
        """A flag for each box, in a form that `kept` understands."""

    def kept(self, numbers: Any, marks: Any) -> Any:
        """Those of some numbers whose box is marked."""

    def joined(self, several: Sequence[Any]) -> Any:
        """The numbers that are in any of several lists of them."""

    def known(self, first: int, stop: int) -> Any:
        """What was found out for the boxes from `first` up to `stop`, for another process to `learn`."""

    def learn(self, known: Any) -> None:
        """Take over what another process found out about the same list."""


def index_of(boxes: Sequence[Box]) -> BoxIndex:
    """The index that suits a list of boxes."""
    if len(boxes) <= SHORT_BOXES:
        sets = set(chain.from_iterable(boxes)) - {None}
        if sum(len(values.spans) for values in sets if values is not None) <= SHORT_INTERVALS:
            return ShortIndex(boxes)
    from aiguille.space.longindex import LongIndex

    return LongIndex(boxes)


class ShortIndex:
    """A `BoxIndex` of few boxes."""

    def __init__(self, boxes: Sequence[Box]) -> None:
        self._everyone = (1 << len(boxes)) - 1
        columns = [(column, _masks(column)) for column in zip(*boxes, strict=True)]
        self._axes = [(column, _met(known, self._everyone)) for column, known in columns if known]

    def overlapping(self, number: int) -> list[int]:
        found = self._everyone
        for column, met in self._axes:
            values = column[number]
            if values is not None:
                found &= met[values]
        return list(bits_of(found))

    def marks(self, flags: Sequence[bool]) -> Sequence[bool]:
        return flags

    def kept(self, numbers: Sequence[int], marks: Sequence[bool]) -> list[int]:
        return [number for number in numbers if marks[number]]

    def joined(self, several: Sequence[Sequence[int]]) -> list[int]:
        return sorted(set(chain.from_iterable(several)))

    def known(self, first: int, stop: int) -> None:
        return None  # all of it is found when the index is made

    def learn(self, known: None) -> None:
        pass


def _masks(column: Sequence[IntervalSet | None]) -> dict[IntervalSet, int]:
    """The distinct sets of boxes on one axis, each with the mask of the boxes that have it."""
    out: dict[IntervalSet, int] = {}
    if column.count(None) == len(column):
        return out
    bit = 1
    for values in column:
        if values is not None:
            out[values] = out.get(values, 0) | bit
        bit <<= 1
    return out


def _met(boxes: dict[IntervalSet, int], everyone: int) -> dict[IntervalSet, int]:
    """For each set of one axis the mask of the boxes whose set there has a member in common with it.

    boxes: the masks of the boxes that have each set; those in none of them have no set, and hold everything

    A sweep over all ends in ascending order: what is open when an interval begins meets it, and so does what begins before it
    ends.
    """
    anywhere = everyone
    for mask in boxes.values():
        anywhere &= ~mask
    owners = list(boxes.values())
    met = [anywhere | mask for mask in owners]
    # At equal ends intervals begin before others end.
    ends = []
    for number, values in enumerate(boxes):
        for first, last in values.spans:
            ends.append((first, 0, number))
            ends.append((last, 1, number))
    ends.sort()
    opened: list[int] = []
    since = [0] * len(owners)
    held = 0
    for _, closes, number in ends:
        mask = owners[number]
        held ^= mask
        if closes:
            for other in opened[since[number] :]:
                met[number] |= other
        else:
            met[number] |= held
            opened.append(mask)
            since[number] = len(opened)
    return dict(zip(boxes, met, strict=True))

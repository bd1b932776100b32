"""Sets of packets: unions of boxes with exact algebra."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from msgspec import Struct

from aiguille.space.boxes import overlap, subtract
from aiguille.space.effort import spend
from aiguille.space.fields import AXES, EVERYTHING, Axis, Box, Space
from aiguille.space.intervals import IntervalSet
from aiguille.space.slices import Slices


class PacketSet(Struct, frozen=True):
    """A union of boxes over the coordinates of one space; the boxes may overlap.

    tops: (AXES,) largest value of each axis
    Two sets are compared as sets with `same`, not by `==`, since a union of boxes has many forms.
    """

    tops: tuple[int, ...]
    boxes: tuple[Box, ...] = ()

    @classmethod
    def all(cls, space: Space) -> PacketSet:
        """Every packet that can exist in `space`."""
        return cls(space.tops, space.classes)

    @classmethod
    def of(cls, tops: Sequence[int], boxes: Iterable[Box]) -> PacketSet:
        """The union of `boxes`; those that are empty are left out."""
        return cls(tuple(tops), tuple(b for b in boxes if all(f is None or f for f in b)))

    def __and__(self, other: PacketSet) -> PacketSet:
        spend(len(self.boxes) * len(other.boxes))
        common = (overlap(a, b) for a in self.boxes for b in other.boxes)
        return PacketSet(self.tops, tuple(b for b in common if b is not None))

    def __or__(self, other: PacketSet) -> PacketSet:
        return PacketSet(self.tops, self.boxes + other.boxes)

    def __sub__(self, other: PacketSet) -> PacketSet:
        left = list(self.boxes)
        for hole in other.boxes:
            spend(len(left))
            left = [piece for one in left for piece in subtract(one, hole, self.tops)]
        return PacketSet(self.tops, tuple(left))

    def complement(self) -> PacketSet:
        return PacketSet(self.tops, (EVERYTHING,)) - self

    def __bool__(self) -> bool:
        return bool(self.boxes)

    def __contains__(self, point: Sequence[int]) -> bool:
        return any(all(f is None or v in f for v, f in zip(point, b, strict=True)) for b in self.boxes)

    def witness(self) -> tuple[int, ...] | None:
        """A point of the set, None if it is empty."""
        for one in self.boxes:
            return tuple(0 if values is None else values.first for values in one)
        return None

    def witness_outside(self, other: PacketSet) -> tuple[int, ...] | None:
        """A point of this set that is not in `other`, None if there is none."""
        for one in self.boxes:
            cell = Slices(one, other.boxes, self.tops).uncovered()
            if cell is not None:
                return tuple(values.first for values in cell)
        return None

    def issubset(self, other: PacketSet) -> bool:
        return self.witness_outside(other) is None

    def same(self, other: PacketSet) -> bool:
        return self.issubset(other) and other.issubset(self)

    @property
    def size(self) -> int:
        """The number of points, each counted once."""
        return sum(
            Slices(one, self.boxes[:number], self.tops).uncovered_size() for number, one in enumerate(self.boxes)
        )

    def project(self, axis: Axis) -> IntervalSet:
        """All values that occur on one axis."""
        out: list[tuple[int, int]] = []
        for one in self.boxes:
            values = one[axis]
            out += ((0, self.tops[axis]),) if values is None else values.spans
        return IntervalSet(out)


def everything(tops: Sequence[int]) -> PacketSet:
    """All points of a product of fields 0 to `tops`; for universes without the structure of a `Space`."""
    if len(tops) != AXES:
        raise ValueError(f"expected {AXES} fields, not {len(tops)}")
    return PacketSet(tuple(tops), (EVERYTHING,))

"""Cutting a region along a list of boxes: is it covered, by how much not, and where is a point that is not?

Each field of the region is cut at every boundary of the boxes that occurs in it. Values between two boundaries are told
apart by no box, so they form classes, each with the bit mask of the boxes that hold it (its *signature*). A question about
the region then is a walk over one class a field with the boxes still alive as a bit mask, cut short as soon as none is left or
one covers all that remains. The cost depends on how boxes interleave, not on the width of addresses.

This is a decision diagram over intervals that is never built, in the manner of Gouda and Liu, "Structured firewall design",
Computer Networks 51(4), 2007, with equal nodes found by their bit masks.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator, Sequence
from functools import lru_cache
from typing import cast

from msgspec import Struct

from aiguille.model import TooComplexError
from aiguille.space.boxes import Cell, full_cell
from aiguille.space.effort import ENTANGLED, spend
from aiguille.space.fields import ALL_AXES, AXES, Axis, Box
from aiguille.space.intervals import IntervalSet

LONG = 1000
"""Intervals beyond which the cut of an axis is kept for later regions: whole countries have thousands, and are in few sets."""

LONG_EACH = 20
"""Intervals a set has on average at the least for that; of many small sets more would be made than is saved."""

FEW = 16
"""Classes of an axis up to which none is left out of a walk."""

Leaf = Callable[[int, int], bool | None]
"""Judges a node from the boxes alive in it and those that hold all of it; None if it must be split further."""

BUDGET = 300_000
"""Nodes one question may visit before `TooComplexError`; enterprise rule sets stay below two thousand."""


class Class_(Struct):
    """Values of one field that no box distinguishes: the boxes that hold them, how many they are, and where they lie."""

    signature: int
    size: int
    spans: list[tuple[int, int]]


class Slices:
    """A region cut along `boxes`; boxes that miss the region are dropped from every signature."""

    __slots__ = ("_boxes", "alive", "axes", "budget", "classes", "everyone", "full", "rest_full", "whole")

    def __init__(
        self,
        region: Box,
        boxes: Sequence[Box],
        tops: Sequence[int],
        *,
        first: Sequence[Axis] = (),
        last: Sequence[Axis] = (),
        budget: int = BUDGET,
    ) -> None:
        """Cut `region`, whose None fields reach up to `tops`, along `boxes`.

        first, last: axes to be walked before or after all others; the rest is walked by ascending number of classes
        """
        spend(1 + (len(boxes) >> 2))
        everyone = (1 << len(boxes)) - 1
        self._boxes = boxes
        self.alive = self.everyone = everyone
        self.budget = budget
        columns = list(zip(*boxes)) or [()] * AXES  # noqa: B905 - boxes are of one length
        whole = full_cell(tuple(tops))
        self.whole: Cell = tuple(whole[axis] if values is None else values for axis, values in enumerate(region))
        classes: dict[Axis, list[Class_]] = {}
        full: dict[Axis, int] = {}
        for axis in ALL_AXES:
            sets = _sets_of(columns[axis], self.whole[axis])
            if not sets and axis not in first:
                full[axis] = everyone
                continue
            parts, full[axis], touched = _cut(self.whole[axis], sets, everyone)
            self.alive &= touched
            classes[axis] = parts
        self.full = full
        self.classes = classes
        varying = [a for a in classes if len(classes[a]) > 1 or a in first]
        middle = sorted((a for a in varying if a not in first and a not in last), key=lambda a: (len(classes[a]), a))
        self.axes = [*(a for a in first if a in varying), *middle, *(a for a in last if a in varying)]
        rest = [everyone]
        for axis in reversed(self.axes):
            rest.append(rest[-1] & full[axis])
        self.rest_full = rest[::-1]

    def uncovered(self) -> Cell | None:
        """Points of the region that lie in none of the boxes, as a product of sets; None if the boxes cover the region."""
        return self.find(_not_covered, sparse_first=True)

    def uncovered_size(self, counted: Sequence[Axis] = ALL_AXES) -> int:
        """How many points of the region lie in none of the boxes, counted over the axes named; see `measure`."""
        return self.measure(_not_covered, counted)

    def find(self, leaf: Leaf, *, sparse_first: bool = False) -> Cell | None:
        """Points whose node satisfies `leaf(alive, full)`: True takes it, False gives the branch up, None splits on.

        alive: mask of the boxes that hold the values chosen so far; full: those that hold all values of the axes left
        sparse_first: try classes held by few boxes first, which finds uncovered points soonest
        """
        order = self.classes
        if sparse_first:
            order = {axis: sorted(order[axis], key=lambda c: c.signature.bit_count()) for axis in self.axes}
        cell = list(self.whole)
        dead: set[tuple[int, int]] = set()

        def search(depth: int, alive: int) -> bool:
            answer = leaf(alive, self.rest_full[depth])
            if answer is not None:
                return answer
            if (depth, alive) in dead:
                return False
            axis = self.axes[depth]
            self._spend(len(order[axis]))
            tried: set[int] = set()
            for part in self._few(axis, alive, sparse_first=sparse_first) or order[axis]:
                left = alive & part.signature
                if left in tried:
                    continue
                tried.add(left)
                if search(depth + 1, left):
                    cell[axis] = IntervalSet(part.spans)
                    return True
            spend(len(tried))
            dead.add((depth, alive))
            return False

        return tuple(cell) if search(0, self.alive) else None

    def measure(self, leaf: Leaf, counted: Sequence[Axis] = ALL_AXES) -> int:
        """How many points of the region satisfy `leaf`, counted over the axes named.

        Axes that are not counted must have been given as `last`: a combination of counted values counts once if any
        value of the others satisfies.
        """
        stop = next((i for i, axis in enumerate(self.axes) if axis not in counted), len(self.axes))
        if any(axis in counted for axis in self.axes[stop:]):
            raise ValueError("axes that are not counted must come last")
        free = [1] * (len(self.axes) + 1)
        for depth in range(stop - 1, -1, -1):
            free[depth] = free[depth + 1] * self.whole[self.axes[depth]].size
        outer = 1
        for axis in counted:
            if axis not in self.axes:
                outer *= self.whole[axis].size
        known: dict[tuple[int, int], int] = {}

        def count(depth: int, alive: int) -> int:
            answer = leaf(alive, self.rest_full[depth])
            if answer is not None:
                return free[depth] if answer else 0
            key = (depth, alive)
            if key not in known:
                axis = self.axes[depth]
                self._spend(len(self.classes[axis]))
                below: dict[int, int] = {}
                for part in self._few(axis, alive) or self.classes[axis]:
                    left = alive & part.signature
                    below[left] = below.get(left, 0) + part.size
                spend(len(below))
                if depth < stop:
                    known[key] = sum(size * count(depth + 1, left) for left, size in below.items())
                else:
                    known[key] = int(any(count(depth + 1, left) for left in below))
            return known[key]

        return outer * count(0, self.alive)

    def leaves(self) -> set[int]:
        """The distinct masks of boxes that points of the region lie in."""
        found: set[int] = set()
        seen: set[tuple[int, int]] = set()

        def visit(depth: int, alive: int) -> None:
            if depth == len(self.axes):
                found.add(alive)
                return
            if (depth, alive) in seen:
                return
            seen.add((depth, alive))
            axis = self.axes[depth]
            self._spend(len(self.classes[axis]))
            for left in {alive & part.signature for part in self._few(axis, alive) or self.classes[axis]}:
                visit(depth + 1, left)

        visit(0, self.alive)
        return found

    def parts(self, label: Callable[[int, int], Hashable]) -> list[tuple[Cell, Hashable]]:
        """Disjoint products that together hold the points with a label, each with it.

        label(alive, full): None to split a node further, False where its points are of no interest, else what they are called.
        Values whose rest is alike stand together, so that the products are few; which they are follows from the order of axes.
        """
        made: dict[tuple[Axis, tuple[tuple[tuple[tuple[int, int], ...], int], ...]], int] = {}
        ends: dict[Hashable, int] = {}
        nodes: list[tuple[Axis, list[tuple[IntervalSet, int]]] | Hashable] = []
        known: dict[tuple[int, int], int] = {}

        def make(depth: int, alive: int) -> int:
            answer = label(alive, self.rest_full[depth])
            if answer is not None:
                if answer not in ends:
                    ends[answer] = len(nodes)
                    nodes.append(answer)
                return ends[answer]
            key = (depth, alive)
            if key in known:
                return known[key]
            axis = self.axes[depth]
            self._spend(len(self.classes[axis]))
            below: dict[int, list[tuple[int, int]]] = {}
            for part in self.classes[axis]:
                below.setdefault(make(depth + 1, alive & part.signature), []).extend(part.spans)
            if len(below) == 1:
                known[key] = next(iter(below))
                return known[key]
            values = [(IntervalSet(spans), child) for child, spans in below.items()]
            alike = (axis, tuple((one.spans, child) for one, child in values))
            if alike not in made:
                made[alike] = len(nodes)
                nodes.append((axis, values))
            known[key] = made[alike]
            return known[key]

        first = make(0, self.alive)
        out: list[tuple[Cell, Hashable]] = []
        final = set(ends.values())

        def walk(number: int, cell: Cell) -> None:
            if number in final:
                if nodes[number] is not False:
                    spend(1)
                    out.append((cell, nodes[number]))
                return
            axis, values = cast("tuple[Axis, list[tuple[IntervalSet, int]]]", nodes[number])
            for one, child in values:
                walk(child, (*cell[:axis], one, *cell[axis + 1 :]))

        walk(first, self.whole)
        return out

    def project(self, axis: Axis, leaf: Leaf) -> IntervalSet:
        """All values of `axis`, which must have been given as `first`, for which `find` would succeed."""
        if self.axes[:1] != [axis]:
            raise ValueError(f"{axis.name} must be cut first to be projected on")
        good: dict[int, bool] = {}

        def exists(depth: int, alive: int, known: dict[tuple[int, int], bool]) -> bool:
            answer = leaf(alive, self.rest_full[depth])
            if answer is not None:
                return answer
            key = (depth, alive)
            if key not in known:
                below = self.axes[depth]
                self._spend(len(self.classes[below]))
                lefts = {alive & part.signature for part in self._few(below, alive) or self.classes[below]}
                spend(len(lefts))
                known[key] = any(exists(depth + 1, left, known) for left in lefts)
            return known[key]

        known: dict[tuple[int, int], bool] = {}
        spans: list[tuple[int, int]] = []
        for part in self.classes[axis]:
            left = self.alive & part.signature
            if left not in good:
                good[left] = exists(1, left, known)
            if good[left]:
                spans += part.spans
        return IntervalSet(spans)

    def _few(self, axis: Axis, alive: int, *, sparse_first: bool = False) -> list[Class_] | None:
        """The classes of an axis that the boxes still alive tell apart, where those are few; None where they are not."""
        classes, whole = self.classes[axis], self.whole[axis]
        if len(classes) <= FEW:
            return None
        decisive = alive & ~self.full[axis]
        if decisive.bit_count() * FEW > len(classes) or len(whole.spans) > FEW:
            return None
        sets: Sets = []
        for number in bits_of(decisive):
            values = self._boxes[number][axis]
            if values is not None:
                sets.append((values, 1 << number))
        spend(len(sets))
        out = _classes(whole, sets, self.full[axis] | decisive)
        return sorted(out, key=lambda part: part.signature.bit_count()) if sparse_first else out

    def _spend(self, parts: int = 0) -> None:
        self.budget -= 1
        if self.budget < 0:
            raise TooComplexError(ENTANGLED)
        spend(1 + (parts >> 4))


def bits_of(mask: int) -> Iterator[int]:
    """The places of the bits set in a mask, ascending."""
    while mask:
        low = mask & -mask
        yield low.bit_length() - 1
        mask ^= low


def _not_covered(alive: int, full: int) -> bool | None:
    if not alive:
        return True
    return False if alive & full else None


Sets = list[tuple[IntervalSet, int]]
"""Distinct objects, mostly distinct sets, each with the mask of the boxes that have it."""


def _sets_of(column: Sequence[IntervalSet | None], within: IntervalSet) -> Sets:
    """The sets of boxes on one axis, those left out that hold all of a set by being that itself."""
    if column.count(None) == len(column):
        return []
    sets: dict[int, IntervalSet] = {}
    found: dict[int, int] = {}
    bit = 1
    for values in column:
        if values is not None and values is not within:
            # Rules share sets, and to hash each would take longer than to cut along two that are equal.
            key = id(values)
            sets[key] = values
            found[key] = found.get(key, 0) | bit
        bit <<= 1
    return list(zip(sets.values(), found.values(), strict=True))


def _cut(within: IntervalSet, sets: Sets, everyone: int) -> tuple[list[Class_], int, int]:
    """Classes of `within`, the mask of the boxes that cover all of it, and of those that have a part in it."""
    if within.size == 1:
        held, value = everyone, within.first
        for values, mask in sets:
            if value not in values:
                held ^= mask
        return [Class_(held, 1, list(within.spans))], held, held
    intervals = len(within.spans) + sum([len(values.spans) for values, _ in sets])
    spend(intervals >> 3)
    if intervals > max(LONG, LONG_EACH * len(sets)):
        found = _classes_of_long(within, sets, everyone)
    else:
        found = _classes(within, sets, everyone)
    covering, touched = everyone, 0
    for part in found:
        covering &= part.signature
        touched |= part.signature
    return found, covering, touched


def _classes_of_long(within: IntervalSet, sets: Sets, everyone: int) -> list[Class_]:
    """The same as `_classes`, by way of what is alike for all boxes with these sets."""
    others = everyone
    for _, mask in sets:
        others &= ~mask
    out = []
    for part in _partition(within, tuple(values for values, _ in sets)):
        signature = others
        for at, (_, mask) in enumerate(sets):
            if part.signature >> at & 1:
                signature |= mask
        out.append(Class_(signature, part.size, part.spans))
    return out


@lru_cache(maxsize=16)
def _partition(within: IntervalSet, sets: tuple[IntervalSet, ...]) -> tuple[Class_, ...]:
    """Values distinguished by some sets, which are numbered in their signatures."""
    return tuple(_classes(within, [(values, 1 << at) for at, values in enumerate(sets)], (1 << len(sets)) - 1))


def _classes(within: IntervalSet, sets: Sets, everyone: int) -> list[Class_]:
    low, high = within.spans[0][0], within.spans[-1][1]
    toggles: dict[int, int] = {}
    active = everyone
    for values, mask in sets:
        active ^= mask  # boxes without a set on this axis hold everything
        for start, stop in values.spans:
            if stop < low:
                continue
            if start > high:
                break
            if start <= low:
                active ^= mask
            else:
                toggles[start] = toggles.get(start, 0) ^ mask
            if stop < high:
                toggles[stop + 1] = toggles.get(stop + 1, 0) ^ mask
    found: dict[int, Class_] = {}
    boundaries = sorted(toggles)
    position, count = 0, len(boundaries)
    for start, stop in within.spans:
        at = start
        while at <= stop:
            while position < count and boundaries[position] <= at:
                active ^= toggles[boundaries[position]]
                position += 1
            end = stop
            if position < count and boundaries[position] <= stop:
                end = boundaries[position] - 1
            part = found.get(active)
            if part is None:
                found[active] = Class_(active, end - at + 1, [(at, end)])
            else:
                part.size += end - at + 1
                part.spans.append((at, end))
            at = end + 1
    return list(found.values())

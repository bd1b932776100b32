"""What stands above a step, and what it leaves over for it."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from msgspec import Struct, field

from aiguille.analysis.decide import Cut
from aiguille.analysis.program import Kind
from aiguille.analysis.standing.covering import smallest_hitting_set
from aiguille.analysis.standing.rows import Indexed
from aiguille.analysis.standing.words import (
    ACCEPTED,
    BECAUSE_LIMIT,
    CLOSE_ENOUGH,
    MANY,
    OPENNESS_NODES,
    OPENNESS_ROWS,
    UNCOUNTED,
    Fate,
    Openness,
    fate,
)
from aiguille.model import TooComplexError
from aiguille.space import (
    BUDGET,
    COUNTED,
    Axis,
    Box,
    Cell,
    IntervalSet,
    Slices,
    bits_of,
    box_size,
    common_size,
    covers,
    full_cell,
    holds,
    meets,
    samples,
)
from aiguille.space.effort import spend

ROUNDS = 100
"""Packets tried one after the other to find the few rules above that cover a rule."""


class Straight(Struct):
    """What stands above a step where nothing skips: sure rows that take what they match."""

    judge: Indexed
    number: int
    above: Sequence[int]
    boxes: list[Box] = field(default_factory=list)
    _made: dict[Box, Slices] = field(default_factory=dict)
    _masks: list[int] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.boxes = [self.judge.rows[row].box for row in self.above]

    def reached(self, region: Box) -> Cell | None:
        if not self.boxes:
            whole = full_cell(self.judge.tops)
            return tuple(whole[a] if values is None else values for a, values in enumerate(region))
        if len(self.boxes) > MANY:
            point = next((p for p in samples(region, self.judge.tops) if not self._taken(p)), None)
            if point is not None:
                return tuple(IntervalSet.canonical(((value, value),)) for value in point)
        if any(covers(one, region) for one in self.boxes) or self._few_cover(region):
            return None
        return self._sliced(region).uncovered()

    def _few_cover(self, region: Box) -> bool:
        """Whether a few of many boxes are soon found to cover a region: whatever packet those so far leave over brings
        in the widest box that holds it."""
        if len(self.boxes) <= MANY:
            return False
        chosen: list[Box] = []
        for _ in range(ROUNDS):
            cell = Slices(region, chosen, self.judge.tops).uncovered()
            if cell is None:
                return True
            point = [values.first for values in cell]
            mask = self._holding(point)
            if not mask:
                return False
            self._masks.append(mask)
            chosen.append(
                self.boxes[max(bits_of(mask), key=lambda at: box_size(self.boxes[at], self.judge.tops, COUNTED))]
            )
        return False

    def _holding(self, point: Sequence[int]) -> int:
        """The mask of the boxes that hold a point."""
        spend(len(self.boxes) >> 2)
        return sum(1 << at for at, one in enumerate(self.boxes) if holds(one, point))

    def _taken(self, point: Sequence[int]) -> bool:
        return any(holds(one, point) for one in self.boxes)

    def _sliced(self, region: Box) -> Slices:
        """The region cut along all that stands above, made once; with a new budget."""
        found = self._made.get(region)
        if found is None:
            found = self._made[region] = Slices(region, self.boxes, self.judge.tops, last=UNCOUNTED)
        found.budget = BUDGET
        return found

    def measured(self, region: Box, counted_before: Sequence[Box]) -> Openness:
        whole = box_size(region, self.judge.tops, COUNTED)
        again = [b for b in counted_before if meets(b, region)]
        holes = [*self.boxes, *again]
        if not holes:
            return Openness(whole, whole)
        low = 1  # a packet is known to get here
        if len(holes) > MANY:
            # At least what is left if no packet were in two holes at once.
            left = whole
            for hole in holes:
                left -= common_size(region, hole, self.judge.tops, COUNTED)
                if left <= low:
                    break
            low = max(low, left)
            if low * CLOSE_ENOUGH >= whole:
                return Openness(low, whole)
        if len(holes) <= OPENNESS_ROWS:
            sliced = Slices(region, holes, self.judge.tops, last=UNCOUNTED) if again else self._sliced(region)
            sliced.budget = OPENNESS_NODES
            try:
                size = sliced.uncovered_size(COUNTED)
            except TooComplexError:
                pass
            else:
                return Openness(size, size)
        return Openness(low, whole)

    def taken_otherwise(self, region: Box, mine: Fate) -> bool:
        """Whether some packet of `region` is first taken by a step with another outcome."""
        steps, rows = self.judge.program.steps, self.judge.rows
        other = [fate(steps[rows[row].step]) != mine for row in self.above]
        if not any(other):
            return False

        for point in samples(region, self.judge.tops):
            taker = next((at for at, one in enumerate(self.boxes) if holds(one, point)), None)
            if taker is not None and other[taker]:
                return True

        def leaf(alive: int, full: int) -> bool | None:
            low = alive & -alive
            if not low:
                return False
            return other[low.bit_length() - 1] if full & low else None

        return self._sliced(region).find(leaf) is not None

    def explain(self, regions: Sequence[Box]) -> tuple[tuple[int, ...], bool]:
        """A smallest set of steps that together cover the regions, and whether it is proven smallest."""
        rows = self.judge.rows
        for at, one in enumerate(self.boxes):
            if all(covers(one, region) for region in regions):
                return (rows[self.above[at]].step,), True
        # Every packet needs one of the boxes that hold it. The fewest boxes that do for some packets are the fewest
        # for all, once they cover the regions; until then a packet they leave over joins the others.
        needs = list(self._masks)
        try:
            for _ in range(ROUNDS):
                chosen, shortest = smallest_hitting_set(needs)
                few = [self.boxes[at] for at in chosen]
                cells = (Slices(region, few, self.judge.tops).uncovered() for region in regions)
                left = next((cell for cell in cells if cell is not None), None)
                if left is None:
                    break
                needs.append(self._holding([values.first for values in left]))
            else:
                chosen, shortest = self._irreducible(regions), False
        except TooComplexError:
            chosen, shortest = self._irreducible(regions), False
        return tuple(dict.fromkeys(rows[self.above[at]].step for at in chosen)), shortest

    def _irreducible(self, regions: Sequence[Box]) -> list[int]:
        """A set that covers, out of which nothing can be left; found by leaving out one after the other."""
        kept = list(range(len(self.boxes)))
        for at in list(kept):
            rest = [self.boxes[k] for k in kept if k != at]
            if all(Slices(region, rest, self.judge.tops).uncovered() is None for region in regions):
                kept.remove(at)
        return kept


class Walked(Struct):
    """What stands above a step where returns or early accepts skip over rules: every walk is followed."""

    judge: Indexed
    number: int
    above: Sequence[int]
    boxes: list[Box] = field(default_factory=list)

    def _cut(self, region: Box, last: tuple[Axis, ...] = (), budget: int | None = None) -> Cut:
        rows = [self.judge.rows[row] for row in self.above]
        return Cut(self.judge.program, region, rows, last=last, budget=budget)

    def reached(self, region: Box) -> Cell | None:
        cut = self._cut(region)
        return cut.slices.find(partial(cut.gets_to, self.number))

    def measured(self, region: Box, counted_before: Sequence[Box]) -> Openness:
        whole = box_size(region, self.judge.tops, COUNTED)
        try:
            cut = self._cut(region, UNCOUNTED, OPENNESS_NODES)
            size = cut.slices.measure(partial(cut.gets_to, self.number), COUNTED)
        except TooComplexError:
            return Openness(1, whole)
        return Openness(0 if counted_before else size, size)

    def taken_otherwise(self, region: Box, mine: Fate) -> bool:
        judge = self.judge
        cut = Cut(judge.program, region, [judge.rows[row] for row in judge.near(self.number)])
        doubtful = sum(
            1 << at
            for at, row in enumerate(cut.rows)
            if not row.sure and judge.program.steps[row.step].kind in (Kind.ACCEPT, Kind.REFUSE, Kind.OPEN)
        )

        def leaf(alive: int, full: int) -> bool | None:
            # A skip is no verdict: what counts is where its packets end, rules that only may match left aside.
            ends = cut.ends(alive & ~doubtful, full)
            return None if ends is None else judge.verdicts(ends) != {(mine == ACCEPTED, mine)}

        return cut.slices.find(leaf) is not None

    def explain(self, regions: Sequence[Box]) -> tuple[tuple[int, ...], bool]:
        """Every step that takes some packet of the regions; with skips about, fewer might not explain it."""
        found: set[int] = set()
        for region in regions:
            cut = self._cut(region)

            def leaf(alive: int, full: int, cut: Cut = cut) -> bool | None:
                stops = cut.stops(self.number, alive, full)
                if stops is not None:
                    found.update(stop for stop in stops if stop is not None)
                return None if stops is None else False

            cut.slices.find(leaf)
        return tuple(sorted(found))[:BECAUSE_LIMIT], False


View = Straight | Walked

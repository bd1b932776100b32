"""Boxes over boxes: covering, sampling, and the fewest that cover."""

from __future__ import annotations

from collections.abc import Iterable

from aiguille.analysis.standing.words import EXPLAIN_NODES
from aiguille.space import Axis, Box, IntervalSet
from aiguille.space.effort import spend


def is_plain(one: Box) -> bool:
    """Whether a box says nothing on the axes that regions narrow, or nothing that a region could take away."""
    if any(one[axis] is not None for axis in (Axis.FLAGS, Axis.STATE, Axis.TYPE)):
        return False
    return all((values := one[axis]) is None or 0 not in values for axis in (Axis.IN, Axis.OUT))


def is_within(one: Box, loopback: IntervalSet) -> bool:
    """Whether a box holds nothing but packets within the host."""
    return any(
        (values := one[axis]) is not None and bool(values) and values.issubset(loopback) for axis in (Axis.IN, Axis.OUT)
    )


def smallest_hitting_set(needs: Iterable[int]) -> tuple[list[int], bool]:
    """The fewest bits of which every mask in `needs` has one, and whether that many are proven necessary.

    Masks that contain another are met by meeting that one. Sizes are tried upwards, branching on the narrowest mask.
    """
    masks = sorted(set(needs), key=int.bit_count)
    minimal: list[int] = []
    for mask in masks:
        if not any(mask & other == other for other in minimal):
            minimal.append(mask)
    budget = [EXPLAIN_NODES]

    def choose_from(open_masks: list[int], size: int) -> list[int] | None:
        if not open_masks:
            return []
        if size == 0 or budget[0] <= 0:
            return None
        budget[0] -= 1
        spend(1 + (len(open_masks) >> 2))
        bits = open_masks[0]
        while bits:
            low = bits & -bits
            bits ^= low
            rest = choose_from([m for m in open_masks if not m & low], size - 1)
            if rest is not None:
                return [low.bit_length() - 1, *rest]
        return None

    for size in range(1, len(minimal) + 1):
        found = choose_from(minimal, size)
        if found is not None:
            return sorted(found), budget[0] > 0
        if budget[0] <= 0:
            break
    greedy: list[int] = []
    while minimal:
        counts: dict[int, int] = {}
        for mask in minimal:
            bits = mask
            while bits:
                low = bits & -bits
                bits ^= low
                counts[low] = counts.get(low, 0) + 1
        best = max(counts, key=lambda low: (counts[low], -low))
        greedy.append(best.bit_length() - 1)
        minimal = [mask for mask in minimal if not mask & best]
    return sorted(greedy), False

"""Which country an address is in, by ranges."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable
from functools import cached_property

from msgspec import Struct, field

Block = tuple[int, int, str]
"""First and last address, both included, and the two-letter code of a country (ISO 3166-1)."""


class Locations(Struct, frozen=True, eq=False, dict=True):
    """Countries by ranges of addresses; one is equal to itself alone, there is that much in it.

    blocks: per family, ascending and disjoint
    sources: what each file says of itself, in the order given
    digests: SHA-256 of each file
    """

    blocks: dict[int, tuple[Block, ...]] = field(default_factory=dict)
    sources: tuple[str, ...] = ()
    digests: tuple[str, ...] = ()

    def __bool__(self) -> bool:
        return any(self.blocks.values())

    def country(self, family: int, address: int) -> str | None:
        """The country an address is in, None where no file shows."""
        found = self.block(family, address)
        return found[2] if found is not None else None

    def block(self, family: int, address: int) -> Block | None:
        """The range an address is in."""
        at = bisect_right(self._starts.get(family, ()), address) - 1
        if at < 0 or self.blocks[family][at][1] < address:
            return None
        return self.blocks[family][at]

    def countries(self, family: int = 0) -> tuple[str, ...]:
        """Every country that has a range, of one family if that is given, sorted."""
        found = [held for of, held in self._by_country.items() if family in (0, of)]
        return tuple(sorted({code for held in found for code in held}))

    def of(self, family: int, codes: Iterable[str]) -> tuple[tuple[int, int], ...]:
        """The ranges of some countries."""
        held = self._by_country.get(family, {})
        out = [span for code in frozenset(codes) for span in held.get(code, ())]
        out.sort()
        return tuple(out)

    @cached_property
    def _by_country(self) -> dict[int, dict[str, list[tuple[int, int]]]]:
        out: dict[int, dict[str, list[tuple[int, int]]]] = {}
        for family, blocks in self.blocks.items():
            mine = out[family] = {}
            for first, last, code in blocks:
                mine.setdefault(code, []).append((first, last))
        return out

    @cached_property
    def _starts(self) -> dict[int, list[int]]:
        return {family: [first for first, *_ in blocks] for family, blocks in self.blocks.items()}


def overlaid(below: Iterable[Block], above: Iterable[Block]) -> tuple[Block, ...]:
    """Ranges where those of `above` win; both ascending and disjoint."""
    out: list[Block] = []
    upper = list(above)
    at = 0
    for first, last, code in below:
        while at < len(upper) and upper[at][1] < first:
            at += 1
        here = at
        while here < len(upper) and upper[here][0] <= last:
            if upper[here][0] > first:
                out.append((first, upper[here][0] - 1, code))
            first = max(first, upper[here][1] + 1)
            here += 1
        if first <= last:
            out.append((first, last, code))
    return joined(sorted([*out, *upper]))


def joined(blocks: Iterable[Block]) -> tuple[Block, ...]:
    """Ascending, disjoint ranges with neighbours of one country made one."""
    out: list[Block] = []
    for first, last, code in blocks:
        if out and out[-1][2] == code and out[-1][1] + 1 == first:
            out[-1] = (out[-1][0], last, code)
        else:
            out.append((first, last, code))
    return tuple(out)

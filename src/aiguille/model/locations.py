"""Which country an address is in, by ranges."""

from __future__ import annotations

from array import array
from bisect import bisect_right
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from itertools import accumulate, repeat
from operator import lshift, or_

from msgspec import Struct, field

Block = tuple[int, int, str]
"""First and last address, both included, and the two-letter code of a country (ISO 3166-1)."""

_LOW = (1 << 64) - 1


class Wide:
    """Numbers of 128 bits by their position: upper and lower halves, in arrays of 64 bits."""

    __slots__ = ("lower", "upper")

    def __init__(self, upper: array[int], lower: array[int]) -> None:
        self.upper, self.lower = upper, lower

    @classmethod
    def of(cls, values: Sequence[int]) -> Wide:
        return cls(array("Q", [v >> 64 for v in values]), array("Q", [v & _LOW for v in values]))

    def __len__(self) -> int:
        return len(self.upper)

    def __getitem__(self, at: int, /) -> int:
        return self.upper[at] << 64 | self.lower[at]

    def __iter__(self) -> Iterator[int]:
        return self.at(range(len(self)))

    def at(self, places: Sequence[int]) -> Iterator[int]:
        """The numbers at some positions, in their order."""
        high, low = map(self.upper.__getitem__, places), map(self.lower.__getitem__, places)
        return map(or_, map(lshift, high, repeat(64)), low)


class Ranges:
    """Ranges of one family, ascending, disjoint, and neighbours of one country joined. They are kept as columns, since an object for
    each of a million takes longer than reading the file of columns.

    first, last: addresses
    country: number of each range's country in `codes`
    order: positions of the ranges, country by country
    ends: where the share of each country in `order` ends
    """

    __slots__ = ("codes", "country", "ends", "first", "last", "order")

    def __init__(
        self,
        codes: Sequence[str],
        first: array[int] | Wide,
        last: array[int] | Wide,
        country: array[int],
        order: array[int],
        ends: Sequence[int],
    ) -> None:
        self.codes, self.first, self.last, self.country, self.order, self.ends = (
            codes,
            first,
            last,
            country,
            order,
            ends,
        )

    @classmethod
    def of(cls, family: int, blocks: Sequence[Block]) -> Ranges:
        """Columns of ranges that are as `joined` leaves them."""
        codes = sorted({code for _, _, code in blocks})
        number = {code: at for at, code in enumerate(codes)}
        country = array("I", [number[code] for _, _, code in blocks])
        firsts, lasts = [first for first, _, _ in blocks], [last for _, last, _ in blocks]
        counts = Counter(country)
        return cls(
            codes,
            array("I", firsts) if family == 4 else Wide.of(firsts),
            array("I", lasts) if family == 4 else Wide.of(lasts),
            country,
            array("I", sorted(range(len(blocks)), key=country.__getitem__)),
            [*accumulate(counts[at] for at in range(len(codes)))],
        )

    def __len__(self) -> int:
        return len(self.country)

    def __getitem__(self, at: int) -> Block:
        return self.first[at], self.last[at], self.codes[self.country[at]]

    def __iter__(self) -> Iterator[Block]:
        return zip(self.first, self.last, map(self.codes.__getitem__, self.country), strict=True)

    def until(self, address: int) -> int:
        """How many ranges begin at or before an address."""
        return bisect_right(self.first, address)

    def sizes(self) -> list[int]:
        """How many addresses each country has, in the order of `codes`."""
        out = []
        for begin, end in zip((0, *self.ends), self.ends, strict=False):
            held = self.order[begin:end]
            out.append(_total(self.last, held) - _total(self.first, held) + len(held))
        return out

    def touched(self, spans: Iterable[tuple[int, int]]) -> int:
        """About how many ranges disjoint intervals of addresses have a part in."""
        return sum(1 + self.until(last) - self.until(first) for first, last in spans)

    def counts(self, spans: Iterable[tuple[int, int]]) -> list[int]:
        """How many addresses of each country lie in disjoint intervals; takes as long as they touch ranges."""
        out = [0] * len(self.codes)
        for begin, end in spans:
            for at in range(max(self.until(begin) - 1, 0), self.until(end)):
                first, last = max(self.first[at], begin), min(self.last[at], end)
                if first <= last:
                    out[self.country[at]] += last - first + 1
        return out

    def spans(self, codes: Iterable[str]) -> list[tuple[int, int]]:
        """First and last addresses of the ranges of some countries, ascending."""
        wanted = frozenset(codes)
        out: list[tuple[int, int]] = []
        for code, begin, end in zip(self.codes, (0, *self.ends), self.ends, strict=False):
            if code in wanted:
                held = self.order[begin:end]
                out.extend(zip(_at(self.first, held), _at(self.last, held), strict=True))
        out.sort()
        return out


def _total(column: array[int] | Wide, places: Sequence[int]) -> int:
    if isinstance(column, Wide):
        return (_total(column.upper, places) << 64) + _total(column.lower, places)
    return sum(map(column.__getitem__, places))


def _at(column: array[int] | Wide, places: Sequence[int]) -> Iterator[int]:
    return column.at(places) if isinstance(column, Wide) else map(column.__getitem__, places)


class Locations(Struct, frozen=True, eq=False, dict=True):
    """Countries by ranges of addresses; one is equal to itself alone, there is that much in it.

    blocks: per family, ascending and disjoint
    sources: what each file says of itself, in the order given
    digests: of each file's content
    """

    blocks: dict[int, Ranges] = field(default_factory=dict)
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
        return next(self.within(family, address, address), None)

    def within(self, family: int, first: int, last: int) -> Iterator[Block]:
        """The ranges that hold any of some neighbouring addresses, ascending."""
        held = self.blocks.get(family)
        if held is None:
            return
        for at in range(max(held.until(first) - 1, 0), held.until(last)):
            if held.last[at] >= first:
                yield held[at]

    def countries(self, family: int = 0) -> tuple[str, ...]:
        """Every country that has a range, of one family if that is given, sorted."""
        return tuple(sorted({code for of, held in self.blocks.items() if family in (0, of) for code in held.codes}))

    def of(self, family: int, codes: Iterable[str]) -> tuple[tuple[int, int], ...]:
        """The ranges of some countries, ascending; those of one never touch."""
        held = self.blocks.get(family)
        return tuple(held.spans(codes)) if held is not None else ()


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

"""Lines and cells of a table as arrays: where they stand among the bytes, and what many cells say at once.

Only the plain spelling is understood here: decimal numbers, addresses. All else is distinguished and left to be read cell by
cell, so that there is one place that knows what is allowed.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import cache
from socket import AF_INET6, inet_pton

import numpy as np
from numpy.typing import NDArray

Mask = NDArray[np.bool_]
Numbers = NDArray[np.int64]
Wide = NDArray[np.bytes_]
"""(R,) IPv6 addresses, which no machine word holds: 16 bytes each, the highest first, so that they are in order as numbers are."""

COMMA, DOT, COLON, ZERO, LINE, RETURN = b",.:0\n\r"

GROUPS = 8
"""Of 16 bits, in an IPv6 address."""

PAD = 16
"""Bytes that must follow the text: cells are looked at through windows that reach beyond them."""


def _each(byte: int) -> np.uint64:
    """A word of eight such bytes."""
    return np.uint64(byte * 0x0101010101010101)


_ZEROS, _TO_128, _HIGHEST = _each(ZERO), _each(128 - 10), _each(128)

_JOINS = [
    (np.uint64(weight << width | 1), np.uint64(width), np.uint64(keep))
    for weight, width, keep in ((10, 8, 0x00FF00FF00FF00FF), (100, 16, 0x0000FFFF0000FFFF), (10_000, 32, 0xFFFFFFFF))
]
"""How eight digits become four numbers, four two, and two one: each part is added to the one before it, weighted."""

_ALL_BUT_THREE, _ALL_BUT_ONE = np.uint64(40), np.uint64(56)
"""Bits of a word below its first bytes."""

_OCTET, _OCTET_BITS = np.uint16(0xFF), np.uint16(8)

_SECOND_DIGIT, _TIMES_FOUR, _TIMES_EIGHT = np.uint16(9), np.uint16(2), np.uint16(3)
"""Shifts: to 1 if there are two digits, and from digits to their bits in a number and in a text."""

_ONE, _TWO, _BITS_OF_TWO, _COLONS = np.uint64(0xFF), np.uint64(0xFFFF), np.uint64(16), np.uint64(COLON << 8 | COLON)

_KEEP = np.array([(1 << 8 * length) - 1 for length in range(9)], np.uint64)
"""What of eight bytes belongs to a cell, by its length."""

_MIXER, _MIXED_IN, _PLACE = np.uint64(0x9E3779B97F4A7C15), np.uint64(29), np.uint64(48)
"""An odd number near 2**64 over the golden ratio, whose products spread over the high bits (multiplicative hashing)."""


@cache
def _octets() -> NDArray[np.uint16]:
    """What three bytes begin with, if it is a number up to 255 without leading zeros: that number, and above its lowest byte how
    many bits its digits take; else 0. Behind a shorter number a dot or a comma must stand. Few pages of it are ever touched."""
    out = np.zeros(1 << 24, np.uint16)
    for number in range(256):
        text = b"%d" % number
        for end in (b"",) if len(text) == 3 else (b".", b","):
            begin = text + end
            free = 8 * (3 - len(begin))
            first = int.from_bytes(begin, "big") << free
            out[first : first + (1 << free)] = 8 * len(text) << 8 | number
    return out


@cache
def _pairs() -> NDArray[np.uint16]:
    """What two bytes, the first one lowest, begin with: the value of their hexadecimal digits, and above its lowest byte how many
    there are."""
    digits = {ord(sign): int(sign, 16) for sign in "0123456789abcdefABCDEF"}
    out = np.zeros(1 << 16, np.uint16)
    for first, high in digits.items():
        out[first::256] = 1 << 8 | high
        for second, low in digits.items():
            out[second << 8 | first] = 2 << 8 | high << 4 | low
    return out


class Text:
    """Bytes with `PAD` more behind them, none of them 0, so that a cell and its first eight bytes may be compared as words."""

    __slots__ = ("_words", "bytes", "size")

    def __init__(self, data: bytes) -> None:
        self.bytes = np.frombuffer(data + bytes(PAD), np.uint8)
        self.size = len(data)
        # A word starts at every byte.
        self._words = np.ndarray((len(data) + PAD - 7,), "<u8", self.bytes, strides=(1,))

    def words(self, starts: Numbers) -> NDArray[np.uint64]:
        """(R,) the eight bytes from each place on, the first one lowest."""
        found: NDArray[np.uint64] = self._words[starts]
        return found


class Lines:
    """The lines of a text without quotes, and the cells between their commas.

    starts, stops: (R,) first byte of each line and the byte after its last
    """

    __slots__ = ("_before", "_columns", "_commas", "_regular", "_text", "starts", "stops")

    def __init__(self, text: Text, columns: int) -> None:
        """columns: cells of a whole line"""
        self._text, self._columns = text, columns
        signs = text.bytes[: text.size]
        of_line = signs == LINE
        count = np.count_nonzero(of_line)
        marks = np.flatnonzero(of_line | (signs == COMMA))
        ends = marks[columns - 1 :: columns]
        self._regular = bool(
            len(marks) == count * columns and of_line[ends].all() and count and ends[-1] == text.size - 1
        )
        if self._regular:  # no line has more or fewer cells
            self._commas = np.ascontiguousarray(marks.reshape(-1, columns).T)
            ends = self._commas[-1]
        else:
            ends = np.flatnonzero(of_line)
            if not count or ends[-1] != text.size - 1:
                ends = np.append(ends, text.size)
            self._commas = marks[~of_line[marks]]
        self.starts = np.concatenate([[0], ends[:-1] + 1])
        self.stops = ends - ((ends > self.starts) & (text.bytes[ends - 1] == RETURN))
        self._before = np.empty(0, np.intp) if self._regular else np.searchsorted(self._commas, self.starts)

    def __len__(self) -> int:
        return len(self.starts)

    def whole(self) -> Numbers:
        """(P,) the lines with as many cells as there are columns."""
        if self._regular:
            return np.arange(len(self))
        commas = np.searchsorted(self._commas, self.stops) - self._before
        return np.flatnonzero(commas == self._columns - 1)

    def cuts(self, lines: Numbers) -> list[Numbers]:
        """(P,) the byte before each column's cell, and at last the one behind the line; of whole lines."""
        if not self._regular:
            commas: Iterable[Numbers] = (self._commas[self._before[lines] + n] for n in range(self._columns - 1))
        elif len(lines) == len(self):
            return [self.starts - 1, *self._commas[:-1], self.stops]
        else:
            commas = (row[lines] for row in self._commas[:-1])
        return [self.starts[lines] - 1, *commas, self.stops[lines]]

    def first(self, lines: Numbers) -> Cells:
        """The cells before the first comma; of lines that have one."""
        if not self._regular:
            return Cells(self._text, self.starts[lines], self._commas[self._before[lines]])
        if len(lines) == len(self):
            return Cells(self._text, self.starts, self._commas[0])
        return Cells(self._text, self.starts[lines], self._commas[0][lines])


class Cells:
    """The cells of a column: (R,) first byte and byte after the last of each."""

    __slots__ = ("lengths", "starts", "stops", "text")

    def __init__(self, text: Text, starts: Numbers, stops: Numbers) -> None:
        self.text, self.starts, self.stops = text, starts, stops
        self.lengths = stops - starts

    def words(self, start: int = 0) -> NDArray[np.uint64]:
        """(R,) eight bytes of each cell; what lies behind it is 0."""
        found = self.text.words(np.minimum(self.starts + start, self.stops) if start else self.starts)
        found &= _KEEP.take(self.lengths - start, mode="clip")
        return found

    def numbers(self, top: int) -> tuple[Numbers, Mask]:
        """(R,) the decimal numbers up to `top` (below 100,000,000), and which cells hold one, written with digits alone."""
        # The last digit gets into the highest byte, and zeros before the first. Then eight digits become four numbers, two, one.
        behind = np.minimum(np.uint64(8) - self.lengths.view(np.uint64), np.uint64(8)) << np.uint64(3)
        words = self.text.words(self.starts) << behind
        words |= _ZEROS >> (np.uint64(64) - behind)
        words ^= _ZEROS  # a byte below 10 now, if it was a digit
        right = ((words + _TO_128) | words) & _HIGHEST == 0
        for weight, width, keep in _JOINS:
            words *= weight
            words >>= width
            words &= keep
        value = words.view(np.int64)
        return value, right & (self.lengths > 0) & (self.lengths <= len(str(top))) & (value <= top)

    def addresses(self) -> tuple[Numbers, Mask]:
        """(R,) IPv4 addresses, and which cells hold one: four decimal numbers without leading zeros (RFC 6943, 3.1.1)."""
        octets = _octets()
        value = np.zeros(len(self.starts), np.int64)
        right = np.ones(len(value), np.bool_)
        at = self.starts
        for number in range(4):
            if number % 2 == 0:  # eight bytes hold two numbers with their dots
                words = self.text.words(at).byteswap(inplace=True)
            found = octets.take((words >> _ALL_BUT_THREE).view(np.int64))
            right &= found != 0
            value <<= 8
            value |= found & _OCTET
            bits = (found >> _OCTET_BITS).astype(np.int64)
            words <<= bits.view(np.uint64)
            bits >>= 3
            at = at + bits
            if number < 3:
                right &= words >> _ALL_BUT_ONE == DOT
                words <<= _OCTET_BITS
                at += 1
        return value, right & (at == self.stops)

    def wide(self) -> tuple[Wide, Mask]:
        """(R,) IPv6 addresses, and which cells hold one, as hexadecimal groups with at most one gap (RFC 4291, 2.2)."""
        pairs, count = _pairs(), len(self.starts)
        words = self.text.words(self.starts)
        begins = words & _TWO == _COLONS
        at = self.starts + 2 * begins
        gap = begins.astype(np.int8) - np.int8(1)  # groups in front of it, -1 for none
        groups = np.zeros(count, np.int8)  # of each address so far
        right, going = self.lengths > 0, at < self.stops
        values = np.zeros((GROUPS, count), np.uint16)
        for number in range(GROUPS):
            words = self.text.words(at)
            first = pairs.take((words & _TWO).view(np.int64))
            second = pairs.take((words >> _BITS_OF_TWO & _TWO).view(np.int64))
            second *= first >> _SECOND_DIGIT
            further = second >> _OCTET_BITS
            digits = (first >> _OCTET_BITS) + further
            first &= _OCTET
            first <<= further << _TIMES_FOUR
            first |= second & _OCTET
            np.multiply(first, going, out=values[number])
            groups += going
            right &= (digits > 0) | ~going
            words >>= (digits << _TIMES_EIGHT).astype(np.uint64)
            at = at + digits * going
            going &= at < self.stops
            double = words & _TWO == _COLONS
            double &= going
            right &= ~going | (words & _ONE == COLON)
            right &= ~double | (gap < 0)
            np.copyto(gap, groups, where=double)
            at += going
            at += double
            behind = at < self.stops
            right &= ~going | double | behind  # no colon stands at the end but for those of a gap
            going &= behind
            if not going.any():
                break
        right &= ~going & np.where(gap < 0, groups == GROUPS, groups < GROUPS)
        out = np.ascontiguousarray(values.T)
        gapped = np.flatnonzero(gap >= 0)
        if gapped.size:
            gap, values = gap[gapped], values[:, gapped]
            missing, every = GROUPS - groups[gapped], np.arange(len(gapped))
            spread = np.zeros((len(gapped), GROUPS), np.uint16)
            for number in range(GROUPS):
                # What stands behind the gap ends with the address; where groups are none they are 0, and do no harm.
                spread[every, np.minimum(number + missing * (gap <= number), GROUPS - 1)] += values[number]
            out[gapped] = spread
        return out.astype(">u2").view("S16")[:, 0], right


def read_wide(text: str) -> int | None:
    """An IPv6 address; None for anything else."""
    try:
        return int.from_bytes(inet_pton(AF_INET6, text))
    except (OSError, ValueError):
        return None


def as_wide(values: Sequence[int]) -> Wide:
    """(R,) IPv6 addresses of numbers."""
    return np.frombuffer(b"".join([value.to_bytes(16) for value in values]), "S16")


def as_number(value: np.int64 | bytes) -> int:
    """A value of a column; NumPy leaves out the zeros that bytes end in."""
    return int.from_bytes(value.ljust(16, b"\0")) if isinstance(value, bytes) else int(value)


def classes(*columns: Cells) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    """(R,) the number of each row's class, and (K,) a row of each: rows that say the same in all columns are of one class."""
    count = len(columns[0].starts)
    words = [c.words(start) for c in columns for start in range(0, max(1, int(c.lengths.max(initial=0))), 8)]
    mixed = words[0] * _MIXER
    for word in words[1:]:
        mixed ^= mixed >> _MIXED_IN
        mixed ^= word
        mixed *= _MIXER
    # A few classes find one another in a table of the highest bits; whoever shares a place with another class shows it.
    mixed >>= _PLACE
    places = mixed.view(np.intp)
    keeper = np.full(1 << 16, -1, np.int32)
    keeper[places] = np.arange(count, dtype=np.int32)
    kept = np.flatnonzero(keeper >= 0)
    rows = keeper[kept].astype(np.intp)
    number = np.zeros(1 << 16, np.int32)
    number[kept] = np.arange(len(kept))
    found = number.take(places).astype(np.intp)
    if all((word[rows].take(found) == word).all() for word in words):
        return found, rows
    _, rows, numbers = np.unique(np.stack(words, axis=1), axis=0, return_index=True, return_inverse=True)
    return numbers.reshape(-1), rows

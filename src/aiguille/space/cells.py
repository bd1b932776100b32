"""Cells of a table as arrays: where they stand among the bytes, and what many of them say at once.

Only the plain spelling is understood here: decimal numbers, dotted addresses. All else is told apart and left to be
read cell by cell, so that there is one place that knows what is allowed.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Mask = NDArray[np.bool_]
Numbers = NDArray[np.int64]

COMMA, DOT, ZERO, LINE, RETURN = b",.0\n\r"

PAD = 16
"""Bytes that must follow the text: cells are looked at through windows that reach beyond them."""

_KEEP = np.array([(1 << 8 * length) - 1 for length in range(9)], np.uint64)
"""What of eight bytes belongs to a cell, by its length."""


class Text:
    """Bytes with `PAD` more behind them, none of them 0, so that a cell and its first eight bytes may be compared as words."""

    __slots__ = ("_words", "bytes")

    def __init__(self, data: bytes) -> None:
        self.bytes = np.frombuffer(data + bytes(PAD), np.uint8)
        # A word starts at every byte.
        self._words = np.ndarray((len(data) + PAD - 7,), "<u8", self.bytes, strides=(1,))

    def words(self, starts: Numbers) -> NDArray[np.uint64]:
        """(R,) the eight bytes from each place on, the first one lowest."""
        found: NDArray[np.uint64] = self._words[starts]
        return found


class Cells:
    """The cells of a column: (R,) first byte and byte after the last of each."""

    __slots__ = ("lengths", "starts", "stops", "text")

    def __init__(self, text: Text, starts: Numbers, stops: Numbers) -> None:
        self.text, self.starts, self.stops = text, starts, stops
        self.lengths = stops - starts

    def words(self, start: int = 0) -> NDArray[np.uint64]:
        """(R,) eight bytes of each cell; what lies behind it is 0."""
        found: NDArray[np.uint64] = self.text.words(np.minimum(self.starts + start, self.stops))
        found &= _KEEP[np.clip(self.lengths - start, 0, 8)]
        return found

    def numbers(self, top: int) -> tuple[Numbers, Mask]:
        """(R,) the decimal numbers up to `top` (below 100,000,000), and which cells hold one, written with digits alone."""
        words = self.text.words(self.starts)
        value = np.zeros(len(words), np.int32)
        digits, more = np.zeros(len(words), np.int8), np.ones(len(words), np.bool_)
        for place in range(len(str(top))):
            digit = _digit(words, place)
            more &= digit < 10
            value = np.where(more, value * 10 + digit, value)
            digits += more
        return value.astype(np.int64), (digits == self.lengths) & (digits > 0) & (value <= top)

    def addresses(self) -> tuple[Numbers, Mask]:
        """(R,) IPv4 addresses, and which cells hold one: four decimal numbers without leading zeros (RFC 6943, 3.1.1)."""
        value = np.zeros(len(self.starts), np.int64)
        right = np.ones(len(value), np.bool_)
        at = self.starts
        for number in range(4):
            # Whatever was wrong before, a cell is not left.
            words = self.text.words(np.minimum(at, self.stops))
            one, two, three = (_digit(words, place) for place in range(3))
            double = two < 10
            triple = double & (three < 10)
            octet = np.where(double, one * np.int32(10) + two, one)
            octet = np.where(triple, octet * np.int32(10) + three, octet)
            right &= (one < 10) & (octet < 256) & ~(double & (one == 0))
            value = value << 8 | octet
            at = at + 1 + double + triple
            if number < 3:
                right &= self.text.bytes[np.minimum(at, self.stops)] == DOT
                at = at + 1
        return value, right & (at == self.stops)


def _digit(words: NDArray[np.uint64], place: int) -> NDArray[np.int32]:
    """(R,) the value of a digit among the eight bytes; beyond 9 where there is none."""
    found: NDArray[np.int32] = ((words >> np.uint64(8 * place)).astype(np.uint8) - np.uint8(ZERO)).astype(np.int32)
    return found


def classes(*columns: Cells) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    """(R,) the number of each row's class, and (K,) a row of each: rows that say the same in all columns are of one class."""
    count = len(columns[0].starts)
    words = [c.words(start) for c in columns for start in range(0, max(1, int(c.lengths.max(initial=0))), 8)]
    mixed = np.zeros(count, np.uint64)
    for word in words:
        mixed = (mixed ^ word) * np.uint64(0x9E3779B97F4A7C15)
        mixed ^= mixed >> np.uint64(29)
    # A few classes find one another in a table of their low bits; whoever shares a place with another class shows it.
    places = (mixed & np.uint64(0xFFFF)).astype(np.uint16)
    keeper = np.full(1 << 16, -1, np.intp)
    keeper[places[::-1]] = np.arange(count - 1, -1, -1)
    firsts = np.sort(keeper[keeper >= 0])
    number = np.zeros(1 << 16, np.intp)
    number[places[firsts]] = np.arange(len(firsts))
    found = number[places]
    if all((word[firsts][found] == word).all() for word in words):
        return found, firsts
    _, rows, numbers = np.unique(np.stack(words, axis=1), axis=0, return_index=True, return_inverse=True)
    return numbers.reshape(-1), rows

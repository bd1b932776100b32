"""JSON exports into a tree that keeps lines, at little more than the cost of `json.loads`.

The standard library's decoder makes the values and tells no places. Those are found beside it: one vectorised pass finds the
signs of structure outside strings, with their depth; sorted by depth, the signs of one object or array stand together, so
that the places of its children are found only when a mapping asks for them. Parts that a dialect ignores cost nothing more.
"""

from __future__ import annotations

import json
import re
from bisect import bisect_right
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from aiguille.model import Span, UnreadableError
from aiguille.readers.files import ExportFile
from aiguille.readers.mapped.tree import DEPTH_LIMIT, Asides, Node, Token

_SPACE = re.compile(rb"[ \t\r\n]*")
_ESCAPE = re.compile(rb"\\.", re.DOTALL)
_STRING_END = re.compile(rb'[^"\\]*(?:\\.[^"\\]*)*"', re.DOTALL)
_BARE = re.compile(rb"[^,\]}\s]+")

_OPENS, _CLOSES, _OTHER = 1, 2, 3
_CLASS = np.zeros(256, dtype=np.uint8)
for _signs, _number in ((b"{[", _OPENS), (b"}]", _CLOSES), (b",:", _OTHER)):
    for _sign in _signs:
        _CLASS[_sign] = _number

DENSE = 400
"""Signs a line on average beyond which a node's place needs columns."""


class _Object(list[tuple[str, Any]]):
    """The members of an object, in order, repeated keys kept."""

    __slots__ = ()


def parse(file: ExportFile, asides: Asides) -> Node:
    """The tree of a file.

    Raises UnreadableError, with the line, for what is not JSON and for depth beyond `DEPTH_LIMIT`.
    """
    text = "\n".join(file.lines)
    try:
        value = json.loads(text, object_pairs_hook=_Object, parse_int=str, parse_float=str)
    except json.JSONDecodeError as error:
        raise UnreadableError(
            f"{file.path}:{error.lineno}: this is not valid JSON: {error.msg.lower()}; export it again"
        ) from error
    except RecursionError as error:
        raise UnreadableError(f"{file.path}:1: values are nested deeper than {DEPTH_LIMIT}") from error
    places = _Places(file, text, asides)
    at = _skip(places.data, 0)
    last = max(len(file.lines), 1)
    if isinstance(value, _Object):
        return Node("", (), file.path, 1, 1, last, grow=partial(places.members, value, at))
    return Node("", (), file.path, 1, 1, last, grow=partial(places.items, "item", value, at))


def _skip(data: bytes, at: int) -> int:
    found = _SPACE.match(data, at)
    return found.end() if found is not None else at


class _Places:
    """Where the values of a JSON text stand.

    signs: (S,) positions of structural signs in the text's bytes, ordered by depth and, within one depth, by position
    """

    def __init__(self, file: ExportFile, text: str, asides: Asides) -> None:
        self.path = file.path
        self.asides = asides
        self.data = text.encode()
        self.ascii = text.isascii()
        self.dense = len(self.data) > DENSE * max(len(file.lines), 1)
        raw = np.frombuffer(self.data, dtype=np.uint8)
        self.breaks: list[int] = np.flatnonzero(raw == 10).tolist()
        plain = np.frombuffer(_ESCAPE.sub(b"__", self.data), dtype=np.uint8) if b"\\" in self.data else raw
        kinds = _CLASS[plain]
        # Odd after an opening quote, even behind a closing one.
        kinds[(np.cumsum(plain == 34, dtype=np.uint8) & 1).astype(bool)] = 0
        positions = np.flatnonzero(kinds)
        kinds = kinds[positions]
        depths = np.cumsum(kinds == _OPENS, dtype=np.int32) - np.cumsum(kinds == _CLOSES, dtype=np.int32)
        depths += kinds == _CLOSES
        if depths.size and int(depths.max()) > DEPTH_LIMIT:
            line = self.line(int(positions[int(np.argmax(depths))]))
            raise UnreadableError(f"{file.path}:{line}: values are nested deeper than {DEPTH_LIMIT}")
        order = np.argsort(depths.astype(np.uint8), kind="stable")
        self.signs: NDArray[np.int64] = positions[order]
        self.kinds = kinds[order]
        self.positions = positions
        self.place_of = np.empty_like(order)
        self.place_of[order] = np.arange(order.size)
        self.ends = np.flatnonzero(self.kinds == _CLOSES)

    def line(self, at: int) -> int:
        return bisect_right(self.breaks, at) + 1

    def column(self, at: int) -> int:
        """The column, from 0, in signs."""
        number = bisect_right(self.breaks, at)
        begin = self.breaks[number - 1] + 1 if number else 0
        return at - begin if self.ascii else len(self.data[begin:at].decode(errors="replace"))

    def inside(self, at: int) -> list[int]:
        """The positions of an object's or array's own signs, its opening and closing ones included."""
        first = int(self.place_of[int(np.searchsorted(self.positions, at))])
        last = int(self.ends[int(np.searchsorted(self.ends, first))])
        found: list[int] = self.signs[first : last + 1].tolist()
        return found

    def members(self, value: _Object, at: int) -> tuple[Node, ...]:
        """The children of an object whose brace stands at a position."""
        signs = self.inside(at)
        out: list[Node] = []
        data = self.data
        for number, (key, below) in enumerate(value):
            key_at = _skip(data, signs[2 * number] + 1)
            value_at = _skip(data, signs[2 * number + 1] + 1)
            out += self.node(key, below, key_at, value_at)
        return tuple(out)

    def items(self, name: str, value: list[Any], at: int) -> tuple[Node, ...]:
        """The nodes an array becomes."""
        signs = self.inside(at)
        out: list[Node] = []
        for number, below in enumerate(value):
            value_at = _skip(self.data, signs[number] + 1)
            out += self.node(name, below, value_at, value_at)
        return tuple(out)

    def node(self, name: str, value: Any, key_at: int, value_at: int) -> list[Node]:
        line = self.line(value_at)
        first = self.line(key_at)
        if isinstance(value, _Object):
            stop = self.inside(value_at)[-1]
            last = self.line(stop)
            start, stop = (self.column(key_at), self.column(stop) + 1) if self.dense else (0, 0)
            closing = last if last > line else 0
            grow = partial(self.members, value, value_at)
            return [Node(name, (), self.path, first, line, last, closing=closing, grow=grow, start=start, stop=stop)]
        if isinstance(value, list):
            if not value:
                self.asides.set_aside(Span(self.path, first, line), "an empty list")
                return []
            if any(isinstance(item, list) and not isinstance(item, _Object) for item in value):
                grow = partial(self.items, "item", value, value_at)
                return [Node(name, (), self.path, first, line, self.line(self.inside(value_at)[-1]), grow=grow)]
            return list(self.items(name, value, value_at))
        start = self.column(value_at)
        words: tuple[Token, ...] = ()
        if value is not None:
            text = value if isinstance(value, str) else "true" if value else "false"
            words = (Token(text, self.path, line, start, self._stop(value_at, line), self.data[value_at] == 34),)
        key_start, stop = (self.column(key_at), words[0].stop if words else start + 4) if self.dense else (0, 0)
        return [Node(name, words, self.path, first, line, start=key_start, stop=stop)]

    def _stop(self, at: int, line: int) -> int:
        quoted = self.data[at] == 34
        found = _STRING_END.match(self.data, at + 1) if quoted else _BARE.match(self.data, at)
        return self.column(found.end()) if found is not None else 1 << 30

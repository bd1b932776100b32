"""JSON exports into a tree that keeps lines, at little more than the cost of `json.loads`.

A decoder makes the values and shows no places. Those are found beside it: one vectorised pass finds the signs of structure
outside strings, with their depth; sorted by depth, the signs of one object or array stand together, so that the places of its
children are found only when a mapping asks for them. Parts that a dialect ignores cost nothing more. Of several members with
one name the decoder keeps the last; the signs show how many there are, and only such an object is decoded again.
"""

from __future__ import annotations

import json
import re
from array import array
from bisect import bisect_left, bisect_right
from collections.abc import Callable, Iterable, Iterator
from functools import cache, cached_property, partial
from typing import Any

import msgspec
import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from aiguille.model import Span, UnreadableError
from aiguille.readers.files import ExportFile, json_data, json_text
from aiguille.readers.mapped.tree import DEPTH_LIMIT, Asides, Digits, Node, Token, Unopened, is_dense

_SPACE = re.compile(rb"[ \t\r\n]*")
_ESCAPE = re.compile(rb"\\.", re.DOTALL)
_STRING_END = re.compile(rb'[^"\\]*(?:\\.[^"\\]*)*"', re.DOTALL)
_BARE = re.compile(rb"[^,\]}\s]+")

_TOKEN = re.compile(rb'[ \t\r\n]*("(?:[^"\\]|\\.)*"|[{}\[\],:]|[^\s,\]}\[{:"]+)')
_NESTED = re.compile(rb"[\[,][ \t\r\n]*\[")
"""After a comma an object goes on with a key, so what opens there stands in another array (or in a string, no harm done)."""
_ARRAYS_ALONE = re.compile(r'(?:[\s,\[\]]|"(?:[^"\\]|\\.)*"\s*:\s*\[)*')
_KEY_ALONE = re.compile(r'\s*"(?:[^"\\]|\\.)*"\s*:\s*')
_HOLDING = (dict, list)
_LITERALS: dict[bytes, str | bool | None] = {b"true": True, b"false": False, b"null": None}

SMALL = 8192
"""Signs up to which an object is read in one pass rather than by the index."""

_OPENS, _CLOSES, _COMMA, _COLON, _QUOTE, _BREAK = 1, 2, 3, 4, 5, 6
_CLASS = bytearray(256)
for _signs, _number in (
    (b"{[", _OPENS),
    (b"}]", _CLOSES),
    (b",", _COMMA),
    (b":", _COLON),
    (b'"', _QUOTE),
    (b"\n", _BREAK),
):
    for _sign in _signs:
        _CLASS[_sign] = _number

_DECODER = msgspec.json.Decoder(float_hook=Digits)


def parse(file: ExportFile, asides: Asides) -> Node:
    """The tree of a file.

    Raises UnreadableError, with the line, for what is not JSON and for depth beyond `DEPTH_LIMIT`.
    """
    data = json_data(file)
    try:
        value = _decoded(file, data)
    except json.JSONDecodeError as error:
        raise UnreadableError(
            f"{file.path}:{error.lineno}: this is not valid JSON: {error.msg.lower()}; export it again"
        ) from error
    except RecursionError as error:
        raise UnreadableError(f"{file.path}:1: values are nested deeper than {DEPTH_LIMIT}") from error
    places = _Places(file, data, asides)
    last = max(len(file.lines), 1)
    if isinstance(value, dict):
        return Node("", (), file.path, 1, 1, last, grow=partial(places.members, value, 0))
    if isinstance(value, list) and value:
        return Node("", (), file.path, 1, 1, last, grow=partial(places.items, "item", value, 0))
    raise UnreadableError(f"{file.path}:1: this JSON holds no object and no list of any; export it again")


def _decoded(file: ExportFile, data: bytes) -> Any:
    """The value, numbers with a fraction as text: quoted or not is told by their type."""
    try:
        return _DECODER.decode(data)
    except msgspec.DecodeError:
        return _loaded(json_text(file))  # which shows where it is wrong, and what is right for it alone


def _loaded(text: str) -> Any:
    """The same by the standard library, repeated names kept."""
    try:
        return json.loads(text, object_pairs_hook=_object, parse_float=Digits)
    except json.JSONDecodeError:
        raise
    except ValueError:  # an integer with more digits than Python reads
        return json.loads(text, object_pairs_hook=_object, parse_int=Digits, parse_float=Digits)


class _Repeated(dict[str, Any]):
    """An object in which a name occurs more than once, with all its members in order."""

    def __init__(self, members: list[tuple[str, Any]]) -> None:
        super().__init__(members)
        self.members = members


def _object(members: list[tuple[str, Any]]) -> dict[str, Any]:
    value = dict(members)
    return value if len(value) == len(members) else _Repeated(members)


def _skip(data: bytes, at: int) -> int:
    found = _SPACE.match(data, at)
    return found.end() if found is not None else at


class _Frame(Struct):
    """An object or array that is being read: its name, line and column of its key, the line of its own sign, and the list
    its children go to; those of an array go to that of what it stands in, which held `before` of them."""

    name: str
    key_line: int
    key_column: int
    line: int
    is_array: bool
    children: list[Node]
    before: int = 0


class _Places:
    """Where the values of a JSON text stand.

    signs: (S,) positions of structural signs in the text's bytes, ordered by depth and, within one depth, by position
    opens, closes: (C,) for each object or array where its opening and closing sign stand among these; the number of an object
        or array is its place here
    colons: (M,) positions of all colons behind names
    """

    def __init__(self, file: ExportFile, data: bytes, asides: Asides) -> None:
        self.path = file.path
        self.asides = asides
        self.lines = file.lines
        self.data = data
        self.dense = is_dense(len(data), len(file.lines))
        plain = _ESCAPE.sub(b"__", data) if b"\\" in data else data
        kinds = np.frombuffer(plain.translate(_CLASS), np.uint8)
        positions = np.flatnonzero(kinds != 0)  # bits are faster to look through than numbers
        kinds = kinds[positions]
        quotes, breaks = kinds == _QUOTE, kinds == _BREAK
        self.breaks_at = positions[breaks].astype(np.int64)
        # Odd after an opening quote, even behind a closing one.
        outside = np.cumsum(quotes, dtype=np.uint8) & 1 == 0
        outside &= ~(quotes | breaks)
        positions, kinds = positions[outside], kinds[outside]
        self.colons = positions[kinds == _COLON]
        depths = np.cumsum(kinds == _OPENS, dtype=np.int32) - np.cumsum(kinds == _CLOSES, dtype=np.int32)
        depths += kinds == _CLOSES
        if depths.size and int(depths.max()) > DEPTH_LIMIT:
            line = self.line(int(positions[int(np.argmax(depths))]))
            raise UnreadableError(f"{file.path}:{line}: values are nested deeper than {DEPTH_LIMIT}")
        order = np.argsort(depths.astype(np.uint8), kind="stable")
        self.signs: NDArray[np.int64] = positions[order]
        kinds, depths = kinds[order], depths[order]
        # Within one depth, an opening sign is followed by its own commas and colons and then its closing sign.
        self.opens = np.flatnonzero(kinds == _OPENS)
        self.closes = np.flatnonzero(kinds == _CLOSES)
        self.depth_of = depths[self.opens]
        self.starts = np.searchsorted(depths, np.arange(DEPTH_LIMIT + 2))
        self.open_lines = np.searchsorted(self.breaks_at, self.signs[self.opens]) + 1
        self.close_lines = np.searchsorted(self.breaks_at, self.signs[self.closes]) + 1

    @cached_property
    def breaks(self) -> array[int]:
        """`breaks_at` in a form that is quickly looked up one by one."""
        return array("q", self.breaks_at.tobytes())

    @cached_property
    def further(self) -> list[int]:
        """The bytes that go on a sign (RFC 3629, 3), which are not counted in columns."""
        if self.data.isascii():
            return []
        found: list[int] = np.flatnonzero(np.frombuffer(self.data, np.uint8) & 0xC0 == 0x80).tolist()
        return found

    def line(self, at: int) -> int:
        return bisect_right(self.breaks, at) + 1

    def column(self, at: int) -> int:
        """The column, from 0, in signs."""
        return self._column(self._reach(self.line(at))[0], at)

    def inside(self, number: int) -> list[int]:
        """The positions of an object's or array's own signs, its opening and closing ones included."""
        found: list[int] = self.signs[self.opens[number] : self.closes[number] + 1].tolist()
        return found

    def below(self, number: int) -> Iterator[tuple[int, int, int]]:
        """The objects and arrays right inside one, in order: number, line of the opening sign, line of the closing one."""
        depth = int(self.depth_of[number]) + 1
        group = slice(int(self.starts[depth]), int(self.starts[depth + 1]))
        ends = (self.signs[self.opens[number]], self.signs[self.closes[number]])
        begin, end = np.searchsorted(self.opens, np.searchsorted(self.signs[group], ends) + group.start).tolist()
        return zip(
            range(begin, end), self.open_lines[begin:end].tolist(), self.close_lines[begin:end].tolist(), strict=True
        )

    def pairs(self, value: dict[str, Any], number: int) -> Iterable[tuple[str, Any]]:
        """The members of an object with their names, repeated ones included."""
        # Its own signs are its brackets, a colon a member and commas between.
        if len(value) != (self.closes[number] - self.opens[number]) // 2 and not isinstance(value, _Repeated):
            begin, end = self.signs[self.opens[number]], self.signs[self.closes[number]]
            value = _loaded(self.data[begin : end + 1].decode())
        return value.members if isinstance(value, _Repeated) else value.items()

    def members(self, value: dict[str, Any], number: int) -> tuple[Node, ...]:
        """The children of an object."""
        signs, members = self.inside(number), self.pairs(value, number)
        below = self.below(number) if any(isinstance(inner, _HOLDING) for _, inner in members) else iter(())
        out: list[Node] = []
        for at, (key, inner) in enumerate(members):
            key_at = _skip(self.data, signs[2 * at] + 1)
            if isinstance(inner, _HOLDING):
                out += self.container(key, inner, self.line(key_at), key_at, *next(below))
            else:
                out.append(self.scalar(key, inner, key_at, _skip(self.data, signs[2 * at + 1] + 1)))
        return tuple(out)

    def items(self, name: str, value: list[Any], number: int) -> tuple[Node, ...]:
        """The nodes an array becomes."""
        if not self.dense and all(isinstance(inner, dict) for inner in value):
            return self.objects(name, value, number)
        mixed = any(not isinstance(inner, _HOLDING) for inner in value)
        signs = self.inside(number) if mixed else []
        below = self.below(number) if any(isinstance(inner, _HOLDING) for inner in value) else iter(())
        out: list[Node] = []
        for at, inner in enumerate(value):
            if isinstance(inner, _HOLDING):
                inside, line, last = next(below)
                out += self.container(name, inner, line, -1, inside, line, last)
            else:
                value_at = _skip(self.data, signs[at] + 1)
                out.append(self.scalar(name, inner, value_at, value_at))
        return tuple(out)

    def objects(self, name: str, value: list[Any], number: int) -> tuple[Node, ...]:
        """`items` for an array of nothing but objects, which may be long."""
        inside = list(self.below(number))
        first, stop = inside[0][0], inside[-1][0] + 1
        begins, ends = self.signs[self.opens[first:stop]], self.signs[self.closes[first:stop]]
        path, grown, bare = self.path, self.grown, self.bare
        return tuple(
            Node(
                name, (), path, line, line, last, (), last if last > line else 0,
                Unopened(members, names, number, begin, end, grown, bare),
            )
            for (number, line, last), members, names, begin, end in zip(
                inside, value, self.names(begins, ends).tolist(), begins.tolist(), ends.tolist(), strict=True
            )
        )  # fmt: skip

    def names(self, begin: int | NDArray[np.int64], end: int | NDArray[np.int64]) -> Any:
        """How many names there are between places."""
        return np.searchsorted(self.colons, end) - np.searchsorted(self.colons, begin)

    def grown(self, value: dict[str, Any], number: int, begin: int, end: int) -> tuple[Node, ...]:
        """The children of an object, the way that is faster."""
        if end - begin < SMALL and not _NESTED.search(self.data, begin, end):
            return self.small(begin, end)
        return self.members(value, number)

    def bare(self, first: int, last: int) -> list[int]:
        """Lines with nothing but brackets of arrays and the keys in front of them."""
        return self._bare[bisect_left(self._bare, first) : bisect_right(self._bare, last)]

    @cached_property
    def _bare(self) -> list[int]:
        arrays = np.frombuffer(self.data, np.uint8)[self.signs[self.opens]] == 91
        found = []
        is_alone = cache(_ARRAYS_ALONE.fullmatch)  # most of these lines are alike
        for line in sorted({*self.open_lines[arrays].tolist(), *self.close_lines[arrays].tolist()}):
            text = self.lines[line - 1]
            if is_alone(text):
                if line > 1 and text.lstrip()[0] == "[" and _KEY_ALONE.fullmatch(self.lines[line - 2]):
                    found.append(line - 1)
                found.append(line)
        return found

    def container(
        self, name: str, value: dict[str, Any] | list[Any], first: int, key_at: int, number: int, line: int, last: int
    ) -> list[Node]:
        """The nodes of an object or array. first, key_at: line and place of its key; the place is -1 if it has none."""
        if isinstance(value, dict):
            begin, end = int(self.signs[self.opens[number]]), int(self.signs[self.closes[number]])
            start = stop = 0
            if self.dense:
                start = self.column(key_at if key_at >= 0 else begin)
                stop = self.column(end) + 1
            closing = last if last > line else 0
            grow: Callable[[], tuple[Node, ...]] = partial(self.grown, value, number, begin, end)
            if not self.dense:
                names = int(self.names(begin, end))
                grow = Unopened(value, names, number, begin, end, self.grown, self.bare)
            return [Node(name, (), self.path, first, line, last, closing=closing, grow=grow, start=start, stop=stop)]
        if not value:
            self.asides.set_aside(Span(self.path, first, line), "an empty list")
            return []
        if any(isinstance(item, list) for item in value):
            return [Node(name, (), self.path, first, line, last, grow=partial(self.items, "item", value, number))]
        return list(self.items(name, value, number))

    def small(self, at: int, end: int) -> tuple[Node, ...]:
        """The children of a short object, all below them made in the same pass: most objects are short, and asking the index
        for each would cost more than reading them again. Arrays of arrays are not for here."""
        stack: list[_Frame] = [_Frame("", 0, 0, 0, False, [])]
        key, key_line, key_column = "", 0, 0
        # Signs come in order, so their lines are counted along. No string holds a line break (RFC 8259, 7).
        line = self.line(at)
        begin, end_of_line = self._reach(line)
        for found in _TOKEN.finditer(self.data, at + 1, end):
            place, stop = found.span(1)
            sign = self.data[place]
            if sign in b",:":
                continue
            while place > end_of_line:
                line += 1
                begin, end_of_line = self._reach(line)
            top = stack[-1]
            if not top.is_array and not key_line and sign not in b"}]":
                key, key_line = self._unquoted(found[1]), line
                key_column = self._column(begin, place) if self.dense else 0
                continue
            if sign in b"}]":
                stack.pop()
                if sign == 125:
                    stack[-1].children.append(self._object(top, line, self._column(begin, place)))
                elif len(top.children) == top.before:
                    self.asides.set_aside(Span(self.path, top.key_line, line), "an empty list")
                continue
            column = self._column(begin, place)
            name, first, start = (top.name, line, column) if top.is_array else (key, key_line, key_column)
            if sign == 123:
                stack.append(_Frame(name, first, start, line, False, []))
            elif sign == 91:
                stack.append(_Frame(name, first, start, line, True, top.children, len(top.children)))
            else:
                value = self._unquoted(found[1]) if sign == 34 else _LITERALS.get(found[1], found[1].decode())
                behind = self._column(begin, stop - 1) + 1
                top.children.append(self._leaf(name, value, first, start, line, column, behind, quoted=sign == 34))
            key_line = 0
        return tuple(stack[0].children)

    def _reach(self, line: int) -> tuple[int, int]:
        """The first byte of a line, and its line break."""
        begin = self.breaks[line - 2] + 1 if line > 1 else 0
        return begin, self.breaks[line - 1] if line <= len(self.breaks) else len(self.data)

    def _column(self, begin: int, at: int) -> int:
        """The column, from 0, in signs, in the line that begins at a byte."""
        if not self.further:
            return at - begin
        return at - begin - (bisect_left(self.further, at) - bisect_left(self.further, begin))

    def _object(self, frame: _Frame, last: int, column: int) -> Node:
        start, stop = (frame.key_column, column + 1) if self.dense else (0, 0)
        return Node(
            frame.name, (), self.path, frame.key_line, frame.line, last, tuple(frame.children),
            closing=last if last > frame.line else 0, start=start, stop=stop,
        )  # fmt: skip

    def _unquoted(self, raw: bytes) -> str:
        return raw[1:-1].decode() if b"\\" not in raw else str(json.loads(raw))

    def scalar(self, name: str, value: Any, key_at: int, value_at: int) -> Node:
        """The node of a value, by the places of its key and of its own."""
        quoted = self.data[value_at] == 34
        key_column = self.column(key_at) if self.dense else 0
        stop = self._stop(value_at) if value is not None else 0
        line, column = self.line(value_at), self.column(value_at)
        return self._leaf(name, value, self.line(key_at), key_column, line, column, stop, quoted=quoted)

    def _leaf(
        self, name: str, value: Any, first: int, key_column: int, line: int, start: int, stop: int, *, quoted: bool
    ) -> Node:
        if value is None:
            words: tuple[Token, ...] = ()
            stop = start + 4
        else:
            text = str(value) if not isinstance(value, bool) else "true" if value else "false"
            words = (Token(text, self.path, line, start, stop, quoted, dense=self.dense),)
        begin, end = (key_column, stop) if self.dense else (0, 0)
        return Node(name, words, self.path, first, line, start=begin, stop=end)

    def _stop(self, at: int) -> int:
        quoted = self.data[at] == 34
        found = _STRING_END.match(self.data, at + 1) if quoted else _BARE.match(self.data, at)
        return self.column(found.end() - 1) + 1 if found is not None else 1 << 30

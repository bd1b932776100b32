"""The neutral tree that every family of export becomes: named nodes with words and children, each with its lines."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from msgspec import Struct

from aiguille.model import Secret, Span

DEPTH_LIMIT = 100
"""Exports nest a handful of levels; what is deeper wants to exhaust a reader's stack."""


DENSE = 400
"""Signs a line on average beyond which a node's place needs columns."""


def is_dense(signs: int, lines: int) -> bool:
    """Whether a file has so much on its lines that lines alone show no place."""
    return signs > DENSE * max(lines, 1)


class Token(Struct, eq=False):
    """A word with its place: columns `start` (included) to `stop` (excluded), from 0, quotes included.

    last: the line it ends in, where it goes over several; `stop` is then a column of that line
    used: whether a mapping has asked for it; strange: whether it was found to be no part of a rule that the dialect knows
    dense: whether its place needs columns
    """

    text: str
    file: str
    line: int
    start: int
    stop: int
    quoted: bool = False
    last: int = 0
    used: bool = False
    dense: bool = False
    strange: bool = False

    @property
    def where(self) -> Span:
        if self.dense:
            return Span(self.file, self.line, max(self.line, self.last), self.start, self.stop)
        return Span(self.file, self.line, max(self.line, self.last))

    def secrets(self) -> Iterator[Secret]:
        """What must be hidden to hide the word, a stretch for each line it covers."""
        last = max(self.line, self.last)
        for line in range(self.line, last + 1):
            start = self.start if line == self.line else 0
            yield Secret(self.file, line, start, self.stop if line == last else 1 << 30)

    def part(self, text: str, start: int | None = None) -> Token:
        """A word cut out of this one; `start` is where in its text, None where that cannot be determined."""
        if start is None or self.last > self.line:
            return Token(text, self.file, self.line, self.start, self.stop, self.quoted, self.last, dense=self.dense)
        first = self.start + start + self.quoted
        return Token(text, self.file, self.line, first, first + len(text), self.quoted, dense=self.dense)


class Digits(str):
    """A number as it is written, which may be in a way no number of Python's is."""

    __slots__ = ()


class Unopened(Struct, frozen=True):
    """An object of which so far only the decoded members are known; called, it makes the nodes of what is in it.

    names: how many there are in it at any depth, repeated ones included, of which `members` keep the last
    number, begin, end: where it stands, for `open_it`
    bare: lines between two that no statement of an object stands on, brackets of arrays alone, ascending
    """

    members: dict[str, Any]
    names: int
    number: int
    begin: int
    end: int
    open_it: Callable[[dict[str, Any], int, int, int], tuple[Node, ...]]
    bare: Callable[[int, int], Sequence[int]]

    def __call__(self) -> tuple[Node, ...]:
        return self.open_it(self.members, self.number, self.begin, self.end)


class Node(Struct, eq=False):
    """A statement, block, element, object or row.

    first to last are its lines, first to head_last those of its own words; start and stop the columns where several nodes
    share a line, both 0 for whole lines
    inner: its children, as far as they are made; grow: makes them when they are first asked for
    closing: the line of its closing mark, 0 if it has none of its own
    taken: whether a mapping has asked for it; lent: whether only those of objects have
    strange: whether it was found to be no part of a rule that the dialect knows
    whole: what it was decoded from, where all of that has been used without nodes
    """

    name: str
    words: tuple[Token, ...]
    file: str
    first: int
    head_last: int
    last: int = 0
    inner: tuple[Node, ...] = ()
    closing: int = 0
    grow: Callable[[], tuple[Node, ...]] | None = None
    start: int = 0
    stop: int = 0
    parent: Node | None = None
    taken: bool = False
    lent: bool = False
    strange: bool = False
    whole: Unopened | None = None
    _index: dict[str, list[Node]] | None = None

    def __post_init__(self) -> None:
        if self.last < self.head_last:
            self.last = self.head_last
        for child in self.inner:
            child.parent = self

    @property
    def head(self) -> Span:
        if self.stop:
            return self.where
        return Span(self.file, self.first, self.head_last)

    @property
    def where(self) -> Span:
        return Span(self.file, self.first, self.last, self.start, self.stop)

    @property
    def unopened(self) -> Unopened | None:
        """What the node was decoded from, as long as nobody has asked for its children."""
        return self.grow if isinstance(self.grow, Unopened) else None

    @property
    def children(self) -> tuple[Node, ...]:
        if self.grow is not None:
            self.inner = self.grow()
            self.grow = None
            for child in self.inner:
                child.parent = self
        return self.inner

    def named(self, name: str) -> list[Node]:
        """The children of that name, in order."""
        if self._index is None:
            index: dict[str, list[Node]] = {}
            for child in self.children:
                index.setdefault(child.name, []).append(child)
            self._index = index
        return self._index.get(name, [])

    def touched(self) -> bool:
        """Whether a mapping has asked for the node or anything below it."""
        if self.taken:
            return True
        return self.grow is None and any(child.touched() for child in self.inner)

    def is_lent(self) -> bool:
        """Whether whatever has been asked for of the node and what is below it was asked for by objects alone."""
        if self.taken and not self.lent:
            return False
        return self.grow is not None or all(child.is_lent() for child in self.inner)

    def text(self) -> str:
        """The statement's own words, joined for messages."""
        return " ".join((self.name, *(word.text for word in self.words)))

    def walk(self) -> Iterator[Node]:
        """All nodes below this one, in order."""
        for child in self.children:
            yield child
            yield from child.walk()

    def root(self) -> Node:
        node = self
        while node.parent is not None:
            node = node.parent
        return node


class NodePlace(Struct, frozen=True):
    """Where all mappings of one device look.

    node: the device's own part of the tree; template: what it falls back on, None if nothing
    """

    node: Node
    template: Node | None = None


class Asides(Struct):
    """What a parser leaves out of the tree, with the reason; entered in the ledger of every device of the file."""

    entries: list[tuple[Span, str]]

    def set_aside(self, where: Span, why: str) -> None:
        self.entries.append((where, why))


class Tree(Struct, frozen=True):
    """A parsed file. `idle` is what lines look like that say nothing by themselves (a bracket alone, say)."""

    root: Node
    asides: Asides
    idle: re.Pattern[str] | None = None

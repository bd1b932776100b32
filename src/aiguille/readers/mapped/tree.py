"""The neutral tree that every family of export becomes: named nodes with words and children, each with its lines."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from aiguille.model import Secret, Span


@dataclass(frozen=True, slots=True)
class Token:
    """A word with its place: columns `start` (included) to `stop` (excluded), from 0, quotes included."""

    text: str
    file: str
    line: int
    start: int
    stop: int
    quoted: bool = False

    @property
    def where(self) -> Span:
        return Span(self.file, self.line, self.line)

    def secret(self) -> Secret:
        return Secret(self.file, self.line, self.start, self.stop)


@dataclass(frozen=True, slots=True, eq=False)
class Node:
    """A statement or block.

    head: the lines of its own words; where: those and everything up to its closing mark
    """

    name: str
    words: tuple[Token, ...]
    head: Span
    where: Span
    children: tuple[Node, ...] = ()

    def text(self) -> str:
        """The statement's own words, joined for messages."""
        return " ".join((self.name, *(word.text for word in self.words)))

    def walk(self) -> Iterator[Node]:
        """All nodes below this one, in order."""
        for child in self.children:
            yield child
            yield from child.walk()


def select(node: Node, path: tuple[str, ...]) -> Iterator[Node]:
    """All nodes a path leads to from `node`, in the order of the export: names of children, ``*`` any child, ``**`` any
    number of blocks between, none included."""
    if not path:
        yield node
        return
    head, rest = path[0], path[1:]
    if head == "**":
        for child in node.children:
            if not rest or rest[0] in ("*", child.name):
                yield from select(child, rest[1:])
            yield from select(child, path)
        return
    for child in node.children:
        if head in ("*", child.name):
            yield from select(child, rest)

"""Getting values out of a tree as a dialect says, and keeping track of which statements were used."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import TypeVar

from aiguille.model import NotUnderstoodError, Setting, Span, default, stated, unknown
from aiguille.readers.files import LedgerBuilder
from aiguille.readers.mapped.spec import Dialect, Scalar, Value, Where
from aiguille.readers.mapped.tree import Node, Token, select

T = TypeVar("T")

_DURATION = re.compile(r"([0-9]+(?:\.[0-9]+)?)\s*(s|m|h|d|seconds?|minutes?|hours?|days?)?")
_SECONDS = {"s": 1, "m": 60, "h": 3600, "d": 86400}


@dataclass(slots=True)
class Extractor:
    """Takes values from one tree. Statements taken are marked; `leftover` later tells what nobody asked for."""

    dialect: Dialect
    ledger: LedgerBuilder
    taken: set[int] = field(default_factory=set)
    used: set[Token] = field(default_factory=set)

    def take(self, node: Node) -> None:
        """Mark a statement as used, its closing line too."""
        self.taken.add(id(node))
        self.ledger.read(node.head)
        if node.where.last > node.head.last:
            self.ledger.read(Span(node.where.file, node.where.last, node.where.last))

    def each(self, root: Node, path: str) -> Iterator[Node]:
        """The statements at a path, marked as used along with the blocks that lead to them."""
        steps = tuple(path.split("/"))
        for depth in range(1, len(steps)):
            if "**" not in steps[:depth]:
                for parent in select(root, steps[:depth]):
                    self.take(parent)
        for node in select(root, steps):
            self.take(node)
            yield node

    def tokens(self, node: Node, where: Where | None, *, first_only: bool = False) -> tuple[Token, ...] | None:
        """The words a place holds, None if it is not there or says "no restriction"."""
        if where is None:
            return None
        value = spec(where)
        if value.source.startswith("@"):
            number = int(value.source[1:])
            found = node.words[number - 1 : number]
        else:
            statements = list(select(node, tuple(value.source.split("/"))))
            if not statements:
                return None
            for statement in statements:
                self.take(statement)
            found = tuple(word for statement in statements for word in statement.words)
        if not first_only:
            self.used.update(found)
        elif found:
            self.used.add(found[0])
        if value.any and any(word.text in value.any for word in found):
            return None
        return found

    def word(self, node: Node, where: Where | None) -> Token | None:
        """The first word a place holds; any further ones stay unused."""
        found = self.tokens(node, where, first_only=True)
        return found[0] if found else None

    def text(self, node: Node, where: Where | None) -> str:
        """All words a place holds, joined by spaces; empty if it is not there."""
        found = self.tokens(node, where)
        return " ".join(word.text for word in found) if found else ""

    def translated(self, token: Token, where: Where) -> Scalar:
        """A word after its word table; raises NotUnderstoodError, naming the table's words, if it is missing there."""
        table = spec(where).words
        if table is None:
            return token.text
        words = self.dialect.words[table]
        if token.text not in words:
            known = ", ".join(sorted(words))
            raise NotUnderstoodError(f"'{token.text}' is not in the word table '{table}' ({known})", token.where)
        return words[token.text]

    def setting(self, node: Node, where: Where | None, read: Callable[[Scalar], T]) -> Setting[T]:
        """A setting: stated, the make's default, or unknown; a value not understood is entered in the ledger."""
        if where is None:
            return unknown()
        token = self.word(node, where)
        missing = spec(where).missing
        if token is None:
            return unknown() if missing is None else default(read(missing), self._nearest(node, spec(where).source))
        try:
            if token.text in spec(where).never:
                return stated(read(math.inf), token.where)
            return stated(read(self.translated(token, where)), token.where)
        except NotUnderstoodError as error:
            self.ledger.unread(token.where, error.message)
            return unknown()

    def spare(self, node: Node) -> tuple[Token, ...]:
        """Words of a used statement that nobody asked for."""
        return tuple(word for word in node.words if word not in self.used)

    def _nearest(self, node: Node, path: str) -> Span | None:
        """The opening line of the innermost block on a path that is there, where the missing statement would stand."""
        steps = tuple(path.split("/"))[:-1]
        for depth in range(len(steps), 0, -1):
            for found in select(node, steps[:depth]):
                return found.head
        return node.head if node.name else None


def spec(where: Where) -> Value:
    """A place with its options; a bare path has none."""
    return Value(where) if isinstance(where, str) else where


def read_flag(value: Scalar) -> bool:
    if isinstance(value, bool):
        return value
    raise NotUnderstoodError(f"'{value}' is not yes or no; the dialect needs a word table for it")


def read_count(value: Scalar) -> float:
    """A whole number, or infinity for "never"."""
    if isinstance(value, int | float) and not isinstance(value, bool):
        return float(value)
    text = str(value)
    if text.isdecimal() and text.isascii():
        return float(text)
    raise NotUnderstoodError(f"'{value}' is not a whole number")


def read_seconds(value: Scalar) -> float:
    """``90``, ``90s``, ``15m``, ``2h``, ``7d``: seconds unless a unit says otherwise."""
    if isinstance(value, int | float) and not isinstance(value, bool):
        return float(value)
    found = _DURATION.fullmatch(str(value))
    if found is None:
        raise NotUnderstoodError(f"'{value}' is not a duration such as 90s, 15m, 2h or 7d")
    return float(found[1]) * _SECONDS[(found[2] or "s")[0]]


def read_minutes(value: Scalar) -> float:
    return read_seconds(value) / 60


def read_text(value: Scalar) -> str:
    return str(value)

"""Getting values out of a tree as a dialect says, and keeping track of which statements were used."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Collection, Iterator, Sequence
from datetime import datetime
from functools import cached_property, lru_cache
from ipaddress import IPv4Address
from typing import TypeVar

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.model import NotUnderstoodError, Setting, Span, default, stated, unknown
from aiguille.model.patterns import pattern as compiled
from aiguille.readers.files import LedgerBuilder
from aiguille.readers.mapped.paths import Path, read_path
from aiguille.readers.mapped.spec import Dialect, Lookup, Scalar, Value, Where
from aiguille.readers.mapped.tree import Node, NodePlace, Token

T = TypeVar("T")

_DURATION = re.compile(r"([0-9]+(?:\.[0-9]+)?)\s*(s|m|h|d|w|sec|secs|min|mins|seconds?|minutes?|hours?|days?|weeks?)?")
DIGITS = 100
"""Of a number that counts something."""

_SECONDS = {"s": 1, "m": 60, "h": 3600, "d": 86400, "w": 604800}


class Extractor(Struct, dict=True):
    """Takes values from one device's part of a tree. Statements taken are marked, so that what nobody asked for is known.

    found: the paths that led somewhere, for telling which never did
    for_objects: whether what is taken now makes objects
    """

    dialect: Dialect
    ledger: LedgerBuilder
    place: NodePlace
    found: set[str] = field(default_factory=set)
    for_objects: bool = False
    _lookups: dict[Lookup, dict[str, tuple[Token, ...]]] = field(default_factory=dict)

    @cached_property
    def words(self) -> dict[str, dict[str, Scalar]]:
        """The word tables, in small letters where case does not matter."""
        if not self.dialect.words_ignore_case:
            return self.dialect.words
        return {name: {key.lower(): v for key, v in table.items()} for name, table in self.dialect.words.items()}

    def nodes(self, node: Node, path: str | Path) -> list[Node]:
        """The statements at a path; those of the template where the device itself has none."""
        parsed = read_path(path) if isinstance(path, str) else path
        out = parsed.below(node) if parsed.names and not parsed.start else list(parsed.nodes(node, self.place))
        if not out and node is self.place.node and self.place.template is not None and not parsed.start:
            out = list(parsed.nodes(self.place.template, self.place))
        if out:
            self.found.add(parsed.text)
        return out

    def each(self, node: Node, paths: str | Sequence[str]) -> Iterator[Node]:
        """The statements at a path, or at several one after the other, marked as used."""
        for path in (paths,) if isinstance(paths, str) else paths:
            for one in self.nodes(node, path):
                self.take(one)
                yield one

    def take(self, one: Node) -> None:
        """Mark a statement as used; what objects take is lent until something else asks for it."""
        one.lent = self.for_objects and (one.lent or not one.taken)
        one.taken = True

    def tokens(
        self, node: Node, where: Where | None, *, first_only: bool = False, strict: bool = False
    ) -> tuple[Token, ...] | None:
        """The words a place holds, made ready; None if it is not there or says "no restriction".

        A word that does not look as the dialect says is entered in the ledger and left out or, when `strict`, raises
        NotUnderstoodError.
        """
        if where is None:
            return None
        if isinstance(where, str):
            return self._raw(node, where, first_only)
        found = self._source(node, where, first_only, strict)
        if found is None:
            return None
        found = self._prepared(found, where, strict=strict)
        return None if self._says_any(found, where) else found

    def condition(self, node: Node, where: Where | None) -> tuple[tuple[Token, ...] | None, bool]:
        """The words of a condition, and whether it is turned round; None for no restriction.

        Raises NotUnderstoodError for a word that does not look as the dialect says, and where nothing is turned round.
        """
        if not isinstance(where, Value) or (where.negated_by is None and where.negated_if is None):
            return self._on_a_line(self.tokens(node, where, strict=True)), False
        found = self._source(node, where, first_only=False, strict=True)
        negated = where.negated_if is not None and self._flagged(node, where.negated_if)
        if found:
            turned, found = self._turned(found, where)
            negated = negated is not turned
        found = self._prepared(found, where, strict=True) if found is not None else None
        if found is not None and self._says_any(found, where):
            found = None
        if negated and not found:
            raise NotUnderstoodError("a condition is turned round that names nothing, or everything", node.head)
        return self._on_a_line(found), negated

    def conditions(self, node: Node, where: Where | None) -> Iterator[tuple[tuple[Token, ...] | None, bool]]:
        """The same where a mark may turn only some of the words round: what must be one of the others, and none of these."""
        if isinstance(where, Value) and where.negated_each and where.negated_by is not None:
            found = self._source(node, where, first_only=False, strict=True) or ()
            marks = (where.negated_by,) if isinstance(where.negated_by, str) else where.negated_by
            for mark in (one for one in marks if not one[-1].isalnum()):
                turned = [w for w in found if w.text.startswith(mark) and len(w.text) > len(mark)]
                if not turned or len(turned) == len(found):
                    continue
                others = self._prepared(tuple(w for w in found if w not in turned), where, strict=True)
                bare = tuple(w.part(w.text[len(mark) :].lstrip(), len(mark)) for w in turned)
                none_of = self._prepared(bare, where, strict=True)
                if self._says_any(none_of, where):
                    raise NotUnderstoodError("a condition is turned round that names everything", node.head)
                if not self._says_any(others, where):
                    yield self._on_a_line(others), False
                yield self._on_a_line(none_of), True
                return
        yield self.condition(node, where)

    @staticmethod
    def _on_a_line(found: tuple[Token, ...] | None) -> tuple[Token, ...] | None:
        """The words of a condition: none of them goes over a line's end, as one does where a quote is not closed."""
        for one in found or ():
            if "\n" in one.text:
                raise NotUnderstoodError(
                    "a name goes over the end of a line, as where a quote is not closed", one.where
                )
        return found

    def _turned(self, found: tuple[Token, ...], where: Value) -> tuple[bool, tuple[Token, ...]]:
        """Whether a mark turns words round, and the words without it."""
        marks = where.negated_by or ()
        for mark in sorted((marks,) if isinstance(marks, str) else marks, key=len, reverse=True):
            first = found[0]
            if self._folded(first.text) == self._folded(mark) and not first.quoted:
                return True, found[1:]
            sign = not mark[-1].isalnum()
            if sign and all(w.text.startswith(mark) and len(w.text) > len(mark) for w in found):
                return True, tuple(w.part(w.text[len(mark) :].lstrip(), len(mark)) for w in found)
            if sign and any(w.text.startswith(mark) for w in found):
                raise NotUnderstoodError(f"only some of these are turned round by '{mark}'", first.where)
            if len(found) == 1 and self._folded(first.text).startswith(self._folded(mark) + " "):
                return True, (first.part(first.text[len(mark) :].lstrip(), len(mark) + 1),)
        return False, found

    def booked(
        self, node: Node, where: Where | None, words: tuple[Token, ...], names: Collection[str]
    ) -> tuple[Token, ...]:
        """Words of a place as the names of objects in its own book, where that holds such objects."""
        if not isinstance(where, Value) or where.book is None or (book := self.word(node, where.book)) is None:
            return words
        return tuple(replace(w, text=own) if (own := f"{book.text}/{w.text}") in names else w for w in words)

    def _says_any(self, words: tuple[Token, ...], value: Value) -> bool:
        return bool(value.any) and any(self._folded(word.text) in map(self._folded, value.any) for word in words)

    def word(self, node: Node, where: Where | None) -> Token | None:
        """The first word a place holds; any further ones stay unused."""
        found = self.tokens(node, where, first_only=True)
        return found[0] if found else None

    def text(self, node: Node, where: Where | None) -> str:
        """All words a place holds, joined by spaces; empty if it is not there."""
        if where is None:
            return ""
        found = self.tokens(node, where)
        return " ".join(word.text for word in found) if found else ""

    def translated(self, token: Token, where: Where) -> Scalar:
        """A word after its word table; raises NotUnderstoodError, naming the table's words, if it is missing there."""
        if isinstance(where, str) or where.words is None or where.constant is not None:
            return token.text
        words = self.words[where.words]
        found = words.get(self._folded(token.text))
        if found is None:
            known = ", ".join(sorted(words))
            raise NotUnderstoodError(f"'{token.text}' is not in the word table '{where.words}' ({known})", token.where)
        return found

    def setting(self, node: Node, where: Where | None, read: Callable[[Scalar], T]) -> Setting[T]:
        """A setting: stated, the make's default, or unknown; a value not understood is entered in the ledger."""
        if where is None:
            return unknown()
        value = spec(where)
        if value.constant is not None and not isinstance(value.constant, tuple):
            return default(read(value.constant), node.head if node.name else None)
        token = self.word(node, where)
        if token is None:
            if value.missing is None:
                return unknown()
            return default(read(value.missing), self._nearest(node, value))
        try:
            if self._folded(token.text) in map(self._folded, value.never):
                return stated(read(math.inf), token.where)
            return stated(read(self.translated(token, where)), token.where)
        except NotUnderstoodError as error:
            self.ledger.unread(token.where, error.message)
            return unknown()

    def flag(self, node: Node, where: Where | None) -> Setting[bool]:
        return self.setting(node, where, read_flag)

    def is_on(self, node: Node, where: Where | None) -> bool:
        """A switch that counts as on unless the export says off."""
        found = self.flag(node, where)
        return found.value if found.known else True

    def spare(self, node: Node) -> tuple[Token, ...]:
        """Words of a used statement that nobody asked for."""
        return tuple(word for word in node.words if not word.used)

    def _flagged(self, node: Node, path: str) -> bool:
        """Whether the place a condition is turned round by says so: it is there, and not with a word for no."""
        for one in self.nodes(node, path):
            self.take(one)
            words = read_path(path).chosen(one)
            for word in words:
                word.used = True
            return not words or words[0].text.lower() not in ("no", "false", "0", "off")
        return False

    def _raw(self, node: Node, text: str, first_only: bool) -> tuple[Token, ...] | None:
        """The words at a path as they stand."""
        path = read_path(text)
        statements = self.nodes(node, path)
        if not statements:
            return None
        if len(statements) == 1:
            words = path.chosen(statements[0])
            self.take(statements[0])
        else:
            words = ()
            for one in statements:
                self.take(one)
                words = (*words, *path.chosen(one))
        if path.choice is not None and not words:
            return None
        for word in words[:1] if first_only else words:
            word.used = True
        return words

    def _source(self, node: Node, value: Value, first_only: bool, strict: bool) -> tuple[Token, ...] | None:
        """The words a value begins with: of the first of its places that is there, constants, or several put together."""
        if value.constant is not None:
            given = value.constant if isinstance(value.constant, tuple) else (value.constant,)
            return tuple(Token(_spelt(one), node.file, node.first, 0, 0, used=True) for one in given)
        if value.join:
            return self._joined(node, value, strict)
        if value.all_of:
            every = [words for path in value.all_of if (words := self._raw(node, path, first_only=False)) is not None]
            return tuple(word for words in every for word in words) if every else None
        sources = (value.source,) if isinstance(value.source, str) else value.source or ()
        for path in sources:
            found = self._raw(node, path, first_only and not value.split)
            if found is not None:
                return found
        return None

    def _joined(self, node: Node, value: Value, strict: bool) -> tuple[Token, ...] | None:
        """Words put together, the first of each place with the first of the others, and so on.

        Later places may be missing; what else does not fit together is not understood, since no part of it may get lost.
        """
        parts = [self._raw(node, path, False) for path in value.join]
        there = [part for part in parts if part]
        if not there:
            return None
        why = ""
        if not parts[0]:
            why = f"'{value.join[0]}' is missing, to which the other places are joined"
        elif len({len(part) for part in there}) > 1:
            why = "the joined places hold different numbers of words"
        if why and strict:
            raise NotUnderstoodError(why, node.head)
        if why:
            self.ledger.unread(node.head, why)
            return None
        rows = zip(*there, strict=True)
        return tuple(row[0].part(value.between.join(word.text for word in row)) for row in rows)

    def _prepared(self, words: tuple[Token, ...], value: Value, *, strict: bool) -> tuple[Token, ...]:
        if value.split:
            words = tuple(part for word in words for part in _split(word, value.split))
        if value.pattern:
            words = tuple(part for word in words for part in self._cut(word, value.pattern, strict=strict))
        if value.lookup is not None:
            words = tuple(found for word in words for found in self._looked_up(word, value.lookup))
        if value.wildcard:
            words = tuple(word.part(fixed_mask(word.text)) for word in words)
        if value.format:
            words = tuple(word.part(value.format.replace("{}", word.text)) for word in words)
        if value.date:
            words = tuple(self._date(word, value.date) for word in words)
        return words

    def _cut(self, word: Token, pattern: str, *, strict: bool) -> tuple[Token, ...]:
        found = compiled(pattern).search(word.text)
        if found is not None:
            # A group that the pattern does without is a value that is not there.
            return (word.part(found[1], found.start(1)),) if found[1] is not None else ()
        why = f"'{word.text}' does not look like '{pattern}'"
        if strict:
            raise NotUnderstoodError(why, word.where)
        self.ledger.unread(word.where, why)
        return ()

    def _looked_up(self, word: Token, lookup: Lookup) -> tuple[Token, ...]:
        """What stands for a word elsewhere; the word itself if nothing does."""
        index = self._lookups.get(lookup)
        if index is None:
            by, take = read_path(lookup.by), read_path(lookup.take)
            index = self._lookups[lookup] = {}
            for node in self.nodes(self.place.node, lookup.source):
                for key in by.words(node, self.place):
                    index.setdefault(key.text, tuple(take.words(node, self.place)))
        found = index.get(word.text)
        return tuple(word.part(one.text) for one in found) if found is not None else (word,)

    def _date(self, word: Token, shape: str) -> Token:
        try:
            when = datetime.strptime(word.text, shape)  # noqa: DTZ007 - exports rarely show the zone
        except ValueError:
            self.ledger.unread(word.where, f"'{word.text}' is not a date written as '{shape}'")
            return word
        return word.part(when.date().isoformat() if "%H" not in shape else when.isoformat())

    def _folded(self, text: str) -> str:
        return text.lower() if self.dialect.words_ignore_case else text

    def _nearest(self, node: Node, value: Value) -> Span | None:
        """The opening line of the innermost block on a path that is there, where the missing statement would stand."""
        source = value.source if isinstance(value.source, str) else (value.source or ("",))[0]
        path = read_path(source) if source else None
        steps = path.steps[:-1] if path is not None and not path.start else ()
        for depth in range(len(steps), 0, -1):
            for found in self.nodes(node, Path("", "", steps[:depth])):
                return found.head
        return node.head if node.name else None


def spec(where: Where) -> Value:
    """A place with its options; a bare path has none."""
    return Value(where) if isinstance(where, str) else where


def _spelt(value: Scalar) -> str:
    return {True: "true", False: "false"}[value] if isinstance(value, bool) else str(value)


def _split(word: Token, signs: str | tuple[str, ...]) -> Iterator[Token]:
    at = 0
    for part in _separators(signs).split(word.text):
        # Every other part is what stands between two values.
        bare = part.strip()
        if bare and bare not in (signs if isinstance(signs, tuple) else (signs,)):
            yield word.part(bare, at + len(part) - len(part.lstrip()))
        at += len(part)


@lru_cache(maxsize=64)
def _separators(signs: str | tuple[str, ...]) -> re.Pattern[str]:
    return re.compile(f"({'|'.join(map(re.escape, (signs,) if isinstance(signs, str) else signs))})")


def fixed_mask(text: str) -> str:
    """``10.0.0.0/0.0.0.255`` with the mask turned round; other shapes as they are, their own reader refuses them."""
    head, slash, mask = text.partition("/")
    if not slash or mask.count(".") != 3:
        return text
    try:
        return f"{head}/{IPv4Address(int(IPv4Address(mask)) ^ 0xFFFFFFFF)}"
    except ValueError:
        return text


def read_flag(value: Scalar) -> bool:
    if isinstance(value, bool):
        return value
    if value in ("true", "false"):
        return value == "true"
    raise NotUnderstoodError(f"'{value}' is not yes or no; the dialect needs a word table for it")


def read_count(value: Scalar) -> float:
    """A whole number, or infinity for "never"."""
    return float(read_whole(value))


def read_whole(value: Scalar) -> float:
    """The same, exact where it is more than a float can tell."""
    if isinstance(value, str):
        text = value.replace(" ", "")
        if text.isdecimal() and text.isascii():
            if len(text) <= DIGITS:
                return int(text)
            raise NotUnderstoodError(f"'{value}' is not a whole number of at most {DIGITS} digits")
    elif not isinstance(value, bool):
        return value
    raise NotUnderstoodError(f"'{value}' is not a whole number")


def read_seconds(value: Scalar, unit: str = "seconds") -> float:
    """``90``, ``90s``, ``15m``, ``2h``, ``7d``: a bare number counts the unit given."""
    if isinstance(value, int | float) and not isinstance(value, bool):
        return float(value) * _SECONDS[unit[0]]
    found = _DURATION.fullmatch(str(value).strip().lower())
    if found is None:
        raise NotUnderstoodError(f"'{value}' is not a duration such as 90s, 15m, 2h or 7d")
    return float(found[1]) * _SECONDS[(found[2] or unit)[0]]


def read_text(value: Scalar) -> str:
    return str(value)

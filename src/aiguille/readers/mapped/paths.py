"""The path language of dialect files: how a mapping names places of a tree.

A path is steps between slashes: the name of a child (in quotes if it holds a sign of the language), ``*`` for any child,
``**`` for any number of levels, ``..`` for the parent, ``.`` for the node itself. A leading slash starts at the top of the
file, a leading ``^/`` at the device's template. ``allow|deny`` is any child of these names, in the order of the export. A step
may carry conditions in brackets: ``[colour]`` the node has such a child, ``[!colour]`` it has none, ``[@2]`` it has a second
word, ``[colour=red]`` and ``[colour!=red]`` compare its words, ``[@1=red]`` the node's own. A path may end in a choice of
words: ``@2`` the second, ``@2-`` from the second on, ``@0`` the node's name; without it all words are meant.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache

import re2
from msgspec import Struct

from aiguille.model import UsageError
from aiguille.readers.literals import whole
from aiguille.readers.mapped.tree import Node, NodePlace, Token

_SPECIAL = ("*", "**", ".", "..", "|")
_SIGNS = "/[]@'\""
_WORDS = re2.compile(r"([0-9]{1,3})(-)?")


class Test(Struct, frozen=True):
    """A condition: the words at `path`, from the node, hold `value` (any at all if that is None), or not if `negated`."""

    path: Path
    value: str | None
    negated: bool

    def holds(self, node: Node, place: NodePlace | None) -> bool:
        if self.value is None:
            # Of a place that means certain words it is these that must be there.
            there = any(self.path.choice is None or self.path.chosen(one) for one in self.path.nodes(node, place))
            return there is not self.negated
        found = False
        # A value that was compared has been read, whatever came of it.
        for one in self.path.nodes(node, place):
            one.taken = True
            for word in self.path.chosen(one):
                word.used = True
                found |= word.text == self.value
        return found is not self.negated


class Step(Struct, frozen=True):
    """One level down.

    literal: the name was quoted, so that no sign in it means anything
    names: the names of which any will do, where it is a choice
    """

    name: str
    tests: tuple[Test, ...] = ()
    literal: bool = False
    names: tuple[str, ...] = ()

    @property
    def special(self) -> str:
        """The sign of the language that the step is, "" for a name."""
        if self.names:
            return "|"
        return self.name if self.name in _SPECIAL and not self.literal else ""

    def fits(self, node: Node) -> bool:
        """Whether a child has a name the step leads to."""
        return self.special == "*" or node.name in (self.names or (self.name,))


class Path(Struct, frozen=True):
    """A parsed path. `start` is "" (the node at hand), "/" (the top of the file) or "^" (the template).

    choice: which words are meant: first and last from 1, (0, 0) the node's name, None all
    names: the names of its steps, where it is nothing but names
    """

    text: str
    start: str
    steps: tuple[Step, ...]
    choice: tuple[int, int] | None = None
    names: tuple[str, ...] = ()

    def nodes(self, node: Node, place: NodePlace | None = None) -> Iterator[Node]:
        """The nodes the path leads to, in the order of the export."""
        if self.start == "/":
            node = node.root()
        elif self.start == "^":
            if place is None or place.template is None:
                return iter(())
            node = place.template
        return iter(self.below(node)) if self.names else _walk(node, self.steps, 0, place)

    def below(self, node: Node) -> list[Node]:
        """The nodes a path of nothing but names leads to."""
        found = node.named(self.names[0])
        for name in self.names[1:]:
            found = [below for one in found for below in one.named(name)]
        return found

    def chosen(self, node: Node) -> tuple[Token, ...]:
        """The words of a node the path leads to that it means."""
        if self.choice is None:
            return node.words
        first, last = self.choice
        if last == 0:
            return (Token(node.name, node.file, node.first, 0, 0),)
        return node.words[first - 1 : last]

    def words(self, node: Node, place: NodePlace | None = None) -> Iterator[Token]:
        for found in self.nodes(node, place):
            yield from self.chosen(found)


def _walk(node: Node, steps: tuple[Step, ...], at: int, place: NodePlace | None) -> Iterator[Node]:
    if at == len(steps):
        yield node
        return
    step = steps[at]
    match step.special:
        case ".":
            below: Iterator[Node] | list[Node] | tuple[Node, ...] = (node,)
        case "..":
            below = (node.parent,) if node.parent is not None else ()
        case "*":
            below = node.children
        case "|":
            below = tuple(child for child in node.children if child.name in step.names)
        case "**":
            # One walk from above, so that nothing comes twice.
            rest = steps[at + 1] if at + 1 < len(steps) else None
            for child in node.children:
                if rest is None:
                    yield child
                elif rest.fits(child) and all(test.holds(child, place) for test in rest.tests):
                    yield from _walk(child, steps, at + 2, place)
                yield from _walk(child, steps, at, place)
            return
        case _:
            below = node.named(step.name)
    for child in below:
        if not step.tests or all(test.holds(child, place) for test in step.tests):
            yield from _walk(child, steps, at + 1, place)


@lru_cache(maxsize=4096)
def read_path(text: str) -> Path:
    """Parse a path; raises UsageError that names it and shows a right one."""
    return _Parser(text).path()


class _Parser:
    def __init__(self, text: str) -> None:
        self.text = text
        self.at = 0

    def fault(self, why: str) -> UsageError:
        return UsageError(f"'{self.text}' is no path: {why}; a right one is 'rules/rule[live=yes]/from'")

    def path(self, ends: str = "") -> Path:
        begin, start = self.at, ""
        if self._peek() == "/":
            start, self.at = "/", self.at + 1
        elif self.text.startswith("^", self.at):
            start, self.at = "^", self.at + 1
            if self._peek() == "/":
                self.at += 1
        steps: list[Step] = []
        choice = None
        while self.at < len(self.text) and self._peek() not in ends:
            if self._peek() == "@":
                choice = self._choice(ends)
                break
            steps.append(self._step(ends))
            if self._peek() == "/":
                self.at += 1
                if self.at == len(self.text):
                    raise self.fault("it ends in a slash")
            elif self.at < len(self.text) and self._peek() not in f"@{ends}":
                raise self.fault(f"'{self._peek()}' cannot follow here")
        if not steps and choice is None and not start:
            raise self.fault("it is empty")
        if any(s.special == "**" for s in steps[-1:]) and choice is not None:
            raise self.fault("'**' cannot be the last step of words")
        plain = all(not one.tests and not one.special for one in steps)
        names = tuple(one.name for one in steps) if plain else ()
        return Path(self.text[begin : self.at], start, tuple(steps), choice, names)

    def _peek(self) -> str:
        return self.text[self.at : self.at + 1]

    def _step(self, ends: str) -> Step:
        literal = self._peek() in ("'", '"')
        name = self._name(ends)
        if not name:
            raise self.fault("a step has no name")
        tests = []
        while self._peek() == "[":
            self.at += 1
            tests.append(self._test())
        names = () if literal or "|" not in name else tuple(one.strip() for one in name.split("|"))
        if "" in names:
            raise self.fault("a choice of names has an empty one")
        return Step(name, tuple(tests), literal, names)

    def _name(self, ends: str) -> str:
        quote = self._peek()
        if quote and quote in "'\"":
            return self._quoted(quote)
        begin = self.at
        while self.at < len(self.text) and self._peek() not in _SIGNS and self._peek() not in ends:
            self.at += 1
        return self.text[begin : self.at].strip()

    def _quoted(self, quote: str) -> str:
        stop = self.text.find(quote, self.at + 1)
        if stop < 0:
            raise self.fault(f"the quote {quote} is not closed")
        found = self.text[self.at + 1 : stop]
        self.at = stop + 1
        return found

    def _choice(self, ends: str) -> tuple[int, int]:
        self.at += 1
        begin = self.at
        while self.at < len(self.text) and self._peek() not in ends:
            self.at += 1
        found = _WORDS.fullmatch(self.text[begin : self.at])
        if found is None:
            raise self.fault("after '@' comes the number of a word, as @1, or @2- for the second and all after it")
        first = whole(found[1])
        return first, 1000 if found[2] else first

    def _test(self) -> Test:
        negated = self._peek() == "!"
        if negated:
            self.at += 1
        if not self.text[self.at :].strip(" ]=!"):
            raise self.fault("the condition that '[' opens names nothing; write [name], [!name] or [name=word]")
        path = self.path(ends="]=!")
        value = None
        for sign, other in (("!=", True), ("=", False)):
            if self.text.startswith(sign, self.at):
                if negated:
                    raise self.fault("'!' before a comparison; write [a!=b]")
                negated = other
                self.at += len(sign)
                quote = self._peek()
                if quote and quote in "'\"":
                    value = self._quoted(quote)
                else:
                    stop = self.text.find("]", self.at)
                    value = self.text[self.at : stop if stop >= 0 else len(self.text)].strip()
                    self.at = stop if stop >= 0 else len(self.text)
                break
        if self._peek() != "]":
            raise self.fault("a condition is not closed by ']'")
        self.at += 1
        return Test(path, value, negated)


def quoted(name: str) -> str:
    """A name as a step of a path."""
    if not name:
        return "*"
    return f"'{name}'" if re.search(r"[/\[\]@'\"|]|^\^|^\.+$|^\*+$", name) else name

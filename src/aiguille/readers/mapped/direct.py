"""Rules read from objects as they were decoded, without nodes for what is in them.

Rules of one export look alike: the same names, other values. Where the places of a mapping lead is found once for each such
form. From then on a rule is its values, taken by number, and each part of it is made once for equal values. It is made by the
code that reads rules from nodes (`RuleReader`). A rule of which anything is not understood or not used is left to that.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import cache
from operator import itemgetter
from typing import Any, NoReturn, TypeVar

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.model import NotUnderstoodError, Rule, Span
from aiguille.readers.files import LedgerBuilder
from aiguille.readers.mapped.paths import Path, read_path
from aiguille.readers.mapped.rule import RuleContext, RuleReader
from aiguille.readers.mapped.spec import RuleMap, Value, Where
from aiguille.readers.mapped.tree import Members, Node, Token
from aiguille.readers.mapped.values import Extractor

T = TypeVar("T")

KEPT = 10_000
"""Values for which a part of a rule is kept. Names and counters are all different and would only fill memory."""

FORMS = 1000
"""Forms that are kept: where every rule has one of its own, nothing is gained by it."""

_BARE, _NOTHING, _OPENS, _CLOSES = range(4)
"""In a form, what follows a name: a value without quotes, null, the beginning of an object. A name alone has a value in quotes."""


class _LeftError(Exception):
    """The rule is not for here."""


class _Alarm(LedgerBuilder):
    """Takes no entry: whoever has one to make leaves the rule to be read from nodes."""

    def unread(self, where: Span, why: str) -> NoReturn:
        raise _LeftError

    def problem(self, where: Span, why: str, *, matters: bool = True) -> NoReturn:
        raise _LeftError

    def set_aside(self, where: Span, why: str) -> NoReturn:
        raise _LeftError


class _Leaf(Struct, frozen=True):
    """A value: its number in the rule, and how it is written. `quoted` is None for null, which has no word."""

    number: int
    quoted: bool | None


Below = list[tuple[str, "_Leaf | Below"]]  # type: ignore[misc]
"""Names and what stands there, an object's own such list included; the elements of an array stand one after the other."""


class _Found(Struct, frozen=True):
    """Where a path leads in rules of one form: the values, whether each is quoted, and all of them as bits.

    asked: bits of the values asked for even if only the first word counts
    """

    numbers: tuple[int, ...]
    quoted: tuple[bool, ...]
    asked: int


class _Part(Struct):
    """A part of rules of one form: takes the values it is made of from a rule's, and what was made of such before, with the
    values it used and the gaps it left."""

    pick: Callable[[Sequence[str]], Any]
    known: dict[Any, tuple[Any, int, tuple[Any, ...]]] = field(default_factory=dict)


class _Form:
    """Rules with the same names in the same places."""

    def __init__(self, form: tuple[str | int, ...]) -> None:
        self.below, self.count = _read_form(form)
        self.all = (1 << self.count) - 1
        self.parts: dict[str, _Part] = {}
        self.paths: dict[str, _Found | None] = {}

    def found(self, path: Path) -> _Found | None:
        """Where a path leads; None if nowhere."""
        if path.text not in self.paths:
            self.paths[path.text] = self._find(path)
        return self.paths[path.text]

    def _find(self, path: Path) -> _Found | None:
        here: list[_Leaf | Below] = [self.below]
        for name in path.names:
            here = [inner for one in here if isinstance(one, list) for key, inner in one if key == name]
        if not here:
            return None
        leaves = [one for one in here if isinstance(one, _Leaf)]
        words = [one for one in leaves if one.quoted is not None]
        if path.choice is not None and path.choice[0] > 1:
            words = []
        if path.choice is not None and not words:
            return None
        nothing = sum(1 << one.number for one in leaves if one.quoted is None)
        return _Found(tuple(one.number for one in words), tuple(bool(one.quoted) for one in words), nothing)

    def part(self, name: str, wheres: Iterable[Where | None]) -> _Part:
        found = self.parts.get(name)
        if found is None:
            at = {number for where in wheres for path in _paths(where) for number in self._numbers(path)}
            pick = itemgetter(*sorted(at)) if at else _no_values
            found = self.parts[name] = _Part(pick)
        return found

    def _numbers(self, path: str) -> tuple[int, ...]:
        found = self.found(read_path(path))
        return found.numbers if found is not None else ()


class _Words(Extractor):
    """Takes words from a rule's values instead of nodes."""

    form: _Form | None = None
    values: Sequence[str] = ()
    used: int = 0

    def nodes(self, node: Node, path: str | Path) -> list[Node]:
        if node is not NOWHERE:
            return super().nodes(node, path)
        raise _LeftError

    def _raw(self, node: Node, text: str, first_only: bool) -> tuple[Token, ...] | None:
        if node is not NOWHERE:
            return super()._raw(node, text, first_only)
        path = read_path(text)
        assert self.form is not None
        found = self.form.found(path)
        if found is None:
            return None
        self.found.add(path.text)
        self.used |= found.asked
        out = []
        for number, quoted in zip(found.numbers, found.quoted, strict=True):
            if not first_only or not out:
                self.used |= 1 << number
            out.append(Token(self.values[number], "", 0, 0, 0, quoted, used=True))
        return tuple(out)

    def _flagged(self, node: Node, path: str) -> bool:
        words = self._raw(node, path, first_only=False)
        if words is None:
            return False
        if len(words) > 1:
            raise _LeftError
        return not words or words[0].text.lower() not in ("no", "false", "0", "off")

    def _nearest(self, node: Node, value: Value) -> Span | None:
        return None


class DirectReader(RuleReader):
    """Reads rules of one list."""

    def __init__(self, rules: RuleContext, m: RuleMap) -> None:
        super().__init__(rules, NOWHERE, m, shares=False)
        get = rules.get
        self._words = _Words(get.dialect, _Alarm(()), get.place, get.found, get._lookups)
        self.get, self.ledger = self._words, self._words.ledger
        self._forms: dict[tuple[str | int, ...], _Form] = {}
        self._used = 0
        self._fixed = super()._fields()

    def read(self, node: Node, number: int, direction: str) -> Rule | None:
        """The rule of a node nobody has looked into; None if it is to be read from its nodes."""
        unopened = node.unopened
        if unopened is None:
            return None
        values: list[str] = []
        names: list[str | int] = []
        if not _outline(unopened.members, names, values):
            return None
        key = tuple(names)
        form = self._forms.get(key)
        if form is None:
            form = _Form(key)
            if len(self._forms) < FORMS:
                self._forms[key] = form
        words = self._words
        words.form, words.values, self._used, self.gaps = form, values, 0, []
        try:
            rule = self.understood(number, node, direction)
        except (_LeftError, NotUnderstoodError):
            return None
        if self._used != form.all:
            return None
        node.whole = True
        return rule if not self.gaps else replace(rule, qualifiers=tuple(self.gaps))

    def part(self, name: str, wheres: Sequence[Where | None], work: Callable[[], T]) -> T:
        words = self._words
        form = words.form
        assert form is not None
        part = form.parts.get(name) or form.part(name, wheres)
        values = part.pick(words.values)
        known = part.known.get(values)
        if known is None:
            before, words.used = len(self.gaps), 0
            made = work()
            known = (made, words.used, tuple(self.gaps[before:]))
            del self.gaps[before:]
            if len(part.known) < KEPT:
                part.known[values] = known
        self._used |= known[1]
        if known[2]:
            self.gaps += known[2]
        return known[0]  # type: ignore[no-any-return]

    def _fields(self) -> Any:
        return self._fixed


NOWHERE = Node("", (), "", 0, 0)
"""Stands for the statement of a rule that has none."""


@cache
def is_direct(m: RuleMap) -> bool:
    """Whether all places of a mapping are names alone, so that the names in a rule tell where they lead."""
    wheres = [getattr(m, name) for name in m.__struct_fields__ if name != "qualifiers"]
    paths = [path for where in wheres for path in _paths(where)] + [one.source for one in m.qualifiers]
    parsed = [read_path(path) for path in paths]
    return m.chain is None and all(
        path.names and not path.start and (path.choice is None or path.choice[0] > 0) for path in parsed
    )


@cache
def _paths(where: Where | None) -> tuple[str, ...]:
    """The paths that tell what stands at a place."""
    if where is None:
        return ()
    if isinstance(where, str):
        return (where,)
    sources = (where.source,) if isinstance(where.source, str) else where.source or ()
    return (*sources, *where.join, *((where.negated_if,) if where.negated_if else ()))


def _no_values(values: Sequence[str]) -> tuple[()]:
    return ()


def _outline(members: Members, names: list[str | int], values: list[str]) -> bool:
    """Split an object in its form and its values; False for what has no form: empty objects and arrays, arrays in arrays."""
    if not members:
        return False
    for name, inner in members:
        kind = type(inner)
        if kind is str:
            names.append(name)
            values.append(inner)
        elif kind is Members:
            names += (name, _OPENS)
            if not _outline(inner, names, values):
                return False
            names.append(_CLOSES)
        elif kind is list:
            if not inner or not _outline(Members([(name, one) for one in inner]), names, values):
                return False
            if any(type(one) is list for one in inner):
                return False
        elif inner is None:
            names += (name, _NOTHING)
            values.append("")
        else:
            names += (name, _BARE)
            values.append(("true" if inner else "false") if kind is bool else str(inner))
    return True


def _read_form(form: Sequence[str | int]) -> tuple[Below, int]:
    """What a form says, and how many values rules of it have."""
    stack: list[Below] = [[]]
    count = 0
    for at, sign in enumerate(form):
        follows = form[at + 1] if at + 1 < len(form) else ""
        if sign == _CLOSES:
            stack.pop()
        elif isinstance(sign, str):
            if follows == _OPENS:
                below: Below = []
                stack[-1].append((sign, below))
                stack.append(below)
                continue
            stack[-1].append((sign, _Leaf(count, None if follows == _NOTHING else follows != _BARE)))
            count += 1
    return stack[0], count

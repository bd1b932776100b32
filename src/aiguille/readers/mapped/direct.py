"""Rules read from objects as they were decoded, without nodes for what is in them.

Rules of one export look alike: the same names, other values. Where the places of a mapping lead is found once for each such
form. From then on a rule is its values, taken by number, and each part of it is made once for equal values. It is made by the
code that reads rules from nodes (`RuleReader`). A rule of which anything is not understood or not used is left to that.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import cache
from operator import itemgetter
from typing import Any, NoReturn

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.model import NotUnderstoodError, Qualifier, Rule, Span
from aiguille.readers.files import LedgerBuilder
from aiguille.readers.mapped.paths import Path, read_path
from aiguille.readers.mapped.rule import JOINED, RuleContext, RulePart, RuleReader
from aiguille.readers.mapped.spec import RuleMap, Value, Where
from aiguille.readers.mapped.tree import Members, Node, Token
from aiguille.readers.mapped.values import Extractor

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


Below = list[tuple[str, "_Leaf | Below"]]
"""Names and what stands there, an object's own such list included; the elements of an array stand one after the other."""


_Made = tuple[Any, int, tuple[Qualifier, ...]]
"""A part of a rule, the values it used as bits, and the gaps it left."""


class _Found(Struct, frozen=True):
    """Where a path leads in rules of one form: the values, and whether each is quoted.

    asked: bits of the values that are used by being asked for, as they have no word; used: of all
    """

    numbers: tuple[int, ...]
    quoted: tuple[bool, ...]
    asked: int
    used: int

    def texts(self, values: Sequence[str]) -> list[str]:
        return [values[number] for number in self.numbers]

    def of(self, values: Sequence[str]) -> list[Token]:
        """The words there."""
        found = zip(self.numbers, self.quoted, strict=True)
        return [Token(values[number], "", 0, 0, 0, quoted, used=True) for number, quoted in found]


class _Part(Struct):
    """A part of rules of one form.

    pick: takes the values it is made of from a rule's; work: makes it of them
    simply: makes it of these words alone, which are all it uses, where that is enough
    column: the number of the only value, which is the part; -1 if it takes making
    known: what was made of such values before, with the values it used and the gaps it left
    """

    pick: Callable[[Sequence[str]], Any]
    work: Callable[[], Any]
    simply: Callable[[Sequence[str]], Any] | None = None
    words: _Found | None = None
    column: int = -1
    known: dict[Any, _Made] = field(default_factory=dict)


class _Form:
    """Rules with the same names in the same places."""

    def __init__(self, form: tuple[str | int, ...], parts: Iterable[RulePart], led: set[str]) -> None:
        """led: takes the paths that lead somewhere without any more ado"""
        self._led = led
        self.below, self.count = _read_form(form)
        self.all = (1 << self.count) - 1
        self.paths: dict[str, _Found | None] = {}
        self.always = 0  # values that are a part as they stand
        self.parts = [self._part(one) for one in parts]

    def found(self, path: Path) -> _Found | None:
        """Where a path leads; None if nowhere."""
        if path.text not in self.paths:
            self.paths[path.text] = self._find(path)
        return self.paths[path.text]

    def _find(self, path: Path) -> _Found | None:
        here: list[_Leaf | Below] = [self.below]
        for name in path.names:
            here = [inner for one in here if isinstance(one, list) for key, inner in one if key == name]
        leaves = [one for one in here if isinstance(one, _Leaf)]
        words = [one for one in leaves if one.quoted is not None]
        if path.choice is not None and path.choice[0] > 1:
            words = []
        if not here or (path.choice is not None and not words):
            return None
        nothing = sum(1 << one.number for one in leaves if one.quoted is None)
        used = nothing | sum(1 << one.number for one in words)
        return _Found(tuple(one.number for one in words), tuple(bool(one.quoted) for one in words), nothing, used)

    def _part(self, part: RulePart) -> _Part:
        first, *others = [[self.found(read_path(path)) for path in _paths(where)] for where in part.wheres]
        leads = [one for found in (first, *others) for one in found if one is not None]
        at = sorted({number for one in leads for number in one.numbers})
        made = _Part(itemgetter(*at) if at else _no_values, part.work)
        words = next((one for one in first if one is not None), None)
        path = next((path for path, one in zip(_paths(part.wheres[0]), first, strict=True) if one is not None), "")
        alone = not any(one for found in others for one in found) and _is_bare(part.wheres[0])
        if words is not None and alone and not (part.first_only and len(words.numbers) > 1):
            made.simply, made.words = part.simply, words
            self._led.add(read_path(path).text)
            # Joining a single word leaves it as it is.
            if part.simply is JOINED and len(words.numbers) == 1:
                made.column = words.numbers[0]
                self.always |= words.used
        return made


class _Words(Extractor):
    """Takes words from a rule's values instead of nodes."""

    form: _Form = field(default_factory=lambda: _Form((), (), set()))
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
        found = self.form.found(path)
        if found is None:
            return None
        self.found.add(path.text)
        if first_only and found.numbers:
            self.used |= found.asked | 1 << found.numbers[0]
        else:
            self.used |= found.used
        return tuple(found.of(self.values))

    def _flagged(self, node: Node, path: str) -> bool:
        words = self._raw(node, path, first_only=False)
        if words is None:
            return False
        if len(words) > 1:  # the first statement alone counts
            raise _LeftError
        return not words or words[0].text.lower() not in ("no", "false", "0", "off")

    def _nearest(self, node: Node, value: Value) -> Span | None:
        return None


class DirectReader(RuleReader):
    """Reads rules of one list."""

    def __init__(self, rules: RuleContext, m: RuleMap, direction: str) -> None:
        super().__init__(rules, NOWHERE, m, shares=False)
        get = rules.get
        self._words = _Words(get.dialect, _Alarm(()), get.place, get.found, get._lookups)
        self.get, self.ledger = self._words, self._words.ledger
        self._forms: dict[tuple[str | int, ...], _Form] = {}
        self._parts = self.parts(direction)

    def read(self, node: Node, number: int) -> Rule | None:
        """The rule of a node nobody has looked into; None if it is to be read from its nodes."""
        unopened = node.unopened
        if unopened is None:
            return None
        values: list[str] = []
        names: list[str | int] = []
        if not _outline(unopened.members, names, values):
            return None
        key, words = tuple(names), self._words
        form = self._forms.get(key)
        if form is None:
            form = _Form(key, self._parts, words.found)
            if len(self._forms) < FORMS:
                self._forms[key] = form
        words.form, words.values, self.gaps = form, values, []
        made, used = [], form.always
        try:
            for part in form.parts:
                if part.column >= 0:
                    made.append(values[part.column])
                    continue
                known = part.known.get(part.pick(values)) or self._made(part, values)
                made.append(known[0])
                used |= known[1]
                if known[2]:
                    self.gaps += known[2]
        except (_LeftError, NotUnderstoodError):
            return None
        if used != form.all:
            return None
        node.whole = unopened
        rule = self.rule_of(number, node, made)
        return rule if not self.gaps else replace(rule, qualifiers=tuple(self.gaps))

    def _made(self, part: _Part, values: Sequence[str]) -> _Made:
        """A part made anew."""
        known: _Made
        if part.simply is not None and part.words is not None:
            known = (part.simply(part.words.texts(values)), part.words.used, ())
        else:
            before, self._words.used = len(self.gaps), 0
            made = part.work()
            known = (made, self._words.used, tuple(self.gaps[before:]))
            del self.gaps[before:]
        if len(part.known) < KEPT:
            part.known[part.pick(values)] = known
        return known


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


def _is_bare(where: Where | None) -> bool:
    """Whether a place has no options."""
    return isinstance(where, str) or (where is not None and where == Value(source=where.source))


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
        elif kind is float:  # no number of JSON's
            return False
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

"""Rules read from objects as they were decoded, without nodes for what is in them.

Rules of one export look alike: the same names, other values. Where the places of a mapping lead is found once for each such
form. From then on rules are columns of values, and each part of a rule is made once for equal values. It is made by the code
that reads rules from nodes (`MappedRuleReader`). A rule of which anything is not understood or not used is left to that.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import cache
from itertools import compress
from typing import Any, NoReturn

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.model import NotUnderstoodError, Qualifier, Rule, Span
from aiguille.readers.files import LedgerBuilder
from aiguille.readers.mapped.paths import Path, read_path
from aiguille.readers.mapped.rule import JOINED, MappedRuleReader, RuleContext, RulePart
from aiguille.readers.mapped.spec import RuleMap, Value, Where
from aiguille.readers.mapped.tree import Digits, Node, Token, Unopened
from aiguille.readers.mapped.values import Extractor

BATCH = 256
"""Rules read together; what few hold stays near the processor."""

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


Use = tuple[int, tuple[Qualifier, ...]]
"""The values that a part of a rule used, as bits, and the gaps it left."""

_LEFT: Use = (-1, ())
"""Of a part that cannot be made: the use of no rule."""


class _Found(Struct, frozen=True):
    """Where a path leads in rules of one form: the values, and whether each is quoted.

    asked: bits of the values that are used by being asked for, as they have no word; used: of all
    """

    numbers: tuple[int, ...]
    quoted: tuple[bool, ...]
    asked: int
    used: int

    def of(self, values: Sequence[str]) -> list[Token]:
        """The words there."""
        found = zip(self.numbers, self.quoted, strict=True)
        return [Token(values[number], "", 0, 0, 0, quoted, used=True) for number, quoted in found]


class _Part(Struct):
    """A part of rules of one form.

    at: the numbers of the values it is made of; work: makes it of them
    simply: makes it of these values alone, which are all it uses, where that is enough
    is_value: whether it is the value as it stands, which takes no making
    known: what was made of such values before
    use: what of most of them; odd: of those that used other values or left gaps
    """

    at: tuple[int, ...]
    work: Callable[[], Any]
    simply: Callable[[Sequence[str]], Any] | None = None
    is_value: bool = False
    known: dict[Any, Any] = field(default_factory=dict)
    use: Use | None = None
    odd: dict[Any, Use] = field(default_factory=dict)

    def keys(self, columns: Sequence[Sequence[str]], count: int) -> Sequence[Any]:
        """What tells the values of each of so many rules apart."""
        if len(self.at) == 1:
            return columns[self.at[0]]
        return list(zip(*(columns[number] for number in self.at), strict=True)) if self.at else [()] * count

    def keep(self, key: Any, made: Any, use: Use) -> None:
        self.known[key] = made
        if self.use is None and use is not _LEFT and not use[1]:
            self.use = use
        if use != self.use:
            self.odd[key] = use

    def forget(self) -> None:
        """Give up what fills memory and is not met again."""
        if len(self.known) > KEPT:
            self.known.clear()
            self.odd.clear()


class _Form:
    """Rules with the same names in the same places."""

    def __init__(self, form: tuple[str | int, ...], parts: Iterable[RulePart], led: set[str]) -> None:
        """led: takes the paths that lead somewhere without any more ado"""
        self._led = led
        self.below, self.count = _read_form(form)
        self.all = (1 << self.count) - 1
        self.paths: dict[str, _Found | None] = {}
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
        made = _Part(tuple(at), part.work)
        words = next((one for one in first if one is not None), None)
        path = next((path for path, one in zip(_paths(part.wheres[0]), first, strict=True) if one is not None), "")
        alone = not any(one for found in others for one in found) and _is_bare(part.wheres[0])
        simple = part.simply is not None and alone and not (part.first_only and words and len(words.numbers) > 1)
        if simple and words is not None:
            self._led.add(read_path(path).text)
            made.at, made.simply, made.use = words.numbers, part.simply, (words.used, ())
            # Joining a single word leaves it as it is.
            made.is_value = part.simply is JOINED and len(words.numbers) == 1
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


class DirectReader(MappedRuleReader):
    """Reads rules of one list."""

    def __init__(self, rules: RuleContext, m: RuleMap, direction: str) -> None:
        super().__init__(rules, NOWHERE, m, shares=False)
        get = rules.get
        self._words = _Words(get.dialect, _Alarm(()), get.place, get.found, False, get._lookups)
        self.get, self.ledger = self._words, self._words.ledger
        self._forms: dict[tuple[str | int, ...], _Form] = {}
        self._parts = self.parts(direction)

    def read(self, nodes: Sequence[Node]) -> list[Rule | None]:
        """The rules of nodes nobody has looked into; None for each that is to be read from its nodes."""
        rules: list[Rule | None] = [None] * len(nodes)
        for start in range(0, len(nodes), BATCH):
            alike: dict[tuple[str | int, ...], list[tuple[int, list[str]]]] = {}
            for number, node in enumerate(nodes[start : start + BATCH], start):
                unopened = node.grow
                if isinstance(unopened, Unopened) and (outline := _outline(unopened)) is not None:
                    alike.setdefault(outline[0], []).append((number, outline[1]))
            for key, found in alike.items():
                form = self._forms.get(key)
                if form is None:
                    form = _Form(key, self._parts, self._words.found)
                    if len(self._forms) < FORMS:
                        self._forms[key] = form
                numbers = [number for number, _ in found]
                for number, rule in zip(
                    *self._read(form, numbers, nodes, [values for _, values in found]), strict=True
                ):
                    rules[number] = rule
        return rules

    def _read(
        self, form: _Form, numbers: Sequence[int], nodes: Sequence[Node], rows: Sequence[Sequence[str]]
    ) -> tuple[Sequence[int], list[Rule]]:
        """Those rules of one form of which all is used, and their numbers. rows: the values of each"""
        columns = list(zip(*rows, strict=True))
        made: list[Sequence[Any]] = []
        used, odd = 0, [0] * len(rows)
        gaps: list[tuple[Qualifier, ...]] = [()] * len(rows)
        for part in form.parts:
            keys = part.keys(columns, len(rows))
            if part.is_value:
                made.append(keys)
            else:
                self._make(form, part, keys, rows)
                made.append([*map(part.known.__getitem__, keys)])
                if not part.odd.keys().isdisjoint(keys):
                    uses = [part.odd.get(key, part.use) or _LEFT for key in keys]
                    odd = [before | bits for before, (bits, _) in zip(odd, uses, strict=True)]
                    gaps = [(*before, *left) for before, (_, left) in zip(gaps, uses, strict=True)]
                    part.forget()
                    continue
                part.forget()
            used |= part.use[0] if part.use is not None else 0
        whole = [bits | used == form.all for bits in odd]
        if not all(whole):
            made = [[*compress(column, whole)] for column in made]
            numbers, gaps = [*compress(numbers, whole)], [*compress(gaps, whole)]
        chosen = [nodes[number] for number in numbers]
        for node in chosen:
            node.whole = node.unopened
        rules = self.rules_of([number + 1 for number in numbers], chosen, made)
        if any(gaps):
            rules = [replace(rule, qualifiers=left) if left else rule for rule, left in zip(rules, gaps, strict=True)]
        return numbers, rules

    def _make(self, form: _Form, part: _Part, keys: Sequence[Any], rows: Sequence[Sequence[str]]) -> None:
        """Make a part of all values that it was not made of before."""
        unknown = set(keys).difference(part.known)
        if part.simply is not None:
            single = len(part.at) == 1
            for key in unknown:
                try:
                    part.known[key] = part.simply((key,) if single else key)
                except NotUnderstoodError:
                    part.keep(key, None, _LEFT)
            return
        words = self._words
        words.form = form
        for key, values in zip(keys, rows, strict=True) if unknown else ():
            if key in part.known:
                continue
            words.values, words.used, self.gaps = values, 0, []
            try:
                made = part.work()
            except (_LeftError, NotUnderstoodError):
                part.keep(key, None, _LEFT)
            else:
                part.keep(key, made, (words.used, tuple(self.gaps)))


NOWHERE = Node("", (), "", 0, 0)
"""Stands for the statement of a rule that has none."""


@cache
def is_direct(m: RuleMap) -> bool:
    """Whether all places of a mapping are names alone, so that the names in a rule show where they lead."""
    wheres = [getattr(m, name) for name in m.__struct_fields__ if name != "qualifiers"]
    paths = [path for where in wheres for path in _paths(where)] + [one.source for one in m.qualifiers]
    parsed = [read_path(path) for path in paths]
    return m.chain is None and all(
        path.names and not path.start and (path.choice is None or path.choice[0] > 0) for path in parsed
    )


@cache
def _paths(where: Where | None) -> tuple[str, ...]:
    """The paths that show what stands at a place."""
    if where is None:
        return ()
    if isinstance(where, str):
        return (where,)
    sources = (where.source,) if isinstance(where.source, str) else where.source or ()
    more = [path for path in (where.negated_if, where.excluded, where.book) if path]
    return (*sources, *where.join, *where.all_of, *more)


def _is_bare(where: Where | None) -> bool:
    """Whether a place has no options."""
    return isinstance(where, str) or (where is not None and where == Value(source=where.source))


def _outline(unopened: Unopened) -> tuple[tuple[str | int, ...], list[str]] | None:
    """The form of an object and its values; None for what has no form: repeated names, empty objects and arrays, arrays in
    arrays."""
    names: list[str | int] = []
    values: list[str] = []
    try:
        met = _spread(unopened.members.items(), names, values)
    except _LeftError:
        return None
    return (tuple(names), values) if met + len(unopened.members) == unopened.names else None


def _spread(members: Iterable[tuple[str, Any]], names: list[str | int], values: list[str]) -> int:
    """Add members to the form and the values, and tell how many names there are below them."""
    below = 0
    for name, inner in members:
        kind = type(inner)
        if kind is str:
            names.append(name)
            values.append(inner)
        elif kind is dict and inner:
            names += (name, _OPENS)
            below += len(inner) + _spread(inner.items(), names, values)
            names.append(_CLOSES)
        elif kind is list and inner:
            for one in inner:
                if type(one) is str:
                    names.append(name)
                    values.append(one)
                elif type(one) is list:
                    raise _LeftError
                else:
                    below += _spread(((name, one),), names, values)
        elif inner is None:
            names += (name, _NOTHING)
            values.append("")
        elif kind is int or kind is bool or kind is Digits:
            names += (name, _BARE)
            values.append(("true" if inner else "false") if kind is bool else str(inner))
        else:
            raise _LeftError
    return below


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

"""What statements of a sample are about, by what stands in them: rules, objects, services, interfaces, and their fields."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from functools import cached_property

from msgspec import Struct, field

from aiguille.model import NotUnderstoodError
from aiguille.readers.literals import read_protocol
from aiguille.readers.mapped.part import read_members, read_port_range, read_service
from aiguille.readers.mapped.paths import quoted
from aiguille.readers.mapped.starting import hints
from aiguille.readers.mapped.starting.sentences import NONE, Found
from aiguille.readers.mapped.tree import Node

_NUMBER = re.compile(r"[0-9]+")
_DATE = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}([T ].*)?")
_NAMING = ("name", "label", "title", "key", "id", "called", "rule name", "object", "zone", "interface", "service")
RULE_NAMES = ("name", "label", "title", "rule name", "called")
_DEPTH = 3


class Field(Struct, dict=True):
    """One place of the statements of a group, with all words found there.

    excepts: whether it takes out again what another place holds; excepted: the place that does that to this one
    negated_by: the word that turns its condition round
    """

    path: str
    values: list[str] = field(default_factory=list)
    filled: int = 0
    excepts: bool = False
    excepted: str = ""
    negated_by: str = ""

    @cached_property
    def decisive(self) -> list[str]:
        """The words without those for "no restriction" and the one that turns them round."""
        return [value for value in self.values if value.lower() not in hints.ANY and value != self.negated_by]

    @cached_property
    def any(self) -> tuple[str, ...]:
        return tuple(sorted({value for value in self.values if value.lower() in hints.ANY}))

    @property
    def is_flag(self) -> bool:
        """Whether it is a keyword of a sentence that says all by itself."""
        said = set(self.values)
        alone = len(said) == 1 and self.values[0].lower() in (*hints.LOGS, *hints.SWITCH_OFF)
        return said == {self.path.rpartition("-")[2]} or (alone and self.path.startswith("@"))

    def means(self, words: Sequence[str]) -> bool:
        """Whether a keyword that says all by itself is one of some words."""
        return self.hints(*words) or self.values[0].lower() in words

    @property
    def word(self) -> str:
        """The last name on the path, in small letters."""
        return self.path.rpartition("/")[2].lower()

    def share(self, test: Callable[[str], object]) -> float:
        """How many of the telling words pass."""
        return sum(bool(test(value)) for value in self.decisive) / len(self.decisive) if self.decisive else 0.0

    def hints(self, *words: str) -> bool:
        parts = re.split(r"[^a-z]+", self.path.lower())
        return any(word in parts or (len(word) > 3 and word in self.word) for word in words)


class Group(Struct, dict=True):
    """The statements that stand at one path of names."""

    path: str
    nodes: list[Node]
    fields: dict[str, Field] = field(default_factory=dict)

    @property
    def by_verdict(self) -> bool:
        """Whether the statements begin with what they do."""
        return "|" in self.path.rpartition("/")[2] and not self.path.endswith("'")

    @cached_property
    def name_field(self) -> Field | None:
        """The place of the statement's own name: by its key, else a first word that hardly repeats."""
        for wanted in _NAMING:
            if wanted in self.fields and len(self.fields[wanted].values) == self.fields[wanted].filled:
                return self.fields[wanted]
        first = self.fields.get("@1")
        if first is not None and len(set(first.values)) * 2 > len(first.values):
            return first
        return None

    def each(self, path: str) -> list[list[str]]:
        """The words at one of its own statements' places, statement by statement; those without are left out."""
        every = [[word.text for child in node.named(path.strip("'")) for word in child.words] for node in self.nodes]
        return [words for words in every if words]

    def holds_terms(self, one: Field) -> bool:
        """Whether a place holds a protocol and the ports behind it."""
        if "/" in one.path or one.path.startswith("@"):
            return False
        each = [[word for word in words if word.lower() not in hints.ANY] for words in self.each(one.path)]
        return any(len(words) > 1 for words in each) and all(
            is_protocol(words[0]) and all(map(is_ports, words[1:])) for words in each if words
        )

    @cached_property
    def action(self) -> Field | None:
        """The place of the verdict: the words are common ones for it, or few that come again and again."""
        best, most = None, 0.5
        for one in self.fields.values():
            share = one.share(lambda value: value.lower() in hints.ACTIONS) * one.filled / len(self.nodes)
            if share > most and len(one.values) == one.filled and not one.hints("log"):
                best, most = one, share
        return best

    def addresses(self) -> list[Field]:
        return [one for one in self.fields.values() if one.share(is_address) > 0.5 and not one.excepts]


def is_address(text: str) -> bool:
    if not (text[:1].isdigit() or ":" in text) or text.isdecimal():
        return False
    try:
        read_members(text)
    except NotUnderstoodError:
        return False
    return True


def is_ports(text: str) -> bool:
    if not text[:1].isdigit():
        return False
    try:
        return all(read_port_range(part) is not None for part in re.split(r"[,;]\s*", text))
    except NotUnderstoodError:
        return False


def is_protocol(text: str) -> bool:
    try:
        return not text.isdecimal() and read_protocol(text) is not None
    except NotUnderstoodError:
        return False


def is_service(text: str) -> bool:
    try:
        return read_service(text) is not None
    except NotUnderstoodError:
        return False


def is_number(text: str) -> bool:
    return _NUMBER.fullmatch(text) is not None


def is_date(text: str) -> bool:
    return _DATE.fullmatch(text) is not None


def split_sign(values: Sequence[str], test: Callable[[str], bool]) -> str:
    """The sign between several values in one word, if that makes more of them readable."""
    plain = sum(test(value) for value in values)
    for sign in (";", ",", " "):
        parts = [part.strip() for value in values for part in value.split(sign) if part.strip()]
        if len(parts) > len(values) and sum(test(part) for part in parts) - plain > (len(parts) - len(values)) // 2:
            return sign
    return ""


def groups(root: Node, sentences: Found = NONE) -> list[Group]:
    """The statements of a tree by their path of names, with the words in and below each.

    Statements that begin with the verdict stand together, whichever it is.
    """
    found: dict[str, Group] = {}
    verdicts = _verdicts(root)

    def visit(node: Node, path: str) -> None:
        for child in node.children:
            name = verdicts.get(path, {}).get(child.name, quoted(child.name))
            below = f"{path}/{name}" if path else name
            found.setdefault(below, Group(below, [])).nodes.append(child)
            visit(child, below)

    visit(root, "")
    for group in found.values():
        for node in group.nodes:
            seen: set[str] = set()
            for path, value in _words(node):
                one = group.fields.setdefault(path, Field(path))
                one.values.append(value)
                seen.add(path)
            if group.by_verdict:
                group.fields.setdefault("@0", Field("@0")).values.append(node.name)
                seen.add("@0")
            for path in seen:
                group.fields[path].filled += 1
        _note_exceptions(group, sentences)
    known = frozenset(v for one in found.values() if one.name_field is not None for v in one.name_field.values)
    for group in found.values():
        # Of the words of a rule that only their places tell apart one may be a source, the next a destination.
        if group.action is None:
            _join_tail(group, known)
    return list(found.values())


def _join_tail(group: Group, names: frozenset[str]) -> None:
    """Where statements end in several words of one kind, one place for all of them: "@2-"."""
    spoken = [[word.text for word in node.words] for node in group.nodes]
    most = max(map(len, spoken), default=0)
    for test in (is_address, is_ports, names.__contains__):
        first = next(
            (n for n in range(1, most) if all(test(word) for words in spoken for word in words[n:])), most
        )  # fmt: skip
        if first + 1 < most:
            joined = Field(f"@{first + 1}-", [word for words in spoken for word in words[first:]])
            joined.filled = sum(len(words) > first for words in spoken)
            for n in range(first + 1, most + 1):
                group.fields.pop(f"@{n}", None)
            group.fields[joined.path] = joined
            return


def _verdicts(root: Node) -> dict[str, dict[str, str]]:
    """By path, the names of statements that are verdicts, with the step that leads to all of them; only where they differ."""
    names: dict[str, dict[str, None]] = {}

    def visit(node: Node, path: str) -> None:
        for child in node.children:
            if hints.ACTIONS.get(child.name.lower()) in hints.DECIDING:
                names.setdefault(path, {})[child.name] = None
            visit(child, f"{path}/{quoted(child.name)}" if path else quoted(child.name))

    visit(root, "")
    return {
        path: dict.fromkeys(words, "|".join(words))
        for path, words in names.items()
        if len({hints.ACTIONS[word.lower()] for word in words}) > 1
    }


def _note_exceptions(group: Group, sentences: Found) -> None:
    """Mark the places that hold exceptions, and those they are exceptions of where that is plain."""
    for one in group.fields.values():
        one.negated_by = sentences.negated.get(one.path, "")
        parts = re.split(r"[^a-z]+", one.path.lower())
        if not hints.takes_back([part for part in parts if part]) or one.path.startswith("@"):
            continue
        one.excepts = True
        if one.path in sentences.excepting:
            owner = group.fields.get(sentences.excepting[one.path] or "")
        else:
            rest = [word for word in parts if word and word not in hints.EXCEPT]
            same = [f for f in group.fields.values() if [w for w in re.split(r"[^a-z]+", f.path.lower()) if w] == rest]
            owner = same[0] if len(same) == 1 and rest else None
        if owner is not None and owner is not one and not owner.excepted:
            owner.excepted = one.path


def _words(node: Node, prefix: str = "", depth: int = 0) -> Iterator[tuple[str, str]]:
    if not prefix:
        for number, word in enumerate(node.words, 1):
            yield f"@{number}", word.text
    for child in node.children:
        path = f"{prefix}/{quoted(child.name)}" if prefix else quoted(child.name)
        for word in child.words:
            yield path, word.text
        if child.children and depth + 1 < _DEPTH:
            yield from _words(child, path, depth + 1)


def common(values: Sequence[str]) -> list[str]:
    """The different words, most frequent first."""
    return [value for value, _ in Counter(values).most_common()]

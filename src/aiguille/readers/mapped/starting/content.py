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
from aiguille.readers.mapped.tree import Node

ACTIONS = {
    **dict.fromkeys(
        ["accept", "allow", "allowed", "permit", "pass", "let", "welcome", "grant", "admit", "open", "let-in", "let-through"],
        "accept",
    ),
    **dict.fromkeys(
        ["drop", "deny", "denied", "block", "discard", "swallow", "ignore", "forbid", "silence", "stop", "shut"], "drop"
    ),
    **dict.fromkeys(["reject", "refuse", "decline", "answer-no", "turn-back", "say-no"], "reject"),
    **dict.fromkeys(["jump", "visit", "call"], "jump"),
    **dict.fromkeys(["return", "back"], "return"),
    **dict.fromkeys(["continue", "count", "log", "jot", "tally", "mark"], "continue"),
}  # fmt: skip
"""Common words for what a rule does."""

FLAGS = {
    **dict.fromkeys(["yes", "true", "on", "enabled", "active", "1"], True),
    **dict.fromkeys(["no", "false", "off", "disabled", "inactive", "0"], False),
}
STATES = {
    **dict.fromkeys(["new", "fresh"], "new"),
    **dict.fromkeys(["established", "running"], "established"),
    **dict.fromkeys(["related", "kin"], "related"),
    **dict.fromkeys(["invalid", "broken"], "invalid"),
}
ANY = frozenset(
    {"any", "all", "*", "anyone", "anywhere", "anything", "everybody", "everywhere", "everything", "always"}
)

_NUMBER = re.compile(r"[0-9]+")
_DATE = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}([T ].*)?")
_NAMING = ("name", "label", "title", "key", "id", "called", "rule name", "object", "zone", "interface", "service")
RULE_NAMES = ("name", "label", "title", "rule name", "called")
_DEPTH = 3


class Field(Struct, dict=True):
    """One place of the statements of a group, with all words found there."""

    path: str
    values: list[str] = field(default_factory=list)
    filled: int = 0

    @cached_property
    def decisive(self) -> list[str]:
        """The words without those for "no restriction"."""
        return [value for value in self.values if value.lower() not in ANY]

    @cached_property
    def any(self) -> tuple[str, ...]:
        return tuple(sorted({value for value in self.values if value.lower() in ANY}))

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

    @cached_property
    def action(self) -> Field | None:
        """The place of the verdict: the words are common ones for it, or few that come again and again."""
        best, most = None, 0.5
        for one in self.fields.values():
            share = one.share(lambda value: value.lower() in ACTIONS) * one.filled / len(self.nodes)
            if share > most and len(one.values) == one.filled and not one.hints("log"):
                best, most = one, share
        return best

    def addresses(self) -> list[Field]:
        return [one for one in self.fields.values() if one.share(is_address) > 0.5]


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


def groups(root: Node) -> list[Group]:
    """The statements of a tree by their path of names, with the words in and below each."""
    found: dict[str, Group] = {}

    def visit(node: Node, path: str) -> None:
        for child in node.children:
            below = f"{path}/{quoted(child.name)}" if path else quoted(child.name)
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
            for path in seen:
                group.fields[path].filled += 1
    return list(found.values())


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

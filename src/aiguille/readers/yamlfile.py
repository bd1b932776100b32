"""YAML files that people write for the program, checked against a table of keys, every fault with its line."""

from __future__ import annotations

import difflib
import re
from collections.abc import Collection
from typing import Any, TypeVar

import msgspec
import yaml
from msgspec import Struct

from aiguille.model import UsageError

_STEP = re.compile(r"\.([A-Za-z0-9_.-]+?)(?=\.|\[|$)|\[(\d+)\]|\[\.\.\.\]")
_EXPECTED = re.compile(r"Expected `([^`]+)`, got `([^`]+)`")
_MISSING = re.compile(r"Object missing required field `([^`]+)`")
_WORDS = {
    "array": "a list",
    "object": "a table of keys",
    "str": "text",
    "int": "a whole number",
    "float": "a number",
    "bool": "true or false",
    "null": "nothing",
    "date": "a date",
}
Steps = list[tuple[str, str]]
T = TypeVar("T")


class YamlFile(Struct, frozen=True, dict=True):
    """A parsed file with the nodes its values came from."""

    name: str
    data: dict[str, Any]
    root: yaml.Node | None

    def fault(self, why: str, *path: str | int, key: bool = False) -> UsageError:
        """An error at the node a path of keys and indexes leads to, or as far as it leads; `key`: at the key itself."""
        return UsageError(f"{self.name}:{self.line(*path, key=key)}: {why}")

    def line(self, *path: str | int, key: bool = False) -> int:
        steps = [("", str(one)) if isinstance(one, int) else (one, "") for one in path]
        if key and steps:
            parent = descend(self.root, steps[:-1])
            return line_of(key_node(parent, steps[-1][0]) or parent)
        return line_of(descend(self.root, steps))


def load(name: str, text: str, what: str, example: str) -> YamlFile:
    """Parse YAML safely; raises UsageError. what: what the file should be, in words; example: a first line of one."""
    try:
        root = yaml.compose(text, Loader=yaml.CSafeLoader)
        _refuse_bombs(name, root)
        data = yaml.load(text, Loader=yaml.CSafeLoader)
    except yaml.YAMLError as error:
        mark = getattr(error, "problem_mark", None)
        line = mark.line + 1 if mark else 1
        raise UsageError(f"{name}:{line}: this is not valid YAML: {getattr(error, 'problem', error)}") from error
    except (ValueError, RecursionError) as error:
        raise UsageError(f"{name}:1: this is not valid YAML: {error}") from error
    if not isinstance(data, dict):
        raise UsageError(f"{name}:1: {what} is a table of keys, such as '{example}'")
    return YamlFile(name, data, root)


EXPANDED_LIMIT = 200_000
"""Values a file may have with its aliases written out."""


def _refuse_bombs(name: str, root: yaml.Node | None) -> None:
    """Raise UsageError where keys stand twice, or aliases multiply what is written beyond all bounds."""
    sizes: dict[yaml.Node, int] = {}

    def size(node: yaml.Node, above: tuple[yaml.Node, ...]) -> int:
        if node in sizes:
            return sizes[node]
        if node in above:
            raise UsageError(f"{name}:{line_of(node)}: this value contains itself by an alias; write it out")
        below: list[yaml.Node] = []
        if isinstance(node, yaml.SequenceNode):
            below = node.value
        elif isinstance(node, yaml.MappingNode):
            below = [one for pair in node.value for one in pair]
            seen: dict[str, yaml.Node] = {}
            for key, _ in node.value:
                if (
                    isinstance(key, yaml.ScalarNode)
                    and key.value != "<<"
                    and seen.setdefault(key.value, key) is not key
                ):
                    first = line_of(seen[key.value])
                    raise UsageError(
                        f"{name}:{line_of(key)}: '{key.value}' stands here for the second time, first in line {first}"
                    )
        total = 1 + sum(size(one, (*above, node)) for one in below)
        if total > EXPANDED_LIMIT:
            raise UsageError(
                f"{name}:{line_of(node)}: aliases make more than {EXPANDED_LIMIT} values of this; write less"
            )
        sizes[node] = total
        return total

    if root is not None:
        size(root, ())


def convert(file: YamlFile, kind: type[T], keys: Collection[str], what: str) -> T:
    """The file's data as a table; raises UsageError with line and the nearest key."""
    try:
        return msgspec.convert(file.data, kind)
    except msgspec.ValidationError as error:
        raise UsageError(explain(file.name, file.root, str(error), keys, what)) from error


def explain(name: str, root: yaml.Node | None, message: str, keys: Collection[str], what: str) -> str:
    """A message of msgspec as a sentence with the line it is about."""
    text, _, path = message.partition(" - at `")
    steps = _STEP.findall(path.rstrip("`").removeprefix("$"))
    unknown = re.search(r"unknown field `([^`]+)`", text)
    node = descend(root, steps)
    if unknown:
        key = unknown[1]
        near = [one for one in difflib.get_close_matches(key, keys, n=2) if one != key]
        hint = f"; did you mean '{near[0]}'?" if near else ""
        return f"{name}:{line_of(key_node(node, key) or node)}: '{key}' is not a key of {what} here{hint}"
    where = "/".join(a or b for a, b in steps if a or b)
    hint = "; YAML takes yes, no, on and off for truth values unless they stand in quotes" if "`bool`" in text else ""
    if missing := _MISSING.fullmatch(text):
        text = f"'{missing[1]}' is missing"
    elif mistaken := _EXPECTED.fullmatch(text):
        text = f"this takes {_in_words(mistaken[1])}, not {_in_words(mistaken[2])}"
    return f"{name}:{_line(root, steps)}: {where or 'the file'}: {text[0].lower()}{text[1:]}{hint}"


def _in_words(kinds: str) -> str:
    """Types as msgspec names them, in the words of the manual; 'null' is left out where something else may stand."""
    names = [one for one in kinds.split(" | ") if one != "null"] or ["null"]
    return " or ".join(_WORDS.get(one, one) for one in names)


def _line(root: yaml.Node | None, steps: Steps) -> int:
    """The line of the key a value stands behind: the value itself may begin on the next one."""
    if steps and steps[-1][0] and (key := key_node(descend(root, steps[:-1]), steps[-1][0])):
        return line_of(key)
    return line_of(descend(root, steps))


def descend(node: yaml.Node | None, steps: Steps) -> yaml.Node | None:
    """The node that steps of keys and indexes lead to, or as far as they lead."""
    for key, index in steps:
        below: yaml.Node | None = None
        if key and isinstance(node, yaml.MappingNode):
            below = next((v for k, v in node.value if k.value == key), None)
        elif index and isinstance(node, yaml.SequenceNode) and int(index) < len(node.value):
            below = node.value[int(index)]
        if below is None:
            return node
        node = below
    return node


def key_node(node: yaml.Node | None, key: str) -> yaml.Node | None:
    if isinstance(node, yaml.MappingNode):
        return next((k for k, _ in node.value if k.value == key), None)
    return None


def line_of(node: yaml.Node | None) -> int:
    return node.start_mark.line + 1 if node is not None else 1

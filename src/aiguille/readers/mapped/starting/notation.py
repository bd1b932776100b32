"""What was guessed of a group of statements, and how it is written in the dialect language."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from msgspec import Struct, field

from aiguille.readers.mapped.starting.content import (
    Field,
    Group,
    split_sign,
)

_PLAIN = re.compile(r"[A-Za-z][\w/-]*( [\w/-]+)*")
_YAML_WORDS = frozenset({"on", "off", "yes", "no", "true", "false", "null", "y", "n"})


class Mapped(Struct, dict=True):
    """A group and what its fields are taken for: key of the language to place with options, as YAML writes them."""

    group: Group
    keys: dict[str, str] = field(default_factory=dict)
    qualifiers: list[tuple[str, str]] = field(default_factory=list)


def quote(text: str) -> str:
    """Text as YAML takes it."""
    if _PLAIN.fullmatch(text) and text.lower() not in _YAML_WORDS:
        return text
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def place(
    one: Field, test: Callable[[str], bool] | None, paths: Sequence[str] = (), extra: str = "", also_any: str = ""
) -> str:
    """A place with the options its words ask for."""
    free = (*one.any, also_any) if also_any else one.any
    sign = split_sign(one.decisive, test) if test is not None else ""
    options = []
    if sign:
        options.append(f'split: "{sign}"')
    if free:
        options.append(f"any: [{', '.join(quote(word) for word in free)}]")
    if any(value.startswith(("~", "!")) for value in one.values):
        options.append(f'negated-by: "{next(v[0] for v in one.values if v[0] in "~!")}"')
    if one.negated_by:
        options.append(f"negated-by: {quote(one.negated_by)}")
    if extra:
        options.append(extra)
    several = f"all-of: [{', '.join(quote(path) for path in paths)}]"
    described = several if len(paths) > 1 else f"from: {quote(one.path)}"
    return f"{{{', '.join([described, *options])}}}" if options or len(paths) > 1 else quote(one.path)


def with_exception(described: str, path: str) -> str:
    """A place, with the place of what is taken out again."""
    if described.startswith("{"):
        return f"{described[:-1]}, except: {quote(path)}}}"
    return f"{{from: {described}, except: {quote(path)}}}"

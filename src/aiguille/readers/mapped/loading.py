"""Dialect files read, checked and explained: every fault with its line and, where there is one, the right word."""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable, Iterator
from functools import cache
from importlib import resources
from typing import Any

import yaml
from msgspec import Struct

from aiguille.model import Action, Side, State, UsageError
from aiguille.model.patterns import pattern
from aiguille.readers import yamlfile
from aiguille.readers.keys import schema_of
from aiguille.readers.mapped import spec
from aiguille.readers.mapped.paths import read_path
from aiguille.readers.mapped.spec import Dialect, RulebaseMap, Value, field_kinds, fields_of
from aiguille.readers.yamlfile import descend, line_of


def load(name: str, text: str) -> Dialect:
    """Read a dialect file; raises UsageError with file, line and the nearest valid word."""
    file = yamlfile.load(name, text, "a dialect file", "dialect: my-make")
    dialect = yamlfile.convert(file, Dialect, _known_keys(), "the dialect language")
    for node, why in _faults(dialect, dialect, file.root):
        raise UsageError(f"{name}:{line_of(node)}: {why}")
    return dialect


@cache
def shipped() -> tuple[Dialect, ...]:
    """The dialects that come with the package, by name."""
    return tuple(load(name, text) for name, text in shipped_files())


@cache
def shipped_files() -> tuple[tuple[str, str], ...]:
    """Name and text of the dialect files that come with the package."""
    folder = resources.files("aiguille.dialects")
    files = sorted((f for f in folder.iterdir() if f.name.endswith(".dialect.yaml")), key=lambda f: f.name)
    return tuple((f.name, f.read_text(encoding="utf-8")) for f in files)


def _faults(given: Struct, dialect: Dialect, node: yaml.Node | None) -> Iterator[tuple[yaml.Node | None, str]]:
    """What is wrong beyond keys and types, with the place: paths, patterns, word tables, rule bases."""
    kinds = field_kinds(type(given))
    for one in fields_of(type(given)):
        value = getattr(given, one.name)
        below = descend(node, [(one.encode_name, "")])
        for index, part in enumerate(value if isinstance(value, tuple) else (value,)):
            at = descend(below, [("", str(index))]) if isinstance(value, tuple) else below
            if isinstance(part, Struct):
                yield from _faults(part, dialect, at)
                if isinstance(part, Value) and one.encode_name in _TYPES:
                    yield from _type_faults(part, one.encode_name, dialect, at)
            elif isinstance(part, str) and part and kinds.get(one.name):
                try:
                    read_path(part)
                except UsageError as error:
                    yield at, error.message
            elif isinstance(part, str) and part and one.encode_name in ("pattern", "first-lines"):
                yield from _pattern_faults(part, one.encode_name, at)
    if isinstance(given, Value):
        yield from _value_faults(given, dialect, node)
    if isinstance(given, RulebaseMap):
        yield from _rulebase_faults(given, node)
    if isinstance(given, spec.TextStructure):
        yield from _sentence_faults(given, node)
    if isinstance(given, spec.Recognise) and not (given.first_lines or given.columns):
        yield node, "'recognise' needs 'first-lines' or 'columns'; without them no export is taken for this make"


def _pattern_faults(text: str, key: str, node: yaml.Node | None) -> Iterator[tuple[yaml.Node | None, str]]:
    try:
        groups = pattern(text).groups
    except UsageError as error:
        yield node, str(error)
        return
    if key == "pattern" and groups != 1:
        yield node, f"'{text}' has {groups} groups; one is needed, around the part that is wanted"


def _sentence_faults(structure: spec.TextStructure, node: yaml.Node | None) -> Iterator[tuple[yaml.Node | None, str]]:
    """What makes sentences ambiguous, or lets a keyword match nothing."""
    begun: set[str] = set()
    for sentence in structure.sentences:
        firsts = set(sentence.of or ("",))
        if begun & firsts:
            yield node, f"two sentences are for statements that begin with '{min(begun & firsts)}'"
        begun |= firsts
        if not (sentence.keywords or sentence.fillers):
            yield node, "a sentence needs 'keywords' or 'fillers'; without them no word of it is sorted"
        said: dict[str, str] = {}
        for name, keyword in sentence.keywords.items():
            for one in keyword.said or (name,):
                spelled = " ".join(one.split())
                if not spelled:
                    yield node, f"keyword '{name}' is said by nothing; give the word that is written"
                elif spelled in sentence.fillers:
                    yield node, f"'{spelled}' is a filler and keyword '{name}' at once"
                elif said.setdefault(spelled, name) != name:
                    yield node, f"'{spelled}' is keyword '{said[spelled]}' and keyword '{name}' at once"


def _value_faults(value: Value, dialect: Dialect, node: yaml.Node | None) -> Iterator[tuple[yaml.Node | None, str]]:
    given = [value.source is not None, value.constant is not None, bool(value.join), bool(value.all_of)]
    if sum(given) != 1:
        yield node, "a value needs exactly one of 'from', 'all-of', 'is' and 'join'"
    marks = (value.negated_by,) if isinstance(value.negated_by, str) else value.negated_by or ()
    if value.negated_each and (value.negated_if is not None or not any(not mark[-1:].isalnum() for mark in marks)):
        yield node, "'negated-each' needs 'negated-by' with a sign, and no 'negated-if'"
    if value.words is not None and value.words not in dialect.words:
        near = difflib.get_close_matches(value.words, dialect.words, n=1)
        yield node, f"there is no word table '{value.words}'" + (f"; did you mean '{near[0]}'?" if near else "")


_FLAG = ("true or false", lambda value: isinstance(value, bool))
_NUMBER = ("a number", lambda value: isinstance(value, int | float) and not isinstance(value, bool))
_TIME = ("a number or a time such as 15m", lambda value: _NUMBER[1](value) or bool(re.match(r"[0-9]", str(value))))
_TYPES: dict[str, tuple[str, Callable[[Any], bool]]] = {
    **dict.fromkeys(
        ("enabled", "logged", "second-factor", "redirects", "strong-ciphers", "recovery-account", "link-layer",
         "discovery", "loads-rules", "flood-protection", "updates-itself", "allows", "inward", "outward", "before-rules"),
        _FLAG,
    ),
    **dict.fromkeys(("lockout-attempts", "password-length", "password-classes", "hits", "order"), _NUMBER),
    **dict.fromkeys(("lockout-seconds", "idle-minutes", "device-days", "collector-days"), _TIME),
    "action": (", ".join(Action), lambda value: value in tuple(Action)),
    "side": (", ".join(Side), lambda value: value in tuple(Side)),
    "states": (", ".join(State), lambda value: value in tuple(State)),
}  # fmt: skip
"""What constants, defaults and words of ours must be in fields that are not plain text."""


def _type_faults(
    value: Value, key: str, dialect: Dialect, node: yaml.Node | None
) -> Iterator[tuple[yaml.Node | None, str]]:
    wanted, fits = _TYPES[key]
    constants = value.constant if isinstance(value.constant, tuple) else (value.constant,)
    given = [one for one in (*constants, value.missing) if one is not None]
    for one in given:
        if not fits(one):
            yield node, f"'{key}' is {wanted}, not '{one}'"
    for word, one in dialect.words.get(value.words or "", {}).items():
        if not fits(one):
            yield node, f"'{key}' is {wanted}; word table '{value.words}' makes '{one}' of '{word}'"


def _rulebase_faults(m: RulebaseMap, node: yaml.Node | None) -> Iterator[tuple[yaml.Node | None, str]]:
    if (m.at is None) is not (m.rule is None):
        yield node, f"rule base '{m.name}' needs both 'at' and 'rule', or 'lists'"
    elif not m.all_lists():
        yield node, f"rule base '{m.name}' has no rules: give 'at' and 'rule', or 'lists'"
    if bool(m.chains) is (m.direction is not None):
        yield node, f"rule base '{m.name}' needs either 'direction' or 'chains'"
    if m.chains and any(one.rule.chain is None for one in m.all_lists()):
        yield node, f"rule base '{m.name}' has chains, so each of its rules must say which: give 'chain' in 'rule'"
    translates = m.direction in ("destination-translation", "source-translation")
    if m.direction is not None and not translates and m.unmatched is None:
        yield node, f"rule base '{m.name}' needs 'unmatched': what happens to packets no rule matches"
    for one in m.all_lists():
        if one.rule.action is None and not translates:
            yield node, f"rule base '{m.name}': a rule needs 'action'"


@cache
def _known_keys() -> tuple[str, ...]:
    return tuple(sorted({f.encode_name for s in tables() for f in fields_of(s)}))


@cache
def tables() -> tuple[type[Struct], ...]:
    """All tables of the language, in the order of the module that defines them."""
    found = [s for s in vars(spec).values() if isinstance(s, type) and issubclass(s, spec.DialectEntry)]
    return tuple(s for s in found if s is not spec.DialectEntry)


def schema() -> dict[str, Any]:
    """The JSON Schema of dialect files, for editors (JSON Schema 2020-12)."""
    return schema_of(Dialect, tables(), "Aiguille dialect file")

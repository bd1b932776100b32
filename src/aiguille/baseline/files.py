"""Baselines as files of YAML: read, checked against the catalogue, every fault with its line."""

from __future__ import annotations

import difflib
import hashlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Any

import msgspec

from aiguille.baseline.catalogue import Area, Check, Severity
from aiguille.baseline.own import as_check
from aiguille.baseline.spec import TABLES, BaselineFile, Devices, OwnCheck, RuleTest
from aiguille.baseline.tailoring import STANDARD, STANDARD_LAYER, Baseline, Layer
from aiguille.baseline.values import WrongValueError, check_network, check_service, read_value
from aiguille.model import UsageError
from aiguille.model.patterns import pattern
from aiguille.readers import yamlfile
from aiguille.readers.whole import whole, whole_text
from aiguille.readers.yamlfile import YamlFile


def read_baseline(name: str, catalogue: Sequence[Check]) -> Baseline:
    """`load` for baselines that are files, shipped ones or others."""
    layers: list[Layer] = []
    known = list(catalogue)
    for file, raw, text in _chain(name, ()):
        if raw.extends == STANDARD:
            layers.append(STANDARD_LAYER)
        own = _own_checks(file, raw, known)
        known += own
        content = text.encode() if file.name in shipped_files() else whole(file.name, "the baseline")
        digest = hashlib.sha256(content).hexdigest()
        layers.append(msgspec.structs.replace(_layer(file, raw, own, known), sha256=digest))
    order = {area: number for number, area in enumerate(Area)}
    return Baseline(tuple(layers), tuple(sorted(known, key=lambda one: order[one.area])))


@cache
def shipped_files() -> dict[str, str]:
    """Name and text of the baselines that come with the package as files."""
    folder = resources.files("aiguille.baseline") / "shipped"
    files = (f for f in folder.iterdir() if f.name.endswith(".yaml"))
    return {f.name.removesuffix(".yaml"): f.read_text(encoding="utf-8") for f in files}


def shipped() -> tuple[str, ...]:
    """Names of the baselines that come with the package."""
    return tuple(sorted([STANDARD, *shipped_files()]))


def _chain(name: str, path: tuple[str, ...]) -> Iterator[tuple[YamlFile, BaselineFile, str]]:
    """The files of a baseline, that which is built on first."""
    key, text = _text(name, path)
    file = yamlfile.load(key, text, "a baseline file", "baseline: our-own")
    raw = yamlfile.convert(file, BaselineFile, known_keys(), "a baseline file")
    if raw.extends and raw.extends != STANDARD:
        base = raw.extends
        if base not in shipped():
            base = str(Path(key).parent / base) if base.endswith((".yaml", ".yml")) else base
        resolved = str(Path(base).resolve()) if base not in shipped() else base
        seen = (*path, str(Path(key).resolve()) if key not in shipped() else key)
        if resolved in seen:
            way = " > ".join(Path(one).name for one in (*seen, resolved))
            raise file.fault(f"'extends' goes round in a circle: {way}", "extends")
        try:
            yield from _chain(base, seen)
        except UsageError as error:
            if error.message.startswith("there is no baseline"):
                raise file.fault(error.message, "extends") from error
            raise
    yield file, raw, text


def _text(name: str, path: tuple[str, ...]) -> tuple[str, str]:
    known = shipped_files()
    if name in known:
        return name, known[name]
    if not name.endswith((".yaml", ".yml")):
        near = difflib.get_close_matches(name, shipped(), n=1)
        hint = f"did you mean '{near[0]}'?" if near else f"there are {', '.join(shipped())}, or name a .yaml file"
        raise UsageError(f"there is no baseline '{name}'; {hint}")
    return name, whole_text(name, "the baseline")


def _own_checks(file: YamlFile, raw: BaselineFile, known: Sequence[Check]) -> tuple[Check, ...]:
    taken = {one.id for one in known}
    for number, own in enumerate(raw.own_checks):
        area, _, slug = own.id.partition(".")
        if area not in tuple(Area) or not slug or not slug.replace("-", "").isalnum():
            raise file.fault(
                f"'{own.id}' is no id such as rules.no-telnet; areas are {', '.join(Area)}", "own-checks", number, "id"
            )
        if own.id in taken:
            raise file.fault(f"there is a check '{own.id}' already; choose another id", "own-checks", number, "id")
        taken.add(own.id)
        _own_faults(file, own, number)
    return tuple(map(as_check, raw.own_checks))


def _own_faults(file: YamlFile, own: OwnCheck, number: int) -> None:
    for key, test in (("rules", own.rules), ("unless", own.unless)):
        if test is None:
            continue
        if test == RuleTest():
            raise file.fault(
                f"'{key}' of '{own.id}' is true of every accepting rule; say which are meant", "own-checks", number, key
            )
        for name, texts, check in (
            ("service", test.service, check_service),
            ("source", (*test.source.within, *test.source.covers) if test.source else (), check_network),
            (
                "destination",
                (*test.destination.within, *test.destination.covers) if test.destination else (),
                check_network,
            ),
        ):
            for text in texts:
                try:
                    check(name, text)
                except WrongValueError as error:
                    raise file.fault(str(error), "own-checks", number, key, name) from error
        for name, said in (("comment-matches", test.comment_matches), ("comment-lacks", test.comment_lacks)):
            try:
                pattern(said or "")
            except UsageError as error:
                raise file.fault(str(error), "own-checks", number, key, name) from error


def _layer(file: YamlFile, raw: BaselineFile, own: tuple[Check, ...], known: Sequence[Check]) -> Layer:
    by_id = {one.id: one for one in known}
    for number, word in enumerate(raw.checks or ()):
        _choice(file, word, by_id, "checks", number)
    for number, word in enumerate(raw.omit):
        _choice(file, word, by_id, "omit", number)
    settings = _settings(file, raw.settings, by_id, ("settings",))
    scopes = []
    for number, scope in enumerate(raw.scopes):
        for at, word in enumerate(scope.omit):
            _choice(file, word, by_id, "scopes", number, "omit", at)
        if scope.devices == Devices():
            raise file.fault(
                "a scope without names, tags, dialects or sides is about every device; use the top of the file",
                "scopes",
                number,
            )
        scopes.append(
            msgspec.structs.replace(
                scope, settings=_settings(file, scope.settings, by_id, ("scopes", number, "settings"))
            )
        )
    return Layer(raw.baseline, raw.about, raw.checks, raw.omit, settings, tuple(scopes), own, file.name)


def _choice(file: YamlFile, word: str, by_id: Mapping[str, Check], *path: str | int) -> None:
    if word not in by_id and word not in tuple(Area):
        raise file.fault(unknown_check(word, by_id), *path)


def unknown_check(word: str, known: Iterable[str]) -> str:
    """The sentence about a check that does not exist, with the one most like it."""
    near = difflib.get_close_matches(word, [*known, *Area], n=1)
    hint = f"; did you mean '{near[0]}'?" if near else "; `aiguille baseline list` names them all"
    return f"there is no check '{word}'{hint}"


def _settings(
    file: YamlFile, given: Mapping[str, Mapping[str, Any]], by_id: Mapping[str, Check], path: tuple[str | int, ...]
) -> dict[str, dict[str, Any]]:
    out: dict[str, dict[str, Any]] = {}
    for check, values in given.items():
        one = by_id.get(check)
        if one is None:
            raise file.fault(unknown_check(check, by_id), *path, check, key=True)
        params = {param.name: param for param in one.params}
        out[check] = {}
        for name, value in values.items():
            if name == "severity":
                if value not in tuple(Severity):
                    raise file.fault(f"'{value}' is no severity; known are {', '.join(Severity)}", *path, check, name)
                out[check][name] = value
                continue
            if name not in params:
                near = difflib.get_close_matches(name, [*params, "severity"], n=1)
                hint = f"did you mean '{near[0]}'?" if near else f"it has {', '.join([*params, 'severity'])}"
                raise file.fault(f"'{check}' has no parameter '{name}'; {hint}", *path, check, name, key=True)
            try:
                out[check][name] = read_value(params[name], value)
            except WrongValueError as error:
                raise file.fault(f"{check}: {error}", *path, check, name) from error
    return out


@cache
def known_keys() -> tuple[str, ...]:
    """Every key of baseline files and files of accepted risks."""
    return tuple(sorted({f.encode_name for table in TABLES for f in msgspec.structs.fields(table)}))

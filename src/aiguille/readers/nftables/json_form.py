"""The JSON form of a rule set, `nft -j list ruleset` (libnftables-json(5)), taken apart into objects with their places."""

from __future__ import annotations

import json
import re
from bisect import bisect_right
from collections.abc import Iterator
from typing import Any

from aiguille.model import NotUnderstoodError, Span, UnreadableError
from aiguille.readers.files import ExportFile, json_text
from aiguille.readers.nftables.text_rule import RuleText

_HEAD = re.compile(r'\s*\{\s*"nftables"\s*:\s*\[\s*')
_BETWEEN = re.compile(r"\s*(,|\])\s*")

_INDENT = 200
"""More blanks than this before or after an object no program writes."""

Item = tuple[str, Any, Span]
"""What kind of object it is, its body, and where it stands."""


def recognise(file: ExportFile) -> str | None:
    """Why a file looks like the JSON of nft; None if it does not."""
    head = "\n".join(file.lines[:4])
    return "it is a JSON object with the key 'nftables'" if _HEAD.match(head) else None


class Places:
    """Spans of stretches of a text by their offsets: lines from 1, columns from 0."""

    def __init__(self, file: ExportFile) -> None:
        self._path = file.path
        self._lines = file.lines
        self._starts: list[int] = []
        at = 0
        for line in file.lines:
            self._starts.append(at)
            at += len(line) + 1

    def span(self, start: int, stop: int) -> Span:
        first = bisect_right(self._starts, start) - 1
        last = bisect_right(self._starts, stop - 1, lo=first) - 1
        left, right = start - self._starts[first], stop - self._starts[last]
        # A line can hold the whole rule set: only what could be blank is looked at.
        before = left > _INDENT or self._lines[first][:left].strip()
        after = len(self._lines[last]) - right > _INDENT or self._lines[last][right:].strip(" ,")
        if not before and not after:
            return Span(self._path, first + 1, last + 1)  # it has its lines to itself
        return Span(self._path, first + 1, last + 1, left, right)


def items(file: ExportFile) -> Iterator[Item]:
    """The objects of a rule set in order; raises UnreadableError with line and column where the JSON breaks off."""
    text = json_text(file)
    places = Places(file)
    decode = json.JSONDecoder(object_pairs_hook=_once, parse_int=_integer).raw_decode
    head = _HEAD.match(text)
    if head is None:
        raise UnreadableError(f"{file.path}:1: this is not the JSON of `nft -j list ruleset`; save it again")
    at = head.end()
    if text[at : at + 1] == "]":
        return
    while True:
        try:
            found, stop = decode(text, at)
        except _TwiceError as error:
            why = f"an object from here on has the key '{error}' twice, so that one of its values is lost"
            raise UnreadableError(f"{places.span(at, at + 1)}: {why}; save the rule set again") from error
        except (json.JSONDecodeError, RecursionError) as error:
            where = getattr(error, "pos", at)
            open_string = "Unterminated" in str(error)
            raise _broken(file, places, len(text) if open_string else where) from error
        if not isinstance(found, dict) or len(found) != 1:
            raise UnreadableError(f"{places.span(at, stop)}: an object with one key, such as 'rule', was expected here")
        ((kind, body),) = found.items()
        if kind == "rule" and isinstance(body, dict) and isinstance(body.get("expr"), list):
            body["expr"] = [_as_data(one) for one in body["expr"]]
        yield kind, body, places.span(at, stop)
        between = _BETWEEN.match(text, stop)
        if between is None:
            raise _broken(file, places, stop)
        at = between.end()
        if between[1] == "]":
            if text[at:].strip() != "}":
                raise _broken(file, places, at)
            return


def _as_data(statement: Any) -> Any:
    """A statement that nft writes as text inside its JSON, such as those that add to maps, as data."""
    if not isinstance(statement, str):
        return statement
    try:
        (one,) = RuleText(statement.split()).rule()
    except (NotUnderstoodError, ValueError):
        return statement
    return one


def _integer(digits: str) -> int:
    """A number of JSON; one that is too long for any field is larger than all of them."""
    return int(digits) if len(digits) <= _LONGEST else (-1 if digits[0] == "-" else 1) << 128


_LONGEST = 40


class _TwiceError(Exception):
    """A key stands twice in one object; RFC 8259, 4, leaves open what that means."""


def _once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found = dict(pairs)
    if len(found) != len(pairs):
        raise _TwiceError(next(key for at, (key, _) in enumerate(pairs) if key in dict(pairs[:at])))
    return found


def _broken(file: ExportFile, places: Places, at: int) -> UnreadableError:
    size = sum(len(line) + 1 for line in file.lines)
    where = places.span(min(at, max(size - 2, 0)), min(at, max(size - 2, 0)) + 1)
    if at >= size - 2:
        return UnreadableError(
            f"{where}: the JSON breaks off here; save the rule set again, since missing rules would make every answer wrong"
        )
    return UnreadableError(
        f"{where}: this is not valid JSON from here on; save the rule set again, with `nft -j list ruleset`"
    )

"""Where rsyslog puts what the packet filter records, and whom it sends it to (rsyslog.conf(5), RainerScript).

The records come from the kernel: facility kern, program "kernel", the rule's prefix and then what is known of the packet
(``IN=eth0 OUT= SRC=...``). A record is followed through the statements in their order; a condition that is not known here leaves open
whether it holds.
"""

from __future__ import annotations

import posixpath
import re
from bisect import bisect_right
from collections.abc import Iterable, Iterator, Sequence
from fnmatch import fnmatchcase

from msgspec import Struct

from aiguille.model import Span
from aiguille.readers.bundle import Bundle
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.literals import is_whole

_LEVELS = ("emerg", "alert", "crit", "err", "warning", "notice", "info", "debug")
_SAME_LEVEL = {"panic": "emerg", "error": "err", "warn": "warning"}
_USED = (4, 6)
"""Levels at which rules record: warning where they do not say (iptables-extensions(8), nft(8)), info as Shorewall has it."""
_OBJECT = re.compile(
    r"(module|input|action|template|include|ruleset|global|main_queue|parser|timezone|lookup_table)\s*\("
)
_WORD = re.compile(r"(if|then|else|stop|call|set|unset|reset|continue|foreach)\b")
_THEN = re.compile(r"\bthen\b")
_FIELD = re.compile(r'([\w.]+)\s*=\s*"((?:[^"\\]|\\.)*)"')
_PROPERTY = re.compile(r':\s*([\w!-]+)\s*,\s*(!?)\s*(\w+)\s*,\s*"((?:[^"\\]|\\.)*)"\s*(.*)', re.DOTALL)
_COMPARES = re.compile(
    r"\$(!?[\w!-]+)\s*(==|!=|<=|>=|<>|<|>|contains_i|contains|startswith_i|startswith)\s*"
    r"""(?:'([^']*)'|"([^"]*)"|(\d+))"""
)
_REMOTE = re.compile(r"(@@?)(?:\([^)]*\))?\[?([^\s\];:]+(?::[0-9a-fA-F:]*[^\s\];])?)\]?")
_PACKET = "IN=eth0 OUT=eth1 MAC=02:00:5e:00:53:01 SRC=192.0.2.7 DST=192.0.2.1 LEN=60 TOS=0x00 TTL=64 ID=1 PROTO=TCP SPT=40000 DPT=22 "
_OF_SOME = re.compile(r"(?:IN|OUT|MAC|SRC|DST|LEN|TOS|TTL|ID|PROTO|SPT|DPT|MARK)=.")
"""A field of a packet with its value, as the kernel writes it."""
_DEEP = 12
_STEPS = 20_000
_INCLUDES = 200
_LONG = 4_000
"""Letters beyond which an expression is not looked at."""


class Way(Struct):
    """What becomes of the records of one prefix.

    files: paths they are written to, and whether they certainly are
    collectors: hosts they are sent to, likewise
    """

    files: dict[str, bool]
    collectors: dict[str, bool]


class Ways(Struct, frozen=True):
    """What becomes of records.

    each: their ways, prefix by prefix
    hosts: whom anything at all is sent to, and where that stands
    where: where the statements begin
    """

    each: tuple[Way, ...]
    hosts: dict[str, Span]
    where: Span


class _Statement(Struct, frozen=True):
    """kind: "action" (`text` is what to do), "stop", "call" (`text` is whom) or "block" (`inner` where `condition` holds).

    condition: as written, with ``:`` a property filter, with ``if`` an expression, else a selector; empty where there is none
    """

    kind: str
    condition: str
    text: str
    where: Span
    inner: tuple[_Statement, ...] = ()
    otherwise: tuple[_Statement, ...] = ()


def ways(bundle: Bundle, ledger: LedgerBuilder, prefixes: Iterable[str]) -> Ways | None:
    """What becomes of what is recorded with each of some prefixes; None where no file of rsyslog is there."""
    main = bundle.get("etc/rsyslog.conf")
    files = [main] if main is not None else list(bundle.under("etc/rsyslog.d/", ".conf"))
    if not files:
        return None
    rulesets: dict[str, tuple[_Statement, ...]] = {}
    statements: list[_Statement] = []
    included = [_INCLUDES]
    for file in files:
        statements += _Parser(file, ledger, bundle, rulesets, included).all()
    each = []
    for prefix in dict.fromkeys(prefixes) or [""]:
        record = _Record(f"{prefix}{_PACKET}", rulesets)
        record.follow(statements, True)
        each.append(record.way)
    everything = [*statements, *(one for inner in rulesets.values() for one in inner)]
    hosts: dict[str, Span] = {}
    for one in everything:
        kind, target = _action(one.text) if one.kind == "action" else ("", "")
        if kind == "host" and target:
            hosts.setdefault(target, one.where)
        everything += (*one.inner, *one.otherwise)
    return Ways(tuple(each), hosts, files[0].span(1))


class _Record:
    """A record on its way. After so many steps what becomes of it is open."""

    def __init__(self, text: str, rulesets: dict[str, tuple[_Statement, ...]]) -> None:
        self.text, self.rulesets, self.way, self.steps = text, rulesets, Way({}, {}), _STEPS

    def follow(self, statements: Sequence[_Statement], sure: bool, depth: int = 0) -> bool | None:
        """Take it through statements; whether it comes out at the end, None where that is open."""
        comes: bool | None = True
        for one in statements:
            self.steps -= 1
            holds = _holds(one.condition, self.text) if self.steps > 0 and depth < _DEEP else None
            if self.steps < -_STEPS:
                return None
            certain = sure and comes is True
            if one.kind == "stop":
                goes: bool | None = False
            elif one.kind == "action":
                goes = True
                if holds is not False:
                    _act(one, certain and holds is True, self.way)
            else:
                goes = self._within(one, holds, certain, depth)
                holds = True if one.otherwise else holds
            if holds is False or goes is True:
                continue
            if goes is False and holds is True:
                return None if comes is None else False
            comes = None
        return comes

    def _within(self, one: _Statement, holds: bool | None, certain: bool, depth: int) -> bool | None:
        """What comes out of a block, or of the rule set that is called."""
        if depth >= _DEEP:
            return None
        inner = self.rulesets.get(one.text, ()) if one.kind == "call" else one.inner
        ends = set()
        if holds is not False:
            ends.add(self.follow(inner, certain and holds is True, depth + 1))
        if holds is not True and one.otherwise:
            ends.add(self.follow(one.otherwise, certain and holds is False, depth + 1))
        return ends.pop() if len(ends) == 1 else None if ends else True


def _act(one: _Statement, certain: bool, found: Way) -> None:
    kind, target = _action(one.text)
    held = {"file": found.files, "host": found.collectors}.get(kind)
    if held is not None and target:
        held[target] = held.get(target, False) or certain


def _action(text: str) -> tuple[str, str]:
    """What an action does: ("file", path), ("host", name) or ("", "")."""
    if text.startswith("action"):
        fields = {name.lower(): value for name, value in _FIELD.findall(text)}
        kind = fields.get("type", "").lower()
        if kind == "omfile":
            return "file", fields.get("file", "")
        return ("host", fields.get("target", "")) if kind in ("omfwd", "omrelp", "omgssapi") else ("", "")
    plain = text.strip().split(";")[0].strip()
    if plain.startswith(("/", "-/")):
        return "file", plain.lstrip("-")
    if plain.startswith(":omrelp:"):
        return "host", plain.split(":")[2]
    found = _REMOTE.match(plain)
    if found is None:
        return "", ""
    name, _, port = found[2].rpartition(":")
    return "host", name if name and ":" not in name and is_whole(port) else found[2]


def _holds(condition: str, text: str) -> bool | None:
    if not condition:
        return True
    if condition.startswith("if "):
        return _expression(condition[3:], text)
    if condition.startswith(":"):
        return _filter(condition, text)
    return _selected(condition)


def _selected(selector: str) -> bool | None:
    """Whether a selector takes what the kernel records; the last part that names its facility counts."""
    out: bool | None = False
    for part in selector.split(";"):
        facilities, _, level = part.rpartition(".")
        if not {"*", "kern"} & set(facilities.split(",")):
            continue
        if level == "none":
            out = False
            continue
        negated, exact = level.startswith("!"), "=" in level[:2]
        name = level.lstrip("!=")
        if name == "*":
            out = not negated
            continue
        name = _SAME_LEVEL.get(name, name)
        if name not in _LEVELS:
            return None
        at = _LEVELS.index(name)
        taken = {number == at if exact else number <= at for number in _USED}
        if negated:
            out = False if taken == {True} else out if taken == {False} else None
        elif taken != {False}:
            out = True if taken == {True} else out or None
    return out


def _filter(condition: str, text: str) -> bool | None:
    found = _PROPERTY.match(condition)
    if found is None:
        return None
    name, negated, how, value = found[1].lower(), found[2], found[3].lower(), found[4].replace('\\"', '"')
    holds = _compared(name, {"isequal": "==", "ereregex": "regex"}.get(how, how), value, text)
    return holds if holds is None or not negated else not holds


def _expression(condition: str, text: str, depth: int = 0) -> bool | None:
    """An expression of comparisons joined by ``and`` or by ``or``; anything beyond that is open."""
    plain = condition.strip()
    if len(plain) > _LONG or depth > _DEEP:
        return None
    while plain.startswith("(") and plain.endswith(")") and _balanced(plain[1:-1]):
        plain = plain[1:-1].strip()
    for joint, ends in (("or", True), ("and", False)):
        parts = _split(plain, joint)
        if len(parts) > 1:
            found = [_expression(part, text, depth + 1) for part in parts]
            return ends if ends in found else None if None in found else not ends
    if plain.startswith("not "):
        held = _expression(plain[4:], text, depth + 1)
        return None if held is None else not held
    matched = _COMPARES.fullmatch(plain)
    if matched is None:
        return None
    value = next(one for one in (matched[3], matched[4], matched[5]) if one is not None)
    return _compared(matched[1].lower(), matched[2].lower(), value, text)


def _split(text: str, joint: str) -> list[str]:
    """Text at a word that stands in no brackets and no quotes."""
    parts, depth, quote, begin, at = [], 0, "", 0, 0
    word = re.compile(rf"\b{joint}\b")
    while at < len(text):
        letter = text[at]
        if quote:
            quote = "" if letter == quote else quote
        elif letter in "'\"":
            quote = letter
        elif letter in "()":
            depth += 1 if letter == "(" else -1
        elif depth == 0 and (found := word.match(text, at)) and (at == 0 or not text[at - 1].isalnum()):
            parts.append(text[begin:at])
            begin = at = found.end()
            continue
        at += 1
    return [*parts, text[begin:]]


def _balanced(text: str) -> bool:
    depth = 0
    for letter in text:
        depth += (letter == "(") - (letter == ")")
        if depth < 0:
            return False
    return depth == 0


def _compared(name: str, how: str, value: str, text: str) -> bool | None:
    """A property of a record of the packet filter against a value, None where that is open."""
    if name in ("msg", "rawmsg"):
        if _OF_SOME.search(value):
            return None  # records of some packets only
        if how.startswith("contains"):
            return value.lower() in text.lower() if how.endswith("_i") else value in text
        if how.startswith("startswith"):
            # A blank, or the time since the start, may stand before the prefix.
            said = value.strip()
            return None if not said or said[0] == "[" or text.startswith(said) else False
        return None
    known = {"programname": "kernel", "syslogtag": "kernel:", "app-name": "kernel", "syslogfacility-text": "kern",
             "syslogfacility": "0", "inputname": "imklog"}.get(name)  # fmt: skip
    if name in ("syslogseverity", "syslogpriority") and is_whole(value):
        number = int(value)
        holds = {{"==": at == number, "!=": at != number, "<>": at != number, "<=": at <= number, ">=": at >= number,
                  "<": at < number, ">": at > number}.get(how) for at in _USED}  # fmt: skip
        return holds.pop() if len(holds) == 1 else None
    if known is None or (name == "inputname" and how != "=="):
        return None
    if how in ("==", "!=", "<>"):
        return (known == value) is (how == "==")
    if how.startswith(("contains", "startswith")):
        return value in known if how.startswith("contains") else known.startswith(value)
    return None


class _Parser:
    """A file into statements; what it includes stands where it is included."""

    def __init__(
        self,
        file: ExportFile,
        ledger: LedgerBuilder,
        bundle: Bundle,
        rulesets: dict[str, tuple[_Statement, ...]],
        included: list[int],
        within: tuple[ExportFile, ...] = (),
    ) -> None:
        """included: how many files may still be included, however they do; within: those that led here"""
        self._within = (*within, file)
        self._file, self._ledger, self._bundle, self._rulesets, self._left = (
            file,
            ledger,
            bundle,
            rulesets,
            included,
        )
        self._text = "\n".join(file.lines)
        self._begins = [0, *(at + 1 for at, letter in enumerate(self._text) if letter == "\n")]
        self._at = self._depth = 0
        self._last = ""

    def all(self) -> list[_Statement]:
        for number, line in enumerate(self._file.lines, 1):
            if line.strip():
                comment = line.lstrip().startswith("#")
                self._ledger.set_aside(
                    self._file.span(number), "comment" if comment else "no check needs this setting of rsyslog"
                )
        out: list[_Statement] = []
        while self._at < len(self._text):
            out += self._block()
            self._at += 1  # a bracket too many
        return out

    def _block(self) -> list[_Statement]:
        out: list[_Statement] = []
        while self._skip() and self._text[self._at] != "}":
            out += self._statement()
        return out

    def _skip(self) -> bool:
        """Pass blanks and comments; whether anything is left."""
        while self._at < len(self._text):
            letter = self._text[self._at]
            if letter in " \t\r\n;":
                self._at += 1
            elif letter == "#":
                self._to("\n")
            elif self._text.startswith("/*", self._at):
                self._to("*/")
            else:
                return True
        return False

    def _to(self, mark: str) -> str:
        """What stands before a mark, or before the end, the mark passed as well."""
        found = self._text.find(mark, self._at)
        end = found if found >= 0 else len(self._text)
        text = self._text[self._at : end]
        self._at = min(end + len(mark), len(self._text))
        return text

    def _line(self) -> str:
        """The rest of a line; a backslash at its end continues it."""
        out = self._to("\n")
        while out.endswith("\\") and self._at < len(self._text):
            out = out[:-1] + " " + self._to("\n").strip()
        return out.strip()

    def _enclosed(self) -> str:
        """From here to the bracket that closes the next one."""
        begin, depth, quote = self._at, 0, ""
        while self._at < len(self._text):
            letter = self._text[self._at]
            self._at += 1
            if quote:
                if letter == "\\":
                    self._at += 1
                elif letter == quote:
                    quote = ""
            elif letter in "'\"":
                quote = letter
            elif letter == "(":
                depth += 1
            elif letter == ")":
                depth -= 1
                if depth <= 0:
                    break
        return self._text[begin : self._at]

    def _here(self, begin: int) -> Span:
        first = bisect_right(self._begins, begin)
        last = bisect_right(self._begins, max(begin, self._at - 1))
        where = self._file.span(first, min(last, len(self._file.lines)))
        self._ledger.read(where)
        return where

    def _statement(self) -> list[_Statement]:
        if self._depth > _DEEP:
            self._line()  # nobody writes that: what stands there is left aside
            return []
        self._depth += 1
        out = list(self._next())
        self._depth -= 1
        return out

    def _next(self) -> Iterator[_Statement]:
        begin = self._at
        if (found := _OBJECT.match(self._text, begin)) is not None:
            yield from self._object(found[1], begin)
            return
        if (word := _WORD.match(self._text, begin)) is not None and word[1] in ("if", "stop", "call"):
            yield from self._script(word[1], begin)
            return
        if self._text[begin] == "{":
            self._at += 1
            yield from self._block()
            self._at += 1
            return
        if word is not None:
            self._to("{" if word[1] == "foreach" else "\n")
            return
        line = self._line()
        if line.startswith("$"):
            if line.lower().startswith("$includeconfig"):
                yield from self._included(line.split(None, 1)[-1])
            return
        if line.startswith("&"):
            condition, action = self._last, line[1:].strip()
        elif (filtered := _PROPERTY.match(line)) is not None:
            condition, action = line, filtered[5].strip()
        else:
            condition, action = (*line.split(None, 1), "")[:2]
        self._last = condition
        if action.startswith(("action(", "action (")) and not _balanced(action):
            self._at = begin + self._text[begin:].index("action")
            action = self._enclosed()
        yield self._done(condition, action, begin)

    def _done(self, condition: str, action: str, begin: int) -> _Statement:
        if action in ("stop", "~"):
            return _Statement("stop", condition, "", self._here(begin))
        return _Statement("action", condition, action, self._here(begin))

    def _object(self, kind: str, begin: int) -> Iterator[_Statement]:
        text = self._enclosed()
        fields = {name.lower(): value for name, value in _FIELD.findall(text)}
        if kind == "action":
            yield _Statement("action", "", text, self._here(begin))
        elif kind == "include":
            yield from self._included(fields.get("file", ""))
        elif kind == "ruleset" and self._skip() and self._text[self._at] == "{":
            self._at += 1
            self._rulesets[fields.get("name", "")] = tuple(self._block())
            self._at += 1

    def _script(self, word: str, begin: int) -> Iterator[_Statement]:
        self._at = begin + len(word)
        if word == "stop":
            yield _Statement("stop", "", "", self._here(begin))
        elif word == "call":
            yield _Statement("call", "", self._line().split("#")[0].strip(), self._here(begin))
        else:
            end = _THEN.search(self._text, self._at)
            condition = " ".join(self._text[self._at : end.start() if end else len(self._text)].split())
            self._at = end.end() if end else len(self._text)
            where = self._here(begin)
            inner = tuple(self._branch())
            otherwise: tuple[_Statement, ...] = ()
            if self._skip() and re.match(r"else\b", self._text[self._at :]):
                self._at += len("else")
                otherwise = tuple(self._branch())
            yield _Statement("block", f"if {condition}", "", where, inner, otherwise)

    def _branch(self) -> list[_Statement]:
        """What follows ``then`` or ``else``: a block, or one statement; ``&`` lines belong to it."""
        if not self._skip():
            return []
        if self._text[self._at] == "{":
            self._at += 1
            out = self._block()
            self._at += 1
            return out
        if _OBJECT.match(self._text, self._at) or _WORD.match(self._text, self._at):
            return self._statement()
        begin = self._at
        out = [self._done("", self._line(), begin)]
        while self._skip() and self._text[self._at] == "&":
            begin, line = self._at, self._line()
            out.append(self._done("", line[1:].strip(), begin))
        return out

    def _included(self, pattern: str) -> Iterator[_Statement]:
        place = posixpath.normpath(pattern.strip().strip("\"'")).lstrip("/")
        for file in self._bundle.under(posixpath.dirname(place) + "/"):
            if fnmatchcase(file.place or "", place) and self._may(file):
                self._left[0] -= 1
                yield from _Parser(file, self._ledger, self._bundle, self._rulesets, self._left, self._within).all()

    def _may(self, file: ExportFile) -> bool:
        """Whether a file may be included here: none that leads to itself, and not without end."""
        return self._left[0] > 0 and len(self._within) < _DEEP and all(file is not one for one in self._within)

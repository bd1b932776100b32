"""The text form of a rule set, `nft list ruleset` (nft(8)), into the objects that the JSON form has.

Files made by hand for `nft -f` are written in the same language; their constants (``define``) are filled in, `flush ruleset`
is what an export implies, and single commands (``add rule ...``) are read as the blocks they stand for.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from msgspec.structs import replace

from aiguille.model import NotUnderstoodError, Span, UnreadableError
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.literals import whole
from aiguille.readers.nftables.json_form import Item
from aiguille.readers.nftables.text_rule import RuleText, value
from aiguille.readers.nftables.text_tokens import Words, split

_TABLE = re.compile(r"\s*(?:add\s+|create\s+)?table\s+(?:(?:ip|ip6|inet|arp|bridge|netdev)\s+)?\S+\s*\{")
_PLAIN_TABLE = re.compile(r"\s*table\s+(?:ip|ip6|inet|arp|bridge|netdev)\s+\S+\s*\{")
_COMMAND = re.compile(
    r"(?:add|create)\s+(?:table|chain|rule|set|map)\s+(?:(?:ip|ip6|inet|arp|bridge|netdev)\s+)?\w|flush\s+ruleset\s*;?$"
)
_BARE_TABLE = re.compile(r"\s*table\s+[\w-]+\s*\{\s*$")
_INSIDE = re.compile(r"\s*(?:chain|set|map)\s+[\w-]+\s*\{")
_FAMILIES = frozenset(["ip", "ip6", "inet", "arp", "bridge", "netdev"])
_PRIORITIES = {"raw": -300, "mangle": -150, "dstnat": -100, "filter": 0, "security": 50, "srcnat": 100, "out": 100}
_OBJECTS = frozenset(["counter", "quota", "limit", "ct", "secmark", "synproxy", "flowtable"])


def recognise(file: ExportFile) -> str | None:
    """Why a file looks like the text of an nft rule set; None if it does not."""
    for number, line in enumerate(file.lines[:200], 1):
        if _PLAIN_TABLE.match(line):
            return f"line {number} opens the nftables table '{' '.join(line.split()[1:3]).rstrip(' {')}'"
        if line.startswith("#!") and "nft" in line:
            return "line 1 says it is a script for nft"
    said = [
        (number, line) for number, line in enumerate(file.lines[:200], 1) if line.strip() and line.strip()[0] != "#"
    ]
    if said and _COMMAND.match(said[0][1].strip()):
        return f"line {said[0][0]} is a command for `nft -f`"
    if len(said) > 1 and _BARE_TABLE.match(said[0][1]) and _INSIDE.match(said[1][1]):
        return f"line {said[0][0]} opens a table of nftables, and the next a part of it"
    return None


def items(file: ExportFile, ledger: LedgerBuilder) -> list[Item]:
    """The objects of a rule set in order.

    Raises UnreadableError where the text breaks off in the middle of a block.
    """
    commands = Commands(file, ledger)
    commands.run(list(enumerate(file.lines, 1)))
    return commands.out


class Commands:
    """What commands given one after the other leave behind.

    each: they are given one by one, so that the others hold where one is none
    out: the objects so far, in order
    """

    def __init__(self, file: ExportFile, ledger: LedgerBuilder, *, each: bool = False) -> None:
        self.file, self.ledger, self.each = file, ledger, each
        self.out: list[Item] = []
        self.constants: dict[str, list[str]] = {}

    def run(self, lines: Sequence[tuple[int, str]], gaps: tuple[str, ...] = ()) -> None:
        """Lines of the language, each with its number in the file; gaps: why they may not be run."""
        found = split([line for _, line in lines], self.file.path)
        text = _Text(self.file, self.ledger, replace(found, lines=[lines[at - 1][0] for at in found.lines]), gaps)
        text.out, text.constants, text.each = self.out, self.constants, self.each
        for line in found.comments:
            self.ledger.set_aside(self.file.span(lines[line - 1][0]), "comment")
        text.read()

    def anything(self, where: Span, why: str) -> None:
        """A command that may do anything: it counts as such a rule where each base chain stands now."""
        self.out += _anything(self.out, where, why)


def _chain_of(item: Item) -> tuple[Any, ...]:
    """Family, table and chain of a rule."""
    return tuple(map(item[1].get, ("family", "table", "chain")))


def _anything(items: Sequence[Item], where: Span, why: str) -> list[Item]:
    """A rule that may do anything for each base chain there is."""
    return [
        (
            "rule",
            {"family": b["family"], "table": b["table"], "chain": b["name"], "expr": [], "gap": why, "open": True},
            where,
        )
        for kind, b, _ in items
        if kind == "chain" and "hook" in b
    ]


class _Text:
    """Reads blocks; the rule language itself is `RuleText`. gaps: why none of it may hold."""

    def __init__(self, file: ExportFile, ledger: LedgerBuilder, found: Words, gaps: tuple[str, ...] = ()) -> None:
        self.file = file
        self.ledger = ledger
        self.words = found.words
        self.lines = found.lines
        self.gaps = gaps
        self.at = 0
        self.out: list[Item] = []
        self.constants: dict[str, list[str]] = {}
        self.each = False

    def read(self) -> list[Item]:
        while self._blank():
            first = self.at
            word = self.words[self.at]
            adds = word in ("add", "create")
            if adds and self.words[self.at + 1 : self.at + 2] != ["\n"]:
                self.at += 1
                word = self.words[self.at]
            match word:
                case "table":
                    self._table()
                case "chain" | "rule" | "set" | "map" | "element" | "insert":
                    self._command(first)
                case "replace" | "rename":
                    self._unfollowed(self._statement_span(), f"what '{word}' changes is not followed")
                case "define":
                    self._define()
                case "flush" | "delete" | "destroy":
                    self._clear()
                case "include":
                    where = self._statement_span()
                    self.ledger.unread(where, "what it includes is not in this file; export with `nft list ruleset`")
                    self.ledger.problem(where, "rules of another file belong here; export with `nft list ruleset`")
                case "}" | ")":
                    raise UnreadableError(
                        f"{self.file.path}:{self._line(first)}: '{word}' closes a block that was never opened; save the rule set again"
                    )
                case _ if adds and word in _OBJECTS:
                    self.ledger.set_aside(self._statement_span(), f"a {word}: no rule")
                case _:
                    where, why = self._statement_span(), "is not a command of nft that describes a rule set"
                    self.ledger.unread(where, why)
                    if adds or self.each:
                        self.ledger.problem(where, f"'{word}' {why}; it counts as a rule that may do anything")
                        self.out += _anything(self.out, where, why)
        return self.out

    # -- words ---------------------------------------------------------------------------------------------------

    def _blank(self) -> bool:
        """Move to the next word; False at the end."""
        while self.at < len(self.words) and self.words[self.at] in ("\n", ";"):
            self.at += 1
        return self.at < len(self.words)

    def _next(self) -> str:
        while self.at < len(self.words) and self.words[self.at] == "\n":
            self.at += 1
        if self.at >= len(self.words):
            raise self._cut_off()
        self.at += 1
        return self.words[self.at - 1]

    def _cut_off(self) -> UnreadableError:
        return UnreadableError(
            f"{self.file.path}:{len(self.file.lines)}: the rule set is cut off: a block opened before is not closed; "
            "save it again, since missing rules would make every answer wrong"
        )

    def _line(self, at: int) -> int:
        return self.lines[min(at, len(self.lines) - 1)]

    def _span(self, start: int) -> Span:
        """The lines of the words from `start` to the one before the present."""
        return Span(self.file.path, self._line(start), self._line(max(start, self.at - 1)))

    def _statement(self) -> list[str]:
        """Words up to the end of the statement: a line end or semicolon outside braces; a closing brace is left there."""
        start, depth = self.at, 0
        words, at, size = self.words, self.at, len(self.words)
        while at < size:
            word = words[at]
            if word == "{" or word == "(":
                depth += 1
            elif word == "}" or (word == ")" and depth):
                if not depth:
                    break
                depth -= 1
            elif not depth and (word == "\n" or word == ";"):
                break
            at += 1
        else:
            if depth:
                raise self._cut_off()
        self.at = at
        out = words[start:at]
        if depth or "\n" in out:
            out = [word for word in out if word != "\n"]
        return self._filled(out) if self.constants else out

    def _statement_span(self) -> Span:
        start = self.at
        self._statement()
        return self._span(start)

    def _filled(self, words: list[str]) -> list[str]:
        """The words with constants put in."""
        out: list[str] = []
        for word in words:
            if word[:1] == "$" and word[1:] in self.constants:
                inner = self.constants[word[1:]]
                # A braced constant inside braces joins its elements to those around it.
                out += inner[1:-1] if inner[:1] == ["{"] and "{" in out and out.count("{") > out.count("}") else inner
            else:
                out.append(word)
        return out

    # -- blocks --------------------------------------------------------------------------------------------------

    def _clear(self) -> None:
        """``flush ruleset``, ``delete table inet filter``, ``flush chain inet filter input``: what stands above goes."""
        start = self.at
        words = self._statement()
        where = self._span(start)
        kind, rest = words[1] if len(words) > 1 else "", words[2:]
        family = rest.pop(0) if rest and rest[0] in _FAMILIES else "ip"
        if self.gaps:
            self._unfollowed(where, f"'{words[0]}' is passed over: {self.gaps[0]}")
            return
        before = list(self.out)
        if kind == "ruleset":
            self.out[:] = [one for one in self.out if rest and one[1].get("family") != rest[0]]
        elif kind == "table" and rest:
            here = (family, rest[0])
            kept = "table" if words[0] == "flush" else ""
            self.out[:] = [
                one
                for one in self.out
                if (one[1].get("family"), one[1].get("name" if one[0] == "table" else "table")) != here
                or one[0] == kept
            ]
        elif kind == "chain" and len(rest) > 1:
            kept = "chain" if words[0] == "flush" else ""
            self.out[:] = [
                o
                for o in self.out
                if (o[1].get("family"), o[1].get("table")) != (family, rest[0])
                or o[1].get("chain" if o[0] == "rule" else "name") != rest[1]
                or o[0] not in ("rule", "chain")
                or o[0] == kept
            ]
        else:
            self._unfollowed(where, f"what '{' '.join(words[:2])}' takes out is not followed")
            return
        for _, _, gone in before:
            self.ledger.read(gone)  # what goes was understood, and says nothing any more
        self.ledger.set_aside(where, "clears what was loaded before")

    def _unfollowed(self, where: Span, why: str) -> None:
        """A command that takes out or puts first what is not followed: a rule that may do anything stands before all others."""
        self.ledger.unread(where, why)
        self.ledger.problem(where, f"{why}; whatever it does to the rules counts as a rule that may do anything")
        first = next((at for at, (kind, *_) in enumerate(self.out) if kind == "rule"), len(self.out))
        self.out[first:first] = _anything(self.out, where, why)

    def _define(self) -> None:
        start = self.at
        words = self._statement()
        if len(words) > 3 and words[2] == "=":
            self.constants[words[1]] = words[3:]
            self.ledger.read(self._span(start))
        else:
            self.ledger.unread(self._span(start), "is not a definition such as 'define LAN = eth1'")

    def _name(self) -> tuple[str, str]:
        """Family and name of a table; the family is ip where none is given (nft(8))."""
        first = self._next()
        if first in _FAMILIES:
            return first, self._next()
        return "ip", first

    def _table(self) -> None:
        start = self.at
        self.at += 1
        family, name = self._name()
        table = {"family": family, "name": name}
        self.ledger.read(self._span(start))
        place = len(self.out)
        where = self._span(start)
        if self.at < len(self.words) and self.words[self.at] == "{":
            self.at += 1
            while (word := self._peek_block()) != "}":
                match word:
                    case "chain":
                        self._chain(family, name)
                    case "set" | "map":
                        self._set(family, name)
                    case "flags" | "comment":
                        begin = self.at
                        said = self._statement()
                        if word == "flags":
                            table["flags"] = ",".join(said[1:])
                        self.ledger.read(self._span(begin))
                    case _ if word in _OBJECTS:
                        self._object(family, name)
                    case _:
                        self.ledger.unread(self._statement_span(), f"'{word}' is not known inside a table")
            self.ledger.read(Span(self.file.path, self._line(self.at), self._line(self.at)))
            self.at += 1
        self.out.insert(place, ("table", table, where))

    def _peek_block(self) -> str:
        if not self._blank():
            raise self._cut_off()
        return self.words[self.at]

    def _open(self) -> tuple[str, int]:
        """The name of a block and where it starts; leaves the place behind its brace."""
        start = self.at
        self.at += 1
        name = self._next()
        if self._next() != "{":
            raise UnreadableError(f"{self._span(start)}: a block in braces was expected here; save the rule set again")
        return name, start

    def _chain(self, family: str, table: str) -> None:
        name, start = self._open()
        chain: dict[str, Any] = {"family": family, "table": table, "name": name}
        where = self._span(start)
        self.ledger.read(where)
        self.out.append(("chain", chain, where))
        while (word := self._peek_block()) != "}":
            begin = self.at
            if word in ("type", "policy", "comment", "flags", "devices", "device") and self._is_property(word):
                words = self._statement()
                span = self._span(begin)
                if word in ("policy", "type") and (len(words) < 2 or words[-1] == "hook"):
                    raise UnreadableError(f"{span}: '{word}' says nothing here; save the rule set again")
                if word == "policy":
                    chain |= {"policy": words[1], "policy_where": span}
                elif word == "type":
                    chain |= _base(words)
                self.ledger.read(span)
            else:
                self._rule(family, table, name, begin)
        self.ledger.read(Span(self.file.path, self._line(self.at), self._line(self.at)))
        self.at += 1

    def _is_property(self, word: str) -> bool:
        return word != "type" or self.words[self.at + 2 : self.at + 3] == ["hook"]

    def _rule(self, family: str, table: str, chain: str, start: int, words: list[str] | None = None) -> None:
        words = self._statement() if words is None else words
        where = self._span(start)
        body: dict[str, Any] = {"family": family, "table": table, "chain": chain}
        reader = RuleText(words)
        try:
            body["expr"] = reader.rule()
        except NotUnderstoodError as error:
            body |= _salvage(words, reader, str(error))
        if self.gaps and "gap" not in body:
            body |= {"gap": self.gaps[0], "open": False}
        if reader.comment:
            body["comment"] = reader.comment
        self.out.append(("rule", body, where))

    def _set(self, family: str, table: str) -> None:
        kind = self.words[self.at]
        name, start = self._open()
        body: dict[str, Any] = {"family": family, "table": table, "name": name, "elem": []}
        while self._peek_block() != "}":
            words = self._statement()
            try:
                self._set_part(body, words)
            except NotUnderstoodError as error:
                body["gap"] = str(error)
        self.at += 1
        self.out.append((kind, body, self._span(start)))

    def _set_part(self, body: dict[str, Any], words: list[str]) -> None:
        match words[0]:
            case "type" | "typeof":
                said = words[1:]
                if ":" in said:
                    at = said.index(":")
                    body["map"] = "verdict" if said[at + 1 :] == ["verdict"] else " ".join(said[at + 1 :])
                    said = said[:at]
                if words[0] == "type":
                    body["type"] = [word for word in said if word != "."]
                else:
                    parsed = RuleText(said).expression()
                    body["typeof"] = parsed["concat"] if isinstance(parsed, dict) and "concat" in parsed else [parsed]
            case "flags":
                body["flags"] = [word for word in words[1:] if word != ","]
            case "timeout":
                body["timeout"] = " ".join(words[1:])
            case "elements":
                body["elem"] += [one[0] if len(one) == 1 else list(one) for one in RuleText(words, 2).elements()]
            case "size" | "gc-interval" | "policy" | "comment" | "auto-merge" | "counter" | "limit" | "quota":
                pass
            case word:
                raise NotUnderstoodError(f"'{word}' is not known inside a set")

    def _object(self, family: str, table: str) -> None:
        start = self.at
        kind = self._next()
        words = self._statement_head()
        if self.at < len(self.words) and self.words[self.at] == "{":
            self._skip_block()
        self.out.append(
            (kind, {"family": family, "table": table, "name": words[-1] if words else ""}, self._span(start))
        )

    def _statement_head(self) -> list[str]:
        start = self.at
        while self.at < len(self.words) and self.words[self.at] not in ("{", "\n", ";", "}"):
            self.at += 1
        return self.words[start : self.at]

    def _skip_block(self) -> None:
        depth = 0
        while True:
            word = self._next()
            depth += (word == "{") - (word == "}")
            if not depth:
                return

    def _command(self, start: int) -> None:
        """A single command such as ``add rule inet filter input tcp dport 22 accept``."""
        words = self._statement()
        kind, rest = words[0], words[1:]
        inserts = kind == "insert" and rest[:1] == ["rule"]
        if inserts:
            kind = rest.pop(0)
        family = rest.pop(0) if rest and rest[0] in _FAMILIES else "ip"
        if len(rest) < 2:
            self.ledger.unread(self._span(start), "is not complete")
            return
        table, name, *said = rest
        if kind in ("rule", "insert"):
            if kind == "insert" or said[:1] in (["index"], ["position"], ["handle"]):
                self._unfollowed(self._span(start), "puts a rule at a place that is not followed")
                return
            self._rule(family, table, name, start, said)
            if inserts:
                at = next(
                    n for n, one in enumerate(self.out) if one[0] == "rule" and _chain_of(one) == (family, table, name)
                )
                self.out.insert(at, self.out.pop())
            return
        if self.gaps:
            self.ledger.problem(self._span(start), f"{self.gaps[0]}; the rules may be others than shown")
        body: dict[str, Any] = {"family": family, "table": table, "name": name, "elem": []}
        parts = _parts(said[1:-1] if said[:1] == ["{"] and kind != "element" else [])
        where = self._span(start)
        if kind == "chain":
            for part in parts:
                if part[0] == "policy":
                    body |= {"policy": part[1], "policy_where": where}
                elif part[0] == "type":
                    body |= _base(part)
        try:
            if kind == "element":
                body["elem"] = [one[0] if len(one) == 1 else list(one) for one in RuleText(said).elements()]
            for part in parts if kind in ("set", "map") else ():
                self._set_part(body, part)
        except NotUnderstoodError as error:
            body["gap"] = str(error)
        self.out.append((kind, body, where))


def _parts(words: list[str]) -> list[list[str]]:
    """The statements of a block written in one line."""
    out: list[list[str]] = [[]]
    depth = 0
    for word in words:
        depth += (word == "{") - (word == "}")
        if word == ";" and not depth:
            out.append([])
        else:
            out[-1].append(word)
    return [part for part in out if part]


def _base(words: list[str]) -> dict[str, Any]:
    """``type filter hook input [device "x"] priority filter - 5`` as the JSON form says it."""
    out: dict[str, Any] = {"type": words[1]}
    if "hook" in words:
        out["hook"] = words[words.index("hook") + 1]
    if "priority" in words:
        said = words[words.index("priority") + 1 :]
        text = "".join(said).replace(" ", "")
        found = re.fullmatch(r"([a-z]*)([+-]?[0-9]*)", text)
        if found is None or (found[1] and found[1] not in _PRIORITIES):
            out["prio"] = None
        else:
            out["prio"] = _PRIORITIES.get(found[1], 0) + (-1 if found[2][:1] == "-" else 1) * whole(
                found[2].lstrip("+-") or "0"
            )
    return out


def _salvage(words: list[str], reader: RuleText, why: str) -> dict[str, Any]:
    """What is left of a rule that is not wholly understood: its verdict, if it ends with one."""
    said = list(words)
    if len(said) > 2 and said[-2] == "comment":
        reader.comment = said[-1].strip('"')
        said = said[:-2]
    verdict: list[Any] = []
    if said and said[-1] in ("accept", "drop", "return", "continue"):
        verdict = [{said[-1]: None}]
    elif len(said) > 1 and said[-2] in ("jump", "goto"):
        verdict = [{said[-2]: {"target": said[-1]}}]
    return {"expr": verdict, "gap": why, "open": not verdict}


__all__ = ["items", "recognise", "value"]

"""One nft rule into model rules: usually one, more where it holds a map, whose elements have verdicts of their own.

Statements take effect in their order: what comes before a later match happens to every packet that got that far, and so
becomes a rule of its own under the same number.
"""

from __future__ import annotations

import marshal
from collections.abc import Callable, Mapping
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.model import (
    NOT_UNDERSTOOD,
    Action,
    Addresses,
    Condition,
    Effect,
    Field,
    HandOver,
    Hits,
    Log,
    LoseMark,
    MarkTest,
    Match,
    NewTracking,
    NoTracking,
    NotUnderstoodError,
    Numbers,
    Qualifier,
    Rule,
    SetMark,
    Span,
    Translate,
    TranslationKind,
)
from aiguille.model.objects import MaskedAddress
from aiguille.model.protocols import PORT_NAMES
from aiguille.readers.iptables.matches import QUALIFIERS as EXTENSIONS
from aiguille.readers.iptables.targets import PASSING
from aiguille.readers.literals import read_address_range, read_network
from aiguille.readers.nftables.conditions import Conditions, Matched, bare
from aiguille.readers.nftables.keys import is_family, key_of, spell
from aiguille.readers.nftables.readable import needed_to_read, needed_to_write

MARK_TOP = 0xFFFFFFFF
_VERDICTS = {
    "accept": Action.ACCEPT,
    "drop": Action.DROP,
    "return": Action.RETURN,
    "continue": Action.CONTINUE,
    "jump": Action.JUMP,
    "goto": Action.GOTO,
}
_PASSING = frozenset(["dup", "fwd", "flow", "last", "ct helper", "ct timeout", "ct expectation", "secmark"])
"""Statements after which evaluation goes on, and which change no verdict."""
_OPEN = frozenset(["queue", "tproxy", "synproxy"])
"""Statements whose verdict something outside the rule set gives."""
_DOUBTFUL = {"limit": "rate limit", "quota": "quota", "ct count": "number of connections", "meter": "rate limit"}
_FINAL = frozenset([*_VERDICTS, *_OPEN, "dnat", "snat", "masquerade", "redirect", "vmap"])
"""Statements after which the rule is over."""
_MISSHAPEN = (KeyError, IndexError, TypeError, AttributeError, ValueError)
"""What looking for parts of an object raises where they are not there, or not what they should be."""
_PORTED = tuple(Numbers(n, n) for n in (6, 17, 33, 132, 136))


class _Line(Struct):
    """A rule while its statements are read."""

    number: int
    where: Span
    comment: str
    conditions: list[Condition] = field(default_factory=list)
    marks: list[MarkTest] = field(default_factory=list)
    qualifiers: list[Qualifier] = field(default_factory=list)
    effects: list[Effect] = field(default_factory=list)
    hits: Hits | None = None
    raw: list[Condition] = field(default_factory=list)
    """Conditions on ports that stand without one on the protocol."""

    def rule(self, action: Action, text: str = "", **more: Any) -> Rule:
        return Rule(
            number=self.number,
            where=self.where,
            action=action,
            match=Match(tuple(self.conditions)),
            action_text=text,
            comment=self.comment,
            effects=tuple(self.effects),
            marks=tuple(self.marks),
            qualifiers=tuple(self.qualifiers),
            hits=self.hits,
            **more,
        )


def _bypasses(body: Any) -> bool:
    """Whether a queue lets packets through while no program reads it. body: of JSON an object or null, of text what follows the word"""
    flags = body.get("flags") if isinstance(body, dict) else body
    if isinstance(flags, str):
        flags = flags.replace(",", " ").split()
    return isinstance(flags, list) and "bypass" in flags


class StatementReader:
    """Reads the rules of one table.

    maps: the elements of each named map, as (key, data); None for one that is filled at run time
    family: the one address family whose packets the table sees, None if both
    report: called with what was not understood, in words, and where
    """

    def __init__(
        self,
        conditions: Conditions,
        maps: Mapping[str, list[tuple[Any, Any]] | None],
        report: Callable[[Span, str], None],
        *,
        family: int | None = None,
    ) -> None:
        self._conditions = conditions
        self._maps = maps
        self._report = report
        self._family = family
        self._seen: dict[bytes, Matched] = {}

    def read(self, body: Mapping[str, Any], number: int, where: Span) -> list[Rule]:
        """All model rules of one nft rule, in order; at least one."""
        line = _Line(number, where, body.get("comment", ""))
        out = self._statements(body, line)
        return [each for rule in out for each in (rule, *_elsewhere(rule, line.raw))] if line.raw else out

    def _statements(self, body: Mapping[str, Any], line: _Line) -> list[Rule]:
        out: list[Rule] = []
        if gap := body.get("gap"):
            self._gap(line, gap)
            if body["open"]:
                return [line.rule(Action.UNKNOWN)]
        for statement in body["expr"]:
            try:
                done = self._statement(statement, line, out)
            except (NotUnderstoodError, *_MISSHAPEN) as error:
                known = isinstance(error, NotUnderstoodError)
                self._gap(line, str(error) if known else f"'{spell(statement)}' does not have the shape we know")
                done = isinstance(statement, dict) and not _FINAL.isdisjoint(statement)
                if done:
                    out.append(line.rule(Action.UNKNOWN))
            if done:
                return out
        out.append(line.rule(Action.CONTINUE))
        return out

    def _gap(self, line: _Line, why: str) -> None:
        line.qualifiers.append(Qualifier(NOT_UNDERSTOOD, why))
        self._report(line.where, why)

    def _statement(self, statement: Any, line: _Line, out: list[Rule]) -> bool:
        """Read one statement into the line; True if it ends the rule, which then is in `out`."""
        ((kind, body),) = statement.items()
        if kind == "match":
            self._split(line, out)
            self._match(body, line)
            return False
        if kind in _VERDICTS:
            out.append(_verdict(line, statement))
            return True
        match kind:
            case "counter":
                if isinstance(body, dict) and "map" in body:
                    self._need(needed_to_read(body, self._conditions, self._elements), line, out)
                elif isinstance(body, dict):
                    line.hits = Hits(body["packets"], body["bytes"])
            case "log":
                line.effects.append(Log(str((body or {}).get("prefix", ""))))
            case "vmap":
                self._split(line, out)
                self._verdict_map(body, line, out)
                return True
            case "reject":
                self._rejection(body or {}, line, out)
                said = "" if body is None else " ".join(str(body[k]) for k in ("type", "expr") if k in body)
                message = {4: "icmp", 6: "icmpv6", None: "icmpx"}[self._family]
                out.append(line.rule(Action.REJECT, "reject", reply=said or f"{message} port-unreachable"))
                return True
            case "notrack":
                line.effects.append(NoTracking())
            case "mangle":
                return self._mangle(body, line, out)
            case "set":
                self._need(
                    needed_to_read([body["elem"], body.get("data")], self._conditions, self._elements), line, out
                )
                for inner in body.get("stmt", []):
                    ((name, _),) = inner.items()
                    if name in _DOUBTFUL:
                        self._doubtful(name, inner, line, out)
            case _ if kind in _DOUBTFUL:
                self._doubtful(kind, statement, line, out)
            case "dnat" | "snat" | "masquerade" | "redirect":
                self._translation(kind, body or {}, line, out)
                return True
            case "xt":
                return self._extension(body["type"], body["name"], line, out)
            case _ if kind in _OPEN:
                if kind == "queue":
                    line.effects.append(HandOver(_bypasses(body)))
                out.append(line.rule(Action.UNKNOWN, f"{kind} {spell(body) if body else ''}".strip()))
                return True
            case "reset":
                self._need(needed_to_write(body), line, out)
            case _ if kind in _PASSING:
                parts = list(body.values()) if isinstance(body, dict) and "map" not in body else body
                self._need(needed_to_read(parts, self._conditions, self._elements), line, out)
                if kind == "ct timeout":
                    line.effects.append(NewTracking())
            case _:
                # It may be a verdict that we do not know.
                self._gap(line, f"the statement '{kind}' is not known")
                out.append(line.rule(Action.UNKNOWN, kind))
                return True
        return False

    def _extension(self, kind: str, name: str, line: _Line, out: list[Rule]) -> bool:
        """An extension of iptables, of which nft shows the name and no more (rules that iptables-nft keeps)."""
        match kind, name:
            case "match", "comment":
                return False
            case "match", _:
                self._split(line, out)
                line.qualifiers.append(Qualifier(EXTENSIONS.get(name, f"extension {name}"), f"xt match {name}"))
                return False
            case _, "LOG" | "NFLOG":
                line.effects.append(Log())
                return False
            case _, "REJECT":
                out.append(line.rule(Action.REJECT, "reject"))
            case _, "MASQUERADE" | "SNAT":
                out.append(self._translated(name, line, Translate(TranslationKind.SOURCE)))
            case _ if name in PASSING:
                return False
            case _:
                out.append(line.rule(Action.UNKNOWN, f"xt target {name}"))
        return True

    def _match(self, body: Any, line: _Line) -> None:
        token = marshal.dumps(body)
        found = self._seen.get(token)
        if found is None:
            found = self._seen[token] = self._conditions.match(body)
        self._narrow(found, line)

    def _narrow(self, found: Matched, line: _Line) -> None:
        if found.raw and not any(c.field is Field.PROTOCOL for c in line.conditions):
            line.raw += found.conditions
        line.conditions += found.conditions
        line.marks += found.marks
        line.qualifiers += found.qualifiers

    def _split(self, line: _Line, out: list[Rule]) -> None:
        """What happened before a further match happened to all packets that got so far."""
        if line.effects:
            out.append(line.rule(Action.CONTINUE))
            line.effects = []
        line.hits = None  # a counter before a further match counts more than the rule's own packets

    def _doubtful(self, kind: str, statement: Any, line: _Line, out: list[Rule]) -> None:
        self._split(line, out)
        body = statement[kind]
        said = _limit_text(kind, body) if isinstance(body, dict) else spell(body)
        line.qualifiers.append(Qualifier(_DOUBTFUL[kind], f"{kind} {said}"))

    def _need(self, found: Matched, line: _Line, out: list[Rule]) -> None:
        """Narrow a line to the packets on which its next statement has an effect."""
        if found.conditions or found.marks or found.qualifiers:
            self._split(line, out)
            self._narrow(found, line)

    def _rejection(self, body: Any, line: _Line, out: list[Rule]) -> None:
        """nft answers packets of the message's own family only, and does not list that it does so."""
        families = {"icmp": 4, "icmpv6": 6}
        if self._family is None and (family := families.get(body.get("type", ""))):
            self._need(Matched([is_family(family)]), line, out)

    def _mangle(self, body: Any, line: _Line, out: list[Rule]) -> bool:
        try:
            self._need(needed_to_write(body["key"]), line, out)
        except NotUnderstoodError as error:
            self._gap(line, str(error))
            out.append(line.rule(Action.UNKNOWN, f"{spell(body['key'])} set"))
            return True
        self._need(needed_to_read(body["value"], self._conditions, self._elements), line, out)
        match body["key"]:
            case {"meta": {"key": "mark"}}:
                self._mark(body, line)
            case {"ct": {"key": "zone"}}:
                line.effects.append(NewTracking())
        return False

    def _mark(self, body: Any, line: _Line) -> None:
        match body["value"]:
            case int(value):
                line.effects.append(SetMark(value, MARK_TOP))
            case {"|": [{"meta": {"key": "mark"}}, int(value)]}:
                line.effects.append(SetMark(value, value))
            case {"&": [{"meta": {"key": "mark"}}, int(value)]}:
                line.effects.append(SetMark(0, MARK_TOP ^ value))
            case {"^": [{"meta": {"key": "mark"}}, int(value)]}:
                line.effects.append(SetMark(value, 0))
            case {"ct": {"key": "mark"}} | {"map": _}:
                line.effects.append(LoseMark())
            case _:
                raise NotUnderstoodError(
                    f"the mark set to '{spell(body['value'])}' is not one the rules themselves state"
                )

    def _elements(self, data: Any) -> list[tuple[Any, Any]] | None:
        """The elements of a map; None if they are not known."""
        if isinstance(data, str):
            return self._maps.get(data[1:])
        return [(one[0], one[1]) for one in data["set"]]

    def _verdict_map(self, body: Any, line: _Line, out: list[Rule]) -> None:
        elements = self._elements(body["data"])
        if elements is None:
            name = body["data"]
            self._report(line.where, f"the verdicts of map '{name}' are not in the export, or change at run time")
            line.qualifiers.append(Qualifier("map", f"vmap {name}"))
            out.append(line.rule(Action.UNKNOWN, f"vmap {name}"))
            return
        found: list[Rule] = []
        gap: Qualifier | None = None
        # What stands for everything else comes last, wherever it is listed.
        for key, verdict in sorted(elements, key=lambda one: bare(one[0]) == "*"):
            each = replace(
                line,
                conditions=list(line.conditions),
                marks=list(line.marks),
                qualifiers=list(line.qualifiers),
                hits=_element_hits(key),
            )
            try:
                self._element(body["key"], bare(key), each)
                found.append(_verdict(each, verdict, spell(bare(key))))
            except (NotUnderstoodError, *_MISSHAPEN) as error:
                said = str(error) if isinstance(error, NotUnderstoodError) else "does not have the shape we know"
                gap = Qualifier(NOT_UNDERSTOOD, f"element '{spell(bare(key))}' of a map: {said}")
                self._report(line.where, gap.text)
                found.append(line.rule(Action.UNKNOWN))
        # Where one element is not known, no other is sure to be the one that decides.
        out += found if gap is None else [replace(rule, qualifiers=(*rule.qualifiers, gap)) for rule in found]
        if not elements:
            out.append(line.rule(Action.CONTINUE))

    def _element(self, left: Any, value: Any, line: _Line) -> None:
        """Narrow a line to the packets whose key is one element of a map."""
        if value == "*":
            if (key := key_of(left)) is not None:
                line.conditions += key.guards
            return
        self._match({"op": "==", "left": left, "right": value}, line)

    def _translation(self, kind: str, body: Mapping[str, Any], line: _Line, out: list[Rule]) -> None:
        if body.get("family") in ("ip", "ip6") and self._family is None:
            # Packets of the other family pass the statement by (nft_nat in the kernel).
            line.conditions.append(is_family(4 if body["family"] == "ip" else 6))
        if kind in ("snat", "masquerade"):
            out.append(self._translated(kind, line, Translate(TranslationKind.SOURCE)))
            return
        netmap = "netmap" in (body.get("flags"), body.get("type_flags")) or body.get("type_flags") == "prefix"
        hosts, places = body.get("addr"), body.get("port")
        maps = [one["map"]["key"] for one in (hosts, places) if isinstance(one, dict) and "map" in one]
        same = len(maps) == 2 and maps[0] == maps[1]
        for each, target, where in self._entries(hosts, line):
            for one, port, there in self._entries(places, each):
                if same and where != there:
                    continue  # no packet has both keys
                parts = target["concat"] if isinstance(target, dict) and "concat" in target else [target]
                ports = parts[1] if len(parts) > 1 else port
                if kind == "redirect":
                    change = Translate(TranslationKind.TO_DEVICE, ports=_ports(ports) if ports is not None else None)
                else:
                    change = _destination(parts[0], ports, netmap=netmap)
                out.append(self._translated(kind, one, change))

    def _entries(self, given: Any, line: _Line) -> list[tuple[_Line, Any, Any]]:
        """A value, or each a map may give: the line narrowed to the packets that get it, the value, and its key."""
        if not (isinstance(given, dict) and "map" in given):
            return [(line, given, None)]
        elements = self._elements(given["map"]["data"])
        if elements is None:
            raise NotUnderstoodError(
                f"the map '{spell(given['map']['data'])}' is not in the export, or changes at run time"
            )
        out = []
        for key, data in elements:
            each = replace(
                line, conditions=list(line.conditions), qualifiers=list(line.qualifiers), marks=list(line.marks)
            )
            self._element(given["map"]["key"], bare(key), each)
            out.append((each, data, bare(key)))
        return out

    def _translated(self, kind: str, line: _Line, change: Translate) -> Rule:
        rule = line.rule(Action.ACCEPT, kind)
        return replace(rule, effects=(*rule.effects, change))


def _elsewhere(rule: Rule, raw: list[Condition]) -> tuple[Rule, ...]:
    """The rule on protocols without ports: there ``th dport`` compares bytes of something else, which we do not follow."""
    if not any(condition in raw for condition in rule.match.conditions):
        return ()
    others = tuple(c for c in rule.match.conditions if c not in raw)
    qualifier = Qualifier("bytes that are no ports", "th looked at without meta l4proto")
    return (
        replace(
            rule,
            match=Match((Condition(Field.PROTOCOL, _PORTED, negated=True), *others)),
            qualifiers=(*rule.qualifiers, qualifier),
        ),
    )


def _verdict(line: _Line, statement: Any, key: str = "") -> Rule:
    ((kind, body),) = statement.items()
    if kind not in _VERDICTS:
        raise NotUnderstoodError(f"'{kind}' is not a verdict")
    target = body["target"] if kind in ("jump", "goto") else None
    if target is not None and not isinstance(target, str):
        raise NotUnderstoodError(f"'{spell(target)}' is not the name of a chain")
    text = f"{kind} {target}" if target else kind
    return line.rule(_VERDICTS[kind], f"{key} : {text}" if key else text, target=target)


def _element_hits(element: Any) -> Hits | None:
    if isinstance(element, dict) and isinstance(counted := element.get("elem", {}).get("counter"), dict):
        return Hits(counted["packets"], counted["bytes"])
    return None


def _limit_text(kind: str, body: Mapping[str, Any]) -> str:
    if "text" in body:
        return str(body["text"])
    over = "over " if body.get("inv") else ""
    if kind == "quota":
        return f"{over}{body['val']} {body['val_unit']}"
    if kind == "ct count":
        return f"{over}{body['val']}"
    if kind == "meter":
        return spell(body["key"])
    unit = f" {body['rate_unit']}" if body.get("rate_unit", "packets") != "packets" else ""
    # The text leaves out the burst that nft assumes by itself.
    burst = f" burst {body['burst']} packets" if body.get("burst", 5) != 5 and not unit else ""
    return f"rate {over}{body['rate']}{unit}/{body['per']}{burst}"


def _ports(given: Any) -> Numbers:
    if isinstance(given, dict) and "range" in given:
        first, last = given["range"]
        return Numbers(first, last)
    if isinstance(given, int):
        return Numbers(given, given)
    if given in PORT_NAMES:
        return Numbers(PORT_NAMES[given], PORT_NAMES[given])
    raise NotUnderstoodError(f"the port '{spell(given)}' is not one the rules themselves state")


def _destination(target: Any, port: Any, *, netmap: bool = False) -> Translate:
    addresses: Addresses | MaskedAddress | None
    if target is None:
        addresses = None
    elif isinstance(target, str):
        addresses = read_network(target)
    elif isinstance(target, dict) and "range" in target:
        addresses = read_address_range("-".join(target["range"]))
    elif isinstance(target, dict) and "prefix" in target:
        addresses = read_network(f"{target['prefix']['addr']}/{target['prefix']['len']}")
    else:
        raise NotUnderstoodError(f"the translation to '{spell(target)}' is not one the rules themselves state")
    if isinstance(addresses, MaskedAddress):
        raise NotUnderstoodError(f"'{spell(target)}' is not a network")
    size = (addresses.last - addresses.first + 1).bit_length() - 1 if netmap and addresses is not None else None
    return Translate(TranslationKind.DESTINATION, addresses, None if port is None else _ports(port), netmap_bits=size)

"""One rule or set element of nft's text into the tree that its JSON form has (nft(8), libnftables-json(5)).

Both forms so go one way from there on. What is not understood raises NotUnderstoodError.
"""

from __future__ import annotations

import re
from typing import Any

from aiguille.model import NotUnderstoodError
from aiguille.readers.literals import whole

_NUMBER = re.compile(r"0x[0-9a-fA-F]+|[0-9]+")
_NUMBERS = re.compile(r"(0x[0-9a-fA-F]+|[0-9]+)-(0x[0-9a-fA-F]+|[0-9]+)")
_ADDRESS = re.compile(r"[0-9]+\.[0-9]+\.[0-9]+\.[0-9]+|[0-9a-fA-F]*:[0-9a-fA-F:.]*")
_PREFIX = re.compile(rf"({_ADDRESS.pattern})/([0-9]+)")
_BITS = re.compile(r"(0x[0-9a-fA-F]+)/([0-9]+)")
_ADDRESSES = re.compile(rf"({_ADDRESS.pattern})-({_ADDRESS.pattern})")
_HOST_PORT = re.compile(
    r"(?:\[([0-9a-fA-F:.]+)\](?:-\[([0-9a-fA-F:.]+)\])?|([0-9.]+)(?:-([0-9.]+))?)?(?::([0-9]+)(?:-([0-9]+))?)?"
)
_MAC = re.compile(r"(?:[0-9a-fA-F]{2}:){5}[0-9a-fA-F]{2}")

_META = frozenset([
    "iif", "iifname", "iiftype", "iifgroup", "iifkind", "oif", "oifname", "oiftype", "oifgroup", "oifkind",
    "mark", "skuid", "skgid", "pkttype", "cpu", "cgroup", "rtclassid", "ibrname", "obrname", "ibrpvid",
    "ibrvproto", "length", "protocol", "priority", "nfproto", "l4proto", "random", "nftrace", "ipsec",
    "secmark", "secpath", "time", "day", "hour", "sdif", "sdifname",
])  # fmt: skip
_BARE_META = _META - {"length", "protocol", "priority", "random", "nftrace", "ipsec", "time", "day", "hour"}
_HEADERS = frozenset([
    "ether", "vlan", "arp", "ip", "icmp", "igmp", "ip6", "icmpv6", "udp", "udplite", "tcp", "sctp", "dccp",
    "th", "ah", "esp", "comp", "gre",
])  # fmt: skip
_ROUTING = frozenset(["type", "seg-left", "hdrlength", "nexthdr"])
"""Fields of the routing header; ``rt`` before other words asks for the route."""
_EXTENSIONS = frozenset(["exthdr", "frag", "hbh", "dst", "mh", "srh"])
_OPERATORS = {"==", "!=", "<", ">", "<=", ">=", "!"}
_SPELLED = {"and": "&", "or": "|", "xor": "^", "eq": "==", "ne": "!=", "lt": "<", "gt": ">", "le": "<=", "ge": ">="}
"""Operators that may also be written as words."""
_VERDICTS = frozenset(["accept", "drop", "continue", "return"])
_CT_DIRECTIONS = frozenset(["original", "reply"])
_UNITS = re.compile(r"([0-9]+)/(second|minute|hour|day|week)")


def _number(text: str) -> int:
    """A number as nft writes it; one that is too long for any field is larger than all of them."""
    if text[:2] == "0x":
        return int(text, 16) if len(text) <= _HEX else 1 << 128
    return int(text) if len(text) <= _HEX else 1 << 128


_HEX = 40


def value(text: str) -> Any:
    """A word of the right-hand side as JSON has it: number, prefix, range or string."""
    if text[0] == '"':
        return text[1:-1]
    if text[0] == "$":
        raise NotUnderstoodError(f"the variable '{text}' is not defined in this file")
    if _NUMBER.fullmatch(text):
        return _number(text)
    if found := _PREFIX.fullmatch(text):
        return {"prefix": {"addr": found[1], "len": whole(found[2])}}
    if found := _BITS.fullmatch(text):
        return {"prefix": {"addr": _number(found[1]), "len": whole(found[2])}}
    if found := _NUMBERS.fullmatch(text):
        return {"range": [value(found[1]), value(found[2])]}
    if "-" in text and (found := _ADDRESSES.fullmatch(text)) and not _MAC.fullmatch(text):
        return {"range": [found[1], found[2]]}
    if text == "exists":
        return True
    if text == "missing":
        return False
    return text


class RuleText:
    """Reads the words of one rule, from `at` on."""

    def __init__(self, words: list[str], at: int = 0) -> None:
        self.words = [_SPELLED.get(word, word) for word in words]
        self.at = at
        self.comment = ""

    def rule(self) -> list[Any]:
        """All statements; a comment is kept apart."""
        out: list[Any] = []
        while self.at < len(self.words):
            found = self.statement()
            if found is not None:
                out.append(found)
        return out

    def peek(self, ahead: int = 0) -> str:
        at = self.at + ahead
        return self.words[at] if at < len(self.words) else ""

    def take(self, expected: str = "") -> str:
        word = self.peek()
        if not word or (expected and word != expected):
            said = f"'{word}'" if word else "the end of the rule"
            raise NotUnderstoodError(f"{said} stands where {f'{expected!r}' if expected else 'more'} was expected")
        self.at += 1
        return word

    def skip(self, *words: str) -> bool:
        if self.peek() in words:
            self.at += 1
            return True
        return False

    def statement(self) -> Any:
        word, after = self.peek(), self.peek(1)
        if word in _VERDICTS or word in ("jump", "goto"):
            return self.verdict()
        match word:
            case "counter" if after not in _OPERATORS:
                return self._counter()
            case "log":
                return self._log()
            case "limit" | "quota":
                return self._rate()
            case "reject":
                return self._reject()
            case "dnat" | "snat" | "tproxy":
                return self._translation()
            case "masquerade" | "redirect":
                return self._own_translation()
            case "xt":
                self.at += 1
                return {"xt": {"type": self.take(), "name": self.take().strip('"')}}
            case "queue" | "synproxy":
                self.at += 1
                return {word: " ".join(self._rest())}
            case "dup" | "fwd":
                return self._copied()
            case "last":
                self.at += 1
                if self.skip("used"):
                    self.take()
                return {"last": None}
            case "reset":
                self.at += 1
                self.take("tcp"), self.take("option")
                return {"reset": {"tcp option": {"name": self.take()}}}
            case "notrack":
                self.at += 1
                return {"notrack": None}
            case "flow":
                self.at += 1
                self.skip("add", "offload")
                return {"flow": {"op": "add", "flowtable": self.take()}}
            case "add" | "update" | "delete":
                return self._set_statement()
            case "meter":
                self.at += 2
                if self.skip("size"):
                    self.take()
                self.take("{")
                return {"meter": {"key": self.expression(), "stmt": self._inside()}}
            case "comment":
                self.at += 1
                self.comment = self.take().strip('"')
                return None
            case "ct" if after == "count":
                self.at += 2
                over = self.skip("over")
                return {"ct count": {"val": value(self.take()), "inv": over}}
            case "ct" if after in ("helper", "timeout", "expectation") and self.peek(2) == "set":
                self.at += 3
                return {f"ct {after}": self.expression_or_map()}
            case _:
                return self._match()

    def verdict(self) -> dict[str, Any]:
        word = self.take()
        if word in _VERDICTS:
            return {word: None}
        if word in ("jump", "goto"):
            return {word: {"target": self.take()}}
        raise NotUnderstoodError(f"'{word}' is not a verdict")

    def _rest(self) -> list[str]:
        """The words up to a comment."""
        out = []
        while self.peek() and self.peek() != "comment":
            out.append(self.take())
        return out

    def _copied(self) -> dict[str, Any]:
        """Where a copy goes, or the packet itself at its way in: an address, and a device."""
        kind = self.take()
        self.take("to")
        out = {"addr": self.expression_or_map()}
        if self.skip("device"):
            out["dev"] = self.expression_or_map()
        return {kind: out}

    def _counter(self) -> dict[str, Any]:
        self.at += 1
        if self.skip("name"):
            named = self.expression_or_map()
            return {"counter": named if isinstance(named, dict) else str(named).strip('"')}
        if self.peek() == "packets":
            self.at += 1
            packets = self._number()
            self.take("bytes")
            return {"counter": {"packets": packets, "bytes": self._number()}}
        return {"counter": None}

    def _number(self) -> int:
        word = self.take()
        if not _NUMBER.fullmatch(word):
            raise NotUnderstoodError(f"'{word}' stands where a number was expected")
        return _number(word)

    def _log(self) -> dict[str, Any]:
        self.at += 1
        out: dict[str, Any] = {}
        while (word := self.peek()) in ("prefix", "level", "group", "snaplen", "queue-threshold", "flags"):
            self.at += 1
            if word == "flags":
                if self.take() in ("tcp", "ip"):
                    self.take()
                    while self.skip(","):
                        self.take()
            else:
                out[word] = value(self.take())
        return {"log": out or None}

    def _rate(self) -> dict[str, Any]:
        kind = self.take()
        if self.skip("name"):
            return {kind: self.take().strip('"')}
        said: list[str] = []
        if kind == "limit":
            said.append(self.take("rate"))
            said += ["over"] if self.skip("over") else []
            said.append(self.take())
            if _UNITS.fullmatch(said[-1]) is None:
                said.append(self.take())  # "10 mbytes/second"
            if self.skip("burst"):
                said += ["burst", self.take(), self.take()]
        else:
            said += [self.take()] if self.peek() in ("over", "until") else []
            said += [self.take(), self.take()]
            if self.skip("used"):
                self.take(), self.take()
        return {kind: {"text": " ".join(said)}}

    def _reject(self) -> dict[str, Any]:
        self.at += 1
        if not self.skip("with"):
            return {"reject": None}
        kind = self.take()
        if kind == "tcp":
            self.take("reset")
            return {"reject": {"type": "tcp reset"}}
        self.skip("type")
        return {"reject": {"type": kind, "expr": self.take()}}

    def _translation(self) -> dict[str, Any]:
        kind = self.take()
        out: dict[str, Any] = {}
        if self.peek() in ("ip", "ip6"):
            out["family"] = self.take()
        if self.peek() == "addr" and self.peek(1) == ".":
            self.at += 3
        if self.skip("prefix"):
            out["flags"] = "netmap"
        if self.peek() == "to" or kind != "tproxy":
            self.take("to")
        target = self.peek()
        host, colon, key = target.rpartition(":")
        if colon and host and self._is_key(key):
            self.words[self.at : self.at + 1] = [host, f":{key}"]
            target = host
        if (target[:1] == ":" and not self._is_key(target[1:])) or (_HOST_PORT.fullmatch(target) and target):
            out |= _host_port(self.take())
            if self.peek()[:1] == ":":
                out |= self._after_colon()
        elif target[:1] == ":":
            out |= self._after_colon()
        else:
            out["addr"] = self.expression_or_map()
            if self.peek()[:1] == ":":
                out |= self._after_colon()
        self._flags(out)
        return {kind: out}

    def _after_colon(self) -> dict[str, Any]:
        """A port, or the map that gives it; nft prints no blank after the colon."""
        word = self.take()
        if word != ":":
            if not self._is_key(word[1:]):
                return _host_port(word)
            self.at -= 1
            self.words[self.at] = word[1:]
        return {"port": self.expression_or_map()}

    def _own_translation(self) -> dict[str, Any]:
        kind = self.take()
        out: dict[str, Any] = {}
        if self.skip("to"):
            if self.peek()[:1] == ":":
                out |= self._after_colon()
            else:
                out["port"] = self.expression_or_map()
        self._flags(out)
        return {kind: out or None}

    def _flags(self, out: dict[str, Any]) -> None:
        while self.peek() in ("random", "fully-random", "persistent", ","):
            self.at += 1

    def _set_statement(self) -> dict[str, Any]:
        kind, name = self.take(), self.take()
        self.take("{")
        elem = self.expression()
        data = self.expression_or_map() if self.skip(":") else None
        limits = []
        while not self.skip("}"):
            if self.peek() in ("limit", "quota", "ct"):
                limits.append(self.statement())
            else:
                self.take()
        return {"set": {"op": kind, "elem": elem, "data": data, "set": name, "stmt": limits}}

    def _inside(self) -> str:
        """What stands up to the brace that closes."""
        out: list[str] = []
        depth = 1
        while True:
            word = self.take()
            depth += (word == "{") - (word == "}")
            if not depth:
                return " ".join(out)
            out.append(word)

    def _match(self) -> dict[str, Any]:
        left = self.expression()
        if self.skip("vmap"):
            return {"vmap": {"key": left, "data": self._data(verdicts=True)}}
        if self.skip("set"):
            return {"mangle": {"key": left, "value": self.expression_or_map()}}
        op = self.take() if self.peek() in _OPERATORS else ""
        right = self.right()
        if self.peek() == "/":
            self.at += 1
            left, op = {"&": [left, self.right()]}, op or "=="
        bits = _is_bits(left)
        return {"match": {"op": op or ("in" if bits and not _is_set(right) else "=="), "left": left, "right": right}}

    def expression(self) -> Any:
        """A left-hand side: what the rule looks at, masked perhaps, several joined by dots."""
        parts = [self._masked()]
        while self.peek() == ".":
            self.at += 1
            parts.append(self._masked())
        return parts[0] if len(parts) == 1 else {"concat": parts}

    def expression_or_map(self) -> Any:
        word = self.peek()
        if word and (word[0] in '@"0123456789$' or word in ("{",)) and self.peek(1) != "map":
            return self.right()
        if not (self._is_key(word) or word in ("(", "numgen", "jhash", "symhash", "meta", "ct")):
            return self.right()
        key = self.expression()
        if self.skip("map"):
            return {"map": {"key": key, "data": self._data(verdicts=False)}}
        return key

    def _is_key(self, word: str) -> bool:
        keys = ("meta", "ct", "fib", "rt", "socket", "osf")
        return word in _HEADERS or word in _BARE_META or word in keys or word in _EXTENSIONS

    def _masked(self) -> Any:
        out = self._primary()
        while self.peek() in ("&", "|", "^", "<<", ">>"):
            op = self.take()
            if self._is_key(self.peek()):
                mask = self._primary()
            elif self.peek() == "(":
                mask = self._parenthesis()
            else:
                mask = value(self.take())
            out = {op: [out, mask]}
        return out

    def _parenthesis(self) -> Any:
        self.take("(")
        out = [value(self.take())]
        while self.skip("|", ","):
            out.append(value(self.take()))
        self.take(")")
        return out

    def _primary(self) -> Any:
        word = self.take()
        match word:
            case "(":
                inner = self.expression()
                self.take(")")
                return inner
            case "meta":
                return {"meta": {"key": self.take()}}
            case _ if word in _BARE_META:
                return {"meta": {"key": word}}
            case "ip" | "ip6" | "tcp" | "sctp" if self.peek() in ("option", "chunk"):
                kind = f"{word} {self.take()}"
                out = {"name": self.take()}
                if self.peek() not in ("exists", "missing", "set", "") and self.peek() not in _OPERATORS:
                    out["field"] = self.take()
                return {kind: out}
            case _ if word in _HEADERS:
                return {"payload": {"protocol": word, "field": self.take()}}
            case "ct":
                out = {}
                if self.peek() in _CT_DIRECTIONS:
                    out["dir"] = self.take()
                key = self.take()
                if key in ("ip", "ip6"):
                    key = f"{key} {self.take()}"
                return {"ct": {"key": key, **out}}
            case "fib":
                flags = [self.take()]
                while self.skip("."):
                    flags.append(self.take())
                return {"fib": {"result": self.take(), "flags": flags}}
            case "rt" if self.peek() in _ROUTING:
                return {"exthdr": {"name": "rt", "field": self.take()}}
            case "rt" if self.peek() in ("ip", "ip6"):
                family = self.take()
                return {"rt": {"key": self.take(), "family": family}}
            case "rt" | "socket":
                return {word: {"key": self.take()}}
            case "osf":
                return {"osf": {"key": self.take()}}
            case "exthdr" | "frag" | "hbh" | "dst" | "mh" | "srh":
                name = self.take() if word == "exthdr" else word
                field = {"field": self.take()} if word != "exthdr" else {}
                return {"exthdr": {"name": name, **field}}
            case "numgen":
                mode = self.take()
                self.take("mod")
                out = {"mode": mode, "mod": value(self.take())}
                if self.skip("offset"):
                    out["offset"] = value(self.take())
                return {"numgen": out}
            case "jhash" | "symhash":
                out = {"expr": self.expression()} if word == "jhash" else {}
                self.take("mod")
                out["mod"] = value(self.take())
                while (more := self.peek()) in ("seed", "offset"):
                    self.at += 1
                    out[more] = value(self.take())
                return {word: out}
            case "ipsec":
                return {"ipsec": {"text": " ".join([self.take(), self.take()])}}
            case _ if word[0] == "@" and self.peek() == ",":
                self.take(",")
                offset = self.take()
                self.take(",")
                return {"payload": {"base": word[1:], "offset": value(offset), "len": value(self.take())}}
            case _:
                raise NotUnderstoodError(f"'{word}' is not known to nft's language as we read it")

    def right(self) -> Any:
        """A right-hand side: a set, the name of one, or values."""
        if self.peek() == "{":
            return {"set": [key for key, *_ in self.elements()]}
        if self.peek()[:1] == "@":
            return self.take()
        return self._joined()

    def _joined(self) -> Any:
        """A value, or several joined by dots."""
        parts = [self._listed()]
        while self.peek() == "." and self.peek(1):
            self.at += 1
            parts.append(self._listed())
        return parts[0] if len(parts) == 1 else {"concat": parts}

    def _listed(self) -> Any:
        """A value, or flags joined by commas or bars."""
        first = self._single()
        if self.peek() == "|":
            parts = [first]
            while self.skip("|"):
                parts.append(self._single())
            return {"|": parts}
        if self.peek() == "," and isinstance(first, (str, int)) and self._in_rule:
            parts = [first]
            while self.skip(","):
                parts.append(self._single())
            return parts
        return first

    _in_rule = True

    def _single(self) -> Any:
        if self.peek() == "(":
            return {"|": self._parenthesis()}
        word = self.take()
        if word in "{}:;,":
            raise NotUnderstoodError(f"'{word}' stands where a value was expected")
        if self.peek() == "-" or self.peek()[:2] == '-"':
            self.at += 1
            return {"range": [value(word), value(self.take())]}
        return value(word)

    def elements(self) -> list[tuple[Any, ...]]:
        """The elements of a braced set or map: (key,) or (key, data) each, attributes wrapped as JSON does."""
        self.take("{")
        out: list[tuple[Any, ...]] = []
        outer, self._in_rule = self._in_rule, False
        while not self.skip("}"):
            key = self._joined()
            attributes: dict[str, Any] = {}
            while (word := self.peek()) in ("timeout", "expires", "comment", "counter", "limit", "quota", "last"):
                if word == "counter":
                    attributes |= self._counter()
                elif word in ("limit", "quota"):
                    attributes |= self._rate()
                else:
                    self.at += 1
                    attributes[word] = self.take().strip('"')
            if attributes:
                key = {"elem": {"val": key, **attributes}}
            if self.skip(":"):
                data = self.verdict() if self.peek() in (*_VERDICTS, "jump", "goto") else self._joined()
                out.append((key, data))
            else:
                out.append((key,))
            self.skip(",")
        self._in_rule = outer
        return out

    def _data(self, *, verdicts: bool) -> Any:
        if self.peek()[:1] == "@":
            return self.take()
        return {"set": [list(pair) for pair in self.elements()]}


def _host_port(text: str) -> dict[str, Any]:
    found = _HOST_PORT.fullmatch(text)
    if found is None:
        raise NotUnderstoodError(f"'{text}' is not an address, a port or both, such as 192.0.2.1:443")
    first, last = found[1] or found[3], found[2] or found[4]
    out: dict[str, Any] = {}
    if first:
        out["addr"] = {"range": [first, last]} if last else first
    if found[5]:
        out["port"] = {"range": [whole(found[5]), whole(found[6])]} if found[6] else whole(found[5])
    return out


def _is_set(right: Any) -> bool:
    return (isinstance(right, dict) and "set" in right) or (isinstance(right, str) and right[:1] == "@")


def _is_bits(left: Any) -> bool:
    """Whether a bare value after this is a flag that must be set: connection state and status, TCP flags."""
    match left:
        case {"ct": {"key": "state" | "status"}} | {"payload": {"protocol": "tcp", "field": "flags"}}:
            return True
        case _:
            return False

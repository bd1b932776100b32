"""Columns of a rule into the words of iptables (shorewall-rules(5)): who, to whom, what, how often."""

from __future__ import annotations

import re
from itertools import product

from msgspec import Struct, field

from aiguille.model import NotUnderstoodError
from aiguille.readers.literals import is_whole, read_address, read_protocol

_PORTLESS = frozenset([1, 58])
_RATE = re.compile(
    r"(?:(?:(s|d|sd|ds)(?:/\d+)?:)?(?:([\w-]*):)?)?(\d+/(?:sec|second|min|minute|hour|day|s|m|h|d))(?::(\d+))?"
)
_MAC = re.compile(r"~([0-9A-Fa-f]{2}(?:-[0-9A-Fa-f]{2}){5})")


class Side(Struct, frozen=True):
    """One end of a rule: zone names as written, interface, addresses meant and left out."""

    zones: str = ""
    interface: str = ""
    addresses: tuple[str, ...] = ()
    without: tuple[str, ...] = ()


class Matches(Struct):
    """What a rule matches, as alternatives of iptables words; `without`: words for what is left out of all of them.

    gaps: what could not be read
    """

    words: list[list[str]] = field(default_factory=lambda: [[]])
    without: list[str] = field(default_factory=list)
    gaps: list[str] = field(default_factory=list)


def read_side(text: str, has_zone: bool = True) -> Side:
    """Read ``net``, ``net:eth0``, ``net:192.0.2.0/24,192.0.2.9!192.0.2.1``, ``net:eth0:192.0.2.1``, ``net:[2001:db8::1]/64``."""
    zones, rest = "", text
    if has_zone:
        zones, rest = zone_part(text)
    interface = ""
    if rest and not _looks_like_addresses(rest):
        interface, _, rest = rest.partition(":")
    rest = re.sub(r"[\[\]<>]", "", rest)
    inside, _, outside = rest.partition("!")
    if inside in ("-", "0.0.0.0/0", "::/0"):
        inside = ""
    return Side(zones, interface, tuple(p for p in inside.split(",") if p), tuple(p for p in outside.split(",") if p))


def zone_part(text: str) -> tuple[str, str]:
    """What a source or destination says before addresses: its zones; and what follows them."""
    head = re.match(r"(?:\{[^}]*\}|[^:{])*", text)
    at = head.end() if head else len(text)
    return text[:at].strip("{}"), text[at + 1 :]


def _looks_like_addresses(text: str) -> bool:
    if text[0] in "!+~^&%[<":
        return True
    first = re.split(r"[,!/-]", text, maxsplit=1)[0]
    try:
        read_address(first)
    except NotUnderstoodError:
        # `192.0.2.1:80` is an address with a port, as in the destination of a translation.
        return re.match(r"[0-9.]+(?::|$)", text) is not None
    return True


def address_words(text: str, way: str) -> list[str]:
    """Words that match one address; way: "s" or "d". Raises NotUnderstoodError."""
    if text[0] == "+":
        name, _, flags = text[1:].partition("[")
        if name.startswith("[") or not name:
            raise NotUnderstoodError(f"'{text}': several sets at once are not followed")
        side = "src" if way == "s" else "dst"
        wanted = flags.strip("]")
        directions = ",".join([side] * int(wanted)) if is_whole(wanted) and len(wanted) < 2 else wanted or side
        return ["-m", "set", "--match-set", name, directions]
    if found := _MAC.fullmatch(text):
        return ["-m", "mac", "--mac-source", found[1].replace("-", ":")]
    if text[0] == "^":
        return ["-m", "geoip", "--source-country" if way == "s" else "--destination-country", text[1:].strip("[]")]
    if text[0] in "&%":
        raise NotUnderstoodError(f"'{text}' stands for an address that the host finds out when it starts")
    if "-" in text and not text.startswith("-"):
        return ["-m", "iprange", "--src-range" if way == "s" else "--dst-range", text]
    read_address(text.partition("/")[0])
    return [f"-{way}", text]


def negated(words: list[str]) -> list[str]:
    """Words that match everything but what these match; they are about one condition."""
    at = 2 if words[0] == "-m" else 0
    return [*words[:at], "!", *words[at:]]


def protocols_of(text: str) -> list[str]:
    """``tcp,udp`` one by one; "" for any; ``tcp:syn`` stays."""
    return [""] if text.lower() in ("", "-", "all") else text.split(",")


def ports_words(protocol: str, text: str, way: str, family: int) -> list[list[str]]:
    """Alternatives that match ports, or types of ICMP, of a protocol; way: "d" or "s". Raises NotUnderstoodError."""
    if not text or text == "-":
        return [[]]
    number = read_protocol(protocol).first if protocol else -1
    if number in _PORTLESS:
        option = "--icmp-type" if family == 4 else "--icmpv6-type"
        return [["-m", "icmp" if family == 4 else "icmp6", option, one] for one in text.split(",")]
    negated = ["!"] if text[0] == "!" else []
    listed = text.lstrip("!").replace("-", ":") if re.fullmatch(r"!?[0-9,:-]+", text) else text.lstrip("!")
    if listed[0] == "+":
        raise NotUnderstoodError(f"'{text}': sets of ports are not followed")
    if "," not in listed:
        return [[*negated, f"--{way}port", listed]]
    return [["-m", "multiport", *negated, f"--{way}ports", listed]]


def rate_words(text: str) -> list[str]:
    """``3/min:5``, ``s:name:3/min:5``: how often a rule may match (shorewall-rules(5), RATE LIMIT)."""
    out: list[str] = []
    for one in text.split(","):
        found = _RATE.fullmatch(one)
        if found is None:
            raise NotUnderstoodError(f"'{one}' is not a rate such as 3/min:5 or s:name:3/min:5")
        mode, name, rate, burst = found.groups()
        if mode is None and name is None:
            out += ["-m", "limit", "--limit", rate, *(["--limit-burst", burst] if burst else [])]
        else:
            mode = {"d": "dstip", "sd": "srcip,dstip", "ds": "srcip,dstip"}.get(mode or "s", "srcip")
            out += ["-m", "hashlimit", "--hashlimit-upto", rate, *(["--hashlimit-burst", burst] if burst else [])]
            out += ["--hashlimit-mode", mode, "--hashlimit-name", name or "shorewall"]
    return out


def detail_words(row_value: dict[str, str]) -> list[str]:
    """Conditions that no single packet shows: rate, user, mark, number of connections, time, headers, switch, helper."""
    out: list[str] = []
    if rate := row_value.get("rate"):
        out += rate_words(rate)
    if user := row_value.get("user"):
        out += ["-m", "owner", *(["!"] if user[0] == "!" else []), "--uid-owner", user.lstrip("!")]
    if mark := row_value.get("mark"):
        value, _, kind = mark.partition(":")
        module = "connmark" if kind.upper() == "C" else "mark"
        out += ["-m", module, *(["!"] if value[0] == "!" else []), "--mark", _masked(value.lstrip("!"))]
    if limit := row_value.get("connlimit"):
        count = re.sub(r"^!?(?:[sd]:)?", "", limit).split(":")[0]
        out += ["-m", "connlimit", "--connlimit-upto", count]
    if time := row_value.get("time"):
        out += ["-m", "time", *(word for one in time.split("&") for word in _time(one))]
    if headers := row_value.get("headers"):
        out += ["-m", "ipv6header", "--header", headers]
    if switch := row_value.get("switch"):
        out += [
            "-m",
            "condition",
            *(["!"] if switch[0] == "!" else []),
            "--condition",
            switch.lstrip("!").split("=")[0],
        ]
    return out


def _masked(value: str) -> str:
    # A mark without a mask is compared under the mask Shorewall keeps its own marks in (TC_BITS, 8 by default).
    return value if "/" in value else f"{value}/0xff"


def _time(text: str) -> list[str]:
    name, _, value = text.partition("=")
    return [f"--{name}", *([value] if value else [])]


def joined(one: list[str], other: list[str]) -> list[str] | None:
    """Words of two conditions together; None if both name a protocol and not the same."""
    if "-p" in one and "-p" in other:
        mine, theirs = one[one.index("-p") + 1], other[other.index("-p") + 1]
        if read_protocol(mine) != read_protocol(theirs):
            return None
        at = other.index("-p")
        other = [*other[:at], *other[at + 2 :]]
    return [*one, *other]


def alternatives(parts: list[list[list[str]]]) -> list[list[str]]:
    """Every way to take one list of words from each part."""
    return [[word for words in chosen for word in words] for chosen in product(*parts)]

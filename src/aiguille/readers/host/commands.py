"""What a host's commands print of its network for people: `ip addr`, `ip route`, `route -n`, `ss`, `netstat`.

Interfaces and routes become the entries that the JSON of `ip` has, so that both forms are read alike (ip-address(8), ip-route(8),
route(8), ss(8), netstat(8)).
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from ipaddress import IPv4Network
from itertools import pairwise
from typing import Any

from aiguille.readers.files import ExportFile, LedgerBuilder

Entry = tuple[int, dict[str, Any]]
"""The number of a line, and what it says in the words of the JSON."""

_LINK = re.compile(r"[0-9]+: ([^\s:@]+)(?:@[^\s:]+)?: <([A-Z0-9_,-]*)> mtu [0-9]+(?:.*? state ([A-Z]+))?.*")
_ONE_LINE = re.compile(r"[0-9]+: (\S+)\s+inet6? ([0-9a-f.:]+)(?: peer [0-9a-f.:]+)?/([0-9]+) .*")
_BRIEF = re.compile(
    r"([^\s@]+)(?:@\S+)?\s+(UP|DOWN|UNKNOWN|LOWERLAYERDOWN|DORMANT)((?:\s+[0-9a-f.:]+(?: peer [0-9a-f.:]+)?/[0-9]+)*)\s*"
)
_BRIEF_LINK = re.compile(
    r"([^\s@]+)(?:@\S+)?\s+([A-Z]+)\s+(?:[0-9a-f]{2}(?::[0-9a-f]{2})+|[0-9.]+)?\s*<([A-Z0-9_,-]*)>\s*"
)
_BRIEF_ADDRESS = re.compile(r"([0-9a-f.:]+)(?: peer [0-9a-f.:]+)?/([0-9]+)")
_INET = re.compile(r"\s+inet6? ([0-9a-f.:]+)(?:/([0-9]+))?(?: peer [0-9a-f.:]+/([0-9]+))?(?: .*)?")
_ROUTE = re.compile(
    r"(?:(unicast|local|broadcast|multicast|anycast|unreachable|blackhole|prohibit|throw) )?"
    r"(default|[0-9a-f.:]*[.:][0-9a-f.:]*(?:/[0-9]+)?)((?: .*)?)"
)
_NEXT_HOP = re.compile(r"\s+nexthop .*")
_ROUTE_TABLE = re.compile(r"Kernel IP routing table")
_OLD_ROUTE = re.compile(
    r"([0-9.]+)\s+([0-9.*-]+)\s+([0-9.]+)\s+([A-Z!]+)\s+([0-9]{1,10})\s+[0-9-]+\s+[0-9]+\s+(\S+)\s*"
)
_SOCKET = re.compile(r"(?:(tcp|udp)\s+)?(LISTEN|UNCONN)\s+[0-9]+\s+[0-9]+\s+(\S+):([0-9]{1,5})\s+\S+")
_OLD_SOCKET = re.compile(
    r"(tcp|udp)6?\s+[0-9]+\s+[0-9]+\s+(\S+):([0-9]{1,5})\s+\S+:\*(?:\s+(?:LISTEN\b.*|[0-9]+/.*|-.*)?)?"
)
_OTHER_SOCKET = re.compile(
    r"(?:tcp|udp|raw|icmp6|nl|u_\w+|unix|p_raw|p_dgr|v_\w+|udplite)6?\s+(?:[0-9]+|ESTAB|TIME-WAIT|CLOSE-WAIT|UNCONN|SYN-SENT|LISTEN)\s.*"
)
_SOCKET_HEAD = re.compile(
    r"(?:Netid\s+)?State\s+Recv-Q\s+Send-Q\s.*|Proto\s+Recv-Q\s+Send-Q\s.*|Active Internet connections.*"
)
_ROUTE_HEAD = re.compile(r"Destination\s+Gateway\s+Genmask\s+Flags\s.*")
_METRIC = re.compile(r"[0-9]{1,10}")
_HELD = ("dev", "metric", "table")
"""What is kept of a route's words under its own name; via is called gateway in the JSON."""


def kind_of(file: ExportFile) -> str:
    """ "addr", "link", "route" or "ss" by the first line that says something, and for "addr" any line with an address."""
    head = next((line.rstrip() for line in file.lines if line.strip()), "")
    if _LINK.fullmatch(head):
        return "addr" if any(_INET.fullmatch(line.rstrip()) for line in file.lines) else "link"
    if _ONE_LINE.fullmatch(head) or _BRIEF.fullmatch(head):
        return "addr"
    if _BRIEF_LINK.fullmatch(head):
        return "link"
    if _ROUTE_TABLE.fullmatch(head) or _ROUTE_HEAD.fullmatch(head):
        return "route"
    found = _ROUTE.fullmatch(head)
    if found is not None and (re.search(r" (?:dev|via) ", found[3]) or found[1] or found[2] == "default"):
        return "route"
    return "ss" if _SOCKET_HEAD.fullmatch(head) or socket(head) is not None else ""


def interfaces(file: ExportFile, ledger: LedgerBuilder) -> Iterator[Entry]:
    """Each interface of `ip addr` or `ip link`, also with -o or -br."""
    link: dict[str, Any] | None = None
    begun = 0
    listed = kind_of(file) == "addr"
    for number, line in enumerate(file.lines, 1):
        text, where = line.rstrip(), file.span(number)
        if not text:
            continue
        if (found := _LINK.fullmatch(text)) is not None:
            if link is not None:
                yield begun, link
            begun, link = number, {"ifname": found[1], "flags": found[2].split(","), "operstate": found[3]}
            if listed:
                link["addr_info"] = []
        elif (found := _ONE_LINE.fullmatch(text)) is not None:
            yield number, {"ifname": found[1].partition("@")[0], "addr_info": [_address(found[2], found[3])]}
        elif (found := _BRIEF.fullmatch(text)) is not None:
            held = [_address(*one) for one in _BRIEF_ADDRESS.findall(found[3])]
            yield number, {"ifname": found[1], "operstate": found[2], "addr_info": held}
        elif (found := _BRIEF_LINK.fullmatch(text)) is not None:
            yield number, {"ifname": found[1], "operstate": found[2], "flags": found[3].split(",")}
        elif link is not None and (found := _INET.fullmatch(text)) is not None:
            link["addr_info"].append(_address(found[1], found[2] or found[3] or ("128" if ":" in found[1] else "32")))
        elif link is not None and text[0].isspace():
            ledger.set_aside(where, "no check needs this of an interface")
            continue
        else:
            ledger.unread(where, "is not a line of `ip addr`")
            continue
        ledger.read(where)
    if link is not None:
        yield begun, link


def _address(text: str, length: str) -> dict[str, Any]:
    return {"local": text, "prefixlen": length}


def routes(file: ExportFile, ledger: LedgerBuilder) -> Iterator[Entry]:
    """Each route of `ip route` or `route -n`."""
    for number, line in enumerate(file.lines, 1):
        text, where = line.rstrip(), file.span(number)
        if not text:
            continue
        if (found := _OLD_ROUTE.fullmatch(text)) is not None:
            to, gateway, mask, flags, metric, leaves = found.groups()
            try:
                network = str(IPv4Network(f"{to}/{mask}"))
            except ValueError:
                ledger.unread(where, "is not a line of `route -n`")
                continue
            described: dict[str, Any] = {"dst": "default" if network == "0.0.0.0/0" else network, "dev": leaves}
            described["metric"] = int(metric)
            if "!" in flags or leaves in ("*", "-"):
                described["type"] = "unreachable"
            if "G" in flags:
                described["gateway"] = gateway
            yield number, described
        elif _NEXT_HOP.fullmatch(text) or _ROUTE_TABLE.fullmatch(text) or _ROUTE_HEAD.fullmatch(text):
            pass  # of several ways at once none is certain; the line above named no interface
        elif (found := _ROUTE.fullmatch(text)) is not None:
            yield number, _route(found)
        else:
            ledger.unread(where, "is not a line of `ip route`")
            continue
        ledger.read(where)


def _route(found: re.Match[str]) -> dict[str, Any]:
    out: dict[str, Any] = {"dst": found[2], **({"type": found[1]} if found[1] else {})}
    words = found[3].split()
    for name, value in pairwise(words):
        if name in _HELD:
            out.setdefault(name, int(value) if name == "metric" and _METRIC.fullmatch(value) else value)
        elif name == "via":
            out.setdefault("gateway", value if value not in ("inet", "inet6") else words[words.index("via") + 2])
        elif name == "pref":
            out["pref"] = value
    return out


def socket(line: str) -> tuple[str, str, int] | None:
    """Protocol, address and port of what listens by a line of `ss` or `netstat`; None if it is none.

    `ss -lt` and `ss -lu` leave the protocol out, which the state tells.
    """
    if (found := _SOCKET.match(line.strip())) is not None:
        protocol = found[1] or ("tcp" if found[2] == "LISTEN" else "udp")
        host, port = found[3], found[4]
    elif (found := _OLD_SOCKET.fullmatch(line.strip())) is not None:
        protocol, host, port = found.groups()
    else:
        return None
    return (protocol, host.strip("[]").split("%")[0], int(port)) if int(port) <= 65535 else None


def listed_protocols(lines: Iterable[str]) -> frozenset[int]:
    """The protocols a listing of sockets is of, by number: `ss` names the protocol of each socket where it was asked for several; of
    `netstat` only what it shows is sure to have been asked for."""
    out: set[int] = set()
    for line in lines:
        if line.startswith("Netid") or ((found := _SOCKET.match(line.strip())) is not None and found[1]):
            return frozenset({6, 17})
        if (one := socket(line)) is not None:
            out.add(6 if one[0] == "tcp" else 17)
    return frozenset(out)


def is_no_listener(line: str) -> bool:
    """Whether a line of `ss` or `netstat` is a heading, or tells of something else than a port that waits."""
    return _SOCKET_HEAD.fullmatch(line.strip()) is not None or _OTHER_SOCKET.fullmatch(line.strip()) is not None

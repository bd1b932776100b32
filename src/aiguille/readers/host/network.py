"""What a host's own commands print of its network, by machine (`ip -j addr`, `link`, `route`, `rule`) or for people; see `commands`."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.model import (
    Addresses,
    Interface,
    Listener,
    ManagementService,
    MaskedAddress,
    NotUnderstoodError,
    Numbers,
    Route,
    ServiceTerm,
    Side,
    Span,
    Zone,
)
from aiguille.readers.bundle import Bundle
from aiguille.readers.files import ExportFile, LedgerBuilder, json_text
from aiguille.readers.host import commands
from aiguille.readers.literals import read_address, read_network
from aiguille.readers.part import FirewallPart

_NAMES = {
    ("tcp", 22): ("ssh", False),
    ("tcp", 23): ("telnet", True),
    ("tcp", 21): ("ftp", True),
    ("udp", 69): ("tftp", True),
    ("udp", 161): ("snmp", True),
    ("tcp", 5900): ("screen sharing", True),
    ("tcp", 3389): ("remote desktop", False),
    ("tcp", 9090): ("web administration", False),
    ("tcp", 10000): ("web administration", False),
    ("tcp", 5432): ("database (postgresql)", False),
    ("tcp", 3306): ("database (mysql)", False),
    ("tcp", 6379): ("key store (redis)", True),
}
"""What listens on a port that is used to manage a host, and whether it sends passwords readable. A web server is what many
hosts are there for; where it manages the host, the engagement file says so (``management``)."""


class Network(Struct):
    """Interfaces by name, and the one the default route leaves by."""

    interfaces: dict[str, Interface] = field(default_factory=dict)
    default: tuple[str, Span] | None = None
    routes: list[Route] = field(default_factory=list)


_REFUSING = ("blackhole", "unreachable", "prohibit")
"""Kinds of routes that lead nowhere (ip-route(8))."""
_EVERYWHERE = read_network("0.0.0.0/0")
_TO_ITSELF = ("local", "broadcast", "anycast", "multicast")


def kind_of(file: ExportFile) -> str:
    """ "addr", "link", "route" or "rule" for what `ip` prints, "ss" for listening sockets, "" for anything else."""
    head = next((line.strip() for line in file.lines if line.strip()), "")
    if not head.startswith("["):
        return commands.kind_of(file)
    try:
        data = json.loads(json_text(file))
    except (ValueError, RecursionError):
        return ""  # no JSON, or with numbers that nobody can mean
    first = data[0] if isinstance(data, list) and data and isinstance(data[0], dict) else {}
    if "addr_info" in first:
        return "addr"
    if "ifname" in first:
        return "link"
    if "priority" in first and ("table" in first or "action" in first):
        return "rule"
    return "route" if "dst" in first else ""


def read(bundle: Bundle, ledger: LedgerBuilder) -> Network:
    """Interfaces with their addresses, and the default route."""
    out, ruled = Network(), None
    routes: list[tuple[int, Route]] = []
    for file in bundle.files:
        kind = kind_of(file)
        if kind not in ("addr", "link", "route", "rule"):
            continue
        for where, one in _entries(file, kind, ledger):
            if kind == "route":
                if (found := _route(file, one, where)) is not None:
                    routes.append((_metric(one), found))
            elif kind == "rule":
                ruled = ruled or (None if _is_usual(one) else where)
            elif isinstance(name := one.get("ifname"), str) and name:
                _interface(out, name, one, where)
    # Of routes to one network that with the least metric counts (ip-route(8)).
    out.routes = [route for _, route in sorted(routes, key=lambda one: one[0])]
    ways_out = (r for r in out.routes if r.network == _EVERYWHERE and r.interface)
    out.default = next(((r.interface, r.where) for r in ways_out if r.where is not None), None)
    if ruled is not None:
        ledger.problem(
            ruled, "rules for routing send some packets another way than their destination says; ways are left open"
        )
        out.routes.clear()
    return out


def _is_usual(rule: dict[str, Any]) -> bool:
    """Whether a rule for routing is one of the three that every host has (ip-rule(8))."""
    plain = set(rule) <= {"priority", "src", "table", "protocol"} and rule.get("src") == "all"
    return plain and rule.get("table") in ("local", "main", "default")


def _entries(file: ExportFile, kind: str, ledger: LedgerBuilder) -> Iterator[tuple[Span, dict[str, Any]]]:
    """What a file tells of interfaces, routes or rules for routing, each with its line."""
    if not next((line.strip() for line in file.lines if line.strip()), "").startswith("["):
        listed = commands.routes(file, ledger) if kind == "route" else commands.interfaces(file, ledger)
        yield from ((file.span(number), one) for number, one in listed)
        return
    ledger.read(file.span(1, len(file.lines)))
    for one in json.loads(json_text(file)):
        if isinstance(one, dict):
            word = one.get({"route": "dst", "rule": "priority"}.get(kind, "ifname"), "")
            yield _line(file, str(word) if kind == "rule" else f'"{word}"'), one


def _line(file: ExportFile, word: str) -> Span:
    """The line that names an interface; the commands print all in one line or, with -p, one value a line."""
    number = next((n for n, line in enumerate(file.lines, 1) if word in line), 1)
    return file.span(number)


def _route(file: ExportFile, route: dict[str, Any], where: Span) -> Route | None:
    """A route of the main table; None for what says nothing of where packets to a network leave."""
    if str(route.get("table", "main")) not in ("main", "254") or route.get("type") in _TO_ITSELF:
        return None  # looked at for some packets only, or a host's own addresses
    described, leaves = route.get("dst"), route.get("dev", "")
    if not isinstance(described, str) or not isinstance(leaves, str):
        return None
    if route.get("type") in _REFUSING:
        leaves = ""
    elif not leaves:
        return None  # several ways at once: where a packet leaves is not stated
    six = ":" in str(route.get("gateway", "")) or "pref" in route or "6" in file.path.rsplit("/", 1)[-1]
    try:
        network = read_network(("::/0" if six else "0.0.0.0/0") if described == "default" else described)
    except NotUnderstoodError:
        return None
    return Route(network, leaves, where, _gateway(route)) if isinstance(network, Addresses) else None


def _metric(route: dict[str, Any]) -> int:
    metric = route.get("metric", 0)
    return metric if isinstance(metric, int) else 0


def _gateway(route: dict[str, Any]) -> Addresses | None:
    """The router a route leads to: ``gateway``, or ``via`` where it is of the other family (ip-route(8))."""
    described = route.get("gateway") or (route["via"].get("host") if isinstance(route.get("via"), dict) else None)
    try:
        family, value = read_address(str(described))
    except NotUnderstoodError:
        return None
    return Addresses(family, value, value)


def _interface(out: Network, name: str, data: dict[str, Any], where: Span) -> None:
    known = out.interfaces.get(name)
    addresses: list[Addresses] = list(known.addresses) if known else []
    networks: list[Addresses] = list(known.networks) if known else []
    listed = data.get("addr_info", [])
    for info in listed if isinstance(listed, list) else []:
        try:
            text, length = str(info["local"]), int(info["prefixlen"])
            family, value = read_address(text)
            network = read_network(f"{text}/{length}")
        except (NotUnderstoodError, KeyError, TypeError, ValueError):
            continue
        addresses.append(Addresses(family, value, value))
        if not isinstance(network, MaskedAddress):
            networks.append(network)
    flags = data.get("flags")
    flags = flags if isinstance(flags, list) else []
    out.interfaces[name] = Interface(
        name,
        known.where if known else where,
        tuple(dict.fromkeys(addresses)),
        tuple(dict.fromkeys(networks)),
        enabled="UP" in flags if flags else known is None or known.enabled,
        all_listed=isinstance(data.get("addr_info"), list) or (known is not None and known.all_listed),
        linked={"UP": True, "DOWN": False}.get(str(data.get("operstate")), known.linked if known else None),
    )


def joined(network: Network, part: FirewallPart) -> tuple[Interface, ...]:
    """Interfaces of the host, with the zone the firewall puts them in."""
    out = dict(network.interfaces)
    for one in part.interfaces:
        known = out.get(one.name)
        out[one.name] = replace(known, zone=one.zone) if known else one
    return tuple(out[name] for name in sorted(out))


def zones(network: Network, part: FirewallPart) -> tuple[Zone, ...]:
    """Zones of the firewall, interfaces of none in its default one; the zone that holds the default route is the outside, a guess
    that says so."""
    bound = {name for zone in part.zones for name in zone.interfaces}
    free = tuple(sorted(name for name in network.interfaces if name not in bound and name != "lo"))
    held = [
        replace(zone, interfaces=(*zone.interfaces, *free)) if zone.name and zone.name == part.default_zone else zone
        for zone in part.zones
    ]
    if network.default is None:
        return tuple(held)
    device, where = network.default
    why = f"the default route leaves by {device} ({where})"
    out = []
    placed = False
    for zone in held:
        if device in zone.interfaces and zone.side is None:
            zone = replace(zone, side=Side.OUTSIDE, guessed=why)
        placed = placed or device in zone.interfaces
        out.append(zone)
    if not placed:
        out.append(Zone("outside", (device,), Side.OUTSIDE, where=where, guessed=why))
    return tuple(out)


def listening(
    bundle: Bundle, ledger: LedgerBuilder, known: Sequence[ManagementService]
) -> tuple[ManagementService, ...]:
    """Ways to manage the host: those its files state, and what listens on ports that are used for it.

    What listens on the loopback only is no way in.
    """
    out = list(known)
    held = {(t.protocol.first, p.first) for one in known for t in one.terms for p in t.destination_ports}
    for file in bundle.files:
        if kind_of(file) != "ss":
            continue
        for number, line in enumerate(file.lines, 1):
            where = file.span(number)
            socket = commands.socket(line)
            if socket is None:
                if commands.is_no_listener(line):
                    ledger.set_aside(where, "a heading, or nothing that listens on a port")
                elif line.strip():
                    ledger.unread(where, "is not a line of `ss -tuln`")
                continue
            ledger.read(where)
            protocol, host, port = socket
            key = (6 if protocol == "tcp" else 17, port)
            if host.startswith("127.") or host == "::1" or (protocol, port) not in _NAMES:
                continue
            if key in held:
                # What listens is better evidence than a file that leaves the port to the program's default.
                out = [replace(one, where=where) if _by_default(one, key, bundle) else one for one in out]
                continue
            held.add(key)
            name, cleartext = _NAMES[protocol, port]
            term = ServiceTerm(Numbers(key[0], key[0]), (), (Numbers(port, port),))
            out.append(ManagementService(name, (term,), cleartext, where))
    return tuple(out)


def listeners(bundle: Bundle) -> tuple[Listener, ...]:
    """Every socket that listens at more than the loopback, whatever it is for."""
    out: dict[tuple[int, int], Listener] = {}
    for file in bundle.files:
        if kind_of(file) != "ss":
            continue
        for number, line in enumerate(file.lines, 1):
            socket = commands.socket(line)
            if socket is None:
                continue
            protocol, host, port = socket
            if not host.startswith("127.") and host != "::1":
                key = (6 if protocol == "tcp" else 17, port)
                out.setdefault(key, Listener(*key, file.span(number)))
    return tuple(out.values())


def listed(bundle: Bundle) -> frozenset[int]:
    """The protocols of which some file lists all sockets that listen."""
    return frozenset(p for file in bundle.files if kind_of(file) == "ss" for p in commands.listed_protocols(file.lines))


def _by_default(service: ManagementService, key: tuple[int, int], bundle: Bundle) -> bool:
    """Whether a service on this protocol and port stands on a line that does not say so."""
    ports = {(t.protocol.first, p.first) for t in service.terms for p in t.destination_ports}
    file = next((one for one in bundle.files if service.where is not None and one.path == service.where.file), None)
    if key not in ports or file is None or service.where is None:
        return False
    return str(key[1]) not in file.lines[service.where.first - 1]

"""What firewalld ships, for exports without a copy of its definitions: services, kinds of ICMP, zones.

Services are data, in `services.toml`; a copy of usr/lib/firewalld/services beside the export counts above that.
"""

from __future__ import annotations

from functools import cache
from importlib.resources import files

from msgspec import Struct


class Service(Struct, frozen=True):
    """Ports as (protocol, port or range), bare protocols, destinations by family, services it takes in."""

    ports: tuple[tuple[str, str], ...] = ()
    protocols: tuple[str, ...] = ()
    source_ports: tuple[tuple[str, str], ...] = ()
    destination: tuple[tuple[str, str], ...] = ()
    includes: tuple[str, ...] = ()


@cache
def shipped_services() -> dict[str, Service]:
    """Every service of the table `services.toml`, by name."""
    import tomllib  # only exports of firewalld need it

    data = tomllib.loads((files(__package__) / "services.toml").read_text(encoding="utf-8"))
    return {name: _service(text.split(", ")) for name, text in data.items()}


def _service(words: list[str]) -> Service:
    """A service from the words of the table, whose head shows what they mean."""
    ports, sources = [], []
    protocols, destinations, includes = [], [], []
    for said in words:
        how, _, rest = said.rpartition(" ")
        port, _, protocol = rest.partition("/")
        match how:
            case "from":
                sources.append((protocol, port))
            case "to":
                destinations.append(("ipv6" if ":" in rest else "ipv4", rest))
            case "with":
                includes.append(rest)
            case _ if protocol:
                ports.append((protocol, port))
            case _:
                protocols.append(port)
    return Service(tuple(ports), tuple(protocols), tuple(sources), tuple(destinations), tuple(includes))


ICMP: dict[str, tuple[tuple[int, str, int | None], ...]] = {
    # (family, type as nft names it, code)
    "address-unreachable": ((6, "destination-unreachable", 3),),
    "bad-header": ((6, "parameter-problem", 0),),
    "beyond-scope": ((6, "destination-unreachable", 2),),
    "communication-prohibited": ((4, "destination-unreachable", 13),),
    "destination-unreachable": ((4, "destination-unreachable", None), (6, "destination-unreachable", None)),
    "echo-reply": ((4, "echo-reply", None), (6, "echo-reply", None)),
    "echo-request": ((4, "echo-request", None), (6, "echo-request", None)),
    "failed-policy": ((6, "destination-unreachable", 5),),
    "fragmentation-needed": ((4, "destination-unreachable", 4),),
    "host-prohibited": ((4, "destination-unreachable", 10),),
    "host-redirect": ((4, "redirect", 1),),
    "host-unknown": ((4, "destination-unreachable", 7),),
    "host-unreachable": ((4, "destination-unreachable", 1),),
    "neighbour-advertisement": ((6, "nd-neighbor-advert", None),),
    "neighbour-solicitation": ((6, "nd-neighbor-solicit", None),),
    "network-prohibited": ((4, "destination-unreachable", 9),),
    "network-redirect": ((4, "redirect", 0),),
    "network-unreachable": ((4, "destination-unreachable", 0),),
    "no-route": ((6, "destination-unreachable", 0),),
    "packet-too-big": ((6, "packet-too-big", None),),
    "parameter-problem": ((4, "parameter-problem", None), (6, "parameter-problem", None)),
    "port-unreachable": ((4, "destination-unreachable", 3), (6, "destination-unreachable", 4)),
    "protocol-unreachable": ((4, "destination-unreachable", 2),),
    "redirect": ((4, "redirect", None), (6, "nd-redirect", None)),
    "reject-route": ((6, "destination-unreachable", 6),),
    "router-advertisement": ((4, "router-advertisement", None), (6, "nd-router-advert", None)),
    "router-solicitation": ((4, "router-solicitation", None), (6, "nd-router-solicit", None)),
    "source-quench": ((4, "source-quench", None),),
    "time-exceeded": ((4, "time-exceeded", None), (6, "time-exceeded", None)),
    "timestamp-reply": ((4, "timestamp-reply", None),),
    "timestamp-request": ((4, "timestamp-request", None),),
    "ttl-zero-during-reassembly": ((4, "time-exceeded", 1), (6, "time-exceeded", 1)),
    "ttl-zero-during-transit": ((4, "time-exceeded", 0), (6, "time-exceeded", 0)),
}
"""ICMP types by the names firewalld gives them (RFC 792, RFC 4443)."""

ZONES: dict[str, tuple[str, tuple[str, ...], bool]] = {
    "block": ("%%REJECT%%", (), False),
    "dmz": ("default", ("ssh",), False),
    "drop": ("DROP", (), False),
    "external": ("default", ("ssh",), True),
    "home": ("default", ("ssh", "mdns", "samba-client", "dhcpv6-client"), False),
    "internal": ("default", ("ssh", "mdns", "samba-client", "dhcpv6-client"), False),
    "public": ("default", ("ssh", "dhcpv6-client"), False),
    "trusted": ("ACCEPT", (), False),
    "work": ("default", ("ssh", "dhcpv6-client"), False),
}
"""Zones firewalld ships: target, services, masquerade. All forward between their own interfaces (version 1.0 and later)."""

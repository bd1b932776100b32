"""Zones, interfaces and hosts of a Shorewall folder (shorewall-zones(5), shorewall-interfaces(5), shorewall-hosts(5))."""

from __future__ import annotations

import re

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.model import Span, UnreadableError
from aiguille.readers.shorewall.columns import address_words
from aiguille.readers.shorewall.lines import ColumnRow, Folder, parse_or_raise

_OPTIONS = frozenset([
    "accept_ra", "arp_filter", "arp_ignore", "blacklist", "bridge", "broadcast", "dbl", "destonly",
    "detectnets", "dhcp", "forward", "ignore", "logmartians", "maclist", "mss", "nets", "nodbl", "norfc1918",
    "nosmurfs", "omitanycast", "optional", "physical", "proxyarp", "proxyndp", "required", "routeback",
    "routefilter", "rpfilter", "sfilter", "sourceonly", "sourceroute", "tcpflags", "unmanaged", "wait",
])  # fmt: skip
"""Options of interfaces and hosts that are known (shorewall-interfaces(5), shorewall-hosts(5))."""


class Interface(Struct):
    """An interface as the tables name it; name: as the kernel does (``ppp+`` for all that begin so)."""

    name: str
    options: dict[str, str]
    where: Span
    zone: str = ""

    def has(self, option: str, usual: str = "0") -> bool:
        """Whether an option is on; usual: what counts where it is not given."""
        return self.options.get(option, usual) not in ("0", "no", "No")


class Group(Struct, frozen=True):
    """Hosts of a zone behind one interface: networks (none: all) without some."""

    interface: Interface
    networks: tuple[str, ...]
    without: tuple[str, ...]
    options: frozenset[str]
    where: Span


class Zone(Struct):
    """A zone; parents: zones it lies within."""

    name: str
    parents: tuple[str, ...]
    kind: str
    where: Span
    groups: list[Group] = field(default_factory=list)

    @property
    def interfaces(self) -> dict[str, Interface]:
        return {group.interface.name: group.interface for group in self.groups}

    @property
    def ipsec(self) -> bool:
        return self.kind.startswith("ipsec")

    @property
    def within(self) -> bool:
        """Whether packets may run between hosts of the zone: it has several interfaces, or they go back out of one."""
        return len(self.interfaces) > 1 or any("routeback" in g.options for g in self.groups)


class Network:
    """All zones, in the order of their names in the tables with those inside others first."""

    def __init__(self, folder: Folder) -> None:
        self.folder = folder
        self.firewall = ""
        self.zones: dict[str, Zone] = {}
        self.interfaces: dict[str, Interface] = {}
        for row in folder.rows("zones"):
            self._zone(row)
        if not self.firewall:
            raise UnreadableError(
                f"{folder.home.file}: no zone of type 'firewall' is in {folder.root}zones; copy the whole folder"
            )
        for row in folder.rows("interfaces"):
            self._interface(row)
        for row in folder.rows("hosts"):
            self._hosts(row)
        self.order = self._ordered()

    def zone(self, name: str, where: Span) -> Zone:
        """The zone of that name; raises UnreadableError where there is none."""
        if name not in self.zones:
            raise UnreadableError(
                f"{where}: '{name}' is no zone of this folder; Shorewall refuses such a configuration, so these files are not what runs"
            )
        return self.zones[name]

    def _zone(self, row: ColumnRow) -> None:
        name, _, parents = row.columns[0].partition(":")
        kind = row.column(1, "type").lower() or "ip"
        if kind == "firewall":
            self.firewall = name
            self.folder.values["FW"] = name
        known = {"ip", "ipv4", "ipv6", "firewall", "local", "loopback", "ipsec", "ipsec4", "ipsec6"}
        if kind not in known:
            why = f"zones of type '{kind}' are not followed; packets from and to this one may fare otherwise than shown"
            self.folder.ledger.problem(row.where, why)
            self.folder.ledger.unread(row.where, why)
        else:
            self.folder.ledger.read(row.where)
        self.zones[name] = Zone(name, tuple(filter(None, parents.split(","))), kind, row.where)
        for parent in self.zones[name].parents:
            self.zone(parent, row.where)

    def _interface(self, row: ColumnRow) -> None:
        zone = row.columns[0] if row.columns[0] != "-" else ""
        name = row.column(1, "interface").split(":")[0]
        options = _options(row.column(2 if row.table_format == 2 else 3, "options"))
        self._check(options, row.where)
        interface = Interface(options.get("physical", name), options, row.where, zone)
        self.interfaces[name] = interface
        if not zone:
            return
        networks, without = _networks(options.get("nets", ""))
        held = frozenset(k for k in options if interface.has(k))
        if networks:
            held |= {"broadcast"}
        self._add(zone, Group(interface, networks, without, held, row.where))
        if networks:
            # Packets to a multicast group leave by an interface whose networks are listed, too.
            multicast = "224.0.0.0/4" if self.folder.family == 4 else "ff00::/8"
            self._add(zone, Group(interface, (multicast,), (), held - {"broadcast"} | {"destonly"}, row.where))

    def _hosts(self, row: ColumnRow) -> None:
        name, _, addresses = row.column(1, "hosts|host|host_list").partition(":")
        interface = self.interfaces.get(name) or next(
            (i for n, i in self.interfaces.items() if n.endswith("+") and name.startswith(n[:-1])), None
        )
        if interface is None:
            raise UnreadableError(
                f"{row.where}: interface '{name}' is not in {self.folder.root}interfaces; Shorewall refuses that"
            )
        options = _options(row.column(2, "options"))
        self._check(options, row.where)
        networks, without = _networks(addresses)
        held = frozenset(k for k, v in options.items() if v != "0")
        self._add(row.columns[0], Group(interface, networks, without, held, row.where))

    def _add(self, name: str, group: Group) -> None:
        zone = self.zone(name, group.where)
        for net in (*group.networks, *group.without):
            if net != "dynamic":
                parse_or_raise(group.where, lambda text: address_words(text, "s"), net)
        if "bridge" in group.options:
            group = replace(group, options=group.options | {"routeback"})
        zone.groups.append(group)

    def _check(self, options: dict[str, str], where: Span) -> None:
        unknown = [name for name in options if name not in _OPTIONS]
        for name in unknown:
            why = f"the option '{name}' is not known; what it changes is missing here"
            self.folder.ledger.problem(where, why)
            self.folder.ledger.unread(where, why)
        if "maclist" in options:
            self.folder.ledger.problem(where, "'maclist' refuses by hardware address, which is not followed here")
        if not unknown:
            self.folder.ledger.read(where)

    def _ordered(self) -> list[Zone]:
        """Zones without the firewall's own: each after those that lie within it (shorewall-zones(5))."""
        rest = [zone for zone in self.zones.values() if zone.name != self.firewall]
        out: list[Zone] = []
        while rest:
            free = [zone for zone in rest if not any(zone.name in other.parents for other in rest)]
            out.append(free[0])
            rest.remove(free[0])
        return out


def _options(text: str) -> dict[str, str]:
    """``dhcp,nets=(10.0.0.0/8,10.9.0.0/16),tcpflags=0`` by name; a bare name has "1"."""
    out = {}
    for part in re.findall(r"[^,(]+(?:\([^)]*\))?", text):
        name, found, value = part.strip().partition("=")
        if name:
            out[name] = value.strip("()") if found else "1"
    return out


def _networks(text: str) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """``10.0.0.0/8,10.1.0.0/16!10.0.9.0/24`` into the networks and those left out."""
    inside, _, outside = (
        text.strip("()").replace("<", "").replace(">", "").replace("[", "").replace("]", "").partition("!")
    )
    whole = ("0.0.0.0/0", "::/0")
    return (
        tuple(part for part in inside.split(",") if part and part not in whole),
        tuple(part for part in outside.split(",") if part),
    )

"""Which interfaces lie on which side, and a guess where nobody says and the export gives it away."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from ipaddress import ip_network

from msgspec import Struct
from msgspec.structs import replace

from aiguille.analysis.loopback import LOOPBACK
from aiguille.analysis.program import Programs
from aiguille.analysis.services import GENERAL_HOSTS
from aiguille.model import (
    Action,
    Addresses,
    Condition,
    Device,
    Field,
    Interface,
    InterfaceName,
    Named,
    Operand,
    Rule,
    Side,
    Span,
    Translate,
    TranslationKind,
    Zone,
    is_container_bridge,
)
from aiguille.space import Axis, Box, IntervalSet, Symbols, box


class Entrance(Struct, frozen=True):
    """Where traffic comes in: some interfaces, what to call them, and the side they are on (None if unknown)."""

    label: str
    interfaces: IntervalSet
    side: Side | None

    @property
    def region(self) -> Box:
        return box([(Axis.IN, self.interfaces)])


def entrances(programs: Programs) -> tuple[Entrance, ...]:
    """Every way in, the loopback apart: one a zone, then the interfaces no zone holds, whose side nobody knows.

    Where an outside is known those are ways in of their own, under their names; else one, which may face the outside.
    """
    device = programs.device
    symbols = programs.resolver(4).space.symbols
    out: list[Entrance] = []
    placed = IntervalSet()
    for zone in device.zones:
        if zone.side is Side.DEVICE or not zone.interfaces:
            continue
        held = IntervalSet.of(*(symbols.number(name) for name in zone.interfaces))
        placed = placed | held
        out.append(Entrance(zone.name, held, zone.side))
    rest = symbols.present - placed - loopback(symbols)
    if not any(entrance.side is Side.OUTSIDE for entrance in out):
        # Whatever the interfaces left over are called, the one to the outside may be among them.
        out.append(Entrance(UNKNOWN_SIDE, rest, None))
    else:
        numbers = (n for n, name in enumerate(symbols.names) if name in interface_names(device) and n in rest)
        out += [Entrance(symbols.names[n], IntervalSet.of(n), None) for n in numbers]
    return tuple(out)


UNKNOWN_SIDE = "an interface of unknown side"


def each_interface(programs: Programs) -> tuple[Entrance, ...]:
    """One way in for each interface the rules can tell apart, the loopback apart; the last stands for all unnamed ones."""
    symbols = programs.resolver(4).space.symbols
    numbers = [n for n in range(1, symbols.top + 1) if n not in loopback(symbols)]
    return tuple(
        Entrance(symbols.name(n) if n < len(symbols.names) else "an interface no rule names", IntervalSet.of(n), None)
        for n in numbers
    )


def outside_known(device: Device) -> bool:
    """Whether at least one interface is known, or safely guessed, to face the outside."""
    return any(zone.side is Side.OUTSIDE and zone.interfaces for zone in device.zones)


def existing(device: Device, symbols: Symbols) -> IntervalSet:
    """The interfaces the device has or may get, where the export lists them with their addresses; else every one there may be."""
    listed = [one.name for one in device.interfaces if one.name in symbols.names and one.enabled]
    if not any(one.addresses for one in device.interfaces):
        return symbols.present
    # A zone that somebody says the side of is there for a purpose; its interfaces may have been left out.
    names = {one.name for one in device.interfaces}
    stated = [zone.name for zone in device.zones if zone.side is not None and not zone.guessed]
    listed += [name for name in stated if name not in names and name in symbols.names]
    # A tunnel or the bridge of a container engine that is down today is up tomorrow, and its rules stand.
    listed += [name for name in symbols.names if name not in names and name.startswith(_COMING_AND_GOING)]
    return IntervalSet.of(*(symbols.number(name) for name in listed))


def not_loopback(symbols: Symbols) -> Box:
    """Packets that arrive on any interface but the loopback."""
    return box([(Axis.IN, symbols.present - loopback(symbols))])


def loopback(symbols: Symbols) -> IntervalSet:
    """The loopback interface, where the rules or the device name it."""
    return IntervalSet.of(symbols.number(LOOPBACK)) if LOOPBACK in symbols.names else IntervalSet()


SIDE_WORDS: dict[Side, tuple[str, ...]] = {
    Side.OUTSIDE: (
        "wan",
        "internet",
        "outside",
        "external",
        "extern",
        "ext",
        "uplink",
        "untrusted",
        "isp",
        "public",
        "externe",
        "esterno",
        "esterna",
        "aussen",
        "außen",
        "öffentlich",
    ),
    Side.DMZ: ("dmz", "demilitarized"),
    Side.GUEST: (
        "guest",
        "guests",
        "gst",
        "guestnet",
        "guestlan",
        "guestwifi",
        "visitor",
        "visitors",
        "hotspot",
        "gast",
        "gäste",
        "gaeste",
        "invités",
        "invites",
        "visiteurs",
        "ospiti",
    ),
    Side.MANAGEMENT: ("mgmt", "management", "admin", "oob", "verwaltung", "gestion", "gestione"),
    Side.INSIDE: (
        "lan",
        "loc",
        "local",
        "inside",
        "internal",
        "intern",
        "office",
        "trusted",
        "private",
        "intranet",
        "staff",
        "interne",
        "interno",
        "interna",
        "innen",
        "büro",
        "bureau",
        "bureaux",
        "ufficio",
    ),
}
"""Plain words for what lies behind an interface or zone, in English, German, French and Italian."""

_INDOORS = ("wlan", "wifi", "wireless", "iot", "camera", "cameras", "cams", "cctv", "phones", "printers", "clients", "users",
            "scada", "plc", "ot", "home")  # fmt: skip
"""What a network inside is called after; it says so only where the outside is known, as a portable machine's `wlan0` may face it."""

TUNNELS = ("wg", "tun", "tap", "vti", "xfrm", "ipsec", "ppp", "gre", "sit")
"""How names of interfaces begin behind which those come in who were asked who they are."""

_COMING_AND_GOING = (*TUNNELS, "docker", "br-", "virbr", "vnet", "veth", "wwan", "usb")
"""How names of interfaces begin that are there while something runs or is plugged in."""

_PARTS = re.compile(r"[^\W\d_]+")


def side_in(name: str) -> Side | None:
    """The side a name says in plain words (``wan0``, ``Guest WiFi``), None if it says none, or two."""
    if name.lower() == "net":
        return Side.OUTSIDE  # as zones on the way to the internet are often called
    words = set(_PARTS.findall(name.lower()))
    found = [side for side, said in SIDE_WORDS.items() if words & set(said)]
    return found[0] if len(found) == 1 else None


def guess_sides(device: Device) -> Device:
    """The device with sides where nobody states them and the guess is safe; each guess says so, and why.

    A name that says a side in plain words; the interface the default route leaves by, or behind which all inside addresses
    are hidden, as the outside; and where an outside is known, another interface with only private networks or hosts, the only other
    one there is, or one called after what is found in a house, as inside.
    """
    # Where a side is stated in words nobody knows, a guess would speak against the export.
    odd = {zone.name for zone in device.zones if zone.where is not None and _not_understood(device, zone.where)}
    zones = [zone if zone.name in odd else _named(zone) for zone in device.zones]
    if device.dialect not in GENERAL_HOSTS:
        zones = list(_with_ways_in(device, zones))
    placed = {name for zone in zones for name in zone.interfaces}
    places = _places(device)
    for name in sorted(set(places) - placed - {LOOPBACK}):
        if (side := side_in(name)) is not None:
            zones.append(Zone(name, (name,), side, where=places[name], guessed=f"the interface's name, {name}"))
            placed.add(name)
    outside = _outside(device)
    if outside is not None and not any(zone.side is Side.OUTSIDE and zone.interfaces for zone in zones):
        zones = _placed(zones, outside)
        placed.add(outside.interfaces[0])
    if any(zone.side is Side.OUTSIDE and zone.interfaces for zone in zones):
        for name in sorted(set(places) - placed):
            if is_container_bridge(name):
                why = f"{name} is a bridge to containers or virtual machines"
                zones.append(Zone(name, (name,), Side.DMZ, where=places[name], guessed=why))
                placed.add(name)
        ways_out = {route.interface for route in device.routes if route.network in EVERYWHERE}
        inner = {
            one.name: one
            for one in device.interfaces
            if one.enabled and _private(one.networks) and one.name not in ways_out
        }
        zones = [zone if zone.name in odd else _inner(zone, inner) for zone in zones]
        zones = [zone if zone.name in odd else _indoors(zone) for zone in zones]
        for name in sorted(set(inner) - placed - {LOOPBACK}):
            why = f"only private networks on {name}"
            zones.append(Zone(name, (name,), Side.INSIDE, inner[name].networks, inner[name].where, why))
            placed.add(name)
        zones = list(_with_hosts(device, zones, odd, {n: w for n, w in places.items() if n not in ways_out}, outside))
        placed = {name for zone in zones for name in zone.interfaces}
        for name in sorted(set(places) - placed - ways_out - {LOOPBACK}):
            if _named_indoors(name):
                zones.append(
                    Zone(name, (name,), Side.INSIDE, where=places[name], guessed=f"the interface's name, {name}")
                )
    return device if tuple(zones) == device.zones else replace(device, zones=tuple(zones))


def _not_understood(device: Device, where: Span) -> bool:
    """Whether some line of a place was not understood."""
    return any(
        one.where.file == where.file and one.where.first <= where.last and where.first <= one.where.last
        for one in device.ledger.unread
    )


def _with_ways_in(device: Device, zones: list[Zone]) -> Iterator[Zone]:
    """Zones, each with a way in: where an export has none, the zone itself stands for it, under its own name.

    Where the export lists no zone with its interfaces, those that rules name are added, with the side their name says; where it does, a
    zone that rules name and it does not list is one nobody knows.
    """
    known = {zone.name for zone in zones}
    lists_them = any(zone.interfaces for zone in zones)
    for zone in zones:
        free = not zone.interfaces and zone.side is not Side.DEVICE
        yield replace(zone, interfaces=(zone.name,)) if free else zone
    for rulebase in device.rulebases if not lists_them else ():
        for _, rule in rulebase.rules():
            for condition in rule.match.conditions:
                if condition.field not in (Field.IN_ZONE, Field.OUT_ZONE):
                    continue
                for operand in condition.operands:
                    if isinstance(operand, Named) and operand.name not in known:
                        known.add(operand.name)
                        side = side_in(operand.name)
                        why = f"the zone's name, {operand.name}" if side is not None else ""
                        yield Zone(operand.name, (operand.name,), side, where=rule.where, guessed=why)


def _named(zone: Zone) -> Zone:
    """A zone with the side its own name says, or else the names of its interfaces all say."""
    if zone.side is not None:
        return zone
    if (side := side_in(zone.name)) is not None:
        return replace(zone, side=side, guessed=f"the zone's name, {zone.name}")
    said = {side_in(name) for name in zone.interfaces}
    side = said.pop() if len(said) == 1 else None
    if side is None or (side is Side.INSIDE and _may_be_others(zone.name)):
        return zone
    plural = "s" if len(zone.interfaces) > 1 else ""
    return replace(zone, side=side, guessed=f"the name{plural} of its interface{plural}, {', '.join(zone.interfaces)}")


def _placed(zones: list[Zone], outside: Zone) -> list[Zone]:
    """The zones with the outside's interface known for what it is, in the zone that holds it or one of its own."""
    (name,) = outside.interfaces
    holder = next((zone for zone in zones if name in zone.interfaces), None)
    if holder is None:
        taken = {zone.name for zone in zones}
        return [*zones, outside if outside.name not in taken else replace(outside, name=name)]
    if holder.side is not None or len(holder.interfaces) > 1:
        return zones
    described = replace(holder, side=Side.OUTSIDE, guessed=outside.guessed)
    return [described if zone is holder else zone for zone in zones]


def _inner(zone: Zone, inner: dict[str, Interface]) -> Zone:
    if zone.side is not None or not zone.interfaces or not inner.keys() >= set(zone.interfaces):
        return zone
    return replace(zone, side=Side.INSIDE, guessed=f"only private networks on {', '.join(zone.interfaces)}")


def _indoors(zone: Zone) -> Zone:
    if zone.side is not None or not zone.interfaces or not _named_indoors(zone.name):
        return zone
    return replace(zone, side=Side.INSIDE, guessed=f"the zone's name, {zone.name}")


_ADDRESSED = "rules let only private addresses in and out there"
_NOT_INDOORS = re.compile(
    r"vpn|tunnel|remote|partner|extranet|supplier|vendor|customer|contractor|wan|server|srv|web|mail|proxy|front|edge|publi",
    re.IGNORECASE,
)
"""What is called so may be others', or be there for the outside, whatever its addresses."""


def _with_hosts(
    device: Device, zones: list[Zone], odd: set[str], places: Mapping[str, Span | None], outside: Zone | None
) -> Iterator[Zone]:
    """The zones, with those inside that accepting rules name private hosts of, and the only interface beside a guessed outside.

    odd: zones not to guess at; places: interfaces that are no way out, and where each first occurs
    """
    hosts = _hosts_there(device)
    inside = {name for name, found in hosts.items() if _all_private(found) and not _may_be_others(name)}
    for zone in zones:
        fits = zone.name not in odd and zone.side is None and inside & {zone.name, *zone.interfaces}
        yield replace(zone, side=Side.INSIDE, guessed=_ADDRESSED) if fits else zone
    free = places.keys() - {name for zone in zones for name in zone.interfaces} - {LOOPBACK}
    for name in sorted(free):
        known = [one for one in hosts.get(name, ()) if one is not None]
        alone = outside is not None and outside.interfaces[0] in places and len(free) == 1 and not _may_be_others(name)
        if name in inside:
            yield Zone(name, (name,), Side.INSIDE, where=places[name], guessed=_ADDRESSED)
        elif alone and outside is not None and all(_private((one,)) for one in known):
            why = f"the only interface beside {outside.interfaces[0]}, behind which addresses are hidden"
            yield Zone(name, (name,), Side.INSIDE, where=places[name], guessed=why)


def _may_be_others(name: str) -> bool:
    return name.startswith(TUNNELS) or _NOT_INDOORS.search(name) is not None


def _all_private(found: list[Addresses | None]) -> bool:
    known = tuple(one for one in found if one is not None)
    return len(known) == len(found) and _private(known)


def _hosts_there(device: Device) -> dict[str, list[Addresses | None]]:
    """By interface or zone the addresses that accepting rules name there, None for each that is not known."""
    hosts: dict[str, list[Addresses | None]] = {}
    members = {one.name: one.members for one in device.addresses if not one.unresolved and not one.excluded}
    for rulebase in device.rulebases:
        for _, rule in rulebase.rules():
            if (
                not rule.enabled
                or rule.action is not Action.ACCEPT
                or any(isinstance(e, Translate) for e in rule.effects)
            ):
                continue
            held = {c.field: c for c in rule.match.conditions if not c.negated}
            for places, ends in ((_IN, Field.SOURCE), (_OUT, Field.DESTINATION)):
                if ends in held:
                    named = list(_hosts(held[ends].operands, members))
                    for o in (o for field in places if field in held for o in held[field].operands):
                        if isinstance(o, _PLACES):
                            hosts.setdefault(o.name, []).extend(named)
    return hosts


_IN, _OUT = (Field.IN_ZONE, Field.IN_INTERFACE), (Field.OUT_ZONE, Field.OUT_INTERFACE)
_PLACES = (Named, InterfaceName)


def _hosts(
    operands: Iterable[Operand], members: Mapping[str, tuple[Operand, ...]], depth: int = 0
) -> Iterator[Addresses | None]:
    """The addresses of operands, None for each of which they are not known."""
    for one in operands:
        if isinstance(one, Named) and one.name in members and depth < _DEPTH:
            yield from _hosts(members[one.name], members, depth + 1)
        else:
            yield one if isinstance(one, Addresses) else None


_DEPTH = 16


def _named_indoors(name: str) -> bool:
    return not set(_PARTS.findall(name.lower())).isdisjoint(_INDOORS)


PRIVATE = ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "fc00::/7")
"""Networks nobody has on the internet (RFC 1918, RFC 4193)."""


EVERYWHERE = (Addresses(4, 0, (1 << 32) - 1), Addresses(6, 0, (1 << 128) - 1))
"""What a default route leads to."""


def is_private(family: int, address: int) -> bool:
    """Whether an address is one that networks use among themselves (RFC 1918, RFC 4193)."""
    return _private((Addresses(family, address, address),))


def _private(networks: tuple[Addresses, ...]) -> bool:
    """Whether there are networks and all of them are private; what every link has by itself counts as none.

    Inside networks have global addresses of IPv6 as a rule (RFC 4864, 4): where there is IPv4, that decides.
    """
    described = [n for n in networks if n.family == 4] or [n for n in networks if n.first >> 118 != 0x3FA]
    held = [ip_network(text) for text in PRIVATE]
    bounds = [(n.version, int(n.network_address), int(n.broadcast_address)) for n in held]
    return bool(described) and all(
        any(n.family == v and a <= n.first and n.last <= b for v, a, b in bounds) for n in described
    )


def interface_names(device: Device) -> tuple[str, ...]:
    """The names of interfaces the export knows or its rules name."""
    zoned = [name for zone in device.zones for name in zone.interfaces]
    return tuple(dict.fromkeys((*_places(device), *zoned)))


def _places(device: Device) -> dict[str, Span | None]:
    """The names of interfaces, and where each first occurs: in the export's list, else in a rule."""
    out: dict[str, Span | None] = {one.name: one.where for one in device.interfaces if one.enabled}
    for rulebase in device.rulebases:
        for _, rule in rulebase.rules():
            for condition in rule.match.conditions:
                for operand in condition.operands:
                    if isinstance(operand, InterfaceName) and not operand.prefix:
                        out.setdefault(operand.name, rule.where)
    return out


def _outside(device: Device) -> Zone | None:
    """The interface that the default route leaves by; else the one where source translation hides inside addresses; else the only
    one with public addresses beside others that have private ones alone.

    A host that hides inside addresses behind its own does so where it leaves for the outside: the interface named by such
    a rule, if all of them name the same one.
    """
    default = next((r for r in device.routes if r.interface and r.network == Addresses(4, 0, 0xFFFFFFFF)), None)
    if default is not None:
        why = f"the default route leaves by {default.interface} ({default.where})"
        return Zone("outside", (default.interface,), Side.OUTSIDE, where=default.where, guessed=why)
    hiding: dict[str, Span] = {}
    for rulebase in device.rulebases:
        for _, rule in rulebase.rules():
            if rule.enabled and any(_hides(effect) for effect in rule.effects):
                found = _leaves_by(rule)
                if found is None:
                    return None
                hiding.setdefault(found, rule.where)
    if not hiding:
        return None if device.routes else _with_public_addresses(device)
    if len(hiding) != 1:
        return None
    name, where = next(iter(hiding.items()))
    why = f"addresses are translated where traffic leaves by {name} ({where})"
    return Zone("outside", (name,), Side.OUTSIDE, where=where, guessed=why)


def _with_public_addresses(device: Device) -> Zone | None:
    numbered = [one for one in device.interfaces if one.enabled and one.networks and one.name != LOOPBACK]
    public = [one for one in numbered if not _private(one.networks) and not one.name.startswith(TUNNELS)]
    if len(public) != 1 or len(numbered) < 2:
        return None
    why = f"the only interface with public addresses is {public[0].name} ({public[0].where})"
    return Zone("outside", (public[0].name,), Side.OUTSIDE, where=public[0].where, guessed=why)


def _hides(effect: object) -> bool:
    return isinstance(effect, Translate) and effect.kind is TranslationKind.SOURCE


def _leaves_by(rule: Rule) -> str | None:
    for condition in rule.match.conditions:
        match condition:
            case Condition(Field.OUT_INTERFACE, (InterfaceName(name, False),), False):
                return name
    return None

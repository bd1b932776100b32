"""The devices of an estate as one network: which interfaces meet, and by which way a packet goes on.

Devices meet where their interfaces have networks in common. A route counts by the length of its prefix (RFC 1812, 5.2.4.3), and
what is connected before what is routed. What the exports do not show is assumed, and said.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property

from msgspec import Struct, field

from aiguille.analysis.loopback import LOOPBACK
from aiguille.model import Addresses, Device, Estate, Interface, Side, UsageError
from aiguille.model.facts import FORWARDING, system_settings
from aiguille.model.spelling import spell_address
from aiguille.space import IntervalSet

Leg = tuple[Device, str]
"""A device, and the interface by which a packet enters it; an empty name where the device itself sends it."""

NOTHING_ASSUMED: tuple[str, ...] = ()

_KEPT = 200_000
"""Ways remembered; more are of addresses that come once."""


class Way(Struct, frozen=True):
    """A route: by which interface, to which router; `leads` is False where it refuses or swallows what follows it.

    direct: the destination itself is behind the interface; assumed: what the export does not state
    """

    interface: str
    via: int | None
    leads: bool
    length: int
    direct: bool
    assumed: str = ""


class _Table:
    """Routes by the length of their prefix; of two for one network the first told counts."""

    def __init__(self) -> None:
        self._by_length: dict[int, dict[int, dict[int, Way]]] = {4: {}, 6: {}}
        self._ranges: list[tuple[Addresses, Way]] = []
        self._lengths: dict[int, list[int]] = {}

    def add(self, network: Addresses, way: Way) -> None:
        size = network.last - network.first + 1
        if size & (size - 1) or network.first % size:
            self._ranges.append((network, way))
            return
        self._by_length[network.family].setdefault(way.length, {}).setdefault(network.first, way)
        self._lengths[network.family] = sorted(self._by_length[network.family], reverse=True)

    def way(self, family: int, address: int) -> Way | None:
        """The longest prefix that holds an address (RFC 1812, 5.2.4.3)."""
        bits = 32 if family == 4 else 128
        best: Way | None = None
        for length in self._lengths.get(family, ()):
            best = self._by_length[family][length].get(address >> (bits - length) << (bits - length))
            if best is not None:
                break
        for network, way in self._ranges:
            held = network.family == family and network.first <= address <= network.last
            if held and (best is None or way.length > best.length):
                best = way
        return best


class Network(Struct, dict=True):
    """The devices of an estate as one network."""

    estate: Estate
    _known: dict[tuple[str, int, int], Way | None] = field(default_factory=dict)

    # Where a packet starts

    def starts(self, family: int, source: int, destination: int) -> tuple[list[Leg], tuple[str, ...]]:
        """Where a packet may meet the first device, and what was assumed; no leg at all where both ends are in one network.

        Raises UsageError where nothing shows where its source is.
        """
        owner = self.owner(family, source)
        if owner is not None:
            return [(owner[0], "")], ()
        near = self._attached(family, source)
        if near:
            here = self._attached(family, destination)
            best = max(length for _, _, length in near)
            mine = [(device, one) for device, one, length in near if length == best]
            if self.owner(family, destination) is None and any(
                device is other and one == there
                for device, one in mine
                for other, there, length in here
                if length == best
            ):
                return [], ()
            return self._gateways(mine, family, destination)
        edges = list(self._edges(family, source))
        target = self.owner(family, destination)
        ahead = [
            (device, one)
            for device, one in edges
            if (way := self.way(device, family, destination)) is not None and way.interface != one and way.leads
        ]
        edges = [edge for edge in edges if target is not None and edge[0] is target[0]] or ahead or edges
        if not edges:
            raise UsageError(
                f"nothing shows where {spell_address(family, source)} is: no network of a device holds it, and no route of one "
                "leads out of the estate; add `ip -j addr` and `ip -j route` of the devices, or say by which interface of one "
                "device it enters or leaves"
            )
        names = ", ".join(f"{device.name} by {one}" for device, one in edges)
        return edges, (f"it may come in at {names}",) if len(edges) > 1 else ()

    def _gateways(self, near: Sequence[Leg], family: int, destination: int) -> tuple[list[Leg], tuple[str, ...]]:
        """Of the devices in the sender's network those it may hand the packet to, the one with the direct way first."""
        owner = self.owner(family, destination)
        legs = []
        for device, one in near:
            way = self.way(device, family, destination)
            back = way is not None and way.interface == one
            mine = owner is not None and owner[0] is device
            legs.append((not mine, back, way is None, (device, one)))
        legs.sort(key=lambda leg: leg[:3])
        if legs[0][0] is False:
            return [legs[0][3]], ()
        ahead = [leg for leg in legs if not leg[1]] or legs
        names = " or ".join(leg[3][0].name for leg in ahead)
        return [leg[3] for leg in ahead], (f"the sender's gateway may be {names}",) if len(ahead) > 1 else ()

    # What there is

    def owner(self, family: int, address: int) -> tuple[Device, Interface] | None:
        """The first device that has an address, and the interface it is on."""
        return next(iter(self.owners.get((family, address), ())), None)

    def owns(self, device: Device, family: int, address: int) -> bool:
        """Whether a device has an address, be it that others have it too."""
        return any(who is device for who, _ in self.owners.get((family, address), ()))

    @cached_property
    def owners(self) -> dict[tuple[int, int], list[tuple[Device, Interface]]]:
        """By family and address, whose it is: several devices' where sites are numbered alike."""
        out: dict[tuple[int, int], list[tuple[Device, Interface]]] = {}
        for device in self.estate.devices:
            for one, address in _addresses(device):
                out.setdefault((address.family, address.first), []).append((device, one))
        return out

    def own(self, device: Device, family: int) -> IntervalSet:
        """The addresses of a device that are stated."""
        return IntervalSet.of(*(address.first for _, address in _addresses(device) if address.family == family))

    @cached_property
    def apart(self) -> dict[Addresses, tuple[str, ...]]:
        """Networks that several devices have for themselves, with their names: the same addresses in it are theirs each, so that it
        cannot be one. Sites often number their networks alike."""
        held: dict[Addresses, dict[str, frozenset[int]]] = {}
        for device, name, network in self._every_link:
            own = (
                a.first
                for one in device.interfaces
                if one.name == name
                for a in one.addresses
                if a.family == network.family
            )
            if mine := frozenset(a for a in own if network.first <= a <= network.last):
                held.setdefault(network, {})[device.name] = mine
        return {network: tuple(who) for network, who in held.items() if len(set(who.values())) < len(who)}

    def _attached(self, family: int, address: int) -> list[tuple[Device, str, int]]:
        """The interfaces with a network that holds an address, and the length of its prefix."""
        return [
            (device, name, _length(network))
            for device, name, network in self._every_link
            if network.family == family and network.first <= address <= network.last
        ]

    @cached_property
    def _every_link(self) -> list[tuple[Device, str, Addresses]]:
        return [
            (device, name, network)
            for device in self.estate.devices
            for name, network in self.links[device.name]
        ]  # fmt: skip

    @cached_property
    def links(self) -> dict[str, list[tuple[str, Addresses]]]:
        """By device, the networks at its interfaces: those of their addresses, else those stated for a zone of one interface.

        Networks that every link has for itself (RFC 4291 2.5.6, RFC 3927) join nobody.
        """
        out: dict[str, list[tuple[str, Addresses]]] = {}
        for device in self.estate.devices:
            off = {one.name for one in device.interfaces if not one.enabled} | {LOOPBACK}
            found = [(one.name, n) for one in device.interfaces if one.name not in off for n in one.networks]
            described = {name for name, _ in found}
            for zone in device.zones:
                if len(zone.interfaces) == 1 and zone.interfaces[0] not in off | described:
                    found += [(zone.interfaces[0], n) for n in zone.networks]
            out[device.name] = [(name, n) for name, n in found if not is_of_one_link(n)]
        return out

    def _edges(self, family: int, address: int) -> Iterator[Leg]:
        """The interfaces by which a device would send to an address that is outside all networks told."""
        for device in self.estate.devices:
            way = self.way(device, family, address)
            if way is None or not way.leads:
                continue
            if way.via is not None and self._router(device, way, family) is not None:
                continue
            if way.via is None and not way.direct and self._neighbours(device, way.interface, family):
                continue
            yield device, way.interface

    def _router(self, device: Device, way: Way, family: int) -> Leg | None:
        """The device a route hands packets to, if it is one of the estate."""
        if way.via is None:
            return None
        owner = self.owner(family, way.via)
        if owner is not None:
            return (owner[0], owner[1].name) if owner[0] is not device else None
        if not is_of_one_link(Addresses(family, way.via, way.via)):
            return self._nameless(device, way, family)
        return next(
            (
                (other, name)
                for other, name in self._neighbours(device, way.interface, family)
                for one in other.interfaces
                if one.name == name and any(a.family == family and a.first == way.via for a in one.addresses)
            ),
            None,
        )

    def _nameless(self, device: Device, way: Way, family: int) -> Leg | None:
        """The one other device in a router's network whose addresses there are not told: nobody else can be that router."""
        near = [
            (other, name)
            for other, name in self._neighbours(device, way.interface, family)
            if not any(a.family == family for one in other.interfaces if one.name == name for a in one.addresses)
        ]
        return near[0] if len(near) == 1 else None

    # Routes

    def way(self, device: Device, family: int, address: int) -> Way | None:
        """The route of a device to an address: the longest prefix, what is connected before what is routed."""
        key = (device.name, family, address)
        if key in self._known:
            return self._known[key]
        best = self._table(device).way(family, address)
        if len(self._known) >= _KEPT:
            self._known.clear()
        self._known[key] = best = best or self._untold(device)
        return best

    def _untold(self, device: Device) -> Way | None:
        """Where packets go if an export lists no routes: to the outside, as far as one is known."""
        if device.routes:
            return None
        outer = {name for zone in device.zones if zone.side is Side.OUTSIDE for name in zone.interfaces}
        why = f"the export of {device.name} lists no routes; add `ip -j route`, or what the make has for it"
        if len(outer) == 1:
            return Way(min(outer), None, True, 0, direct=True, assumed=why)
        return Way("", None, False, 0, direct=False, assumed=why)

    def _ways(self, device: Device) -> list[tuple[Addresses, Way]]:
        found = self._known_ways.get(device.name)
        if found is None:
            found = []
            found += [(n, Way(name, None, True, _length(n), direct=True)) for name, n in self.links[device.name]]
            for route in device.routes:
                via = route.via.first if route.via is not None and route.via.family == route.network.family else None
                way = Way(route.interface, via, bool(route.interface), _length(route.network), direct=via is None)
                found.append((route.network, way))
            for zone in device.zones:
                if len(zone.interfaces) == 1:
                    found += [(n, Way(zone.interfaces[0], None, True, _length(n), direct=False)) for n in zone.networks]
            self._known_ways[device.name] = found
        return found

    @cached_property
    def _known_ways(self) -> dict[str, list[tuple[Addresses, Way]]]:
        return {}

    def _table(self, device: Device) -> _Table:
        found = self._tables.get(device.name)
        if found is None:
            found = self._tables[device.name] = _Table()
            for network, way in self._ways(device):
                found.add(network, way)
        return found

    @cached_property
    def _tables(self) -> dict[str, _Table]:
        return {}

    def _neighbours(self, device: Device, interface: str, family: int) -> list[Leg]:
        """The other devices with an interface in a network of this one."""
        mine = dict.fromkeys(n for name, n in self.links[device.name] if name == interface and n.family == family)
        return [(other, name) for n in mine for other, name in self._at.get(n, ()) if other is not device]

    def joined(self, device: Device) -> bool:
        """Whether a device meets another: in a network of both, or by a route."""
        return any(
            self._neighbours(device, name, family) for name, _ in self.links[device.name] for family in (4, 6)
        ) or any(
            self._router(device, way, network.family) is not None
            for network, way in self._ways(device)
            if way.via is not None
        )

    def meet(self, one: Leg, other: Leg) -> bool:
        """Whether two interfaces have a network in common."""
        mine, theirs = (
            {n for name, n in self.links[device.name] if name == at and n not in self.apart}
            for device, at in (one, other)
        )
        return not mine.isdisjoint(theirs)

    @cached_property
    def _at(self) -> dict[Addresses, list[Leg]]:
        """By network, the interfaces that are in it."""
        out: dict[Addresses, list[Leg]] = {}
        for device, name, network in self._every_link:
            if network not in self.apart:
                out.setdefault(network, []).append((device, name))
        return out

    # One hop

    def leaves(self, device: Device, family: int, destination: int, enters: str) -> tuple[str, str, tuple[str, ...]]:
        """The interface a packet leaves a device by; else why it does not; and what was assumed for that.

        enters: the interface it came by, empty where the device itself sends it
        """
        switch = FORWARDING[family]
        if enters and self._facts(device).get(switch) == "0":
            return "", f"{switch} is 0: nothing is passed on", ()
        way = self.way(device, family, destination)
        to = spell_address(family, destination)
        if way is None:
            return "", f"there is no route to {to}", ()
        assumed = (way.assumed,) if way.assumed else ()
        if not way.leads:
            return (
                "",
                f"nothing shows a route to {to}" if assumed else f"a route refuses or swallows what goes to {to}",
                assumed,
            )
        return way.interface, "", assumed

    def source_refused(self, device: Device, family: int, source: int, enters: str) -> str:
        """Why the kernel drops a packet for its source, be it for the device or for others; empty if it does not.

        ip-sysctl, rp_filter: the highest of all and the interface counts; IPv6 has no such setting.
        """
        mode = self._strictness(device, enters) if family == 4 and enters else ""
        if mode not in _CHECKS:
            return ""
        back = self.way(device, 4, source)
        if back is not None and back.assumed:
            return ""
        if back is None or not back.leads or (mode == "1" and back.interface != enters):
            return f"the way back to its source does not lead through {enters} (rp_filter)"
        return ""

    def asks_for_sources(self, device: Device, enters: str) -> bool:
        """Whether it depends on the source if a device takes a packet of IPv4 by an interface."""
        return self._strictness(device, enters) in _CHECKS

    def _strictness(self, device: Device, enters: str) -> str:
        facts = self._facts(device)
        return max(facts.get(f"net.ipv4.conf.{name}.rp_filter", "0") for name in ("all", enters))

    def _facts(self, device: Device) -> dict[str, str]:
        found = self._settings.get(device.name)
        if found is None:
            found = self._settings[device.name] = system_settings(device)
        return found

    @cached_property
    def _settings(self) -> dict[str, dict[str, str]]:
        return {}

    def onward(self, device: Device, leaves: str, family: int, destination: int) -> tuple[list[Leg], tuple[str, ...]]:
        """The devices a packet meets next, and what was assumed; none where it has arrived, or leaves the estate."""
        way = self.way(device, family, destination)
        if way is not None and way.via is not None:
            router = self._router(device, way, family)
            if router is not None:
                other, name = router
                told = any(a.family == family for one in other.interfaces if one.name == name for a in one.addresses)
                at = f"{other.name} is taken for {spell_address(family, way.via)}: it is there, and its own addresses are not told"
                return [router], () if told else (at,)
        else:
            owner = self.owner(family, destination)
            if (
                owner is not None
                and not self.owns(device, family, destination)
                and not self._is_apart(family, destination)
            ):
                return [(owner[0], owner[1].name)], ()
        if way is None or way.direct or way.via is not None:
            behind = {other.name for other, _, _ in self._attached(family, destination)} - {device.name}
            apart = bool(behind) and not any(
                n.first <= destination <= n.last and n.family == family for _, n in self.links[device.name]
            )
            to = spell_address(family, destination)
            return [], (
                f"{to} is behind {min(behind)}, and nothing shows how {device.name} gets there",
            ) if apart else ()
        others = self._neighbours(device, leaves, family)
        if not others:
            return [], ()
        legs = [
            (other, one)
            for other, one in others
            if (there := self.way(other, family, destination)) is not None and there.interface != one
        ]
        if len(legs) > 1:
            names = " or ".join(other.name for other, _ in legs)
            return legs, (f"{device.name} may hand it to {names}: its routes name no router",)
        return legs, ()

    def _is_apart(self, family: int, address: int) -> bool:
        """Whether an address is in a network that several devices have for themselves."""
        return any(n.family == family and n.first <= address <= n.last for n in self.apart)

    def borders(self, family: int) -> tuple[int, ...]:
        """Addresses in order at which anything told of networks, routes or devices begins to be different, 0 the first.

        From one to the next all addresses go the same ways.
        """
        known: tuple[int, ...] | None = self._borders.get(family)
        if known is None:
            found = {0}
            for device in self.estate.devices:
                for network, _ in self._ways(device):
                    if network.family == family:
                        found |= {network.first, network.last + 1}
            for at, address in self.owners:
                if at == family:
                    found |= {address, address + 1}
            found.discard(1 << (32 if family == 4 else 128))
            known = self._borders[family] = tuple(sorted(found))
        return known

    @cached_property
    def _borders(self) -> dict[int, tuple[int, ...]]:
        return {}


def _addresses(device: Device) -> Iterator[tuple[Interface, Addresses]]:
    """The addresses at which others find a device, each with its interface."""
    for one in device.interfaces:
        if one.enabled and one.name != LOOPBACK:
            yield from ((one, address) for address in one.addresses if not is_of_one_link(address))


_CHECKS = ("1", "2")
"""Values of rp_filter at which sources are looked at: strictly, and loosely (RFC 3704)."""

_ONE_LINK = {4: (0xA9FE << 16, (0xA9FE << 16) | 0xFFFF), 6: (0xFE80 << 112, (0xFEC0 << 112) - 1)}
"""Addresses that hold on one link alone (RFC 3927, RFC 4291 2.5.6)."""


def is_of_one_link(network: Addresses) -> bool:
    """Whether a network is one that every link has for itself."""
    first, last = _ONE_LINK[network.family]
    return first <= network.first and network.last <= last


def _length(network: Addresses) -> int:
    return (32 if network.family == 4 else 128) - (network.last - network.first).bit_length()

"""Paths: a packet followed over every device of an estate, and its answer followed back.

Devices meet where their interfaces have networks in common. At each hop a packet goes the way the Linux kernel sends it (the
stages of nft(8), "Netfilter hooks"): translated on arrival, checked for the way back (rp_filter, RFC 3704), routed by its new
destination (the longest prefix wins, RFC 1812), filtered, translated as it leaves. Its answer belongs to a connection wherever
the packet itself came through; a device that has not seen it takes the answer of TCP and ICMP for invalid and that of UDP for
new.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property
from itertools import islice

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.analysis.loopback import LOOPBACK
from aiguille.analysis.program import Programs
from aiguille.analysis.walk.probe import Prober, Visit
from aiguille.model import Action, Addresses, Device, Estate, Interface, Side, Stage, State, UsageError
from aiguille.model.facts import FORWARDING, system_settings
from aiguille.model.protocols import TCP_FLAGS
from aiguille.model.spelling import spell_address
from aiguille.packets import Packet
from aiguille.space.fields import ICMP_OF, TCP, UDP

HOPS = 32
"""Hops beyond which a packet goes round in circles; fewer than the time to live it starts with."""

WAYS = 64
"""Journeys followed of one packet where conditions, gateways or translations leave several."""

ROUTE = "route"
"""Named instead of a chain where a route decides, or the lack of one."""


NOTHING_ASSUMED: tuple[str, ...] = ()


class Hop(Struct, frozen=True):
    """A packet at one device.

    enters, leaves: interfaces; empty where the device itself sends or receives it
    by: what decided, None where that was no chain; why: what decided then, in words
    came, went: the packet before and after translation
    """

    device: Device
    enters: str
    leaves: str
    verdict: Action
    by: Visit | None
    why: str
    came: Packet
    went: Packet


class Journey(Struct, frozen=True):
    """A way a packet may go, hop by hop; without any where it stays in its own network.

    known: False where something the exports do not show was assumed; `assumed` says what
    """

    hops: tuple[Hop, ...]
    assumed: tuple[str, ...] = ()

    @property
    def verdict(self) -> Action:
        return self.hops[-1].verdict if self.hops else Action.ACCEPT


class Path(Struct, frozen=True):
    """What becomes of a packet end to end, and of the answer to it where it arrives.

    journeys: the likeliest first; answers: those of the first journey, none where it does not arrive
    """

    packet: Packet
    journeys: tuple[Journey, ...]
    answers: tuple[Journey, ...] = ()

    @property
    def certain(self) -> bool:
        return is_certain(self.journeys)


def is_certain(journeys: Sequence[Journey]) -> bool:
    """Whether all journeys end alike and none rests on something assumed."""
    return len({one.verdict for one in journeys}) == 1 and not any(one.assumed for one in journeys)


class _Leg(Struct, frozen=True):
    """Where a packet is: about to enter a device by an interface, or to be sent by the device itself."""

    device: Device
    enters: str
    packet: Packet


class _Way(Struct, frozen=True):
    """A route: by which interface, to which router; `leads` is False where it refuses or swallows what follows it.

    direct: the destination itself is behind the interface; assumed: what the export does not state
    """

    interface: str
    via: int | None
    leads: bool
    length: int
    direct: bool
    assumed: str = ""


Seen = dict[str, list[tuple[Packet, Packet]]]
"""By device, the packets that came through as they came and as they went: the connections it knows."""


class Network(Struct, dict=True):
    """The devices of an estate as one network."""

    estate: Estate
    _probers: dict[str, Prober] = field(default_factory=dict)

    def path(self, packet: Packet) -> Path:
        """Follow a packet of which no interface is told.

        Raises UsageError where nothing says at which device it starts.
        """
        starts, assumed = self._starts(packet)
        if not starts:
            return Path(packet, (Journey((), assumed),), self._same_network(packet))
        found = (one for leg in starts for one in self._follow(leg, (), assumed, {}))
        journeys = list(islice(found, WAYS))
        first = journeys[0]
        answers: tuple[Journey, ...] = ()
        if first.verdict is Action.ACCEPT and first.hops:
            answers = tuple(islice(self._answers(first), WAYS))
        return Path(packet, tuple(journeys), answers)

    def _same_network(self, packet: Packet) -> tuple[Journey, ...]:
        return (Journey(()),)

    # Where it starts

    def _starts(self, packet: Packet) -> tuple[list[_Leg], tuple[str, ...]]:
        """Where a packet may meet the first device; no leg at all where both ends are in one network."""
        family, source = packet.family, packet.source
        owner = self.owner(family, source)
        if owner is not None:
            return [_Leg(owner[0], "", packet)], ()
        near = self._attached(family, source)
        if near:
            here = self._attached(family, packet.destination)
            best = max(length for _, _, length in near)
            mine = [(device, one) for device, one, length in near if length == best]
            if self.owner(family, packet.destination) is None and any(
                device is other and one == there
                for device, one in mine
                for other, there, length in here
                if length == best
            ):
                return [], ()
            return self._gateways(mine, packet)
        edges = list(self._edges(family, source))
        target = self.owner(family, packet.destination)
        ahead = [
            (device, one)
            for device, one in edges
            if (way := self.way(device, family, packet.destination)) is not None and way.interface != one and way.leads
        ]
        edges = [edge for edge in edges if target is not None and edge[0] is target[0]] or ahead or edges
        if not edges:
            raise UsageError(
                f"nothing shows where {spell_address(family, source)} is: no network of a device holds it, and no route of one "
                "leads out of the estate; add `ip -j addr` and `ip -j route` of the devices, or say by which interface of one "
                "device it enters or leaves"
            )
        legs = [_Leg(device, one, packet) for device, one in edges]
        names = ", ".join(f"{leg.device.name} by {leg.enters}" for leg in legs)
        return legs, (f"it may come in at {names}",) if len(legs) > 1 else ()

    def _gateways(self, near: Sequence[tuple[Device, str]], packet: Packet) -> tuple[list[_Leg], tuple[str, ...]]:
        """Of the devices in the sender's network those it may hand the packet to, the one with the direct way first."""
        owner = self.owner(packet.family, packet.destination)
        legs = []
        for device, one in near:
            way = self.way(device, packet.family, packet.destination)
            back = way is not None and way.interface == one
            mine = owner is not None and owner[0] is device
            legs.append((not mine, back, way is None, _Leg(device, one, packet)))
        legs.sort(key=lambda leg: leg[:3])
        if legs[0][0] is False:
            return [legs[0][3]], ()
        ahead = [leg for leg in legs if not leg[1]] or legs
        names = " or ".join(leg[3].device.name for leg in ahead)
        return [leg[3] for leg in ahead], (f"the sender's gateway may be {names}",) if len(ahead) > 1 else ()

    def owner(self, family: int, address: int) -> tuple[Device, Interface] | None:
        """The device that has an address, and the interface it is on."""
        return self._owners.get((family, address))

    @cached_property
    def _owners(self) -> dict[tuple[int, int], tuple[Device, Interface]]:
        out: dict[tuple[int, int], tuple[Device, Interface]] = {}
        for device in self.estate.devices:
            for one in device.interfaces:
                if one.enabled and one.name != LOOPBACK:
                    for address in one.addresses:
                        out.setdefault((address.family, address.first), (device, one))
        return out

    def _attached(self, family: int, address: int) -> list[tuple[Device, str, int]]:
        """The interfaces with a network that holds an address, and the length of its prefix."""
        return [
            (device, name, _length(network))
            for device in self.estate.devices
            for name, network in self._links[device.name]
            if network.family == family and network.first <= address <= network.last
        ]

    @cached_property
    def _links(self) -> dict[str, list[tuple[str, Addresses]]]:
        """By device, the networks at its interfaces: those of their addresses, else those stated for a zone of one interface."""
        out: dict[str, list[tuple[str, Addresses]]] = {}
        for device in self.estate.devices:
            off = {one.name for one in device.interfaces if not one.enabled} | {LOOPBACK}
            found = [(one.name, n) for one in device.interfaces if one.name not in off for n in one.networks]
            described = {name for name, _ in found}
            for zone in device.zones:
                if len(zone.interfaces) == 1 and zone.interfaces[0] not in off | described:
                    found += [(zone.interfaces[0], n) for n in zone.networks]
            out[device.name] = found
        return out

    def _edges(self, family: int, address: int) -> Iterator[tuple[Device, str]]:
        """The interfaces by which a device would send to an address that is outside all networks told."""
        for device in self.estate.devices:
            way = self.way(device, family, address)
            if way is None or not way.leads:
                continue
            if way.via is not None and self.owner(family, way.via) is not None:
                continue
            if way.via is None and not way.direct and self._neighbours(device, way.interface, family):
                continue
            yield device, way.interface

    # Routes

    def way(self, device: Device, family: int, address: int) -> _Way | None:
        """The route of a device to an address: the longest prefix, what is connected before what is routed."""
        best: _Way | None = None
        for one in self._ways(device):
            network, way = one
            if (
                network.family == family
                and network.first <= address <= network.last
                and (best is None or way.length > best.length)
            ):
                best = way
        return best or self._untold(device)

    def _untold(self, device: Device) -> _Way | None:
        """Where packets go if an export lists no routes: to the outside, as far as one is known."""
        if device.routes:
            return None
        outer = {name for zone in device.zones if zone.side is Side.OUTSIDE for name in zone.interfaces}
        why = f"the export of {device.name} lists no routes; add `ip -j route`, or what the make has for it"
        if len(outer) == 1:
            return _Way(min(outer), None, True, 0, direct=True, assumed=why)
        return _Way("", None, False, 0, direct=False, assumed=why)

    def _ways(self, device: Device) -> list[tuple[Addresses, _Way]]:
        found = self._known_ways.get(device.name)
        if found is None:
            found = []
            found += [(n, _Way(name, None, True, _length(n), direct=True)) for name, n in self._links[device.name]]
            for route in device.routes:
                via = route.via.first if route.via is not None and route.via.family == route.network.family else None
                way = _Way(route.interface, via, bool(route.interface), _length(route.network), direct=via is None)
                found.append((route.network, way))
            for zone in device.zones:
                if len(zone.interfaces) == 1:
                    found += [
                        (n, _Way(zone.interfaces[0], None, True, _length(n), direct=False)) for n in zone.networks
                    ]
            self._known_ways[device.name] = found
        return found

    @cached_property
    def _known_ways(self) -> dict[str, list[tuple[Addresses, _Way]]]:
        return {}

    def _neighbours(self, device: Device, interface: str, family: int) -> list[tuple[Device, str]]:
        """The other devices with an interface in a network of this one."""
        mine = {n for name, n in self._links[device.name] if name == interface and n.family == family}
        return [
            (other, name)
            for other in self.estate.devices
            if other is not device
            for name, network in self._links[other.name]
            if network in mine
        ]

    # One hop

    def _prober(self, device: Device) -> Prober:
        found = self._probers.get(device.name)
        if found is None:
            found = self._probers[device.name] = Prober(Programs(device))
        return found

    def _follow(self, leg: _Leg, hops: tuple[Hop, ...], assumed: tuple[str, ...], seen: Seen) -> Iterator[Journey]:
        if len(hops) >= HOPS or any((h.device, h.enters, h.came) == (leg.device, leg.enters, leg.packet) for h in hops):
            circle = _refused(leg, "the routes lead in a circle")
            yield Journey((*hops, circle), assumed)
            return
        for hop, doubt in self._hop(leg, seen):
            known = (*assumed, *doubt)
            so_far = (*hops, hop)
            if hop.verdict is not Action.ACCEPT or not hop.leaves:
                yield Journey(so_far, known)
                continue
            following, more = self._next(hop)
            if not following:
                yield Journey(so_far, (*known, *more))
            for one in following:
                yield from self._follow(one, so_far, (*known, *more), seen)

    def _hop(self, leg: _Leg, seen: Seen) -> Iterator[tuple[Hop, tuple[str, ...]]]:
        """Every way a packet may go through a device, and what had to be assumed for it."""
        device, packet = leg.device, leg.packet
        prober = self._prober(device)
        came = packet
        record = next((r for r in seen.get(device.name, ()) if _answers_to(packet, r[1])), None)
        answers = record is not None
        if record is not None:
            # Translation back: the destination as it arrives, the source as it leaves.
            packet = replace(packet, destination=record[0].source, dport=record[0].sport, state=State.ESTABLISHED)
        elif seen:
            packet = replace(packet, state=State.NEW if packet.protocol == UDP else State.INVALID)
        if not leg.enters:
            yield from self._sent(leg, prober, packet, came, record)
            return
        packet = replace(packet, in_interface=leg.enters, out_interface="")
        for arrived, visits in prober.cross(packet, (Stage.PREROUTING,), answers=answers):
            if arrived.verdict is not Action.ACCEPT:
                yield Hop(device, leg.enters, "", arrived.verdict, arrived.by, "", came, arrived.packet), ()
                continue
            now = arrived.packet
            unknown = () if arrived.known else (f"{device.name} sends it to an address the export does not state",)
            mine = self.owner(now.family, now.destination)
            if arrived.stays or (mine is not None and mine[0] is device):
                stages: tuple[Stage, ...] = (Stage.INPUT,)
                leaves, why, untold = "", "", NOTHING_ASSUMED
            else:
                leaves, why, untold = self._leaves(device, now, leg.enters)
                stages = (Stage.FORWARD, Stage.POSTROUTING)
            if why:
                yield Hop(device, leg.enters, "", Action.DROP, None, why, came, now), (*untold, *unknown)
                continue
            missing = () if prober.has_say(now.family, stages) else (_no_rules(device, now.family),)
            for done, _ in prober.cross(replace(now, out_interface=leaves), stages, visits, after=arrived):
                went = done.packet
                if record is not None:
                    went = replace(went, source=record[0].destination, sport=record[0].dport)
                hop = Hop(device, leg.enters, leaves, done.verdict, done.by, "", came, went)
                yield hop, (*untold, *unknown, *missing)

    def _sent(
        self, leg: _Leg, prober: Prober, packet: Packet, came: Packet, record: tuple[Packet, Packet] | None
    ) -> Iterator[tuple[Hop, tuple[str, ...]]]:
        """A packet that a device itself sends."""
        device = leg.device
        leaves, why, untold = self._leaves(device, packet, "")
        if why:
            yield Hop(device, "", "", Action.DROP, None, why, came, packet), untold
            return
        stages = (Stage.OUTPUT, Stage.POSTROUTING)
        missing = () if prober.has_say(packet.family, stages) else (_no_rules(device, packet.family),)
        sent = replace(packet, in_interface="", out_interface=leaves)
        for done, _ in prober.cross(sent, stages, answers=record is not None):
            went = done.packet
            if record is not None:
                went = replace(went, source=record[0].destination, sport=record[0].dport)
            yield Hop(device, "", leaves, done.verdict, done.by, "", came, went), (*untold, *missing)

    def _leaves(self, device: Device, packet: Packet, enters: str) -> tuple[str, str, tuple[str, ...]]:
        """The interface a packet leaves by; else why it does not; and what was assumed for that."""
        facts = system_settings(device)
        if enters:
            switch = FORWARDING[packet.family]
            if packet.family == 4 and self._source_refused(device, packet, enters, facts):
                return "", f"the way back to its source does not lead through {enters} (rp_filter)", ()
            if facts.get(switch) == "0":
                return "", f"{switch} is 0: nothing is passed on", ()
        way = self.way(device, packet.family, packet.destination)
        to = spell_address(packet.family, packet.destination)
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

    def _source_refused(self, device: Device, packet: Packet, enters: str, facts: dict[str, str]) -> bool:
        """Whether the kernel drops a packet for its source (ip-sysctl, rp_filter: the highest of all and the interface counts)."""
        described = [facts.get(f"net.ipv4.conf.{name}.rp_filter", "0") for name in ("all", enters)]
        mode = max(described)
        if mode not in ("1", "2"):
            return False
        back = self.way(device, packet.family, packet.source)
        if back is not None and back.assumed:
            return False
        if back is None or not back.leads:
            return True
        return mode == "1" and back.interface != enters

    def _next(self, hop: Hop) -> tuple[list[_Leg], tuple[str, ...]]:
        """The devices a packet meets next; none where it has arrived, or leaves the estate."""
        packet = replace(hop.went, in_interface="", out_interface="")
        way = self.way(hop.device, packet.family, packet.destination)
        target = packet.destination if way is None or way.via is None else way.via
        owner = self.owner(packet.family, target)
        if owner is not None and owner[0] is not hop.device:
            return [_Leg(owner[0], owner[1].name, packet)], ()
        if way is None or way.direct or way.via is not None:
            behind = {device.name for device, _, _ in self._attached(packet.family, packet.destination)} - {
                hop.device.name
            }
            apart = bool(behind) and not any(
                n.first <= packet.destination <= n.last and n.family == packet.family
                for _, n in self._links[hop.device.name]
            )
            to = spell_address(packet.family, packet.destination)
            return [], (
                f"{to} is behind {min(behind)}, and nothing shows how {hop.device.name} gets there",
            ) if apart else ()
        others = self._neighbours(hop.device, hop.leaves, packet.family)
        if not others:
            return [], ()
        ahead = [
            (device, one)
            for device, one in others
            if (there := self.way(device, packet.family, packet.destination)) is not None and there.interface != one
        ]
        legs = [_Leg(device, one, packet) for device, one in ahead]
        if len(legs) > 1:
            names = " or ".join(leg.device.name for leg in legs)
            return legs, (f"{hop.device.name} may hand it to {names}: its routes name no router",)
        return legs, ()

    # The answer

    def _answers(self, journey: Journey) -> Iterator[Journey]:
        """The ways of the answer to a packet that arrived."""
        seen: Seen = {}
        for hop in journey.hops:
            seen.setdefault(hop.device.name, []).append((hop.came, hop.went))
        last = journey.hops[-1]
        back = _answer(last.went)
        if back is None:
            return
        if not last.leaves:
            legs, assumed = [_Leg(last.device, "", back)], NOTHING_ASSUMED
        else:
            legs, assumed = self._starts(back)
            if not legs:
                return
        for leg in legs:
            yield from self._follow(leg, (), assumed, seen)


def _answer(packet: Packet) -> Packet | None:
    """What the other end sends back; None for what is not answered."""
    turned = replace(
        packet, source=packet.destination, destination=packet.source, sport=packet.dport, dport=packet.sport,
        in_interface="", out_interface="", state=State.ESTABLISHED,
    )  # fmt: skip
    if packet.protocol == TCP:
        return replace(turned, flags=TCP_FLAGS["SYN"] | TCP_FLAGS["ACK"])
    if packet.protocol == ICMP_OF[packet.family]:
        asked, answered = (8, 0) if packet.family == 4 else (128, 129)
        return replace(turned, icmp_type=answered) if packet.icmp_type == asked else None
    return turned


def _answers_to(packet: Packet, went: Packet) -> bool:
    """Whether a packet goes the way back of one that left a device."""
    ends = (packet.source, packet.destination, packet.sport, packet.dport, packet.protocol)
    return ends == (went.destination, went.source, went.dport, went.sport, went.protocol)


def _refused(leg: _Leg, why: str) -> Hop:
    return Hop(leg.device, leg.enters, "", Action.DROP, None, why, leg.packet, leg.packet)


def _no_rules(device: Device, family: int) -> str:
    return f"the export of {device.name} holds no rules for IPv{family} on this way"


def _length(network: Addresses) -> int:
    return (32 if network.family == 4 else 128) - (network.last - network.first).bit_length()

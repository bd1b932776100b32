"""Paths: a packet followed over every device of an estate, and its answer followed back.

At each hop a packet goes the way the Linux kernel sends it (the stages of nft(8), "Netfilter hooks"): translated on arrival,
checked for the way back (rp_filter, RFC 3704), routed by its new destination, filtered, translated as it leaves. Its answer
belongs to a connection wherever the packet itself came through; a device that has not seen it takes the answer of TCP and ICMP
for invalid and that of UDP for new.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.analysis.network import NOTHING_ASSUMED, Network
from aiguille.analysis.program import Programs
from aiguille.analysis.walk.probe import Prober, Visit
from aiguille.model import Action, Device, Stage, State
from aiguille.model.protocols import TCP_FLAGS
from aiguille.packets import Packet
from aiguille.space.fields import ICMP_OF, TCP, UDP

HOPS = 60
"""Hops beyond which a packet goes round in circles; fewer than the time to live most start with (RFC 1700)."""

WAYS = 64
"""Journeys followed of one packet where conditions, gateways or translations leave several."""

ROUTE = "route"
"""Named instead of a chain where a route decides, or the lack of one."""


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


Seen = dict[str, list[tuple[Packet, Packet]]]
"""By device, the packets that came through as they came and as they went: the connections it knows."""


class Follower(Struct, dict=True):
    """Follows packets over the devices of a network."""

    network: Network
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

    def _starts(self, packet: Packet) -> tuple[list[_Leg], tuple[str, ...]]:
        legs, assumed = self.network.starts(packet.family, packet.source, packet.destination)
        return [_Leg(device, enters, packet) for device, enters in legs], assumed

    def _same_network(self, packet: Packet) -> tuple[Journey, ...]:
        return (Journey(()),)

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
            went = hop.went
            onward, more = self.network.onward(hop.device, hop.leaves, went.family, went.destination)
            following = [_Leg(device, enters, went) for device, enters in onward]
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
            mine = self.network.owns(device, now.family, now.destination)
            barred = self.network.source_refused(device, now.family, now.source, leg.enters)
            if arrived.stays or mine:
                stages: tuple[Stage, ...] = (Stage.INPUT,)
                leaves, why, untold = "", "", NOTHING_ASSUMED
            else:
                leaves, why, untold = self._leaves(device, now, leg.enters)
                stages = (Stage.FORWARD, Stage.POSTROUTING)
            if why := barred or why:
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
        return self.network.leaves(device, packet.family, packet.destination, enters)

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

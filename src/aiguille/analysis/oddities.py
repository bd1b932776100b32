"""Facts of a device that speak against one another: which of them holds, and where both stand."""

from __future__ import annotations

from collections.abc import Iterator

from aiguille.analysis.loopback import LOOPBACK
from aiguille.analysis.sides import EVERYWHERE
from aiguille.model import Addresses, Device, Route, Side, Span
from aiguille.model.spelling import spell_operand


def oddities(device: Device) -> Iterator[str]:
    """Sentences for whoever reads the audit, beginning with the device's name; none where nothing is odd."""
    yield from _routes(device)
    yield from _networks(device)
    yield from _sides(device)


def _routes(device: Device) -> Iterator[str]:
    first: dict[Addresses, Route] = {}
    for route in device.routes:
        known = first.setdefault(route.network, route)
        if known.interface != route.interface:
            where = (
                "the default route" if route.network in EVERYWHERE else f"the route to {spell_operand(route.network)}"
            )
            ways = [f"by {one.interface or 'no interface'} ({one.where})" for one in (known, route)]
            yield f"{device.name}: {where} leads {ways[0]} and {ways[1]}; the first counts, as long as it stands"


def _networks(device: Device) -> Iterator[str]:
    at: dict[Addresses, tuple[str, Span | None]] = {}
    for one in device.interfaces:
        for network in one.networks if one.enabled and one.name != LOOPBACK else ():
            if network.first >> 118 == 0x3FA and network.family == 6:
                continue  # every link has one of these (RFC 4291, 2.5.6)
            known, where = at.setdefault(network, (one.name, one.where))
            if known != one.name and network.first != network.last:
                yield (
                    f"{device.name}: {spell_operand(network)} lies behind {known} ({where}) and {one.name} ({one.where}); "
                    "which of them packets to it leave by is what a route says, else the first"
                )


def _sides(device: Device) -> Iterator[str]:
    for zone in device.zones:
        if zone.guessed or zone.side not in (Side.INSIDE, Side.GUEST, Side.MANAGEMENT):
            continue
        for route in device.routes:
            if route.network in EVERYWHERE and route.interface in zone.interfaces:
                yield (
                    f"{device.name}: {route.interface} is stated to face {zone.side.value}, and the default route leaves by it "
                    f"({route.where}); what is stated counts"
                )
                break

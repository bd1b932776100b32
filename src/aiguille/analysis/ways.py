"""By which interface a packet leaves: that follows from where it goes (RFC 1812, 5.2.4.3: the longest prefix wins).

Rules that name no outgoing interface would otherwise seem to lead everywhere at once.
"""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from aiguille.analysis.loopback import LOOPBACK
from aiguille.model import Addresses, Device, Side
from aiguille.space import IntervalSet, Symbols
from aiguille.space.fields import LAST_ADDRESS


class Way(Struct, frozen=True):
    """Destinations, and the interfaces packets to them leave by; none where they are refused."""

    destinations: IntervalSet
    leaves: IntervalSet


def ways(device: Device, family: int, symbols: Symbols) -> tuple[Way, ...]:
    """Disjoint ways that together hold every destination of a family.

    Routes count, then the networks of interfaces and those stated for zones, each by the length of its prefix. What none of
    them holds leaves by the default route, or where that is not stated by any interface but those whose networks are all told
    to be private.
    """
    top = (1 << (32 if family == 4 else 128)) - 1
    known: dict[Addresses, IntervalSet] = {}
    # The most decisive comes first: a route, the interface's own network, a network stated for a zone.
    for network, names in networks_led(device):
        if network.family == family and network not in known:
            known[network] = IntervalSet.of(*(symbols.number(name) for name in names))
    default = known.pop(Addresses(family, 0, top), None)
    out: list[Way] = []
    taken = IntervalSet()
    for network in sorted(known, key=lambda n: (n.last - n.first, n.first)):
        mine = IntervalSet([(network.first, network.last)]) - taken
        taken = taken | mine
        if mine:
            out.append(Way(mine, known[network]))
    rest = taken.complement(top)
    if rest:
        out.append(Way(rest, default if default is not None else _elsewhere(device, symbols)))
    return tuple(out)


def led_to(device: Device, family: int) -> IntervalSet:
    """Every address a route, an interface or a zone of a device leads to, but for the default route."""
    spans = [(n.first, n.last) for n, _ in networks_led(device) if n.family == family]
    return IntervalSet(span for span in spans if span != (0, LAST_ADDRESS[family]))


def all_ways_known(device: Device, family: int) -> bool:
    """Whether a device with several interfaces shows the networks of each of them, and where everything else leaves."""
    led = {name for network, names in networks_led(device) for name in names if network.family == family}
    mine = [one for one in device.interfaces if one.enabled and one.name != LOOPBACK]
    default = any(
        (r.network.first, r.network.last) == (0, LAST_ADDRESS[family])
        for r in device.routes
        if r.network.family == family
    )
    return len(mine) > 1 and default and all(one.name in led for one in mine)


def networks_led(device: Device) -> Iterator[tuple[Addresses, tuple[str, ...]]]:
    """Networks, each with the interfaces that lead to it: by routes, as the interfaces' own, and as stated for zones."""
    for route in device.routes:
        yield route.network, (route.interface,) if route.interface else ()
    for one in device.interfaces:
        if one.enabled and one.name != LOOPBACK:
            yield from ((network, (one.name,)) for network in one.networks)
    for zone in device.zones:
        if zone.interfaces:
            yield from ((network, zone.interfaces) for network in zone.networks)


def _elsewhere(device: Device, symbols: Symbols) -> IntervalSet:
    """Interfaces by which packets to networks nobody told of may leave: the outside's where all others have networks."""
    outer = [n for zone in device.zones if zone.side is Side.OUTSIDE for n in zone.interfaces]
    described = {n for _, names in networks_led(device) for n in names}
    others = {n for zone in device.zones if zone.side is not Side.OUTSIDE for n in zone.interfaces}
    others |= {one.name for one in device.interfaces if one.enabled and one.name != LOOPBACK} - set(outer)
    if outer and others and others <= described:
        return IntervalSet.of(*(symbols.number(name) for name in outer))
    return symbols.present

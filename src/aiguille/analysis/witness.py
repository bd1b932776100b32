"""Choosing, among packets that prove the same thing, one that looks like traffic people know."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from ipaddress import ip_address

from aiguille.model import Addresses, DestinationType, Device, Side, State
from aiguille.space import Axis, Cell, IntervalSet, Packet, Space, packet_at
from aiguille.space.fields import ICMP_OF, SYN, TCP, UDP

# Addresses reserved for documentation (RFC 5737, RFC 3849) stand for "somebody out there".
_STRANGERS = {
    4: tuple(int(ip_address(text)) for text in ("198.51.100.77", "203.0.113.77", "192.0.2.77")),
    6: (int(ip_address("2001:db8:bad::77")),),
}
_PORTS = (443, 80, 22, 53, 25, 8080)
_OWN_PORTS = (40000, 50000, 60000, 1024)


def choose(device: Device, space: Space, cell: Cell) -> Packet:
    """A packet of `cell`: known interfaces, addresses that live behind them, a usual protocol and ports.

    Every point of a cell is as good a proof as any other, so this changes how a witness reads, never what it shows.
    """
    symbols = space.symbols
    inward = _pick(cell[Axis.IN], range(1, len(symbols.names)))
    outward = _pick(cell[Axis.OUT], (n for n in range(1, len(symbols.names)) if n != inward))
    if inward:
        origins = _behind(device, space.family, symbols.name(inward), host=20)
    else:
        origins = _own(device, space.family, symbols.name(outward))
    source = _pick(cell[Axis.SRC], origins)
    if outward:
        near = _behind(device, space.family, symbols.name(outward), host=10)
    else:
        near = _own(device, space.family, symbols.name(inward))
    destination = _pick(cell[Axis.DST], [a for a in near if a != source])
    protocol = _pick(cell[Axis.PROTO], (TCP, UDP, ICMP_OF[space.family]))
    if protocol == ICMP_OF[space.family]:
        a, b = _pick(cell[Axis.A], (8 if space.family == 4 else 128,)), _pick(cell[Axis.B], (0,))
    else:
        a, b = _pick(cell[Axis.A], _OWN_PORTS), _pick(cell[Axis.B], _PORTS)
    return packet_at(
        space,
        (
            inward,
            outward,
            source,
            destination,
            protocol,
            a,
            b,
            _pick(cell[Axis.FLAGS], (SYN, 0)),
            _pick(cell[Axis.STATE], (State.NEW.number,)),
            _pick(cell[Axis.TYPE], (DestinationType.UNICAST.number if outward else DestinationType.LOCAL.number,)),
        ),
    )


def _pick(values: IntervalSet, wanted: Iterable[int]) -> int:
    """The first wanted value that is in the set; else a member, not a network's own address where another is near."""
    for value in wanted:
        if value in values:
            return value
    first, last = values.spans[0]
    return first + 1 if last - first > 255 and first % 256 == 0 else first


def _behind(device: Device, family: int, interface: str, host: int) -> Sequence[int]:
    """Addresses that live behind an interface: in its zone's networks; strangers first if that is the outside."""
    out: list[int] = []
    outside = False
    for zone in device.zones:
        if interface in zone.interfaces:
            outside |= zone.side is Side.OUTSIDE
            out += [_host(network, host) for network in zone.networks if network.family == family]
    strangers = list(_STRANGERS[family])
    others = [_host(network, host) for zone in device.zones for network in zone.networks if network.family == family]
    return [*strangers, *out] if outside else [*out, *strangers, *others]


def _own(device: Device, family: int, interface: str) -> Sequence[int]:
    """The device's own addresses, those of the interface first; the first host of a network where none is known."""
    exact = [
        (one.name != interface, address.first)
        for one in device.interfaces
        for address in one.addresses
        if address.family == family
    ]
    guessed = [
        (interface not in zone.interfaces, _host(network, 1))
        for zone in device.zones
        for network in zone.networks
        if network.family == family
    ]
    found = [address for _, address in [*sorted(exact), *sorted(guessed)]]
    return [*found, int(ip_address("192.0.2.1" if family == 4 else "2001:db8::1"))]


def _host(network: Addresses, number: int) -> int:
    return min(network.first + number, network.last)

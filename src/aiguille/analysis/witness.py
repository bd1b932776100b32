"""Choosing, among packets that prove the same thing, one that looks like traffic people know."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from ipaddress import ip_address

from msgspec.structs import replace

from aiguille.analysis.loopback import LOOPBACK
from aiguille.model import Addresses, DestinationType, Device, Side, State
from aiguille.packets import Packet, packet_at
from aiguille.space import Axis, Cell, IntervalSet, Space
from aiguille.space.fields import ICMP_OF, SYN, TCP, UDP

# Addresses reserved for documentation (RFC 5737, RFC 3849) stand for "somebody out there".
_STRANGERS = {
    4: tuple(int(ip_address(text)) for text in ("198.51.100.77", "203.0.113.77", "192.0.2.77")),
    6: (int(ip_address("2001:db8:bad::77")), int(ip_address("2001:db8:feed::77"))),
}
_NEW = State.NEW.number
_PORTS = (443, 80, 22, 53, 25, 8080)
_OWN_PORTS = (40000, 50000, 60000, 1024)


class Chooser:
    """Chooses packets for one device in one family; remembers what lives where."""

    def __init__(self, device: Device, space: Space) -> None:
        self._device = device
        self._space = space
        named = [number for number, name in enumerate(space.symbols.names) if name not in ("", LOOPBACK)]
        self._names = (*named, space.symbols.top)
        self._known: dict[tuple[str, bool, int], Sequence[int]] = {}
        self._icmp = ICMP_OF[space.family]

    def choose(self, cell: Cell) -> Packet:
        """A packet of `cell`: known interfaces, addresses that live behind them, a usual protocol and ports.

        Every point of a cell is as good a proof as any other, so this changes how a witness reads, never what it shows.
        """
        inward = _pick(cell[Axis.IN], self._names)
        outward = _pick(cell[Axis.OUT], (*(n for n in self._names if n != inward), inward))
        origins = self._behind(inward, 20) if inward else self._own(outward)
        source = _pick(cell[Axis.SRC], origins)
        near = self._behind(outward, 10) if outward else self._own(inward)
        destination = _pick(cell[Axis.DST], [a for a in near if a != source])
        protocol = _pick(cell[Axis.PROTO], (TCP, UDP, self._icmp))
        if protocol == self._icmp:
            a, b = _pick(cell[Axis.A], (8 if self._space.family == 4 else 128,)), _pick(cell[Axis.B], (0,))
        else:
            a, b = _pick(cell[Axis.A], _OWN_PORTS), _pick(cell[Axis.B], _PORTS)
        kind = DestinationType.UNICAST if outward else DestinationType.LOCAL
        flags, state, destination_type = (
            _pick(cell[axis], wanted)
            for axis, wanted in ((Axis.FLAGS, (SYN, 0)), (Axis.STATE, (_NEW,)), (Axis.TYPE, (kind.number,)))
        )
        point = (inward, outward, source, destination, protocol, a, b, flags, state, destination_type)
        packet = packet_at(self._space, point)
        symbols = self._space.symbols
        if inward == outward and inward >= len(symbols.names):  # two of the names the rules do not tell apart
            packet = replace(packet, out_interface=symbols.name(outward, 1))
        return packet

    def _behind(self, symbol: int, host: int) -> Sequence[int]:
        name = self._space.symbols.name(symbol)
        key = (name, True, host)
        if key not in self._known:
            self._known[key] = _behind(self._device, self._space.family, name, host)
        return self._known[key]

    def _own(self, symbol: int) -> Sequence[int]:
        name = self._space.symbols.name(symbol)
        key = (name, False, 0)
        if key not in self._known:
            self._known[key] = _own(self._device, self._space.family, name)
        return self._known[key]


def _pick(values: IntervalSet, wanted: Iterable[int]) -> int:
    """The first wanted value that is in the set; else a member, not a network's own address where another is near."""
    for value in wanted:
        if value in values:
            return value
    first, last = values.spans[0]
    return first + 1 if last - first >= 255 and first % 256 == 0 else first


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

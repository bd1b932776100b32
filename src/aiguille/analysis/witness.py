"""Choosing, among packets that prove the same thing, one that looks like traffic people know."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator
from ipaddress import ip_address

from msgspec.structs import replace

from aiguille.analysis.loopback import LOOPBACK
from aiguille.analysis.sides import EVERYWHERE
from aiguille.analysis.ways import networks_led
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
    """Chooses packets for one device in one family; remembers what lives where. Ways in and out are outside where they may be."""

    def __init__(self, device: Device, space: Space) -> None:
        self._device = device
        self._space = space
        names = space.symbols.names
        named = [number for number, name in enumerate(names) if name not in ("", LOOPBACK)]
        outer = _outside(device, space.family)
        named.sort(key=lambda number: names[number] not in outer)
        self._names = (*named, space.symbols.top)
        self._known: dict[tuple[int, int], tuple[int, ...]] = {}
        self._led: dict[int, IntervalSet] = {}
        self._icmp = ICMP_OF[space.family]

    def choose(self, cell: Cell) -> Packet:
        """A packet of `cell`: known interfaces, addresses that live behind them, a usual protocol and ports.

        Every point of a cell is as good a proof as any other, so this changes how a witness reads, never what it shows.
        """
        inward, source = self._end(cell[Axis.IN], cell[Axis.SRC], 20)
        outward, destination = self._end(cell[Axis.OUT], cell[Axis.DST], 10, inward, source)
        if not inward:
            source = _pick(cell[Axis.SRC], self._own(outward))
        if not outward:
            destination = _pick(cell[Axis.DST], [a for a in self._own(inward) if a != source])
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

    def _end(
        self, interfaces: IntervalSet, addresses: IntervalSet, host: int, inward: int = 0, source: int = -1
    ) -> tuple[int, int]:
        """An interface and an address that lives behind it: the first interface that has one, other than the way in if it can be."""
        fitting = [n for n in self._names if n in interfaces and n != inward][:_TRIED]
        fitting = fitting or [_pick(interfaces, (inward,) if inward else ())]
        for number in fitting if fitting != [0] else ():
            for address in self._behind(number, host):
                if address in addresses and address != source:
                    return number, address
        for number in fitting if fitting != [0] else ():
            if some := self._leads(number) & addresses:
                return number, _pick(some, ())
        return fitting[0], _pick(addresses, [a for a in self._others(host) if a != source])

    def _behind(self, symbol: int, host: int) -> tuple[int, ...]:
        """Addresses that live behind an interface: in the networks it leads to; strangers first if that is the outside."""
        if (symbol, host) not in self._known:
            name, family = self._space.symbols.name(symbol), self._space.family
            near = [n for n in _networks(self._device, name) if n.family == family]
            own = set(self._own(symbol))
            found = [_host(network, host, own) for network in near]
            strangers = _STRANGERS[family]
            outside = name in _outside(self._device, family)
            self._known[symbol, host] = tuple((*strangers, *found) if outside else found or strangers)
        return self._known[symbol, host]

    def _others(self, host: int) -> list[int]:
        """What else may stand for somebody: strangers, and hosts of every network of a zone."""
        family = self._space.family
        hosts = [_host(n, host, ()) for zone in self._device.zones for n in zone.networks if n.family == family]
        return [*_STRANGERS[family], *hosts]

    def _leads(self, symbol: int) -> IntervalSet:
        """The networks behind an interface, but for their first and last addresses and the device's own."""
        if symbol not in self._led:
            near = _networks(self._device, self._space.symbols.name(symbol))
            spans = [(n.first + 1, n.last - 1) for n in near if n.family == self._space.family and n.last - n.first > 2]
            self._led[symbol] = IntervalSet(spans) - (self._space.local or IntervalSet())
        return self._led[symbol]

    def _own(self, symbol: int) -> tuple[int, ...]:
        key = (-symbol, 0)
        if key not in self._known:
            name = self._space.symbols.name(symbol)
            self._known[key] = tuple(own_addresses(self._device, self._space.family, name))
        return self._known[key]


_TRIED = 16
"""Interfaces that are asked for an address; a device may have thousands."""


def _pick(values: IntervalSet, wanted: Iterable[int]) -> int:
    """The first wanted value that is in the set; else a member, not a network's own address where another is near."""
    for value in wanted:
        if value in values:
            return value
    first, last = values.spans[0]
    return first + 1 if last - first >= 255 and first % 256 == 0 else first


def _networks(device: Device, interface: str) -> Iterator[Addresses]:
    """Networks behind an interface, its own first; what every link has, and the default route, are none."""
    own = {network for one in device.interfaces if one.name == interface for network in one.networks}
    led = dict.fromkeys(network for network, names in networks_led(device) if interface in names)
    for network in sorted(led, key=lambda one: one not in own):
        if network not in EVERYWHERE and not (network.family == 6 and network.first >> 118 == _LINK_LOCAL):
            yield network


_LINK_LOCAL = 0x3FA
"""The first ten bits of link-local addresses (RFC 4291, 2.5.6)."""


def _outside(device: Device, family: int) -> set[str]:
    """Interfaces that face outside: as stated, else those the default route leaves by."""
    sides = {name: zone.side for zone in device.zones for name in zone.interfaces if zone.side is not None}
    default = [r.interface for r in device.routes if r.network in EVERYWHERE and r.network.family == family]
    return {name for name, side in sides.items() if side is Side.OUTSIDE} | (set(default) - sides.keys())


def own_addresses(device: Device, family: int, interface: str) -> list[int]:
    """The device's own addresses, those of the interface first; the first host of a network where none is known."""
    exact = [
        (one.name != interface, address.first)
        for one in device.interfaces
        for address in one.addresses
        if address.family == family
    ]
    guessed = [
        (interface not in zone.interfaces, _host(network, 1, ()))
        for zone in device.zones
        for network in zone.networks
        if network.family == family
    ]
    found = [address for _, address in [*sorted(exact), *sorted(guessed)]]
    return [*found, int(ip_address("192.0.2.1" if family == 4 else "2001:db8::1"))]


def _host(network: Addresses, number: int, taken: Collection[int]) -> int:
    """The host of that number in a network, or the first that can be one and is not taken where it is too small."""
    if network.first + number < network.last and network.first + number not in taken:
        return network.first + number
    return next(
        (at for at in range(network.first + 1, min(network.last, network.first + 9)) if at not in taken), network.last
    )

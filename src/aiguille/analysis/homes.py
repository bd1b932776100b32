"""Where packets come from if nobody forges them: the networks behind the interface they enter by."""

from __future__ import annotations

from collections.abc import Iterable

from aiguille.analysis.loopback import LOOPBACK
from aiguille.analysis.program import Program
from aiguille.model import Addresses, Device, Direction, Side
from aiguille.space import EVERYTHING, Axis, Box, IntervalSet, box


def at_home(program: Program) -> list[Box]:
    """Disjoint regions of packets that enter where their source lives; everything, where no network is known.

    From outside comes what lives behind no other interface. Of an interface whose networks nobody told, anything may come.
    """
    device, symbols = program.device, program.space.symbols
    if program.direction is Direction.FROM_DEVICE:
        return [EVERYTHING]
    networks = _behind(device, program.family)
    outer = {name for zone in device.zones if zone.side is Side.OUTSIDE for name in zone.interfaces}
    inner = IntervalSet(span for name, spans in networks.items() if name not in outer for span in spans)
    if not inner:
        return [EVERYTHING]
    out: list[Box] = []
    for name, spans in networks.items():
        number = IntervalSet.of(symbols.number(name))
        if name in outer:
            out.append(box([(Axis.IN, number), (Axis.SRC, inner.complement(program.space.tops[Axis.SRC]))]))
        elif spans:
            out.append(box([(Axis.IN, number), (Axis.SRC, IntervalSet(spans))]))
        else:
            out.append(box([(Axis.IN, number)]))
    return out


def living_behind(device: Device, program: Program, but: IntervalSet) -> IntervalSet:
    """The addresses that live behind the interfaces of a device, but for some of these."""
    symbols = program.space.symbols
    networks = _behind(device, program.family)
    return IntervalSet(span for name, spans in networks.items() if symbols.number(name) not in but for span in spans)


def _behind(device: Device, family: int) -> dict[str, list[tuple[int, int]]]:
    """By interface, the networks that are known to be behind it."""
    networks: dict[str, list[tuple[int, int]]] = {}
    for one in device.interfaces:
        if one.enabled and one.name != LOOPBACK:
            networks.setdefault(one.name, []).extend(_spans(one.networks, family))
    for zone in device.zones:
        for name in zone.interfaces:
            if len(zone.interfaces) == 1 or not networks.get(name):
                networks.setdefault(name, []).extend(_spans(zone.networks, family))
    for route in device.routes:
        # What a route leads to by an interface comes back by it; what a default route does, be it in two halves, is the world.
        if route.interface in networks and route.network.last - route.network.first < _HALF[route.network.family] - 1:
            networks[route.interface].extend(_spans([route.network], family))
    return networks


_HALF = {4: 1 << 31, 6: 1 << 127}


def _spans(networks: Iterable[Addresses], family: int) -> list[tuple[int, int]]:
    return [(n.first, n.last) for n in networks if n.family == family]

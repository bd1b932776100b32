"""Which interfaces lie on which side, and a guess where nobody says and the rules give it away."""

from __future__ import annotations

from msgspec import Struct
from msgspec.structs import replace

from aiguille.analysis.program import LOOPBACK, Programs
from aiguille.model import Condition, Device, Field, InterfaceName, Rule, Side, Span, Translate, TranslationKind, Zone
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
    """Every way in, the loopback apart: one a zone, then the interfaces no zone holds as one of unknown side."""
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
    rest = symbols.present - placed - _loopback(symbols)
    if not any(entrance.side is Side.OUTSIDE for entrance in out):
        # Whatever the interfaces left over are called, the one to the outside may be among them.
        out.append(Entrance("an interface of unknown side", rest, None))
    return tuple(out)


def each_interface(programs: Programs) -> tuple[Entrance, ...]:
    """One way in for each interface the rules can tell apart, the loopback apart; the last stands for all unnamed ones."""
    symbols = programs.resolver(4).space.symbols
    numbers = [n for n in range(1, symbols.top + 1) if n not in _loopback(symbols)]
    return tuple(
        Entrance(symbols.name(n) if n < len(symbols.names) else "an interface no rule names", IntervalSet.of(n), None)
        for n in numbers
    )


def outside_known(device: Device) -> bool:
    """Whether at least one interface is known, or safely guessed, to face the outside."""
    return any(zone.side is Side.OUTSIDE and zone.interfaces for zone in device.zones)


def existing(device: Device, symbols: Symbols) -> IntervalSet:
    """The interfaces the device has, where the export lists them with their addresses; else every one there may be."""
    listed = [one.name for one in device.interfaces if one.name in symbols.names and one.enabled]
    if not any(one.addresses for one in device.interfaces):
        return symbols.present
    return IntervalSet.of(*(symbols.number(name) for name in listed))


def not_loopback(symbols: Symbols) -> Box:
    """Packets that arrive on any interface but the loopback."""
    return box([(Axis.IN, symbols.present - _loopback(symbols))])


def _loopback(symbols: Symbols) -> IntervalSet:
    return IntervalSet.of(symbols.number(LOOPBACK)) if LOOPBACK in symbols.names else IntervalSet()


def guess_outside(device: Device) -> Device:
    """The device with a zone for its outside, where none is stated and source translation gives it away.

    A host that hides inside addresses behind its own does so where it leaves for the outside: the interface named by such
    a rule, if all of them name the same one, is taken to be the outside. The zone says that it is a guess, and why.
    """
    if device.zones:
        return device
    hiding: dict[str, Span] = {}
    for rulebase in device.rulebases:
        for _, rule in rulebase.rules():
            if rule.enabled and any(_hides(effect) for effect in rule.effects):
                found = _leaves_by(rule)
                if found is None:
                    return device
                hiding.setdefault(found, rule.where)
    if len(hiding) != 1:
        return device
    name, where = next(iter(hiding.items()))
    zone = Zone(
        name="outside",
        interfaces=(name,),
        side=Side.OUTSIDE,
        where=where,
        guessed=f"addresses are translated where traffic leaves by {name} ({where})",
    )
    return replace(device, zones=(zone,))


def _hides(effect: object) -> bool:
    return isinstance(effect, Translate) and effect.kind is TranslationKind.SOURCE


def _leaves_by(rule: Rule) -> str | None:
    for condition in rule.match.conditions:
        match condition:
            case Condition(Field.OUT_INTERFACE, (InterfaceName(name, False),), False):
                return name
    return None

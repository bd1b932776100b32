"""From what a rule says to the packets it matches: names looked up, negations carried out, fields made sets.

The result is a list of pieces. A piece that is `sure` holds packets the rule certainly matches; the others hold packets it
may match, because a qualifier or an unresolved name stands in the way.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cached_property, lru_cache
from itertools import groupby
from operator import attrgetter

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.analysis.loopback import LOOPBACK
from aiguille.analysis.marks import BOXES, marked, passes_unmarked
from aiguille.model import (
    Action,
    Addresses,
    Condition,
    DestinationType,
    Device,
    Field,
    FlagTest,
    IcmpType,
    InterfaceName,
    MarkTest,
    MaskedAddress,
    Match,
    Named,
    NameKind,
    Numbers,
    Operand,
    Rule,
    ServiceTerm,
    SetEntry,
    SetObject,
    State,
    TooComplexError,
    Translate,
    TranslationKind,
    Tuples,
)
from aiguille.space.boxes import meets, overlap, subtract
from aiguille.space.effort import limited
from aiguille.space.fields import (
    EVERYTHING,
    ICMP_OF,
    MULTICAST,
    PORT_TOP,
    TCP,
    WITH_PORTS,
    Axis,
    Box,
    Space,
    Symbols,
    box,
)
from aiguille.space.intervals import IntervalSet
from aiguille.space.packetset import PacketSet

MASK_INTERVALS = 1 << 16
"""A mask with holes is expanded to at most this many intervals; beyond that the rule is kept as "may match"."""

CONDITION_EFFORT = 2_000_000
"""Steps of work that making out one condition may take, as a negated set of many fields does; beyond that it "may match"."""

PIECES = 100_000
"""Pieces of one rule beyond which its further conditions count as "may match"."""

_PORTED = IntervalSet.of(*WITH_PORTS)
_ICMP = {family: IntervalSet.of(number) for family, number in ICMP_OF.items()}
_TCP = IntervalSet.of(TCP)
_NOTHING = IntervalSet()
_NEW = box([(Axis.STATE, IntervalSet.of(State.NEW.number))])
_RUNNING = box([(Axis.STATE, IntervalSet.of(State.ESTABLISHED.number, State.RELATED.number))])
AS_SENT = (Field.TRANSLATED, Field.SENT_TO, Field.SENT_TO_PORT)
"""Fields that look at what became of a packet by translation."""
SENT = (Field.SENT_TO, Field.SENT_TO_PORT)
"""Fields that look at where a connection was opened to."""


class Piece(Struct, frozen=True):
    """A box of packets that a rule matches surely, or may match."""

    box: Box
    sure: bool


class _Alternatives(Struct, frozen=True):
    """What a condition matches: `sure` boxes, and `maybe` boxes beside them."""

    sure: tuple[Box, ...]
    maybe: tuple[Box, ...] = ()

    def narrowing(self) -> _Narrowing | None:
        """The axes on which it leaves something out and what it leaves there, where it is one box, as most are."""
        if self.maybe or len(self.sure) != 1:
            return None
        return [(axis, values) for axis, values in enumerate(self.sure[0]) if values is not None]


_Narrowing = Sequence[tuple[int, IntervalSet]]


class _Values(Struct, frozen=True):
    """What an operand covers on one axis, and whether it may cover more than that: anything, or some of `within`."""

    values: IntervalSet
    open: bool = False
    within: IntervalSet | None = None


def symbols_of(device: Device) -> Symbols:
    """The interface names and wildcard prefixes that a device, its rules and its sets mention."""
    names = {interface.name for interface in device.interfaces}
    names |= {name for zone in device.zones for name in zone.interfaces}
    prefixes: set[str] = set()

    def note(operands: Iterable[Operand]) -> None:
        for operand in operands:
            if isinstance(operand, InterfaceName):
                (prefixes if operand.prefix else names).add(operand.name)
            elif isinstance(operand, Tuples):
                for entry in operand.entries:
                    note(entry.values)

    for rulebase in device.rulebases:
        for _, rule in rulebase.rules():
            for condition in rule.match.conditions:
                note(condition.operands)
    for one in device.sets:
        for entry in one.entries:
            note(entry.values)
    return Symbols(names, prefixes)


class Resolver(Struct, dict=True):
    """Resolves the rules of one device in one address family; keeps what it has looked up."""

    device: Device
    space: Space
    _conditions: dict[Condition, _Alternatives] = field(default_factory=dict)
    _known: dict[int, tuple[Condition, _Alternatives, _Narrowing | None]] = field(default_factory=dict)
    _matches: dict[tuple[int, bool], tuple[Match, tuple[Piece, ...]]] = field(default_factory=dict)
    _objects: dict[str, _Values] = field(default_factory=dict)
    _in_circles: dict[str, _Values] = field(default_factory=dict)
    _circles: int = 0
    _marked: dict[tuple[MarkTest, ...], tuple[Box, ...] | None] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._addresses = {one.name: one for one in self.device.addresses}
        self._services = {one.name: one for one in self.device.services}
        self._zones = {one.name: one for one in self.device.zones}
        self._sets_by_name = {one.name: one for one in self.device.sets}

    def rule(self, rule: Rule) -> tuple[Piece, ...]:
        """The pieces of a rule; none of them is sure if a qualifier stands beside its match.

        A test of marks holds or not for packets that nothing marked, and may hold for those that rules of the export mark so. A
        disabled rule has no pieces.
        """
        if not rule.enabled:
            return ()
        if rule.marks:
            return self._of_marked(rule)
        return self.match(rule.match, sure=not rule.qualifiers)

    def marked(self, tests: tuple[MarkTest, ...]) -> tuple[Box, ...] | None:
        """Boxes that hold whatever rules of the export mark so that it may pass, None where they do not show; see `marks.marked`."""
        if tests not in self._marked:
            symbols = self.space.symbols
            own = IntervalSet.of(0, *((symbols.number(LOOPBACK),) if LOOPBACK in symbols.names else ()))
            self._marked[tests] = marked(
                self.device, self.space.family, tests, lambda m: [one.box for one in self.match(m, sure=False)], own
            )
        return self._marked[tests]

    def _of_marked(self, rule: Rule) -> tuple[Piece, ...]:
        perhaps = self.match(rule.match, sure=False)
        tests = rule.marks
        within = self.marked(tests)
        if within is None:
            return perhaps
        out = [Piece(common, False) for one in perhaps for b in within if (common := overlap(one.box, b)) is not None]
        if passes_unmarked(tests):
            rest = [EVERYTHING]
            for b in within:
                rest = [part for one in rest for part in subtract(one, b, self.space.tops)]
                if len(rest) > BOXES:
                    return perhaps
            sure = self.match(rule.match, sure=not rule.qualifiers)
            out += [
                Piece(common, one.sure) for one in sure for b in rest if (common := overlap(one.box, b)) is not None
            ]
        return tuple(out)

    def match(self, match: Match, sure: bool = True) -> tuple[Piece, ...]:
        """The pieces of a conjunction of conditions, worked out once; none if its conditions exclude one another."""
        key = (id(match), sure)
        known = self._matches.get(key)
        if known is None:
            # The match is kept beside its pieces, so that its identity stays its own.
            known = self._matches[key] = (match, self._pieces(match, sure))
        return known[1]

    def _pieces(self, match: Match, sure: bool) -> tuple[Piece, ...]:
        whole, others = list(EVERYTHING), []
        for condition in match.conditions:
            known = self._known.get(id(condition))
            if known is None:
                # Looking up by content takes longer than the rest; the condition is kept so that its identity stays its own.
                found = self.condition(condition)
                known = self._known[id(condition)] = (condition, found, found.narrowing())
            if known[2] is None:
                others.append(known[1])
                continue
            for axis, values in known[2]:
                before = whole[axis]
                common = values if before is None else before & values
                if not common:
                    return ()
                whole[axis] = common
        pieces = [Piece(tuple(whole), sure)]
        for found in others:
            if len(pieces) * (len(found.sure) + len(found.maybe)) > PIECES:
                pieces = [Piece(one.box, False) for one in pieces]  # it may match within what the others say
                continue
            options = [(b, True) for b in found.sure] + [(b, False) for b in found.maybe]
            pieces = [
                Piece(part, piece.sure and certain)
                for piece in pieces
                for one, certain in options
                if (part := overlap(piece.box, one)) is not None
            ]
        return tuple(pieces)

    def condition(self, condition: Condition) -> _Alternatives:
        """What one condition matches, looked up once."""
        found = self._conditions.get(condition)
        if found is None:
            try:
                with limited(CONDITION_EFFORT, apart=True):
                    found = self._resolve(condition)
            except TooComplexError:
                found = _Alternatives((), (EVERYTHING,))
            self._conditions[condition] = found
        return found

    def addresses(self, operands: Iterable[Operand]) -> IntervalSet:
        """The addresses that operands of a source or destination surely cover, in this family."""
        return self._union(operands, self._address).values

    def exactly(self, name: str) -> IntervalSet | None:
        """The addresses an address object stands for in this family, None where a member's are not known."""
        found = self._address_object(name, ())
        return None if found.open else found.values

    def exactly_in_set(self, name: str) -> IntervalSet | None:
        """The addresses a set holds in this family, None for one that is not completely known or looks up more than an address."""
        found = self._set(Named(NameKind.SET, name, ("src",)), ())
        if found is None or any(one[axis] is not None for one in found.boxes for axis in Axis if axis is not Axis.SRC):
            return None
        everything = IntervalSet([(0, self.space.tops[Axis.SRC])])
        return IntervalSet(span for one in found.boxes for span in (one[Axis.SRC] or everything).spans)

    def _resolve(self, condition: Condition) -> _Alternatives:
        match condition.field:
            case Field.IN_INTERFACE:
                return self._one_axis(Axis.IN, condition, self._interface)
            case Field.OUT_INTERFACE:
                return self._one_axis(Axis.OUT, condition, self._interface)
            case Field.IN_ZONE:
                return self._one_axis(Axis.IN, condition, self._zone)
            case Field.OUT_ZONE:
                return self._one_axis(Axis.OUT, condition, self._zone)
            case Field.SOURCE:
                return self._one_axis(Axis.SRC, condition, self._address)
            case Field.DESTINATION:
                return self._one_axis(Axis.DST, condition, self._address)
            case Field.PROTOCOL:
                return self._one_axis(Axis.PROTO, condition, _numbers)
            case Field.STATE:
                return self._one_axis(Axis.STATE, condition, _numbers)
            case Field.DESTINATION_TYPE:
                return self._one_axis(Axis.TYPE, condition, _numbers)
            case Field.SOURCE_TYPE:
                return self._one_axis(Axis.SRC, condition, self._addresses_of_type)
            case Field.TRANSLATED:
                return self._translated(condition)
            case Field.SENT_TO | Field.SENT_TO_PORT:
                return self._as_sent(condition)
            case Field.SOURCE_PORT:
                return self._one_axis(Axis.A, condition, _numbers, ((Axis.PROTO, _PORTED),))
            case Field.DESTINATION_PORT:
                return self._one_axis(Axis.B, condition, _numbers, ((Axis.PROTO, _PORTED),))
            case Field.TCP_FLAGS:
                return self._one_axis(Axis.FLAGS, condition, _flags, ((Axis.PROTO, _TCP),))
            case Field.EITHER_PORT:
                return self._either_port(condition)
            case Field.ICMP:
                return self._icmp(condition)
            case Field.SERVICE:
                return self._service(condition)
            case Field.FAMILY:
                holds = any(isinstance(o, Numbers) and o.first == self.space.family for o in condition.operands)
                return _Alternatives((EVERYTHING,) if holds is not condition.negated else ())
            case Field.SET:
                return self._sets(condition)

    def _one_axis(
        self,
        axis: Axis,
        condition: Condition,
        look_up: Callable[[Operand], _Values],
        guard: Sequence[tuple[Axis, IntervalSet]] = (),
    ) -> _Alternatives:
        """A condition on one field; `guard` says on which packets the field exists at all, negated or not."""
        found = self._union(condition.operands, look_up)
        top = self.space.tops[axis]
        if condition.negated:
            values = found.values.complement(top)
            if found.open and found.within is None:
                return _Alternatives((), _boxes(axis, values, top, guard))
            if found.open and found.within is not None:
                sure, maybe = values - found.within, values & found.within
                return _Alternatives(_boxes(axis, sure, top, guard), _boxes(axis, maybe, top, guard))
            return _Alternatives(_boxes(axis, values, top, guard))
        if found.open:
            maybe_more = (
                (box(guard),) if found.within is None else _boxes(axis, found.within - found.values, top, guard)
            )
            return _Alternatives(_boxes(axis, found.values, top, guard), maybe_more)
        return _Alternatives(_boxes(axis, found.values, top, guard))

    def _union(self, operands: Iterable[Operand], look_up: Callable[[Operand], _Values]) -> _Values:
        parts = [look_up(operand) for operand in operands]
        if len(parts) == 1:
            return parts[0]
        opened = [p.within for p in parts if p.open]
        within = IntervalSet(s for one in opened if one is not None for s in one.spans) if None not in opened else None
        return _Values(IntervalSet(s for p in parts for s in p.values.spans), bool(opened), within)

    def _interface(self, operand: Operand) -> _Values:
        if not isinstance(operand, InterfaceName):
            raise TypeError(f"{operand!r} is no interface")
        return _Values(self.space.symbols.matching(operand))

    def _zone(self, operand: Operand) -> _Values:
        if not isinstance(operand, Named):
            raise TypeError(f"{operand!r} is no zone")
        zone = self._zones.get(operand.name)
        if zone is None:
            return _Values(_NOTHING, open=True)
        values = IntervalSet.of(*(self.space.symbols.number(name) for name in zone.interfaces))
        if zone.interfaces == (zone.name,) and self._unplaced and zone.name not in self._listed:
            return _Values(values, open=True, within=self._unplaced)
        return _Values(values, open=not zone.interfaces)

    @cached_property
    def _listed(self) -> frozenset[str]:
        return frozenset(one.name for one in self.device.interfaces)

    @cached_property
    def _unplaced(self) -> IntervalSet:
        """Interfaces the export lists and puts into no zone: they may belong to one of which it shows no interface."""
        rules = [rule for base in self.device.rulebases for _, rule in base.rules()]
        conditions = [c for rule in rules for c in rule.match.conditions if c.field in (Field.IN_ZONE, Field.OUT_ZONE)]
        asked = {one.name for c in conditions for one in c.operands if isinstance(one, Named)}
        # What was guessed of an interface alone says nothing of the zones that rules name.
        told = [zone for zone in self.device.zones if zone.name in asked or not zone.guessed]
        held = {name for zone in told for name in zone.interfaces}
        numbers = (self.space.symbols.number(name) for name in self._listed - held - {LOOPBACK})
        return IntervalSet.of(*numbers)

    def _address(self, operand: Operand) -> _Values:
        match operand:
            case Addresses(family, first, last):
                return _Values(IntervalSet.canonical(((first, last),)) if family == self.space.family else _NOTHING)
            case MaskedAddress(family, value, mask):
                if family != self.space.family:
                    return _Values(_NOTHING)
                found = expand_mask(32 if family == 4 else 128, value, mask)
                return _Values(_NOTHING, open=True) if found is None else _Values(found)
            case Named(NameKind.ADDRESS, name):
                return self._address_object(name, ())
            case _:
                raise TypeError(f"{operand!r} is no address")

    def _address_object(self, name: str, path: tuple[str, ...]) -> _Values:
        known = self._objects.get(name)
        if known is not None:
            return known
        # What a circle cut short holds only below the object asked for; that one takes in all the circle names.
        if name in self._in_circles or name in path:
            self._circles += 1
            return self._in_circles.get(name, _Values(_NOTHING, open=True))
        one = self._addresses.get(name)
        if one is None:
            return _Values(_NOTHING, open=True)
        circles = self._circles
        parts = [
            self._address_object(member.name, (*path, name)) if isinstance(member, Named) else self._address(member)
            for member in one.members
        ]
        values = IntervalSet(span for part in parts for span in part.values.spans)
        found = _Values(values, bool(one.unresolved) or any(part.open for part in parts))
        for member in one.excluded:
            out = (
                self._address_object(member.name, (*path, name)) if isinstance(member, Named) else self._address(member)
            )
            # What is taken out may be more than is known, so nothing is surely left.
            found = _Values(_NOTHING, open=True) if out.open else _Values(found.values - out.values, found.open)
        if not path or self._circles == circles:
            self._objects[name] = found
        else:
            self._in_circles[name] = found
        if not path:
            self._in_circles.clear()
        return found

    def _addresses_of_type(self, operand: Operand) -> _Values:
        """The addresses routing takes for local, broadcast or multicast (inet_addr_type() of the kernel).

        Broadcast are 0.0.0.0/8, 255.255.255.255 and the last address of each network the device is in; kernels before
        5.14 took the first for one too. Open where the device's own addresses are not all known.
        """
        if not isinstance(operand, Numbers):
            raise TypeError(f"{operand!r} is no type of address")
        six = self.space.family == 6
        mine = [one for one in self.device.interfaces if one.enabled and one.name != "lo"]
        known = any(one.addresses for one in mine) and all(one.addresses_known for one in mine)
        multicast = IntervalSet([MULTICAST[self.space.family]])
        out = _NOTHING
        open_ended = False
        for number in range(operand.first, operand.last + 1):
            kind = tuple(DestinationType)[number]
            if kind is DestinationType.MULTICAST:
                out = out | multicast
            elif kind is DestinationType.BROADCAST:
                last = [n.last for one in mine for n in one.networks if n.family == 4 and n.last - n.first > 1]
                if not six:
                    out = out | IntervalSet([(0, 0xFFFFFF), (0xFFFFFFFF, 0xFFFFFFFF), *((n, n) for n in last)])
                    open_ended |= not known
            elif kind is DestinationType.LOCAL:
                own = [a for one in mine for a in one.addresses if a.family == self.space.family]
                out = out | IntervalSet([(1, 1)] if six else [(0x7F000000, 0x7FFFFFFF)])
                out = out | IntervalSet((a.first, a.last) for a in own)
                open_ended |= not known
            else:
                open_ended = True
        return _Values(out, open_ended)

    def _sent_on(self, rule: Rule, effect: Translate) -> Iterator[Box]:
        """New connections as they look once a rule has translated their destination: nothing else of them is changed."""
        if any(one.field in AS_SENT for one in rule.match.conditions):
            yield _NEW
            return
        for piece in self.match(rule.match):
            fields = [(axis, values) for axis in (Axis.IN, Axis.SRC, Axis.A) if (values := piece.box[axis]) is not None]
            protocols, ports = piece.box[Axis.PROTO], piece.box[Axis.B]
            if effect.ports is not None:
                ports = IntervalSet([(effect.ports.first, effect.ports.last)])
                protocols = (protocols or _PORTED) & _PORTED
            fields += [
                (axis, values) for axis, values in ((Axis.PROTO, protocols), (Axis.B, ports)) if values is not None
            ]
            if effect.kind is TranslationKind.TO_DEVICE:
                fields.append((Axis.OUT, IntervalSet.of(0)))  # it stays here
            if effect.addresses is not None and effect.netmap_bits is None:
                if effect.addresses.family != self.space.family:
                    return
                fields.append((Axis.DST, self._address(effect.addresses).values))
            if all(values for _, values in fields):
                yield box([(Axis.STATE, IntervalSet.of(State.NEW.number)), *fields])

    def _translated(self, condition: Condition) -> _Alternatives:
        """Packets whose destination some rule has translated on the way: as a filter sees them, they may be those that go where
        the rules send them. A new connection that goes elsewhere surely is not translated; of one that runs already,
        nothing shows."""
        may = [_RUNNING, *(one for _, boxes in self._sent for one in boxes)]
        if condition.negated:
            outside = PacketSet(self.space.tops, (EVERYTHING,)) - PacketSet(self.space.tops, tuple(may))
            return _Alternatives(outside.boxes, tuple(may))
        return _Alternatives((), tuple(may))

    @cached_property
    def _sent(self) -> tuple[tuple[Rule | None, tuple[Box, ...]], ...]:
        """New connections as each rule that translates destinations sends them on; None for one that was not understood."""
        out: list[tuple[Rule | None, tuple[Box, ...]]] = []
        for rulebase in self.device.rulebases:
            for chain, rule in rulebase.rules():
                if self.space.family not in rulebase.families or not rule.enabled:
                    continue
                if chain.base is not None and chain.base.kind == "nat" and rule.action is Action.UNKNOWN:
                    out.append((None, (_NEW,)))
                for effect in rule.effects:
                    if isinstance(effect, Translate) and effect.kind is not TranslationKind.SOURCE:
                        out.append((rule, tuple(self._sent_on(rule, effect))))
        return tuple(out)

    def opening(self, condition: Condition) -> list[Piece]:
        """Packets that open a connection, before anything is translated, for which a condition on what they did holds."""
        found = self._opening(condition)
        return [Piece(one, True) for one in found.sure] + [Piece(one, False) for one in found.maybe]

    def _opening(self, condition: Condition) -> _Alternatives:
        if condition.field is Field.SENT_TO:
            return self._one_axis(Axis.DST, condition, self._address)
        found = self._one_axis(Axis.B, condition, _numbers, ((Axis.PROTO, _PORTED),))
        # Of other protocols something else is looked at, such as the kind of message (the kernel's xt_conntrack).
        others = box([(Axis.PROTO, _PORTED.complement(self.space.tops[Axis.PROTO]))])
        return _Alternatives(found.sure, (*found.maybe, others))

    def _as_sent(self, condition: Condition) -> _Alternatives:
        """Packets by what their connection was opened to, before a rule translated that: new ones that no translation sends where
        they go show it, those a translation that takes such packets sends there may be them, and of running ones nothing shows.
        Packets without a connection never match, negated or not."""
        found = self._opening(condition)
        new = [overlap(one, _NEW) for one in found.sure]
        tops = self.space.tops
        plain = PacketSet(tops, tuple(one for one in new if one is not None))
        moved = PacketSet(tops, tuple(one for _, boxes in self._sent for one in boxes))
        taken = [
            one
            for rule, boxes in self._sent
            for one in boxes
            if rule is None or any(meets(p.box, f) for p in self.match(rule.match) for f in (*found.sure, *found.maybe))
        ]
        sure = (plain - moved).boxes
        perhaps = [overlap(one, _NEW) for one in found.maybe]
        return _Alternatives(sure, (_RUNNING, *taken, *(one for one in perhaps if one is not None)))

    def _either_port(self, condition: Condition) -> _Alternatives:
        ports = self._union(condition.operands, _numbers).values
        if condition.negated:
            values = ports.complement(PORT_TOP)
            return _Alternatives((box([(Axis.PROTO, _PORTED), (Axis.A, values), (Axis.B, values)]),))
        return _Alternatives(
            (box([(Axis.PROTO, _PORTED), (Axis.A, ports)]), box([(Axis.PROTO, _PORTED), (Axis.B, ports)]))
        )

    def _icmp(self, condition: Condition) -> _Alternatives:
        guard = box([(Axis.PROTO, _ICMP[self.space.family])])
        tests = [o for o in condition.operands if isinstance(o, IcmpType)]
        boxes = tuple(_icmp_box(self.space.family, test) for test in tests)
        if condition.negated:
            outside = PacketSet(self.space.tops, (guard,)) - PacketSet(self.space.tops, boxes)
            return _Alternatives(outside.boxes)
        return _Alternatives(boxes)

    def _service(self, condition: Condition) -> _Alternatives:
        sure: list[Box] = []
        open_ended = False
        for operand in condition.operands:
            terms, complete = self.terms(operand)
            open_ended |= not complete
            for term in terms:
                sure += term_boxes(self.space.family, term)
        if condition.negated:
            outside = (PacketSet(self.space.tops, (EVERYTHING,)) - PacketSet(self.space.tops, tuple(sure))).boxes
            return _Alternatives((), outside) if open_ended else _Alternatives(outside)
        return _Alternatives(tuple(sure), (EVERYTHING,) if open_ended else ())

    def _sets(self, condition: Condition) -> _Alternatives:
        """Packets whose fields, taken as the roles say, are in a set."""
        inside = PacketSet(self.space.tops)
        for operand in condition.operands:
            match operand:
                case Named():
                    found = self._set(operand, ())
                case Tuples(roles, entries):
                    boxes = [b for one in entries for b in self._entry_boxes(one, roles)]
                    found = _joined(PacketSet.of(self.space.tops, boxes))
                case _:
                    found = None
            if found is None:
                return _Alternatives((), (EVERYTHING,))
            inside = inside | found
        if condition.negated:
            return _Alternatives((PacketSet(self.space.tops, (EVERYTHING,)) - inside).boxes)
        return _Alternatives(inside.boxes)

    def _set(self, named: Named, path: tuple[str, ...]) -> PacketSet | None:
        """What a set holds; None if that is not completely known."""
        one = self._sets_by_name.get(named.name)
        if one is None or not one.complete or named.name in path or not _fits(one, named.roles):
            return None
        out = PacketSet(self.space.tops)
        if one.dimensions == ("set",):
            for entry in one.entries:
                member = entry.values[0]
                found = (
                    self._set(replace(member, roles=named.roles), (*path, named.name))
                    if isinstance(member, Named)
                    else None
                )
                if found is None:
                    return None
                out = out | found
            return out
        # Wide entries first: a narrower one that excludes, or includes again, overrules what holds it.
        entries = sorted(one.entries, key=_width, reverse=True) if any(e.excluded for e in one.entries) else one.entries
        boxes: list[Box] = []
        for excluded, alike in groupby(entries, key=attrgetter("excluded")):
            held = [part for entry in alike for part in self._entry_boxes(entry, named.roles)]
            if excluded:
                without = _joined(PacketSet.of(self.space.tops, held))
                boxes = list((_joined(PacketSet.of(self.space.tops, boxes)) - without).boxes)
            else:
                boxes += held
        return _joined(PacketSet.of(self.space.tops, boxes))

    def _entry_boxes(self, entry: SetEntry, roles: tuple[str, ...]) -> list[Box]:
        boxes = [EVERYTHING]
        for number, value in enumerate(entry.values):
            role = roles[number] if number < len(roles) else roles[-1]
            source = role == "src"
            match value:
                case _ if role not in ("src", "dst"):
                    parts = list(self.condition(Condition(Field(role), (value,))).sure)
                case Addresses():
                    axis = Axis.SRC if source else Axis.DST
                    parts = [box([(axis, self._address(value).values)])]
                case ServiceTerm():
                    turned = (
                        replace(value, source_ports=value.destination_ports, destination_ports=()) if source else value
                    )
                    parts = term_boxes(self.space.family, turned)
                case InterfaceName():
                    parts = [box([(Axis.IN if source else Axis.OUT, self.space.symbols.matching(value))])]
                case _:
                    parts = []
            boxes = [c for b in boxes for p in parts if (c := overlap(b, p)) is not None]
        return boxes

    def terms(self, operand: Operand, path: tuple[str, ...] = ()) -> tuple[tuple[ServiceTerm, ...], bool]:
        """The terms a service stands for, and whether that is all: not if a name in it is undefined or cyclic."""
        if isinstance(operand, ServiceTerm):
            return (operand,), True
        if not isinstance(operand, Named):
            raise TypeError(f"{operand!r} is no service")
        one = self._services.get(operand.name)
        if one is None or operand.name in path:
            return (), False
        found = [self.terms(member, (*path, operand.name)) for member in one.members]
        return tuple(t for terms, _ in found for t in terms), one.complete and all(complete for _, complete in found)


def _fits(one: SetObject, roles: tuple[str, ...]) -> bool:
    """Whether what a set holds can be looked up by these fields; the kernel refuses rules where it cannot."""
    for role, kinds in zip(roles, zip(*(entry.values for entry in one.entries), strict=False), strict=False):
        if role in ("src", "dst"):
            continue
        wanted = _KINDS.get(Field(role), (Numbers, IcmpType, FlagTest))
        if not all(isinstance(value, wanted) for value in kinds):
            return False
    return True


_KINDS: dict[Field, tuple[type, ...]] = {
    Field.SOURCE: (Addresses, MaskedAddress),
    Field.DESTINATION: (Addresses, MaskedAddress),
    Field.IN_INTERFACE: (InterfaceName,),
    Field.OUT_INTERFACE: (InterfaceName,),
}


def _width(entry: SetEntry) -> int:
    """How many addresses an entry holds."""
    size = 1
    for value in entry.values:
        if isinstance(value, Addresses):
            size *= value.last - value.first + 1
    return size


def _joined(found: PacketSet) -> PacketSet:
    """Boxes that differ on one address axis only, as one box: sets have thousands of entries, rules few conditions."""
    boxes = found.boxes
    for axis in (Axis.SRC, Axis.DST, Axis.B, Axis.A):
        groups: dict[Box, list[tuple[int, int]]] = {}
        order: list[Box] = []
        for one in boxes:
            values = one[axis]
            key = (*one[:axis], None, *one[axis + 1 :])
            if values is None:
                order.append(one)
                continue
            groups.setdefault(key, []).extend(values.spans)
        boxes = (*order, *((*k[:axis], IntervalSet(spans), *k[axis + 1 :]) for k, spans in groups.items()))
    return PacketSet(found.tops, boxes)


def _boxes(axis: Axis, values: IntervalSet, top: int, guard: Sequence[tuple[Axis, IntervalSet]]) -> tuple[Box, ...]:
    """The box of some values; what holds all of them, such as 0.0.0.0/0, restricts nothing."""
    mine = [] if values.spans == ((0, top),) else [(axis, values)]
    return (box([*guard, *mine]),) if values else ()


def _numbers(operand: Operand) -> _Values:
    if not isinstance(operand, Numbers):
        raise TypeError(f"{operand!r} is no number")
    return _Values(IntervalSet.canonical(((operand.first, operand.last),)))


def _flags(operand: Operand) -> _Values:
    if not isinstance(operand, FlagTest):
        raise TypeError(f"{operand!r} is no flag test")
    return _Values(flag_values(operand.mask, operand.value))


@lru_cache(maxsize=256)
def flag_values(mask: int, value: int) -> IntervalSet:
    """All flag bytes that, masked, equal `value`."""
    return IntervalSet.of(*(byte for byte in range(256) if byte & mask == value))


@lru_cache(maxsize=4096)
def expand_mask(bits: int, value: int, mask: int) -> IntervalSet | None:
    """All numbers of `bits` bits that agree with `value` under `mask`; None if that takes more than `MASK_INTERVALS`."""
    free = ~mask & ((1 << bits) - 1)
    low = (free ^ (free + 1)).bit_length() - 1 if free & 1 else 0
    loose = [bit for bit in range(low, bits) if free >> bit & 1]
    if len(loose) > MASK_INTERVALS.bit_length() - 1:
        return None
    starts = [value & mask]
    for bit in loose:
        starts += [start | 1 << bit for start in starts]
    return IntervalSet((start, start | (1 << low) - 1) for start in starts)


def _icmp_box(family: int, test: IcmpType) -> Box:
    types = IntervalSet([(test.type_first, test.type_last)])
    codes = IntervalSet([(test.code_first, test.code_last)])
    return box([(Axis.PROTO, _ICMP[family]), (Axis.A, types), (Axis.B, codes)])


def term_boxes(family: int, term: ServiceTerm) -> list[Box]:
    """The packets of one service term in one address family; none if it speaks of the other family's ICMP."""
    protocols = IntervalSet([(term.protocol.first, term.protocol.last)])
    if term.icmp:
        if not protocols.overlaps(_ICMP[family]):
            return []
        return [_icmp_box(family, test) for test in term.icmp]
    fields = [(Axis.PROTO, protocols)]
    for axis, ports in ((Axis.A, term.source_ports), (Axis.B, term.destination_ports)):
        if ports:
            fields.append((axis, IntervalSet((p.first, p.last) for p in ports)))
    if len(fields) > 1 and not protocols.issubset(_PORTED):
        fields[0] = (Axis.PROTO, protocols & _PORTED)
    return [box(fields)] if fields[0][1] else []

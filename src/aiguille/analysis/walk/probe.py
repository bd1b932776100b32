"""What becomes of one packet: every table and chain it meets, translations and marks on the way, and the rule that decides.

Unlike a `Program` this follows a single packet through all base chains as the kernel orders them (nft(8), "Netfilter
hooks"): destination translation before filtering, so that the filter sees the new destination while the verdict is that of the
packet as it came; source translation after it. Translation chains see the first packet of a connection; later packets of it
are translated alike, so they are taken for packets in its original direction. Invalid and untracked packets are not translated.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property
from itertools import chain as chained
from itertools import islice

from msgspec import Struct
from msgspec.structs import replace

from aiguille.analysis.loopback import LOOPBACK
from aiguille.analysis.program import Programs
from aiguille.analysis.resolve import SENT, Piece
from aiguille.analysis.ways import Way as Road
from aiguille.analysis.ways import ways
from aiguille.model import (
    FILTER_STAGE,
    STAGES,
    Action,
    Chain,
    Condition,
    DestinationType,
    Direction,
    Field,
    LoseMark,
    MarkTest,
    Match,
    NewTracking,
    NoTracking,
    Numbers,
    Rule,
    Rulebase,
    SetMark,
    Stage,
    State,
    TooComplexError,
    Translate,
    TranslationKind,
    UsageError,
)
from aiguille.model.facts import FORWARDING, system_settings
from aiguille.model.identity import Same
from aiguille.packets import Packet
from aiguille.space import Axis, IntervalSet
from aiguille.space.fields import WITH_PORTS

WAYS_LIMIT = 2048
"""Ways a packet may go where conditions are open; beyond, the verdicts found so far stand and nothing is certain."""

"""The name of the qualifier that readers give to rules of which a part was not understood."""

_MARK_TOP = 0xFFFFFFFF

SPREAD = 6
"""Values of a translation that may choose which are tried one by one; more are looked at together."""


class Visit(Struct, frozen=True):
    """Something on a packet's way.

    rule: the rule that matched, None for the chain's end
    matched: False where it only may match; the way goes on as if it did, or not, by `taken`
    tried: how many rules of the chain were passed over since the last visit
    packet: the packet as the rule saw it, where it was translated before
    """

    rulebase: Rulebase
    chain: Chain
    rule: Rule | None
    action: Action
    matched: bool = True
    taken: bool = True
    tried: int = 0
    depth: int = 0
    packet: Packet | None = None


class Way(Struct, frozen=True):
    """One way a packet can go: the verdict, what decided it, and every visit until then."""

    verdict: Action
    decided_by: Visit
    visits: tuple[Visit, ...]


class Verdict(Struct, frozen=True):
    """What becomes of a packet.

    ways: the likeliest first; more than one only where conditions are open
    complete: False if there were more ways than are worth following; nothing is certain then
    """

    packet: Packet
    ways: tuple[Way, ...]
    complete: bool = True

    @property
    def verdict(self) -> Action:
        return self.ways[0].verdict

    @property
    def decided_by(self) -> Visit:
        return self.ways[0].decided_by

    @property
    def certain(self) -> bool:
        """Whether all ways end alike: accepted, dropped or rejected."""
        return self.complete and len({way.verdict for way in self.ways}) == 1


class _State(Struct, frozen=True):
    """A packet on its way.

    tracked: whether connection tracking has seen it; begun: whether a rule gave it the beginning of a connection before that
    routed: whether it is known by which interface it leaves
    unknown_destination: it goes to an address of the device that the export does not state
    redirected: it has been sent to the device itself; translated: its destination has been changed
    mark, translated: None where a rule that was not understood may have changed it
    moved: it may have been sent anywhere
    follows: whether source translation changes the packet too, since it goes on to another device
    answers: whether it answers a connection, so that translation chains do not see it
    kind: number of its destination's type, where that is assumed rather than told by its address
    among: values it may have been given where a translation chooses among more than are tried one by one
    sent: the packet before anything was translated; None where that is not known
    """

    packet: Packet
    mark: int | None = 0
    tracked: bool = True
    begun: bool = False
    routed: bool = True
    unknown_destination: bool = False
    redirected: bool = False
    translated: bool | None = False
    kind: int | None = None
    moved: bool = False
    follows: bool = False
    answers: bool = False
    among: tuple[tuple[Axis, IntervalSet], ...] = ()
    sent: Packet | None = None


class _End(Struct, frozen=True):
    """How a chain was left: with a verdict, or by its end or a return (None).

    tried: at its end, how many rules of the chain were passed over since the last visit
    """

    verdict: Action | None
    state: _State
    visits: tuple[Visit, ...]
    tried: int = 0


class _More(Struct, frozen=True):
    """A way that goes on at a rule of the chain, by its index."""

    at: int
    state: _State
    visits: tuple[Visit, ...]


class _Walk(Struct, frozen=True):
    """A chain that is walked through, and what the base chain it is called from is for."""

    rulebase: Rulebase
    chain: Chain
    depth: int
    translating: bool


def _covers(pieces: Sequence[Piece], point: Sequence[int]) -> bool | None:
    """Whether a packet is in one of the pieces; None where it may be."""
    inside = [
        piece
        for piece in pieces
        if all(values is None or value in values for value, values in zip(point, piece.box, strict=True))
    ]
    return None if inside and not any(piece.sure for piece in inside) else bool(inside)


class Crossing(Struct, frozen=True):
    """What becomes of a packet at some stages of a device: refused by a visit, or let through as it then is.

    by: what decided; None where no chain had a say
    state: what later stages of the device know of it
    """

    verdict: Action
    packet: Packet
    by: Visit | None
    stays: bool
    known: bool
    state: _State


class Prober:
    """Probes packets on one device; rules named in `without` are treated as switched off."""

    def __init__(self, programs: Programs, without: Sequence[Rule] = ()) -> None:
        self.programs = programs
        self.device = programs.device
        self.without = tuple(without)
        self._without = {Same(rule) for rule in without}
        self._pieces: dict[tuple[Same, int, tuple[Field, ...]], tuple[Piece, ...]] = {}
        self._chains: dict[Same, dict[str, Chain]] = {
            Same(rulebase): {chain.name: chain for chain in rulebase.chains} for rulebase in self.device.rulebases
        }
        self._bases: dict[tuple[int, Stage], list[tuple[Rulebase, Chain]]] = {}
        self._known_ways: dict[int, tuple[Road, ...]] = {}
        self._asked: tuple[_State, list[int | None], dict[Axis, IntervalSet]] | None = None

    def probe(self, packet: Packet) -> Verdict:
        """What becomes of a packet. Raises UsageError if the export says nothing on its family and direction."""
        direction = direction_of(packet)
        self._refuse_silent(packet.family, direction)
        ways: dict[tuple[Action, Same, Same], Way] = {}
        tried = 0
        try:
            for way in chained.from_iterable(
                self._ways(_State(packet, kind=kind, sent=packet), direction) for kind in self._kinds(packet, direction)
            ):
                tried += 1
                ways.setdefault((way.verdict, Same(way.decided_by.chain), Same(way.decided_by.rule)), way)
                if tried >= WAYS_LIMIT:
                    break
        except RecursionError as error:
            raise TooComplexError(
                f"{self.device.name}: too many base chains in a row; the packet cannot be followed"
            ) from error
        return Verdict(packet, tuple(ways.values()), complete=tried < WAYS_LIMIT)

    def _refuse_silent(self, family: int, direction: Direction) -> None:
        if not self.has_say(family, STAGES[direction]):
            raise UsageError(
                f"the export of {self.device.name} holds no rules for IPv{family} {direction.value} traffic"
            )

    @cached_property
    def _asks_for_kinds(self) -> bool:
        """Whether any rule looks at the type of a destination."""
        rules = [rule for base in self.device.rulebases for _, rule in base.rules()]
        return any(one.field is Field.DESTINATION_TYPE for rule in rules for one in rule.match.conditions)

    def _kinds(self, packet: Packet, direction: Direction) -> tuple[int | None, ...]:
        """The types its destination may have before it is translated; None where its address shows.

        Without the device's own addresses a packet for the device may go to one of them or to the last address of a network it
        is in, and one that leaves may have come to an address of the device before it was translated.
        """
        space = self.programs.resolver(packet.family).space
        described = any(packet.destination in values for values, _ in space.kinds_by_address)
        if not self._asks_for_kinds or described or space.local is not None:
            return (None,)
        match direction:
            case Direction.TO_DEVICE:
                other = DestinationType.BROADCAST if packet.family == 4 else DestinationType.OTHER  # anycast
                both = packet.family == 6 or _may_be_broadcast(packet.destination)
                return (DestinationType.LOCAL.number, other.number) if both else (DestinationType.LOCAL.number,)
            case Direction.THROUGH_DEVICE:
                return (DestinationType.UNICAST.number, DestinationType.LOCAL.number)
            case _:
                return (None,)

    def _ways(self, state: _State, direction: Direction) -> Iterator[Way]:
        first, *_ = STAGES[direction]
        came_here = direction is Direction.THROUGH_DEVICE and state.kind == DestinationType.LOCAL.number
        for end in self._stages(state, [first], ()):
            if came_here and end.verdict is None and not end.state.translated:
                continue  # it would stay here
            if end.verdict is not None:
                yield _way(end.verdict, end.visits)
                continue
            for routed, onward in self._routed(end.state, direction):
                self._refuse_silent(state.packet.family, onward)
                for last in self._stages(routed, STAGES[onward][1:], end.visits):
                    yield _way(last.verdict or Action.ACCEPT, last.visits)

    def _routed(self, state: _State, direction: Direction) -> Iterator[tuple[_State, Direction]]:
        """Where a packet that has arrived may go on to: the device itself, or out by an interface, the likeliest first.

        A packet that states no interface out is for the device, unless it goes to an address that is known not to be its own. Where
        the export states some of its addresses and not all, another one may be either.
        """
        packet = state.packet
        space = self.programs.resolver(packet.family).space
        here = not state.moved and any(packet.destination in values for values, _ in space.kinds_by_address)
        if direction is Direction.FROM_DEVICE or (direction is Direction.THROUGH_DEVICE and not state.redirected):
            stays = here and state.translated and direction is Direction.THROUGH_DEVICE
            yield (
                (replace(state, packet=replace(packet, out_interface="")), Direction.TO_DEVICE)
                if stays
                else (state, direction)
            )
            return
        foreign = space.local is not None or state.translated is not False or packet.family in self._partly_known
        leaves = foreign and not (state.redirected or here) and packet.family not in self._keeps
        if leaves:
            for name in self._leads(state):
                yield replace(state, packet=replace(packet, out_interface=name)), Direction.THROUGH_DEVICE
        if not leaves or space.local is None or state.moved or self._may_be_anycast(packet):
            yield state, Direction.TO_DEVICE

    @cached_property
    def _partly_known(self) -> frozenset[int]:
        """The families of which the export states some of the device's addresses."""
        return frozenset(a.family for one in self.device.interfaces if one.enabled for a in one.addresses)

    @cached_property
    def _keeps(self) -> frozenset[int]:
        """The families of which the device is known to pass nothing on."""
        known = system_settings(self.device)
        return frozenset(family for family, switch in FORWARDING.items() if known.get(switch) == "0")

    def _is_foreign(self, packet: Packet) -> bool:
        """Whether all addresses of the device are known and a packet goes to none of them."""
        space = self.programs.resolver(packet.family).space
        return space.local is not None and not any(packet.destination in values for values, _ in space.kinds_by_address)

    def _may_be_anycast(self, packet: Packet) -> bool:
        """Whether it goes to the first address of a network here: routers answer there (RFC 4291, 2.6.1), and old kernels took
        that of IPv4 for a broadcast."""
        networks = [network for one in self.device.interfaces for network in one.networks]
        return any(one.family == packet.family and one.first == packet.destination for one in networks)

    def _leads(self, state: _State) -> list[str]:
        """The interfaces by which what goes to a packet's destination may leave; any where a route refuses it, or where it may
        have been sent anywhere."""
        packet = state.packet
        symbols = self.programs.resolver(packet.family).space.symbols
        if packet.family not in self._known_ways:
            self._known_ways[packet.family] = ways(self.device, packet.family, symbols)
        known = () if state.moved else self._known_ways[packet.family]
        leaves = next((way.leaves for way in known if packet.destination in way.destinations), None)
        names = (symbols.name(number) for number in leaves or symbols.present)
        return [name for name in names if name != LOOPBACK] or [symbols.name(symbols.top)]

    def cross(
        self,
        packet: Packet,
        stages: Sequence[Stage],
        visits: tuple[Visit, ...] = (),
        *,
        answers: bool = False,
        after: Crossing | None = None,
    ) -> Iterator[tuple[Crossing, tuple[Visit, ...]]]:
        """Every way a packet may go through some stages, translated on the way, with the visits so far.

        answers: it belongs to a connection whose translation is known already
        after: how it crossed the stages before, whose marks and translations count on
        """
        if after is not None:
            state = replace(after.state, packet=packet, unknown_destination=False, moved=False)
        else:
            sent = None if answers else packet
            state = _State(packet, follows=True, answers=answers, translated=answers or False, sent=sent)
        for end in islice(self._stages(state, stages, visits), WAYS_LIMIT):
            verdict = end.verdict or Action.ACCEPT
            by = _way(verdict, end.visits).decided_by if end.visits else None
            described = not (end.state.moved or end.state.unknown_destination)
            yield Crossing(verdict, end.state.packet, by, end.state.redirected, described, end.state), end.visits

    def has_say(self, family: int, stages: Sequence[Stage]) -> bool:
        """Whether the export has chains for a family at some of the stages."""
        return any(True for stage in stages for _ in self._stage(family, stage))

    def _stages(self, state: _State, stages: Sequence[Stage], visits: tuple[Visit, ...]) -> Iterator[_End]:
        bases = [base for stage in stages for base in self._stage(state.packet.family, stage)]
        yield from self._bases_in_turn(state, bases, visits)

    def _bases_in_turn(
        self, state: _State, bases: Sequence[tuple[Rulebase, Chain]], visits: tuple[Visit, ...]
    ) -> Iterator[_End]:
        if not bases:
            yield _End(None, state, visits)
            return
        rulebase, chain = bases[0]
        if (
            chain.base is not None
            and chain.base.kind == "nat"
            and (state.answers or state.packet.state in (State.INVALID, State.UNTRACKED))
        ):
            yield from self._bases_in_turn(state, bases[1:], visits)
            return
        for end in self._base(rulebase, chain, state):
            seen = (*visits, *end.visits)
            if end.verdict is None or end.verdict is Action.ACCEPT:
                yield from self._bases_in_turn(end.state, bases[1:], seen)
            else:
                yield _End(end.verdict, end.state, seen)

    def _base(self, rulebase: Rulebase, chain: Chain, state: _State) -> Iterator[_End]:
        tracked = chain.base is None or not chain.base.before_tracking
        routed = chain.base is None or chain.base.routed
        walk = _Walk(rulebase, chain, 0, chain.base is not None and chain.base.kind == "nat")
        for end in self._chain(walk, replace(state, tracked=tracked, routed=routed)):
            if end.verdict is not None:
                yield end
                continue
            for policy in (
                (Action.ACCEPT, Action.DROP) if chain.policy is Action.UNKNOWN else (chain.policy or Action.ACCEPT,)
            ):
                known = chain.policy is not Action.UNKNOWN
                visit = Visit(rulebase, chain, None, policy, known, True, end.tried, packet=end.state.packet)
                yield _End(policy, end.state, (*end.visits, visit))

    def _chain(self, walk: _Walk, state: _State) -> Iterator[_End]:
        """All ways through a chain, the likeliest first."""
        if walk.depth > 64:
            raise UsageError(f"chains of {self.device.name} call one another too deeply")
        todo: list[Iterator[_End | _More]] = [iter((_More(0, state, ()),))]
        while todo:
            item = next(todo[-1], None)
            if item is None:
                todo.pop()
            elif isinstance(item, _End):
                yield item
            else:
                todo.append(self._from(walk, item))

    def _from(self, walk: _Walk, more: _More) -> Iterator[_End | _More]:
        """From a place in a chain to the next rule that decides, or after which there is more than one way to go on."""
        state, seen, tried = more.state, more.visits, 0
        for number in range(more.at, len(walk.chain.rules)):
            rule = walk.chain.rules[number]
            matched = self._matches(rule, state)
            if matched is False:
                tried += 1
                continue
            sure = matched is True
            visit = Visit(walk.rulebase, walk.chain, rule, rule.action, sure, True, tried, walk.depth, state.packet)
            if rule.action is Action.CONTINUE:
                after = list(self._changed(rule, state))
                if (sure and len(after) == 1) or all(one is state for one in after):
                    # Nothing parts here: a record that may not be made leaves the packet as it was.
                    state, seen, tried = after[0], (*seen, visit), 0
                    continue
            for taken in (True,) if sure else _likely_first(rule):
                if taken:
                    yield from self._matched(walk, rule, number, state, visit, seen)
                else:
                    yield _More(number + 1, state, (*seen, replace(visit, taken=False)))
            return
        yield _End(None, state, seen, tried)

    def _matched(
        self, walk: _Walk, rule: Rule, number: int, state: _State, visit: Visit, seen: tuple[Visit, ...]
    ) -> Iterator[_End | _More]:
        match rule.action:
            case Action.ACCEPT | Action.DROP | Action.REJECT:
                for after in self._changed(rule, state):
                    yield _End(rule.action, after, (*seen, visit))
            case Action.RETURN:
                yield _End(None, state, (*seen, visit))
            case Action.CONTINUE:
                for after in self._changed(rule, state):
                    yield _More(number + 1, after, (*seen, visit))
            case Action.JUMP | Action.GOTO:
                target = self._chains[Same(walk.rulebase)].get(rule.target or "")
                if target is None:
                    yield from _anything(walk, number, state, visit, seen)
                    return
                called = replace(walk, chain=target, depth=walk.depth + 1)
                for end in self._chain(called, state):
                    so_far = (*seen, visit, *end.visits)
                    if end.verdict is not None or rule.action is Action.GOTO:
                        yield replace(end, visits=so_far, tried=0)
                    else:
                        yield _More(number + 1, end.state, so_far)
            case Action.UNKNOWN:
                yield from _anything(walk, number, state, visit, seen)

    def _changed(self, rule: Rule, state: _State) -> Iterator[_State]:
        """The packet after the rule's effects; several where a translation may choose."""
        states = [state]
        if rule.may_do_more and rule.action is Action.CONTINUE:
            states = list(_altered(replace(state, mark=None)))
        for effect in rule.effects:
            match effect:
                case SetMark(value, mask):
                    states = [
                        replace(s, mark=None if s.mark is None and mask != _MARK_TOP else (s.mark or 0) & ~mask ^ value)
                        for s in states
                    ]
                case LoseMark():
                    states = [replace(s, mark=None) for s in states]
                case NoTracking():
                    states = [
                        replace(s, packet=replace(s.packet, state=State.UNTRACKED)) if _without_connection(s) else s
                        for s in states
                    ]
                case NewTracking():
                    states = [
                        replace(s, begun=True, packet=replace(s.packet, state=State.NEW))
                        if s.tracked and _without_connection(s)
                        else replace(s, begun=True)
                        for s in states
                    ]
                case Translate():
                    states = [new for s in states for new in self._translated(effect, s)]
        yield from states

    def _translated(self, change: Translate, state: _State) -> Iterator[_State]:
        packet = state.packet
        match change.kind:
            case TranslationKind.SOURCE:
                yield from self._hidden(change, state) if state.follows else (state,)
                return  # else: what comes after filtering does not change the verdict
            case TranslationKind.TO_DEVICE:
                own = self._own_address(packet)
                moved = replace(packet, destination=own if own is not None else packet.destination, out_interface="")
                if not packet.in_interface:
                    moved = replace(moved, out_interface="lo")
                base = replace(state, packet=moved, unknown_destination=own is None, redirected=True, translated=True)
            case TranslationKind.DESTINATION:
                base = replace(state, translated=True)
        for address, addresses in _spread(change, packet):
            for port, ports in _ports(change, packet):
                new = base.packet
                if address is not None:
                    new = replace(new, destination=address)
                if port is not None:
                    new = replace(new, dport=port)
                given = {Axis.DST: address, Axis.B: port}
                kept = [one for one in base.among if given[one[0]] is None]
                yield replace(base, packet=new, among=(*kept, *addresses, *ports))

    def _hidden(self, change: Translate, state: _State) -> Iterator[_State]:
        """The packet with another source: one that is told, or the address of the interface it leaves by."""
        packet = state.packet
        if change.addresses is None:
            mine = [one for one in self.device.interfaces if one.name == packet.out_interface]
            own = [a.first for one in mine for a in one.addresses if a.family == packet.family]
            sources: list[int | None] = [own[0] if own else packet.source]
        else:
            sources = [one for one, _ in _spread(change, replace(packet, destination=packet.source))]
        for source in sources:
            yield replace(state, packet=replace(packet, source=packet.source if source is None else source))

    def _own_address(self, packet: Packet) -> int | None:
        """The address a redirected packet gets: loopback for own packets, else the first of the interface it came by."""
        if not packet.in_interface:
            return 0x7F000001 if packet.family == 4 else 1
        for interface in self.device.interfaces:
            if interface.name == packet.in_interface:
                for address in interface.addresses:
                    if address.family == packet.family:
                        return address.first
        return None

    def _point(self, state: _State) -> tuple[list[int | None], dict[Axis, IntervalSet]]:
        """Where a packet is by now, None along axes where that is open, and the values it may have been given along some.

        The rules of a chain ask one after another about one state.
        """
        if self._asked is not None and self._asked[0] is state:
            return self._asked[1:]
        packet = state.packet
        space = self.programs.resolver(packet.family).space
        if not state.tracked and packet.state is not State.UNTRACKED:
            # As the kernel has it before connections are tracked.
            packet = replace(packet, state=State.NEW if state.begun else State.INVALID)
        point: list[int | None] = list(packet.point(space))
        if not state.routed:
            point[Axis.OUT] = 0
        if state.kind is not None and not state.translated:
            point[Axis.TYPE] = state.kind
        elif packet.in_interface and not packet.out_interface and not state.redirected and self._is_foreign(packet):
            point[Axis.TYPE] = None if self._may_be_anycast(packet) else DestinationType.UNICAST.number
        if state.moved:
            point[Axis.DST] = point[Axis.TYPE] = None
        elif state.unknown_destination:
            point[Axis.DST] = None
            point[Axis.TYPE] = DestinationType.LOCAL.number
        among = dict(state.among)
        if any(among[Axis.DST] & values for values, _ in space.kinds_by_address if Axis.DST in among):
            point[Axis.TYPE] = None
        self._asked = (state, point, among)
        return point, among

    def _matches(self, rule: Rule, state: _State) -> bool | None:
        """Whether a rule matches; None where that cannot be determined."""
        if not rule.enabled or Same(rule) in self._without:
            return False
        packet = state.packet
        resolver = self.programs.resolver(packet.family)
        conditions = rule.match.conditions
        unsettled = False
        if packet.state not in (State.ESTABLISHED, State.RELATED):
            # Translations of this packet have been followed; what became of a running connection's first is not known.
            asked = [one for one in conditions if one.field is Field.TRANSLATED]
            if any(state.translated is one.negated for one in asked):
                return False
            if asked:
                unsettled = state.translated is None
                conditions = tuple(one for one in conditions if one.field is not Field.TRANSLATED)
            opened = [one for one in conditions if one.field in SENT]
            if opened and state.sent is not None:
                if packet.state in (State.INVALID, State.UNTRACKED) or not state.tracked:
                    return False  # it belongs to no connection
                begun = state.sent.point(resolver.space)
                held = [_covers(resolver.opening(one), begun) for one in opened]
                if False in held:
                    return False
                unsettled = unsettled or None in held
                conditions = tuple(one for one in conditions if one.field not in SENT)
        odd = [one for one in conditions if packet.family == 4 and _is_of_broadcasts(one)]
        if odd and not _may_be_broadcast(packet.source):
            if any(not one.negated for one in odd):
                return False
            conditions = tuple(one for one in conditions if not _is_of_broadcasts(one))
        key = (Same(rule), packet.family, tuple(one.field for one in conditions))
        pieces = self._pieces.get(key)
        if pieces is None:
            # Marks are followed here, so they do not make a rule doubtful as they do for sets of packets.
            pieces = self._pieces[key] = resolver.match(Match(conditions), sure=not rule.qualifiers)
        point, among = self._point(state)
        answer: bool | None = False
        for piece in pieces:
            inside: bool | None = True
            for axis, value, values in zip(Axis, point, piece.box, strict=True):
                if values is None or (axis in among and among[axis].issubset(values)):
                    continue
                if value is None or (axis in among and among[axis] & values):
                    inside = None
                elif value not in values:
                    inside = False
                    break
            if inside is not False:
                if inside and piece.sure:
                    answer = True
                    break
                answer = None
        if answer and unsettled:
            answer = None
        if answer is False or not rule.marks:
            return answer
        if state.mark is None:
            return None
        mark = state.mark
        return answer if all(_mark_fits(test, mark) for test in rule.marks) else False

    def _stage(self, family: int, stage: Stage) -> list[tuple[Rulebase, Chain]]:
        found = self._bases.get((family, stage))
        if found is None:
            found = [
                (rulebase, chain)
                for rulebase in self.device.rulebases
                if family in rulebase.families
                for chain in rulebase.chains
                if chain.base is not None and chain.base.stage is stage
            ]
            found.sort(key=lambda item: item[1].base.priority if item[1].base else 0)
            self._bases[family, stage] = found
        return found


def _anything(walk: _Walk, number: int, state: _State, visit: Visit, seen: tuple[Visit, ...]) -> Iterator[_End | _More]:
    """A target we do not know may accept, drop, or let evaluation go on."""
    doubtful = replace(visit, matched=False)
    for after in _altered(state):
        yield _More(number + 1, after, (*seen, doubtful))
    for verdict in (Action.ACCEPT, Action.DROP):
        after = state
        if verdict is Action.ACCEPT and walk.translating:
            after = replace(state, moved=True, translated=None)  # what it does there is to translate
        yield _End(verdict, after, (*seen, replace(doubtful, action=verdict)))


def _altered(state: _State) -> Iterator[_State]:
    """A packet as it was, and as it may be after what was not understood."""
    yield state
    if not state.tracked and state.packet.state is not State.UNTRACKED:
        yield replace(state, packet=replace(state.packet, state=State.UNTRACKED))


def direction_of(packet: Packet) -> Direction:
    if not packet.in_interface:
        return Direction.FROM_DEVICE
    return Direction.THROUGH_DEVICE if packet.out_interface else Direction.TO_DEVICE


def _way(verdict: Action, visits: tuple[Visit, ...]) -> Way:
    """What decided: the visit that refused; else the last rule of a chain that filters which accepted, else the policy of the central
    one, else whatever accepted last."""
    if verdict.refuses:
        return Way(verdict, visits[-1], visits)
    accepting = [v for v in visits if v.action is Action.ACCEPT and v.taken]
    filtering = [v for v in accepting if filters(v.rulebase, _base_of(v, visits))]
    ruled = [v for v in filtering if v.rule is not None]
    central = [v for v in filtering if (base := _base_of(v, visits).base) is not None and base.priority == 0]
    return Way(verdict, (ruled or central or filtering or accepting or list(visits))[-1], visits)


def _base_of(visit: Visit, visits: tuple[Visit, ...]) -> Chain:
    """The base chain a visit belongs to: its own, or that of the visit by which its chain was entered."""
    if visit.chain.base is not None:
        return visit.chain
    at = visits.index(visit)
    return next((v.chain for v in reversed(visits[:at]) if v.chain.base is not None), visit.chain)


def filters(rulebase: Rulebase, chain: Chain) -> bool:
    """Whether a base chain decides what is let through, and is not one of the tables of iptables for something else."""
    table = rulebase.name.rpartition(" ")[2]
    return (
        chain.base is not None
        and chain.base.kind == "filter"
        and chain.base.stage in FILTER_STAGE.values()
        and table not in ("mangle", "raw", "security")
    )


def _may_be_broadcast(address: int) -> bool:
    """Whether an IPv4 address may be for all of a network, of any size: the last one, or the first, which old kernels took for one too.

    Networks of two hosts and single addresses have none (RFC 3021); 0.0.0.0/8 counts as broadcast, all of it.
    """
    return address & 3 in (0, 3) or address < 1 << 24


def _is_of_broadcasts(one: Condition) -> bool:
    """Whether a condition is for sources that are broadcast addresses, and no others."""
    kind = DestinationType.BROADCAST.number
    return one.field is Field.SOURCE_TYPE and all(
        isinstance(o, Numbers) and o.first == o.last == kind for o in one.operands
    )


def _without_connection(state: _State) -> bool:
    """Whether a packet has no connection where it is, nor the beginning of one."""
    return state.packet.state is State.INVALID if state.tracked else not state.begun


def _likely_first(rule: Rule) -> tuple[bool, bool]:
    """A plain rate limit mostly lets through what it matches; of other open conditions nothing is known."""
    limits = [q.name == "rate limit" and "-above" not in q.text for q in rule.qualifiers]
    return (True, False) if limits and all(limits) else (False, True)


def _mark_fits(test: MarkTest, mark: int) -> bool:
    return ((mark & test.mask) == test.value) is not test.negated


_Among = tuple[tuple[Axis, IntervalSet], ...]


def _spread(change: Translate, packet: Packet) -> Iterator[tuple[int | None, _Among]]:
    """Addresses a translation may lead to: each of a few, or one that stands for a range."""
    if change.addresses is None:
        yield None, ()
    elif change.netmap_bits is not None:
        yield change.addresses.first | packet.destination & (1 << change.netmap_bits) - 1, ()
    else:
        yield from _each(Axis.DST, change.addresses.first, change.addresses.last)


def _ports(change: Translate, packet: Packet) -> Iterator[tuple[int | None, _Among]]:
    if change.ports is None or packet.protocol not in WITH_PORTS:
        yield None, ()
    elif packet.dport is not None and change.ports.first <= packet.dport <= change.ports.last:
        yield packet.dport, ()
    else:
        yield from _each(Axis.B, change.ports.first, change.ports.last)


def _each(axis: Axis, first: int, last: int) -> Iterator[tuple[int, _Among]]:
    if last - first < SPREAD:
        yield from ((value, ()) for value in range(first, last + 1))
    else:
        yield first, ((axis, IntervalSet([(first, last)])),)

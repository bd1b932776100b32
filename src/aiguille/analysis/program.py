"""A device's rules for one direction and family as one straight list of steps.

Chains are written out where they are called, so that a jump becomes its target's rules narrowed to what the jump lets in,
a return becomes a step that skips to the end of the called chain, and an accept in a chain that is not the last of its hook
a step that skips to the next chain. What is left is first match over the list, with skips; see `decide`.
"""

from __future__ import annotations

from collections.abc import Iterator
from enum import StrEnum
from functools import cached_property

from msgspec import Struct, field

from aiguille.analysis.doubts import Doubt, doubt_of
from aiguille.analysis.loopback import LOOPBACK
from aiguille.analysis.pieces import Untracked, before_routing, before_tracking, conjunction, untracked
from aiguille.analysis.resolve import Piece, Resolver, symbols_of
from aiguille.analysis.rows import Rows
from aiguille.analysis.ways import ways
from aiguille.model import (
    STAGES,
    Action,
    Addresses,
    Chain,
    DestinationType,
    Device,
    Direction,
    LoseMark,
    NewTracking,
    NoTracking,
    Rule,
    Rulebase,
    SetMark,
    Span,
    Stage,
    State,
    TooComplexError,
)
from aiguille.model.identity import Same
from aiguille.space import EVERYTHING, Axis, Box, IntervalSet, Space, Symbols, box, covers, overlap, subtract
from aiguille.space.effort import limited

STEP_LIMIT = 300_000
"""Chains that call one another widely could write out to any length; beyond this a device is refused, not guessed."""


COMPILE_EFFORT = 10_000_000
"""Steps of work that writing out the chains may take, beside a thousand for each rule."""


class Kind(StrEnum):
    """What a step does with the packets that reach it and match.

    A fork stands before the rules of a chain whose call depends on a qualifier: its packets either go on into the chain
    or skip it as a whole.
    """

    ACCEPT = "accept"
    REFUSE = "refuse"
    SKIP = "skip"
    FORK = "fork"
    PASS = "pass"
    OPEN = "open"


class Label(Struct):
    """A place in the list that is known only once the chain before it is written out."""

    index: int = -1


class Step(Struct, frozen=True):
    """One rule or policy at one place of the list.

    pieces: what it matches here, narrowed by the jumps on the way
    stop: for a skip or fork, where it leads
    settles: for a skip, whether it stands for an accept of the whole chain, which then is the chain's verdict
    via: the jumps and gotos that lead here, outermost first, each with its chain
    """

    kind: Kind
    rulebase: Rulebase
    chain: Chain
    rule: Rule | None
    pieces: tuple[Piece, ...]
    stop: Label | None = None
    settles: bool = False
    via: tuple[tuple[Chain, Rule], ...] = ()

    @property
    def logs(self) -> bool:
        return self.rule.logs if self.rule is not None else self.chain.policy_logs

    @property
    def log_unknown(self) -> bool:
        """Whether nothing shows if it records what it takes."""
        return self.rule.log_unknown if self.rule is not None else self.chain.policy_log_unknown

    @property
    def where(self) -> Span | None:
        return self.rule.where if self.rule is not None else self.chain.policy_where

    @property
    def action(self) -> Action:
        if self.rule is not None:
            return self.rule.action
        return self.chain.policy or Action.UNKNOWN

    @property
    def catches_all(self) -> bool:
        """Whether every packet that gets here is surely taken, or skips on, by this step."""
        return any(piece.sure and piece.box == EVERYTHING for piece in self.pieces)


class Program(Struct, frozen=True, eq=False, dict=True):
    """The steps a packet of one family meets in one direction, and the packets that can go that way.

    bases: the base chains in the order they have their say
    stage: for a single chain looked at by itself, the point where it stands; direction then is one it has a part in
    untracked: packets that rules leave untracked, or may; guessed: whether some only by a rule that was not understood
    """

    device: Device
    family: int
    direction: Direction
    space: Space
    steps: tuple[Step, ...]
    bases: tuple[tuple[Rulebase, Chain], ...]
    stage: Stage | None
    resolver: Resolver
    untracked: tuple[Box, ...] = ()
    guessed: bool = False
    _by_protocol: dict[IntervalSet | None, tuple[tuple[tuple[Axis, IntervalSet], ...], ...]] = field(
        default_factory=dict
    )
    _meetings: dict[tuple[IntervalSet, IntervalSet], IntervalSet] = field(default_factory=dict)

    @cached_property
    def ways(self) -> tuple[Box, ...]:
        """The packets that leave by the interface their destination lies behind, in disjoint parts."""
        known = ways(self.device, self.family, self.space.symbols)
        return tuple(box([(Axis.DST, way.destinations), (Axis.OUT, way.leaves)]) for way in known if way.leaves)

    def along(self, region: Box) -> Iterator[Box]:
        """The parts of a region whose packets leave by the interface that leads to their destination."""
        if self.direction is not Direction.THROUGH_DEVICE:
            yield region
            return
        for way in self.ways:
            common = overlap(region, way)
            if common is not None:
                yield common

    @cached_property
    def rows(self) -> Rows:
        """Every piece of every step."""
        return Rows([step.pieces for step in self.steps])

    def tracked(self, one: Box) -> list[Box]:
        """The parts of a box whose packets have the state it says: none that rules leave untracked."""
        rest = [one]
        for left in self.untracked:
            rest = [part for each in rest for part in subtract(each, left, self.space.tops)]
        return rest

    @cached_property
    def marked(self) -> bool:
        """Whether any rule of the device marks packets, or may."""
        return any(
            rule.action is Action.UNKNOWN
            or rule.may_do_more
            or any(isinstance(one, SetMark | LoseMark) for one in rule.effects)
            for base in self.device.rulebases
            for _, rule in base.rules()
        )

    @cached_property
    def doubts(self) -> tuple[Doubt, ...]:
        """By step, what its conditions are worth that a packet does not settle."""
        return tuple(
            doubt_of(step.rulebase, step.rule, step.pieces, self.resolver, marked=self.marked, guessed=self.guessed)
            for step in self.steps
        )

    @cached_property
    def region(self) -> Box:
        """What every packet in this direction has in common: which interfaces it has, and whose its destination is."""
        none, some = IntervalSet.of(0), self.space.symbols.present
        if self.stage is Stage.PREROUTING:
            return box([(Axis.IN, some)])
        if self.stage is Stage.POSTROUTING:
            return box([(Axis.OUT, some)])
        match self.direction:
            case Direction.TO_DEVICE:
                # Local, broadcast and multicast; what is unicast to somebody else is not delivered here.
                return box([(Axis.IN, some), (Axis.OUT, none), (Axis.TYPE, IntervalSet([(1, 3)]))])
            case Direction.THROUGH_DEVICE:
                return box([(Axis.IN, some), (Axis.OUT, some), (Axis.TYPE, IntervalSet.of(0, 3))])
            case Direction.FROM_DEVICE:
                return box([(Axis.IN, none), (Axis.OUT, some)])

    def regions(self, narrowed: Box = EVERYTHING) -> Iterator[Box]:
        """The parts of `narrowed` that hold packets of this direction which can exist."""
        for restrictions in self._parts_for(narrowed[Axis.PROTO]):
            out = list(narrowed)
            for axis, values in restrictions:
                mine = out[axis]
                out[axis] = common = values if mine is None else self._common(mine, values)
                if not common:
                    break
            else:
                yield tuple(out)

    def may_exist(self, narrowed: Box) -> bool:
        """Whether a packet of `narrowed` may go this way although none is known to: any address may be the last of a network
        the device is in, where the export does not state its addresses."""
        if self.space.local is not None:
            return False
        return any(overlap(common, narrowed) is not None for common in self._unnarrowed)

    @cached_property
    def _unnarrowed(self) -> tuple[Box, ...]:
        return tuple(common for part in self.space.classes if (common := overlap(self.region, part)) is not None)

    def _parts_for(self, protocols: IntervalSet | None) -> tuple[tuple[tuple[Axis, IntervalSet], ...], ...]:
        """The parts that hold some of the protocols, each as the axes it restricts."""
        found = self._by_protocol.get(protocols)
        if found is None:
            found = self._by_protocol[protocols] = tuple(
                tuple((axis, values) for axis, values in zip(Axis, part, strict=True) if values is not None)
                for part in self._parts
                if protocols is None or protocols & (part[Axis.PROTO] or protocols)
            )
        return found

    def _common(self, one: IntervalSet, other: IntervalSet) -> IntervalSet:
        """An intersection, remembered: the same few sets meet over and over."""
        found = self._meetings.get((one, other))
        if found is None:
            found = self._meetings[one, other] = one & other
        return found

    @cached_property
    def _parts(self) -> tuple[Box, ...]:
        found = list(self._unnarrowed)
        if any(piece.box[Axis.TYPE] is not None for step in self.steps for piece in step.pieces):
            found = [common for one in found for kind in self.space.kinds if (common := overlap(one, kind)) is not None]
        return tuple(found)

    @cached_property
    def defaults(self) -> tuple[Step, ...]:
        """The steps that decide what no narrower statement speaks of: one, or more where the export leaves open which.

        Looked at are new connections to a destination of the usual kind; rules that restrict them in any way, or match under a
        condition, count as not there. Returns, gotos and early accepts are followed.
        """
        region = self._ordinary
        found: list[int] = []
        at, settled = 0, -1
        while at < len(self.steps):
            step = self.steps[at]
            at += 1
            held = [piece.sure for piece in step.pieces if covers(piece.box, region)]
            if step.kind is Kind.PASS or not held or not (any(held) or step.kind is Kind.FORK):
                continue
            if step.kind in (Kind.SKIP, Kind.FORK):
                settled = at - 1 if step.settles else settled
                at = step.stop.index if step.stop is not None else at
                continue
            accepted_before = step.kind is Kind.ACCEPT and step.rule is None and settled >= 0
            found.append(settled if accepted_before else at - 1)
            if step.kind is not Kind.OPEN:
                break
        return tuple(self.steps[number] for number in found)

    @property
    def default(self) -> Step | None:
        """The one step that decides what no narrower statement speaks of, None where that is left open."""
        found = self.defaults
        return found[0] if len(found) == 1 and found[0].kind is not Kind.OPEN else None

    @cached_property
    def _ordinary(self) -> Box:
        """New connections in this direction, not over the loopback, to a destination of the usual kind."""
        symbols = self.space.symbols
        real = symbols.present
        if LOOPBACK in symbols.names:
            real = real - IntervalSet.of(symbols.number(LOOPBACK)) or real
        kind = DestinationType.LOCAL if self.direction is Direction.TO_DEVICE else DestinationType.UNICAST
        narrowed = overlap(
            box([(Axis.STATE, IntervalSet.of(State.NEW.number)), (Axis.TYPE, IntervalSet.of(kind.number))]),
            box([(axis, real) for axis in (Axis.IN, Axis.OUT) if (self.region[axis] or real) != IntervalSet.of(0)]),
        )
        return overlap(self.region, narrowed or EVERYTHING) or self.region


def _broadcasts(network: Addresses) -> bool:
    """Whether the last address of a network is for all in it; links of two hosts have no such address (RFC 3021)."""
    return network.family == 4 and network.last - network.first > 1


def own_addresses(device: Device, family: int) -> IntervalSet | None:
    """The addresses at which a device can be reached, None where the export does not state all of them.

    A service answers at these only; a rule for what lies behind the device opens none. IPv6 hosts have a link-local address
    on each interface beside those stated (RFC 4291, 2.8).
    """
    mine = [one for one in device.interfaces if one.enabled and one.name != LOOPBACK]
    stated = [a for one in mine for a in one.addresses if a.family == family]
    if not stated or not all(one.addresses_known for one in mine):
        return None
    local = [(0xFE80 << 112, (0xFEC0 << 112) - 1)] if family == 6 else []
    return IntervalSet([(a.first, a.last) for a in stated] + local)


def families(device: Device) -> tuple[int, ...]:
    """The address families the device's exports speak of, ascending."""
    return tuple(sorted({family for rulebase in device.rulebases for family in rulebase.families}))


class Programs:
    """The programs of one device, each made when first asked for."""

    def __init__(self, device: Device, symbols: Symbols | None = None) -> None:
        """symbols: the interface names to tell apart, where they must be those of another device too"""
        self.device = device
        self._symbols = symbols or symbols_of(device)
        self._made: dict[tuple[int, Direction], Program | TooComplexError | None] = {}
        self._resolvers: dict[int, Resolver] = {}

    def resolver(self, family: int) -> Resolver:
        found = self._resolvers.get(family)
        if found is None:
            local = own_addresses(self.device, family)
            ends = [n.last for one in self.device.interfaces if one.enabled for n in one.networks if _broadcasts(n)]
            space = Space(family, self._symbols, local, IntervalSet.of(*ends) if family == 4 else IntervalSet())
            found = self._resolvers[family] = Resolver(self.device, space)
        return found

    def get(self, family: int, direction: Direction) -> Program | None:
        """The program, or None if no base chain of the export has a say in this family and direction."""
        key = (family, direction)
        if key not in self._made:
            bases = deciding_chains(self.device, family, direction)
            try:
                self._made[key] = _compile(self.device, direction, self.resolver(family), bases) if bases else None
            except TooComplexError as error:
                self._made[key] = error
        found = self._made[key]
        if isinstance(found, TooComplexError):
            raise found
        return found

    def everything(self) -> Iterator[Program]:
        """The programs of all directions, then each base chain that none of them holds by itself."""
        for family in families(self.device):
            held: set[Same] = set()
            for direction in Direction:
                program = self.get(family, direction)
                if program is not None:
                    held |= {Same(chain) for _, chain in program.bases}
                    yield program
            for rulebase in self.device.rulebases:
                for chain in rulebase.chains:
                    if chain.base is None or Same(chain) in held or family not in rulebase.families:
                        continue
                    stage = chain.base.stage
                    direction = next(_directions(stage))
                    yield _compile(self.device, direction, self.resolver(family), ((rulebase, chain),), stage)

    def all(self, direction: Direction) -> Iterator[Program]:
        """The programs of a direction that packets meet, IPv4 before IPv6; none of IPv6 where the kernel has it switched off."""
        off = ipv6_is_off(self.device)
        return (program for program in self.held(direction) if program.family == 4 or not off)

    def held(self, direction: Direction) -> Iterator[Program]:
        """The programs of a direction, IPv4 before IPv6, whether the kernel lets packets meet them today or not."""
        for family in families(self.device):
            if (program := self.get(family, direction)) is not None:
                yield program


def ipv6_is_off(device: Device) -> bool:
    """Whether the kernel takes and sends no IPv6 at all (ip-sysctl, disable_ipv6), as far as settings are stated."""
    stated = {
        one.name: one.setting.value for one in device.system if one.setting.known and one.name.endswith(".disable_ipv6")
    }
    return stated.pop("net.ipv6.conf.all.disable_ipv6", "0") == "1" and "0" not in stated.values()


def says_nothing_of_six(device: Device) -> bool:
    """Whether a device has rules, none for IPv6, and nothing that switches IPv6 off."""
    return (
        bool(device.rulebases) and not ipv6_is_off(device) and not any(6 in base.families for base in device.rulebases)
    )


def _directions(stage: Stage) -> Iterator[Direction]:
    return (direction for direction, stages in STAGES.items() if stage in stages)


def deciding_chains(device: Device, family: int, direction: Direction) -> tuple[tuple[Rulebase, Chain], ...]:
    """The base chains that a packet passes and that can decide its fate, in order.

    Chains of other stages than the direction's own filter stage are left out while nothing in them refuses packets.
    """
    stages = STAGES[direction]
    found: list[tuple[int, int, int, Rulebase, Chain]] = []
    for number, rulebase in enumerate(device.rulebases):
        if family not in rulebase.families:
            continue
        for chain in rulebase.chains:
            if chain.base is None or chain.base.kind == "nat" or chain.base.stage not in stages:
                continue
            central = chain.base.priority == 0 and chain.base.stage in (Stage.INPUT, Stage.FORWARD, Stage.OUTPUT)
            if central or can_refuse(rulebase, chain):
                found.append((stages.index(chain.base.stage), chain.base.priority, number, rulebase, chain))
    found.sort(key=lambda item: item[:3])
    return tuple((rulebase, chain) for *_, rulebase, chain in found)


def can_refuse(rulebase: Rulebase, chain: Chain) -> bool:
    """Whether any packet could be refused by a base chain or by what it calls."""
    if chain.policy is not None and chain.policy is not Action.ACCEPT:
        return True
    todo, seen = [chain.name], {chain.name}
    while todo:
        current = rulebase.chain(todo.pop())
        for rule in current.rules if current is not None else ():
            if rule.action.refuses or rule.action is Action.UNKNOWN:
                return True
            if rule.target is not None and rule.target not in seen:
                seen.add(rule.target)
                todo.append(rule.target)
    return False


def _compile(
    device: Device,
    direction: Direction,
    resolver: Resolver,
    bases: tuple[tuple[Rulebase, Chain], ...],
    stage: Stage | None = None,
) -> Program:
    left = untracked(resolver, direction)
    writer = _Writer(resolver, left)
    with limited(COMPILE_EFFORT + 1000 * writer.rules, apart=True):
        for number, (rulebase, chain) in enumerate(bases):
            writer.base(rulebase, chain, is_last=number == len(bases) - 1)
    return Program(
        device,
        resolver.space.family,
        direction,
        resolver.space,
        tuple(writer.steps),
        bases,
        stage,
        resolver,
        tuple(one.box for one in left.packets),
        left.guessed,
    )


_FULL = (Piece(EVERYTHING, True),)
_INVALID = (Piece(box([(Axis.STATE, IntervalSet.of(State.INVALID.number))]), True),)


class _Writer:
    """Writes chains out into steps."""

    def __init__(self, resolver: Resolver, left: Untracked) -> None:
        """left: the packets that rules leave untracked"""
        self.resolver = resolver
        self._untracked = left
        self.steps: list[Step] = []
        self._chains: dict[Same, dict[str, Chain]] = {}
        self.rules = sum(len(chain.rules) for base in resolver.device.rulebases for chain in base.chains)
        self._stateless = False
        self._begun = False
        self._unrouted = False

    def base(self, rulebase: Rulebase, chain: Chain, *, is_last: bool) -> None:
        self._stateless = chain.base is not None and chain.base.before_tracking
        self._unrouted = chain.base is not None and not chain.base.routed
        policy, after = Label(), Label()
        self._chain(rulebase, chain, _FULL, policy, None if is_last else after, (), ())
        policy.index = len(self.steps)
        match chain.policy:
            case Action.DROP | Action.REJECT:
                self.steps.append(Step(Kind.REFUSE, rulebase, chain, None, _FULL))
            case Action.ACCEPT:
                kind = Kind.ACCEPT if is_last else Kind.PASS
                self.steps.append(Step(kind, rulebase, chain, None, _FULL))
            case _:
                self.steps.append(Step(Kind.OPEN, rulebase, chain, None, _FULL))
                if is_last:
                    self.steps.append(Step(Kind.ACCEPT, rulebase, chain, None, _FULL))
        after.index = len(self.steps)

    def _chain(
        self,
        rulebase: Rulebase,
        chain: Chain,
        path: tuple[Piece, ...],
        end: Label,
        accept: Label | None,
        callers: tuple[str, ...],
        via: tuple[tuple[Chain, Rule], ...],
    ) -> None:
        """Write out one call of a chain.

        path: what gets into it; end: where a return leads; accept: where an accept leads, None if it is final
        """
        for rule in chain.rules:
            own = self.resolver.rule(rule)
            if self._stateless:
                own = before_tracking(own, begun=self._begun)
            elif self._untracked.packets:
                own = self._untracked.seen_by(own, self.resolver.space.tops)
            pieces = conjunction(path, before_routing(own) if self._unrouted else own)
            if len(self.steps) > max(STEP_LIMIT, 10 * self.rules):
                raise TooComplexError(
                    f"the chains written out have more than {STEP_LIMIT} steps; they call one another too often "
                    f"(chain {chain.name} among them)",
                    rule.where,
                )
            if any(isinstance(effect, NewTracking | NoTracking) for effect in rule.effects):
                if self._stateless:
                    self._begun = self._begun or any(isinstance(effect, NewTracking) for effect in rule.effects)
                elif lost := conjunction(_INVALID, pieces):
                    # From here on these packets have another state than the one they are asked for by.
                    self.steps.append(Step(Kind.OPEN, rulebase, chain, rule, lost, via=via))
            match rule.action:
                case Action.ACCEPT if accept is not None:
                    self.steps.append(Step(Kind.SKIP, rulebase, chain, rule, pieces, accept, settles=True, via=via))
                case Action.ACCEPT:
                    self.steps.append(Step(Kind.ACCEPT, rulebase, chain, rule, pieces, via=via))
                case Action.DROP | Action.REJECT:
                    self.steps.append(Step(Kind.REFUSE, rulebase, chain, rule, pieces, via=via))
                case Action.RETURN:
                    self.steps.append(Step(Kind.SKIP, rulebase, chain, rule, pieces, end, via=via))
                case Action.CONTINUE:
                    self.steps.append(Step(Kind.PASS, rulebase, chain, rule, pieces, via=via))
                case Action.UNKNOWN:
                    self.steps.append(Step(Kind.OPEN, rulebase, chain, rule, pieces, via=via))
                case Action.JUMP | Action.GOTO:
                    self._call(rulebase, chain, rule, pieces, end, accept, callers, via)

    def _call(
        self,
        rulebase: Rulebase,
        chain: Chain,
        rule: Rule,
        pieces: tuple[Piece, ...],
        end: Label,
        accept: Label | None,
        callers: tuple[str, ...],
        via: tuple[tuple[Chain, Rule], ...],
    ) -> None:
        target = self._named(rulebase, rule.target or "")
        if target is None or target.name in callers:
            self.steps.append(Step(Kind.OPEN, rulebase, chain, rule, pieces, via=via))
            return
        self.steps.append(Step(Kind.PASS, rulebase, chain, rule, pieces, via=via))
        if not pieces:
            return
        beyond = Label()
        doubtful = _only_maybe(pieces, self.resolver.space.tops)
        if doubtful:
            self.steps.append(Step(Kind.FORK, rulebase, chain, rule, doubtful, beyond, via=via))
            # Whoever is in the chain came by this call, so inside the doubt is settled.
            pieces = tuple(Piece(piece.box, True) for piece in pieces)
        if rule.action is Action.GOTO:
            # The called chain returns to where the caller would: nothing after the goto is seen by these packets.
            self._chain(rulebase, target, pieces, end, accept, (*callers, chain.name), (*via, (chain, rule)))
            self.steps.append(Step(Kind.SKIP, rulebase, chain, rule, pieces, end, via=via))
        else:
            self._chain(rulebase, target, pieces, beyond, accept, (*callers, chain.name), (*via, (chain, rule)))
        beyond.index = len(self.steps)

    def _named(self, rulebase: Rulebase, name: str) -> Chain | None:
        chains = self._chains.get(Same(rulebase))
        if chains is None:
            chains = self._chains[Same(rulebase)] = {chain.name: chain for chain in rulebase.chains}
        return chains.get(name)


def _only_maybe(pieces: tuple[Piece, ...], tops: tuple[int, ...]) -> tuple[Piece, ...]:
    """The packets that a rule may match and does not surely match."""
    left = [piece.box for piece in pieces if not piece.sure]
    for piece in pieces:
        if piece.sure and left:
            left = [part for one in left for part in subtract(one, piece.box, tops)]
    return tuple(Piece(one, False) for one in left)

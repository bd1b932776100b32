"""What is computed of a device once and asked by many checks."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import cached_property
from typing import Any

from msgspec import Struct, field

from aiguille.analysis.countries import by_country
from aiguille.analysis.decide import LONG, Decider, Ends, Proof, maybe_accepted, surely_accepted, surely_refused
from aiguille.analysis.doubts import RATES, Doubt
from aiguille.analysis.exposure import Exposure, exposures, rated
from aiguille.analysis.program import Kind, Program, Programs, Step, own_addresses
from aiguille.analysis.remarks import said_to_manage
from aiguille.analysis.services import GENERAL_HOSTS, management_services
from aiguille.analysis.sides import Entrance, entrances, existing, not_loopback, outside_known
from aiguille.analysis.standing import StandingReport, standings
from aiguille.model import (
    Action,
    Addresses,
    Device,
    Direction,
    Estate,
    Field,
    ManagementService,
    Numbers,
    Operand,
    Rule,
    Side,
    Span,
    Stage,
    State,
    Translate,
)
from aiguille.model.facts import FORWARDING, system_settings
from aiguille.model.identity import Same
from aiguille.space import Axis, Box, IntervalSet, box, holds, meets, overlap
from aiguille.space.fields import SYN, TCP, UDP

OPENING = {
    TCP: box([(Axis.STATE, IntervalSet.of(State.NEW.number)), (Axis.PROTO, IntervalSet.of(TCP)),
              (Axis.FLAGS, IntervalSet.of(SYN))]),
    UDP: box([(Axis.STATE, IntervalSet.of(State.NEW.number)), (Axis.PROTO, IntervalSet.of(UDP))]),
}  # fmt: skip
"""Packets that open a connection."""

NEW = box([(Axis.STATE, IntervalSet.of(State.NEW.number))])


_Plausible = tuple[int, Step, list[Box], list[Box]]
"""An accepting step by its number, with its new connections that may come, and those parts of them that leave where they can."""


class Admission(Struct, frozen=True, dict=True):
    """A rule that lets new connections through where it stands, at one place of one program.

    regions: what it lets in there: packets that open connections and come by an interface that exists
    condition: what else must hold, in words; empty where nothing but a rate stands in the way
    prove: finds a packet it lets in, which takes longer than to know that there is one
    """

    program: Program
    number: int
    regions: tuple[Box, ...]
    condition: str
    prove: Callable[[], Proof]

    @cached_property
    def proof(self) -> Proof:
        """A packet it lets in."""
        return self.prove()

    @property
    def step(self) -> Step:
        return self.program.steps[self.number]

    @property
    def rule(self) -> Rule:
        rule = self.step.rule
        if rule is None:
            raise LookupError("an admission is always a rule")
        return rule

    @property
    def of_default(self) -> bool:
        """Whether a program makes the rule of a default that somebody set, as ufw does: that, and no rule, is what to change."""
        return self.rule.made and any(chain.policy_where == self.rule.where for _, chain in self.program.bases)

    def values(self, axis: Axis) -> IntervalSet:
        """Every value of an axis that occurs."""
        top = self.program.space.tops[axis]
        spans = [s for one in self.regions for s in ((0, top),) if one[axis] is None]
        spans += [s for one in self.regions for s in (one[axis] or IntervalSet()).spans]
        return IntervalSet(spans)

    def anything(self, axis: Axis) -> bool:
        """Whether an axis is as good as free in some region: more than half of its values are in it."""
        return any(is_wide(one, axis, self.program) for one in self.regions)


def is_wide(region: Box, axis: Axis, program: Program) -> bool:
    """Whether a region leaves an axis free, or all but a part of it."""
    values = region[axis]
    return values is None or values.size > program.space.tops[axis] // 2


def is_for_translated(rule: Rule) -> bool:
    """Whether a rule accepts only what a translation has sent on its way: how wide that is the translations show."""
    held = {one.field: one.operands for one in rule.match.conditions if not one.negated}
    return Field.TRANSLATED in held or any(
        sent in held and seen in held and not _may_meet(held[sent], held[seen]) for sent, seen in _SEEN_OF.items()
    )


_SEEN_OF = {Field.SENT_TO_PORT: Field.DESTINATION_PORT, Field.SENT_TO: Field.DESTINATION}
"""What a rule sees of a packet where another field is what it was sent to."""


def _may_meet(some: Sequence[Operand], others: Sequence[Operand]) -> bool:
    """Whether operands may have a value in common, as names may."""
    return any(
        not (isinstance(a, Numbers | Addresses) and isinstance(b, Numbers | Addresses))
        or (a.first <= b.last and b.first <= a.last)
        for a in some
        for b in others
    )


Wanted = Callable[[Ends], bool]


def lets_forwarded_in(program: Program) -> Wanted:
    """Whether packets that a translation has sent on their way are accepted: for them a rule for what is translated is sure."""
    plainly = lets_in(program)

    def wanted(ends: Ends) -> bool:
        if plainly(ends):
            return True
        first = min(ends, key=lambda end: end.step)
        rule = program.steps[first.step].rule
        return first.accepts and rule is not None and is_for_translated(rule) and not rule.qualifiers

    return wanted


def lets_in(program: Program) -> Wanted:
    """Whether packets are accepted, surely or within nothing but a rate or hours, which keep nobody away for good."""
    return lambda ends: maybe_accepted(ends) and (surely_accepted(ends) or rated(program, ends, Doubt.HOURS))


def may_let_in(program: Program) -> Wanted:
    """Whether packets may be accepted, under a condition the export does not settle."""
    return lambda ends: maybe_accepted(ends) and not (surely_accepted(ends) or rated(program, ends, Doubt.HOURS))


def _accepted_by(number: int) -> Wanted:
    """Whether packets are accepted, perhaps, by a step."""
    return lambda ends: maybe_accepted(ends) and any(number in (end.step, end.settled) for end in ends)


class Study(Struct, dict=True):
    """A device of an estate with what follows from its rules; each part is computed when first asked for.

    jobs: processes to share long rule sets among
    """

    device: Device
    estate: Estate
    programs: Programs
    jobs: int = 1
    memo: dict[Any, Any] = field(default_factory=dict)

    def once(self, key: object, make: Callable[[], Any]) -> Any:
        """Something several checks share, made once."""
        if key not in self.memo:
            self.memo[key] = make()
        return self.memo[key]

    @cached_property
    def services(self) -> tuple[ManagementService, ...]:
        """The ways of managing the device, those that somebody's remark on a rule speaks of among them."""
        known = management_services(self.device)
        return (*known, *said_to_manage(self.programs, known))

    @cached_property
    def entrances(self) -> tuple[Entrance, ...]:
        return entrances(self.programs)

    @cached_property
    def exposures(self) -> tuple[Exposure, ...]:
        """Every way of managing the device that answers somewhere."""
        return tuple(e for one in self.entrances for e in exposures(self.programs, one, self.services))

    @cached_property
    def standings(self) -> tuple[StandingReport, ...]:
        return standings(self.programs, self.jobs)

    @cached_property
    def standing_of(self) -> dict[Same, StandingReport]:
        """By the identity of the rule."""
        return {Same(report.rule): report for report in self.standings}

    @cached_property
    def written(self) -> tuple[tuple[Span, tuple[StandingReport, ...]], ...]:
        """The statements people wrote, in order, each with the standing of every rule that comes of it.

        Programs that write rules from files of their own make many of one statement and more of none; a statement is worth
        what the best of its rules is.
        """
        out: dict[Span, list[StandingReport]] = {}
        for report in self.standings:
            if not report.rule.built_in and not report.rule.implied:
                out.setdefault(report.rule.where, []).append(report)
        return tuple((where, tuple(reports)) for where, reports in out.items())

    def places(self, rule: Rule) -> list[tuple[Program, Step]]:
        """Everywhere a rule stands in the programs, with what it matches there."""
        known: dict[Same, list[tuple[Program, Step]]] = self.once("places", self._places)
        return known.get(Same(rule), [])

    def _places(self) -> dict[Same, list[tuple[Program, Step]]]:
        out: dict[Same, list[tuple[Program, Step]]] = {}
        for direction in Direction:
            for program in self.programs.all(direction):
                for step in program.steps:
                    if step.rule is not None and step.kind is not Kind.FORK:
                        out.setdefault(Same(step.rule), []).append((program, step))
        return out

    def decider(self, program: Program) -> Decider:
        found: Decider = self.once(("decider", program), lambda: Decider(program))
        return found

    def find(self, program: Program, region: Box | None, wanted: Wanted, step: int | None = None) -> Proof | None:
        """A packet of a region that leaves by the interface its destination lies behind, as `Decider.find` does."""
        decider = self.decider(program)
        parts = program.along(region) if region is not None else ()
        report = self._judged(program, program.steps[step]) if step is not None else None
        known = report.witness if report is not None else None
        return next((proof for part in parts if (proof := decider.find(part, wanted, step, known)) is not None), None)

    def project(self, program: Program, region: Box | None, axis: Axis, wanted: Wanted) -> IntervalSet:
        """All values of an axis for which `find` would succeed."""
        decider = self.decider(program)
        parts = program.along(region) if region is not None else ()
        return IntervalSet([span for part in parts for span in decider.project(part, axis, wanted).spans])

    def open_ports(
        self, program: Program, region: Box | None, protocol: int, wanted: Wanted | None = None
    ) -> IntervalSet:
        """Ports of TCP or UDP that some packet of a region which opens a connection gets to."""
        here = overlap(region, OPENING[protocol]) if region is not None else None
        return self.project(program, here, Axis.B, wanted or lets_in(program))

    def open_ports_anywhere(self, protocol: int) -> IntervalSet:
        """Ports of the device itself that some packet gets to, perhaps, from anywhere but the loopback."""
        out = IntervalSet()
        for program in self.programs.all(Direction.TO_DEVICE):
            region = overlap(not_loopback(program.space.symbols), OPENING[protocol])
            if region is not None:
                out = out | self.decider(program).project(region, Axis.B, maybe_accepted)
        return out

    @cached_property
    def forwards(self) -> bool | None:
        """Whether the device passes packets on between networks: told by the kernel, else by rules and translations made for
        that; None where nothing speaks for it or against it."""
        known = system_settings(self.device)
        described = [known[switch] for switch in FORWARDING.values() if switch in known]
        if described:
            return any(value != "0" for value in described)
        if self.device.dialect not in GENERAL_HOSTS or len(self.device.zones) > 1:
            return True
        for rulebase in self.device.rulebases:
            for chain, rule in rulebase.rules():
                if not rule.enabled or rule.built_in or rule.implied:
                    continue
                passes = chain.base is not None and chain.base.stage is Stage.FORWARD and rule.action is Action.ACCEPT
                if passes or any(isinstance(effect, Translate) for effect in rule.effects):
                    return True
        return None

    @cached_property
    def speaks_of_passing(self) -> bool:
        """Whether the export says anything of traffic through the device: a kernel that forwards, a rule, a zone that somebody stated.

        On a host with several networks the empty chain for it says nothing.
        """
        known = system_settings(self.device)
        described = [known[switch] for switch in FORWARDING.values() if switch in known]
        if described or self.device.dialect not in GENERAL_HOSTS or any(not zone.guessed for zone in self.device.zones):
            return bool(self.forwards)
        return any(
            any(isinstance(effect, Translate) for effect in rule.effects)
            or (chain.base is not None and chain.base.stage is Stage.FORWARD)
            for rulebase in self.device.rulebases
            for chain, rule in rulebase.rules()
            if rule.enabled and not rule.built_in
        )

    def strangers(self, program: Program) -> IntervalSet:
        """Sources that no rule of a program names."""
        found: IntervalSet = self.once(("strangers", program), lambda: strangers(program))
        return found

    def on(self, *sides: Side) -> IntervalSet:
        """The interfaces of all zones on these sides."""
        symbols = self.programs.resolver(4).space.symbols
        names = [n for zone in self.device.zones if zone.side in sides for n in zone.interfaces]
        return IntervalSet.of(*(symbols.number(name) for name in names))

    @cached_property
    def outside_networks(self) -> tuple[Addresses, ...]:
        """The networks the outside itself uses, as far as the export or the auditor says."""
        return tuple(n for zone in self.device.zones if zone.side is Side.OUTSIDE for n in self.networks(zone.name))

    @cached_property
    def inside(self) -> tuple[Entrance, ...]:
        """The zones that are not outside and have an interface in use."""
        off = {one.name for one in self.device.interfaces if not one.enabled}
        zones = {z.name for z in self.device.zones if z.interfaces and off.issuperset(z.interfaces)}
        return tuple(e for e in self.entrances if e.side not in (Side.OUTSIDE, None) and e.label not in zones)

    @cached_property
    def strays(self) -> tuple[Entrance, ...]:
        """Interfaces of unknown side where the outside is known: whatever they lead to, it is not known to be the outside."""
        return tuple(e for e in self.entrances if e.side is None) if outside_known(self.device) else ()

    def networks(self, zone: str) -> tuple[Addresses, ...]:
        """The networks behind a zone, as stated or as its interfaces' addresses show."""
        found = [n for z in self.device.zones if z.name == zone for n in z.networks]
        names = {n for z in self.device.zones if z.name == zone for n in z.interfaces}
        found += [n for one in self.device.interfaces if one.name in names for n in one.networks]
        return tuple(dict.fromkeys(found))

    def arriving(self, one: Entrance, family: int) -> Box:
        """Packets that come in by an entrance from where its networks are known to lie; from anywhere if they are not."""
        return self.arriving_at(one.label, one.interfaces, one.side, family)

    def arriving_at(self, zone: str, interfaces: IntervalSet, side: Side | None, family: int) -> Box:
        """Packets that come in by interfaces from where a zone's networks are known to lie; from anywhere if they are not."""
        networks = [(n.first, n.last) for n in self.networks(zone) if n.family == family]
        if side is Side.OUTSIDE or not networks:
            return box([(Axis.IN, interfaces)])
        return box([(Axis.IN, interfaces), (Axis.SRC, IntervalSet(networks))])

    def admissions(self, direction: Direction) -> tuple[Admission, ...]:
        """The rules people wrote that let new connections in, in the order of the programs."""
        found: tuple[Admission, ...] = self.once(
            ("admissions", direction),
            lambda: tuple(a for program in self.programs.all(direction) for a in self._admissions(program)),
        )
        return found

    def overtaken(self, direction: Direction, asked: Callable[[Rule], bool]) -> tuple[tuple[Step, Proof], ...]:
        """The accepting rules people wrote that let nothing in, since those of their packets that can exist are surely refused
        above them, each with such a packet; the last step of its proof is the rule that refuses it.

        asked: of which rules that is wanted
        """
        found: dict[Same, tuple[Step, Proof]] = {}
        reached = {Same(one.rule) for one in self.admissions(direction)}
        for program in self.programs.all(direction):
            for number, step, regions, _ in self._plausible(program):
                if step.rule is None or step.rule.made or Same(step.rule) in reached or not asked(step.rule):
                    continue
                proofs = (self.find(program, region, surely_refused, number) for region in regions)
                proof = next((one for one in proofs if one is not None and one.steps[-1].rule is not None), None)
                if proof is not None:
                    found.setdefault(Same(step.rule), (step, proof))
        return tuple(found.values())

    def _admissions(self, program: Program) -> Iterator[Admission]:
        for number, step, regions, parts in self._plausible(program):

            def prove(regions: Sequence[Box] = regions, number: int = number) -> Proof:
                proofs = (self.find(program, region, _accepted_by(number), number) for region in regions)
                return next(one for one in proofs if one is not None)

            if self._admits(program, number, parts):
                yield Admission(program, number, tuple(regions), _condition(step), prove)

    def _admits(self, program: Program, number: int, parts: Sequence[Box]) -> bool:
        """Whether a step lets any of some packets in."""
        step = program.steps[number]
        report = self._judged(program, step)
        if report is not None and report.unreached:
            return False
        if report is not None and report.witness is not None and step.kind is Kind.ACCEPT:
            point = report.witness.point(program.space)
            if any(holds(part, point) for part in parts):
                return True
        wanted, decider = _accepted_by(number), self.decider(program)
        return any(decider.exists(part, wanted, number) for part in parts)

    def _judged(self, program: Program, step: Step) -> StandingReport | None:
        """What the rule of a step is worth where it stands; None where that is not worth asking."""
        if len(program.steps) < LONG or step.rule is None:
            return None
        # Where a rule stands in several places, what was found of it may hold for another of them.
        return self.standing_of.get(Same(step.rule)) if len(self.places(step.rule)) == 1 else None

    def _plausible(self, program: Program) -> list[_Plausible]:
        found: list[_Plausible] = self.once(("plausible", program), lambda: list(self._accepting(program)))
        return found

    def _accepting(self, program: Program) -> Iterator[_Plausible]:
        """The accepting steps of rules people wrote, with those of their new connections that can exist."""
        symbols = program.space.symbols
        real = existing(program.device, symbols)
        ways = NEW
        if program.direction is not Direction.FROM_DEVICE:
            ways = overlap(ways, not_loopback(symbols)) or ways
            ways = overlap(ways, box([(Axis.IN, real)])) or ways
        if program.direction is not Direction.TO_DEVICE:
            ways = overlap(ways, box([(Axis.OUT, real)])) or ways
        own = own_addresses(self.device, program.family)
        if program.direction is Direction.THROUGH_DEVICE and own is not None:
            # What is meant for the device itself does not go through it.
            ways = overlap(ways, box([(Axis.DST, own.complement(program.space.tops[Axis.DST]))])) or ways
        elif program.direction is Direction.TO_DEVICE and own is not None:
            ways = overlap(ways, box([(Axis.DST, own | _TO_ALL[program.family])])) or ways
        for number, step in enumerate(program.steps):
            if step.rule is None or step.rule.built_in:
                continue
            if step.kind is not Kind.ACCEPT and not (step.kind is Kind.SKIP and step.settles):
                continue
            regions, parts = [], []
            for piece in step.pieces:
                common = overlap(piece.box, ways)
                if common is not None and step.rule.made:
                    common = among_named(common, program)
                if common is None or not meets(common, program.region) or _turns_back(common, program):
                    continue
                leaving = [*program.along(common)]
                if leaving:
                    regions.append(common)
                    parts += leaving
            if regions:
                yield number, step, regions, parts


_TO_ALL = {
    4: IntervalSet([(0xE0000000, 0xEFFFFFFF), (0xFFFFFFFF, 0xFFFFFFFF)]),
    6: IntervalSet([(0xFF << 120, (1 << 128) - 1)]),
}
"""Multicast and the limited broadcast (RFC 5771, RFC 919, RFC 4291): delivered to the device beside its own addresses."""


def among_named(region: Box, program: Program) -> Box | None:
    """What a rule that a program made of a zone forwards among the zone's interfaces: those that nothing names are none to speak of,
    and no packet leaves by the one it came in by. None if nothing is left."""
    out = region[Axis.OUT]
    if program.direction is not Direction.THROUGH_DEVICE or out is None or out.size != 1:
        return region
    named = IntervalSet([(1, program.space.symbols.top - 1)]) - out
    return overlap(region, box([(Axis.IN, named)])) if named else None


def _turns_back(region: Box, program: Program) -> bool:
    """Whether packets could only leave by the interface they came in by."""
    into, out = region[Axis.IN], region[Axis.OUT]
    through = program.direction is Direction.THROUGH_DEVICE
    named = into is not None and into.size == 1 and into.first < len(program.space.symbols.names)
    return through and named and into == out


def _condition(step: Step) -> str:
    if all(piece.sure for piece in step.pieces) or step.rule is None:
        return ""
    names = [name for name in _conditions(step) if name not in RATES]
    return "" if not names and step.rule.qualifiers else ", ".join(names) or _OTHER


_OTHER = "its addresses or sets"


def _conditions(step: Step) -> list[str]:
    """What decides whether a step takes a packet, beside what the packet shows; each once, in the order of the rules."""
    out = []
    for rule in (*(rule for _, rule in step.via), *((step.rule,) if step.rule is not None else ())):
        out += [q.name for q in rule.qualifiers] + (["a mark"] if rule.marks else [])
        out += [_KINDS[c.field] for c in rule.match.conditions if c.field in _KINDS]
    return list(dict.fromkeys(out))


_KINDS = {
    Field.SOURCE_TYPE: "whether its source is a broadcast address",
    Field.DESTINATION_TYPE: "whether its destination is a broadcast address",
    Field.TRANSLATED: "whether a forward sent it there",
    Field.SENT_TO: "whether a forward sent it there",
    Field.SENT_TO_PORT: "whether a forward sent it there",
}


def doubt(proof: Proof) -> str:
    """What else decides whether a packet is let in, in words; empty where its fate is certain."""
    if proof.certain:
        return ""
    refusing = [proof.program.steps[end.step] for end in proof.ends if not end.accepts]
    # A jump that may be taken stands before steps that are sure once they are met.
    names = [name for step in refusing for name in _conditions(step)]
    names = names or [name for step in proof.steps for name in _conditions(step)]
    return ", ".join(dict.fromkeys(names)) or _OTHER


def strangers(program: Program) -> IntervalSet:
    """Sources that no rule of a program names: in a few networks, or as the few it leaves out. Whoever lives in a country that a
    filter leaves out is a stranger still."""
    top = program.space.tops[Axis.SRC]
    named: list[IntervalSet] = []
    for step in program.steps:
        whole = step.rule is None or step.rule.built_in or by_country(step.rule)
        for written in (piece.box[Axis.SRC] for piece in step.pieces):
            if written is not None:
                named += [written] if whole else [written, written.complement(top)]
    return IntervalSet(span for one in named if one.size <= top >> 4 for span in one.spans).complement(top)

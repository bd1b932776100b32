"""Which services of the device itself can be reached, from where, and by which rule."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from msgspec import Struct

from aiguille.analysis.decide import (
    Decider,
    Ends,
    Proof,
    accepting_steps,
    maybe_accepted,
    surely_accepted,
)
from aiguille.analysis.program import Kind, Program, Programs, Step, own_addresses
from aiguille.analysis.sides import Entrance
from aiguille.model import DestinationType, Direction, Field, ManagementService, Named, Rule, State
from aiguille.space import Axis, Box, IntervalSet, box, overlap, term_boxes
from aiguille.space.fields import SYN, TCP

RATES = frozenset({"rate limit", "recently seen addresses", "number of connections", "random share"})
"""Qualifiers that thin traffic out without keeping any source away for good."""

GENUINE = frozenset({"reverse path"})
"""Qualifiers that only keep away packets whose source is forged."""

_ODD = {4: IntervalSet([(0, 0xFFFFFF)]), 6: IntervalSet([(0, 1)])}
"""Sources no real host has; they prove as much and convince less."""


class Exposure(Struct, frozen=True):
    """A service that answers.

    sources: the addresses it can be reached from, certainly or, where `certain` is False, perhaps
    rated: only within some rate
    """

    service: ManagementService
    entrance: Entrance
    sources: IntervalSet
    proof: Proof
    certain: bool
    rated: bool

    @property
    def networks(self) -> int:
        """How many sources there are, see `networks_in`."""
        return networks_in(self.sources, self.proof.program.family)


def networks_in(sources: IntervalSet, family: int) -> int:
    """How many addresses, in IPv6 how many networks of 64 bits, a subnet there being one link (RFC 4291, 2.5.4)."""
    if family == 4:
        return sources.size
    return IntervalSet((first >> 64, last >> 64) for first, last in sources.spans).size


def opening(family: int, service: ManagementService) -> Iterator[Box]:
    """The packets that open a connection to a service."""
    for term in service.terms:
        for one in term_boxes(family, term):
            # Nobody answers at an address that is meant for all.
            here = [
                (Axis.STATE, IntervalSet.of(State.NEW.number)),
                (Axis.TYPE, IntervalSet.of(DestinationType.LOCAL.number)),
            ]
            common = overlap(one, box(here))
            if common is None:
                continue
            protocols = common[Axis.PROTO]
            if protocols is not None and protocols == IntervalSet.of(TCP):
                common = overlap(common, box([(Axis.FLAGS, IntervalSet.of(SYN))]))
            if common is not None:
                yield common


def exposures(programs: Programs, entrance: Entrance, services: Sequence[ManagementService]) -> Iterator[Exposure]:
    """Every service of `services` that some source can reach through `entrance`, in each family."""
    for program in programs.all(Direction.TO_DEVICE):
        decider = Decider(program)
        own = own_addresses(programs.device, program.family)
        here = overlap(entrance.region, box([(Axis.DST, own)])) if own is not None else entrance.region
        for service in services:
            for one in opening(program.family, service):
                region = overlap(one, here) if here is not None else None
                if region is not None:
                    yield from _exposure(decider, region, service, entrance)


def _exposure(decider: Decider, region: Box, service: ManagementService, entrance: Entrance) -> Iterator[Exposure]:
    """One exposure for each rule that lets the service be reached, certainly, within a rate, or perhaps.

    Rules are told apart so that one with few sources neither hides nor takes the blame for another that is open to all.
    """
    program = decider.program

    def practically(ends: Ends) -> bool:
        return maybe_accepted(ends) and not surely_accepted(ends) and rated(program, ends)

    def perhaps(ends: Ends) -> bool:
        return maybe_accepted(ends) and not surely_accepted(ends) and not rated(program, ends)

    for wanted, certain, thinned in (
        (surely_accepted, True, False),
        (practically, True, True),
        (perhaps, False, False),
    ):
        seen: set[frozenset[int]] = set()
        while True:

            def another(ends: Ends, wanted: Callable[[Ends], bool] = wanted, seen: set[frozenset[int]] = seen) -> bool:
                return wanted(ends) and accepting_steps(program, ends) not in seen

            proof = decider.find(region, another)
            if proof is None or (mine := accepting_steps(program, proof.ends)) in seen:
                break  # a proof that brings nothing new would come for ever
            seen.add(mine)

            def by_these(ends: Ends, wanted: Callable[[Ends], bool] = wanted, mine: frozenset[int] = mine) -> bool:
                return wanted(ends) and accepting_steps(program, ends) == mine

            sources = decider.project(region, Axis.SRC, by_these)
            usual = sources - _ODD[program.family]
            if proof.packet.source in _ODD[program.family] and usual:
                narrowed = overlap(region, box([(Axis.SRC, usual)]))
                proof = (decider.find(narrowed, by_these) if narrowed is not None else None) or proof
            yield Exposure(service, entrance, sources, proof, certain, thinned and _thinned(program, proof.ends))


def rated(program: Program, ends: Ends) -> bool:
    """Whether nothing but rates stands between the ends: every rule concerned is exact or only thins traffic out."""

    def harmless(number: int) -> bool:
        rule: Rule | None = program.steps[number].rule
        if program.steps[number].kind is Kind.OPEN:
            return False  # what happens then is not told at all
        sure = all(piece.sure for piece in program.steps[number].pieces)
        if sure or rule is None:
            return sure
        named = bool(rule.qualifiers) and {q.name for q in rule.qualifiers} <= RATES | GENUINE
        return (named and not rule.marks) or bool(blocked_lists(program.steps[number]))

    return all(harmless(number) for end in ends for number in (end.step, end.settled) if number >= 0)


def blocked_lists(step: Step) -> tuple[str, ...]:
    """The lists of sources that a step refuses and the export does not tell.

    Whoever is on no such list gets past it, whatever else the rule asks for: a list of the blocked keeps strangers away as little
    as a rate does.
    """
    rule = step.rule
    if rule is None or step.kind is not Kind.REFUSE or any(p.sure or p.box[Axis.SRC] is not None for p in step.pieces):
        return ()
    out: list[str] = []
    for one in rule.match.conditions:
        named = [operand for operand in one.operands if isinstance(operand, Named)]
        by_source = one.field is Field.SOURCE or (
            one.field is Field.SET and all(n.roles[:1] in (("src",), ("source",)) for n in named)
        )
        if by_source and not one.negated and named and len(named) == len(one.operands):
            out += [operand.name for operand in named]
    return tuple(out)


def _thinned(program: Program, ends: Ends) -> bool:
    """Whether a rate is among what stands between the ends."""
    rules = (program.steps[number].rule for end in ends for number in (end.step, end.settled) if number >= 0)
    return any(q.name in RATES for rule in rules if rule is not None for q in rule.qualifiers)

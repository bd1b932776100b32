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
from aiguille.analysis.doubts import HOURS, RATES, Doubt
from aiguille.analysis.program import Kind, Program, Programs, own_addresses
from aiguille.analysis.resolve import term_boxes
from aiguille.analysis.sides import Entrance
from aiguille.model import DestinationType, Direction, ManagementService, State
from aiguille.space import Axis, Box, IntervalSet, box, overlap
from aiguille.space.fields import MULTICAST, SYN, TCP

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
        # Where its addresses are not known, it has none of those that are meant for all who listen.
        somewhere = own if own is not None else _meant_for_one(program)
        here = overlap(entrance.region, box([(Axis.DST, somewhere)]))
        for service in services:
            for one in opening(program.family, service):
                region = overlap(one, here) if here is not None else None
                if region is not None:
                    yield from _exposure(decider, region, service, entrance)


_NO_HOST = {
    4: IntervalSet([(0, 0xFFFFFF), (127 << 24, (128 << 24) - 1), (0xF0000000, 0xFFFFFFFF)]),
    6: IntervalSet([(0, 1)]),
}
"""Destinations no packet has that comes from elsewhere: unspecified, the loopback, and what is set aside (RFC 6890)."""


_UNSPECIFIED = IntervalSet.of(0)


def _meant_for_one(program: Program) -> IntervalSet:
    every = IntervalSet([(0, program.space.tops[Axis.DST])])
    return every - IntervalSet([MULTICAST[program.family]]) - _NO_HOST[program.family]


def _exposure(decider: Decider, region: Box, service: ManagementService, entrance: Entrance) -> Iterator[Exposure]:
    """One exposure for each rule that lets the service be reached, certainly, within a rate, or perhaps.

    Rules are distinguished so that one with few sources neither hides nor takes the blame for another that is open to all.
    """
    program = decider.program

    def practically(ends: Ends) -> bool:
        return maybe_accepted(ends) and not surely_accepted(ends) and rated(program, ends, Doubt.HOURS)

    def perhaps(ends: Ends) -> bool:
        return maybe_accepted(ends) and not surely_accepted(ends) and not rated(program, ends, Doubt.HOURS)

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
            if sources == _UNSPECIFIED:
                continue  # nobody opens a connection from there (RFC 1122, 3.2.1.3; RFC 4291, 2.5.2)
            usual = sources - _ODD[program.family]
            if proof.packet.source in _ODD[program.family] and usual:
                narrowed = overlap(region, box([(Axis.SRC, usual)]))
                proof = (decider.find(narrowed, by_these) if narrowed is not None else None) or proof
            yield Exposure(service, entrance, sources, proof, certain, thinned and _thinned(program, proof.ends))


def rated(program: Program, ends: Ends, worst: Doubt = Doubt.NONE) -> bool:
    """Whether nothing stands between the ends that keeps anybody away for good: every rule concerned, and every jump on the way, is
    exact or leaves no more doubt than `worst`."""

    def harmless(number: int) -> bool:
        return program.steps[number].kind is not Kind.OPEN and program.doubts[number] <= worst

    return all(
        end.doubt <= worst and all(harmless(number) for number in (end.step, end.settled) if number >= 0)
        for end in ends
    )


def hours_of(proof: Proof) -> tuple[str, ...]:
    """The hours at which the packet of a proof fares so, as the rules say them."""
    rules = [step.rule for step in proof.steps] + [rule for step in proof.steps for _, rule in step.via]
    return tuple(
        dict.fromkeys(q.text for rule in rules if rule is not None for q in rule.qualifiers if q.name == HOURS)
    )


def _thinned(program: Program, ends: Ends) -> bool:
    """Whether a rate is among what stands between the ends."""
    rules = (program.steps[number].rule for end in ends for number in (end.step, end.settled) if number >= 0)
    return any(q.name in RATES for rule in rules if rule is not None for q in rule.qualifiers)

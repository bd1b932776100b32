"""Which countries reach which service that faces the outside, and by which rule."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from msgspec import Struct
from msgspec.structs import replace

from aiguille.analysis.countries import Share, shares
from aiguille.analysis.decide import Ends
from aiguille.analysis.exposure import Exposure
from aiguille.analysis.program import Programs
from aiguille.analysis.study import Admission, Study, is_wide, lets_in
from aiguille.baseline.catalogue import RuleRef, refer, speak
from aiguille.model import Addresses, Direction, Estate, Side
from aiguille.model.spelling import spell_operand, spell_protocol
from aiguille.space import Axis, IntervalSet, box, overlap
from aiguille.space.fields import ICMP_OF


class Reach(Struct, frozen=True):
    """A way in from the outside with the sources it really admits.

    what: the service or rule in words; sources: the addresses, in one family
    countries: how much of each country is among them; outside_data: addresses no file places anywhere
    manages: told for a way of managing the device rather than for a rule
    shipped: by a rule that a program put there by itself
    """

    device: str
    what: str
    direction: Direction
    family: int
    rule: RuleRef
    place: str
    sources: IntervalSet
    countries: tuple[Share, ...]
    outside_data: int
    manages: bool = False
    shipped: bool = False


NOTHING_KNOWN: Mapping[str, tuple[Reach, ...]] = {}


def reaches(study: Study) -> tuple[Reach, ...]:
    """Every way in from the outside, ways of managing the device first, then what goes through it."""
    found: tuple[Reach, ...] = study.once("reaches", lambda: tuple(_reaches(study)))
    return found


def reach_of(estate: Estate, known: Mapping[str, tuple[Reach, ...]] = NOTHING_KNOWN) -> tuple[Reach, ...]:
    """Every way in from the outside of every device of an estate, each rule somebody wrote told once.

    known: what is known of devices already, by name
    """
    out = []
    for device in estate.devices:
        found = known[device.name] if device.name in known else reaches(Study(device, estate, Programs(device)))
        ruled = {(one.rule, one.family) for one in found if not one.manages}
        out += [one for one in found if not (one.manages and (one.rule, one.family) in ruled)]
    return tuple(out)


def _reaches(study: Study) -> Iterator[Reach]:
    outer = study.on(Side.OUTSIDE)
    if not outer:
        return
    for exposure in study.exposures:
        if exposure.entrance.side is Side.OUTSIDE and exposure.certain:
            yield _exposed(study, exposure)
    for direction in (Direction.TO_DEVICE, Direction.THROUGH_DEVICE):
        for one in (part for rule in study.admissions(direction) for part in _by_width(rule)):
            sources = _sources(study, one, outer)
            if sources:
                yield _made(study, one, sources)


def _by_width(one: Admission) -> list[Admission]:
    """What a rule lets anybody use, and what only some sources may: its services are not all for everybody where it has both."""
    wide = [region for region in one.regions if is_wide(region, Axis.SRC, one.program)]
    if len(wide) in (0, len(one.regions)):
        return [one]
    return [replace(one, regions=tuple(r for r in one.regions if (r in wide) is free)) for free in (True, False)]


def _exposed(study: Study, exposure: Exposure) -> Reach:
    program = exposure.proof.program
    step = exposure.proof.steps[-1]
    counted = shares(exposure.sources, study.estate.locations, program.family)
    return Reach(
        study.device.name,
        exposure.service.name,
        program.direction,
        program.family,
        refer(step.rulebase, step.chain, step.rule),
        speak(step.chain, step.rule),
        exposure.sources,
        counted,
        exposure.sources.size - sum(one.addresses for one in counted),
        manages=True,
        shipped=step.rule is not None and step.rule.shipped,
    )


def _sources(study: Study, one: Admission, outer: IntervalSet) -> IntervalSet:
    """The sources a rule surely admits from the outside, those refused above it left out."""
    decider = study.decider(one.program)
    wanted = lets_in(one.program)

    def here(ends: Ends) -> bool:
        return wanted(ends) and any(one.number in (end.step, end.settled) for end in ends)

    spans: list[tuple[int, int]] = []
    for region in one.regions:
        entering = overlap(region, box([(Axis.IN, outer)]))
        if entering is not None:
            spans += decider.project(entering, Axis.SRC, here).spans
    return IntervalSet(spans)


def _made(study: Study, one: Admission, sources: IntervalSet) -> Reach:
    counted = shares(sources, study.estate.locations, one.program.family)
    return Reach(
        study.device.name,
        _service(one),
        one.program.direction,
        one.program.family,
        refer(one.step.rulebase, one.step.chain, one.rule),
        speak(one.step.chain, one.rule),
        sources,
        counted,
        sources.size - sum(share.addresses for share in counted),
        shipped=one.rule.shipped,
    )


def _service(one: Admission) -> str:
    """What a rule opens, as protocols and ports."""
    if any(region[Axis.PROTO] is None for region in one.regions):
        return "every service"
    found: dict[str, IntervalSet | None] = {}
    for region in one.regions:
        protocols = region[Axis.PROTO] or IntervalSet()
        name = ",".join("icmpv6" if p == ICMP_OF[6] else spell_protocol(p) for p in list(protocols)[:3])
        ports = region[Axis.B] if protocols.first not in ICMP_OF.values() else None
        held = found.get(name, IntervalSet())
        found[name] = None if ports is None or held is None else held | ports
    return " and ".join(name if ports is None else f"{name}/{_spell_ports(ports)}" for name, ports in found.items())


def _spell_ports(ports: IntervalSet) -> str:
    spelled = [str(a) if a == b else f"{a}-{b}" for a, b in ports.spans[:4]]
    return ",".join(spelled) + ("…" if len(ports.spans) > 4 else "")


def spell_sources(sources: IntervalSet, family: int, most: int = 2) -> str:
    """A set of addresses in a few words."""
    if len(sources.spans) > most:
        return f"{len(sources.spans)} ranges"
    return ", ".join(spell_operand(Addresses(family, first, last)) for first, last in sources.spans)

"""Claims decided on one device."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from enum import StrEnum
from ipaddress import ip_network

from msgspec import Struct
from msgspec.structs import replace

from aiguille.analysis.claims.words import ANYBODY, DECIDED, Claim, countries_in
from aiguille.analysis.countries import country_set
from aiguille.analysis.decide import End as WalkEnd
from aiguille.analysis.decide import Ends, Proof, decisive, maybe_accepted, surely_accepted
from aiguille.analysis.endtoend import Row
from aiguille.analysis.exposure import rated
from aiguille.analysis.flows import End, direction_of, ends_of, named, regions, service_boxes
from aiguille.analysis.hours import Moment, device_at, hours_told, moments_of, spell_moment
from aiguille.analysis.lookup import find_rule, rules_named
from aiguille.analysis.program import Program, Programs
from aiguille.analysis.study import Study, Wanted
from aiguille.model import Device, Side, UsageError
from aiguille.model.identity import Same
from aiguille.space import Axis, Box, IntervalSet, box, overlap


class Holds(StrEnum):
    """Whether a claim holds."""

    PROVED = "proved"
    REFUTED = "refuted"
    CANNOT_TELL = "cannot tell"


class Answer(Struct, frozen=True):
    """What becomes of a claim on one device, or between several.

    proof: a packet that refutes it, or may; row: the traffic that does where it goes over several devices
    """

    device: str
    holds: Holds
    proof: Proof | None = None
    why: str = ""
    row: Row | None = None


class _Place(Struct, frozen=True):
    """What an end of a claim is on a device: ends of its traffic, and the addresses meant by family (None for all there)."""

    ends: tuple[End, ...]
    addresses: dict[int, IntervalSet] | None = None


def judge(study: Study, claim: Claim) -> Answer | None:
    """Whether a claim holds on a device, at all the hours it speaks of; None where the device has no such ends.

    Raises UsageError where an end is of a kind that is there and its addresses are not stated, and for a rule that is not there.
    """
    moments = moments_meant(claim, [study.device])
    if not moments:
        return _judge(study, claim)
    found: list[tuple[Moment, Answer]] = []
    for moment in moments:
        at = device_at(study.device, moment)
        answer = _judge(study if at is study.device else Study(at, study.estate, Programs(at)), claim)
        if answer is None:
            return None
        found.append((moment, answer))
    return gravest(found)


def moments_meant(claim: Claim, devices: Sequence[Device]) -> tuple[Moment, ...]:
    """A moment of each time a claim is about at which other rules of some devices hold; none for all the week as it is written."""
    if claim.moment is not None:
        return (claim.moment,)
    return moments_of(claim.hours, hours_told(devices)) if claim.hours else ()


def gravest(found: Sequence[tuple[Moment, Answer]]) -> Answer:
    """The gravest of the answers of several moments, with its moment where it is not that the claim holds."""
    order = (Holds.REFUTED, Holds.CANNOT_TELL, Holds.PROVED)
    moment, answer = min(found, key=lambda one: order.index(one[1].holds))
    if answer.holds is Holds.PROVED:
        return answer
    when = f"at {spell_moment(moment)}"
    return replace(answer, why=f"{when}, {answer.why}" if answer.why else when)


def has_ends(study: Study, claim: Claim) -> bool:
    """Whether a device has both ends of a claim."""
    return all(_place(study, name) is not None for name in (claim.source, claim.destination))


def has_rule(device: Device, claim: Claim) -> bool:
    """Whether a device has the rule or the chain that a claim says decides, if it says so."""
    if claim.default_of:
        return any(chain.name == claim.default_of for base in device.rulebases for chain in base.chains)
    return not claim.rule or bool(rules_named(device, claim.rule))


def _judge(study: Study, claim: Claim) -> Answer | None:
    source, destination = _place(study, claim.source, homes=True), _place(study, claim.destination)
    if source is None or destination is None:
        return None
    doubt: Proof | None = None
    looked = 0
    for program, region in _regions(study, claim, source, destination):
        looked += 1
        wrong, open_ = _wrong(study, program, claim)
        proof = study.find(program, region, wrong)
        if proof is not None:
            return Answer(study.device.name, Holds.REFUTED, proof)
        doubt = doubt or study.find(program, region, open_)
    if doubt is not None:
        why = "a condition or something the export does not state stands in the way"
        return Answer(study.device.name, Holds.CANNOT_TELL, doubt, why)
    if not looked and claim.verb in ("always", DECIDED):
        return Answer(
            study.device.name, Holds.CANNOT_TELL, why="no new connection can go that way, as far as the export shows"
        )
    return Answer(study.device.name, Holds.PROVED)


def _wrong(study: Study, program: Program, claim: Claim) -> tuple[Wanted, Wanted]:
    """What refutes a claim, and what leaves it open."""
    if claim.verb == DECIDED:
        return _decided_otherwise(study, program, claim)

    def gets_in(ends: Ends) -> bool:
        return maybe_accepted(ends) and (surely_accepted(ends) or rated(program, ends))

    if claim.verb == "always":
        return (lambda ends: not maybe_accepted(ends)), (lambda ends: not surely_accepted(ends))
    return gets_in, maybe_accepted


def _decided_otherwise(study: Study, program: Program, claim: Claim) -> tuple[Wanted, Wanted]:
    """Whether what decides is another rule than the claim says, for certain or perhaps."""
    rule = Same(find_rule(study.device, claim.rule)) if claim.rule else None

    def meant(end: WalkEnd) -> bool:
        step = program.steps[decisive(program, end)]
        if step.rule is None:
            return rule is None and step.chain.name == claim.default_of
        return rule == Same(step.rule)

    return (lambda ends: not any(map(meant, ends))), (lambda ends: not all(map(meant, ends)))


def _regions(study: Study, claim: Claim, source: _Place, destination: _Place) -> Iterator[tuple[Program, Box]]:
    """The new connections that a claim speaks of; for `only` those of everybody else."""
    sources: list[tuple[End, bool]] = [(end, True) for end in source.ends]
    if claim.verb == "only":
        mine = {end.name for end in source.ends}
        if source.addresses is None:
            sources = [(end, False) for end in ends_of(study) if end.name not in mine]
        elif not countries_in(claim.source):
            sources = [(end, True) for end in ends_of(study) if not end.is_device]
    for end, narrowed in sources:
        for place in destination.ends:
            direction = direction_of(end, place)
            if direction is None or end.name == place.name:
                continue
            for program in study.programs.all(direction):
                if claim.family in (None, program.family):
                    for within in _within(program, claim, source if narrowed else None, destination):
                        yield from (
                            (program, region) for region in regions(study, program, end, place, within, forged=True)
                        )


def _within(program: Program, claim: Claim, source: _Place | None, destination: _Place) -> Iterator[Box]:
    """The services and addresses a claim speaks of."""
    fields: list[tuple[Axis, IntervalSet]] = []
    for axis, place in ((Axis.SRC, source), (Axis.DST, destination)):
        if place is None or place.addresses is None:
            continue
        values = place.addresses.get(program.family, IntervalSet())
        if axis is Axis.SRC and claim.verb == "only":
            values = values.complement(program.space.tops[axis])
        if not values:
            return
        fields.append((axis, values))
    ends = box(fields)
    for service in service_boxes(program.family, claim.services, others=claim.others):
        common = overlap(ends, service)
        if common is not None:
            yield common


def _place(study: Study, name: str, *, homes: bool = False) -> _Place | None:
    """homes: addresses are taken to come from the networks that hold them, where some do"""
    ends = ends_of(study)
    outer = tuple(end for end in ends if not end.is_device)
    if name == ANYBODY:
        return _Place(outer)
    if codes := countries_in(name):
        return _countries(study, outer, codes)
    name = name.removeprefix(f"{study.device.name}/")
    try:
        return _Place(tuple(named(study, ends, name)))
    except UsageError:
        pass
    values: dict[int, IntervalSet] = {}
    if any(one.name == name for one in study.device.addresses):
        for family in (4, 6):
            exact = study.programs.resolver(family).exactly(name)
            if exact is None:
                raise UsageError(f"the export of {study.device.name} does not list all addresses of '{name}'")
            values[family] = exact
        return _Place(_at_home(study, ends, values) if homes else ends, values)
    try:
        network = ip_network(name, strict=False)
    except ValueError:
        return None
    values = {network.version: IntervalSet([(int(network[0]), int(network[-1]))])}
    return _Place(_at_home(study, ends, values) if homes else ends, values)


def _countries(study: Study, ends: tuple[End, ...], codes: tuple[str, ...]) -> _Place:
    """Addresses of countries; they come from outside where an outside is known."""
    known = study.estate.locations.countries()
    if not known:
        raise UsageError("a claim on countries needs location data: --geo FILE, or geo in engagement.toml")
    for code in codes:
        if code not in known:
            raise UsageError(f"the location data knows no country '{code}'")
    values = {family: country_set(study.estate.locations, codes, family) for family in (4, 6)}
    outside = tuple(end for end in ends if end.side is Side.OUTSIDE)
    return _Place(outside or ends, values)


def _at_home(study: Study, ends: tuple[End, ...], values: dict[int, IntervalSet]) -> tuple[End, ...]:
    """The ends whose networks hold some of the addresses; all if none does."""
    held = {
        end.name
        for end in ends
        for network in study.networks(end.name)
        if values.get(network.family, IntervalSet()) & IntervalSet([(network.first, network.last)])
    }
    return tuple(end for end in ends if end.name in held) or ends


def knows(device: Device, claim: Claim) -> bool:
    """Whether a device has a network, an address or a route of its own for every address that a claim names."""
    for name in (claim.source, claim.destination):
        try:
            network = ip_network(name, strict=False)
        except ValueError:
            continue
        first, last = int(network[0]), int(network[-1])
        described = [n for one in device.interfaces for n in (*one.networks, *one.addresses)]
        described += [n for zone in device.zones for n in zone.networks]
        described += [
            route.network for route in device.routes if route.network.first
        ]  # the default route leads anywhere
        if not any(n.family == network.version and n.first <= last and first <= n.last for n in described):
            return False
    return True


def names_of(studies: Sequence[Study]) -> list[str]:
    """All that an end of a claim can be called, addresses apart."""
    out: dict[str, None] = {ANYBODY: None}
    for study in studies:
        for end in ends_of(study):
            out[end.name] = None
            if end.side is not None:
                out[end.side.value] = None
        out.update((one.name, None) for one in study.device.addresses)
    return list(out)


def draft(studies: Sequence[Study]) -> Iterator[tuple[str, str]]:
    """Claims that hold today, by device: that nothing gets from one end to another, where that is so in every family."""
    from aiguille.analysis.flows import Reach, matrix

    for study in studies:
        cells: dict[tuple[str, str], list[Reach]] = {}
        for cell in matrix(study).cells:
            cells.setdefault((cell.source, cell.destination), []).append(cell.perhaps)
        for (source, destination), reaches in cells.items():
            if all(reach is Reach.NOTHING for reach in reaches) and " " not in source + destination:
                yield study.device.name, f"never {source} to {destination}"

"""Which countries reach what. Nothing here passes without location data."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from msgspec.structs import replace

from aiguille.analysis.countries import blocked, by_country, codes_of, country_set
from aiguille.analysis.program import Kind, Step
from aiguille.analysis.sides import outside_known
from aiguille.analysis.study import lets_in, may_let_in
from aiguille.baseline.asking import FILTER, INWARD_FILTER, LOCATIONS, OUTSIDE, common, filters_of
from aiguille.baseline.catalogue import (
    Answer,
    CannotTell,
    Check,
    Found,
    NotApplicable,
    Of,
    Param,
    Passed,
    Severity,
    Subject,
    check,
    finding_from,
    speak,
)
from aiguille.baseline.reaching import Reach, reaches
from aiguille.baseline.wording import NO_DATA, NO_FILTER, SETTLE_OUTSIDE, UNSETTLED, capital, counted, lines, listed
from aiguille.model import Addresses, AddressObject, Direction, GeoFilter, Named, SetObject, Side
from aiguille.model.countries import claimed_country, country_name
from aiguille.model.spelling import spell_operand
from aiguille.space import Axis, IntervalSet, box

_MANY = 256
"""Sources beyond which nobody means a list of named ones."""


def _passed(subject: Subject, because: str) -> Answer:
    return Passed(because) if subject.study.estate.locations else CannotTell(NO_DATA)


def _name(one: GeoFilter) -> str:
    return f"the filter '{one.name}'" if one.name else "the filter by country"


def _countries(codes: Iterable[str]) -> str:
    return listed((f"{country_name(code)} ({code})" for code in codes), 6)


def _writtenfilters_of(subject: Subject) -> dict[tuple[Direction, int], list[Step]]:
    """By direction and family, the refusals of countries by an object or set that is named for them."""
    out: dict[tuple[Direction, int], list[Step]] = {}
    for direction in (Direction.TO_DEVICE, Direction.THROUGH_DEVICE):
        for program in subject.programs.all(direction):
            for step in program.steps:
                if step.kind is Kind.REFUSE and step.rule is not None and by_country(step.rule):
                    out.setdefault((direction, program.family), []).append(step)
    return out


def _escapes(one: Reach, filters: list[Step]) -> bool | None:
    """Whether a way in admits sources that refusals of countries name; None where who they name is not stated."""
    pieces = [piece for step in filters for piece in step.pieces]
    if not pieces:
        return True
    described = IntervalSet(s for p in pieces if p.sure for s in (p.box[Axis.SRC] or IntervalSet()).spans)
    if described.overlaps(one.sources):
        return True
    return None if any(not piece.sure for piece in pieces) else False


def _open_to_anybody(subject: Subject) -> list[Reach]:
    """Ways in from the outside that most addresses no rule names may use."""
    out = []
    for one in reaches(subject.study):
        program = subject.programs.get(one.family, one.direction)
        if (
            program is not None
            and not one.shipped
            and not one.what.startswith("icmp")
            and (one.sources & subject.study.strangers(program)).size > program.space.tops[Axis.SRC] // 16
        ):
            out.append(one)
    return out


@check(
    id="geo.unrestricted",
    title="Services stand open to every country",
    severity=Severity.LOW,
    controls=("SC-7", "AC-4"),
    why="A site that serves few countries gains nothing from the rest but attempts.",
    how="Ways in from the outside that anybody may use, on a device without a filter on what comes in; where rules refuse countries by "
    "objects or sets named for them, the ways in that admit their members all the same, family by family.",
    fix="Block the countries nobody needs, or allow those that are served, ahead of all rules; do not rely on it alone.",
    asks=(OUTSIDE,),
)
def unrestricted(subject: Subject) -> Iterator[Answer]:
    inward = [one for one in filters_of(subject.device) if one.inward]
    if inward:
        yield _passed(subject, f"{_name(inward[0])} looks at what comes in")
        return
    services = _open_to_anybody(subject)
    if not services:
        yield NotApplicable("nothing is open to anybody outside")
        return
    written = _writtenfilters_of(subject)
    escaped = [_escapes(one, written.get((one.direction, one.family), [])) for one in services]
    kept = {(one.rule, one.family) for one, out in zip(services, escaped, strict=True) if out is False or out is None}
    services = [one for one, out in zip(services, escaped, strict=True) if out]
    if not services:
        spoken = listed({speak(s.chain, s.rule): None for steps in written.values() for s in steps}, 3)
        if None in escaped:
            yield CannotTell(f"the export does not state whom {spoken} refuses; have its sets exported too")
        else:
            yield Passed(f"what countries {spoken} names gets in nowhere")
        return
    wheres = lines(*(one.rule.where for one in services))
    managed = {one.rule for one in services if one.manages}
    described = (
        one.what + (f" over IPv{one.family}" if (one.rule, 10 - one.family) in kept else "")
        for one in services
        if one.manages or one.rule not in managed
    )
    names = listed(dict.fromkeys(described), 5)
    said = "no refusal of countries looks at that" if written else "no filter looks at what comes in"
    yield Found(f"Every country reaches {names}, and {said}.", "no filter", wheres)


@check(
    id="geo.late-filter",
    title="A filter by country stands behind rules",
    severity=Severity.MEDIUM,
    controls=("SC-7", "CM-6"),
    why="What a rule above accepts the filter never sees, and all others were inspected for nothing.",
    how="Asks whether each filter stands ahead of the rules.",
    fix="Move the filter ahead of all rules.",
)
def late_filter(subject: Subject) -> Iterator[Answer]:
    filters = filters_of(subject.device)
    if not filters:
        yield NotApplicable(NO_FILTER)
    for one in filters:
        if not one.before_rules.known:
            yield CannotTell(f"the export does not state whether {_name(one)} stands ahead of the rules")
        elif one.before_rules.value:
            yield _passed(subject, f"{_name(one)} stands ahead of the rules")
        else:
            text = f"{capital(_name(one))} looks only at what no rule has decided."
            yield Found(text, f"{one.name} {sorted(one.countries)}", lines(one.before_rules.where, one.where))


@check(
    id="geo.countries",
    together="ways in let countries reach something that are not among those allowed",
    title="Countries reach a service that are not among those allowed",
    severity=Severity.LOW,
    controls=("SC-7", "AC-4", "AC-17"),
    params=(
        Param(
            "allowed", tuple, (), "countries", "only the organisation knows whom it serves; none by default", Of.COUNTRY
        ),
        Param(
            "share", float, 0.01, "of a country's addresses", "locations are approximate; single hosts prove nothing"
        ),
    ),
    why="The countries that really get in are what counts, not those a filter was meant to keep out.",
    how="For each way in from the outside the sources it admits, those refused above it left out, are laid against the location data; "
    "countries beyond the allowed ones with more than the share are a finding.",
    fix="Block the countries named, or add them to the allowed ones of this check if they are served.",
)
def countries(subject: Subject) -> Iterator[Answer]:
    allowed = set(subject.params["allowed"])
    if not allowed:
        yield NotApplicable("the baseline states no allowed countries; set 'allowed' of this check")
        return
    if not subject.study.estate.locations:
        yield CannotTell(NO_DATA)
        return
    if not outside_known(subject.device):
        yield CannotTell(f"no interface is known to face the outside; {SETTLE_OUTSIDE}")
        return
    found = False
    described: set[object] = set()
    for one in reaches(subject.study):
        strange = [
            share.code for share in one.countries if share.code not in allowed and share.share > subject.params["share"]
        ]
        key = (one.rule, one.family)
        if strange and key not in described and not one.what.startswith("icmp"):
            described.add(key)
            found = True
            text = f"{capital(one.place)} lets {_countries(strange)} reach {one.what} over {{family}}."
            subject_text = f"{one.rule.rulebase} {one.rule.chain} {one.what} {one.direction}"
            yield Found(text, subject_text, lines(one.rule.where), (one.rule,), family=one.family)
    if not found:
        yield Passed("no country beyond the allowed ones reaches anything")


@check(
    id="geo.blocked-reach",
    together="ways in are open to a blocked country",
    title="A blocked country still reaches something",
    severity=Severity.MEDIUM,
    controls=("SC-7", "AC-4"),
    why="Everybody believes that the country is kept out.",
    how="For the countries an inward filter keeps out, packets from their addresses that are surely "
    "accepted from the outside are looked "
    "for, exceptions of the filter left out; the rule that accepts them is named, with a packet.",
    fix="Move the filter ahead of the rule, or narrow the rule's sources.",
    asks=(
        INWARD_FILTER,
        LOCATIONS,
        OUTSIDE,
    ),
)
def blocked_reach(subject: Subject) -> Iterator[Answer]:
    filters = [one for one in filters_of(subject.device) if one.inward]
    locations = subject.study.estate.locations
    outer = subject.study.on(Side.OUTSIDE)
    found = False
    for one in filters:
        for direction in (Direction.TO_DEVICE, Direction.THROUGH_DEVICE):
            for program in subject.programs.all(direction):
                shut = country_set(locations, blocked(one, locations), program.family) - _exceptions(
                    subject, one, program.family
                )
                if not shut:
                    continue
                here = common(box([(Axis.IN, outer), (Axis.SRC, shut)]))
                decider = subject.study.decider(program)
                proof = decider.find(here, lets_in(program)) if here is not None else None
                if proof is None and here is not None and decider.find(here, may_let_in(program)) is not None:
                    yield CannotTell(f"a country that {_name(one)} keeps out may get in, {UNSETTLED}")
                if proof is not None:
                    found = True
                    last = proof.steps[-1]
                    code = locations.country(program.family, proof.packet.source) or ""
                    going = direction.value.replace("-", " the ")
                    text = (
                        f"{country_name(code)} ({code}) is kept out by {_name(one)}, and gets {going} by "
                        f"{speak(last.chain, last.rule)}."
                    )
                    answer = finding_from(proof, text, f"{one.name} {direction}")
                    yield replace(answer, where=(*answer.where, one.where))
    if not found:
        yield Passed("no blocked country reaches anything")


def _exceptions(subject: Subject, one: GeoFilter, family: int) -> IntervalSet:
    """The addresses of a filter's exceptions, as far as they are known."""
    out = IntervalSet()
    for member in one.exceptions:
        if isinstance(member, Addresses) and member.family == family:
            out = out | IntervalSet([(member.first, member.last)])
        elif isinstance(member, Named):
            out = out | (subject.programs.resolver(family).exactly(member.name) or IntervalSet())
    return out


@check(
    id="geo.one-way",
    title="A filter by country looks one way only",
    severity=Severity.LOW,
    controls=("SC-7", "AC-4"),
    why="What was let in by mistake, or carried in, then talks to its master freely.",
    how="Asks which ways the enabled filters look, all together.",
    fix="Let the filter look at both directions.",
    asks=(FILTER,),
)
def one_way(subject: Subject) -> Iterator[Answer]:
    filters = filters_of(subject.device)
    inward, outward = any(one.inward for one in filters), any(one.outward for one in filters)
    if inward and outward:
        yield _passed(subject, "filters by country look at both directions")
        return
    way = "comes in" if inward else "goes out"
    where = lines(*(one.where for one in filters))
    yield Found(f"The filters by country look only at what {way}.", "one way", where)


@check(
    id="geo.stale-list",
    title="A list of address blocks no longer matches its country",
    severity=Severity.MEDIUM,
    controls=("CM-6", "SC-7"),
    params=(
        Param(
            "covered",
            float,
            0.9,
            "of the country's addresses",
            "blocks change hands every month; a tenth is within reason",
        ),
        Param("foreign", float, 0.05, "of the list's addresses", "as many may have moved elsewhere without harm"),
    ),
    why="Lists made by hand go stale at once: strangers get in under the country's name, its own people are shut out.",
    how="Address objects and sets whose name says a country (land-CH, geo_fr) are laid against the location data.",
    fix="Build the list anew from current registry data, and plan when it will be the next time.",
)
def stale_list(subject: Subject) -> Iterator[Answer]:
    locations = subject.study.estate.locations
    named: list[AddressObject | SetObject] = [*subject.device.addresses, *subject.device.sets]
    claimed = [
        (one, code)
        for one in named
        if (code := claimed_country(one.name)) is not None and not getattr(one, "countries", ())
    ]
    if not claimed:
        yield NotApplicable("no object is named for a country")
        return
    if not locations:
        yield CannotTell(NO_DATA)
        return
    stale = 0
    for one, code in claimed:
        values = _members(one, 4) if isinstance(one, SetObject) else subject.programs.resolver(4).exactly(one.name)
        whole = country_set(locations, [code], 4)
        if not values or not whole:
            yield CannotTell(f"'{one.name}' or the data for {code} holds no IPv4 addresses to compare")
            continue
        covered = values.common_size(whole) / whole.size
        foreign = 1 - values.common_size(whole) / values.size
        if covered < subject.params["covered"] or foreign > subject.params["foreign"]:
            stale += 1
            text = f"'{one.name}' covers {covered:.0%} of {country_name(code)}, and {foreign:.0%} of it lies elsewhere."
            yield Found(text, one.name, lines(one.where))
        else:
            yield Passed(f"'{one.name}' covers {covered:.0%} of {country_name(code)}")


def _members(one: SetObject, family: int) -> IntervalSet:
    spans = []
    for entry in one.entries:
        for value in entry.values[:1]:
            if isinstance(value, Addresses) and value.family == family:
                spans.append((value.first, value.last))
    return IntervalSet(spans)


@check(
    id="geo.own-source",
    title="An administrator's own address lies in a blocked country",
    severity=Severity.MEDIUM,
    controls=("AC-17", "CM-3", "SC-7"),
    why="The filter locks out those who should mend it.",
    how="Sources of accounts and the administrators of the engagement file are looked up in the "
    "location data; one in a country that an "
    "inward filter keeps out, and that is no exception, is a finding.",
    fix="Make the address an exception of the filter with a reason, or manage the device from elsewhere.",
    asks=(INWARD_FILTER,),
)
def own_source(subject: Subject) -> Iterator[Answer]:
    locations = subject.study.estate.locations
    filters = [one for one in filters_of(subject.device) if one.inward]
    wanted = [
        (f"account {a.name}", s)
        for a in subject.device.administration.accounts
        if a.enabled and a.sources.known
        for s in a.sources.value
    ]
    wanted += [("an administrator of the engagement file", s) for s in subject.device.administrators]
    if not wanted:
        yield NotApplicable("neither the export nor the engagement file names addresses of administrators")
        return
    if not locations:
        yield CannotTell(NO_DATA)
        return
    found = False
    for one in filters:
        shut = {
            family: country_set(locations, blocked(one, locations), family) - _exceptions(subject, one, family)
            for family in (4, 6)
        }
        for whose, source in wanted:
            out = IntervalSet([(source.first, source.last)]) & shut[source.family]
            if out:
                found = True
                code = locations.country(source.family, out.first)
                lies = "lies" if out.size == source.last - source.first + 1 else "lies partly"
                text = f"{spell_operand(source)} ({whose}) {lies} in {country_name(code or '')}, which {_name(one)} keeps out."
                yield Found(text, f"{one.name} {spell_operand(source)}", lines(one.where))
    if not found:
        yield Passed(
            f"none of {counted(len(wanted), 'address', 'addresses')} of administrators lies in a blocked country"
        )


@check(
    id="geo.unexplained-exception",
    title="An exception of a filter by country is not explained",
    severity=Severity.LOW,
    controls=("CM-3", "SC-7"),
    why="Nobody dares to remove it, and nobody knows whom it lets in.",
    how="Filters with exceptions must have a description.",
    fix="Write down for whom the exception is, why, and until when.",
)
def unexplained_exception(subject: Subject) -> Iterator[Answer]:
    filters = [one for one in filters_of(subject.device) if one.exceptions]
    if not filters:
        yield NotApplicable("no filter by country has exceptions")
        return
    bare = [one for one in filters if not one.comment]
    for one in bare:
        names = listed((spell_operand(e) for e in one.exceptions), 4)
        yield Found(f"{capital(_name(one))} excepts {names} without a reason.", f"{one.name} {names}", lines(one.where))
    if not bare:
        yield _passed(subject, "exceptions of filters by country are explained")


@check(
    id="geo.only-restriction",
    title="Nothing but the country restricts who may manage the device",
    severity=Severity.HIGH,
    controls=("AC-17", "AC-3", "SC-7"),
    why="A country is millions of addresses, and every attacker can rent one of them.",
    how="Ways of managing the device that answer outside to anybody in the countries let in, on a device with an inward filter.",
    fix="Name the administrators' addresses, or manage the device through a VPN.",
    asks=(
        INWARD_FILTER,
        OUTSIDE,
    ),
)
def only_restriction(subject: Subject) -> Iterator[Answer]:
    filters = [one for one in filters_of(subject.device) if one.inward]
    found = []
    for one in reaches(subject.study):
        program = subject.programs.get(one.family, one.direction)
        if one.manages and program is not None and (one.sources & subject.study.strangers(program)).size > _MANY:
            found.append(one)
    if found:
        text = f"{capital(listed(one.what for one in found))} answers anybody in the countries let in ({_said(filters[0])})."
        subject_text = f"only countries: {sorted({one.what for one in found})}"
        yield Found(
            text,
            subject_text,
            lines(*(one.rule.where for one in found), filters[0].where),
            tuple(dict.fromkeys(one.rule for one in found)),
        )
    else:
        yield _passed(subject, "what manages the device is not restricted by country alone")


def _said(one: GeoFilter) -> str:
    names = codes_of(one) or one.countries
    return ("only " if one.allows else "all but ") + listed(names, 5) if names else "the filter names none"


CHECKS: tuple[Check, ...] = (
    unrestricted,
    late_filter,
    countries,
    blocked_reach,
    one_way,
    stale_list,
    own_source,
    unexplained_exception,
    only_restriction,
)

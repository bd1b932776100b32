"""Claims between places of different devices, decided over every device on the way."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from aiguille.analysis.claims.judge import Answer, Holds
from aiguille.analysis.claims.words import ANYBODY, DECIDED, Claim
from aiguille.analysis.endtoend import places_named, rows_between
from aiguille.analysis.flows import Wish
from aiguille.analysis.hours import Moment, estate_at, hours_told, moments_of, spell_moment
from aiguille.analysis.reach import Place, Reaches
from aiguille.model import TooComplexError, UsageError
from aiguille.space import IntervalSet
from aiguille.space.effort import limited

CROSSING_EFFORT = 60_000_000
"""Steps of work that a claim over several devices may take."""


def judge_across(reaches: Reaches, claim: Claim) -> Answer:
    """Whether a claim holds between places of different devices.

    reaches: detailed

    Raises UsageError for an end that is no place of any device, and for a claim on which rule decides: each device has its own.
    """
    if claim.verb == DECIDED:
        raise UsageError(f"'{claim.text}' is about one device's rule, and none has both ends")
    moments: tuple[Moment, ...] = (claim.moment,) if claim.moment is not None else ()
    if claim.hours:
        moments = moments_of(claim.hours, hours_told(reaches.estate.devices))
    try:
        with limited(CROSSING_EFFORT, apart=True):
            if not moments:
                return _judge(reaches, claim)
            answers = []
            for moment in moments:
                found = _judge(Reaches(estate_at(reaches.estate, moment), detailed=True), claim)
                when = f"at {spell_moment(moment)}"
                answers.append(
                    Answer(found.device, found.holds, None, f"{when}, {found.why}" if found.why else when, found.row)
                )
            order = (Holds.REFUTED, Holds.CANNOT_TELL, Holds.PROVED)
            return min(answers, key=lambda one: order.index(one.holds))
    except TooComplexError as error:
        return Answer(_names(places_named(reaches, claim.source)), Holds.CANNOT_TELL, why=error.message)


def _judge(reaches: Reaches, claim: Claim) -> Answer:
    named = _named(reaches, claim.source)
    destinations = _named(reaches, claim.destination)
    names = {one.name for one in named}
    sources = [one for one in reaches.places if one.name not in names] if claim.verb == "only" else named
    device = _names(named)
    always = claim.verb == "always"
    rows = [
        row
        for row in rows_between(reaches, sources, destinations, Wish(services=_services(claim)), refusals=always)
        if claim.family in (None, row.traffic.family)
    ]
    against = [row for row in rows if row.refused == always]
    sure = next((row for row in against if row.certain), None)
    if sure is not None:
        return Answer(device, Holds.REFUTED, row=sure)
    doubtful = against or [row for row in rows if always and not row.certain]
    if doubtful:
        why = "; ".join(doubtful[0].assumed) or "a condition or something the export does not state stands in the way"
        return Answer(device, Holds.CANNOT_TELL, why=why, row=doubtful[0])
    apart = _apart(reaches, sources, destinations, claim)
    return Answer(device, Holds.CANNOT_TELL, why=apart) if apart else Answer(device, Holds.PROVED)


def _named(reaches: Reaches, name: str) -> list[Place]:
    if name == ANYBODY:
        return [one for one in reaches.places if not one.end.is_device]
    return places_named(reaches, name)


def _names(places: Iterable[Place]) -> str:
    return ", ".join(dict.fromkeys(one.device.name for one in places))


def _services(claim: Claim) -> tuple[tuple[int, IntervalSet], ...]:
    """The services a claim is about: all, those it names, or all others."""
    if not claim.others:
        return claim.services
    out: list[tuple[int, IntervalSet]] = []
    numbers = dict.fromkeys(number for number, _ in claim.services)
    for number in numbers:
        mine = [ports for one, ports in claim.services if one == number]
        if all(mine):
            taken = IntervalSet(span for ports in mine for span in ports.spans)
            out.append((number, taken.complement(65535)))
    rest = IntervalSet.of(*numbers).complement(255)
    return (*out, *((number, IntervalSet()) for number in rest))


def _apart(reaches: Reaches, sources: Sequence[Place], destinations: Sequence[Place], claim: Claim) -> str:
    """What cannot be told since nothing shows a way: from a source that is named, or from any at all of those that are not."""
    families = (claim.family,) if claim.family is not None else (4, 6)
    pairs = [(s, d) for s in sources for d in destinations if s.device is not d.device]
    lost = [
        (source, place)
        for source, place in pairs
        if not any(reaches.leads(source, place, family) for family in families)
    ]
    if not lost or (len(lost) < len(pairs) and (claim.verb == "only" or claim.source == ANYBODY)):
        return "" if pairs else "no two of these places are on different devices"
    source, place = lost[0]
    return f"nothing shows how {source.name} gets to {place.name}; `ip -j addr` and `ip -j route` of the devices between would"

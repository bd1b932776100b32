"""Claims between places of different devices, decided over every device on the way."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence

from aiguille.analysis.claims.judge import Answer, Holds, gravest, moments_meant
from aiguille.analysis.claims.words import ANYBODY, DECIDED, Claim
from aiguille.analysis.endtoend import places_named, rows_between
from aiguille.analysis.flows import Wish
from aiguille.analysis.hours import estate_at
from aiguille.analysis.reach import Place, Reaches
from aiguille.model import Device, TooComplexError, UsageError
from aiguille.space.effort import limited

CROSSING_EFFORT = 60_000_000
"""Steps of work that a claim over several devices may take."""


def judge_across(reaches: Reaches, claim: Claim, homes: Collection[str] = ()) -> Answer:
    """Whether a claim holds between places of different devices.

    reaches: detailed
    homes: the devices the claim speaks of, all if none is named

    Raises UsageError for an end that is no place of any of them, and for a claim on which rule decides: each device has its own.
    """
    if claim.verb == DECIDED:
        raise UsageError(f"'{claim.text}' is about one device's rule, and none has both ends")
    moments = moments_meant(claim, reaches.estate.devices)
    try:
        with limited(CROSSING_EFFORT, apart=True):
            if not moments:
                return _judge(reaches, claim, homes)
            at = [(one, Reaches(estate_at(reaches.estate, one), detailed=True)) for one in moments]
            return gravest([(one, _judge(then, claim, homes)) for one, then in at])
    except TooComplexError as error:
        return Answer(_names(_named(reaches, claim.source, homes)), Holds.CANNOT_TELL, why=error.message)


def refuted_across(reaches: Reaches, claim: Claim, homes: Collection[str] = ()) -> Answer | None:
    """What speaks against a claim between devices, or may, where devices have both its ends themselves; None if nothing does.

    Guests of one site may reach what guests of another are kept from. That something always gets through is meant of one device.
    """
    if claim.verb not in ("never", "only"):
        return None
    try:
        answer = judge_across(reaches, claim, homes)
    except UsageError:
        return None
    return answer if answer.row is not None else None


def begins_at(reaches: Reaches, claim: Claim, homes: Collection[str] = ()) -> Device:
    """The first device at which a claim between devices begins; raises UsageError where it begins nowhere."""
    return _named(reaches, claim.source, homes)[0].device


def _judge(reaches: Reaches, claim: Claim, homes: Collection[str]) -> Answer:
    named = _named(reaches, claim.source, homes)
    destinations = _named(reaches, claim.destination, homes)
    names = {one.name for one in named}
    sources = [one for one in reaches.places if one.name not in names] if claim.verb == "only" else named
    device = _names(named)
    always = claim.verb == "always"
    wish = Wish(services=claim.services, others=claim.others)
    rows = [
        row
        for row in rows_between(reaches, sources, destinations, wish, refusals=always)
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


def _named(reaches: Reaches, name: str, homes: Collection[str]) -> list[Place]:
    found = [one for one in reaches.places if not one.end.is_device] if name == ANYBODY else places_named(reaches, name)
    mine = [one for one in found if not homes or not one.devices.isdisjoint(homes)]
    if not mine:
        raise UsageError(f"none of {', '.join(homes)} has '{name}'")
    return mine


def _names(places: Iterable[Place]) -> str:
    return ", ".join(dict.fromkeys(one.device.name for one in places))


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

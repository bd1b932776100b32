"""The language of claims.

never guests to lifts                                   nothing gets through
never outside to device on tcp/22, https                not these services
never guests to outside but on tcp/443, dns             nothing but these services
only 10.44.10.32/29 to lifts on tcp/502                 nobody else gets through
only countries CH, FR to device on tcp/443              from outside nobody else
always office to outside on tcp/443 over IPv4           whatever address at either end
never staff to lifts at Sat 23:30                       at that moment of the week
never staff to lifts during sat-sun 00:00-24:00         at no moment of these hours
office to shop on tcp/443 decided by rule 8 of FORWARD  whatever that rule does
never hall-gw/guests to valley-gw/lifts                 between zones of different devices

An end is a zone, a side, an interface, `device` (the firewall itself), `anybody`, an address, a network, an address object, one or
more countries, or GATEWAY/ZONE of one device.
"""

from __future__ import annotations

import re

from msgspec import Struct

from aiguille.analysis.flows import read_services
from aiguille.analysis.hours import Moment, moments_of, read_moment
from aiguille.model import UsageError
from aiguille.space import IntervalSet

ANYBODY = "anybody"

DECIDED = "decided"
"""The verb of claims on which rule decides."""

_CLAIM = re.compile(
    r"(?:(?P<verb>never|only|always) )?(?P<source>.+?) to (?P<destination>.+?)"
    r"(?:(?P<but> but)? on (?P<services>[^ ]+(?:, ?[^ ]+)*))?"
    r"(?: over (?P<family>IPv4|IPv6))?"
    r"(?: at (?P<moment>[A-Za-z]+,? [0-9:]+)| during (?P<hours>.+?))?"
    r"(?: decided by (?P<rule>.+))?"
)
_RULE = re.compile(r"rule (?P<number>[0-9]+) of (?P<chain>.+)")
_DEFAULT = re.compile(r"(?:the )?(?:default|policy) of (?P<chain>.+)")
_COUNTRIES = re.compile(r"countr(?:y|ies) (?P<codes>[A-Za-z]{2}(?:(?:,| and)? ?[A-Za-z]{2})*)")


class Claim(Struct, frozen=True):
    """A statement, taken apart.

    others: whether it speaks of all services but those it names
    rule: what decides, as FILE:LINE or CHAIN/NUMBER; default_of: the chain whose default does
    hours, moment: when it is about, all the week without either
    """

    text: str
    verb: str
    source: str
    destination: str
    services: tuple[tuple[int, IntervalSet], ...] = ()
    family: int | None = None
    others: bool = False
    rule: str = ""
    default_of: str = ""
    hours: str = ""
    moment: Moment | None = None


def read_claim(text: str) -> Claim:
    """Take a sentence apart; raises UsageError that says what is expected."""
    said = " ".join(text.split())
    found = _CLAIM.fullmatch(said)
    if found is None or (found["verb"] is None) == (found["rule"] is None):
        raise UsageError(
            f"'{said}' is no claim: write never, only or always, then FROM to TO, and perhaps on SERVICE, over IPv4 or IPv6, "
            "at MOMENT or during HOURS; or FROM to TO and so on, decided by rule N of CHAIN"
        )
    named = [one.strip() for one in (found["services"] or "").split(",") if one.strip()]
    services = tuple(term for one in named for term in read_services(one))
    if found["but"] and found["verb"] != "never":
        raise UsageError(
            f"'{said}' is no claim: 'but on' goes with never alone; write 'only … on' for who may use a service"
        )
    rule, default_of = _decider(found["rule"] or "")
    return Claim(
        said, found["verb"] or DECIDED, found["source"], found["destination"], services,
        int(found["family"][-1]) if found["family"] else None, bool(found["but"]), rule, default_of,
        _checked_hours(found["hours"] or ""), read_moment(found["moment"]) if found["moment"] else None,
    )  # fmt: skip


def countries_in(end: str) -> tuple[str, ...]:
    """The codes of the countries an end names, none where it names no country."""
    found = _COUNTRIES.fullmatch(end)
    return tuple(re.findall(r"\b[A-Z]{2}\b", found["codes"].upper())) if found is not None else ()


def _decider(said: str) -> tuple[str, str]:
    """A rule as CHAIN/NUMBER or FILE:LINE, or the chain whose default is meant."""
    if (default := _DEFAULT.fullmatch(said)) is not None:
        return "", default["chain"]
    rule = _RULE.fullmatch(said)
    return (f"{rule['chain']}/{rule['number']}" if rule is not None else said), ""


def _checked_hours(said: str) -> str:
    if said and not moments_of(said, ()):
        raise UsageError(f"'{said}' are no hours; write days and times, as 'mon-fri 07:00-18:00'")
    return said

"""What would settle the outcomes that could not be determined: few requests to the owner of a device, not a line a check."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import Struct
from msgspec.structs import replace

from aiguille.analysis.services import GENERAL_HOSTS
from aiguille.baseline.audit import Audit
from aiguille.baseline.catalogue import Outcome
from aiguille.baseline.wording import UNSAID
from aiguille.model import Device
from aiguille.space.effort import ENTANGLED


class Request(Struct, frozen=True):
    """Something to ask for. `ask`: in words that the owner understands; `command`: what they run, or the option to give."""

    key: str
    ask: str
    command: str = ""


class Question(Struct, frozen=True):
    """A request to one device's owner, and the checks it would settle."""

    device: str
    request: Request
    checks: tuple[str, ...]
    reasons: tuple[str, ...]


_SIDES = Request("sides", "Which interface faces the internet; what is behind the others", "--side IFACE=SIDE")
_SYSTEM = Request(
    "system", "The host's own settings: logins, accounts, logs, kernel", "the block in docs/collecting.md"
)
_SETTINGS = Request("settings", "The device's own settings: logins, accounts, logging, time, release")
_NETWORK = Request("network", "Addresses, routes, what listens", "ip -j addr; ip -j route; ss -H -tuln")
_COUNTERS = Request("counters", "The rules with counters, and since when these count", "iptables-save -c; uptime")
_STORED = Request(
    "stored",
    "The rules loaded at the next start, and what loads them",
    "cat /etc/iptables/rules.v4; systemctl list-unit-files",
)
_SETS = Request("sets", "The sets, lists and schedules the rules look into", "ipset save; nft list sets")
_RULES = Request(
    "rules", "The rules missing here: for IPv6, or for the device itself", "ip6tables-save; nft list ruleset"
)
_LOCATIONS = Request("locations", "Location data, to tell countries apart", "--geo FILE")
_EFFORT = Request("effort", "Nothing: these rules are too entangled; Aiguille may work longer", "--effort 20")
_BASELINE = Request("baseline", "What the organisation asks for: least releases, countries", "aiguille baseline start")

_BY_CHECK = {
    "access.no-source-restriction": _SIDES, "access.needless-service": _SIDES, "access.default-port": _SIDES, "deny.egress": _SIDES,
    "deny.answers-outside": _SIDES, "deny.wider-ipv6": _SIDES, "deny.bogons": _SIDES, "geo.unrestricted": _SIDES,
    "rules.any-source": _SIDES, "rules.outgoing-mail": _SIDES, "rules.published-service": _SIDES,
    "objects.dangling": _SETS, "usage.never-hit": _COUNTERS, "usage.rule-order": _COUNTERS, "usage.unused-interface": _NETWORK,
    "usage.closed-service": _NETWORK, "usage.no-listener": _NETWORK, "system.unsaved": _STORED, "system.start-up": _STORED,
    "system.old-firmware": _BASELINE,
    "geo.countries": _LOCATIONS, "geo.stale-list": _LOCATIONS, "geo.own-source": _LOCATIONS, "geo.blocked-reach": _LOCATIONS,
    "geo.late-filter": _LOCATIONS, "geo.one-way": _LOCATIONS, "geo.only-restriction": _LOCATIONS,
}  # fmt: skip


_DUMPS = 3
"""Files a host sends where only its rules were asked for: both families, and their sets."""

_SHELL = (_NETWORK, _COUNTERS, _STORED, _SETS, _RULES)
"""Requests whose command is one of Linux."""


def request_for(check: str, because: str, device: Device) -> Request:
    """What to ask for so that a check can answer; other makes are asked in words alone."""
    found = _request_for(check, because, device)
    return replace(found, command="") if found in _SHELL and device.dialect not in GENERAL_HOSTS else found


def _request_for(check: str, because: str, device: Device) -> Request:
    found = _BY_CHECK.get(check)
    host = device.dialect in GENERAL_HOSTS
    if ENTANGLED in because:
        return _EFFORT
    if "location data" in because:
        return _LOCATIONS
    if UNSAID in because:
        return _RULES
    if "does not settle" in because or "cannot settle" in because:
        return _SETS
    if "holds no rules" in because or "for IPv6" in because:
        return _RULES
    if check == "system.old-firmware" and "states no least release" not in because:
        return _SYSTEM if host else _SETTINGS
    if host and found in (_STORED, _NETWORK) and len(device.sources) <= _DUMPS:
        return _SYSTEM  # the same block collects them
    if found is not None:
        return found
    return _SYSTEM if host else _SETTINGS


def questions(audit: Audit) -> tuple[Question, ...]:
    """Every request, those that settle most outcomes first; of equals in the order of the devices."""
    out: list[Question] = []
    for device in audit.estate.devices:
        found: dict[Request, dict[str, str]] = {}
        for one in audit.outcomes_on(device.name):
            if one.outcome is Outcome.CANNOT_TELL:
                found.setdefault(request_for(one.check, one.because, device), {})[one.check] = one.because
        for request, checks in found.items():
            out.append(Question(device.name, request, tuple(checks), tuple(dict.fromkeys(checks.values()))))
    out.sort(key=lambda one: -len(one.checks))
    return tuple(out)


def over_devices(asked: Iterable[Question]) -> list[tuple[Request, list[Question]]]:
    """The questions by request, those that settle most in the whole estate first."""
    out: dict[Request, list[Question]] = {}
    for one in asked:
        out.setdefault(one.request, []).append(one)
    return sorted(out.items(), key=lambda item: -sum(len(one.checks) for one in item[1]))

"""What would settle the outcomes that could not be determined: few requests to the owner of a device, not a line a check."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import Struct
from msgspec.structs import replace

from aiguille.analysis.loopback import LOOPBACK
from aiguille.analysis.outlines import Outline, outlines
from aiguille.analysis.services import GENERAL_HOSTS
from aiguille.analysis.sides import interface_names
from aiguille.baseline.audit import Audit
from aiguille.baseline.catalogue import Outcome
from aiguille.baseline.findings import Consequence, Finding
from aiguille.baseline.wording import UNDESCRIBED, UNREAD, UNSAID
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


BLOCK = "the block in docs/collecting.md"
"""Stands for the commands that collect all there is on a Linux host, which are too many for a line."""

_SIDES = Request("sides", "Which interface faces the internet; what is behind the others", "--side IFACE=SIDE")
_SYSTEM = Request("system", "The host's own settings: logins, accounts, logs, kernel", BLOCK)
_SETTINGS = Request("settings", "The device's own settings: logins, accounts, logging, time, release")
_NETWORK = Request("network", "Addresses, routes, what listens", "ip -j addr; ip -j route; ss -H -tuln")
_COUNTERS = Request("counters", "The rules with counters, and since when these count", "iptables-save -c; uptime")
_STORED = Request(
    "stored",
    "The rules loaded at the next start, and what loads them",
    "cat /etc/iptables/rules.v4; systemctl list-unit-files",
)
_SETS = Request("sets", "The sets, lists and schedules the rules look into", "ipset save; nft list sets")
_INTERFACES = Request("interfaces", "The part of the export that describes the interfaces and what answers on them")
_UNREAD = Request("unread", "Nothing: lines were not understood; `aiguille read` lists them")
_RULES = Request(
    "rules", "The rules missing here: for IPv6, or for the device itself", "ip6tables-save; nft list ruleset"
)
_LOCATIONS = Request("locations", "Location data, to tell countries apart", "--geo FILE")
_EFFORT = Request("effort", "Nothing: these rules are too entangled; Aiguille may work longer", "--effort 20")
_BASELINE = Request("baseline", "What the organisation asks for: least releases, countries", "aiguille baseline start")

_BY_CHECK = {
    "access.no-source-restriction": _SIDES, "access.needless-service": _SIDES, "access.default-port": _SIDES, "deny.egress": _SIDES,
    "deny.answers-outside": _SIDES, "deny.wider-ipv6": _SIDES, "deny.bogons": _SIDES, "geo.unrestricted": _SIDES,
    "rules.any-source": _SIDES, "rules.outgoing-mail": _SIDES, "rules.published-service": _SIDES, "rules.dead-forward": _SIDES,
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


def request_for(check: str, because: str, device: Device | Outline) -> Request:
    """What to ask for so that a check can answer; other makes are asked in words alone."""
    found = _request_for(check, because, device)
    if found is _COUNTERS and _is_nft(device):
        return replace(found, command="nft list ruleset; uptime")
    return replace(found, command="") if found in _SHELL and device.dialect not in GENERAL_HOSTS else found


def _is_nft(device: Device | Outline) -> bool:
    """Whether the rules of a host are in tables of nftables, to which iptables-save is blind."""
    return device.dialect == "nftables" or any(word in device.make for word in ("nftables", "firewalld"))


def _request_for(check: str, because: str, device: Device | Outline) -> Request:
    found = _BY_CHECK.get(check)
    host = device.dialect in GENERAL_HOSTS
    if ENTANGLED in because:
        return _EFFORT
    if "location data" in because:
        return _LOCATIONS
    if UNSAID in because:
        return _RULES
    if UNDESCRIBED in because:
        return _INTERFACES
    if UNREAD in because:
        return _UNREAD
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
    for device in outlines(audit.estate):
        found: dict[Request, dict[str, str]] = {}
        for one in audit.outcomes_on(device.name):
            if one.outcome is Outcome.CANNOT_TELL:
                found.setdefault(request_for(one.check, one.because, device), {})[one.check] = one.because
        for request, checks in found.items():
            out.append(Question(device.name, request, tuple(checks), tuple(dict.fromkeys(checks.values()))))
    out.sort(key=lambda one: -len(one.checks))
    return tuple(out)


class Enquiry(Struct, frozen=True):
    """All there is to ask the owner of one device.

    questions: what could not be answered, by what would settle it
    sides: interfaces nothing is known of; assumed: zones whose side was guessed, with that side
    rules: rules nobody says anything of, as they are written; more: how many further ones there are
    accounts: who may log in, and when they last did, as far as the export shows
    """

    device: str
    questions: tuple[Question, ...]
    sides: tuple[str, ...]
    assumed: tuple[tuple[str, str], ...]
    rules: tuple[str, ...]
    more: int
    accounts: tuple[tuple[str, str], ...]

    @property
    def empty(self) -> bool:
        return not (self.questions or self.sides or self.assumed or self.rules or self.accounts)


_RULES_ASKED = 20
_OF_THE_AUDITOR = (_LOCATIONS, _EFFORT, _BASELINE)
"""What the owner of a device cannot settle."""


def enquiries(audit: Audit) -> tuple[Enquiry, ...]:
    """What to ask, device by device in the order of the estate; devices about which nothing is open are left out."""
    asked: dict[str, list[Question]] = {}
    for one in questions(audit):
        if one.request not in (*_OF_THE_AUDITOR, _SIDES):
            asked.setdefault(one.device, []).append(one)
    out = []
    for device in audit.estate.devices:
        sided = {name for zone in device.zones if zone.side is not None for name in zone.interfaces}
        unknown = [n for n in interface_names(device) if n not in sided and n != LOOPBACK]
        assumed = [
            (", ".join(z.interfaces), z.side.value) for z in device.zones if z.guessed and z.side and z.interfaces
        ]
        bare = _undescribed(audit, device.name)
        accounts = [
            (one.name, one.last_used.value if one.last_used.known else "")
            for one in device.administration.accounts
            if one.enabled
        ]
        enquiry = Enquiry(
            device.name,
            tuple(asked.get(device.name, ())),
            tuple(unknown),
            tuple(assumed),
            tuple(bare[:_RULES_ASKED]),
            max(0, len(bare) - _RULES_ASKED),
            tuple(accounts),
        )
        out += [] if enquiry.empty else [enquiry]
    return tuple(out)


def _undescribed(audit: Audit, device: str) -> list[str]:
    """The lines of rules that nothing says the reason of."""
    found: list[Finding | Consequence] = []
    for finding in audit.findings_on(device):
        found += [finding, *finding.consequences]
    bare = [evidence for one in found if one.check == "rules.undocumented" for evidence in one.evidence]
    return list(dict.fromkeys(" ".join(" ".join(one.text).split()) for one in bare))


def over_devices(asked: Iterable[Question]) -> list[tuple[Request, list[Question]]]:
    """The questions by request, those that settle most in the whole estate first."""
    out: dict[Request, list[Question]] = {}
    for one in asked:
        out.setdefault(one.request, []).append(one)
    return sorted(out.items(), key=lambda item: -sum(len(one.checks) for one in item[1]))

"""What stands behind well-known ports: ways of managing a device, and services that should not face strangers.

The table is `services.toml`, with the source of each port. It is used for exports that do not say what runs.
"""

from __future__ import annotations

from functools import cache
from importlib.resources import files
from typing import Any

from msgspec import Struct, convert
from msgspec.structs import replace

from aiguille.model import Device, IcmpType, ManagementService, Numbers, ServiceTerm
from aiguille.space import Axis, Box, IntervalSet
from aiguille.space.fields import UDP

_TCP, _UDP = Numbers(6, 6), Numbers(17, 17)


class KnownService(Struct, frozen=True, forbid_unknown_fields=True):
    """A row of the table; its comments show what the columns mean."""

    name: str
    ports: tuple[str, ...]
    gives: str
    why: str
    source: str
    cleartext: bool = False
    open: bool = False
    manages: str = ""
    printer: bool = False
    tunnel: bool = False
    routers: bool = False

    @property
    def light(self) -> bool:
        """Whether it hands over neither the machine, nor files, nor what it controls."""
        return self.gives in ("network", "mail", "media")

    @property
    def hands_over(self) -> bool:
        """Whether whoever connects has the machine, unasked who they are."""
        return self.open and self.gives == "login"

    @property
    def terms(self) -> tuple[ServiceTerm, ...]:
        return tuple(term_of(text) for text in self.ports)


def term_of(text: str) -> ServiceTerm:
    """``tcp/22`` or ``udp/137-138`` as the model has it."""
    protocol, _, ports = text.partition("/")
    first, _, last = ports.partition("-")
    return ServiceTerm({"tcp": _TCP, "udp": _UDP}[protocol], (), (Numbers(int(first), int(last or first)),))


@cache
def known_services() -> tuple[KnownService, ...]:
    """The table, in its order."""
    import tomllib  # only audits need it

    data: dict[str, Any] = tomllib.loads((files("aiguille.analysis") / "services.toml").read_text(encoding="utf-8"))
    return tuple(convert(data["service"], list[KnownService]))


def _service(name: str, protocol: Numbers, *ports: int, cleartext: bool = False) -> ManagementService:
    term = ServiceTerm(protocol, (), tuple(Numbers(port, port) for port in ports))
    return ManagementService(name, (term,), cleartext, None)


LOGINS: tuple[ManagementService, ...] = tuple(
    ManagementService(one.manages, one.terms, one.cleartext, None) for one in known_services() if one.manages
)
"""Ways of managing any machine."""

PAGES: tuple[ManagementService, ...] = (
    _service("http", _TCP, 80, 8080, cleartext=True),
    _service("https", _TCP, 443, 8443),
)
"""A make's own page. On a general host a web server is what the host is there for."""

WELL_KNOWN = (*LOGINS, *PAGES)

GENERAL_HOSTS = ("linux-host", "iptables-save", "nftables")
"""Dialects of machines that are no firewall by make: what answers on their web ports is a published service."""


def usual_name(service: ManagementService) -> str:
    """What the table calls the login on a service's port, whatever its make calls it; its own name on any other port."""
    described = {(term.protocol, ports) for term in service.terms for ports in term.destination_ports}
    for one in WELL_KNOWN:
        if any((term.protocol, ports) in described for term in one.terms for ports in term.destination_ports):
            return one.name
    return service.name


def ping() -> ManagementService:
    """Echo requests of both families (RFC 792, RFC 4443), looked at as if they were a service."""
    terms = (
        ServiceTerm(Numbers(1, 1), icmp=(IcmpType(8, 8),)),
        ServiceTerm(Numbers(58, 58), icmp=(IcmpType(128, 128),)),
    )
    return ManagementService("ping", terms, False, None)


def odd_requests() -> tuple[ManagementService, ...]:
    """Requests of ICMP that no host needs from strangers: only errors and echo are of use (RFC 6918)."""
    return tuple(
        ManagementService(f"ICMP {name}", (ServiceTerm(Numbers(1, 1), icmp=(IcmpType(kind, kind),)),), False, None)
        for name, kind in (("timestamp", 13), ("information", 15), ("address mask", 17))
    )


def management_services(device: Device) -> tuple[ManagementService, ...]:
    """The ways in that the export or the auditor states, in addition to the well-known ones.

    Where the export lists what runs, only that is looked at; the auditor's knowledge comes on top. Settings of a login on a general
    host say where that one answers, and nothing of others.
    """
    services = device.administration.services
    stated = tuple(service for service in services if service.enabled)
    if device.dialect not in GENERAL_HOSTS:
        return stated if any(service.where is not None for service in stated) else (*stated, *WELL_KNOWN)
    known = {service.name for service in services if service.where is not None}
    others = [(one, tuple(t for t in one.terms if t.protocol.first not in device.listed)) for one in LOGINS]
    return (*stated, *(replace(one, terms=terms) for one, terms in others if terms and one.name not in known))


VOICE = 256
"""UDP ports of a rule above which those of a service are among them by chance, as with ranges for voice."""


def is_voice(region: Box) -> bool:
    """Whether a region is a range of UDP ports so wide that a service in it is there by chance."""
    ports = region[Axis.B]
    return region[Axis.PROTO] == IntervalSet.of(UDP) and ports is not None and ports.size > VOICE

"""Ways of managing a device that answer on well-known ports, for exports that do not say what runs.

Port numbers as registered with IANA, or in common use where none is registered.
"""

from __future__ import annotations

from aiguille.model import Device, IcmpType, ManagementService, Numbers, ServiceTerm

_TCP, _UDP = Numbers(6, 6), Numbers(17, 17)


def _service(name: str, protocol: Numbers, *ports: int, cleartext: bool = False) -> ManagementService:
    term = ServiceTerm(protocol, (), tuple(Numbers(port, port) for port in ports))
    return ManagementService(name, (term,), cleartext, None)


WELL_KNOWN: tuple[ManagementService, ...] = (
    _service("ssh", _TCP, 22),
    _service("telnet", _TCP, 23, cleartext=True),
    _service("http", _TCP, 80, 8080, cleartext=True),
    _service("https", _TCP, 443, 8443),
    _service("snmp", _UDP, 161, cleartext=True),
    _service("ftp", _TCP, 21, cleartext=True),
    _service("tftp", _UDP, 69, cleartext=True),
    _service("remote shell", _TCP, 512, 513, 514, cleartext=True),
    _service("netconf", _TCP, 830),
    _service("remote desktop", _TCP, 3389),
    _service("screen sharing", _TCP, 5900, 5901, cleartext=True),
    _service("web administration", _TCP, 9090, 10000),
)


def ping() -> ManagementService:
    """Echo requests of both families (RFC 792, RFC 4443), looked at as if they were a service."""
    terms = (
        ServiceTerm(Numbers(1, 1), icmp=(IcmpType(8, 8),)),
        ServiceTerm(Numbers(58, 58), icmp=(IcmpType(128, 128),)),
    )
    return ManagementService("ping", terms, False, None)


def management_services(device: Device) -> tuple[ManagementService, ...]:
    """The ways in that the export or the auditor states, in addition to the well-known ones.

    Where the export lists what runs, only that is looked at; the auditor's knowledge comes on top.
    """
    stated = tuple(service for service in device.administration.services if service.enabled)
    if any(service.where is not None for service in stated):
        return stated
    return (*stated, *WELL_KNOWN)

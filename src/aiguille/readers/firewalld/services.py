"""Services that rules name most, for exports without a copy of the definitions that firewalld ships.

Ports as registered with IANA or as the programs use them; a copy of usr/lib/firewalld/services beside the export counts above this.
"""

from __future__ import annotations

from msgspec import Struct


class Service(Struct, frozen=True):
    """Ports as (protocol, port or range), bare protocols, destinations by family, services it takes in."""

    ports: tuple[tuple[str, str], ...] = ()
    protocols: tuple[str, ...] = ()
    source_ports: tuple[tuple[str, str], ...] = ()
    destination: tuple[tuple[str, str], ...] = ()
    includes: tuple[str, ...] = ()


def _ports(*said: str) -> Service:
    """``443/tcp``; a port without a protocol is both tcp and udp."""
    out: list[tuple[str, str]] = []
    for one in said:
        port, _, protocol = one.partition("/")
        out += [(protocol, port)] if protocol else [("tcp", port), ("udp", port)]
    return Service(tuple(out))


SERVICES: dict[str, Service] = {
    "amqp": _ports("5672/tcp"),
    "amqps": _ports("5671/tcp"),
    "bgp": _ports("179/tcp"),
    "cockpit": _ports("9090/tcp"),
    "dhcp": _ports("67/udp"),
    "dhcpv6": _ports("547/udp"),
    "dhcpv6-client": Service((("udp", "546"),), destination=(("ipv6", "fe80::/64"),)),
    "dns": _ports("53"),
    "dns-over-tls": _ports("853/tcp"),
    "docker-registry": _ports("5000/tcp"),
    "elasticsearch": _ports("9300/tcp", "9200/tcp"),
    "ftp": _ports("21/tcp"),
    "git": _ports("9418/tcp"),
    "gre": Service(protocols=("gre",)),
    "http": _ports("80/tcp"),
    "https": _ports("443/tcp"),
    "imap": _ports("143/tcp"),
    "imaps": _ports("993/tcp"),
    "ipp": _ports("631"),
    "ipsec": Service((("udp", "500"), ("udp", "4500"), ("tcp", "4500")), ("ah", "esp")),
    "kerberos": _ports("88"),
    "ldap": _ports("389/tcp"),
    "ldaps": _ports("636/tcp"),
    "mdns": Service((("udp", "5353"),), destination=(("ipv4", "224.0.0.251"), ("ipv6", "ff02::fb"))),
    "mongodb": _ports("27017/tcp"),
    "mqtt": _ports("1883/tcp"),
    "mqtt-tls": _ports("8883/tcp"),
    "mssql": _ports("1433/tcp"),
    "mysql": _ports("3306/tcp"),
    "netbios-ns": _ports("137/udp"),
    "nfs": _ports("2049/tcp"),
    "ntp": _ports("123/udp"),
    "openvpn": _ports("1194/udp"),
    "pop3": _ports("110/tcp"),
    "pop3s": _ports("995/tcp"),
    "postgresql": _ports("5432/tcp"),
    "radius": _ports("1812", "1813"),
    "rdp": _ports("3389/tcp"),
    "redis": _ports("6379/tcp"),
    "rsyncd": _ports("873"),
    "samba": Service((("tcp", "139"), ("tcp", "445")), includes=("samba-client",)),
    "samba-client": Service((("udp", "138"),), includes=("netbios-ns",)),
    "sip": _ports("5060"),
    "sips": _ports("5061"),
    "smtp": _ports("25/tcp"),
    "smtps": _ports("465/tcp"),
    "smtp-submission": _ports("587/tcp"),
    "snmp": _ports("161"),
    "snmptrap": _ports("162"),
    "squid": _ports("3128/tcp"),
    "ssh": _ports("22/tcp"),
    "syslog": _ports("514/udp"),
    "syslog-tls": _ports("6514"),
    "telnet": _ports("23/tcp"),
    "tftp": _ports("69/udp"),
    "vnc-server": _ports("5900-5903/tcp"),
    "xmpp-client": _ports("5222/tcp"),
    "zabbix-agent": _ports("10050/tcp"),
    "zabbix-server": _ports("10051/tcp"),
}

ICMP: dict[str, tuple[tuple[int, str, int | None], ...]] = {
    # (family, type as nft names it, code)
    "address-unreachable": ((6, "destination-unreachable", 3),),
    "bad-header": ((6, "parameter-problem", 0),),
    "beyond-scope": ((6, "destination-unreachable", 2),),
    "communication-prohibited": ((4, "destination-unreachable", 13),),
    "destination-unreachable": ((4, "destination-unreachable", None), (6, "destination-unreachable", None)),
    "echo-reply": ((4, "echo-reply", None), (6, "echo-reply", None)),
    "echo-request": ((4, "echo-request", None), (6, "echo-request", None)),
    "failed-policy": ((6, "destination-unreachable", 5),),
    "fragmentation-needed": ((4, "destination-unreachable", 4),),
    "host-prohibited": ((4, "destination-unreachable", 10),),
    "host-redirect": ((4, "redirect", 1),),
    "host-unknown": ((4, "destination-unreachable", 7),),
    "host-unreachable": ((4, "destination-unreachable", 1),),
    "neighbour-advertisement": ((6, "nd-neighbor-advert", None),),
    "neighbour-solicitation": ((6, "nd-neighbor-solicit", None),),
    "network-prohibited": ((4, "destination-unreachable", 9),),
    "network-redirect": ((4, "redirect", 0),),
    "network-unreachable": ((4, "destination-unreachable", 0),),
    "no-route": ((6, "destination-unreachable", 0),),
    "packet-too-big": ((6, "packet-too-big", None),),
    "parameter-problem": ((4, "parameter-problem", None), (6, "parameter-problem", None)),
    "port-unreachable": ((4, "destination-unreachable", 3), (6, "destination-unreachable", 4)),
    "protocol-unreachable": ((4, "destination-unreachable", 2),),
    "redirect": ((4, "redirect", None), (6, "nd-redirect", None)),
    "reject-route": ((6, "destination-unreachable", 6),),
    "router-advertisement": ((4, "router-advertisement", None), (6, "nd-router-advert", None)),
    "router-solicitation": ((4, "router-solicitation", None), (6, "nd-router-solicit", None)),
    "source-quench": ((4, "source-quench", None),),
    "time-exceeded": ((4, "time-exceeded", None), (6, "time-exceeded", None)),
    "timestamp-reply": ((4, "timestamp-reply", None),),
    "timestamp-request": ((4, "timestamp-request", None),),
    "ttl-zero-during-reassembly": ((4, "time-exceeded", 1), (6, "time-exceeded", 1)),
    "ttl-zero-during-transit": ((4, "time-exceeded", 0), (6, "time-exceeded", 0)),
}
"""ICMP types by the names firewalld gives them (RFC 792, RFC 4443)."""

ZONES: dict[str, tuple[str, tuple[str, ...], bool]] = {
    "block": ("%%REJECT%%", (), False),
    "dmz": ("default", ("ssh",), False),
    "drop": ("DROP", (), False),
    "external": ("default", ("ssh",), True),
    "home": ("default", ("ssh", "mdns", "samba-client", "dhcpv6-client"), False),
    "internal": ("default", ("ssh", "mdns", "samba-client", "dhcpv6-client"), False),
    "public": ("default", ("ssh", "dhcpv6-client"), False),
    "trusted": ("ACCEPT", (), False),
    "work": ("default", ("ssh", "dhcpv6-client"), False),
}
"""Zones firewalld ships: target, services, masquerade. All forward between their own interfaces (version 1.0 and later)."""

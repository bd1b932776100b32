"""What ufw's shipped ``before.rules`` and ``before6.rules`` decide before any rule of a user (files of ufw 0.36).

The shipped ``after.rules`` only choose what is logged, so the listing of ufw needs none of them.
"""

from __future__ import annotations

from collections.abc import Iterator

_ERRORS = {4: ("3", "11", "12"), 6: ("1", "2", "3", "4")}
"""Types of ICMP messages: unreachable, too big, time exceeded, parameter problem (RFC 792, RFC 4443)."""
_NEIGHBOURS = ("133", "135", "134", "136", "141", "142", "148", "149")
"""Discovery of neighbours and secure discovery, from the same link only (RFC 4861, RFC 3122, RFC 3971)."""
_LISTENERS = ("130", "131", "132", "143")
"""Multicast listeners (RFC 2710, RFC 3810)."""
_ROUTERS = ("151", "152", "153")
"""Discovery of multicast routers (RFC 4286)."""
_HOMES = ("144", "145", "146", "147")
"""Home agents of mobile hosts (RFC 6275)."""
_LINK = "fe80::/10"


def shipped_rules(chain: str, family: int) -> Iterator[list[str]]:
    """Words of iptables for one built-in chain of the table filter, in their order."""
    side = {"INPUT": "-i", "OUTPUT": "-o"}.get(chain)
    if side is not None:
        yield [side, "lo", "-j", "ACCEPT"]
    if family == 6:
        yield ["-m", "rt", "--rt-type", "0", "-j", "DROP"]
    yield ["-m", "conntrack", "--ctstate", "RELATED,ESTABLISHED", "-j", "ACCEPT"]
    yield from _four(chain) if family == 4 else _six(chain)


def _four(chain: str) -> Iterator[list[str]]:
    if chain == "OUTPUT":
        return
    if chain == "INPUT":
        yield ["-m", "conntrack", "--ctstate", "INVALID", "-j", "DROP"]
    for kind in (*_ERRORS[4], "8"):
        yield f"-p icmp -m icmp --icmp-type {kind} -j ACCEPT".split()
    if chain == "INPUT":
        yield ["-p", "udp", "-m", "udp", "--sport", "67", "--dport", "68", "-j", "ACCEPT"]
        yield ["-m", "addrtype", "!", "--dst-type", "LOCAL,MULTICAST,BROADCAST", "-j", "DROP"]
        for group, port in (("224.0.0.251", 5353), ("239.255.255.250", 1900)):
            yield f"-d {group} -p udp -m udp --dport {port} -j ACCEPT".split()


def _six(chain: str) -> Iterator[list[str]]:
    message = "-p ipv6-icmp -m icmp6 --icmpv6-type"
    if chain == "INPUT":
        yield f"{message} 129 -j ACCEPT".split()
        yield ["-m", "conntrack", "--ctstate", "INVALID", "-j", "DROP"]
    for kind in (*_ERRORS[6], "128", *(() if chain == "INPUT" else ("129",))):
        yield f"{message} {kind} -j ACCEPT".split()
    if chain == "FORWARD":
        return
    for kind in _NEIGHBOURS:
        yield f"{message} {kind} -m hl --hl-eq 255 -j ACCEPT".split()
    for kind in _LISTENERS:
        yield f"-s {_LINK} {message} {kind} -j ACCEPT".split()
    for kind in _ROUTERS:
        yield f"-s {_LINK} {message} {kind} -m hl --hl-eq 1 -j ACCEPT".split()
    if chain == "INPUT":
        for kind in _HOMES:
            yield f"{message} {kind} -j ACCEPT".split()
        yield f"-s {_LINK} -d {_LINK} -p udp -m udp --sport 547 --dport 546 -j ACCEPT".split()
        for group, port in (("ff02::fb", 5353), ("ff02::f", 1900)):
            yield f"-d {group} -p udp -m udp --dport {port} -j ACCEPT".split()


PROFILES: dict[str, tuple[tuple[str, str], ...]] = {
    "OpenSSH": (("22", "tcp"),),
    "SSH": (("22", "tcp"),),
    "WWW": (("80", "tcp"),),
    "WWW Secure": (("443", "tcp"),),
    "WWW Full": (("80,443", "tcp"),),
    "WWW Cache": (("8080", "tcp"),),
    "Apache": (("80", "tcp"),),
    "Apache Secure": (("443", "tcp"),),
    "Apache Full": (("80,443", "tcp"),),
    "Nginx HTTP": (("80", "tcp"),),
    "Nginx HTTPS": (("443", "tcp"),),
    "Nginx Full": (("80,443", "tcp"),),
    "Samba": (("137,138", "udp"), ("139,445", "tcp")),
    "CUPS": (("631", ""),),
    "DNS": (("53", ""),),
    "Postfix": (("25", "tcp"),),
    "Postfix SMTPS": (("465", "tcp"),),
    "Postfix Submission": (("587", "tcp"),),
    "Dovecot IMAP": (("143", "tcp"),),
    "Dovecot Secure IMAP": (("993", "tcp"),),
    "Dovecot POP3": (("110", "tcp"),),
    "Dovecot Secure POP3": (("995", "tcp"),),
}
"""Application profiles as ufw and the packages of Debian ship them: ports and protocol, both where none is given."""

"""Literals that occur in many formats: addresses, ports, protocols, message types. Text in, model operands out."""

from __future__ import annotations

import re
from functools import lru_cache
from ipaddress import IPv4Address, IPv6Address

from aiguille.model import Addresses, IcmpType, MaskedAddress, NotUnderstoodError, Numbers
from aiguille.model.protocols import ICMP_TYPES, ICMPV6_TYPES, PORT_NAMES, PROTOCOLS

PORT_TOP = 65535

_PORT = re.compile(r"[0-9]{1,5}")
_NUMBER = re.compile(r"0[xX][0-9a-fA-F]{1,8}|[0-9]{1,10}")


_OCTETS = {str(number): number for number in range(256)}


def read_address(text: str) -> tuple[int, int]:
    """Read ``192.0.2.1`` or ``2001:db8::1`` into (family, value); raises NotUnderstoodError for anything else."""
    try:
        a, b, c, d = text.split(".")
        return 4, _OCTETS[a] << 24 | _OCTETS[b] << 16 | _OCTETS[c] << 8 | _OCTETS[d]
    except (ValueError, KeyError):  # what is no such address either is another one or says what is wrong
        pass
    try:
        if ":" in text:
            return 6, int(IPv6Address(text))
        return 4, int(IPv4Address(text))
    except ValueError as error:
        raise NotUnderstoodError(f"'{text}' is not an address such as 192.0.2.1 or 2001:db8::1") from error


@lru_cache(maxsize=1 << 16)
def read_network(text: str) -> Addresses | MaskedAddress:
    """Read an address, a prefix (``192.0.2.0/24``, host bits are cleared) or an address with a mask
    (``192.0.2.0/255.255.255.0``; the mask may have holes)."""
    head, slash, tail = text.partition("/")
    family, value = read_address(head)
    if not slash:
        return Addresses(family, value, value)
    bits = 32 if family == 4 else 128
    everything = (1 << bits) - 1
    if tail.isdecimal() and tail.isascii():
        length = int(tail[:4])
        if length > bits or len(tail) > 4:
            raise NotUnderstoodError(f"'{text}': a prefix has at most {bits} bits")
        mask = everything ^ (everything >> length)
    else:
        mask_family, mask = read_address(tail)
        if mask_family != family:
            raise NotUnderstoodError(f"'{text}' mixes the two address families")
    free = everything ^ mask
    if free & (free + 1):
        return MaskedAddress(family, value & mask, mask)
    return Addresses(family, value & mask, value & mask | free)


def read_address_range(text: str, separator: str = "-") -> Addresses:
    """Read ``192.0.2.1-192.0.2.9``, both ends included; a single address is a range of one."""
    head, found, tail = text.partition(separator)
    family, first = read_address(head.strip())
    if not found:
        return Addresses(family, first, first)
    last_family, last = read_address(tail.strip())
    if family != last_family or first > last:
        raise NotUnderstoodError(f"'{text}' is not a range of addresses, low end first")
    return Addresses(family, first, last)


_DIGITS = 19
"""Digits of the largest number that a counter of 64 bits surely holds."""


def is_whole(text: str) -> bool:
    """Whether a text is a number in plain digits that can be reckoned with; digits of other scripts are none here."""
    return text.isdecimal() and text.isascii() and len(text) <= _DIGITS


def whole(digits: str) -> int:
    """Digits as a number; one that is longer than any counter is as large as one can be."""
    return int(digits) if len(digits) <= _DIGITS else (1 << 64) - 1


def read_port(text: str) -> int:
    """Read a port by number or well-known name."""
    if _PORT.fullmatch(text) and (number := int(text)) <= PORT_TOP:
        return number
    if text in PORT_NAMES:
        return PORT_NAMES[text]
    raise NotUnderstoodError(f"'{text}' is not a port between 0 and {PORT_TOP} or a well-known name")


def read_ports(text: str, separator: str = ":") -> Numbers:
    """Read ``443``, ``8000:8080``, ``:1023`` or ``1024:``, both ends included (iptables-extensions(8), tcp)."""
    head, found, tail = text.partition(separator)
    if not found:
        port = read_port(head)
        return Numbers(port, port)
    first = read_port(head) if head else 0
    last = read_port(tail) if tail else PORT_TOP
    if first > last:
        raise NotUnderstoodError(f"'{text}' is a range that runs backwards")
    return Numbers(first, last)


def read_protocol(text: str) -> Numbers:
    """Read a protocol by number or name; ``all`` and ``any`` are every protocol."""
    if len(text) <= 3 and text.isdecimal() and text.isascii() and int(text) <= 255:
        number = int(text)
        return Numbers(number, number)
    low = text.lower()
    if low in ("all", "any"):
        return Numbers(0, 255)
    if low in PROTOCOLS:
        return Numbers(PROTOCOLS[low], PROTOCOLS[low])
    raise NotUnderstoodError(f"'{text}' is not a protocol name or a number up to 255")


def read_icmp(text: str, family: int) -> IcmpType:
    """Read ``8``, ``3/1``, ``echo-request`` or ``any`` for the ICMP of one address family."""
    if text == "any":
        return IcmpType(0, 255)
    names = ICMP_TYPES if family == 4 else ICMPV6_TYPES
    if text in names:
        number, code = names[text]
        return IcmpType(number, number) if code is None else IcmpType(number, number, code, code)
    head, slash, tail = text.partition("/")
    parts = [head, tail] if slash else [head]
    if not all(len(p) <= 3 and p.isdecimal() and p.isascii() and int(p) <= 255 for p in parts):
        raise NotUnderstoodError(f"'{text}' is not an ICMP type such as 8, 3/1 or echo-request")
    number = int(head)
    return IcmpType(number, number, int(tail), int(tail)) if slash else IcmpType(number, number)


def read_number(text: str) -> int:
    """Read a decimal or hexadecimal number of at most 32 bits."""
    if not _NUMBER.fullmatch(text):
        raise NotUnderstoodError(f"'{text[:40]}' is not a number of 32 bits, decimal or hexadecimal")
    number = int(text, 16) if text[:2] in ("0x", "0X") else int(text, 10)
    if number > 0xFFFFFFFF:
        raise NotUnderstoodError(f"'{text}' is not a number of 32 bits")
    return number

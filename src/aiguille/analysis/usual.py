"""What usual packets are like, and what senders may make them: conditions that keep hardly anybody away, or let nearly all in."""

from __future__ import annotations

import re

from aiguille.model import Field, Qualifier, Rule

_ODD = (
    "IPv6 routing header", "IPv6 destination options", "IPv6 hop-by-hop options", "IPv6 headers", "mobility header",
    "segment routing header", "fragment", "IP option", "TCP option", "TCP segment size", "text in the packet", "congestion bits",
    "traffic class", "operating system", "quota", "connection helper",
)  # fmt: skip
_FEW = ("hardware address", "bridge port", "country")
"""Conditions for one station, port or country; together with a source they may be for all there is at it."""
_LACKING = re.compile(r"\b(?:missing|false)\b|<")
"""What says that a packet without it is meant, or a short one."""

_NEGATED = re.compile(r"(?:^|\s)!(?=\s)|!=")

_USUAL = 128
"""No host is further away, and packets start with 64 hops or more (RFC 1700 and what systems do)."""

_OPENING_LENGTH = 60
"""Octets of the packet that opens a connection: its headers without data (RFC 9293, 3.1)."""


def is_avoided(one: Qualifier, rule: Rule) -> bool:
    """Whether a refusal under this condition keeps away a few at most: packets odd in a way their sender can do without, one station,
    one country."""
    text = one.text
    if re.search(r"\bfrag-off & \d+ != 0", text) is not None:
        return True
    if _NEGATED.search(text) or _is_local(one):
        return False
    if one.name in _ODD:
        return not _LACKING.search(text)
    if one.name in _FEW:
        return not any(c.field in (Field.SOURCE, Field.SET) for c in rule.match.conditions)
    if one.name == "link-layer type":
        return "broadcast" in text or "multicast" in text
    if one.name == "IPsec policy":
        return "--pol ipsec" in text or "exists" in text
    if (found := re.search(r"(?:-(?:ttl|hl)-lt|\b(?:ttl|hoplimit) <=?)\s*(\d+)", text)) is not None:
        return int(found[1]) <= _USUAL
    if (found := re.search(r"--length (\d+)|\blength >=? ?(\d+)", text)) is not None:
        return int(found[1] or found[2]) > _OPENING_LENGTH
    return one.name == "bytes of the connection" and re.search(r"--connbytes [1-9]\d*:|> ?\d", text) is not None


def _is_local(one: Qualifier) -> bool:
    """Whether the host itself sets what is asked for, though it has the name of something a packet brings along."""
    return one.text.startswith("meta priority")


_CHOSEN = frozenset(
    [
        "traffic class",
        "type of service",
        "congestion bits",
        "operating system",
        "TCP segment size",
        "TCP option",
        "quota",
    ]
)
"""Conditions of accepts that any sender can meet."""

_FAR = 200
"""Hops left of a packet that somebody far away can still send: they start with 255 at the most."""

_NEW_ONE = re.compile(
    r"-m conntrack(?: --ctproto \w+| --ctdir ORIGINAL| --ctorigdstport [\d:]+)+"
    r"|ct direction original|ct (?:proto-dst original \d+|protocol \w+)"
)
"""What every packet that opens a connection to a port says of itself."""


def is_met(one: Qualifier) -> bool:
    """Whether an accept under this condition lets in nearly everybody: what usual packets are like, or senders can make them."""
    name, text = one.name, one.text
    other = _NEGATED.search(text) is not None
    if name in _CHOSEN:
        return not _is_local(one)
    if (found := re.search(r"(?:-(?:ttl|hl)-(eq|gt|lt)|\b(?:ttl|hoplimit) ?([<>]?)=?) ?(\d+)", text)) is not None:
        return not other and (found[1] == "lt" or found[2] == "<" or int(found[3]) <= _FAR)
    if (found := re.search(r"\blength (?:([<>])=? ?)?(\d+)(?:[:-](\d+))?", text)) is not None:
        first, last = int(found[2]), int(found[3] or found[2])
        low, high = (0, first) if found[1] == "<" else (first, 65535) if found[1] == ">" else (first, last)
        return low <= _OPENING_LENGTH <= high and not other
    return {
        "link-layer type": other is ("broadcast" in text or "multicast" in text),
        "hardware address": other,
        "country": other,
        "text in the packet": other,
        "IPsec policy": not other and "--pol none" in text,
        "meta secpath": "missing" in text,
        "bridge port": other and "is-bridged" in text,
        "IPv6 headers": not other and ("--header none" in text or "missing" in text),
        "IP option": "missing" in text,
        "IP header": re.search(r"\bip6? (?:dscp|ecn|version|hdrlength 5)\b", text) is not None,
    }.get(name, not other and _NEW_ONE.fullmatch(text) is not None)

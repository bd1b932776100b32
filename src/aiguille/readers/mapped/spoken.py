"""Services and addresses as people write them in tables: "HTTP, HTTPS", "RDP (3389)", "office 10.1.0.0/24"."""

from __future__ import annotations

import re

from aiguille.model import Addresses, MaskedAddress, NotUnderstoodError, Numbers, ServiceTerm
from aiguille.model.protocols import PORTS, SPOKEN_SERVICES
from aiguille.readers.mapped.objects import PORTED
from aiguille.readers.mapped.part import read_members, read_port_range, read_service

_SEVERAL = re.compile(r"\s*(?:[,;&+]|\band\b|(?<=[a-z])/(?=[a-z]))\s*", re.IGNORECASE)
_LABELLED = re.compile(
    r"(?P<name>[a-z][a-z .+/-]*?)\s*(?:[(\[:=]|\s-?)\s*"
    r"(?P<what>(?:(?:tcp|udp|sctp)[\s/:_-]*)?\d+(?:\s*-\s*\d+)?(?:\s*/?\s*(?:tcp|udp|sctp))?)\s*[)\]]?",
    re.IGNORECASE,
)
"""A name, and the port it is of in brackets or behind it."""

_TURNING = re.compile(r"[!≠]|<>|\b(?:not|no|non|but|except\w*|exclud\w*|without|other|outside|minus)\b", re.IGNORECASE)
"""Words that turn what stands beside them round, or take something out."""

_ADDRESS = re.compile(r"(?<![\w.])\d+(?:\.\d+){3}(?:/\d+|\s*-\s*\d+(?:\.\d+){3})?(?![\w.])")


_LITERALS = re.compile(r"(?:(?:tcp|udp|sctp)[\s/:_-]*\d+(?:\s*-\s*\d+)?[\s,;&+]*)+", re.IGNORECASE)
_LITERAL = re.compile(r"(?:tcp|udp|sctp)[\s/:_-]*\d+(?:\s*-\s*\d+)?", re.IGNORECASE)
_WHOLE = re.compile(r"(tcp|udp|sctp|icmp)[\s/:_-]*(?:\*|any|all)(?:\s+ports?)?", re.IGNORECASE)
"""A protocol with every port."""
_PORTS = re.compile(r"(?:port[s:]?\s*)?(\d+(?:\s*-\s*\d+)?)", re.IGNORECASE)
"""A port, or some, of no protocol in particular."""


def spoken_service(text: str) -> tuple[ServiceTerm, ...] | None:
    """The services a cell names by registered or common names, with or without their ports; None if one of them says nothing
    certain."""
    whole = _one(text)
    if whole is not None:
        return whole
    if _LITERALS.fullmatch(text.strip()):
        return tuple(term for one in _LITERAL.findall(text) for term in _one(one) or ())
    for parts in (list(filter(None, _SEVERAL.split(text.strip()))), text.split()):
        found = [_one(part) for part in parts]
        if found and None not in found:
            return tuple(term for one in found for term in one or ())
    return None


def _one(text: str) -> tuple[ServiceTerm, ...] | None:
    name = " ".join(text.lower().split())
    if name in SPOKEN_SERVICES:
        return tuple(term for one in SPOKEN_SERVICES[name] for term in read_service(one) or ())
    if name in PORTS:
        port = Numbers(PORTS[name], PORTS[name])
        return tuple(ServiceTerm(protocol, (), (port,)) for protocol in PORTED)
    try:
        if (every := _WHOLE.fullmatch(text.strip())) is not None:
            return read_service(every[1])
        if (bare := _PORTS.fullmatch(text.strip())) is not None:
            number = read_port_range(bare[1].replace(" ", ""))
            return tuple(ServiceTerm(protocol, (), (number,)) for protocol in PORTED)
        if (literal := read_service(text)) is not None:
            return literal
        labelled = _LABELLED.fullmatch(text.strip())
        if labelled is None or _TURNING.search(labelled["name"]):
            return None
        # A bare number is a port of the protocols the name stands for; of a name nobody knows it is a guess, and so is a
        # port that does not stand in brackets.
        known = _one(labelled["name"])
        literal = read_service(labelled["what"])
        if literal is not None and (known is not None or text.strip().endswith((")", "]"))):
            return literal
        ports = (read_port_range(labelled["what"]),)
    except NotUnderstoodError:
        return None
    protocols = dict.fromkeys(term.protocol for term in known or () if term.destination_ports)
    return tuple(ServiceTerm(protocol, (), ports) for protocol in protocols) or None


_SIDES = {
    **dict.fromkeys(["internet", "wan", "outside", "external"], "internet"),
    **dict.fromkeys(["guest", "guests", "visitors"], "guests"),
    **dict.fromkeys(["management", "mgmt"], "management"),
    **{word: word for word in ("lan", "inside", "internal", "intranet", "office", "dmz")},
}
"""Words for a side, and the name that stands for all that mean the same."""

_BESIDE = frozenset(
    ["wifi", "wlan", "network", "net", "zone", "segment", "side", "the", "any", "all", "hosts", "clients", "users"]
)


def spoken_side(text: str) -> str | None:
    """The side that a name says, and nothing more: "Internet", "Guest WiFi", "the office network"; None where it says more or less."""
    words = set(re.findall(r"[a-z0-9]+", text.lower()))
    named = {_SIDES[word] for word in words if word in _SIDES}
    return named.pop() if len(named) == 1 and words <= _SIDES.keys() | _BESIDE else None


def spoken_address(text: str) -> Addresses | MaskedAddress | None:
    """The one address, network or range that stands beside a name for it; None where there is none, or several."""
    found = _ADDRESS.findall(text)
    beside = _ADDRESS.sub("", text)
    if len(found) != 1 or any(sign.isdigit() for sign in beside) or _TURNING.search(beside):
        return None
    try:
        return read_members(found[0])
    except NotUnderstoodError:
        return None

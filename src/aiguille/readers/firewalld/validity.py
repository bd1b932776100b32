"""What firewalld makes of files that are not valid (as of firewalld 1.3; firewalld.zone(5), firewalld.richlanguage(5)).

A rich rule that says what cannot be said is left out with no more than a warning in its log; for most else that is wrong within a
zone or policy, none of the configuration is loaded.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from aiguille.model import NotUnderstoodError
from aiguille.readers.firewalld.element import Element
from aiguille.readers.firewalld.expressions import address_value, priority_of
from aiguille.readers.literals import is_whole

ELEMENTS = (
    "service",
    "port",
    "protocol",
    "source-port",
    "icmp-block",
    "icmp-type",
    "masquerade",
    "forward-port",
    "tcp-mss-clamp",
)
ACTIONS = ("accept", "reject", "drop", "mark")
KNOWN = frozenset([*ELEMENTS, *ACTIONS, "source", "destination", "log", "nflog", "audit"])
"""What a rich rule may hold (firewalld.richlanguage(5))."""
_LEVELS = ("emerg", "alert", "crit", "error", "warning", "notice", "info", "debug")
_ALONE = ("masquerade", "icmp-block", "forward-port", "tcp-mss-clamp")
"""Elements that are an action by themselves."""
_LIMIT = re.compile(r"0*[1-9][0-9]*/(?:s|m|h|d|second|minute|hour|day)")
_PRIORITIES = range(-32768, 32768)
_REJECTIONS = {
    "ipv4": "icmp-host-prohibited host-prohib icmp-net-unreachable net-unreach icmp-host-unreachable host-unreach "
    "icmp-port-unreachable port-unreach icmp-proto-unreachable proto-unreach icmp-net-prohibited net-prohib tcp-reset tcp-rst "
    "icmp-admin-prohibited admin-prohib",
    "ipv6": "icmp6-adm-prohibited adm-prohibited icmp6-no-route no-route icmp6-addr-unreachable addr-unreach "
    "icmp6-port-unreachable port-unreach tcp-reset",
}
_NEEDED: dict[str, tuple[str, ...]] = {
    "service": ("name",), "port": ("port", "protocol"), "source-port": ("port", "protocol"), "forward-port": ("port", "protocol"),
    "protocol": ("value",), "icmp-block": ("name",), "icmp-type": ("name",), "interface": ("name",), "mark": ("set",),
    "limit": ("value",), "ingress-zone": ("name",), "egress-zone": ("name",),
}  # fmt: skip
_POSSIBLE: dict[str, tuple[str, ...]] = {
    "masquerade": ("enabled",), "forward-port": ("to-port", "to-addr"), "rule": ("family", "priority"),
    "source": ("address", "mac", "invert", "family", "ipset"), "destination": ("address", "invert", "ipset"),
    "log": ("prefix", "level"), "nflog": ("group", "prefix", "queue-size"), "reject": ("type",), "tcp-mss-clamp": ("value",),
    "accept": (), "drop": (), "audit": (), "forward": (), "icmp-block-inversion": (), "short": (), "description": (),
}  # fmt: skip
_HARDWARE = re.compile(r"(?:[0-9A-Fa-f]{2}:){5}[0-9A-Fa-f]{2}")
_TRANSPORT = ("tcp", "udp", "sctp", "dccp")


def why_none_loads(one: Element) -> str:
    """Why firewalld loads nothing with such an entry in a zone or policy, empty where it does."""
    for name in _NEEDED.get(one.tag, ()):
        if not one.get(name):
            return f"a {one.tag} needs a {name}"
    if any(n.isdecimal() and (len(n) > 5 or int(n) > 65535) for n in one.get("port").split("-")) and one.tag in _NEEDED:
        return f"port {one.get('port')} does not exist"
    if one.tag in ("port", "source-port", "forward-port") and one.get("protocol") not in _TRANSPORT:
        return f"'{one.get('protocol')}' is no protocol with ports"
    if one.tag == "forward-port" and not one.get("to-port") and not one.get("to-addr"):
        return "a forward-port needs a to-port or a to-addr"
    if one.tag == "source" and (address := one.get("address")) and not address.startswith("ipset:"):
        try:
            address_value(address)
        except NotUnderstoodError as error:
            return "" if _HARDWARE.fullmatch(address) else str(error)
    if one.tag == "rule":
        if not is_whole(one.get("priority", "0").removeprefix("-")):
            return f"'{one.get('priority')}' is no priority"
        for child in one.children:
            if why := next(
                (f"a {child.tag} needs a {name}" for name in _NEEDED.get(child.tag, ()) if not child.get(name)), ""
            ):
                return why
            if child.tag in ("source", "destination") and not (
                child.get("address") or child.get("mac") or child.get("ipset")
            ):
                return f"a {child.tag} needs an address"
    return ""


def unknown_attribute(one: Element) -> str:
    """An attribute that such an element does not have as far as we know; a later firewalld may know it. Empty where all are known."""
    if one.tag not in _NEEDED and one.tag not in _POSSIBLE:
        return ""
    known = (*_NEEDED.get(one.tag, ()), *_POSSIBLE.get(one.tag, ()))
    return next((name for name in one.attributes if name not in known), "")


def why_left_out(rule: Element) -> str:
    """Why firewalld leaves a rich rule out, empty where it does not, or where what is not known of it may stand for what it lacks."""
    if any(unknown_attribute(one) for one in (rule, *rule.children)):
        return ""
    return next(_reasons(rule), "")


def _reasons(rule: Element) -> Iterator[str]:
    elements, actions = _tags(rule, ELEMENTS), _tags(rule, ACTIONS)
    family, source, goal = rule.get("family"), rule.child("source"), rule.child("destination")
    log = rule.child("log", "nflog")
    for tags in (elements, actions):
        if len(tags) > 1:
            yield f"it says {' and '.join(tags)}"
    for tag in ("source", "destination", "audit"):
        if len(rule.all(tag)) > 1:
            yield f"it has more than one {tag}"
    if family not in ("", "ipv4", "ipv6"):
        yield f"'{family}' is no family"
    if not family and (
        (source is not None and source.get("address")) or goal is not None or "forward-port" in elements
    ):
        yield "it names addresses and no family"
    if priority_of(rule) not in _PRIORITIES:
        yield f"{priority_of(rule)} is no priority"
    if any(one.tag not in KNOWN for one in rule.children):
        pass  # that may be its element, or what is to be done
    elif not elements and (log is None or not priority_of(rule)):
        if not actions:
            yield "it says nothing that is to be done"
        if source is None and goal is None and not priority_of(rule):
            yield "it has neither an element nor a source nor a destination"
    elif not {*elements, *actions}.intersection((*_ALONE, *ACTIONS)) and log is None and rule.child("audit") is None:
        yield "it says nothing that is to be done"
    for end in (source, goal):
        given = [name for name in ("address", "mac", "ipset") if end is not None and end.get(name)]
        if len(given) > 1:
            yield f"it gives {' and '.join(given)} of one end"
    for tag in elements:
        if tag in _ALONE and actions:
            yield f"{tag} goes with no action, and it says {actions[0]}"
        if tag == "masquerade" and source is not None and source.get("mac"):
            yield "masquerade goes with no hardware address"
    yield from _bad_parts(rule, family)


def _bad_parts(rule: Element, family: str) -> Iterator[str]:
    """Values of its log and action that firewalld does not take."""
    for one in rule.children:
        if one.tag == "log" and one.get("level", "warning") not in _LEVELS:
            yield f"'{one.get('level')}' is no level of a log"
        if one.tag in ("log", "nflog") and "prefix" in one.attributes and not 0 < len(one.get("prefix")) < 128:
            yield "the prefix of its log is empty or longer than 127 characters"
        if one.tag == "nflog":
            for name in ("group", "queue-size"):
                if name in one.attributes and not (is_whole(one.get(name)) and int(one.get(name)) <= 0xFFFF):
                    yield f"'{one.get(name)}' is no {name} of nflog"
        if one.tag == "reject" and (kind := one.get("type")):
            if not family:
                yield "it rejects in one family's way and names no family"
            elif kind not in _REJECTIONS.get(family, "").split():
                yield f"'{kind}' is no way to reject with {family}"
        if one.tag == "audit" and not _tags(rule, ("accept", "reject", "drop")):
            yield "it audits and does not decide"
        if (limit := one.child("limit")) is not None and not _LIMIT.fullmatch(limit.get("value")):
            yield f"'{limit.get('value')}' is no limit"


def _tags(rule: Element, tags: tuple[str, ...]) -> list[str]:
    return [one.tag for one in rule.children if one.tag in tags]

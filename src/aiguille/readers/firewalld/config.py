"""firewalld's XML files: zones, policies, services, ipsets, direct rules (firewalld.zone(5) and the like)."""

from __future__ import annotations

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.model import Span, UnreadableError
from aiguille.readers.files import LedgerBuilder
from aiguille.readers.firewalld.element import Element
from aiguille.readers.firewalld.services import ZONES, Service
from aiguille.readers.firewalld.validity import unknown_attribute, why_none_loads
from aiguille.readers.literals import is_whole


class Zone(Struct):
    """A zone, or a policy between zones: what it lets in and the target that decides the rest.

    ingress, egress, priority: for a policy
    """

    name: str
    where: Span
    target: str = "default"
    interfaces: list[str] = field(default_factory=list)
    bound: dict[str, Span] = field(default_factory=dict)
    """Where an interface is bound to the zone, by its name."""
    sources: list[tuple[str, Span]] = field(default_factory=list)
    entries: list[Element] = field(default_factory=list)
    rules: list[Element] = field(default_factory=list)
    forward: bool = False
    inverted: bool = False
    ingress: list[str] = field(default_factory=list)
    egress: list[str] = field(default_factory=list)
    priority: int = -1
    is_policy: bool = False


_ENTRIES = frozenset(["service", "port", "protocol", "icmp-block", "masquerade", "forward-port", "source-port"])
_DESCRIBING = frozenset(["short", "description"])
_TARGETS = frozenset(["default", "ACCEPT", "DROP", "REJECT", "%%REJECT%%", "CONTINUE"])
_STOCK = "firewalld loads none of this configuration and runs with the one it ships; correct it, or export what runs: nft list ruleset"
"""What firewalld 1.3 does where a zone's own content is not valid."""


def read_zone(root: Element, name: str, ledger: LedgerBuilder, *, policy: bool = False) -> Zone:
    """A zone or policy file (firewalld.zone(5), firewalld.policy(5))."""
    out = Zone(name, root.where, root.get("target", "CONTINUE" if policy else "default"), is_policy=policy)
    if out.target == "{chain}_{zone}":
        out.target = "default"
    if out.target not in _TARGETS:
        raise UnreadableError(f"{root.where}: '{out.target}' is no target; {_STOCK}")
    priority = root.get("priority", "-1")
    out.priority = int(priority) if is_whole(priority.removeprefix("-")) else -1
    ledger.read(root.where)
    for one in root.children:
        if why := why_none_loads(one):
            raise UnreadableError(f"{one.where}: {why}; {_STOCK}")
        ledger.read(one.where)
        if strange := unknown_attribute(one):
            ledger.unread(one.where, f"'{strange}' is not known of a {one.tag}")
            if one.tag == "rule":
                out.rules.append(one)  # its action is known
                continue
            out.entries.append(replace(one, tag=f"{one.tag} {strange}"))  # it may let anything in
            continue
        match one.tag:
            case "interface":
                out.interfaces.append(one.get("name"))
                out.bound[one.get("name")] = one.where
            case "source":
                address = one.get("address") or one.get("mac") or f"ipset:{one.get('ipset')}"
                out.sources.append((address, one.where))
            case "forward":
                out.forward = True
            case "icmp-block-inversion":
                out.inverted = True
            case "rule":
                out.rules.append(one)
                for child in one.children:
                    ledger.read(child.where)
            case "ingress-zone":
                out.ingress.append(one.get("name"))
            case "egress-zone":
                out.egress.append(one.get("name"))
            case tag if tag in _ENTRIES:
                out.entries.append(one)
            case tag if tag in _DESCRIBING:
                ledger.set_aside(one.where, "description")
            case tag:
                ledger.unread(one.where, f"'{tag}' is not known inside a zone or policy")
                out.entries.append(one)  # it may let anything in
    return out


def shipped_zone(name: str, where: Span) -> Zone | None:
    """A zone as firewalld ships it; None if it ships none of that name."""
    if name not in ZONES:
        return None
    target, services, masquerade = ZONES[name]
    entries = [Element("service", {"name": one}, "", where) for one in services]
    if masquerade:
        entries.append(Element("masquerade", {}, "", where))
    return Zone(name, where, target, entries=entries, forward=True)


def shipped_policy(where: Span) -> Zone:
    """The policy that firewalld ships: neighbour discovery is let in to the host."""
    rules = [
        Element("rule", {"family": "ipv6"}, "", where, (
            Element("icmp-type", {"name": name}, "", where), Element("accept", {}, "", where)))
        for name in ("neighbour-advertisement", "neighbour-solicitation", "router-advertisement", "redirect")
    ]  # fmt: skip
    return Zone(
        "allow-host-ipv6",
        where,
        "CONTINUE",
        rules=rules,
        ingress=["ANY"],
        egress=["HOST"],
        priority=-15000,
        is_policy=True,
    )


def read_service(root: Element, ledger: LedgerBuilder) -> Service:
    """A service file (firewalld.service(5))."""
    ledger.read(root.where)
    out = Service()
    for one in root.children:
        ledger.read(one.where)
        match one.tag:
            case "port" if one.get("port"):
                out = replace(out, ports=(*out.ports, (one.get("protocol"), one.get("port"))))
            case "port":
                out = replace(out, protocols=(*out.protocols, one.get("protocol")))
            case "protocol":
                out = replace(out, protocols=(*out.protocols, one.get("value")))
            case "source-port":
                out = replace(out, source_ports=(*out.source_ports, (one.get("protocol"), one.get("port"))))
            case "destination":
                held = tuple((family, one.get(family)) for family in ("ipv4", "ipv6") if one.get(family))
                out = replace(out, destination=held)
            case "include":
                out = replace(out, includes=(*out.includes, one.get("service")))
            case "module" | "helper":
                ledger.set_aside(one.where, "a connection helper; no check needs it")
            case tag if tag in _DESCRIBING:
                ledger.set_aside(one.where, "description")
            case tag:
                ledger.unread(one.where, f"'{tag}' is not known inside a service")
    return out

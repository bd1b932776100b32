"""What zones and policies hold (services, ports, rich rules and the like), as rules of the table that firewalld makes of them."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from aiguille.model import NotUnderstoodError, Span, UnreadableError
from aiguille.readers.assignments import Assigned, read_assignments
from aiguille.readers.bundle import Bundle
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.firewalld.config import Zone, read_service, read_zone, shipped_policy, shipped_zone
from aiguille.readers.firewalld.element import Element, parse
from aiguille.readers.firewalld.expressions import (
    Expr,
    address_value,
    forwarded,
    limited,
    matched,
    meta,
    payload,
    port_match,
    priority_of,
    set_entry,
    verdict_of,
)
from aiguille.readers.firewalld.services import ICMP, Service, shipped_services
from aiguille.readers.firewalld.validity import ACTIONS, ELEMENTS, KNOWN, unknown_attribute, why_left_out
from aiguille.readers.nftables.build import Builder

ETC, LIB = "etc/firewalld/", "usr/lib/firewalld/"
_SETTINGS = {"DefaultZone": "public", "LogDenied": "off", "IPv6_rpfilter": "yes", "RFC3964_IPv4": "yes"}
REJECT = {"reject": {"type": "icmpx", "expr": "admin-prohibited"}}
_SET_TYPES = {"ip": "ipv4_addr", "net": "ipv4_addr", "mac": "ether_addr", "iface": "ifname", "mark": "mark"}


def _refuse_conflicts(zones: Iterable[Zone]) -> None:
    """An interface or a source in two zones; firewalld then starts with nothing of its files but the default zone."""
    seen: dict[str, tuple[str, Span]] = {}
    for zone in zones:
        for name, where in (*zone.bound.items(), *zone.sources):
            other, there = seen.setdefault(name, (zone.name, where))
            if other != zone.name:
                raise UnreadableError(
                    f"{where}: {name} is in zone {zone.name} and in {other} ({there}); firewalld refuses such a configuration, so "
                    "these files are not what runs"
                )


def _of_icmp(expression: dict[str, Any] | None) -> bool:
    """Whether a condition reads the header of ICMP for IPv4."""
    left = (expression or {}).get("match", {}).get("left", {})
    return bool(left.get("payload", {}).get("protocol") == "icmp")


class Filler:
    """The files of firewalld, and rules out of the elements of zones and policies."""

    def __init__(self, bundle: Bundle, ledger: LedgerBuilder, home: Span | None = None) -> None:
        self.bundle = bundle
        self.ledger = ledger
        conf = bundle.get(f"{ETC}firewalld.conf")
        self.settings = read_assignments(conf, ledger, (*_SETTINGS,))
        self.home = home or self._place(conf)
        self.builder = Builder(self.home.file, ledger)
        self.zones = self._zones()
        self.policies = self._policies()
        self.named: dict[str, Service] = {}
        self.ipsets: dict[str, list[str]] = {}
        self.families: dict[str, int] = {}

    def _place(self, conf: ExportFile | None) -> Span:
        """The line that stands for what firewalld does by itself: the one that names the default zone, where it is stated."""
        first = self.settings.get("DefaultZone") or next(iter(self.settings.values()), None)
        return first.where if first is not None else (conf or next(self.bundle.under(ETC))).span(1)

    def setting(self, name: str) -> Assigned:
        return self.settings.get(name) or Assigned(_SETTINGS[name], self.home)

    @property
    def log_denied(self) -> str:
        return self.setting("LogDenied").value.lower()

    # -- files ---------------------------------------------------------------------------------------------------

    def _files(self, kind: str) -> dict[str, ExportFile]:
        """XML files of a kind by name; those of /etc count above those shipped."""
        out: dict[str, ExportFile] = {}
        for root in (LIB, ETC):
            for file in self.bundle.under(f"{root}{kind}/", ".xml"):
                out[file.place.removeprefix(f"{root}{kind}/").removesuffix(".xml")] = file
        return out

    def _zones(self) -> dict[str, Zone]:
        out: dict[str, Zone] = {}
        for name, file in self._files("zones").items():
            # A file in a folder of the zone's name is a part of it (firewalld.zones(5)).
            zone = read_zone(parse(file, self.ledger), name.split("/")[0], self.ledger)
            known = out.get(zone.name)
            if known is not None and "/" in name:
                known.entries += zone.entries
                known.rules += zone.rules
                known.interfaces += zone.interfaces
                known.sources += zone.sources
            else:
                out[zone.name] = zone
        _refuse_conflicts(out.values())
        default = self.setting("DefaultZone")
        if default.value not in out and (shipped := shipped_zone(default.value, default.where)) is not None:
            out[default.value] = shipped
        return out

    def _policies(self) -> list[Zone]:
        files = self._files("policies")
        out = [read_zone(parse(file, self.ledger), name, self.ledger, policy=True) for name, file in files.items()]
        if "allow-host-ipv6" not in files:
            out.append(shipped_policy(self.home))
        return sorted(out, key=lambda one: one.name)

    def service(self, name: str) -> Service | None:
        if name not in self.named:
            file = self.bundle.get(f"{ETC}services/{name}.xml") or self.bundle.get(f"{LIB}services/{name}.xml")
            if file is not None:
                self.named[name] = read_service(parse(file, self.ledger), self.ledger)
            elif name in shipped_services():
                self.named[name] = shipped_services()[name]
        return self.named.get(name)

    def _rule(self, chain: str, where: Span, *expr: dict[str, Any] | None, gap: str = "") -> None:
        if meta("nfproto", "ipv6") in expr and any(_of_icmp(e) for e in expr):
            return  # a kind of ICMP that only the other family has
        body: dict[str, Any] = {"family": "inet", "table": "firewalld", "chain": chain, "expr": [e for e in expr if e]}
        if gap:
            body |= {"gap": gap, "open": False}
        self.builder.add("rule", body, where)

    def _chain(self, name: str, where: Span, **base: Any) -> None:
        self.builder.add("chain", {"family": "inet", "table": "firewalld", "name": name, **base}, where)

    def _denied(self) -> dict[str, Any] | None:
        """What LogDenied narrows logging to."""
        kind = self.log_denied
        return (
            None
            if kind in ("off", "all")
            else matched({"meta": {"key": "pkttype"}}, "host" if kind == "unicast" else kind)
        )

    def _fill(self, zone: Zone, chain: str, before: str, after: str) -> None:
        """What a zone or policy lets in, and its rich rules. chain: of the filter; before, after: of translation."""
        for one in zone.entries:
            self._entry(one, zone, chain, before, after)
        for rule in [r for r in zone.rules if priority_of(r) == 0]:
            self._rich(rule, chain, before, after)
        for rule in sorted((r for r in zone.rules if priority_of(r) != 0), key=priority_of):
            self._rich(rule, chain, before, after)

    def _entry(self, one: Element, zone: Zone, chain: str, before: str, after: str) -> None:
        match one.tag:
            case "icmp-block":
                part, verdict = ("allow", {"accept": None}) if zone.inverted else ("deny", REJECT)
                for each in self._icmp(one):
                    if not zone.inverted and self.log_denied != "off":
                        self._rule(
                            f"{chain}_{part}",
                            one.where,
                            *each,
                            self._denied(),
                            {"log": {"prefix": f"{chain}_ICMP_BLOCK: "}},
                        )
                    self._rule(f"{chain}_{part}", one.where, *each, verdict)
            case "masquerade":
                if after:
                    expr = (meta("nfproto", "ipv4"), meta("oifname", "lo", "!="), {"masquerade": None})
                    self._rule(f"{after}_allow", one.where, *expr)
            case "forward-port":
                if before:
                    family = "ipv6" if ":" in one.get("to-addr") else "ipv4"
                    self._rule(f"{before}_allow", one.where, meta("nfproto", family), *forwarded(one))
            case tag if tag in ELEMENTS:
                for each, gap in self._element(one):
                    self._rule(f"{chain}_allow", one.where, *each, {"accept": None}, gap=gap)
            case tag:
                gap = f"'{tag}' is not an element of a rule that we know"
                self._open(chain, one.where, gap=gap)
                if before:  # it may be a translation
                    body = {"family": "inet", "table": "firewalld", "chain": f"{before}_allow", "expr": []}
                    self.builder.add("rule", {**body, "gap": gap, "open": True}, one.where)

    def _open(self, chain: str, where: Span, *expr: dict[str, Any] | None, gap: str, part: str = "") -> None:
        """What is not known may let in, refuse, or translate and so pass on. part: of the chain, where a priority says it."""
        forward = chain.replace("filter_IN_", "filter_FWD_")
        for each in dict.fromkeys((chain, forward) if "_policy_" not in chain else (chain,)):
            self._rule(f"{each}_{part or 'deny'}", where, *expr, {"drop": None}, gap=gap)
            self._rule(f"{each}_{part or 'allow'}", where, *expr, {"accept": None}, gap=gap)

    def _element(self, one: Element) -> list[tuple[Expr, str]]:
        """The conditions of a service, port or protocol; several where it stands for several."""
        match one.tag:
            case "service":
                return self._service(one.get("name"), one, ())
            case "port":
                return [([port_match(one.get("protocol"), "dport", one.get("port"))], "")]
            case "source-port":
                return [([port_match(one.get("protocol"), "sport", one.get("port"))], "")]
            case "protocol":
                return [([meta("l4proto", one.get("value"))], "")]
            case "icmp-type":
                return [(each, "") for each in self._icmp(one)]
            case _:
                return [([], f"'{one.tag}' is not an element of a rule that we know")]

    def _service(self, name: str, one: Element, seen: tuple[str, ...]) -> list[tuple[Expr, str]]:
        found = self.service(name)
        if found is None:
            said = f"the service '{name}' is defined neither in the export nor among those we know"
            self.ledger.problem(one.where, f"{said}; ask for usr/lib/firewalld/services/{name}.xml")
            return [([], said)]
        out = [
            each
            for include in found.includes
            if include not in (*seen, name)
            for each in self._service(include, one, (*seen, name))
        ]
        ends: list[Expr] = [[self._end("daddr", address)] for _, address in found.destination] or [[]]
        for end in ends:
            out += [([*end, port_match(protocol, "dport", port)], "") for protocol, port in found.ports]
            out += [([*end, meta("l4proto", protocol)], "") for protocol in found.protocols]
            out += [([*end, port_match(protocol, "sport", port)], "") for protocol, port in found.source_ports]
        return out

    def _icmp(self, one: Element) -> list[Expr]:
        name = one.get("name")
        out: list[Expr] = []
        for family, kind, code in ICMP.get(name, ()):
            protocol = "icmp" if family == 4 else "icmpv6"
            expr = [matched(payload(protocol, "type"), kind)]
            if code is not None:
                expr.append(matched(payload(protocol, "code"), code))
            out.append(expr)
        if not out:
            self.ledger.unread(one.where, f"the ICMP type '{name}' is not one we know")
        return out

    def _end(self, side: str, address: str, inverted: bool = False) -> dict[str, Any]:
        """A source or destination: an address, a network, a hardware address or a set."""
        op = "!=" if inverted else "=="
        if address.startswith("ipset:"):
            name = address.removeprefix("ipset:")
            return matched(self._looked_up(name, side), f"@{name}", op)
        if address.count(":") == 5 and all(len(part) == 2 for part in address.split(":")):
            return matched(payload("ether", side), address, op)
        value = address_value(address)
        family = "ip6" if ":" in address else "ip"
        return matched(payload(family, side), value, op)

    def _looked_up(self, name: str, side: str) -> dict[str, Any]:
        family = "ip6" if self.families.get(name) == 6 else "ip"
        keys: list[dict[str, Any]] = []
        for kind in self.ipsets.get(name, ["ip"]):
            match kind:
                case "ip" | "net":
                    keys.append(payload(family, side))
                case "port":
                    keys += [{"meta": {"key": "l4proto"}}, payload("th", "sport" if side == "saddr" else "dport")]
                case "iface":
                    keys.append({"meta": {"key": "iifname" if side == "saddr" else "oifname"}})
                case "mac":
                    keys.append(payload("ether", side))
                case _:
                    keys.append({"meta": {"key": "mark"}})
        return keys[0] if len(keys) == 1 else {"concat": keys}

    def _sets(self) -> None:
        for name, file in self._files("ipsets").items():
            root = parse(file, self.ledger)
            kinds = root.get("type").partition(":")[2].split(",")
            options = {one.get("name"): one.get("value") for one in root.all("option")}
            six = options.get("family") == "inet6"
            self.ipsets[name], self.families[name] = kinds, 6 if six else 4
            types: list[str] = []
            for kind in kinds:
                word = _SET_TYPES.get(kind, "other")
                types += ["inet_proto", "inet_service"] if kind == "port" else [word.replace("4", "6") if six else word]
            body: dict[str, Any] = {"family": "inet", "table": "firewalld", "name": name, "type": types, "elem": []}
            if "timeout" in options and options["timeout"] not in ("", "0"):
                body["timeout"] = options["timeout"]
            self.builder.add("set", body, Span(file.path, 1, len(file.lines)))
            for one in root.children:
                if one.tag == "entry":
                    try:
                        body["elem"].append(set_entry(one.text, kinds))
                    except NotUnderstoodError as error:
                        self.ledger.unread(one.where, str(error))
                        body["gap"] = str(error)
            body["elem"] = [*body["elem"]]
            self.builder.add("set", body, Span(file.path, 1, len(file.lines)))

    # -- rich rules -----------------------------------------------------------------------------------------------

    def _rich(self, rule: Element, chain: str, before: str, after: str) -> None:
        """A rich rule (firewalld.richlanguage(5))."""
        where = Span(rule.where.file, rule.where.first, max([rule.where.last, *(c.where.last for c in rule.children)]))
        action = rule.child(*ACTIONS)
        log = rule.child("log", "nflog")
        element = rule.child(*ELEMENTS)
        if why := why_left_out(rule):
            self.ledger.problem(where, f"firewalld ignores this rule: {why}")
            return
        ends, gap = self._rich_ends(rule)
        priority = priority_of(rule)
        placed = "pre" if priority < 0 else "post"

        def put(base: str, own: str, *expr: dict[str, Any] | None, gap: str) -> None:
            # What a rule says that is not known may move it.
            for part in ("pre", own, "post") if unknown_attribute(rule) else (placed if priority else own,):
                self._rule(f"{base}_{part}", where, *expr, gap=gap)

        if element is not None and element.tag == "masquerade":
            if after:
                put(after, "allow", *ends, meta("oifname", "lo", "!="), {"masquerade": None}, gap=gap)
            return
        if element is not None and element.tag == "forward-port":
            if before:
                put(before, "allow", *ends, *forwarded(element), gap=gap)
            return
        if element is not None and element.tag == "tcp-mss-clamp":
            return
        if element is not None and element.tag == "icmp-block":
            # Rules for families the rule does not speak of can never match; firewalld leaves them out.
            options = [(each, "") for each in self._icmp(element)]
        else:
            options = [([], "")] if element is None else self._element(element)
        for conditions, missing in options:
            expr = [*ends, *conditions]
            said = gap or missing
            if log is not None:
                put(chain, "log", *expr, limited(log), {"log": {"prefix": log.get("prefix")}}, gap=said)
            if action is None:
                if element is not None and element.tag == "icmp-block":
                    put(chain, "deny", *expr, REJECT, gap=said)
                elif said and any(one.tag not in KNOWN for one in rule.children):
                    self._open(chain, where, *expr, gap=said, part=placed if priority else "")
                continue
            if action.tag == "mark":
                continue
            own = "allow" if action.tag == "accept" else "deny"
            put(chain, own, *expr, limited(action), verdict_of(action), gap=said)

    def _rich_ends(self, rule: Element) -> tuple[Expr, str]:
        expr: Expr = []
        strange = [one.tag for one in rule.children if one.tag not in KNOWN]
        strange += [f"{name} of {one.tag}" for one in (rule, *rule.children) if (name := unknown_attribute(one))]
        gap = f"'{strange[0]}' is not known inside a rich rule" if strange else ""
        if rule.get("family"):
            expr.append(meta("nfproto", rule.get("family")))
        for tag, side in (("destination", "daddr"), ("source", "saddr")):
            if (end := rule.child(tag)) is not None:
                address = end.get("address") or end.get("mac") or f"ipset:{end.get('ipset')}"
                inverted = end.get("invert", end.get("NOT", "no")).lower() in ("yes", "true")
                try:
                    expr.append(self._end(side, address, inverted))
                except NotUnderstoodError as error:
                    gap = str(error)
        return expr, gap

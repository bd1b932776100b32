"""firewalld's configuration into the rules it loads (firewalld(1), firewalld.zones(5), version 1.3 with nftables).

firewalld turns zones and policies into one nft table; the same chains in the same order are made here, each rule with the line
of the zone, policy or setting it stands for, so that what is shown is what `nft list ruleset` on the host shows.
"""

from __future__ import annotations

from typing import Any

from aiguille.model import NotUnderstoodError, Span
from aiguille.model import Zone as ModelZone
from aiguille.readers.assignments import Assigned, read_assignments
from aiguille.readers.bundle import Bundle
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.firewalld.config import (
    Element,
    Zone,
    parse,
    read_service,
    read_zone,
    shipped_policy,
    shipped_zone,
)
from aiguille.readers.firewalld.direct import read_direct
from aiguille.readers.firewalld.expressions import (
    Expr,
    address_value,
    forwarded,
    goto,
    jump,
    limited,
    matched,
    meta,
    mixed,
    on_interface,
    payload,
    port_match,
    priority_of,
    set_entry,
    states,
    verdict_of,
)
from aiguille.readers.firewalld.services import ICMP, SERVICES, Service
from aiguille.readers.nftables.build import Builder
from aiguille.readers.part import FirewallPart, with_implied

_ETC, _LIB = "etc/firewalld/", "usr/lib/firewalld/"
_SETTINGS = {"DefaultZone": "public", "LogDenied": "off", "IPv6_rpfilter": "yes", "RFC3964_IPv4": "yes"}
_PARTS = ("pre", "log", "deny", "allow", "post")
_REJECT = {"reject": {"type": "icmpx", "expr": "admin-prohibited"}}
_TUNNELLED = ("::/96", "::ffff:0.0.0.0/96", "2002::/24", "2002:a00::/24", "2002:7f00::/24", "2002:a9fe::/32",
              "2002:ac10::/28", "2002:c0a8::/32", "2002:e000::/19")  # fmt: skip
"""IPv6 addresses that hold IPv4 ones not to be routed (RFC 3964)."""
_RICH = frozenset(
    ["source", "destination", "service", "port", "protocol", "source-port", "icmp-block", "icmp-type", "masquerade",
     "forward-port", "tcp-mss-clamp", "log", "nflog", "audit", "accept", "reject", "drop", "mark"]
)  # fmt: skip
"""What a rich rule may hold (firewalld.richlanguage(5))."""
_SET_TYPES = {"ip": "ipv4_addr", "net": "ipv4_addr", "mac": "ether_addr", "iface": "ifname", "mark": "mark"}


def read(bundle: Bundle, ledger: LedgerBuilder) -> FirewallPart:
    """The rules firewalld would load."""
    return Writer(bundle, ledger).part()


class Writer:
    def __init__(self, bundle: Bundle, ledger: LedgerBuilder, home: Span | None = None) -> None:
        self.bundle = bundle
        self.ledger = ledger
        conf = bundle.get(f"{_ETC}firewalld.conf")
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
        return first.where if first is not None else (conf or next(self.bundle.under(_ETC))).span(1)

    def setting(self, name: str) -> Assigned:
        return self.settings.get(name) or Assigned(_SETTINGS[name], self.home)

    @property
    def log_denied(self) -> str:
        return self.setting("LogDenied").value.lower()

    # -- files ---------------------------------------------------------------------------------------------------

    def _files(self, kind: str) -> dict[str, ExportFile]:
        """XML files of a kind by name; those of /etc count above those shipped."""
        out: dict[str, ExportFile] = {}
        for root in (_LIB, _ETC):
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
            file = self.bundle.get(f"{_ETC}services/{name}.xml") or self.bundle.get(f"{_LIB}services/{name}.xml")
            if file is not None:
                self.named[name] = read_service(parse(file, self.ledger), self.ledger)
            elif name in SERVICES:
                self.named[name] = SERVICES[name]
        return self.named.get(name)

    # -- the table -----------------------------------------------------------------------------------------------

    def part(self) -> FirewallPart:
        self.builder.add("table", {"family": "inet", "name": "firewalld"}, self.home)
        self._sets()
        default = self.setting("DefaultZone").value
        # Zones come into play in order of name; interfaces bound later stand before those bound earlier.
        active = [z for name, z in sorted(self.zones.items()) if z.interfaces or z.sources or name == default]
        for zone in self.zones.values():
            if zone not in active:
                self.ledger.set_aside(
                    zone.where, "no interface and no source is bound to this zone, nor is it the default"
                )
        self._frame()
        self._dispatch(active, default)
        for policy in self.policies:
            if self._in_use(policy):
                self._policy(policy)
            else:
                self.ledger.set_aside(
                    policy.where, "nothing is bound to the zones at one end of this policy; it is not in use"
                )
        for policy in sorted(filter(self._in_use, self.policies), key=lambda one: one.priority):
            self._lead(policy)
        for zone in active:
            self._zone(zone)
        rulebases, sets = self.builder.finish()
        told = (*self.zones.values(), *self.policies)
        # What ships with the program has no lines of its own.
        stated = {_begin(said.where) for one in told for said in (*one.entries, *one.rules) if said.where != one.where}
        rulebases = with_implied(rulebases, lambda _, rule: _begin(rule.where) not in stated)
        for kind in ("services", "icmptypes", "helpers", "ipsets"):
            for file in self._files(kind).values():
                if not self.ledger.spoken_for(file.path, 1):
                    self.ledger.set_aside_file(file, "no zone or policy in use names this definition")
        if (lockdown := self.bundle.get(f"{_ETC}lockdown-whitelist.xml")) is not None:
            self.ledger.set_aside_file(lockdown, "who may change the firewall by its bus; no check needs it")
        return FirewallPart(
            (*rulebases, *read_direct(self.bundle.get(f"{_ETC}direct.xml"), self.ledger)),
            sets,
            zones=tuple(self._model_zone(zone) for zone in active),
            default_zone=default,
        )

    def _model_zone(self, zone: Zone) -> ModelZone:
        return ModelZone(zone.name, tuple(name for name in zone.interfaces if not name.endswith("+")), where=zone.where)

    def _rule(self, chain: str, where: Span, *expr: dict[str, Any] | None, gap: str = "") -> None:
        body: dict[str, Any] = {"family": "inet", "table": "firewalld", "chain": chain, "expr": [e for e in expr if e]}
        if gap:
            body |= {"gap": gap, "open": False}
        self.builder.add("rule", body, where)

    def _chain(self, name: str, where: Span, **base: Any) -> None:
        self.builder.add("chain", {"family": "inet", "table": "firewalld", "name": name, **base}, where)

    def _frame(self) -> None:
        """The base chains and what they decide before any zone."""
        home = self.home
        for name, hook, kind, priority in (
            ("nat_PREROUTING", "prerouting", "nat", -90), ("nat_POSTROUTING", "postrouting", "nat", 110),
            ("nat_OUTPUT", "output", "nat", -90), ("filter_PREROUTING", "prerouting", "filter", 10),
            ("filter_INPUT", "input", "filter", 10), ("filter_FORWARD", "forward", "filter", 10),
            ("filter_OUTPUT", "output", "filter", 10),
        ):  # fmt: skip
            self._chain(name, home, type=kind, hook=hook, prio=priority, policy="accept", policy_where=None)
        for point in (
            "filter_INPUT",
            "filter_FORWARD",
            "filter_OUTPUT",
            "nat_PREROUTING",
            "nat_POSTROUTING",
            "nat_OUTPUT",
        ):
            for suffix in ("POLICIES_pre", "ZONES", "POLICIES_post"):
                self._chain(f"{point}_{suffix}", home)
        self._rpfilter()
        for point in ("INPUT", "FORWARD"):
            chain = f"filter_{point}"
            self._rule(chain, home, states("established", "related"), {"accept": None})
            self._rule(chain, home, matched({"ct": {"key": "status"}}, "dnat", "in"), {"accept": None})
            self._rule(chain, home, meta("iifname", "lo"), {"accept": None})
            if self.log_denied != "off":
                self._rule(chain, home, states("invalid"), self._denied(), {"log": {"prefix": "STATE_INVALID_DROP: "}})
            self._rule(chain, home, states("invalid"), {"drop": None})
            if point == "FORWARD":
                self._rfc3964(chain)
            self._rule(chain, home, jump(f"{chain}_ZONES"))
            if self.log_denied != "off":
                self._rule(chain, home, self._denied(), {"log": {"prefix": "FINAL_REJECT: "}})
            self._rule(chain, home, _REJECT)
        self._rule("filter_OUTPUT", home, states("established", "related"), {"accept": None})
        self._rule("filter_OUTPUT", home, meta("oifname", "lo"), {"accept": None})
        self._rfc3964("filter_OUTPUT")
        for point in ("filter_OUTPUT", "nat_OUTPUT"):
            self._rule(point, home, jump(f"{point}_POLICIES_pre"))
            self._rule(point, home, jump(f"{point}_POLICIES_post"))
        for point in ("nat_PREROUTING", "nat_POSTROUTING"):
            self._rule(point, home, jump(f"{point}_ZONES"))

    def _rpfilter(self) -> None:
        setting = self.setting("IPv6_rpfilter")
        if setting.value.lower() in ("no", "false"):
            return
        types = {"set": ["nd-router-advert", "nd-neighbor-solicit"]}
        self._rule("filter_PREROUTING", setting.where, matched(payload("icmpv6", "type"), types), {"accept": None})
        missing = matched({"fib": {"result": "oif", "flags": ["saddr", "mark", "iif"]}}, False)
        self._rule("filter_PREROUTING", setting.where, meta("nfproto", "ipv6"), missing, {"drop": None})

    def _rfc3964(self, chain: str) -> None:
        setting = self.setting("RFC3964_IPv4")
        if setting.value.lower() in ("yes", "true"):
            held = {"set": [address_value(text) for text in _TUNNELLED]}
            reject = {"reject": {"type": "icmpv6", "expr": "addr-unreachable"}}
            if self.log_denied in ("unicast", "all"):
                log = {"log": {"prefix": "RFC3964_IPv4_REJECT: "}}
                self._rule(chain, setting.where, matched(payload("ip6", "daddr"), held), log, reject)
            else:
                self._rule(chain, setting.where, matched(payload("ip6", "daddr"), held), reject)

    def _denied(self) -> dict[str, Any] | None:
        """What LogDenied narrows logging to."""
        kind = self.log_denied
        return (
            None
            if kind in ("off", "all")
            else matched({"meta": {"key": "pkttype"}}, "host" if kind == "unicast" else kind)
        )

    def _dispatch(self, active: list[Zone], default: str) -> None:
        """Sources first, by name of zone, then interfaces, then the default zone."""
        for table, point, source, way, prefix in (
            ("filter", "INPUT", "saddr", "iifname", "IN"), ("filter", "FORWARD", "saddr", "iifname", "FWD"),
            ("nat", "PREROUTING", "saddr", "iifname", "PRE"), ("nat", "POSTROUTING", "daddr", "oifname", "POST"),
        ):  # fmt: skip
            chain = f"{table}_{point}_ZONES"
            for zone in active:
                for address, where in zone.sources:
                    self._guarded(
                        chain,
                        where,
                        [lambda a=address, s=source: self._end(s, a)],
                        goto(f"{table}_{prefix}_{zone.name}"),
                    )
            for zone in reversed(active):
                for name in reversed(zone.interfaces):
                    where = zone.bound.get(name, zone.where)
                    self._rule(chain, where, on_interface(way, name), goto(f"{table}_{prefix}_{zone.name}"))
            self._rule(chain, self.setting("DefaultZone").where, goto(f"{table}_{prefix}_{default}"))

    def _guarded(self, chain: str, where: Span, parts: list[Any], *rest: dict[str, Any] | None) -> None:
        """A rule whose conditions may not be understood: it is then kept as one that may match."""
        expr: Expr = []
        gap = ""
        for part in parts:
            try:
                found = part()
            except NotUnderstoodError as error:
                gap = str(error)
                continue
            expr += found if isinstance(found, list) else [found]
        self._rule(chain, where, *expr, *rest, gap=gap)

    # -- zones and policies ---------------------------------------------------------------------------------------

    def _zone(self, zone: Zone) -> None:
        for table, point, prefix in (
            ("filter", "INPUT", "IN"), ("filter", "FORWARD", "FWD"),
            ("nat", "PREROUTING", "PRE"), ("nat", "POSTROUTING", "POST"),
        ):  # fmt: skip
            name = f"{table}_{prefix}_{zone.name}"
            self._body(zone, name, table, f"{table}_{point}", is_input=point == "INPUT")
            if point == "FORWARD" and zone.forward:
                for interface in zone.interfaces:
                    self._rule(f"{name}_allow", zone.where, on_interface("oifname", interface), {"accept": None})
                for address, where in zone.sources:
                    self._guarded(f"{name}_allow", where, [lambda a=address: self._end("daddr", a)], {"accept": None})
        self._fill(zone, f"filter_IN_{zone.name}", f"nat_PRE_{zone.name}", f"nat_POST_{zone.name}")

    def _body(self, zone: Zone, name: str, table: str, point: str, *, is_input: bool) -> None:
        """The chain of a zone or policy with its five parts and its end."""
        self._chain(name, zone.where)
        for part in _PARTS:
            self._chain(f"{name}_{part}", zone.where)
        if not zone.is_policy:
            self._rule(name, zone.where, jump(f"{point}_POLICIES_pre"))
        for part in _PARTS:
            self._rule(name, zone.where, jump(f"{name}_{part}"))
        if not zone.is_policy:
            self._rule(name, zone.where, jump(f"{point}_POLICIES_post"))
        if table != "filter":
            return
        target = zone.target
        open_to_icmp = target not in ("DROP", "%%REJECT%%", "REJECT") and (target != "ACCEPT" or zone.inverted)
        if is_input and open_to_icmp and (zone.inverted or not zone.is_policy):
            icmp = meta("l4proto", {"set": ["icmp", "ipv6-icmp"]})
            if zone.inverted and self.log_denied != "off":
                self._rule(name, zone.where, icmp, self._denied(), {"log": {"prefix": f"{name}_ICMP_BLOCK: "}})
            self._rule(name, zone.where, icmp, _REJECT if zone.inverted else {"accept": None})
        refuses = target in ("default", "REJECT", "%%REJECT%%", "DROP")
        if refuses and self.log_denied != "off":
            word = "DROP" if target == "DROP" else "REJECT"
            self._rule(name, zone.where, self._denied(), {"log": {"prefix": f"{name}_{word}: "}})
        if target in ("default", "REJECT", "%%REJECT%%"):
            self._rule(name, zone.where, _REJECT)
        elif target in ("ACCEPT", "DROP"):
            self._rule(name, zone.where, {target.lower(): None})

    def _policy(self, policy: Zone) -> None:
        """The chains of a policy and what it lets in."""
        made: dict[tuple[str, str], str] = {}
        for table, point, prefix in self._points(policy):
            made[table, prefix] = name = f"{table}_{prefix}_policy_{policy.name}"
            self._body(policy, name, table, f"{table}_{point}", is_input=point == "INPUT")
        self._fill(
            policy,
            made.get(("filter", "IN")) or made.get(("filter", "OUT")) or made.get(("filter", "FWD"), ""),
            made.get(("nat", "PRE")) or made.get(("nat", "OUT"), ""),
            made.get(("nat", "POST"), ""),
        )

    def _points(self, policy: Zone) -> list[tuple[str, str, str]]:
        """Table, point and prefix of the chains a policy has."""
        if "HOST" in policy.egress:
            before = [("nat", "PREROUTING", "PRE")] if "ANY" in policy.ingress else []
            return [("filter", "INPUT", "IN"), *before]
        if "HOST" in policy.ingress:
            return [("filter", "OUTPUT", "OUT"), ("nat", "OUTPUT", "OUT")]
        points = [("filter", "FORWARD", "FWD"), ("nat", "POSTROUTING", "POST")]
        if "ANY" in policy.egress or not any(self._zone_of(name).interfaces for name in policy.egress):
            points.append(("nat", "PREROUTING", "PRE"))
        return points

    def _in_use(self, policy: Zone) -> bool:
        """Whether both its ends have a zone that something is bound to (firewalld.policies(5))."""
        return all(
            any(
                name in ("ANY", "HOST") or self._zone_of(name).interfaces or self._zone_of(name).sources
                for name in names
            )
            for names in (policy.ingress, policy.egress)
        )

    def _zone_of(self, name: str) -> Zone:
        return self.zones.get(name) or Zone(name, self.home)

    def _lead(self, policy: Zone) -> None:
        """Jumps to a policy, one for each pair of an end it comes from and an end it goes to."""
        part = "pre" if policy.priority < 0 else "post"
        sources = self._ends(policy.ingress, "iifname", "saddr")
        targets = self._ends(policy.egress, "oifname", "daddr")
        for table, point, prefix in self._points(policy):
            for source in sources or (None,):
                for goal in targets or (None,):
                    if not mixed(source, goal):
                        chain = f"{table}_{point}_POLICIES_{part}"
                        self._rule(chain, policy.where, source, goal, jump(f"{table}_{prefix}_policy_{policy.name}"))

    def _ends(self, names: list[str], way: str, side: str) -> Expr:
        """What tells traffic of some zones; empty for any, and for the host.

        With nothing bound firewalld's jump has no condition on that side either.
        """
        if not names or "ANY" in names or "HOST" in names:
            return []
        out: Expr = []
        plain: list[str] = []
        for name in names:
            zone = self._zone_of(name)
            out += [found for one in zone.interfaces if one.endswith("+") and (found := on_interface(way, one))]
            plain += [one for one in zone.interfaces if not one.endswith("+")]
        if plain:
            out.append(matched({"meta": {"key": way}}, {"set": sorted(set(plain))}))
        for name in names:
            for address, where in self._zone_of(name).sources:
                try:
                    out.append(self._end(side, address))
                except NotUnderstoodError as error:
                    self.ledger.unread(where, str(error))
        return out

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
                part, verdict = ("allow", {"accept": None}) if zone.inverted else ("deny", _REJECT)
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
            case _:
                for each, gap in self._element(one):
                    self._rule(f"{chain}_allow", one.where, *each, {"accept": None}, gap=gap)

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
        action = rule.child("accept", "reject", "drop", "mark")
        log = rule.child("log", "nflog")
        element = rule.child(
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
        ends, gap = self._rich_ends(rule)
        priority = priority_of(rule)
        placed = "pre" if priority < 0 else "post"
        if element is not None and element.tag == "masquerade":
            if after:
                part = placed if priority else "allow"
                self._rule(f"{after}_{part}", where, *ends, meta("oifname", "lo", "!="), {"masquerade": None}, gap=gap)
            return
        if element is not None and element.tag == "forward-port":
            if before:
                self._rule(f"{before}_{placed if priority else 'allow'}", where, *ends, *forwarded(element), gap=gap)
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
                self._rule(
                    f"{chain}_{placed if priority else 'log'}", where, *expr, limited(log), {"log": {"prefix": log.get("prefix")}},
                    gap=said,
                )  # fmt: skip
            if action is None:
                if element is not None and element.tag == "icmp-block":
                    self._rule(f"{chain}_{placed if priority else 'deny'}", where, *expr, _REJECT, gap=said)
                continue
            if action.tag == "mark":
                continue
            part = placed if priority else ("allow" if action.tag == "accept" else "deny")
            self._rule(f"{chain}_{part}", where, *expr, limited(action), verdict_of(action), gap=said)

    def _rich_ends(self, rule: Element) -> tuple[Expr, str]:
        expr: Expr = []
        strange = [one.tag for one in rule.children if one.tag not in _RICH]
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


def _begin(where: Span) -> tuple[str, int]:
    """The line on which something begins: a rule of several lines has all of them."""
    return where.file, where.first

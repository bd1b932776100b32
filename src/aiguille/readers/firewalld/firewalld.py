"""firewalld's configuration into the rules it loads (firewalld(1), firewalld.zones(5), version 1.3 with nftables).

firewalld turns zones and policies into one nft table; the same chains in the same order are made here, each rule with the line
of the zone, policy or setting it stands for, so that what is shown is what `nft list ruleset` on the host shows.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from aiguille.model import Fact, NotUnderstoodError, Span, stated
from aiguille.model import Zone as ModelZone
from aiguille.readers.bundle import Bundle
from aiguille.readers.files import LedgerBuilder
from aiguille.readers.firewalld.config import (
    Zone,
)
from aiguille.readers.firewalld.direct import read_direct
from aiguille.readers.firewalld.expressions import (
    Expr,
    address_value,
    goto,
    jump,
    matched,
    meta,
    mixed,
    on_interface,
    payload,
    states,
)
from aiguille.readers.firewalld.filling import ETC, REJECT, Filler
from aiguille.readers.part import FirewallPart, as_made, with_implied

_PARTS = ("pre", "log", "deny", "allow", "post")
_TUNNELLED = ("::/96", "::ffff:0.0.0.0/96", "2002::/24", "2002:a00::/24", "2002:7f00::/24", "2002:a9fe::/32",
              "2002:ac10::/28", "2002:c0a8::/32", "2002:e000::/19")  # fmt: skip
"""IPv6 addresses that hold IPv4 ones not to be routed (RFC 3964)."""


def read(bundle: Bundle, ledger: LedgerBuilder) -> FirewallPart:
    """The rules firewalld would load."""
    return Writer(bundle, ledger).part()


class Writer(Filler):
    """The table, put together from its frame, zones and policies."""

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
        described = (*self.zones.values(), *self.policies)
        # What ships with the program has no lines of its own.
        stated = {
            _begin(said.where) for one in described for said in (*one.entries, *one.rules) if said.where != one.where
        }
        rulebases = with_implied(as_made(rulebases), lambda _, rule: _begin(rule.where) not in stated)
        for kind in ("services", "icmptypes", "helpers", "ipsets"):
            for file in self._files(kind).values():
                if not self.ledger.spoken_for(file.path, 1):
                    self.ledger.set_aside_file(file, "no zone or policy in use names this definition")
        if (lockdown := self.bundle.get(f"{ETC}lockdown-whitelist.xml")) is not None:
            self.ledger.set_aside_file(lockdown, "who may change the firewall by its bus; no check needs it")
        return FirewallPart(
            (*rulebases, *read_direct(self.bundle.get(f"{ETC}direct.xml"), self.ledger, self.bundle.sets)),
            sets,
            zones=tuple(self._model_zone(zone) for zone in active),
            default_zone=default,
            system=tuple(self._kernel()),
        )

    def _kernel(self) -> Iterator[Fact]:
        """What firewalld.conf(5) says of forged sources, where the export holds the line."""
        if (said := self.settings.get("IPv6_rpfilter")) is not None:
            yield Fact("IPv6_rpfilter", stated(said.value.lower(), said.where))

    def _model_zone(self, zone: Zone) -> ModelZone:
        return ModelZone(zone.name, tuple(name for name in zone.interfaces if not name.endswith("+")), where=zone.where)

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
                self._rule(chain, home, self._denied(), {"log": {"prefix": "FINALREJECT: "}})
            self._rule(chain, home, REJECT)
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
                log = {"log": {"prefix": "RFC3964_IPv4REJECT: "}}
                self._rule(chain, setting.where, matched(payload("ip6", "daddr"), held), log, reject)
            else:
                self._rule(chain, setting.where, matched(payload("ip6", "daddr"), held), reject)

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
            self._rule(name, zone.where, icmp, REJECT if zone.inverted else {"accept": None})
        refuses = target in ("default", "REJECT", "%%REJECT%%", "DROP")
        if refuses and self.log_denied != "off":
            word = "DROP" if target == "DROP" else "REJECT"
            self._rule(name, zone.where, self._denied(), {"log": {"prefix": f"{name}_{word}: "}})
        if target in ("default", "REJECT", "%%REJECT%%"):
            self._rule(name, zone.where, REJECT)
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
        """What shows traffic of some zones; empty for any, and for the host.

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


def _begin(where: Span) -> tuple[str, int]:
    """The line on which something begins: a rule of several lines has all of them."""
    return where.file, where.first

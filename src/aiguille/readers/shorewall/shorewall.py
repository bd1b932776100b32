"""Shorewall's tables into the rules it loads (shorewall(8), version 5.2).

Shorewall compiles its tables into chains of iptables: one for each pair of zones, entered by way of one for each interface. The same
is done here. Chains that its optimiser would merge stay apart, so that every rule keeps the line it stands for; what packets meet
is the same.
"""

from __future__ import annotations

from collections.abc import Iterable

from msgspec.structs import replace

from aiguille.model import Addresses, Fact, NotUnderstoodError, Rulebase, Span, UnreadableError
from aiguille.model import Interface as ModelInterface
from aiguille.model import Zone as ModelZone
from aiguille.model.spelling import spell_operand
from aiguille.readers.bundle import Bundle
from aiguille.readers.files import LedgerBuilder
from aiguille.readers.iptables.tables import Tables
from aiguille.readers.literals import is_whole
from aiguille.readers.part import FirewallPart, as_made, with_implied
from aiguille.readers.shorewall.actions import FLAG_TESTS, MORE_FLAG_TESTS, Call, split_actions
from aiguille.readers.shorewall.bodies import ActionLine, Columns
from aiguille.readers.shorewall.columns import address_words, negated, rate_words
from aiguille.readers.shorewall.kernel import kernel_settings
from aiguille.readers.shorewall.lines import Folder, parse_or_raise
from aiguille.readers.shorewall.policies import Policies, Policy
from aiguille.readers.shorewall.rules import Rules
from aiguille.readers.shorewall.sections import LATER, LIMIT, SIGNS, Pair
from aiguille.readers.shorewall.translation import check_reverse_paths, fill, translate
from aiguille.readers.shorewall.zones import Group, Interface, Network, Zone

_SHIPPED = {
    "ACCEPT_DEFAULT": "none", "AUTOCOMMENT": "Yes", "AUTOHELPERS": "Yes", "BLACKLIST": "NEW,INVALID,UNTRACKED",
    "BLACKLIST_DISPOSITION": "DROP", "BLACKLIST_LOG_LEVEL": "", "DISABLE_IPV6": "No", "DROP_DEFAULT": "Broadcast(DROP),Multicast(DROP)",
    "DYNAMIC_BLACKLIST": "Yes", "FASTACCEPT": "No", "IMPLICIT_CONTINUE": "No", "INVALID_DISPOSITION": "CONTINUE",
    "INVALID_LOG_LEVEL": "", "LOGFORMAT": "Shorewall:%s:%s:", "LOGLIMIT": "", "LOG_LEVEL": "info", "MULTICAST": "No",
    "NFQUEUE_DEFAULT": "none", "OPTIMIZE": "0", "QUEUE_DEFAULT": "none", "REJECT_DEFAULT": "Broadcast(DROP),Multicast(DROP)",
    "RELATED_DISPOSITION": "ACCEPT", "RELATED_LOG_LEVEL": "", "ROUTE_FILTER": "No", "RPFILTER_DISPOSITION": "DROP",
    "RPFILTER_LOG_LEVEL": "", "SFILTER_DISPOSITION": "DROP", "SFILTER_LOG_LEVEL": "", "SMURF_DISPOSITION": "DROP",
    "SMURF_LOG_LEVEL": "", "STARTUP_ENABLED": "Yes", "TCP_FLAGS_DISPOSITION": "DROP", "TCP_FLAGS_LOG_LEVEL": "",
    "UNTRACKED_DISPOSITION": "CONTINUE", "UNTRACKED_LOG_LEVEL": "",
}  # fmt: skip
"""Settings that change what is let through, with their values where shorewall.conf does not set them (shorewall.conf(5))."""

_ASIDE = {
    "accounting": "counts packets and decides nothing", "stoppedrules": "holds only while Shorewall is stopped",
    "routestopped": "holds only while Shorewall is stopped", "conntrack": "attaches helpers to connections",
    "mangle": "marks packets for routing and traffic control", "tcrules": "marks packets for routing and traffic control",
    "providers": "routes packets", "rtrules": "routes packets", "routes": "routes packets", "tcclasses": "shapes traffic",
    "tcdevices": "shapes traffic", "tcfilters": "shapes traffic", "tcinterfaces": "shapes traffic", "tcpri": "shapes traffic",
    "tos": "marks packets", "ecn": "marks packets", "proxyarp": "answers at the link layer", "proxyndp": "answers at the link layer",
    "arprules": "filters at the link layer", "vardir": "says where Shorewall keeps its state", "secmarks": "labels packets",
}  # fmt: skip
_MISSING = {
    "nat": "one-to-one translations", "netmap": "translations of networks", "maclist": "refusals by hardware address",
    "tunnels": "tunnels that Shorewall opens by itself", "initdone": "a script", "init": "a script", "start": "a script",
    "started": "a script", "compile": "a script", "lib.private": "a script", "refresh": "a script", "refreshed": "a script",
}  # fmt: skip
"""Files that change what is let through and are not followed."""
_DHCP = {4: "67:68", 6: "546:547"}
_ENDS = {"INPUT": "DROP", "OUTPUT": "REJECT", "FORWARD": "REJECT"}
"""What a base chain ends with where no policy says it."""

_STATEMENTS = ("rules", "blrules", "mangle", "snat", "masq", "conntrack", "stoppedrules")
"""Files whose lines are about packets; those of others say what zones, interfaces and policies there are."""


def read(bundle: Bundle, ledger: LedgerBuilder) -> FirewallPart:
    """The rules Shorewall and Shorewall6 would load, each from its folder."""
    rulebases: list[Rulebase] = []
    zones: dict[str, ModelZone] = {}
    interfaces: dict[str, ModelInterface] = {}
    system: list[Fact] = []
    shut = None
    for family, root in ((4, "etc/shorewall/"), (6, "etc/shorewall6/")):
        if bundle.get(f"{root}zones") is None:
            continue
        one = _Compiler(bundle, root, family, ledger)
        conf = f"{root}shorewall{'6' if family == 6 else ''}.conf"
        if bundle.get(conf) is None:
            why = f"{conf} is missing from the copy; settings count as shipped until all of the folder is here"
            ledger.problem(one.folder.home, why)
        made = one.rulebases()
        _refuse_other_family(made, family)
        rulebases += made
        system += kernel_settings(one.folder, one.network)
        for zone in one.network.order:
            zones.setdefault(zone.name, ModelZone(zone.name, tuple(_plain(zone)), where=zone.where))
        for interface in one.network.interfaces.values():
            if not interface.name.endswith("+"):
                interfaces.setdefault(interface.name, ModelInterface(interface.name, where=interface.where))
        if family == 4 and one.folder.is_on("DISABLE_IPV6"):
            shut = one.folder.setting_where("DISABLE_IPV6")
    if not rulebases:
        root = "etc/shorewall" if bundle.has("etc/shorewall/") else "etc/shorewall6"
        raise UnreadableError(
            f"{root}: the file 'zones' is missing from the copy of this folder; copy all of it, as root"
        )
    if shut is not None and not any(6 in one.families for one in rulebases):
        rulebases += _closed(ledger, shut)
    marked = with_implied(as_made(rulebases), lambda _, rule: rule.where.file.rpartition("/")[2] not in _STATEMENTS)
    found = FirewallPart(marked, zones=tuple(zones.values()), interfaces=tuple(interfaces.values()))
    return replace(found, system=tuple(system))


def _refuse_other_family(rulebases: Iterable[Rulebase], family: int) -> None:
    """Shorewall takes an address of the other family for the name of a host it does not know, and starts with nothing."""
    for base in rulebases:
        for _, rule in base.rules():
            for condition in rule.match.conditions:
                for one in condition.operands:
                    if isinstance(one, Addresses) and one.family != family:
                        raise UnreadableError(
                            f"{rule.where}: {spell_operand(one)} is no address of IPv{family}; Shorewall refuses such a "
                            "configuration, so these files are not what runs"
                        )


_REFUSALS = ("DROP", "A_DROP", "REJECT")
_DISPOSITIONS: dict[str, tuple[str, ...]] = {
    "BLACKLIST": (*_REFUSALS, "A_REJECT"),
    "INVALID": (*_REFUSALS, "CONTINUE"),
    "RELATED": (*_REFUSALS, "CONTINUE", "ACCEPT"),
    "RPFILTER": ("DROP", "A_DROP"),  # the others it takes only where no interface has the option
    "SFILTER": (*_REFUSALS, "A_REJECT"),
    "SMURF": ("DROP", "A_DROP"),
    "TCP_FLAGS": (*_REFUSALS, "A_REJECT", "ACCEPT"),
    "UNTRACKED": (*_REFUSALS, "CONTINUE", "ACCEPT"),
}
"""What Shorewall 5.2 takes as a value of each of these settings; with any other it does not start."""


def _refuse_dispositions(folder: Folder, network: Network) -> None:
    for kind, possible in _DISPOSITIONS.items():
        name = f"{kind}_DISPOSITION"
        if kind == "RPFILTER" and not any(one.has("rpfilter") for one in network.interfaces.values()):
            continue
        if folder.setting(name) not in ("", *possible):
            raise UnreadableError(
                f"{folder.setting_where(name)}: '{folder.setting(name)}' is no value of {name}, which may be "
                f"{', '.join(possible)}; Shorewall refuses such a configuration, so these files are not what runs"
            )


def _plain(zone: Zone) -> list[str]:
    """Interfaces all of whose hosts are of the zone."""
    return sorted({g.interface.name for g in zone.groups if not g.networks and not g.interface.name.endswith("+")})


def _closed(ledger: LedgerBuilder, where: Span) -> list[Rulebase]:
    """IPv6 as Shorewall leaves it with DISABLE_IPV6: refused but within the host."""
    tables = Tables(6, ledger)
    table = tables.table("filter", where)
    for name in _ENDS:
        tables.chain(table, name, where, "DROP")
    tables.append(table, "INPUT", where, ["-i", "lo", "-j", "ACCEPT"])
    tables.append(table, "OUTPUT", where, ["-o", "lo", "-j", "ACCEPT"])
    return tables.finish()


class _Compiler:
    """One folder into tables."""

    def __init__(self, bundle: Bundle, root: str, family: int, ledger: LedgerBuilder) -> None:
        self.family, self.ledger = family, ledger
        self.folder = Folder(bundle, root, family, ledger, _SHIPPED)
        self.network = Network(self.folder)
        if limit := self.folder.setting("LOGLIMIT"):
            parse_or_raise(self.folder.setting_where("LOGLIMIT"), rate_words, limit)
        _refuse_dispositions(self.folder, self.network)
        self.rules = Rules(self.folder, self.network)
        self.tables = Tables(family, ledger, bundle.sets)
        self.home = self.folder.home
        self.filter = self.tables.table("filter", self.home)
        self._account()

    def rulebases(self) -> list[Rulebase]:
        for chain in _ENDS:
            self.tables.chain(self.filter, chain, self.home, "DROP")
        self.rules.read()
        self.blacklisted = bool(self.folder.rows("blrules"))
        self.policies = Policies(self.folder, self.network)
        # What matches every interface would take the loopback's packets as well.
        first = any(one.name == "+" for one in self.network.interfaces.values())
        if first:
            self._within()
        self._interfaces()
        if not first:
            self._within()
        self._ends()
        for name, entries in self.rules.calls.chains.items():
            self._fill(name, entries)
        self._common()
        translate(self.tables, self.folder, self.network, self.policies, self.rules)
        check_reverse_paths(self.tables, self.folder, self.network, self.rules.calls.recorded)
        return self.tables.finish()

    def _account(self) -> None:
        """Say of every file of the folder what becomes of it."""
        root, program = self.folder.root, self.folder.root.strip("/").rsplit("/", 1)[-1]
        for file in self.folder.bundle.under(root):
            name = file.place.removeprefix(root)
            if name in _ASIDE:
                self.ledger.set_aside_file(file, _ASIDE[name])
            elif name in _MISSING and any(one.strip() and one.strip()[0] != "#" for one in file.lines):
                verb = "is" if _MISSING[name] == "a script" else "are"
                why = f"{_MISSING[name]}, which {verb} not followed"
                self.ledger.problem(
                    file.span(1), f"this file holds {why}; what it lets through or refuses is missing here"
                )
                for number, line in enumerate(file.lines, 1):
                    if line.strip() and line.strip()[0] != "#":
                        self.ledger.unread(file.span(number), why)
                    else:
                        self.ledger.set_aside(file.span(number), "comment")
        if self.folder.setting("STARTUP_ENABLED").lower() == "no":
            self.ledger.problem(
                self.folder.setting_where("STARTUP_ENABLED"),
                f"{program} does not start (STARTUP_ENABLED=No); the rules are not in force",
            )

    # -- chains of the filter table ------------------------------------------------------------------------------

    def _chain(self, name: str, where: Span) -> str:
        if name not in self.filter.chains:
            self.tables.chain(self.filter, name, where)
        return name

    def _add(self, chain: str, where: Span, *words: str) -> None:
        self.tables.append(self.filter, chain, where, list(words))

    def _fill(self, name: str, entries: list[ActionLine]) -> None:
        fill(self.tables, self.filter, name, entries, self.home)

    def _interfaces(self) -> None:
        """Base chains by interface, interfaces by the hosts of each zone, zones by where packets leave."""
        if self.folder.is_on("FASTACCEPT"):
            self._add("OUTPUT", self.folder.setting_where("FASTACCEPT"), *_states(self._fast()), "-j", "ACCEPT")
        for interface in self.network.interfaces.values():
            if not any(zone.interfaces.get(interface.name) for zone in self.network.order):
                continue
            where, name = interface.where, interface.name
            into, across, out = (self._chain(f"{name}_{end}", where) for end in ("in", "fwd", "out"))
            self._add("INPUT", where, "-i", name, "-j", into)
            self._add("FORWARD", where, "-i", name, "-j", across)
            self._add("OUTPUT", where, "-o", name, "-j", out)
            if not self.blacklisted:
                self._options(interface, into, across, out)
            else:
                self._options(interface, *(self._chain(f"{name}_{end}", where) for end in ("iop", "fop", "oop")))
        for zone in self.network.order:
            for group in zone.groups:
                self._enter(zone, group)
        for zone in self.network.order:
            self._leave(zone)
        for interface in self.network.interfaces.values():
            if interface.has("unmanaged"):
                self._add("INPUT", interface.where, "-i", interface.name, "-j", "ACCEPT")
                self._add("OUTPUT", interface.where, "-o", interface.name, "-j", "ACCEPT")

    def _fast(self) -> str:
        plain = self.folder.setting("RELATED_DISPOSITION") == "ACCEPT" and not self.folder.setting("RELATED_LOG_LEVEL")
        return "ESTABLISHED,RELATED" if plain else "ESTABLISHED"

    def _fresh(self) -> list[str]:
        """States that blacklists and checks of oddities look at."""
        said = self.folder.setting("BLACKLIST").upper()
        return [] if said == "ALL" else _states(said)

    def _options(self, interface: Interface, into: str, across: str, out: str) -> None:
        where, name = interface.where, interface.name
        if nets := interface.options.get("sfilter"):
            for net in nets.split(","):
                for chain in (into, across):
                    self._add(chain, where, "-s", net, "-g", self._chain("sfilter", where))
        elif not (
            name == "+"
            or any(interface.has(one) for one in ("routeback", "routefilter", "bridge", "rpfilter"))
            or self.folder.is_on("ROUTE_FILTER")
        ):
            self._add(across, where, "-o", name, "-g", self._chain("sfilter", where))
        kind, *rest = self.folder.setting("DYNAMIC_BLACKLIST").split(":")
        if kind.startswith("ipset"):
            held = rest[0] if rest and rest[0] else f"SW_DBL{self.family}"
            for chain in (into, across):
                self._add(chain, where, *self._fresh(), "-m", "set", "--match-set", held, "src", "-j", "DROP")
        if self.folder.is_on("FASTACCEPT"):
            for chain in (into, across):
                self._add(chain, where, *_states(self._fast()), "-j", "ACCEPT")
        if interface.has("nosmurfs"):
            for chain in (into, across):
                self._add(chain, where, *self._fresh(), "-j", self._chain("smurfs", where))
        if interface.has("dhcp"):
            for chain in (into, out):
                self._add(chain, where, "-p", "udp", "--dport", _DHCP[self.family], "-j", "ACCEPT")
        if interface.has("tcpflags", "1"):
            for chain in (into, across):
                self._add(chain, where, "-p", "tcp", "-j", self._chain("tcpflags", where))

    def _enter(self, zone: Zone, group: Group) -> None:
        name, firewall = group.interface.name, self.network.zones[self.network.firewall]
        if "destonly" not in group.options:
            if group.networks and group.interface.has("dhcp") and self.family == 4:
                # Whoever asks for an address has none of these networks yet.
                words = ("-s", "0.0.0.0", "-p", "udp", "--dport", _DHCP[4], "-j", "ACCEPT")
                self._add(f"{name}_in", group.where, *words)
            self._hosts(f"{name}_in", group, zone, "s", self._pair(zone, firewall))
            self._hosts(f"{name}_fwd", group, zone, "s", self._chain(f"{zone.name}_frwd", zone.where))
        self._hosts(f"{name}_out", group, zone, "d", self._pair(firewall, zone))

    def _leave(self, zone: Zone) -> None:
        chain = self._chain(f"{zone.name}_frwd", zone.where)
        for other in self.network.order:
            if other is zone and not zone.within:
                continue
            target = self._pair(zone, other)
            for group in other.groups:
                alone = other is zone and len(zone.interfaces) < 2 and "routeback" not in group.options
                if not alone and "sourceonly" not in group.options:
                    self._hosts(chain, group, other, "d", target, "-o", group.interface.name)

    def _hosts(self, chain: str, group: Group, zone: Zone, way: str, target: str | None, *words: str) -> None:
        """Send packets of a group of hosts to a chain."""
        if target is None:
            return
        where = group.where
        secure = ["-m", "policy", "--pol", "ipsec", "--dir", "in" if way == "s" else "out"] if zone.ipsec else []
        left = [word for net in group.without for word in negated(address_words(net, way))]
        for net in group.networks or ("",):
            if net == "dynamic":
                held = f"{zone.name}_{group.interface.name}"
                match = ["-m", "set", "--match-set", held, "src" if way == "s" else "dst"]
            else:
                match = address_words(net, way) if net else []
            self._add(chain, where, *words, *match, *left, *secure, "-j", target)
            if chain.endswith("_out") and net and "broadcast" in group.options and self.family == 4:
                self._add(chain, where, "-d", "255.255.255.255", "-j", target)

    def _within(self) -> None:
        """What becomes of packets within the host."""
        for name, option in (("INPUT", "-i"), ("OUTPUT", "-o")):
            own = self.network.zones[self.network.firewall]
            inner = self._pair(own, own) if name == "OUTPUT" and self._inner(own) else None
            self._add(name, self.home, option, "lo", *(("-j", inner) if inner else ("-j", "ACCEPT")))

    def _ends(self) -> None:
        firewall = self.network.firewall
        for chain, source, dest in (("INPUT", "all", firewall), ("FORWARD", "all", "all"), ("OUTPUT", firewall, "all")):
            policy = self.policies.first(source, dest)
            if policy is None:
                name, level = _ENDS[chain], self.folder.setting("LOG_LEVEL")
                policy = Policy(Call(name, level=level), self.home, self.folder.setting(f"{name}_DEFAULT"))
            self._decide(chain, policy)

    def _inner(self, own: Zone) -> bool:
        """Whether the tables say anything of packets within the host."""
        said = self.rules.sections.pairs.get((own.name, own.name))
        return (said is not None and not said.is_empty) or self.policies.between(own, own).where is not own.where

    def _pair(self, source: Zone, dest: Zone) -> str | None:
        """The chain for packets from one zone to another; None where no packet ever goes."""
        name = f"{source.name}-{dest.name}"
        policy = self.policies.between(source, dest)
        if policy.action.name == "NONE":
            return None
        if name in self.filter.chains:
            return name
        pair = self.rules.sections.pairs.get((source.name, dest.name), Pair())
        asked = self.blacklisted and self._asks(source, dest)
        if pair.is_empty and policy.action.name == "CONTINUE" and not asked:
            return None
        self._chain(name, policy.where)
        if pair.blacklist:
            self._fill(f"{name}~", pair.blacklist)
            self._add(name, policy.where, *self._fresh(), "-j", f"{name}~")
        if self.blacklisted:
            self._options_within(name, source, dest)
        if not pair.referenced and (asked or not self._is_bare(policy, source is dest)):
            self.rules.sections.finish(pair, name, "")
        for state, entries in pair.states.items():
            self._fill(f"{SIGNS[state]}{name}", _placed(entries, policy.where))
        for one in _placed(pair.body, policy.where):
            if one.target == LIMIT:
                if policy.rate:
                    self._limited(name, policy)
            else:
                self._fill(name, [one])
        if not any(one.catches_all for one in pair.body):
            self._decide(name, policy)
        return name

    def _asks(self, source: Zone, dest: Zone) -> bool:
        """Whether an interface asks for anything on the way of a pair."""
        if source.name == self.network.firewall:
            return any(interface.has("dhcp") for interface in dest.interfaces.values())
        return bool(source.interfaces) and (
            self.folder.setting("DYNAMIC_BLACKLIST").lower() != "no"
            or any(self._checks(interface) for interface in source.interfaces.values())
        )

    @staticmethod
    def _checks(interface: Interface) -> bool:
        return interface.has("tcpflags", "1") or any(interface.has(name) for name in ("nosmurfs", "dhcp", "sfilter"))

    def _is_bare(self, policy: Policy, within: bool) -> bool:
        """Whether the policy of a pair without rules is all there is: states then have no say in it.

        So it is within a zone that no policy names, and wherever the optimiser (OPTIMIZE, bit 2) finds nothing but a verdict.
        """
        if within and not policy.name:
            return True
        said = self.folder.setting("OPTIMIZE").lower()
        optimised = said in ("all", "yes") or (is_whole(said) and int(said) & 2)
        plain = policy.action.name == "ACCEPT" or self.folder.is_on("FASTACCEPT")
        rest = split_actions(policy.defaults) or policy.action.logs or policy.rate or self.folder.is_on("MULTICAST")
        return bool(optimised) and plain and not rest

    def _options_within(self, name: str, source: Zone, dest: Zone) -> None:
        """With blacklists, what interfaces ask for comes after those."""
        if source.name == self.network.firewall:
            for interface in dest.interfaces.values():
                # Shorewall 5.2 does not tell the zone's interfaces apart here.
                self._add(name, interface.where, "-j", f"{interface.name}_oop")
            return
        end = "iop" if dest.name == self.network.firewall else "fop"
        for interface in source.interfaces.values():
            self._add(name, interface.where, "-i", interface.name, "-j", f"{interface.name}_{end}")

    def _limited(self, name: str, policy: Policy) -> None:
        """New TCP connections above the rate of a policy are refused."""
        chain = f"@{policy.name}"
        if chain not in self.filter.chains:
            self._chain(chain, policy.where)
            self._add(chain, policy.where, *rate_words(policy.rate), "-j", "RETURN")
            if policy.action.logs:
                self._add(chain, policy.where, *self.rules.calls.recorded(policy.action.level, chain, "DROP"))
            self._add(chain, policy.where, "-j", "DROP")
        self._add(name, policy.where, "-p", "tcp", "--tcp-flags", "FIN,SYN,RST,ACK", "SYN", "-j", chain)

    def _decide(self, chain: str, policy: Policy) -> None:
        """The end of a chain: actions by default, the record, the policy itself."""
        said = self.folder.said.get(f"{policy.action.name}_DEFAULT")
        where = said.where if said is not None and policy.defaults == said.value else policy.where
        try:
            defaults = self.rules.calls.defaults(policy.defaults, where, chain) if policy.defaults else []
        except NotUnderstoodError as error:
            defaults = [ActionLine(where, (), ("-j", "?"), (str(error),))]
        if self.folder.is_on("MULTICAST") and policy.defaults and policy.action.name in ("DROP", "REJECT"):
            self._add(chain, policy.where, "-d", "224.0.0.0/4" if self.family == 4 else "ff00::/8", "-j", "RETURN")
        self._fill(chain, defaults)
        call = policy.action
        if call.logs:
            self._add(chain, policy.where, *self.rules.calls.recorded(call.level, chain, call.name, call.tag))
        if call.name not in ("CONTINUE", "NONE"):
            entries = list(self.rules.calls.entries(Call(call.name, call.parameters), Columns(policy.where), chain))
            self._fill(chain, entries)

    def _common(self) -> None:
        """Chains that others send packets to."""
        home, six = self.home, self.family == 6
        multicast = "ff00::/8" if six else "224.0.0.0/4"
        jumps = {word for rules in self.filter.rules.values() for one in rules for word in (one.words or ())[-1:]}
        oddities = {
            "sfilter": ("SFILTER", ()), "smurfs": ("SMURF", ()), "tcpflags": ("TCP_FLAGS", (*FLAG_TESTS, *MORE_FLAG_TESTS)),
            "TCPFlags": ("TCP_FLAGS", FLAG_TESTS), "DropSmurfs": ("SMURF", ()),
        }  # fmt: skip
        for name, (setting, tests) in oddities.items():
            if name not in jumps:
                continue
            said = self.rules.sections.disposition(setting)
            level = self.folder.setting(f"{setting}_LOG_LEVEL")
            if name in ("TCPFlags", "DropSmurfs"):
                said, level = "DROP", ""
            said_where = self.folder.said.get(f"{setting}_DISPOSITION")
            # Where no line says it, what asks for the chain stands for it.
            asked = self.filter.chains[name].where if name in self.filter.chains else None
            where = said_where.where if said_where else asked or home
            self._chain(name, where)
            end = name if name == "sfilter" else self._chain(f"{name}log", where)
            if "smurfs" in name.lower():
                if not six:
                    self._add(name, where, "-s", "0.0.0.0", "-j", "RETURN")
                    self._add(name, where, "-m", "addrtype", "--src-type", "BROADCAST", "-g", end)
                self._add(name, where, "-s", multicast, "-g", end)
            for mask, value in tests:
                self._add(name, where, "-p", "tcp", "--tcp-flags", mask, value, "-g", end)
            if tests:
                self._add(name, where, "-p", "tcp", "--sport", "0", "--tcp-flags", "FIN,SYN,RST,ACK", "SYN", "-g", end)
            self._decide(end, Policy(Call(said, level=level), where))
        home = next((p.where for *_, p in self.policies.rows if p.action.name == "REJECT"), home)
        self._chain("reject", home)
        if not six:
            self._add("reject", home, "-m", "addrtype", "--src-type", "BROADCAST", "-j", "DROP")
        self._add("reject", home, "-s", multicast, "-j", "DROP")
        self._add("reject", home, "-p", "2", "-j", "DROP")
        self._add("reject", home, "-p", "tcp", "-j", "REJECT", "--reject-with", "tcp-reset")
        self._add("reject", home, "-p", "udp", "-j", "REJECT")
        icmp, other = (
            ("icmp6-addr-unreachable", "icmp6-adm-prohibited")
            if six
            else ("icmp-host-unreachable", "icmp-host-prohibited")
        )
        self._add("reject", home, "-p", "58" if six else "1", "-j", "REJECT", "--reject-with", icmp)
        self._add("reject", home, "-j", "REJECT", "--reject-with", other)


def _states(text: str) -> list[str]:
    return ["-m", "conntrack", "--ctstate", text]


def _placed(entries: list[ActionLine], where: Span) -> list[ActionLine]:
    """Entries that stand for a policy, at its place."""
    return [replace(one, where=where) if one.where == LATER else one for one in entries]

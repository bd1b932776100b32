"""From a tree and a dialect to a device."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import re2

from aiguille.model import (
    FILTER_STAGE,
    Account,
    Action,
    Addresses,
    AddressObject,
    Administration,
    Base,
    Chain,
    Condition,
    Device,
    Direction,
    Documentation,
    Effect,
    Field,
    Hits,
    Interface,
    InterfaceName,
    Log,
    Logging,
    ManagementService,
    MaskedAddress,
    Match,
    Named,
    NameKind,
    NotUnderstoodError,
    Numbers,
    Operand,
    Qualifier,
    Rule,
    Rulebase,
    Secret,
    ServiceObject,
    ServiceTerm,
    Setting,
    Side,
    Zone,
    default,
    stated,
    unknown,
)
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.literals import read_address_range, read_icmp, read_network, read_ports, read_protocol
from aiguille.readers.mapped.spec import (
    AccountMap,
    AddressMap,
    Dialect,
    KnownService,
    RulebaseMap,
    RuleMap,
    ServiceMap,
    Where,
)
from aiguille.readers.mapped.text import parse
from aiguille.readers.mapped.tree import Node, Token, select
from aiguille.readers.mapped.values import (
    Extractor,
    read_count,
    read_flag,
    read_minutes,
    read_seconds,
    read_text,
    spec,
)
from aiguille.readers.references import check_names

_BOTH = frozenset({4, 6})


def recognise(dialect: Dialect, file: ExportFile) -> str | None:
    """Why a file looks like an export of the dialect's make, None if it does not."""
    pattern = re2.compile(dialect.recognise.first_lines)
    for number, line in enumerate(file.lines[:20], 1):
        if pattern.search(line):
            return f"line {number} is how a {dialect.make} export begins"
    return None


def read(dialect: Dialect, files: Sequence[ExportFile], name: str) -> Device:
    """Read the export of one device; one file so far."""
    file = files[0]
    ledger = LedgerBuilder(tuple(files))
    root = parse(file, dialect.structure, ledger)
    return _Builder(dialect, file, root, ledger).device(name)


class _Builder:
    def __init__(self, dialect: Dialect, file: ExportFile, root: Node, ledger: LedgerBuilder) -> None:
        self.dialect = dialect
        self.file = file
        self.root = root
        self.ledger = ledger
        self.get = Extractor(dialect, ledger)
        self._address_names: set[str] = set()
        self.ignored: set[int] = set()

    def device(self, name: str) -> Device:
        d, get = self.dialect, self.get
        self._ignore()
        interfaces = self._interfaces()
        zones = self._zones(interfaces)
        addresses = tuple(one for m in d.addresses for one in self._addresses(m))
        self._address_names = {one.name for one in addresses}
        services = tuple(one for m in d.services for one in self._services(m))
        administration = self._administration()
        rulebases = [self._rulebase(m) for m in d.rulebases]
        rulebases += self._guards(interfaces, administration)
        for entry in check_names(rulebases, zones, addresses, services):
            self.ledger.problem(entry.where, entry.why)
        own_name = get.setting(self.root, d.device.name, read_text)
        firmware = get.setting(self.root, d.device.firmware, read_text)
        taken = get.setting(self.root, d.device.taken_at, read_text)
        since = get.setting(self.root, d.device.counters_since, read_text)
        logging = Logging(
            device_days=get.setting(self.root, d.logging.device_days, lambda v: read_seconds(_days(v)) / 86400),
            collectors=self._collectors(),
        )
        self._leftover(self.root)
        return Device(
            name=own_name.value if own_name.known and not name else name,
            dialect=d.dialect,
            make=d.make,
            sources=(self.file.source,),
            ledger=self.ledger.finish(),
            firmware=firmware,
            taken_at=taken,
            counters_since=since,
            interfaces=interfaces,
            zones=zones,
            addresses=addresses,
            services=services,
            rulebases=tuple(rulebases),
            administration=administration,
            logging=logging,
            secrets=self._secrets(),
        )

    # Objects

    def _interfaces(self) -> tuple[Interface, ...]:
        m, out = self.dialect.interfaces, []
        if m is None:
            return ()
        for node in self.get.each(self.root, m.at):
            enabled = self.get.setting(node, m.enabled, read_flag)
            out.append(
                Interface(
                    name=self.get.text(node, m.name),
                    where=node.where,
                    addresses=tuple(self._read_all(node, m.addresses, _own_address)),
                    networks=tuple(self._read_all(node, m.addresses, _own_network)),
                    zone=self.get.text(node, m.zone) or None,
                    enabled=enabled.value if enabled.known else True,
                    comment=self.get.text(node, m.comment),
                    services=tuple(t.text for t in self.get.tokens(node, m.services) or ()),
                )
            )
        return tuple(out)

    def _zones(self, interfaces: tuple[Interface, ...]) -> tuple[Zone, ...]:
        m, out = self.dialect.zones, []
        if m is None:
            return ()
        for node in self.get.each(self.root, m.at):
            name = self.get.text(node, m.name)
            side = self.get.setting(node, m.side, lambda v: Side(str(v)))
            out.append(
                Zone(
                    name=name,
                    interfaces=tuple(i.name for i in interfaces if i.zone == name),
                    side=side.value if side.known else None,
                    networks=tuple(a for i in interfaces if i.zone == name for a in i.networks),
                    where=node.where,
                    comment=self.get.text(node, m.comment),
                )
            )
        named = {zone.name for zone in out}
        for one in interfaces:
            if one.zone and one.zone not in named and one.where is not None:
                self.ledger.problem(
                    one.where, f"interface '{one.name}' is in zone '{one.zone}', which the export does not define"
                )
        return tuple(out)

    def _addresses(self, m: AddressMap) -> list[AddressObject]:
        out = []
        for node in self.get.each(self.root, m.at):
            members: list[Addresses | MaskedAddress | Named] = []
            unresolved: list[str] = []
            for token in self.get.tokens(node, m.members) or ():
                try:
                    members.append(_address(token.text))
                except NotUnderstoodError:
                    if m.kind == "group":
                        members.append(Named(NameKind.ADDRESS, token.text))
                    else:
                        unresolved.append(token.text)
                        self.ledger.unread(
                            token.where, f"'{token.text}' is no address, network or range; the object may cover more"
                        )
            out.append(
                AddressObject(
                    name=self.get.text(node, m.name),
                    members=tuple(members),
                    where=node.where,
                    comment=self.get.text(node, m.comment),
                    is_group=m.kind == "group",
                    unresolved=tuple(unresolved),
                )
            )
        return out

    def _services(self, m: ServiceMap) -> list[ServiceObject]:
        out = []
        for node in self.get.each(self.root, m.at):
            members: list[ServiceTerm | Named] = []
            if m.members is not None:
                members += [Named(NameKind.SERVICE, t.text) for t in self.get.tokens(node, m.members) or ()]
            term = self._term(node, m)
            if term is not None:
                members.append(term)
            out.append(
                ServiceObject(
                    name=self.get.text(node, m.name),
                    members=tuple(members),
                    where=node.where,
                    comment=self.get.text(node, m.comment),
                    is_group=m.members is not None,
                )
            )
        return out

    def _term(self, node: Node, m: ServiceMap) -> ServiceTerm | None:
        word = self.get.word(node, m.protocol)
        if word is None:
            return None
        try:
            protocol = read_protocol(word.text)
        except NotUnderstoodError as error:
            self.ledger.unread(word.where, error.message)
            return None
        family = 6 if protocol.first == 58 else 4
        return ServiceTerm(
            protocol,
            tuple(self._read_all(node, m.source_ports, _ports)),
            tuple(self._read_all(node, m.destination_ports, _ports)),
            tuple(self._read_all(node, m.icmp, lambda text: read_icmp(text, family))),
        )

    # Rules

    def _rulebase(self, m: RulebaseMap) -> Rulebase:
        rules: list[Rule] = []
        for node in self.get.each(self.root, m.at):
            rules.append(self._rule(node, m.rule, len(rules) + 1))
        action = self.get.setting(self.root, m.unmatched.action, lambda v: Action(str(v)))
        logged = self.get.setting(self.root, m.unmatched.logged, read_flag)
        where = rules[0].where if rules else None
        return Rulebase(
            name=m.name,
            families=_BOTH,
            chains=(
                Chain(
                    name=m.name,
                    rules=tuple(rules),
                    where=where,
                    base=Base(FILTER_STAGE[Direction(m.direction)]),
                    policy=action.value if action.known else Action.UNKNOWN,
                    policy_where=action.where or logged.where,
                    policy_logs=logged.known and logged.value,
                    policy_is_default=action.standing == "default",
                ),
            ),
            where=where,
        )

    def _rule(self, node: Node, m: RuleMap, number: int) -> Rule:
        gaps: list[Qualifier] = []
        get = self.get

        def attempt(token: Token, read: Callable[[Token], Operand]) -> Operand | None:
            try:
                return read(token)
            except NotUnderstoodError as error:
                self.ledger.unread(token.where, f"{error.message}; the rule is kept as one that may match")
                gaps.append(Qualifier("not understood", token.text))
                return None

        def condition(field: Field, where: Where | None, read: Callable[[Token], Operand]) -> Condition | None:
            found = get.tokens(node, where)
            if found is None:
                return None
            operands = tuple(o for token in found if (o := attempt(token, read)) is not None)
            return Condition(field, operands) if operands else None

        conditions = (
            condition(Field.IN_ZONE, m.in_zone, lambda t: Named(NameKind.ZONE, t.text)),
            condition(Field.OUT_ZONE, m.out_zone, lambda t: Named(NameKind.ZONE, t.text)),
            condition(Field.SOURCE, m.source, self._address_or_name),
            condition(Field.DESTINATION, m.destination, self._address_or_name),
            condition(Field.SERVICE, m.service, lambda t: Named(NameKind.SERVICE, t.text)),
        )
        word = get.word(node, m.action)
        action = Action.UNKNOWN
        if word is None:
            self.ledger.unread(node.head, "the rule does not say what to do; it counts as one that may do anything")
        else:
            try:
                action = Action(str(get.translated(word, m.action)))
            except NotUnderstoodError as error:
                self.ledger.unread(word.where, f"{error.message}; the rule counts as one that may do anything")
        enabled = get.setting(node, m.enabled, read_flag)
        logged = get.setting(node, m.logged, read_flag)
        hits = get.setting(node, m.hits, read_count)
        schedule = get.text(node, m.schedule)
        if schedule:
            gaps.append(Qualifier("time of day", schedule))
        effects: tuple[Effect, ...] = (Log(),) if logged.known and logged.value else ()
        rule = Rule(
            number=number,
            where=node.where,
            action=action,
            match=Match(tuple(c for c in conditions if c is not None)),
            action_text=word.text if word is not None else "",
            name=get.text(node, m.name),
            comment=get.text(node, m.comment),
            enabled=enabled.value if enabled.known else True,
            effects=effects,
            hits=Hits(int(hits.value)) if hits.known else None,
            schedule=schedule or None,
            documentation=Documentation(
                get.text(node, m.requester), get.text(node, m.ticket), get.text(node, m.expires)
            ),
        )
        gaps += self._unknown_parts(node)
        return rule if not gaps else _qualified(rule, gaps)

    def _unknown_parts(self, node: Node) -> list[Qualifier]:
        """What a rule says that the dialect has no place for may be a condition, so the rule may match."""
        out = []
        for child in node.children:
            if id(child) in self.ignored:
                continue
            if id(child) not in self.get.taken:
                self.ledger.unread(
                    child.where, f"'{child.name}' is not known in a rule; the rule is kept as one that may match"
                )
                out.append(Qualifier("not understood", child.text()))
            elif spare := self.get.spare(child):
                out.append(Qualifier("not understood", " ".join(word.text for word in spare)))
        return out

    def _address_or_name(self, token: Token) -> Operand:
        if token.text in self._address_names or token.quoted:
            return Named(NameKind.ADDRESS, token.text)
        try:
            return _address(token.text)
        except NotUnderstoodError:
            return Named(NameKind.ADDRESS, token.text)

    def _guards(self, interfaces: tuple[Interface, ...], administration: Administration) -> list[Rulebase]:
        """The rule bases the make has built in: who may reach the device itself, and what it may send."""
        behaviour, out = self.dialect.behaviour, []
        if behaviour.to_device is not None:
            rules: list[Rule] = []
            if behaviour.to_device.services_on_interfaces:
                rules = self._interface_guards(interfaces, administration)
            name = "management access"
            logged = self.get.setting(self.root, behaviour.to_device.logged, read_flag)
            chain = Chain(
                name,
                tuple(rules),
                None,
                Base(FILTER_STAGE[Direction.TO_DEVICE]),
                Action(behaviour.to_device.action),
                policy_where=logged.where,
                policy_logs=logged.known and logged.value,
                policy_is_default=True,
            )
            out.append(Rulebase(name, _BOTH, (chain,)))
        if behaviour.from_device is not None:
            name = "own traffic"
            base = Base(FILTER_STAGE[Direction.FROM_DEVICE])
            chain = Chain(name, (), None, base, Action(behaviour.from_device), policy_is_default=True)
            out.append(Rulebase(name, _BOTH, (chain,)))
        return out

    def _interface_guards(self, interfaces: tuple[Interface, ...], administration: Administration) -> list[Rule]:
        m = self.dialect.interfaces
        if m is None:
            return []
        rules: list[Rule] = []
        by_name = {service.name: service for service in administration.services}
        sources = self._account_sources(administration)
        for node in select(self.root, tuple(m.at.split("/"))):
            name = self.get.text(node, m.name)
            for token in self.get.tokens(node, m.services) or ():
                service = by_name.get(token.text)
                known = self.dialect.management.known.get(token.text)
                if service is not None:
                    terms: tuple[ServiceTerm, ...] = service.terms if service.enabled else ()
                    if not service.enabled:
                        continue
                elif known is not None:
                    terms = _known_terms(known, ())
                else:
                    self.ledger.unread(
                        token.where, f"'{token.text}' is no service of the device that the dialect knows"
                    )
                    continue
                conditions = [
                    Condition(Field.IN_INTERFACE, (InterfaceName(name),)),
                    Condition(Field.SERVICE, terms),
                ]
                managing = known is None or known.managing
                qualifiers: tuple[Qualifier, ...] = ()
                if (
                    managing
                    and self.dialect.behaviour.to_device
                    and self.dialect.behaviour.to_device.sources_from_accounts
                ):
                    if sources is None:
                        qualifiers = (Qualifier("allowed sources", "unknown for an account"),)
                    elif sources:
                        conditions.append(Condition(Field.SOURCE, sources))
                rules.append(
                    Rule(
                        number=len(rules) + 1,
                        where=token.where,
                        action=Action.ACCEPT,
                        match=Match(tuple(conditions)),
                        action_text=f"{token.text} on {name}",
                        name=f"{token.text} on {name}",
                        qualifiers=qualifiers,
                    )
                )
        return rules

    def _account_sources(self, administration: Administration) -> tuple[Addresses, ...] | None:
        """From where anybody may log in: empty for everywhere, None if an account does not tell."""
        out: list[Addresses] = []
        for account in administration.accounts:
            if not account.enabled:
                continue
            if not account.sources.known:
                return None
            if not account.sources.value:
                return ()
            out += account.sources.value
        return tuple(dict.fromkeys(out))

    # Administration

    def _administration(self) -> Administration:
        m, get, root = self.dialect.management, self.get, self.root
        services: list[ManagementService] = []
        if m.services is not None:
            for node in get.each(root, m.services.at):
                name = get.text(node, m.services.name)
                ports = tuple(self._read_all(node, m.services.ports, _ports))
                known = m.known.get(name)
                if known is None:
                    self.ledger.unread(node.head, f"'{name}' is no way of managing the device that the dialect knows")
                    continue
                enabled = get.setting(node, m.services.enabled, read_flag)
                on = enabled.value if enabled.known else True
                services.append(ManagementService(name, _known_terms(known, ports), known.cleartext, node.where, on))
        return Administration(
            services=tuple(services),
            accounts=tuple(self._account(node, m.accounts) for node in get.each(root, m.accounts.at))
            if m.accounts
            else (),
            lockout_attempts=get.setting(root, m.lockout_attempts, read_count),
            lockout_seconds=get.setting(root, m.lockout_seconds, read_seconds),
            idle_minutes=get.setting(root, m.idle_minutes, read_minutes),
        )

    def _account(self, node: Node, m: AccountMap) -> Account:
        enabled = self.get.setting(node, m.enabled, read_flag)
        sources: Setting[tuple[Addresses, ...]] = unknown()
        if m.sources is not None:
            found = self.get.tokens(node, m.sources)
            named = spec(m.sources)
            if found is not None:
                read = [a for a in self._read_tokens(found, _address) if isinstance(a, Addresses)]
                if len(read) == len(found):
                    sources = stated(tuple(read), found[0].where if found else node.head)
            elif list(select(node, tuple(named.source.split("/")))):
                sources = stated((), node.head)
            elif named.missing is not None:
                sources = default((), node.head)
        return Account(
            name=self.get.text(node, m.name),
            where=node.where,
            role=self.get.text(node, m.role),
            enabled=enabled.value if enabled.known else True,
            sources=sources,
        )

    def _collectors(self) -> Setting[tuple[str, ...]]:
        m = self.dialect.logging.collectors
        if m is None:
            return unknown()
        found = self.get.tokens(self.root, m)
        if found is None:
            return unknown()
        return stated(tuple(t.text for t in found), found[0].where) if found else unknown()

    # Housekeeping

    def _read_all(self, node: Node, where: Where | None, read: Callable[[str], Any]) -> list[Any]:
        return self._read_tokens(self.get.tokens(node, where) or (), read)

    def _read_tokens(self, tokens: Sequence[Token], read: Callable[[str], Any]) -> list[Any]:
        out = []
        for token in tokens:
            try:
                out.append(read(token.text))
            except NotUnderstoodError as error:
                self.ledger.unread(token.where, error.message)
        return out

    def _ignore(self) -> None:
        for one in self.dialect.ignore:
            for node in select(self.root, tuple(one.at.split("/"))):
                self.ignored.add(id(node))
                self.get.taken.add(id(node))
                self.ledger.set_aside(node.where, one.why)

    def _leftover(self, node: Node) -> None:
        """Statements nobody asked for are unread; blocks are read where anything in them was."""
        for child in node.children:
            if id(child) in self.ignored:
                continue
            if id(child) in self.get.taken:
                if spare := self.get.spare(child):
                    words = " ".join(word.text for word in spare)
                    self.ledger.unread(spare[0].where, f"'{words}' is more than the dialect reads of '{child.name}'")
                self._leftover(child)
            elif any(id(below) in self.get.taken for below in child.walk()):
                self.get.take(child)
                self._leftover(child)
            elif not self.ledger.spoken_for(child.head.file, child.head.first):
                inside = f" in '{node.name}'" if node.name else ""
                self.ledger.unread(child.where, f"the dialect has no place for '{child.name}'{inside}")

    def _secrets(self) -> frozenset[Secret]:
        found = (n for path in self.dialect.secrets for n in select(self.root, tuple(path.split("/"))))
        return frozenset(word.secret() for node in found for word in node.words)


def _qualified(rule: Rule, gaps: list[Qualifier]) -> Rule:
    return replace(rule, qualifiers=(*rule.qualifiers, *gaps))


def _address(text: str) -> Addresses | MaskedAddress:
    return read_address_range(text) if "-" in text else read_network(text)


def _own_address(text: str) -> Addresses:
    """An interface's own address out of ``192.0.2.1/24``."""
    return read_address_range(text.partition("/")[0])


def _own_network(text: str) -> Addresses:
    """The network an interface's address lies in."""
    found = read_network(text)
    if isinstance(found, MaskedAddress):
        raise NotUnderstoodError(f"'{text}' is not an address with a prefix length")
    return found


def _ports(text: str) -> Numbers:
    return read_ports(text, "-")


def _days(value: object) -> str:
    """A bare number in a place that counts days."""
    text = str(value)
    return f"{text}d" if text.isdecimal() else text


def _known_terms(known: KnownService, ports: tuple[Numbers, ...]) -> tuple[ServiceTerm, ...]:
    protocol = read_protocol(known.protocol)
    if known.icmp is not None:
        return tuple(
            ServiceTerm(read_protocol(name), icmp=(read_icmp(known.icmp, family),))
            for family, name in ((4, "icmp"), (6, "ipv6-icmp"))
        )
    if not ports and known.port is not None:
        ports = (Numbers(known.port, known.port),)
    return (ServiceTerm(protocol, (), ports),)

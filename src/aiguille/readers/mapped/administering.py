"""Administration, logging, the portal and filters by country out of a tree."""

from __future__ import annotations

from msgspec.structs import replace

from aiguille.model import (
    Account,
    Addresses,
    Administration,
    GeoFilter,
    ManagementService,
    Numbers,
    Portal,
    ServiceTerm,
    Setting,
    Span,
    default,
    stated,
    unknown,
)
from aiguille.readers.literals import read_icmp, read_protocol
from aiguille.readers.mapped.part import Part, read_member_or_name, read_port_range
from aiguille.readers.mapped.spec import AccountMap, GeoMap, KnownService, ServiceEntry, Where, many
from aiguille.readers.mapped.tree import Node
from aiguille.readers.mapped.values import read_count, read_text, spec


class Administering(Part):
    """How the device is managed and what it records."""

    def administration(self) -> Administration:
        m, get, root = self.dialect.management, self.get, self.root
        return Administration(
            services=tuple(self._services(m.services)) if m.services is not None else (),
            accounts=tuple(self._account(node, one) for one in many(m.accounts) for node in get.each(root, one.at)),
            lockout_attempts=get.setting(root, m.lockout_attempts, read_count),
            lockout_seconds=self.duration(root, m.lockout_seconds, "seconds", "seconds"),
            idle_minutes=self.duration(root, m.idle_minutes, "minutes", "seconds"),
            password_length=get.setting(root, m.password_length, read_count),
            password_classes=get.setting(root, m.password_classes, read_count),
            redirects=get.flag(root, m.redirects),
            strong_ciphers=get.flag(root, m.strong_ciphers),
            recovery_account=get.flag(root, m.recovery_account),
            link_layer=get.flag(root, m.link_layer),
            discovery=get.flag(root, m.discovery),
        )

    def _services(self, m: ServiceEntry) -> list[ManagementService]:
        out: list[ManagementService] = []
        for node in self.get.each(self.root, m.at):
            name = self.get.text(node, m.name)
            if any(one.name == name for one in out):
                continue  # several interfaces may name the same service
            ports = tuple(self.read_all(node, m.ports, read_port_range))
            known = self.dialect.management.known.get(name)
            if known is None:
                self.ledger.unread(node.head, f"'{name}' is no way of managing the device that the dialect knows")
                continue
            enabled = self.get.is_on(node, m.enabled)
            sources = self.allowed_sources(node, m.sources)
            if not self.is_whole(node):
                sources = unknown()  # what is not understood may be about them
            if known.managing:
                terms = known_terms(known, ports)
                out.append(ManagementService(name, terms, known.cleartext, node.where, enabled, sources))
        return out

    def _account(self, node: Node, m: AccountMap) -> Account:
        sources = self.allowed_sources(node, m.sources)
        account = Account(
            name=self.get.text(node, m.name),
            where=node.where,
            role=self.get.text(node, m.role),
            enabled=self.get.is_on(node, m.enabled),
            sources=sources,
            second_factor=self.get.flag(node, m.second_factor),
            last_used=self.get.setting(node, m.last_used, read_text),
        )
        # What is not understood may be about where it may come from.
        return account if self.is_whole(node) else replace(account, sources=unknown())

    def hosts(self, m: Where | None) -> Setting[tuple[str, ...]]:
        """Other hosts a device names, a collector say; none, if the dialect has a word for that or says so of a missing
        statement."""
        if m is None:
            return unknown()
        value = spec(m)
        found = self.get.tokens(self.root, m)
        if found:
            return stated(tuple(t.text for t in found), found[0].where)
        sources = (value.source,) if isinstance(value.source, str) else value.source or ()
        there = [node for path in sources for node in self.get.nodes(self.root, path) if node.words]
        if there:
            return stated((), there[0].head)
        return default((), self._home()) if value.missing is not None else unknown()

    def _home(self) -> Span | None:
        """The line a device begins at, for what the make takes for granted."""
        if self.root.name:
            return self.root.head
        return self.root.children[0].head if self.root.children else None

    def portal(self) -> Portal:
        m = self.dialect.portal
        if m is None:
            return Portal()
        for node in self.get.each(self.root, m.at):
            return Portal(node.where, self.get.flag(node, m.enabled), self.allowed_sources(node, m.sources))
        return Portal()

    def geo_filters(self) -> tuple[GeoFilter, ...]:
        return tuple(self._geo(node, m) for m in self.dialect.geo for node in self.get.each(self.root, m.at))

    def _geo(self, node: Node, m: GeoMap) -> GeoFilter:
        get = self.get

        def said(where: Where | None, otherwise: bool) -> bool:
            found = get.flag(node, where)
            return found.value if found.known else otherwise

        return GeoFilter(
            where=node.where,
            countries=tuple(t.text for t in get.tokens(node, m.countries) or ()),
            allows=said(m.allows, False),
            name=get.text(node, m.name),
            comment=get.text(node, m.comment),
            enabled=said(m.enabled, True),
            inward=said(m.inward, True),
            outward=said(m.outward, True),
            logged=get.flag(node, m.logged),
            before_rules=get.flag(node, m.before_rules),
            exceptions=tuple(self.read_all(node, m.exceptions, read_member_or_name)),
        )


def known_terms(known: KnownService, ports: tuple[Numbers, ...]) -> tuple[ServiceTerm, ...]:
    """The packets that open a connection to a service of the device, on the ports given or its usual one."""
    protocol = read_protocol(known.protocol)
    if known.icmp is not None:
        return tuple(
            ServiceTerm(read_protocol(name), icmp=(read_icmp(known.icmp, family),))
            for family, name in ((4, "icmp"), (6, "ipv6-icmp"))
        )
    if not ports and known.port is not None:
        ports = (Numbers(known.port, known.port),)
    return (ServiceTerm(protocol, (), ports),)


def narrowed(sources: Setting[tuple[Addresses, ...]]) -> bool:
    """Whether something is restricted to some addresses."""
    return sources.known and bool(sources.value)

"""Administration, logging, the portal and filters by country out of a tree."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta
from math import inf

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
from aiguille.readers.host.clock import read_moment
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
            services=tuple(self._services(many(m.services))),
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

    def _services(self, maps: Sequence[ServiceEntry]) -> list[ManagementService]:
        out: dict[str, ManagementService] = {}
        for m, node in ((one, node) for one in maps for node in self.get.each(self.root, one.at)):
            names = self._names(node, m.name)
            ports = tuple(self.read_all(node, m.ports, read_port_range))
            enabled = self.get.is_on(node, m.enabled)
            sources = self.allowed_sources(node, m.sources)
            if not self.is_whole(node):
                sources = unknown()  # what is not understood may be about them
            for name in names:
                if name in out:
                    continue  # several interfaces may name the same service
                known = self.dialect.management.known.get(name)
                if known is None:
                    self.ledger.unread(node.head, f"'{name}' is no way of managing the device that the dialect knows")
                elif known.managing:
                    terms = known_terms(known, ports)
                    out[name] = ManagementService(name, terms, known.cleartext, node.where, enabled, sources)
        return list(out.values())

    def _names(self, node: Node, where: Where) -> list[str]:
        """The services a statement names: one in several words, where the dialect knows that, else one a word."""
        whole = self.get.text(node, where)
        if whole in self.dialect.management.known:
            return [whole]
        return [token.text for token in self.get.tokens(node, where) or ()]

    def counted_since(self) -> Setting[str]:
        """Since when hits are counted: as the export says, or as long as the device was running when it was made."""
        m = self.dialect.device
        said = self.get.setting(self.root, m.counters_since, read_text)
        taken = self.get.setting(self.root, m.taken_at, read_text)
        days = self.duration(self.root, m.running_for, "days", "seconds")
        moment = read_moment(taken.value) if taken.known else None
        if said.known or not days.known or days.value == inf or moment is None or days.where is None:
            return said
        try:
            return stated((moment - timedelta(days=days.value)).isoformat(timespec="seconds"), days.where)
        except OverflowError:
            return said

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

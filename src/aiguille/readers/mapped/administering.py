"""Administration and logging out of a tree."""

from __future__ import annotations

from aiguille.model import (
    Account,
    Addresses,
    Administration,
    ManagementService,
    Numbers,
    ServiceTerm,
    Setting,
    default,
    stated,
    unknown,
)
from aiguille.readers.literals import read_icmp, read_protocol
from aiguille.readers.mapped.part import Part, read_members, read_port_range
from aiguille.readers.mapped.spec import (
    AccountMap,
    KnownService,
)
from aiguille.readers.mapped.tree import Node, select
from aiguille.readers.mapped.values import (
    read_count,
    read_flag,
    read_minutes,
    read_seconds,
    spec,
)


class Administering(Part):
    """How the device is managed and what it records."""

    def administration(self) -> Administration:
        m, get, root = self.dialect.management, self.get, self.root
        services: list[ManagementService] = []
        if m.services is not None:
            for node in get.each(root, m.services.at):
                name = get.text(node, m.services.name)
                ports = tuple(self.read_all(node, m.services.ports, read_port_range))
                known = m.known.get(name)
                if known is None:
                    self.ledger.unread(node.head, f"'{name}' is no way of managing the device that the dialect knows")
                    continue
                enabled = get.setting(node, m.services.enabled, read_flag)
                on = enabled.value if enabled.known else True
                services.append(ManagementService(name, known_terms(known, ports), known.cleartext, node.where, on))
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
                read = [a for a in self.read_tokens(found, read_members) if isinstance(a, Addresses)]
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

    def collectors(self) -> Setting[tuple[str, ...]]:
        m = self.dialect.logging.collectors
        if m is None:
            return unknown()
        found = self.get.tokens(self.root, m)
        if found is None:
            return unknown()
        return stated(tuple(t.text for t in found), found[0].where) if found else unknown()


def known_terms(known: KnownService, ports: tuple[Numbers, ...]) -> tuple[ServiceTerm, ...]:
    protocol = read_protocol(known.protocol)
    if known.icmp is not None:
        return tuple(
            ServiceTerm(read_protocol(name), icmp=(read_icmp(known.icmp, family),))
            for family, name in ((4, "icmp"), (6, "ipv6-icmp"))
        )
    if not ports and known.port is not None:
        ports = (Numbers(known.port, known.port),)
    return (ServiceTerm(protocol, (), ports),)

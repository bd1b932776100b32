"""Interfaces, zones, addresses and services out of a tree."""

from __future__ import annotations

from aiguille.model import (
    Addresses,
    AddressObject,
    Interface,
    MaskedAddress,
    Named,
    NameKind,
    NotUnderstoodError,
    ServiceObject,
    ServiceTerm,
    Side,
    Zone,
)
from aiguille.readers.literals import read_address_range, read_icmp, read_network, read_protocol
from aiguille.readers.mapped.part import Part, read_members, read_port_range
from aiguille.readers.mapped.spec import (
    AddressMap,
    ServiceMap,
)
from aiguille.readers.mapped.tree import Node
from aiguille.readers.mapped.values import (
    read_flag,
)


class Objects(Part):
    """The objects rules refer to."""

    def interfaces(self) -> tuple[Interface, ...]:
        m, out = self.dialect.interfaces, []
        if m is None:
            return ()
        for node in self.get.each(self.root, m.at):
            enabled = self.get.setting(node, m.enabled, read_flag)
            out.append(
                Interface(
                    name=self.get.text(node, m.name),
                    where=node.where,
                    addresses=tuple(self.read_all(node, m.addresses, _own_address)),
                    networks=tuple(self.read_all(node, m.addresses, _own_network)),
                    zone=self.get.text(node, m.zone) or None,
                    enabled=enabled.value if enabled.known else True,
                    comment=self.get.text(node, m.comment),
                    services=tuple(t.text for t in self.get.tokens(node, m.services) or ()),
                )
            )
        return tuple(out)

    def zones(self, interfaces: tuple[Interface, ...]) -> tuple[Zone, ...]:
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

    def addresses(self, m: AddressMap) -> list[AddressObject]:
        out = []
        for node in self.get.each(self.root, m.at):
            members: list[Addresses | MaskedAddress | Named] = []
            unresolved: list[str] = []
            for token in self.get.tokens(node, m.members) or ():
                try:
                    members.append(read_members(token.text))
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

    def services(self, m: ServiceMap) -> list[ServiceObject]:
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
            tuple(self.read_all(node, m.source_ports, read_port_range)),
            tuple(self.read_all(node, m.destination_ports, read_port_range)),
            tuple(self.read_all(node, m.icmp, lambda text: read_icmp(text, family))),
        )


def _own_address(text: str) -> Addresses:
    """An interface's own address out of ``192.0.2.1/24``."""
    return read_address_range(text.partition("/")[0])


def _own_network(text: str) -> Addresses:
    """The network an interface's address lies in."""
    found = read_network(text)
    if isinstance(found, MaskedAddress):
        raise NotUnderstoodError(f"'{text}' is not an address with a prefix length")
    return found

"""Interfaces, zones, addresses, services and schedules out of a tree."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import partial

from msgspec.structs import replace

from aiguille.model import (
    Addresses,
    AddressObject,
    Interface,
    MaskedAddress,
    Named,
    NameKind,
    NotUnderstoodError,
    Numbers,
    Rulebase,
    Schedule,
    ServiceObject,
    ServiceTerm,
    Side,
    Zone,
)
from aiguille.model.spelling import spell_operand
from aiguille.readers.literals import read_address_range, read_icmp, read_network, read_protocol
from aiguille.readers.mapped.part import Part, read_member_or_name, read_members, read_port_range
from aiguille.readers.mapped.spec import AddressMap, InterfaceMap, ServiceMap, SheetStructure, Value, ZoneMap, many
from aiguille.readers.mapped.tree import Node

PORTED = (Numbers(6, 6), Numbers(17, 17))
"""The protocols a port group without a protocol is for: TCP and UDP."""

_HARDWARE = re.compile(r"[0-9A-Fa-f]{2}([:-][0-9A-Fa-f]{2}){5}|[0-9A-Fa-f]{4}(\.[0-9A-Fa-f]{4}){2}")


class Objects(Part):
    """The objects rules refer to."""

    def interfaces(self) -> tuple[Interface, ...]:
        return tuple(
            self._interface(node, m) for m in many(self.dialect.interfaces) for node in self.get.each(self.root, m.at)
        )

    def _interface(self, node: Node, m: InterfaceMap) -> Interface:
        before = self.ledger.unread_entries
        own = self.get.tokens(node, m.addresses) or ()
        addresses = tuple(self.read_tokens(own, _own_address))
        # With one of them not understood, they are not all known.
        addresses = addresses if self.ledger.unread_entries == before else ()
        return Interface(
            name=self.get.text(node, m.name),
            where=node.where,
            addresses=addresses,
            networks=tuple(self.read_tokens([t for t in own if "/" in t.text], _own_network)),
            zone=self.get.text(node, m.zone) or None,
            enabled=self.get.is_on(node, m.enabled),
            comment=self.get.text(node, m.comment),
            services=tuple(t.text for t in self.get.tokens(node, m.services) or ()),
        )

    def zones(self, interfaces: tuple[Interface, ...]) -> tuple[Zone, ...]:
        maps = many(self.dialect.zones)
        if not maps:
            return ()
        out: list[Zone] = []
        seats: dict[str, int] = {}
        for m in maps:
            for node in self.get.each(self.root, m.at):
                zone = self._zone(node, m, interfaces)
                seat = seats.setdefault(zone.name, len(out))
                if seat == len(out):
                    out.append(zone)
                else:
                    # One statement a member is another way of writing a group.
                    first = out[seat]
                    both = tuple(dict.fromkeys((*first.interfaces, *zone.interfaces)))
                    out[seat] = replace(
                        first,
                        interfaces=both,
                        networks=tuple(dict.fromkeys((*first.networks, *zone.networks))),
                        side=first.side or zone.side,
                    )
        named = {zone.name for zone in out}
        for one in interfaces:
            if one.zone and one.zone not in named and not self.by_use(out) and one.where is not None:
                self.ledger.problem(
                    one.where, f"interface '{one.name}' is in zone '{one.zone}', which the export does not define"
                )
        return tuple(out)

    def by_use(self, zones: Sequence[Zone]) -> bool:
        """Whether zones are what interfaces and rules name: whoever types a sheet seldom lists them."""
        return not zones and isinstance(self.dialect.structure, SheetStructure)

    @staticmethod
    def zones_in_use(interfaces: tuple[Interface, ...], rulebases: Sequence[Rulebase]) -> tuple[Zone, ...]:
        """The zones interfaces and rules name, for an export that has no list of zones to check the names against."""
        out: dict[str, Zone] = {}
        for one in interfaces:
            if one.zone:
                inside = tuple(i for i in interfaces if i.zone == one.zone)
                networks = tuple(a for i in inside for a in i.networks)
                out.setdefault(one.zone, Zone(one.zone, tuple(i.name for i in inside), None, networks, one.where))
        for rulebase in rulebases:
            for _, rule in rulebase.rules():
                for condition in rule.match.conditions:
                    for operand in condition.operands:
                        if isinstance(operand, Named) and operand.kind is NameKind.ZONE:
                            out.setdefault(operand.name, Zone(operand.name, (), where=rule.where))
        return tuple(out.values())

    def _zone(self, node: Node, m: ZoneMap, interfaces: tuple[Interface, ...]) -> Zone:
        name = self.get.text(node, m.name)
        side = self.get.setting(node, m.side, lambda v: Side(str(v)))
        listed = tuple(t.text for t in self.get.tokens(node, m.interfaces) or ())
        inside = [i for i in interfaces if i.zone == name or i.name in listed]
        return Zone(
            name=name,
            interfaces=tuple(dict.fromkeys((*(i.name for i in inside), *listed))),
            side=side.value if side.known else None,
            networks=(*(a for i in inside for a in i.networks), *self.read_all(node, m.networks, _own_network)),
            where=node.where,
            comment=self.get.text(node, m.comment),
        )

    def all_addresses(self) -> tuple[AddressObject, ...]:
        """All address objects; statements of one name add up to one object."""
        out: dict[str, AddressObject] = {}
        booked = any(isinstance(m.members, Value) and m.members.book for m in self.dialect.addresses)
        names = {
            self.get.text(node, m.name)
            for m in self.dialect.addresses
            if booked
            for node in self.get.each(self.root, m.at)
        }
        for m in self.dialect.addresses:
            for node in self.get.each(self.root, m.at):
                one = self._address(node, m, names)
                first = out.get(one.name)
                if first is not None:
                    one = replace(
                        first,
                        derived=first.derived and one.derived,
                        members=(*first.members, *one.members),
                        unresolved=(*first.unresolved, *one.unresolved),
                        excluded=(*first.excluded, *one.excluded),
                        countries=(*first.countries, *one.countries),
                    )
                out[one.name] = one
        return tuple(out.values())

    def _address(self, node: Node, m: AddressMap, names: set[str]) -> AddressObject:
        members: list[Addresses | MaskedAddress | Named] = []
        unresolved: list[str] = []
        countries: list[str] = []
        before = self.ledger.unread_entries
        words = self.get.booked(node, m.members, self.get.tokens(node, m.members) or (), names)
        if self.ledger.unread_entries > before:
            unresolved.append("a part that is not understood")
        for token in words:
            if m.kind in ("hostname", "country", "hardware"):
                unresolved.append(token.text)
                countries += [token.text] if m.kind == "country" else []
                continue
            try:
                members.append(read_members(token.text))
            except NotUnderstoodError:
                if m.kind == "group" and not _HARDWARE.fullmatch(token.text):
                    members.append(Named(NameKind.ADDRESS, token.text))
                    continue
                unresolved.append(token.text)
                if m.kind != "group":
                    self.ledger.unread(
                        token.where, f"'{token.text}' is no address, network or range; the object may cover more"
                    )
        before = self.ledger.unread_entries
        excluded = tuple(self.read_all(node, m.excluded, read_member_or_name))
        if self.ledger.unread_entries > before:
            # What is taken out is not all known, so nothing is surely left.
            unresolved += [spell_operand(member) for member in members]
            members, excluded = [], ()
        return AddressObject(
            name=self.get.text(node, m.name),
            members=tuple(members),
            where=node.where,
            comment=self.get.text(node, m.comment),
            unresolved=tuple(unresolved),
            excluded=excluded,
            countries=tuple(countries),
            derived=m.derived,
        )

    def all_services(self) -> tuple[ServiceObject, ...]:
        """All services; statements of one name add up to one service."""
        out: dict[str, ServiceObject] = {}
        for m in self.dialect.services:
            for node in self.get.each(self.root, m.at):
                one = self._service(node, m)
                first = out.get(one.name)
                if first is not None:
                    complete = first.complete and one.complete
                    one = replace(
                        first,
                        members=(*first.members, *one.members),
                        complete=complete,
                        derived=first.derived and one.derived,
                    )
                out[one.name] = one
        return tuple(out.values())

    def _service(self, node: Node, m: ServiceMap) -> ServiceObject:
        members: list[ServiceTerm | Named] = []
        before = self.ledger.unread_entries
        if m.members is not None:
            members += [Named(NameKind.SERVICE, t.text) for t in self.get.tokens(node, m.members) or ()]
        members += self._terms(node, m)
        return ServiceObject(
            name=self.get.text(node, m.name),
            members=tuple(members),
            where=node.where,
            comment=self.get.text(node, m.comment),
            complete=self.ledger.unread_entries == before,
            derived=m.derived,
        )

    def _terms(self, node: Node, m: ServiceMap) -> list[ServiceTerm]:
        protocols = self._protocols(node, m)
        sources = tuple(self.read_all(node, m.source_ports, read_port_range))
        destinations = tuple(self.read_all(node, m.destination_ports, read_port_range))
        if not protocols and (sources or destinations):
            protocols = list(PORTED)
        out = []
        for protocol in protocols:
            family = 6 if protocol.first == 58 else 4
            types = tuple(self.read_all(node, m.icmp, partial(read_icmp, family=family)))
            out.append(ServiceTerm(protocol, sources, destinations, types))
        return out

    def _protocols(self, node: Node, m: ServiceMap) -> list[Numbers]:
        found = []
        for token in self.get.tokens(node, m.protocol) or ():
            try:
                found.append(read_protocol(str(self.get.translated(token, m.protocol or ""))))
            except NotUnderstoodError as error:
                self.ledger.unread(token.where, error.message)
        return found

    def schedules(self) -> tuple[Schedule, ...]:
        return tuple(
            Schedule(self.get.text(node, m.name), self.get.text(node, m.times), node.where)
            for m in self.dialect.schedules
            for node in self.get.each(self.root, m.at)
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

"""From groups of statements to mappings: which are rules, which are what rules refer to, and which field is which."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property
from ipaddress import ip_interface

from aiguille.readers.mapped.starting import hints
from aiguille.readers.mapped.starting.content import (
    Group,
    common,
    is_address,
    is_ports,
    is_protocol,
)
from aiguille.readers.mapped.starting.notation import Mapped, place, quote
from aiguille.readers.mapped.starting.rule_fields import RuleGuess, is_secret

_FEW = 6
"""A statement with more fields than that is no object."""


class Guesses:
    """Everything guessed of a sample.

    interfaces, zones, addresses, services, rules: the groups taken for these
    """

    def __init__(self, groups: Sequence[Group]) -> None:
        # A statement of one word is a field of the one it stands in.
        named = {one.path for one in groups if one.name_field is not None}
        self.groups = [one for one in groups if one.fields and not _is_field(one, named)]
        for one in self.groups:
            self._name_by_use(one)
        ruling = tuple(f"{one.path}/" for one in self.groups if one.action is not None)
        # What stands inside a rule is a part of it.
        plain = [
            one
            for one in self.groups
            if one.action is None and one.name_field is not None and not one.path.startswith(ruling)
        ]
        self.interfaces = [Mapped(one) for one in plain if _holds_hosts(one)]
        taken = {one.group.path for one in self.interfaces}
        self.addresses = [Mapped(one) for one in plain if one.path not in taken and _is_object(one)]
        taken |= {one.group.path for one in self.addresses}
        self.services = [Mapped(one) for one in plain if one.path not in taken and _is_service(one)]
        taken |= {one.group.path for one in self.services}
        self._add_groups_of_names(plain, taken)
        self.zones = [Mapped(one) for one in plain if one.path not in taken and self._is_zone(one)]
        if not self.zones:
            self.zones = list(self._zones_of_interfaces())
        self.rules = [Mapped(one) for one in self._rule_groups()]
        for mapped in self.rules:
            RuleGuess(self, mapped).run()
        for mapped in (*self.interfaces, *self.zones, *self.addresses, *self.services):
            self._object(mapped)

    def names(self, several: Sequence[Mapped]) -> frozenset[str]:
        return frozenset(
            value for one in several if one.group.name_field is not None for value in one.group.name_field.values
        )

    @cached_property
    def interface_names(self) -> frozenset[str]:
        return self.names(self.interfaces)

    @cached_property
    def zone_names(self) -> frozenset[str]:
        return self.names(self.zones)

    @cached_property
    def address_names(self) -> frozenset[str]:
        return self.names(self.addresses)

    @cached_property
    def service_names(self) -> frozenset[str]:
        return self.names(self.services)

    @cached_property
    def secrets(self) -> list[str]:
        """Places that look as if they held what nobody should see."""
        return [f"{group.path}/{one.path}" for group in self.groups for one in group.fields.values() if is_secret(one)]

    def _add_groups_of_names(self, plain: Sequence[Group], taken: set[str]) -> None:
        """Groups of objects: statements with a name that list names of objects."""
        for kind in (self.addresses, self.services):
            names = self.names(kind)
            for one in plain:
                members = [
                    f for f in one.fields.values() if f is not one.name_field and f.share(names.__contains__) > 0.5
                ]
                if names and one.path not in taken and members and "/" not in members[0].path:
                    kind.append(Mapped(one))
                    taken.add(one.path)

    def _name_by_use(self, group: Group) -> None:
        """Statements that add one member each to a group repeat its name: the place whose words rules refer to."""
        if group.action is not None or group.name_field is not None or not group.addresses():
            return
        for one in group.fields.values():
            names = {value for value in one.values if value.lower() not in hints.FLAGS}
            if (
                "/" not in one.path
                and one.share(is_address) == 0
                and any(
                    other.share(names.__contains__) > 0.5
                    for user in self.groups
                    if user.action is not None
                    for other in user.fields.values()
                )
            ):
                group.name_field = one

    def _is_zone(self, group: Group) -> bool:
        """Whether something else refers to a group's names, as rules and interfaces do to zones."""
        own = group.name_field
        if own is None:
            return False
        if "/" in own.path:
            return False
        names = {
            v for v in own.values if not (v.isdecimal() or v.lower() in hints.FLAGS or is_protocol(v) or is_address(v))
        }
        return any(
            other.share(names.__contains__) > 0.5 and len(other.values) > 1
            for user in self.groups
            if user is not group and (user.action is not None or _holds_hosts(user))
            for other in user.fields.values()
            if other is not user.name_field and ("/" not in other.path or other.hints(*hints.ZONES))
        )

    def _zones_of_interfaces(self) -> Iterator[Mapped]:
        """Zones that nothing lists, but interfaces say they are in and rules refer to."""
        for mapped in self.interfaces:
            group = mapped.group
            for one in group.fields.values():
                words = {word for word in one.decisive if not is_address(word) and not word.isdecimal()}
                if one is group.name_field or "/" in one.path or one.path.startswith("@") or not words:
                    continue
                used = any(
                    other.share(words.__contains__) > 0.5
                    for user in self.groups
                    if user.action is not None
                    for other in user.fields.values()
                )
                if one.hints(*hints.ZONES) or used:
                    zone = Group(group.path, group.nodes, group.fields)
                    zone.name_field = one
                    yield Mapped(zone)
                    break

    def _rule_groups(self) -> Iterator[Group]:
        found = [group for group in self.groups if group.action is not None and self._has_conditions(group)]
        for group in found:
            # Blocks that only hold rules look like rules too.
            if not any(other.path.startswith(f"{group.path}/") for other in found):
                yield group

    def _has_conditions(self, group: Group) -> bool:
        action = group.action
        return action is not None and any(
            one.share(self._is_condition) > 0.5 for one in group.fields.values() if one is not action
        )

    def _is_condition(self, value: str) -> bool:
        return (
            is_address(value)
            or is_protocol(value)
            or value in self.address_names
            or value in self.service_names
            or value in self.zone_names
            or value in self.interface_names
        )

    def _object(self, mapped: Mapped) -> None:
        """Name, members and the rest of an object."""
        group, keys = mapped.group, mapped.keys
        own = group.name_field
        if own is not None:
            keys["name"] = quote(own.path)
        kind = next(
            name
            for name, several in (
                ("interface", self.interfaces), ("zone", self.zones), ("address", self.addresses), ("service", self.services),
            )
            if any(mapped is one for one in several)
        )  # fmt: skip
        for one in group.fields.values():
            if one is own or "/" in one.path:
                continue
            if one.excepts:
                # What is taken out again is no member; of anything but addresses it stays to be described.
                if kind == "address" and one.share(lambda v: is_address(v) or v in self.address_names) > 0.5:
                    keys.setdefault("excluded", place(one, is_address))
                continue
            if kind == "zone" and group.path in {mapped.group.path for mapped in self.interfaces}:
                continue
            if one.hints(*hints.TEXTS["comment"]):
                keys.setdefault("comment", quote(one.path))
            elif kind == "interface" and one.share(is_address) > 0.5:
                keys.setdefault("addresses", place(one, is_address))
            elif kind == "interface" and self.zone_names and one.share(self.zone_names.__contains__) > 0.5:
                keys.setdefault("zone", quote(one.path))
            elif kind == "address" and one.share(lambda v: is_address(v) or v in self.address_names) > 0.5:
                keys.setdefault("members", place(one, is_address))
            elif kind == "service" and group.holds_terms(one):
                keys.setdefault("protocol", quote(f"{one.path}@1"))
                keys.setdefault("destination-ports", quote(f"{one.path}@2-"))
            elif kind == "service" and one.share(is_protocol) > 0.5:
                keys.setdefault("protocol", quote(one.path))
            elif kind == "service" and one.share(is_ports) > 0.5:
                keys.setdefault(
                    "source-ports" if one.hints(*hints.SOURCE) else "destination-ports", place(one, is_ports)
                )
            elif kind == "service" and one.share(self.service_names.__contains__) > 0.5:
                keys.setdefault("members", quote(one.path))


def _is_field(group: Group, named: set[str]) -> bool:
    """Whether statements are nothing but a field of those they stand in: one word, or words of a list in a named block."""
    plain = all(path.startswith("@") for path in group.fields)
    return set(group.fields) == {"@1"} or (plain and group.path.rpartition("/")[0] in named)


def _holds_hosts(group: Group) -> bool:
    """Whether statements carry an address of their own with its prefix, as interfaces do."""

    def is_host(text: str) -> bool:
        try:
            found = ip_interface(text)
        except ValueError:
            return False
        return "/" in text and found.ip != found.network.network_address

    return any("/" not in one.path and one.share(is_host) > 0.5 for one in group.fields.values())


def _is_object(group: Group) -> bool:
    """Whether statements hold addresses and little else; groups of them hold names of one another as well."""
    own = group.name_field
    names = frozenset(own.values) if own is not None else frozenset()
    return len(group.fields) <= _FEW and any(
        "/" not in one.path
        and one is not own
        and not one.excepts
        and any(map(is_address, one.values))
        and one.share(lambda value: is_address(value) or value in names) > 0.5
        for one in group.fields.values()
    )


def _is_service(group: Group) -> bool:
    fields = [one for one in group.fields.values() if one is not group.name_field and "/" not in one.path]
    return len(group.fields) <= 7 and (
        any(one.share(is_protocol) > 0.5 or group.holds_terms(one) for one in fields)
        or any(one.hints("port", "ports") and one.share(is_ports) > 0.5 for one in fields)
    )


def verdicts(rules: Sequence[Mapped]) -> tuple[dict[str, str], list[str]]:
    """The words for what rules do with what each means, and those that are not known."""
    words = common([value for one in rules if one.group.action is not None for value in one.group.action.values])
    return {w: hints.ACTIONS[w.lower()] for w in words if w.lower() in hints.ACTIONS}, [
        w for w in words if w.lower() not in hints.ACTIONS
    ]

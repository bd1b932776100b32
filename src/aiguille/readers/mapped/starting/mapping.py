"""From groups of statements to mappings: which are rules, which are what rules refer to, and which field is which."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from ipaddress import ip_interface

from aiguille.readers.mapped.starting.content import (
    ACTIONS,
    FLAGS,
    RULE_NAMES,
    STATES,
    Field,
    Group,
    common,
    is_address,
    is_date,
    is_number,
    is_ports,
    is_protocol,
    is_service,
    split_sign,
)
from aiguille.readers.mapped.tree import Node

_IN = ("out-of", "from", "in", "by", "incoming", "src", "source", "of", "arriving", "entering")
_OUT = ("into", "to", "toward", "out", "outgoing", "dst", "dest", "destination", "leaving")
_SOURCE = ("src", "source", "from", "of", "sender", "origin")
_DESTINATION = ("dst", "dest", "destination", "to", "receiver", "target")
_COUNTS = ("hits", "hit", "count", "counter", "packets", "met", "seen", "matches", "used")
_LOGS = ("log", "logged", "logging", "note", "noted", "record", "recorded", "told", "journal")
_SWITCH_ON = ("enabled", "enable", "active", "live", "on", "state", "status")
_SWITCH_OFF = ("disabled", "disable", "off", "resting", "inactive", "paused")
_TEXTS = {
    "comment": ("comment", "comments", "description", "says", "why", "remark", "remarks", "notes", "note", "purpose"),
    "requester": ("requester", "owner", "asked", "requested", "contact"),
    "ticket": ("ticket", "change", "case"),
    "schedule": ("schedule", "during", "hours", "time", "times"),
}
_DATES = {
    "last-hit": ("last", "seen"),
    "expires": ("expires", "expiry", "until", "valid"),
    "created-at": ("created", "made", "since"),
    "changed-at": ("changed", "touched", "modified", "updated"),
}
_WAYS = ("direction", "way", "chain", "stage")
_PEOPLE = ("who", "by", "changed", "made", "touched", "created", "asked", "owner")
_ZONES = ("zone", "area", "side", "lane", "segment", "network", "bundle")
_ORDER = ("no", "nr", "number", "seq", "position", "order", "seat")
_SECRET = ("password", "passwd", "secret", "proof", "hash", "token", "passphrase", "psk")


_CHAINS = 20
"""More different words than that are no names of chains."""

_PLAIN = re.compile(r"[A-Za-z][\w/-]*( [\w/-]+)*")
_YAML_WORDS = frozenset({"on", "off", "yes", "no", "true", "false", "null", "y", "n"})


@dataclass
class Mapped:
    """A group and what its fields are taken for: key of the language to place with options, as YAML writes them."""

    group: Group
    keys: dict[str, str] = field(default_factory=dict)
    qualifiers: list[tuple[str, str]] = field(default_factory=list)


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
        plain = [one for one in self.groups if one.action is None and one.name_field is not None]
        self.interfaces = [Mapped(one) for one in plain if _holds_hosts(one)]
        taken = {one.group.path for one in self.interfaces}
        self.addresses = [Mapped(one) for one in plain if one.path not in taken and _is_object(one)]
        taken |= {one.group.path for one in self.addresses}
        self.services = [Mapped(one) for one in plain if one.path not in taken and _is_service(one)]
        taken |= {one.group.path for one in self.services}
        self._add_groups_of_names(plain, taken)
        self.zones = [Mapped(one) for one in plain if one.path not in taken and self._is_zone(one)]
        self.rules = [Mapped(one) for one in self._rule_groups()]
        for mapped in self.rules:
            _RuleGuess(self, mapped).run()
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
            names = {value for value in one.values if value.lower() not in FLAGS}
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
        names = {v for v in own.values if not (v.isdecimal() or v.lower() in FLAGS or is_protocol(v) or is_address(v))}
        return any(
            other.share(names.__contains__) > 0.5 and len(other.values) > 1
            for user in self.groups
            if user is not group and (user.action is not None or _holds_hosts(user))
            for other in user.fields.values()
            if other is not user.name_field and ("/" not in other.path or other.hints(*_ZONES))
        )

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
            if mapped in several
        )  # fmt: skip
        for one in group.fields.values():
            if one is own or "/" in one.path:
                continue
            if one.hints(*_TEXTS["comment"]):
                keys.setdefault("comment", quote(one.path))
            elif kind == "interface" and one.share(is_address) > 0.5:
                keys.setdefault("addresses", place(one, is_address))
            elif kind == "interface" and self.zone_names and one.share(self.zone_names.__contains__) > 0.5:
                keys.setdefault("zone", quote(one.path))
            elif kind == "address" and one.share(lambda v: is_address(v) or v in self.address_names) > 0.5:
                keys.setdefault("members", place(one, is_address))
            elif kind == "service" and one.share(is_protocol) > 0.5:
                keys.setdefault("protocol", quote(one.path))
            elif kind == "service" and one.share(is_ports) > 0.5:
                keys.setdefault("source-ports" if one.hints(*_SOURCE) else "destination-ports", place(one, is_ports))
            elif kind == "service" and one.share(self.service_names.__contains__) > 0.5:
                keys.setdefault("members", quote(one.path))


class _RuleGuess:
    """Guesses the fields of the rules of one group."""

    def __init__(self, all_: Guesses, mapped: Mapped) -> None:
        self.all = all_
        self.group = mapped.group
        self.keys = mapped.keys
        self.qualifiers = mapped.qualifiers

    def run(self) -> None:
        group = self.group
        action = group.action
        if action is None:
            return
        self.keys["action"] = f"{{from: {quote(action.path)}, words: verdict}}"
        own = next((group.fields[word] for word in RULE_NAMES if word in group.fields), None) or group.fields.get("@1")
        rest = [one for one in group.fields.values() if one is not action]
        target, chain = self._chain(rest)
        if chain is not None:
            self.keys["chain"] = quote(chain.path)
            self.keys["target"] = quote(target.path) if target is not None else ""
        self._two_addresses([one for one in rest if one not in (target, chain)])
        for one in rest:
            if one in (target, chain) or self._is_taken(one) or is_secret(one):
                continue
            if one is own:
                self.keys["name"] = quote(one.path)
                continue
            key, told = self._field(one)
            if key and key not in self.keys:
                self.keys[key] = told
            else:
                self.qualifiers.append((one.word.strip("@'") if "@" not in one.path else "word", one.path))
        for up, name in self._ancestors():
            self.qualifiers.append(("the block it stands in", f"{up}/{name}"))

    def _is_taken(self, one: Field) -> bool:
        return any(
            told in (quote(one.path), place(one, is_address))
            for key, told in self.keys.items()
            if key in ("source", "destination")
        )

    def _chain(self, fields: Sequence[Field]) -> tuple[Field | None, Field | None]:
        """Where jumps lead and which chain a rule is in: the words of one place are among those of the other."""
        for target in fields:
            if target.filled * 2 > len(self.group.nodes):
                continue
            leads = set(target.values)
            for chain in fields:
                stands = set(chain.values)
                everywhere = chain.filled == len(self.group.nodes) and len(stands) <= _CHAINS
                if chain is not target and everywhere and leads < stands and not target.share(is_address):
                    return target, chain
        for chain in fields:
            if (
                chain.hints(*_WAYS)
                and "/" not in chain.path
                and chain.filled == len(self.group.nodes)
                and len(set(chain.values)) <= _CHAINS
            ):
                return None, chain
        return None, None

    def _two_addresses(self, fields: Sequence[Field]) -> None:
        names = self.all.address_names
        found = [
            one
            for one in fields
            if one.share(lambda v: is_address(v) or v in names) > 0.5 and not (one.hints(*_PEOPLE) and "/" in one.path)
        ]
        for key, words in (("source", _SOURCE), ("destination", _DESTINATION)):
            hinted = [one for one in found if one.hints(*words) and f"{key}" not in self.keys]
            if hinted:
                # The place with the most words is the condition; others of its kind stay conditions that are not computed.
                best = max(hinted, key=lambda f: f.filled)
                several = [f for f in hinted if f is best or not _together(self.group, f, best)]
                self.keys[key] = place(best, is_address, [f.path for f in several])
                for one in several:
                    found.remove(one)
        for one, key in zip(found, [k for k in ("source", "destination") if k not in self.keys], strict=False):
            self.keys[key] = place(one, is_address)

    def _field(self, one: Field) -> tuple[str, str]:
        """The key a field is taken for and how it is written, or nothing."""
        everything = self.all
        if one.share(is_protocol) > 0.5:
            return "protocol", place(one, is_protocol)
        if one.share(everything.zone_names.__contains__) > 0.5:
            return _way("zone", one), place(one, everything.zone_names.__contains__)
        if one.share(everything.interface_names.__contains__) > 0.5:
            return _way("interface", one), place(one, everything.interface_names.__contains__)
        services = everything.service_names
        if one.hints("port", "ports") and one.share(lambda v: is_ports(v) or v in services) > 0.5:
            key = "source-ports" if one.hints(*_SOURCE) else "destination-ports"
            return key, place(one, is_ports)
        if one.share(lambda v: v in services or is_service(v)) > 0.5 or split_sign(one.values, is_service):
            return "service", place(one, is_service)
        if one.share(lambda v: all(part.lower() in STATES for part in v.split(","))) > 0.5:
            return "states", place(one, lambda v: v.lower() in STATES, extra="words: states")
        return self._record(one)

    def _record(self, one: Field) -> tuple[str, str]:
        """What a field that is no condition tells about the rule."""
        if one.share(lambda v: v.lower() in FLAGS) > 0.9:
            if one.hints(*_SWITCH_OFF):
                return "enabled", f"{{from: {quote(one.path)}, words: no-or-yes, missing: true}}"
            for key, words in (("logged", _LOGS), ("enabled", _SWITCH_ON)):
                if one.hints(*words):
                    return (
                        key,
                        f"{{from: {quote(one.path)}, words: yes-or-no, missing: {'true' if key == 'enabled' else 'false'}}}",
                    )
        if one.share(is_number) > 0.9 and one.hints(*_COUNTS):
            return "hits", quote(one.path)
        if one.share(is_number) > 0.9 and one.hints(*_ORDER) and len(set(one.values)) == len(self.group.nodes):
            return "order", quote(one.path)
        if one.share(is_date) > 0.9:
            for key, hints in _DATES.items():
                if any(word in one.path.lower() for word in hints):
                    return key, quote(one.path)
        for key, hints in _TEXTS.items():
            if one.hints(*hints) and one.share(is_number) < 0.5:
                return key, place(one, None) if key == "schedule" else quote(one.path)
        return "", ""

    def _ancestors(self) -> Iterator[tuple[str, str]]:
        """The blocks a rule stands in that come several times, by what tells them apart: that may be a condition too."""
        up = ".."
        nodes: set[Node] = {one.parent for one in self.group.nodes if one.parent is not None}
        path = self.group.path
        while "/" in path:
            path = path.rpartition("/")[0]
            above = next((one for one in self.all.groups if one.path == path), None)
            name = above.name_field if above is not None else None
            if above is not None and name is not None and len(above.nodes) > 1:
                yield up, name.path
            nodes = {one.parent for one in nodes if one.parent is not None}
            up += "/.."


def is_secret(one: Field) -> bool:
    """Whether a place looks as if it held what nobody should see."""
    plain = "/" not in one.path and not one.path.startswith("@")
    return plain and one.hints(*_SECRET) and not one.share(lambda value: value.lower() in FLAGS)


def _is_field(group: Group, named: set[str]) -> bool:
    """Whether statements are nothing but a field of those they stand in: one word, or words of a list in a named block."""
    plain = all(path.startswith("@") for path in group.fields)
    return set(group.fields) == {"@1"} or (plain and group.path.rpartition("/")[0] in named)


def _together(group: Group, one: Field, other: Field) -> bool:
    """Whether two places are ever filled in the same statement."""
    return one.filled + other.filled > len(group.nodes)


def _way(what: str, one: Field) -> str:
    return f"out-{what}" if one.hints(*_OUT) and not one.hints("out-of") else f"in-{what}"


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
    return (
        any("/" not in one.path and one is not group.name_field for one in group.addresses()) and len(group.fields) <= 6
    )


def _is_service(group: Group) -> bool:
    fields = [one for one in group.fields.values() if one is not group.name_field and "/" not in one.path]
    return len(group.fields) <= 7 and (
        any(one.share(is_protocol) > 0.5 for one in fields)
        or any(one.hints("port", "ports") and one.share(is_ports) > 0.5 for one in fields)
    )


def quote(text: str) -> str:
    """Text as YAML takes it."""
    if _PLAIN.fullmatch(text) and text.lower() not in _YAML_WORDS:
        return text
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def place(one: Field, test: Callable[[str], bool] | None, paths: Sequence[str] = (), extra: str = "") -> str:
    """A place with the options its words ask for."""
    sign = split_sign(one.telling, test) if test is not None else ""
    options = []
    if sign:
        options.append(f'split: "{sign}"')
    if one.any:
        options.append(f"any: [{', '.join(quote(word) for word in one.any)}]")
    if any(value.startswith(("~", "!")) for value in one.values):
        options.append(f'negated-by: "{next(v[0] for v in one.values if v[0] in "~!")}"')
    if extra:
        options.append(extra)
    told = quote(one.path) if len(paths) < 2 else f"[{', '.join(quote(path) for path in paths)}]"
    return f"{{{', '.join([f'from: {told}', *options])}}}" if options or len(paths) > 1 else told


def verdicts(rules: Sequence[Mapped]) -> tuple[dict[str, str], list[str]]:
    """The words for what rules do with what each means, and those that are not known."""
    words = common([value for one in rules if one.group.action is not None for value in one.group.action.values])
    return {w: ACTIONS[w.lower()] for w in words if w.lower() in ACTIONS}, [
        w for w in words if w.lower() not in ACTIONS
    ]

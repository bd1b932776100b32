"""Which field of a rule is which, by what stands there and by what it is called."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Protocol

from aiguille.readers.mapped.starting import hints
from aiguille.readers.mapped.starting.content import (
    RULE_NAMES,
    Field,
    Group,
    is_address,
    is_date,
    is_number,
    is_ports,
    is_protocol,
    is_service,
    split_sign,
)
from aiguille.readers.mapped.starting.notation import Mapped, place, quote, with_exception
from aiguille.readers.mapped.tree import Node

_CONDITIONS = frozenset(
    (
        *("source", "destination", "in-zone", "out-zone", "in-interface", "out-interface"),
        *("service", "protocol", "source-ports", "destination-ports", "states"),
    )
)
_EVERY = "ip"
"""What many write for every protocol."""
_CHAINS = 20
"""More different words than that are no names of chains."""


class Known(Protocol):
    """What rules may refer to."""

    groups: list[Group]

    @property
    def interface_names(self) -> frozenset[str]: ...
    @property
    def zone_names(self) -> frozenset[str]: ...
    @property
    def address_names(self) -> frozenset[str]: ...
    @property
    def service_names(self) -> frozenset[str]: ...


class RuleGuess:
    """Guesses the fields of the rules of one group."""

    def __init__(self, all_: Known, mapped: Mapped) -> None:
        self.all = all_
        self.group = mapped.group
        self.keys = mapped.keys
        self.qualifiers = mapped.qualifiers
        self._taken: dict[str, str] = {}
        """By path, the key a field was taken for."""

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
        self._two_addresses([one for one in rest if one not in (target, chain) and not one.excepts])
        for one in rest:
            if one in (target, chain) or one.path in self._taken or is_secret(one) or one.excepts:
                continue
            if group.holds_terms(one) and not {"protocol", "destination-ports"} & self.keys.keys():
                any_ = f", any: [{', '.join(map(quote, one.any))}]" if one.any else ""
                self.keys["protocol"] = f'{{from: "{one.path}@1"{any_}}}' if any_ else quote(f"{one.path}@1")
                self.keys["destination-ports"] = quote(f"{one.path}@2-")
                continue
            key, described = self._field(one)
            if key in self.keys and one.path.startswith("@") and key in ("in-zone", "in-interface"):
                # Of two that only their places tell apart, the first is where a packet comes from.
                key = key.replace("in-", "out-")
            if one is own and key not in _CONDITIONS:
                self.keys["name"] = quote(one.path)
            elif key and key not in self.keys:
                self.keys[key] = described
                self._taken[one.path] = key
            else:
                self._leave_open(one)
        self._exceptions([one for one in rest if one.excepts])
        for up, name in self._ancestors():
            self.qualifiers.append(("the block it stands in", f"{up}/{name}"))

    def _leave_open(self, one: Field) -> None:
        self.qualifiers.append((one.word.strip("@'") if "@" not in one.path else "word", one.path))

    def _exceptions(self, fields: Sequence[Field]) -> None:
        """What takes words out of a condition again, beside that condition where it is plain which one is meant."""
        for one in fields:
            key = next((self._taken.get(f.path) for f in self.group.fields.values() if f.excepted == one.path), None)
            is_address_of = one.share(lambda v: is_address(v) or v in self.all.address_names) > 0.5
            if key in _CONDITIONS and is_address_of is (key in ("source", "destination")):
                self.keys[key] = with_exception(self.keys[key], one.path)
            else:
                self._leave_open(one)

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
                chain.hints(*hints.WAYS)
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
            if one.share(lambda v: is_address(v) or v in names) > 0.5
            and not (one.hints(*hints.PEOPLE) and "/" in one.path)
        ]
        for key, words in (("source", hints.SOURCE), ("destination", hints.DESTINATION)):
            hinted = [one for one in found if one.hints(*words) and f"{key}" not in self.keys]
            if hinted:
                # The place with the most words is the condition; others of its kind stay conditions that are not computed.
                best = max(hinted, key=lambda f: f.filled)
                several = [f for f in hinted if f is best or not _together(self.group, f, best)]
                self.keys[key] = place(best, is_address, [f.path for f in several])
                self._taken |= {f.path: key for f in several}
                for one in several:
                    found.remove(one)
        free = [k for k in ("source", "destination") if k not in self.keys]
        # One place alone may be either.
        for one, key in zip(found, free, strict=False) if len(found) >= len(free) else ():
            self.keys[key] = place(one, is_address)
            self._taken[one.path] = key

    def _field(self, one: Field) -> tuple[str, str]:
        """The key a field is taken for and how it is written, or nothing."""
        everything = self.all
        if one.is_flag:
            for key, words, missing in (("logged", hints.LOGS, "false"), ("enabled", hints.SWITCH_OFF, "true")):
                if one.means(words):
                    return key, f"{{from: {quote(one.path)}, words: said, missing: {missing}}}"
            return "", ""
        if one.share(lambda v: is_protocol(v) or v.lower() == _EVERY) > 0.5:
            whole = next((value for value in one.values if value.lower() == _EVERY), "")
            return "protocol", place(one, is_protocol, also_any=whole)
        if one.share(everything.zone_names.__contains__) > 0.5:
            return _way("zone", one), place(one, everything.zone_names.__contains__)
        if one.share(everything.interface_names.__contains__) > 0.5:
            return _way("interface", one), place(one, everything.interface_names.__contains__)
        services = everything.service_names
        if one.hints("port", "ports") and one.share(lambda v: is_ports(v) or v in services) > 0.5:
            key = "source-ports" if one.hints(*hints.SOURCE) else "destination-ports"
            return key, place(one, is_ports)
        if one.share(lambda v: v in services or is_service(v)) > 0.5 or split_sign(one.values, is_service):
            return "service", place(one, is_service)
        if one.share(lambda v: all(part.lower() in hints.STATES for part in v.split(","))) > 0.5:
            return "states", place(one, lambda v: v.lower() in hints.STATES, extra="words: states")
        return self._record(one)

    def _record(self, one: Field) -> tuple[str, str]:
        """What a field that is no condition shows about the rule."""
        if one.share(lambda v: v.lower() in hints.FLAGS) > 0.9:
            if one.hints(*hints.SWITCH_OFF):
                return "enabled", f"{{from: {quote(one.path)}, words: no-or-yes, missing: true}}"
            for key, words in (("logged", hints.LOGS), ("enabled", hints.SWITCH_ON)):
                if one.hints(*words):
                    return (
                        key,
                        f"{{from: {quote(one.path)}, words: yes-or-no, missing: {'true' if key == 'enabled' else 'false'}}}",
                    )
        if one.share(is_number) > 0.9 and one.hints(*hints.COUNTS):
            return "hits", quote(one.path)
        if one.share(is_number) > 0.9 and one.hints(*hints.ORDER) and len(set(one.values)) == len(self.group.nodes):
            return "order", quote(one.path)
        if one.share(is_date) > 0.9:
            for key, wanted in hints.DATES.items():
                if any(word in one.path.lower() for word in wanted):
                    return key, quote(one.path)
        for key, wanted in hints.TEXTS.items():
            if one.hints(*wanted) and one.share(is_number) < 0.5:
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
    return plain and one.hints(*hints.SECRET) and not one.share(lambda value: value.lower() in hints.FLAGS)


def _together(group: Group, one: Field, other: Field) -> bool:
    """Whether two places are ever filled in the same statement."""
    return one.filled + other.filled > len(group.nodes)


def _way(what: str, one: Field) -> str:
    return f"out-{what}" if one.hints(*hints.OUT) and not one.hints("out-of") else f"in-{what}"

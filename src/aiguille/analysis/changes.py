"""As if: an estate with changes made to it that nobody has made yet, told in sentences.

remove rule 3 of INPUT
switch off rule 4 of INPUT                      switch on rule valley-gw.v4:31
move rule 9 of passages above rule 2            move rule 2 of INPUT below rule 5
put above rule 2 of across: accept tcp from 10.44.51.5 to 192.0.2.10:443 entering g1 recorded
put first in INPUT: drop from 198.51.100.0/24   put last in FORWARD: reject udp to any:53
add 10.44.9.0/24 to group keepers               take 10.44.9.7 from group keepers
set default of FORWARD to drop
enable                                          (the rules of a program that is switched off)
on valley-gw: remove rule 3 of INPUT            (where several devices are given)

A rule is named by its number and its chain or rule base, or by FILE:LINE. Changes are made one after the other, so that a
number counts in the list as the changes before it left it. Whatever names nothing is an error with what is near.
"""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable, Iterable, Sequence
from ipaddress import ip_network

from msgspec import Struct
from msgspec.structs import replace

from aiguille.analysis.lookup import find_rule
from aiguille.model import (
    Action,
    Addresses,
    Chain,
    Condition,
    Device,
    Estate,
    Field,
    InterfaceName,
    Log,
    Match,
    Named,
    NameKind,
    Numbers,
    Operand,
    Rule,
    Rulebase,
    Span,
    UsageError,
    default,
)
from aiguille.model.protocols import PROTOCOLS
from aiguille.packets.sentences import read_ports

MADE = "as if"
"""The file that rules which only a change puts there are said to be in; their line is the number of the change."""

_EXAMPLE = "write for example: remove rule 3 of INPUT"

_RULE = r"rule (?:(?P<number>\d+) of (?P<chain>.+?)|(?P<place>\S+:\d+|\S+/\d+))"
_OTHER = r"rule (?:(?P<number2>\d+)(?: of (?P<chain2>.+?))?|(?P<place2>\S+:\d+|\S+/\d+))"


class EditPlace(Struct, frozen=True):
    """Where a rule stands, or would: indexes of rule base, chain and rule."""

    base: int
    chain: int
    rule: int = 0


Maker = Callable[[Device, re.Match[str], int], Device]


OtherWords = Callable[[str, int], Callable[[Device], Device] | None]
"""What understands a change told in other words than ours, by its number: what makes it on a device; None if it does not."""


def as_if(estate: Estate, changes: Iterable[str], other_words: OtherWords | None = None) -> Estate:
    """The estate with changes made one after the other, each a sentence as above or in words that `other_words` understands.

    Raises UsageError where a change is not understood, names nothing, or may mean several devices.
    """
    for number, change in enumerate(changes, 1):
        estate = _changed(estate, change, number, other_words)
    return estate


def _changed(estate: Estate, text: str, number: int, other_words: OtherWords | None) -> Estate:
    devices = estate.devices
    if named := re.fullmatch(r"\s*on (\S+?):\s+(.*)", text, re.DOTALL):
        names = [device.name for device in devices]
        if named[1] not in names:
            raise UsageError(f"there is no device '{named[1]}'{_near(named[1], names)}")
        devices, text = tuple(device for device in devices if device.name == named[1]), named[2]
    make = other_words(text, number) if other_words is not None else None
    done: dict[str, Device] = {}
    faults: list[UsageError] = []
    for device in devices:
        try:
            done[device.name] = make(device) if make is not None else _on_device(device, text, number)
        except _NothingNamedError as error:
            faults.append(error)
    if not done:
        raise UsageError(str(faults[0]) if faults else "there is no device to change")
    if len(done) > 1:
        raise UsageError(f"'{text}' may mean several devices: {', '.join(done)}; write 'on {min(done)}: {text}', say")
    return replace(estate, devices=tuple(done.get(device.name, device) for device in estate.devices))


class _NothingNamedError(UsageError):
    """What a change speaks of is not on this device."""


def _on_device(device: Device, text: str, number: int) -> Device:
    said = " ".join(text.split())
    for pattern, make in _SENTENCES:
        if found := re.fullmatch(pattern, said):
            return make(device, found, number)
    raise UsageError(f"the change '{said}' is not understood; {_EXAMPLE}")


def _near(name: str, known: Iterable[str]) -> str:
    all_of_them = list(dict.fromkeys(known))
    near = difflib.get_close_matches(name, all_of_them, n=2) or all_of_them[:6]
    return f"; there is {', '.join(near)}" if near else ""


def _place(device: Device, found: re.Match[str], suffix: str = "", *, within: EditPlace | None = None) -> EditPlace:
    """The rule that a sentence names."""
    if by_name := found[f"place{suffix}"]:
        try:
            wanted = find_rule(device, by_name)
        except UsageError as error:
            raise _NothingNamedError(error.message) from error
        for b, base in enumerate(device.rulebases):
            for c, chain in enumerate(base.chains):
                for r, rule in enumerate(chain.rules):
                    if rule is wanted:
                        return EditPlace(b, c, r)
    number = int(found[f"number{suffix}"])
    name = found[f"chain{suffix}"]
    chains = [within] if name is None and within is not None else _chains(device, name or "")
    fitting = [
        EditPlace(one.base, one.chain, at)
        for one in chains
        for at, rule in enumerate(device.rulebases[one.base].chains[one.chain].rules)
        if rule.number == number
    ]
    if not fitting:
        most = max(len(device.rulebases[one.base].chains[one.chain].rules) for one in chains)
        raise _NothingNamedError(f"there is no rule {number} in {name or 'that chain'} of {device.name}; it has {most}")
    if len(fitting) > 1:
        lines = (str(_rule_at(device, one).where) for one in fitting)
        raise UsageError(
            f"rule {number} of {name} may be several rules of {device.name}: {', '.join(lines)}; write FILE:LINE"
        )
    return fitting[0]


def _chains(device: Device, name: str) -> list[EditPlace]:
    """The chains that a name means, those for filtering where there are any; raises where there is none."""
    out = places_of(device, name)
    if not out:
        raise nothing_named(device, name)
    main = [one for one in out if not _translates(device.rulebases[one.base].chains[one.chain])]
    return main or out


def nothing_named(device: Device, chain: str) -> UsageError:
    """That a chain is not there, with those that are near."""
    names = [n for base in device.rulebases for one in base.chains for n in _names_of(base, one)]
    return _NothingNamedError(f"there is no chain or list of rules '{chain}' on {device.name}{_near(chain, names)}")


def places_of(device: Device, name: str) -> list[EditPlace]:
    """The chains that a name means: a chain's own, its rule base's where that has one chain, or both as BASE/CHAIN."""
    return [
        EditPlace(b, c)
        for b, base in enumerate(device.rulebases)
        for c, chain in enumerate(base.chains)
        if name in _names_of(base, chain)
    ]


def _names_of(base: Rulebase, chain: Chain) -> list[str]:
    own = [base.name] if len(base.chains) == 1 else []
    return [str(chain.name), f"{base.name}/{chain.name}", f"{base.name} {chain.name}", *own]


def _translates(chain: Chain) -> bool:
    return chain.base is not None and (chain.base.kind == "nat" or chain.base.priority != 0)


def _rule_at(device: Device, place: EditPlace) -> Rule:
    return device.rulebases[place.base].chains[place.chain].rules[place.rule]


def with_rules(device: Device, place: EditPlace, rules: Sequence[Rule]) -> Device:
    """The device with other rules in one chain, numbered anew where they were numbered in order."""
    chain = device.rulebases[place.base].chains[place.chain]
    if all(rule.number == at for at, rule in enumerate(chain.rules, 1)):
        rules = [rule if rule.number == at else replace(rule, number=at) for at, rule in enumerate(rules, 1)]
    return _with_chain(device, place, replace(chain, rules=tuple(rules)))


def _with_chain(device: Device, place: EditPlace, chain: Chain) -> Device:
    base: Rulebase = device.rulebases[place.base]
    chains = (*base.chains[: place.chain], chain, *base.chains[place.chain + 1 :])
    bases = (*device.rulebases[: place.base], replace(base, chains=chains), *device.rulebases[place.base + 1 :])
    return replace(device, rulebases=bases)


def rules_at(device: Device, place: EditPlace) -> list[Rule]:
    return list(device.rulebases[place.base].chains[place.chain].rules)


def _remove(device: Device, found: re.Match[str], _: int) -> Device:
    place = _place(device, found)
    rules = rules_at(device, place)
    del rules[place.rule]
    return with_rules(device, place, rules)


def _switch(device: Device, found: re.Match[str], _: int) -> Device:
    place = _place(device, found)
    rules = rules_at(device, place)
    rules[place.rule] = replace(rules[place.rule], enabled=found["way"] == "on")
    return with_rules(device, place, rules)


def _move(device: Device, found: re.Match[str], _: int) -> Device:
    place = _place(device, found)
    other = _place(device, found, "2", within=place)
    if (place.base, place.chain) != (other.base, other.chain):
        raise UsageError("a rule can be moved within its own chain only; remove it and put another where it is wanted")
    rules = rules_at(device, place)
    target = rules[other.rule]
    moved = rules.pop(place.rule)
    at = next(at for at, rule in enumerate(rules) if rule is target) if target is not moved else place.rule
    rules.insert(at + (found["side"] == "below" and target is not moved), moved)
    return with_rules(device, place, rules)


def _put_beside(device: Device, found: re.Match[str], number: int) -> Device:
    place = _place(device, found)
    rules = rules_at(device, place)
    rules.insert(place.rule + (found["side"] == "below"), _new_rule(device, found["told"], number))
    return with_rules(device, place, rules)


def _put_at_end(device: Device, found: re.Match[str], number: int) -> Device:
    rule = _new_rule(device, found["told"], number)
    for place in _for_family(device, _chains(device, found["chain"]), rule):
        rules = rules_at(device, place)
        rules.insert(0 if found["end"] == "first" else len(rules), rule)
        device = with_rules(device, place, rules)
    return device


def _for_family(device: Device, places: Sequence[EditPlace], rule: Rule) -> list[EditPlace]:
    """Of chains of one name those of the families that a rule speaks of."""
    families = {o.family for c in rule.match.conditions for o in c.operands if isinstance(o, Addresses)}
    return [one for one in places if not families or not families.isdisjoint(device.rulebases[one.base].families)]


def default_set(device: Device, place: EditPlace, action: str) -> Device:
    """The device with another default of one chain."""
    chain = device.rulebases[place.base].chains[place.chain]
    return _with_chain(device, place, replace(chain, policy=Action(action), policy_is_default=False))


def _default(device: Device, found: re.Match[str], _: int) -> Device:
    done = 0
    for place in _chains(device, found["chain"]):
        if device.rulebases[place.base].chains[place.chain].base is not None:
            done += 1
            device = default_set(device, place, found["action"])
    if not done:
        raise UsageError(f"{found['chain']} of {device.name} has no default of its own: it is called by other chains")
    return device


def _member(device: Device, found: re.Match[str], _: int) -> Device:
    name = found["group"]
    network = _network(found["member"])
    objects = list(device.addresses)
    at = next((at for at, one in enumerate(objects) if one.name == name), None)
    if at is None:
        known = [one.name for one in objects]
        raise _NothingNamedError(f"there is no group '{name}' on {device.name}{_near(name, known)}")
    one = objects[at]
    if found["verb"] == "add":
        objects[at] = replace(one, members=(*one.members, network))
    elif network in one.members:
        objects[at] = replace(one, members=tuple(member for member in one.members if member != network))
    else:
        objects[at] = replace(one, excluded=(*one.excluded, network))
    return replace(device, addresses=tuple(objects))


def _enable(device: Device, found: re.Match[str], number: int) -> Device:
    """The rules a program would load take the place of those that let everything through while it is off."""
    if not device.waiting:
        raise _NothingNamedError(f"{device.name} has no rules that wait to be switched on")
    return replace(device, rulebases=device.waiting, waiting=(), loads_rules=default(True))


_SENTENCES: tuple[tuple[str, Maker], ...] = (
    (rf"remove {_RULE}", _remove),
    (rf"switch (?P<way>on|off) {_RULE}", _switch),
    (rf"move {_RULE} (?P<side>above|below) {_OTHER}", _move),
    (rf"put (?P<side>above|below) {_RULE}: (?P<told>.+)", _put_beside),
    (r"put (?P<end>first|last) in (?P<chain>.+?): (?P<told>.+)", _put_at_end),
    (r"set default of (?P<chain>.+?) to (?P<action>accept|drop|reject)", _default),
    (r"enable", _enable),
    (r"(?P<verb>add) (?P<member>\S+) to group (?P<group>.+)", _member),
    (r"(?P<verb>take) (?P<member>\S+) from group (?P<group>.+)", _member),
)


def _new_rule(device: Device, described: str, number: int) -> Rule:
    """``accept tcp from 10.44.51.5 to 192.0.2.10:443 entering g1 recorded``: names of objects and zones, addresses, ports."""
    words = described.split()
    if words[0] not in ("accept", "drop", "reject"):
        raise UsageError(f"'{words[0]}' in '{described}' is not what a rule does: accept, drop or reject")
    conditions: list[Condition] = []
    effects: tuple[Log, ...] = ()
    protocol = ""
    at = 1
    while at < len(words):
        word = words[at]
        if word == "recorded":
            effects = (Log(),)
            at += 1
            continue
        if word in ("from", "to", "entering", "leaving"):
            if at + 1 == len(words):
                raise UsageError(f"'{described}' ends after '{word}'")
            conditions += _end(device, word, words[at + 1], protocol)
            at += 2
            continue
        known = PROTOCOLS.get(word)
        if known is None:
            raise UsageError(
                f"'{word}' in '{described}' is not understood: expected a protocol, from, to, entering, leaving or recorded"
            )
        protocol = word
        conditions.append(Condition(Field.PROTOCOL, (Numbers(known, known),)))
        at += 1
    where = Span(MADE, number, number)
    return Rule(0, where, Action(words[0]), Match(tuple(conditions)), described, comment="as if", effects=effects)


def _end(device: Device, word: str, text: str, protocol: str) -> list[Condition]:
    if word in ("entering", "leaving"):
        entering = word == "entering"
        if device.zone(text) is not None:
            return [Condition(Field.IN_ZONE if entering else Field.OUT_ZONE, (Named(NameKind.ZONE, text),))]
        return [Condition(Field.IN_INTERFACE if entering else Field.OUT_INTERFACE, (InterfaceName(text),))]
    address, ports = _parted(text)
    out = []
    if address not in ("", "any"):
        operand: Operand = (
            Named(NameKind.ADDRESS, address)
            if any(one.name == address for one in device.addresses)
            else _network(address, [one.name for one in device.addresses])
        )
        out.append(Condition(Field.SOURCE if word == "from" else Field.DESTINATION, (operand,)))
    if ports:
        if protocol not in ("tcp", "udp", "sctp", "dccp", "udplite"):
            raise UsageError(f"'{text}' names a port; say tcp or udp before it")
        numbers = tuple(Numbers(*read_ports(one)) for one in ports.split(","))
        out.append(Condition(Field.SOURCE_PORT if word == "from" else Field.DESTINATION_PORT, numbers))
    return out


def _parted(text: str) -> tuple[str, str]:
    if text.startswith("["):
        address, _, rest = text[1:].partition("]")
        return address, rest.removeprefix(":")
    if text.count(":") == 1:
        address, _, ports = text.partition(":")
        return address, ports
    return text, ""


def _network(text: str, known: Sequence[str] = ()) -> Addresses:
    try:
        network = ip_network(text, strict=False)
    except ValueError as error:
        raise UsageError(f"'{text}' is neither an address nor an object{_near(text, known)}") from error
    return Addresses(network.version, int(network[0]), int(network[-1]))

"""What objects stand for, and where they are used."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from aiguille.model import (
    AddressObject,
    Condition,
    Device,
    Field,
    Named,
    NameKind,
    Rule,
    Rulebase,
    ServiceObject,
    SetObject,
    Tuples,
)

Object = AddressObject | ServiceObject | SetObject


class Use(Struct, frozen=True):
    """A place where a rule names an object. negated: the rule is about all that is not in it"""

    rulebase: Rulebase
    rule: Rule
    field: Field
    negated: bool


def _all(device: Device) -> tuple[Object, ...]:
    return (*device.addresses, *device.services, *device.sets)


def objects_of(device: Device) -> tuple[Object, ...]:
    """The objects somebody defined; those a make derives from its interfaces, or its reader from anything else, are left out."""
    networks = {network for one in device.interfaces for network in (*one.networks, *one.addresses)}
    places = {one.where for one in device.interfaces if one.where is not None}

    def derived(one: Object) -> bool:
        if not isinstance(one, SetObject) and one.derived:
            return True
        return isinstance(one, AddressObject) and one.where in places and networks.issuperset(one.members)

    # What ufw calls applications are offers to write rules from, no part of the rules.
    return tuple(one for one in _all(device) if not derived(one) and "/applications.d/" not in one.where.file)


def kind_of(one: Object) -> NameKind:
    if isinstance(one, AddressObject):
        return NameKind.ADDRESS
    return NameKind.SERVICE if isinstance(one, ServiceObject) else NameKind.SET


def uses(device: Device) -> dict[tuple[NameKind, str], list[Use]]:
    """Where rules name objects themselves; members of groups are not followed."""
    out: dict[tuple[NameKind, str], list[Use]] = {}
    for rulebase in device.rulebases:
        for _, rule in rulebase.rules():
            for condition in rule.match.conditions:
                for operand in _named(condition):
                    out.setdefault((operand.kind, operand.name), []).append(
                        Use(rulebase, rule, condition.field, condition.negated)
                    )
    return out


def _named(condition: Condition) -> Iterator[Named]:
    for operand in condition.operands:
        if isinstance(operand, Named):
            yield operand
        elif isinstance(operand, Tuples):
            for entry in operand.entries:
                yield from (value for value in entry.values if isinstance(value, Named))


def members_of(one: Object) -> tuple[Named, ...]:
    """The objects a group names."""
    if isinstance(one, SetObject):
        return tuple(v for entry in one.entries for v in entry.values if isinstance(v, Named))
    inner = (*one.members, *one.excluded) if isinstance(one, AddressObject) else one.members
    return tuple(member for member in inner if isinstance(member, Named))


def reached(device: Device) -> set[tuple[NameKind, str]]:
    """The objects that rules use, by themselves or through groups."""
    by_name = {(kind_of(one), one.name): one for one in _all(device)}
    todo = [
        *uses(device),
        *((NameKind.ADDRESS, n.name) for f in device.geo_filters for n in f.exceptions if isinstance(n, Named)),
    ]
    seen: set[tuple[NameKind, str]] = set()
    while todo:
        name = todo.pop()
        if name in seen:
            continue
        seen.add(name)
        if name in by_name:
            todo += [(member.kind, member.name) for member in members_of(by_name[name])]
    return seen


def holders(device: Device, name: str) -> set[tuple[NameKind, str]]:
    """An object of a name and every group that holds it, through any number of groups; empty where there is no such object."""
    held: dict[tuple[NameKind, str], list[tuple[NameKind, str]]] = {}
    todo: list[tuple[NameKind, str]] = []
    for one in _all(device):
        here = (kind_of(one), one.name)
        if one.name == name:
            todo.append(here)
        for member in members_of(one):
            held.setdefault((member.kind, member.name), []).append(here)
    todo += [(kind, other) for kind, other in held if other == name]
    found: set[tuple[NameKind, str]] = set()
    while todo:
        one_name = todo.pop()
        if one_name not in found:
            found.add(one_name)
            todo += held.get(one_name, ())
    return found


def names_in(condition: Condition) -> Iterator[tuple[NameKind, str]]:
    """The objects, zones and the like that a condition names."""
    for operand in _named(condition):
        yield operand.kind, operand.name


def cycle_from(device: Device, start: Object) -> list[str]:
    """The names on a way from an object back to itself, empty if there is none."""
    by_name = {(kind_of(one), one.name): one for one in _all(device)}
    path: list[str] = []
    seen: set[str] = set()

    def walk(one: Object) -> bool:
        path.append(one.name)
        for member in members_of(one):
            if member.name == start.name and member.kind is kind_of(start):
                return True
            inner = by_name.get((member.kind, member.name))
            if inner is not None and inner.name not in seen:
                seen.add(inner.name)
                if walk(inner):
                    return True
        path.pop()
        return False

    return path if walk(start) else []


def depth_of(device: Device, one: Object, limit: int = 64) -> int:
    """Levels of groups below an object: 0 for one that names no other."""
    by_name = {(kind_of(o), o.name): o for o in _all(device)}
    level: list[Object] = [one]
    depth = 0
    while depth < limit:
        inner = {m for o in level for m in members_of(o)}
        level = [by_name[m.kind, m.name] for m in inner if (m.kind, m.name) in by_name]
        if not inner:
            break
        depth += 1
    return depth

"""Names that nothing defines, and groups that contain themselves: said as problems of the export, whatever its format."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import chain

from msgspec.structs import replace

from aiguille.model import (
    AddressObject,
    LedgerEntry,
    Named,
    NameKind,
    Operand,
    Rulebase,
    ServiceObject,
    Span,
    Zone,
)


def check_names(
    rulebases: Iterable[Rulebase],
    zones: Sequence[Zone],
    addresses: Sequence[AddressObject],
    services: Sequence[ServiceObject],
) -> Iterator[LedgerEntry]:
    """Every undefined name with the line that uses it, and every circle of groups with the names along it.

    They matter to verdicts only where a rule depends on them.
    """
    rulebases = tuple(rulebases)
    all_of_them = chain.from_iterable(
        rule.match.conditions for base in rulebases for one in base.chains for rule in one.rules
    )
    # Rules share conditions, so each is looked at once before rules are looked through for those that are wrong.
    conditions = {
        id(condition): condition for condition in all_of_them
    }  # held there, so that each identity stays its own
    names = [
        (number, operand)
        for number, condition in conditions.items()
        for operand in condition.operands
        if isinstance(operand, Named)
    ]
    used = _used((operand for _, operand in names), addresses, services)
    known = {
        NameKind.ZONE: {zone.name for zone in zones},
        NameKind.ADDRESS: {one.name for one in addresses},
        NameKind.SERVICE: {one.name for one in services},
        NameKind.SET: set[str](),
    }
    wrong = {number for number, operand in names if operand.name not in known[operand.kind]}
    for rulebase in rulebases if wrong else ():
        for _, rule in rulebase.rules():
            for condition in rule.match.conditions:
                if id(condition) in wrong:
                    yield from _undefined(condition.operands, known, rule.where, "the rule")
    for kind, objects in ((NameKind.ADDRESS, addresses), (NameKind.SERVICE, services)):
        members: dict[str, tuple[str, ...]] = {}
        where: dict[str, Span] = {}
        for one in objects:
            excluded = one.excluded if isinstance(one, AddressObject) else ()
            for entry in _undefined((*one.members, *excluded), known, one.where, f"{kind} '{one.name}'"):
                yield replace(entry, matters=(kind, one.name) in used)
            members[one.name] = tuple(m.name for m in one.members if isinstance(m, Named))
            where[one.name] = one.where
        for circle in _circles(members):
            yield LedgerEntry(
                where[circle[0]],
                f"group '{circle[0]}' contains itself ({' -> '.join(circle)}); until that is mended, rules that use it "
                "count as ones that may match",
                (kind, circle[0]) in used,
            )


def _used(
    names: Iterable[Named], addresses: Sequence[AddressObject], services: Sequence[ServiceObject]
) -> set[tuple[NameKind, str]]:
    """The objects of these names, and the members of them."""
    members: dict[tuple[NameKind, str], tuple[Named, ...]] = {}
    for one in addresses:
        inner = (*one.members, *one.excluded)
        members[NameKind.ADDRESS, one.name] = tuple(m for m in inner if isinstance(m, Named))
    for service in services:
        members[NameKind.SERVICE, service.name] = tuple(m for m in service.members if isinstance(m, Named))
    todo = [(one.kind, one.name) for one in names]
    seen: set[tuple[NameKind, str]] = set()
    while todo:
        name = todo.pop()
        if name not in seen:
            seen.add(name)
            todo += [(m.kind, m.name) for m in members.get(name, ())]
    return seen


def _undefined(
    operands: Iterable[Operand], known: Mapping[NameKind, set[str]], where: Span, user: str
) -> Iterator[LedgerEntry]:
    for operand in operands:
        if isinstance(operand, Named) and operand.name not in known[operand.kind]:
            yield LedgerEntry(
                where,
                f"{user} names {operand.kind} '{operand.name}', which the export does not define; it counts as one that "
                "may match until the definition is known",
            )


def _circles(members: Mapping[str, tuple[str, ...]]) -> Iterator[tuple[str, ...]]:
    """One circle for each group that leads back to itself, without repeats of the same circle."""
    done: set[str] = set()
    for start in members:
        if start in done:
            continue
        stack: list[tuple[str, int]] = [(start, 0)]
        path: list[str] = []
        while stack:
            name, at = stack.pop()
            if at == 0:
                path.append(name)
            below = members.get(name, ())
            if at < len(below):
                stack.append((name, at + 1))
                if below[at] in path:
                    yield (*path[path.index(below[at]) :], below[at])
                elif below[at] not in done:
                    stack.append((below[at], 0))
            else:
                done.add(name)
                path.pop()

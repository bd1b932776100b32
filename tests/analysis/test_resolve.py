"""Address objects and services as sets: groups, exclusions, and members that are not all known."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from aiguille.analysis.resolve import Resolver, symbols_of
from aiguille.model import (
    Addresses,
    AddressObject,
    Condition,
    Device,
    Field,
    Named,
    NameKind,
    ServiceObject,
    ServiceTerm,
    Span,
)
from aiguille.model.objects import Numbers
from aiguille.space import Axis, IntervalSet, Space
from tests.helpers import filter_table

HERE = Span("x", 1, 1)
TOP = 40
NAMES = ("a", "b", "c")

RANGES = st.tuples(st.integers(0, TOP), st.integers(0, 6)).map(lambda r: Addresses(4, r[0], r[0] + r[1]))
MEMBERS = st.lists(
    st.one_of(RANGES, st.sampled_from(NAMES).map(lambda name: Named(NameKind.ADDRESS, name))), max_size=3
)
OBJECTS = st.fixed_dictionaries({name: st.tuples(MEMBERS, MEMBERS, st.booleans()) for name in NAMES})


def device(addresses: tuple[AddressObject, ...] = (), services: tuple[ServiceObject, ...] = ()) -> Device:
    return replace(filter_table(), addresses=addresses, services=services)


def resolver(one: Device) -> Resolver:
    return Resolver(one, Space(4, symbols_of(one)))


def worth(
    name: str, objects: dict[str, tuple[list[object], list[object], bool]], path: tuple[str, ...] = ()
) -> tuple[set[int], bool]:
    """What an object surely covers, by plain sets, and whether it may cover more."""
    if name in path:
        return set(), True
    members, excluded, is_open = objects[name]
    values: set[int] = set()
    for member in members:
        if isinstance(member, Named):
            inner, inner_open = worth(member.name, objects, (*path, name))
            values |= inner
            is_open |= inner_open
        elif isinstance(member, Addresses):
            values |= set(range(member.first, member.last + 1))
    for member in excluded:
        if isinstance(member, Named):
            inner, inner_open = worth(member.name, objects, (*path, name))
            if inner_open:
                values, is_open = set(), True
            values -= inner
        elif isinstance(member, Addresses):
            values -= set(range(member.first, member.last + 1))
    return values, is_open


@given(OBJECTS)
def test_objects_are_the_sets_they_say(objects: dict[str, tuple[list[object], list[object], bool]]) -> None:
    made = tuple(
        AddressObject(
            name, tuple(members), HERE, excluded=tuple(excluded), unresolved=("box.example",) if is_open else ()
        )  # type: ignore[arg-type]
        for name, (members, excluded, is_open) in objects.items()
    )
    for name in NAMES:
        found = resolver(device(made)).condition(Condition(Field.SOURCE, (Named(NameKind.ADDRESS, name),)))
        sure = {value for one in found.sure for value in one[Axis.SRC] or ()}
        values, is_open = worth(name, objects)
        assert sure == values
        assert bool(found.maybe) is is_open
        turned = resolver(device(made)).condition(
            Condition(Field.SOURCE, (Named(NameKind.ADDRESS, name),), negated=True)
        )
        # Turned round, nothing is sure of an object that may cover more.
        assert bool(turned.sure) is not is_open


def test_a_service_that_was_read_in_part_may_be_any() -> None:
    web = ServiceTerm(Numbers(6, 6), (), (Numbers(80, 80),))
    whole = ServiceObject("web", (web,), HERE)
    part = replace(whole, name="part", complete=False)
    group = ServiceObject("group", (Named(NameKind.SERVICE, "web"), Named(NameKind.SERVICE, "part")), HERE)
    looked = resolver(device(services=(whole, part, group)))
    for name, is_open in (("web", False), ("part", True), ("group", True)):
        found = looked.condition(Condition(Field.SERVICE, (Named(NameKind.SERVICE, name),)))
        assert [one[Axis.B] for one in found.sure] == [IntervalSet.of(80)] * len(found.sure) != []
        assert bool(found.maybe) is is_open

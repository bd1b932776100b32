"""What objects stand for and where they are used, against a plain reading of random groups."""

from __future__ import annotations

from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from aiguille.analysis.objects import cycle_from, depth_of, kind_of, objects_of, reached, uses
from aiguille.analysis.resolve import Resolver, symbols_of
from aiguille.model import Addresses, AddressObject, Device, Named, NameKind
from aiguille.space import IntervalSet, Space
from tests.baseline.devices import gate, perimeter

NAMES = "abcde"
groups = st.fixed_dictionaries({name: st.lists(st.sampled_from(NAMES), max_size=3) for name in NAMES})


def device(members: dict[str, list[str]]) -> Device:
    """Objects that hold one address each beside the groups they name; a rule names the first."""
    lines = [
        f"places {name} {{ are [ 10.0.3.{number + 1} {' '.join(inner)} ] }}"
        for number, (name, inner) in enumerate((n, members[n]) for n in NAMES)
    ]
    return gate("\n".join(lines) + "\npassages { passage p { receiver [ a ], then let } }")


def resolver(made: Device, family: int = 4) -> Resolver:
    return Resolver(made, Space(family, symbols_of(made)))


def below(members: dict[str, list[str]], start: str) -> set[str]:
    """Every name that can be reached from one, itself only by way of a circle."""
    seen: set[str] = set()
    todo = list(members[start])
    while todo:
        name = todo.pop()
        if name not in seen:
            seen.add(name)
            todo += members[name]
    return seen


@given(groups)
def test_circles_are_found_wherever_they_are(members: dict[str, list[str]]) -> None:
    made = device(members)
    by_name = {one.name: one for one in made.addresses}
    for name in NAMES:
        path = cycle_from(made, by_name[name])
        assert bool(path) is (name in below(members, name))
        if path:
            steps = [*path, name]
            assert steps[0] == name
            assert all(after in members[before] for before, after in pairwise(steps))


@given(groups)
def test_what_rules_reach(members: dict[str, list[str]]) -> None:
    found = {name for kind, name in reached(device(members)) if kind is NameKind.ADDRESS and name in NAMES}
    assert found == {"a"} | below(members, "a")


@given(groups.filter(lambda members: all(name not in below(members, name) for name in NAMES)))
def test_values_and_depth_of_groups_without_circles(members: dict[str, list[str]]) -> None:
    made = device(members)
    by_name = {one.name: one for one in made.addresses}

    def depth(name: str) -> int:
        return 1 + max(map(depth, members[name])) if members[name] else 0

    for name in NAMES:
        held = {name} | below(members, name)
        expected = IntervalSet.of(*(0x0A000300 + NAMES.index(one) + 1 for one in held))
        assert resolver(made).exactly(name) == expected
        assert resolver(made, 6).exactly(name) == IntervalSet()
        assert depth_of(made, by_name[name]) == depth(name)


@given(groups, st.permutations(NAMES))
def test_a_circle_leaves_values_open_and_loses_none(members: dict[str, list[str]], order: list[str]) -> None:
    made = device(members)
    asked = resolver(made)
    for name in order:
        held = {name} | below(members, name)
        circular = any(one in below(members, one) for one in held)
        surely = asked.addresses([Named(NameKind.ADDRESS, name)])
        assert surely == IntervalSet.of(*(0x0A000300 + NAMES.index(one) + 1 for one in held))
        assert asked.exactly(name) == (None if circular else surely)


@pytest.mark.parametrize("deepest", ["10.0.3.9", "gone", "up0"])
def test_groups_that_double_at_every_level_are_resolved_once(deepest: str) -> None:
    lines = [f"places up40 {{ are [ {deepest} ] }}\nplaces down40 {{ are [ {deepest} 10.0.3.8 ] }}"]
    for level in range(40):
        lines += [f"places {way}{level} {{ are [ up{level + 1} down{level + 1} ] }}" for way in ("up", "down")]
    asked = resolver(gate("\n".join(lines)))
    known = deepest == "10.0.3.9"
    assert asked.exactly("up0") == (IntervalSet([(0x0A000308, 0x0A000309)]) if known else None)
    assert asked.exactly("down0") == asked.exactly("up0")


def test_values_that_are_not_known_make_the_whole_unknown() -> None:
    made = gate(
        "places a { are [ 10.0.3.1 gone ] }\nlands l { are [ AQ ] }\nplaces n { are [ 10.0.0.0/8 ], but-not [ 10.0.3.0/24 ] }"
    )
    assert resolver(made).exactly("a") is None
    assert resolver(made).exactly("l") is None
    left = resolver(made).exactly("n")
    assert left is not None
    assert (0x0A000301 in left, 0x0A000401 in left) == (False, True)


def test_objects_a_make_derives_from_interfaces_are_nobodys() -> None:
    made = perimeter("<nicknames><nickname for='hosts' name='own'><one>10.0.4.9</one></nickname></nicknames>")
    assert {one.name for one in made.addresses} == {"own", "street network", "ops network"}
    assert [one.name for one in objects_of(made)] == ["own"]


def test_uses_name_the_rule_and_the_field() -> None:
    made = gate(
        "place a { is 10.0.3.1 }\ntalk t { over tcp, to-port 1 }\npassages { passage p { sender [ a ], talking [ t ], then let } }"
    )
    found = {key: [(use.rule.name, use.field.value) for use in places] for key, places in uses(made).items()}
    assert found[NameKind.ADDRESS, "a"] == [("p", "source")]
    assert found[NameKind.SERVICE, "t"] == [("p", "service")]
    one = AddressObject("x", (Addresses(4, 1, 1),), made.addresses[0].where)
    assert kind_of(one) is NameKind.ADDRESS

"""The order of rules found for busy chains: never another verdict, and the best there is where rules are free."""

from __future__ import annotations

from itertools import permutations, product

from hypothesis import given
from hypothesis import strategies as st

from aiguille.analysis.ordering import best_order, greedy
from aiguille.analysis.program import Programs
from aiguille.model import Device, Direction
from tests.helpers import filter_table

NETS = ("10.0.0.0/8", "10.1.0.0/16", "10.1.1.0/24", "10.2.0.0/16", "10.0.0.0/9")
rules = st.lists(
    st.tuples(st.sampled_from(NETS), st.sampled_from(["ACCEPT", "DROP", "REJECT"]), st.integers(0, 99)),
    min_size=3,
    max_size=6,
)


def device(given_rules: list[tuple[str, str, int]]) -> Device:
    return filter_table("\n".join(f"[{hits}:0] -A FORWARD -s {net} -j {action}" for net, action, hits in given_rules))


def verdict(given_rules: list[tuple[str, str, int]], source: int) -> str:
    from ipaddress import ip_address, ip_network

    for net, action, _ in given_rules:
        if ip_address(source) in ip_network(net):
            return action
    return "policy"


SOURCES = [(10 << 24) + (b << 16) + (c << 8) + 7 for b, c in product((0, 1, 2, 200), (0, 1))]


def cost(given_rules: list[tuple[str, str, int]]) -> float:
    return sum(hits * (place + 1) for place, (*_, hits) in enumerate(given_rules)) / sum(
        hits for *_, hits in given_rules
    )


@given(rules)
def test_the_order_found_changes_no_verdict_and_is_no_worse(made: list[tuple[str, str, int]]) -> None:
    programs = Programs(device(made))
    (program,) = programs.all(Direction.THROUGH_DEVICE)
    found = best_order([program], program.bases[0][1])
    if not sum(hits for *_, hits in made):
        assert found is None
        return
    assert found is not None
    ordered = [made[number - 1] for number in found.order]
    assert sorted(found.order) == list(range(1, len(made) + 1))
    assert [verdict(ordered, s) for s in SOURCES] == [verdict(made, s) for s in SOURCES]
    assert found.now == cost(made)
    assert found.better == cost(ordered)


@given(st.lists(st.integers(0, 99), min_size=3, max_size=5).filter(any))
def test_the_order_is_the_best_where_all_rules_are_free(hits: list[int]) -> None:
    made = [(f"10.{n}.0.0/16", "ACCEPT", count) for n, count in enumerate(hits)]
    (program,) = Programs(device(made)).all(Direction.THROUGH_DEVICE)
    found = best_order([program], program.bases[0][1])
    assert found is not None
    assert found.better == min(cost(list(order)) for order in permutations(made))


def taken_in_turn(weights: list[int], after: list[set[int]]) -> list[int]:
    """The order by its definition: of the rules free to come next, the one that counts most by itself or by what it frees."""
    left, order = [set(one) for one in after], []
    while len(order) < len(weights):
        free = [n for n, above in enumerate(left) if not above and n not in order]
        worth = {n: max([weights[n], *(w for f, w in enumerate(weights) if left[f] == {n})]) for n in free}
        chosen = min(free, key=lambda n: (-worth[n], n))
        order.append(chosen)
        for above in left:
            above.discard(chosen)
    return order


@given(st.lists(st.tuples(st.integers(0, 9), st.sets(st.integers(0, 11))), max_size=12))
def test_the_quick_way_takes_rules_in_the_order_defined(made: list[tuple[int, set[int]]]) -> None:
    weights = [weight for weight, _ in made]
    after = [{one for one in above if one < number} for number, (_, above) in enumerate(made)]
    assert greedy(weights, after) == taken_in_turn(weights, after)


def test_rules_that_record_or_jump_keep_their_place() -> None:
    text = """
[1:0] -A FORWARD -s 10.0.0.0/8 -j LOG
[1:0] -A FORWARD -s 10.0.0.0/8 -p tcp -j ACCEPT
[90:0] -A FORWARD -s 10.1.0.0/16 -j ACCEPT
"""
    (program,) = Programs(filter_table(text)).all(Direction.THROUGH_DEVICE)
    found = best_order([program], program.bases[0][1])
    assert found is not None
    assert found.order.index(1) == 0
    assert found.order.index(3) == 1

"""Set algebra against plain Python sets on small universes."""

from __future__ import annotations

import itertools
import pickle

import pytest
from hypothesis import given
from hypothesis import strategies as st

from aiguille.analysis.resolve import expand_mask
from aiguille.model import InterfaceName
from aiguille.space import AXES, Axis, IntervalSet, PacketSet, Slices, Space, Symbols, everything, intervals, slices

TOPS = (1, 0, 2, 1, 1, 1, 2, 0, 1, 0)
UNIVERSE = list(itertools.product(*(range(top + 1) for top in TOPS)))

small_sets = st.frozensets(st.integers(0, 40), max_size=20)


def boxes(tops: tuple[int, ...] = TOPS) -> st.SearchStrategy[tuple[IntervalSet | None, ...]]:
    def field(top: int) -> st.SearchStrategy[IntervalSet | None]:
        values = st.frozensets(st.integers(0, top), min_size=1, max_size=top + 1)
        return st.none() | values.map(lambda v: IntervalSet.of(*v))

    return st.tuples(*(field(top) for top in tops))


packet_sets = st.lists(boxes(), max_size=4).map(lambda b: PacketSet.of(TOPS, b))


def points(of: PacketSet) -> set[tuple[int, ...]]:
    return {point for point in UNIVERSE if point in of}


@given(small_sets, small_sets)
def test_interval_sets_behave_as_sets_and_are_canonical(a: frozenset[int], b: frozenset[int]) -> None:
    one, other = IntervalSet.of(*a), IntervalSet.of(*b)
    assert set(one & other) == a & b
    assert set(one | other) == a | b
    assert set(one - other) == a - b
    assert set(one.complement(50)) == set(range(51)) - a
    assert one.issubset(other) == (a <= b)
    assert all((v in one) == (v in a) for v in range(42))
    with pytest.MonkeyPatch.context() as patch:
        for many in (100, 1):  # with few intervals, and as if these were many
            patch.setattr(intervals, "MANY", many)
            patch.setattr(intervals, "LOOKUP", many)
            assert (one.size, other.size) == (len(a), len(b))
            assert one.common_size(other) == other.common_size(one) == len(a & b)
            assert one.overlaps(other) == bool(a & b)
    for made in (one & other, one - other, one | other):
        assert made == IntervalSet.of(*made), "every result must be in canonical form"
        assert hash(made) == hash(IntervalSet.of(*made))
        assert pickle.loads(pickle.dumps(made)) == made


@given(packet_sets, packet_sets)
def test_packet_sets_behave_as_sets(a: PacketSet, b: PacketSet) -> None:
    mine, theirs = points(a), points(b)
    assert points(a & b) == mine & theirs
    assert points(a | b) == mine | theirs
    assert points(a - b) == mine - theirs
    assert points(a.complement()) == set(UNIVERSE) - mine
    assert a.size == len(mine)
    assert a.issubset(b) == (mine <= theirs)
    assert a.same(b) == (mine == theirs)
    witness = a.witness_outside(b)
    assert (witness is None) == (not mine - theirs)
    assert witness is None or witness in mine - theirs
    assert (a.witness() in mine) if mine else (a.witness() is None)
    assert set(a.project(Axis.SRC)) == {p[Axis.SRC] for p in mine}


@pytest.mark.parametrize("bounds", [{}, {"LONG": 0, "LONG_EACH": 0}, {"FEW": 1}])
@given(boxes(), st.lists(boxes(), max_size=6))
def test_slices_count_and_project_as_brute_force_does(
    bounds: dict[str, int], region: tuple[IntervalSet | None, ...], holes: list
) -> None:
    with pytest.MonkeyPatch.context() as patch:
        for name, bound in bounds.items():
            patch.setattr(slices, name, bound)
        _compare_slices(region, holes)


def _compare_slices(region: tuple[IntervalSet | None, ...], holes: list) -> None:
    left = points(PacketSet.of(TOPS, [region])) - points(PacketSet.of(TOPS, holes))
    counted = (Axis.SRC, Axis.DST, Axis.PROTO, Axis.A, Axis.B)
    others = tuple(a for a in Axis if a not in counted)
    assert Slices(region, holes, TOPS).uncovered_size() == len(left)
    projected = {tuple(point[axis] for axis in counted) for point in left}
    assert Slices(region, holes, TOPS, last=others).uncovered_size(counted) == len(projected)
    cell = Slices(region, holes, TOPS).uncovered()
    assert (cell is None) == (not left)
    if cell is not None:
        assert set(itertools.product(*cell)) <= left, "every point of the cell must be uncovered"
    sliced = Slices(region, holes, TOPS, first=(Axis.SRC,))
    values = sliced.project(Axis.SRC, lambda alive, full: not alive or (False if alive & full else None))
    assert set(values) == {point[Axis.SRC] for point in left}
    assert any(not mask for mask in Slices(region, holes, TOPS).leaves()) == bool(left)


def test_interval_sets_refuse_nonsense() -> None:
    with pytest.raises(ValueError, match="3-2"):
        IntervalSet([(3, 2)])
    with pytest.raises(LookupError):
        _ = IntervalSet().first
    with pytest.raises(ValueError, match="10 fields"):
        everything((1, 2))


@pytest.mark.parametrize(
    ("bits", "value", "mask", "expected"),
    [
        (4, 0b1010, 0b1111, {0b1010}),
        (4, 0b1010, 0b1100, {0b1000, 0b1001, 0b1010, 0b1011}),
        (4, 0b0010, 0b1011, {0b0010, 0b0110}),
        (4, 0b0001, 0b0001, {1, 3, 5, 7, 9, 11, 13, 15}),
        (4, 0, 0, set(range(16))),
    ],
)
def test_masks_with_holes(bits: int, value: int, mask: int, expected: set[int]) -> None:
    found = expand_mask(bits, value, mask)
    assert found is not None
    assert set(found) == expected


def test_masks_beyond_the_bound_are_left_open() -> None:
    assert expand_mask(128, 1, 1) is None


def test_interface_symbols() -> None:
    symbols = Symbols(["eth0", "eth1.10", "lo", "wlan0"], ["eth", "eth1."])
    names = ["eth0", "eth1.10", "eth1.99", "eth7", "lo", "wlan0", "ppp3"]
    for pattern in (
        InterfaceName("eth", True),
        InterfaceName("eth1.", True),
        InterfaceName("eth0"),
        InterfaceName("", True),
    ):
        covered = symbols.matching(pattern)
        for name in names:
            expected = name.startswith(pattern.name) if pattern.prefix else name == pattern.name
            assert (symbols.number(name) in covered) == expected, (pattern, name)
        assert 0 not in covered, "no wildcard matches a missing interface"
    for number in range(symbols.top + 1):
        assert symbols.number(symbols.name(number)) == number or number == 0


@pytest.mark.parametrize("family", [4, 6])
def test_classes_of_a_space_are_disjoint_and_complete_over_protocols(family: int) -> None:
    space = Space(family, Symbols([]))
    assert len(space.tops) == AXES
    for one, other in itertools.combinations(space.classes, 2):
        assert not PacketSet(space.tops, (one,)) & PacketSet(space.tops, (other,))
    assert set(PacketSet.all(space).project(Axis.PROTO)) == set(range(256))

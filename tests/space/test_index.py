"""Overlaps found in batches, packets between numbers and words, and witnesses that read well."""

from __future__ import annotations

import random

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from aiguille.analysis.witness import Chooser
from aiguille.model import Addresses, Interface, Side, State, Zone
from aiguille.packets import Packet, packet_at
from aiguille.readers.literals import read_network
from aiguille.space import (
    Axis,
    IntervalSet,
    Space,
    Symbols,
    box,
    common_size,
    holds,
    index,
    index_of,
    longindex,
    overlap,
)
from aiguille.space.index import ShortIndex
from aiguille.space.longindex import LongIndex, distinct
from tests.helpers import filter_table

SPACE = {family: Space(family, Symbols(["eth0", "eth1", "lo"], ["ppp"])) for family in (4, 6)}


def values(axis: Axis, rnd: random.Random, family: int) -> IntervalSet | None:
    top = SPACE[family].tops[axis]
    if rnd.random() < 0.4:
        return None
    spans = []
    for _ in range(rnd.randint(1, 4)):
        first = rnd.randrange(min(top, 50) + 1) << (96 if family == 6 and axis in (Axis.SRC, Axis.DST) else 0)
        spans.append((first, min(top, first + rnd.randrange(20))))
    return IntervalSet(spans)


@given(
    st.integers(0, 2**32), st.sampled_from([4, 6]), st.sampled_from([{}, {"MASK_ENDS": 0}, {"HELD": 20}, {"HELD": 100}])
)
def test_overlaps_are_those_of_comparing_all_with_all(seed: int, family: int, bounds: dict[str, int]) -> None:
    """Compared interval by interval on every axis, and few pairs at a time, too."""
    rnd = random.Random(seed)
    boxes = [tuple(values(axis, rnd, family) for axis in Axis) for _ in range(rnd.randint(1, 30))]
    short = index_of(boxes)
    assert isinstance(short, ShortIndex)
    with pytest.MonkeyPatch.context() as patch:
        for name, bound in bounds.items():
            patch.setattr(longindex, name, bound)
        _compare_indexes(boxes, short, LongIndex(boxes), rnd)


def _compare_indexes(boxes: list, short: ShortIndex, long: LongIndex, rnd: random.Random) -> None:
    order = list(range(len(boxes)))
    rnd.shuffle(order)
    expected = [[at for at, other in enumerate(boxes) if overlap(one, other) is not None] for one in boxes]
    flags = [rnd.random() < 0.5 for _ in boxes]
    told = LongIndex(boxes)
    for number in order:
        told.learn(long.known(number, len(boxes)))
        assert list(told.overlapping(number)) == expected[number]
        for found in (short, long):
            mine = found.overlapping(number)
            assert list(mine) == expected[number]
            assert list(found.kept(mine, found.marks(flags))) == [at for at in expected[number] if flags[at]]
            both = found.joined([mine, found.overlapping(order[0])])
            assert list(both) == sorted({*expected[number], *expected[order[0]]})


def test_long_lists_and_sets_of_many_intervals_are_compared_in_vectorised_steps() -> None:
    few, many = IntervalSet.of(1), IntervalSet.of(*range(0, 4 * index.SHORT_INTERVALS, 2))
    assert isinstance(index_of([box([(Axis.SRC, few)])] * (index.SHORT_BOXES + 1)), LongIndex)
    assert isinstance(index_of([box([(Axis.SRC, many)]), box([(Axis.SRC, few)])]), LongIndex)


@given(st.integers(0, 2**32))
def test_common_size_is_that_of_the_intersection(seed: int) -> None:
    rnd = random.Random(seed)
    one, other = (tuple(values(axis, rnd, 4) for axis in Axis) for _ in range(2))
    counted = (Axis.SRC, Axis.DST, Axis.B)
    both = overlap(one, other)
    size = common_size(one, other, SPACE[4].tops, counted)
    if both is None:
        return
    expected = 1
    for axis in counted:
        inside = both[axis]
        expected *= SPACE[4].tops[axis] + 1 if inside is None else inside.size
    assert size == expected


PACKETS = [
    Packet(4, "eth0", "", 0x0A000001, 0xC0000201, 6, 4000, 22, flags=2),
    Packet(4, "eth1", "ppp7", 0x0A000001, 0xE0000001, 17, 4000, 5353, state=State.ESTABLISHED),
    Packet(4, "", "eth0", 0x0A000001, 0xFFFFFFFF, 1, icmp_type=8, icmp_code=0),
    Packet(6, "wlan3", "", 1 << 100, 0xFF02 << 112, 58, icmp_type=135, icmp_code=0, state=State.UNTRACKED),
    Packet(6, "eth0", "eth1", 1 << 100, 1 << 101, 47, state=State.INVALID),
]


@pytest.mark.parametrize("packet", PACKETS)
def test_packets_survive_the_way_to_numbers_and_back(packet: Packet) -> None:
    space = SPACE[packet.family]
    back = packet_at(space, packet.point(space))
    known = {"", *space.symbols.names}
    for name in ("in_interface", "out_interface"):
        if getattr(packet, name) not in known:
            # A name no rule tells apart comes back as another one that no rule tells apart.
            assert space.symbols.number(getattr(back, name)) == space.symbols.number(getattr(packet, name))
            back = replace(back, **{name: getattr(packet, name)})
    assert back == packet
    data = packet.to_dict()
    assert (data["sport"] is None) == (packet.protocol not in (6, 17))
    assert data["state"] == packet.state.value


def network(text: str) -> Addresses:
    found = read_network(text)
    assert isinstance(found, Addresses)
    return found


@given(st.integers(0, 2**32))
def test_a_chosen_witness_lies_in_its_cell(seed: int) -> None:
    rnd = random.Random(seed)
    device = replace(
        filter_table(""),
        interfaces=(Interface("eth0", None, (network("192.0.2.1/32"),)),),
        zones=(
            Zone("out", ("eth0",), Side.OUTSIDE, (network("192.0.2.0/28"),)),
            Zone("in", ("eth1",), Side.INSIDE, (network("10.0.0.0/24"),)),
        ),
    )
    space = SPACE[4]
    cell = []
    for axis in Axis:
        first = rnd.randrange(space.tops[axis] + 1)
        cell.append(IntervalSet([(first, min(space.tops[axis], first + rnd.choice((0, 5, 10**6))))]))
    fixed = {Axis.PROTO: 6, Axis.TYPE: 1}
    whole = tuple(
        IntervalSet.of(fixed[axis]) if axis in fixed else values for axis, values in zip(Axis, cell, strict=True)
    )
    packet = Chooser(device, space).choose(whole)
    point = packet.point(space)
    for axis in Axis:
        if axis is not Axis.TYPE:
            assert point[axis] in whole[axis], axis


def test_witnesses_prefer_what_people_know() -> None:
    device = replace(filter_table(""), zones=(Zone("in", ("eth1",), Side.INSIDE, (network("10.0.0.0/24"),)),))
    space = SPACE[4]
    whole = tuple(IntervalSet([(0, top)]) for top in space.tops)
    inside = (IntervalSet.of(space.symbols.number("eth1")), IntervalSet.of(0), *whole[2:])
    packet = Chooser(device, space).choose(inside)
    assert packet.sentence() == "tcp from 10.0.0.20:40000 to 10.0.0.1:443 entering eth1"


def test_holds_and_boxes() -> None:
    one = box([(Axis.SRC, IntervalSet.of(5)), (Axis.PROTO, IntervalSet.of(6))])
    assert holds(one, [0, 0, 5, 9, 6, 0, 0, 0, 0, 0])
    assert not holds(one, [0, 0, 6, 9, 6, 0, 0, 0, 0, 0])
    with pytest.raises(ValueError, match="twice"):
        box([(Axis.SRC, IntervalSet.of(1)), (Axis.SRC, IntervalSet.of(2))])
    assert index_of([one]).overlapping(0) == [0]


@given(st.lists(st.integers(-5, 5), max_size=30))
def test_distinct_values_and_their_places(values: list[int]) -> None:
    given_ = np.array(values, np.int64)
    found, places = distinct(given_)
    assert found.tolist() == sorted(set(values))
    assert found[places].tolist() == values

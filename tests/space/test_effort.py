"""Effort is counted, not timed: the same question takes the same number of steps, and gives up at the same place."""

from collections.abc import Iterator

import pytest

from aiguille.model import TooComplexError
from aiguille.space import Axis, IntervalSet, PacketSet, box, everything
from aiguille.space.effort import account, limited, set_effort, spend

TOPS = (7,) * 10


@pytest.fixture(autouse=True)
def usual() -> Iterator[None]:
    yield
    set_effort(1)


def _holes(count: int) -> PacketSet:
    axes = (Axis.IN, Axis.SRC, Axis.DST, Axis.A)
    return PacketSet.of(
        TOPS, [box([(axis, IntervalSet.of(n % 8)) for axis in axes[: 1 + n % 4]]) for n in range(count)]
    )


def _steps() -> int:
    with limited(1_000_000) as question:
        left = everything(TOPS) - _holes(7)
        assert left.witness_outside(_holes(7)) is not None
    return question.used


def test_the_same_question_takes_the_same_steps_and_no_more_are_allowed() -> None:
    needed = _steps()
    assert needed == _steps() > 10
    with limited(needed):
        _steps()
    with pytest.raises(TooComplexError, match="--effort"), limited(needed - 1):
        _steps()
    set_effort(3)
    with limited(needed // 2) as question:
        _steps()
    assert 0 < question.used <= needed // 2


def test_what_is_done_inside_counts_outside_unless_it_stands_apart() -> None:
    with limited(100) as outer:
        with limited(1000, apart=True) as inner:
            spend(600)
        with limited(1000):
            spend(60)
        with pytest.raises(TooComplexError), limited(1000):
            spend(41)
    assert (inner.used, outer.used) == (600, 100)
    assert (inner.stopped, outer.stopped) == (False, True)
    set_effort(3)
    with limited(100) as told:
        account(50)  # of another process, in units of the usual effort
        assert told.used == 0
    assert told.used == 50
    spend(10_000)  # nothing is bounded where nobody asked for it

"""How much work an answer may take: steps, counted and never timed, so that one input has one answer on every machine.

Rules that interleave without end have no short exact answer. Whoever asks a question says how many steps it may take; past
them `TooComplexError` is raised, and the question is answered with "cannot tell" instead of never. Outside any `limited` block
nothing is bounded.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from msgspec import Struct

from aiguille.model import TooComplexError

ENTANGLED = "the rules are too entangled for an exact answer within the effort allowed"

UNBOUNDED = 1 << 62
"""Steps that no question takes."""

_left = UNBOUNDED
_scale = 1
_stops = 0


def set_effort(times: int) -> None:
    """Let every later question take so many times the usual number of steps."""
    global _scale
    _scale = times


def spend(steps: int) -> None:
    """Count steps against what the present question may take; TooComplexError if they are more than are left."""
    global _left, _stops
    _left -= steps
    if _left < 0:
        _stops += 1
        raise TooComplexError(f"{ENTANGLED}; --effort N allows N times as much")


def account(used: int) -> None:
    """Count what another process took for the present question, in units of the usual effort."""
    spend(used * _scale)


class Question(Struct):
    """What a question has taken, once it is answered, in units of the usual effort.

    stopped: whether it or some question within it would have taken more than it may
    """

    used: int = 0
    stopped: bool = False


@contextmanager
def limited(steps: int, *, apart: bool = False) -> Iterator[Question]:
    """Bound the steps of what is done inside, which count for the question around it as well.

    apart: they do not count there, so that it makes no difference which process does this part
    """
    global _left
    around, stops = _left, _stops
    allowed = min(steps * _scale, UNBOUNDED if apart else around)
    _left = allowed
    question = Question()
    try:
        yield question
    finally:
        used = allowed - max(_left, 0)
        question.used = used // _scale
        question.stopped = _stops > stops
        _left = around if apart else around - used

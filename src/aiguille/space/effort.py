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

_UNBOUNDED = 1 << 62

_left = _UNBOUNDED
_scale = 1


def set_effort(times: int) -> None:
    """Let every later question take so many times the usual number of steps."""
    global _scale
    _scale = times


def spend(steps: int) -> None:
    """Count steps against what the present question may take; TooComplexError if they are more than are left."""
    global _left
    _left -= steps
    if _left < 0:
        raise TooComplexError(f"{ENTANGLED}; --effort N allows N times as much")


class Question(Struct):
    """What a question has taken, once it is answered, in units of the usual effort."""

    used: int = 0


@contextmanager
def limited(steps: int, *, apart: bool = False) -> Iterator[Question]:
    """Bound the steps of what is done inside, which count for the question around it as well.

    apart: they do not count there, so that it makes no difference which process does this part
    """
    global _left
    around = _left
    allowed = min(steps * _scale, _UNBOUNDED if apart else around)
    _left = allowed
    question = Question()
    try:
        yield question
    finally:
        used = allowed - max(_left, 0)
        question.used = used // _scale
        _left = around if apart else around - used

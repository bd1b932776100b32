"""The rows of one program: every piece of every step, in order, and which of them overlap one another."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from typing import TYPE_CHECKING

from msgspec import Struct

from aiguille.space import Box, BoxIndex, index_of

if TYPE_CHECKING:
    from aiguille.analysis.program import Step


class StepRow(Struct, frozen=True):
    """One piece of one step."""

    step: int
    box: Box
    sure: bool


class Rows:
    """All rows of a program's steps. What is found out of their overlaps serves everybody who asks of the program.

    every: the rows, in the order of steps
    first: by step, the number of its first row; at the end, how many rows there are
    """

    def __init__(self, steps: Sequence[Step]) -> None:
        self.every: list[StepRow] = []
        self.first: list[int] = []
        for number, step in enumerate(steps):
            self.first.append(len(self.every))
            self.every += [StepRow(number, piece.box, piece.sure) for piece in step.pieces]
        self.first.append(len(self.every))

    def of(self, step: int) -> range:
        """The numbers of a step's rows."""
        return range(self.first[step], self.first[step + 1])

    @cached_property
    def index(self) -> BoxIndex:
        return index_of([row.box for row in self.every])

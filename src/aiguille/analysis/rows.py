"""The rows of one program: every piece of every step, in order, and which of them overlap one another."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

from msgspec import Struct

from aiguille.analysis.resolve import Piece
from aiguille.space import Box, BoxIndex, index_of


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

    def __init__(self, pieces: Sequence[Sequence[Piece]]) -> None:
        """pieces: those of each step"""
        self.every: list[StepRow] = []
        self.first: list[int] = []
        for number, mine in enumerate(pieces):
            self.first.append(len(self.every))
            self.every += [StepRow(number, piece.box, piece.sure) for piece in mine]
        self.first.append(len(self.every))

    def of(self, step: int) -> range:
        """The numbers of a step's rows."""
        return range(self.first[step], self.first[step + 1])

    @cached_property
    def index(self) -> BoxIndex:
        return index_of([row.box for row in self.every])

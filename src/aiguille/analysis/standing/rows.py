"""The rows of one program, indexed: what each step matches, and which rows overlap it."""

from __future__ import annotations

from bisect import bisect_left
from typing import Any

from aiguille.analysis.decide import Ends
from aiguille.analysis.loopback import LOOPBACK
from aiguille.analysis.program import Kind, Program
from aiguille.analysis.standing.covering import is_plain, is_within
from aiguille.analysis.standing.words import ACCEPTED, Fate, fate
from aiguille.analysis.witness import Chooser
from aiguille.model.identity import Same
from aiguille.space import IntervalSet


class Indexed:
    """A program with the rows of its steps, which stand in its order."""

    def __init__(self, program: Program) -> None:
        self.program = program
        self.tops = program.space.tops
        self.chooser = Chooser(program.device, program.space)
        self.rows = program.rows.every
        self.first_row = program.rows.first
        self.own = [
            range(0) if step.kind is Kind.FORK else program.rows.of(number) for number, step in enumerate(program.steps)
        ]
        self.places: dict[Same, set[int]] = {}
        for number, step in enumerate(program.steps):
            self.places.setdefault(Same(step.rule), set()).add(number)
        self.index = program.rows.index
        kinds = [program.steps[row.step].kind for row in self.rows]
        marks = self.index.marks
        self.taking = marks(
            [row.sure and k in (Kind.ACCEPT, Kind.REFUSE) for row, k in zip(self.rows, kinds, strict=True)]
        )
        self.skips = marks([k in (Kind.SKIP, Kind.FORK) for k in kinds])
        self.sure = marks([row.sure for row in self.rows])
        self.acting = marks([k is not Kind.PASS for k in kinds])
        # Rows that the narrowing of a rule to packets that can exist and open connections cannot part from it.
        self.plain = [is_plain(row.box) for row in self.rows]
        symbols = program.space.symbols
        loopback = IntervalSet.of(symbols.number(LOOPBACK)) if LOOPBACK in symbols.names else IntervalSet()
        # What a host sends itself nobody has in mind who writes a rule for others.
        self.inner = [is_within(row.box, loopback) for row in self.rows]

    def near(self, number: int) -> Any:
        """The numbers of all rows that overlap a step's own and do more than pass packets on, ascending."""
        found = [self.index.overlapping(row) for row in self.own[number]]
        return self.index.kept(found[0] if len(found) == 1 else self.index.joined(found), self.acting)

    def around(self, number: int) -> tuple[Any, Any]:
        """Of these the rows of earlier steps and those of later ones."""
        near = self.near(number)
        start = bisect_left(near, self.first_row[number])
        return near[:start], near[bisect_left(near, self.first_row[number + 1], start) :]

    def verdicts(self, ends: Ends) -> set[tuple[bool, Fate]]:
        return {(end.accepts, ACCEPTED if end.accepts else fate(self.program.steps[end.step])) for end in ends}

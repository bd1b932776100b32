"""Judging the steps of one program."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import Any

from aiguille.analysis.decide import Cut
from aiguille.analysis.program import Kind
from aiguille.analysis.rows import StepRow
from aiguille.analysis.standing.above import Straight, View, Walked
from aiguille.analysis.standing.rows import Indexed
from aiguille.analysis.standing.words import (
    BECAUSE_LIMIT,
    MANY,
    NEW,
    NOTHING,
    Fate,
    Judged,
    Openness,
    Standing,
    fate,
    opposite,
)
from aiguille.model import Action, TooComplexError
from aiguille.model.identity import Same
from aiguille.space import (
    COUNTED,
    EVERYTHING,
    Box,
    Cell,
    Slices,
    box_size,
    covers,
    holds,
    meets,
    overlap,
    samples,
)
from aiguille.space.effort import limited


class Judge(Indexed):
    """Judges every step of one program."""

    def judged(self) -> list[int]:
        """The steps there is something to say of, in order."""
        return [
            number
            for number, step in enumerate(self.program.steps)
            if step.rule is not None and step.rule.enabled and self._is_rule_itself(number)
        ]

    def within(self, effort: int, number: int, ask: Callable[[Judge, int], Judged]) -> Judged:
        """What is asked of a step, or that it is open where that would take more than so many steps of work."""
        try:
            # How the steps are shared among processes must make no difference.
            with limited(effort, apart=True):
                return ask(self, number)
        except TooComplexError:
            size = sum(box_size(self.rows[row].box, self.tops, COUNTED) for row in self.own[number])
            return Judged(number, Standing.LIVE, openness=Openness(0, size), settled=False)

    def regions(self, number: int) -> list[Box]:
        """The packets a step matches that can go the program's way."""
        return [part for row in self.own[number] for part in self.program.regions(self.rows[row].box)]

    def view(self, number: int, earlier: Any) -> View:
        """What stands above a step."""
        if self.skipping(earlier):
            return Walked(self, number, earlier)
        return Straight(self, number, self.index.kept(earlier, self.taking))

    def skipping(self, rows: Any) -> bool:
        """Whether some of the rows lead on elsewhere."""
        return len(self.index.kept(rows, self.skips)) > 0

    def reachable(self, number: int) -> bool:
        view = self.view(number, self.around(number)[0])
        return any(view.reached(region) is not None for region in self.regions(number))

    def hidden(self, number: int) -> Judged:
        """What a step is worth that no packet reaches; of others no more than that it is live."""
        regions = self.regions(number)
        if not regions:
            return self._without_packets(number)
        view = self.view(number, self.around(number)[0])
        if any(view.reached(region) is not None for region in regions):
            return Judged(number, Standing.LIVE)
        return self._hidden(number, regions, view)

    def step(self, number: int) -> Judged:
        """All there is to say of a step."""
        regions = self.regions(number)
        if not regions:
            return self._without_packets(number)
        earlier, later = self.around(number)
        view = self.view(number, earlier)
        cell = next((found for region in regions if (found := view.reached(region)) is not None), None)
        if cell is None:
            return self._hidden(number, regions, view)
        openness = self._openness(view, regions)
        same = self._redundant(number, regions, view, later, cell)
        witness = self.chooser.choose(cell)
        if same is not None:
            return Judged(number, Standing.REDUNDANT, same, witness, openness)
        standing, because = self._disputed(number, regions, earlier)
        return Judged(number, standing, because, witness, openness)

    def _is_rule_itself(self, number: int) -> bool:
        """False for forks and for the step that leads out of the calling chain after a goto: they belong to a rule."""
        step = self.program.steps[number]
        leads_out = step.kind is Kind.SKIP and step.rule is not None and step.rule.action is Action.GOTO
        return step.kind is not Kind.FORK and not leads_out

    def _without_packets(self, number: int) -> Judged:
        """Of a step that nothing which can go the program's way is meant for."""
        may = any(self.program.may_exist(self.rows[row].box) for row in self.own[number])
        return Judged(number, Standing.LIVE if may else Standing.IMPOSSIBLE)

    def _hidden(self, number: int, regions: Sequence[Box], view: View) -> Judged:
        step = self.program.steps[number]
        decides = step.kind in (Kind.ACCEPT, Kind.REFUSE) or step.settles
        because, shortest = view.explain(regions)
        standing = Standing.SHADOWED
        if decides and (
            self._done_above(number, regions) or not any(view.taken_otherwise(region, fate(step)) for region in regions)
        ):
            standing = Standing.REDUNDANT
        return Judged(number, standing, because, shortest=shortest)

    def _done_above(self, number: int, regions: Sequence[Box]) -> bool:
        """Whether one step above does the same for all a hidden step is about, whatever others take of that before it."""
        mine = fate(self.program.steps[number])
        for at in self.index.kept(self.around(number)[0], self.taking):
            row = self.rows[at]
            if fate(self.program.steps[row.step]) == mine and all(covers(row.box, region) for region in regions):
                return True
        return False

    def _openness(self, view: View, regions: Sequence[Box]) -> Openness:
        """Counted region by region: regions of one step differ in protocol, or are made disjoint by `measured`."""
        total = NOTHING
        for at, region in enumerate(regions):
            total = total + view.measured(region, regions[:at])
        return total

    def _redundant(
        self, number: int, regions: Sequence[Box], view: View, later: Any, cell: Cell
    ) -> tuple[int, ...] | None:
        """The steps below that give the same verdicts if this one is taken away; None if some packet's would change."""
        step = self.program.steps[number]
        returns = step.kind is Kind.SKIP and not step.settles
        if not (step.kind in (Kind.ACCEPT, Kind.REFUSE) or step.settles or returns):
            return None
        if step.rule is not None and step.rule.implied and step.rule.made:
            return None  # a program puts it there by itself, and nobody could take it out
        repeated = len(self.places[Same(step.rule)]) > 1
        if returns or step.settles or repeated or isinstance(view, Walked) or self.skipping(later):
            return self._redundant_walked(number, regions)
        mine = fate(step)
        steps = self.program.steps
        if self._first_taker_differs(later, cell, mine):
            return None
        after = [self.rows[row] for row in later]
        kinds = [steps[row.step].kind is Kind.OPEN or fate(steps[row.step]) != mine for row in after]
        if not any(kinds):
            return self._takers(after, regions)
        if len(after) + len(view.boxes) > MANY and self._some_differ(view.boxes, after, kinds, regions):
            return None
        blockers = view.boxes
        lower = len(blockers)
        blocking = (1 << lower) - 1

        def differs(alive: int, full: int) -> bool | None:
            if alive & blocking:
                return False if alive & full & blocking else None
            bits = alive >> lower
            while bits:
                low = bits & -bits
                bits ^= low
                at = low.bit_length() - 1
                if not full & (low << lower):
                    return None
                if kinds[at]:
                    return True
                if after[at].sure:
                    return False
            return False

        boxes = [*blockers, *(row.box for row in after)]
        for region in regions:
            if Slices(region, boxes, self.tops).find(differs) is not None:
                return None
        return self._takers(after, regions)

    def _some_differ(
        self, above: Sequence[Box], after: Sequence[StepRow], kinds: Sequence[bool], regions: Sequence[Box]
    ) -> bool:
        """Whether a packet picked from what a row below with another outcome holds gets there: mostly it does."""
        for at, (row, differs) in enumerate(zip(after, kinds, strict=True)):
            if not differs:
                continue
            for region in regions:
                common = overlap(region, row.box)
                if common is None:
                    continue
                for point in samples(common, self.tops):
                    taker = next((i for i, r in enumerate(after[:at]) if r.sure and holds(r.box, point)), at)
                    if (taker == at or kinds[taker]) and not any(holds(one, point) for one in above):
                        return True
            if row.sure and row.box == EVERYTHING:
                break
        return False

    def _first_taker_differs(self, later: Any, cell: Cell, mine: Fate) -> bool:
        """Whether a packet known to reach the rule would surely fare differently without it."""
        point = [values.first for values in cell]
        for at in later:
            row = self.rows[at]
            if holds(row.box, point):
                step = self.program.steps[row.step]
                if step.kind is Kind.OPEN or fate(step) != mine:
                    return True
                if row.sure:
                    return False
        return False

    def _takers(self, after: Sequence[StepRow], regions: Sequence[Box]) -> tuple[int, ...]:
        """The steps below that come first for some packet, as far as one sure row covers all; else all that overlap."""
        found: list[int] = []
        for row in after:
            found.append(row.step)
            if row.sure and all(covers(row.box, region) for region in regions):
                break
        return tuple(dict.fromkeys(found))[:BECAUSE_LIMIT]

    def _redundant_walked(self, number: int, regions: Sequence[Box]) -> tuple[int, ...] | None:
        """The same question where skips are about: both walks, with the step and without it, in every node."""
        near = self.near(number)
        rule = self.program.steps[number].rule
        rows = [self.rows[row] for row in near]
        takers: set[int] = set()
        for region in regions:
            cut = Cut(self.program, region, rows)
            # A rule whose chain is called from several places goes from all of them.
            mine = sum(1 << at for at, row in enumerate(cut.rows) if row.step in self.places[Same(rule)])
            if cut.slices.find(partial(self._changes, cut, mine, takers)) is not None:
                return None
        return tuple(sorted(takers))[:BECAUSE_LIMIT]

    def _changes(self, cut: Cut, mine: int, takers: set[int], alive: int, full: int) -> bool | None:
        before, after = cut.ends(alive, full), cut.ends(alive & ~mine, full)
        if before is None or after is None:
            return None
        if self.verdicts(before) != self.verdicts(after):
            return True
        takers.update(end.step for end in after)
        return False

    def _disputed(self, number: int, regions: Sequence[Box], earlier: Any) -> tuple[Standing, tuple[int, ...]]:
        opening = [new for region in regions if (new := overlap(region, NEW)) is not None] or list(regions)
        step = self.program.steps[number]
        above = self.index.kept(earlier, self.sure)
        loopback = all(self.inner[self.first_row[number] : self.first_row[number + 1]])
        against: dict[int, None] = {}
        with_it: dict[int, None] = {}
        for at in above:
            row = self.rows[at]
            other = self.program.steps[row.step]
            if (other.kind is Kind.SKIP and not other.settles) or other.rulebase is not step.rulebase:
                continue
            if self.inner[at] and not loopback:
                continue
            wanted = against if opposite(step, other) else with_it
            if row.step in wanted or (wanted is with_it and (against or len(with_it) >= BECAUSE_LIMIT)):
                continue
            if self.plain[at] or any(meets(row.box, region) for region in opening):
                wanted[row.step] = None
                if len(against) >= BECAUSE_LIMIT:
                    break
        if against:
            return Standing.CONTRADICTED, tuple(against)
        if with_it:
            return Standing.PARTLY_HIDDEN, tuple(with_it)
        return Standing.LIVE, ()

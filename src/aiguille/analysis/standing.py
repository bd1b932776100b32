"""What each rule is worth where it stands.

First match decides, so a rule sees only what the rules above leave over. For each rule the rows that overlap it are found at once
(`BoxIndex`); only then is a packet looked for that reaches it, by cutting the rule along those rows (`Slices`). Definitions, for
the packets that can go the program's way:

* *off*: the export says that the rule is switched off.
* *impossible*: its own conditions exclude one another, or nothing ever calls its chain.
* *shadowed*: rules above surely take every packet it matches or may match, one of them with another outcome.
* *redundant*: without it every packet would have the same verdict, be it for the rules above or for those below and the default.
* *contradicted*: packets it matches are also matched by a rule above, of its own rule base, with the opposite outcome.
* *partly hidden*: some of its packets are surely taken above in its rule base, all with the same outcome.
* *live*: none of these.

The first that applies is given. Contradicted and partly hidden are judged on packets that open connections wherever a rule takes any:
below the usual rules for established and invalid packets every other rule would be both, which tells nobody anything.
"""

from __future__ import annotations

import multiprocessing
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from functools import partial
from math import log2

import numpy as np
from numpy.typing import NDArray

from aiguille.analysis.decide import Cut, Ends, Row
from aiguille.analysis.program import Kind, Program, Programs, Step
from aiguille.analysis.witness import Chooser
from aiguille.model import Action, Chain, Rule, Rulebase, State, TooComplexError
from aiguille.space import (
    COUNTED,
    EVERYTHING,
    Axis,
    Box,
    BoxIndex,
    Cell,
    IntervalSet,
    Packet,
    Slices,
    box,
    box_size,
    common_size,
    full_cell,
    holds,
    overlap,
)

OPENNESS_NODES = 300
"""Nodes spent on counting one rule's packets before bounds are given instead."""

OPENNESS_ROWS = 60
"""Rows above a rule beyond which bounds are given without trying to count."""

MANY = 12
"""Rows above a rule from which on cheap answers are tried before it is cut along them."""

CLOSE_ENOUGH = 1.05
"""Where many rows overlap, bounds this close to one another are not worth counting."""

EXPLAIN_NODES = 20_000
"""Nodes spent on finding the shortest explanation before any irreducible one is given."""

PARALLEL_STEPS = 2_000
"""Steps of a program from which on sharing it among processes pays."""

BECAUSE_LIMIT = 20
"""Rules named as reasons; more would explain nothing."""

_NEW = box([(Axis.STATE, IntervalSet.of(State.NEW.number))])
_UNCOUNTED = tuple(axis for axis in Axis if axis not in COUNTED)


class Standing(StrEnum):
    """What a rule is worth where it stands; in the order in which they are tried."""

    OFF = "off"
    IMPOSSIBLE = "impossible"
    SHADOWED = "shadowed"
    REDUNDANT = "redundant"
    CONTRADICTED = "contradicted"
    PARTLY_HIDDEN = "partly hidden"
    LIVE = "live"


@dataclass(frozen=True, slots=True)
class Openness:
    """How many packets a rule really decides, counted over source, destination, protocol, ports and message types.

    low, high: equal where the count is exact
    """

    low: int
    high: int

    def __add__(self, other: Openness) -> Openness:
        return Openness(self.low + other.low, self.high + other.high)

    @property
    def exact(self) -> bool:
        return self.low == self.high

    @property
    def bits(self) -> float | None:
        """The upper bound as a power of two; None for no packet at all."""
        return log2(self.high) if self.high else None

    @property
    def low_bits(self) -> float | None:
        return log2(self.low) if self.low else None


NOTHING = Openness(0, 0)

Place = tuple[Rulebase, Chain, Rule | None]
"""A rule, or with None the policy of a chain."""


@dataclass(frozen=True, slots=True)
class StandingReport:
    """One rule with what was found of it.

    because: the rules that make it so; for hidden rules a smallest set that covers it (`shortest` if that is proven)
    why: what cannot be said by naming rules
    witness: a packet that reaches the rule, as its chain sees it; None if there is none
    """

    rulebase: Rulebase
    chain: Chain
    rule: Rule
    standing: Standing
    because: tuple[Place, ...] = ()
    why: str = ""
    witness: Packet | None = None
    openness: Openness = NOTHING
    shortest: bool = True


@dataclass(slots=True)
class _Judged:
    """One step judged by itself."""

    step: int
    standing: Standing
    because: tuple[int, ...] = ()
    witness: Packet | None = None
    openness: Openness = NOTHING
    shortest: bool = True


def standings(programs: Programs, jobs: int = 1) -> tuple[StandingReport, ...]:
    """Every rule of a device in the order of its export, each judged over all places it is called from.

    jobs: processes to share long programs among, where the system can fork; the result does not depend on it
    """
    judged: dict[int, list[tuple[Program, _Judged]]] = {}
    for program in programs.everything():
        for one in _judge_all(_Judge(program), jobs):
            rule = program.steps[one.step].rule
            if rule is not None:
                judged.setdefault(id(rule), []).append((program, one))
    return tuple(
        _report(programs, rulebase, chain, rule, judged.get(id(rule), ()))
        for rulebase in programs.device.rulebases
        for chain, rule in rulebase.rules()
    )


def hidden_steps(program: Program) -> list[int]:
    """Indexes of the steps with a rule that no packet can reach, whatever else there is to say of them."""
    judge = _Judge(program)
    return [
        number for number, step in enumerate(program.steps) if step.rule is not None and not judge.reachable(number)
    ]


def _judge_all(judge: _Judge, jobs: int) -> list[_Judged]:
    """All steps judged, in order. Long programs are split in pieces that forked processes take in turn."""
    count = len(judge.program.steps)
    if jobs < 2 or count < PARALLEL_STEPS or "fork" not in multiprocessing.get_all_start_methods():
        return list(judge.all(0, count))
    size = -(-count // (4 * jobs))
    pieces = [(start, min(start + size, count)) for start in range(0, count, size)]
    with multiprocessing.get_context("fork").Pool(jobs, _start_worker, (judge,)) as pool:
        return [one for part in pool.imap(_judge_piece, pieces) for one in part]


_worker: list[_Judge] = []
"""In a forked process, the judge it inherited."""


def _start_worker(judge: _Judge) -> None:
    _worker[:] = [judge]


def _judge_piece(piece: tuple[int, int]) -> list[_Judged]:
    return list(_worker[0].all(*piece))


def _report(
    programs: Programs, rulebase: Rulebase, chain: Chain, rule: Rule, judged: Sequence[tuple[Program, _Judged]]
) -> StandingReport:
    """Join what was found at each place a rule is called from: it is as good as it is at its best place."""
    if not rule.enabled:
        return StandingReport(rulebase, chain, rule, Standing.OFF, why="the export says that it is switched off")
    if not judged:
        why = "no rule calls its chain" if chain.base is None else "nothing passes its chain"
        return StandingReport(rulebase, chain, rule, Standing.IMPOSSIBLE, why=why)
    order = tuple(Standing)
    program, best = max(judged, key=lambda item: (order.index(item[1].standing), item[1].witness is not None))
    openness = sum((one.openness for _, one in judged), NOTHING)
    places: dict[tuple[int, int], Place] = {}
    for where, one in judged:
        if one.standing is best.standing:
            for number in one.because:
                step = where.steps[number]
                places[(id(step.chain), id(step.rule))] = (step.rulebase, step.chain, step.rule)
    why = ""
    if best.standing is Standing.IMPOSSIBLE:
        why = _why_impossible(programs, rule, program)
    because = tuple(places.values())[:BECAUSE_LIMIT]
    return StandingReport(rulebase, chain, rule, best.standing, because, why, best.witness, openness, best.shortest)


def _why_impossible(programs: Programs, rule: Rule, program: Program) -> str:
    pieces = programs.resolver(program.family).rule(rule)
    if not pieces:
        return "its own conditions exclude one another, or speak of the other address family"
    return "its conditions exclude those of every rule that calls its chain, or of the direction it stands in"


def outcome(step: Step) -> str:
    """The verdict a deciding step gives; two steps with equal outcomes are interchangeable for a packet."""
    if step.kind is Kind.SKIP:
        return "accept" if step.settles else "return"
    if step.rule is not None and step.rule.effects and step.chain.base is not None and step.chain.base.kind == "nat":
        return f"{step.action} {step.rule.effects}"
    return "accept" if step.kind is Kind.ACCEPT else step.action.value


def opposite(one: Step, other: Step) -> bool:
    """Whether one accepts what the other refuses."""
    return {one.kind, other.kind} in ({Kind.ACCEPT, Kind.REFUSE}, {Kind.SKIP, Kind.REFUSE}) and (
        (one.kind is not Kind.SKIP or one.settles) and (other.kind is not Kind.SKIP or other.settles)
    )


class _Judge:
    """Judges every step of one program."""

    def __init__(self, program: Program) -> None:
        self.program = program
        self.tops = program.space.tops
        self.chooser = Chooser(program.device, program.space)
        self.rows: list[Row] = []
        self.own: list[list[int]] = [[] for _ in program.steps]
        for number, step in enumerate(program.steps):
            for piece in step.pieces:
                if step.kind is not Kind.FORK:
                    self.own[number].append(len(self.rows))
                self.rows.append(Row(number, piece.box, piece.sure))
        self.places: dict[int, set[int]] = {}
        for number, step in enumerate(program.steps):
            self.places.setdefault(id(step.rule), set()).add(number)
        self.index = BoxIndex([row.box for row in self.rows])
        kinds = [program.steps[row.step].kind for row in self.rows]
        self.step_of = np.array([row.step for row in self.rows], np.int64)
        self.final = np.array([k in (Kind.ACCEPT, Kind.REFUSE) for k in kinds], np.bool_)
        self.skips = np.array([k in (Kind.SKIP, Kind.FORK) for k in kinds], np.bool_)
        self.sure = np.array([row.sure for row in self.rows], np.bool_)
        # Rows that the narrowing of a rule to packets that can exist and open connections cannot part from it.
        self.plain = [_is_plain(row.box) for row in self.rows]
        self.passing = np.array([k is Kind.PASS for k in kinds], np.bool_)

    def all(self, start: int, stop: int) -> Iterator[_Judged]:
        """Steps `start` to `stop`, the latter left out."""
        for number in range(start, stop):
            step = self.program.steps[number]
            if step.rule is not None and step.rule.enabled and self._is_rule_itself(number):
                yield self.step(number)

    def regions(self, number: int) -> list[Box]:
        """The packets a step matches that can go the program's way."""
        return [part for row in self.own[number] for part in self.program.regions(self.rows[row].box)]

    def view(self, number: int, earlier: NDArray[np.intp]) -> _View:
        """What stands above a step."""
        if self.skips[earlier].any():
            return _Walked(self, number, earlier)
        return _Straight(self, number, earlier[self.final[earlier] & self.sure[earlier]])

    def reachable(self, number: int) -> bool:
        near = self.near(number)
        view = self.view(number, near[(self.step_of[near] < number) & ~self.passing[near]])
        return any(view.reached(region) is not None for region in self.regions(number))

    def step(self, number: int) -> _Judged:
        regions = self.regions(number)
        if not regions:
            return _Judged(number, Standing.IMPOSSIBLE)
        near = self.near(number)
        earlier = near[(self.step_of[near] < number) & ~self.passing[near]]
        view = self.view(number, earlier)
        cell = next((found for region in regions if (found := view.reached(region)) is not None), None)
        if cell is None:
            return self._hidden(number, regions, view)
        openness = self._openness(view, regions)
        later = near[self.step_of[near] > number]
        same = self._redundant(number, regions, view, later[~self.passing[later]], cell)
        witness = self.chooser.choose(cell)
        if same is not None:
            return _Judged(number, Standing.REDUNDANT, same, witness, openness)
        standing, because = self._disputed(number, regions, earlier)
        return _Judged(number, standing, because, witness, openness)

    def _is_rule_itself(self, number: int) -> bool:
        """False for forks and for the step that leads out of the calling chain after a goto: they belong to a rule."""
        step = self.program.steps[number]
        leads_out = step.kind is Kind.SKIP and step.rule is not None and step.rule.action is Action.GOTO
        return step.kind is not Kind.FORK and not leads_out

    def near(self, number: int) -> NDArray[np.intp]:
        """All rows that overlap a step's own, ascending."""
        found = [self.index.overlapping(row) for row in self.own[number]]
        return found[0] if len(found) == 1 else np.unique(np.concatenate(found))

    def _hidden(self, number: int, regions: Sequence[Box], view: _View) -> _Judged:
        step = self.program.steps[number]
        decides = step.kind in (Kind.ACCEPT, Kind.REFUSE) or step.settles
        because, shortest = view.explain(regions)
        standing = Standing.SHADOWED
        if decides and not any(view.taken_otherwise(region, outcome(step)) for region in regions):
            standing = Standing.REDUNDANT
        return _Judged(number, standing, because, shortest=shortest)

    def _openness(self, view: _View, regions: Sequence[Box]) -> Openness:
        """Counted region by region: regions of one step differ in protocol, or are made disjoint by `measured`."""
        total = NOTHING
        for at, region in enumerate(regions):
            total = total + view.measured(region, regions[:at])
        return total

    def _redundant(
        self, number: int, regions: Sequence[Box], view: _View, later: NDArray[np.intp], cell: Cell
    ) -> tuple[int, ...] | None:
        """The steps below that give the same verdicts if this one is taken away; None if some packet's would change."""
        step = self.program.steps[number]
        returns = step.kind is Kind.SKIP and not step.settles
        if not (step.kind in (Kind.ACCEPT, Kind.REFUSE) or step.settles or returns):
            return None
        repeated = len(self.places[id(step.rule)]) > 1
        if returns or step.settles or repeated or isinstance(view, _Walked) or self.skips[later].any():
            return self._redundant_walked(number, regions)
        mine = outcome(step)
        steps = self.program.steps
        if self._first_taker_differs(later, cell, mine):
            return None
        after = [self.rows[row] for row in later]
        kinds = [steps[row.step].kind is Kind.OPEN or outcome(steps[row.step]) != mine for row in after]
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
        self, above: Sequence[Box], after: Sequence[Row], kinds: Sequence[bool], regions: Sequence[Box]
    ) -> bool:
        """Whether a packet picked from what a row below with another outcome holds gets there: mostly it does."""
        for at, (row, differs) in enumerate(zip(after, kinds, strict=True)):
            if not differs:
                continue
            for region in regions:
                common = overlap(region, row.box)
                if common is None:
                    continue
                for point in _samples(common, self.tops):
                    taker = next((i for i, r in enumerate(after[:at]) if r.sure and holds(r.box, point)), at)
                    if (taker == at or kinds[taker]) and not any(holds(one, point) for one in above):
                        return True
            if row.sure and row.box == EVERYTHING:
                break
        return False

    def _first_taker_differs(self, later: NDArray[np.intp], cell: Cell, mine: str) -> bool:
        """Whether a packet known to reach the rule would surely fare differently without it."""
        point = [values.first for values in cell]
        for at in later:
            row = self.rows[at]
            if holds(row.box, point):
                step = self.program.steps[row.step]
                if step.kind is Kind.OPEN or outcome(step) != mine:
                    return True
                if row.sure:
                    return False
        return False

    def _takers(self, after: Sequence[Row], regions: Sequence[Box]) -> tuple[int, ...]:
        """The steps below that come first for some packet, as far as one sure row covers all; else all that overlap."""
        found: list[int] = []
        for row in after:
            found.append(row.step)
            if row.sure and all(_covers(row.box, region) for region in regions):
                break
        return tuple(dict.fromkeys(found))[:BECAUSE_LIMIT]

    def _redundant_walked(self, number: int, regions: Sequence[Box]) -> tuple[int, ...] | None:
        """The same question where skips are about: both walks, with the step and without it, in every node."""
        near = self.near(number)
        rule = self.program.steps[number].rule
        rows = [self.rows[row] for row in near[~self.passing[near]]]
        takers: set[int] = set()
        for region in regions:
            cut = Cut(self.program, region, rows)
            # A rule whose chain is called from several places goes from all of them.
            mine = sum(1 << at for at, row in enumerate(cut.rows) if row.step in self.places[id(rule)])
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

    def verdicts(self, ends: Ends) -> set[tuple[bool, str]]:
        return {(end.accepts, "" if end.accepts else outcome(self.program.steps[end.step])) for end in ends}

    def _disputed(
        self, number: int, regions: Sequence[Box], earlier: NDArray[np.intp]
    ) -> tuple[Standing, tuple[int, ...]]:
        opening = [new for region in regions if (new := overlap(region, _NEW)) is not None] or list(regions)
        step = self.program.steps[number]
        above = earlier[self.sure[earlier]]
        against: dict[int, None] = {}
        with_it: dict[int, None] = {}
        for at in above:
            row = self.rows[at]
            other = self.program.steps[row.step]
            if (other.kind is Kind.SKIP and not other.settles) or other.rulebase is not step.rulebase:
                continue
            wanted = against if opposite(step, other) else with_it
            if row.step in wanted or (wanted is with_it and (against or len(with_it) >= BECAUSE_LIMIT)):
                continue
            if self.plain[at] or any(overlap(row.box, region) is not None for region in opening):
                wanted[row.step] = None
                if len(against) >= BECAUSE_LIMIT:
                    break
        if against:
            return Standing.CONTRADICTED, tuple(against)
        if with_it:
            return Standing.PARTLY_HIDDEN, tuple(with_it)
        return Standing.LIVE, ()


@dataclass(slots=True)
class _Straight:
    """What stands above a step where nothing skips: sure rows that take what they match."""

    judge: _Judge
    number: int
    above: NDArray[np.intp]
    boxes: list[Box] = field(init=False)
    _made: dict[int, Slices] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.boxes = [self.judge.rows[row].box for row in self.above]

    def reached(self, region: Box) -> Cell | None:
        if not self.boxes:
            whole = full_cell(self.judge.tops)
            return tuple(whole[a] if values is None else values for a, values in enumerate(region))
        if len(self.boxes) > MANY:
            point = next((p for p in _samples(region, self.judge.tops) if not self._taken(p)), None)
            if point is not None:
                return tuple(IntervalSet.canonical(((value, value),)) for value in point)
        if any(_covers(one, region) for one in self.boxes):
            return None
        return self._sliced(region).uncovered()

    def _taken(self, point: Sequence[int]) -> bool:
        return any(holds(one, point) for one in self.boxes)

    def _sliced(self, region: Box) -> Slices:
        found = self._made.get(id(region))
        if found is None:
            found = self._made[id(region)] = Slices(region, self.boxes, self.judge.tops, last=_UNCOUNTED)
        return found

    def measured(self, region: Box, counted_before: Sequence[Box]) -> Openness:
        whole = box_size(region, self.judge.tops, COUNTED)
        again = [b for b in counted_before if overlap(b, region) is not None]
        holes = [*self.boxes, *again]
        if not holes:
            return Openness(whole, whole)
        low = 1  # a packet is known to get here
        if len(holes) > MANY:
            # At least what is left if no packet were in two holes at once.
            low = max(1, whole - sum(common_size(region, hole, self.judge.tops, COUNTED) for hole in holes))
            if low * CLOSE_ENOUGH >= whole:
                return Openness(low, whole)
        if len(holes) <= OPENNESS_ROWS:
            sliced = Slices(region, holes, self.judge.tops, last=_UNCOUNTED) if again else self._sliced(region)
            sliced.budget = OPENNESS_NODES
            try:
                size = sliced.uncovered_size(COUNTED)
            except TooComplexError:
                pass
            else:
                return Openness(size, size)
        return Openness(low, whole)

    def taken_otherwise(self, region: Box, mine: str) -> bool:
        """Whether some packet of `region` is first taken by a step with another outcome."""
        steps, rows = self.judge.program.steps, self.judge.rows
        other = [outcome(steps[rows[row].step]) != mine for row in self.above]
        if not any(other):
            return False

        def leaf(alive: int, full: int) -> bool | None:
            low = alive & -alive
            if not low:
                return False
            return other[low.bit_length() - 1] if full & low else None

        return Slices(region, self.boxes, self.judge.tops).find(leaf) is not None

    def explain(self, regions: Sequence[Box]) -> tuple[tuple[int, ...], bool]:
        """A smallest set of steps that together cover the regions, and whether it is proven smallest."""
        rows = self.judge.rows
        for at, one in enumerate(self.boxes):
            if all(_covers(one, region) for region in regions):
                return (rows[self.above[at]].step,), True
        needs: set[int] = set()
        try:
            for region in regions:
                needs |= Slices(region, self.boxes, self.judge.tops, budget=EXPLAIN_NODES).leaves()
            chosen, shortest = _smallest_hitting_set(needs)
        except TooComplexError:
            chosen, shortest = self._irreducible(regions), False
        return tuple(dict.fromkeys(rows[self.above[at]].step for at in chosen)), shortest

    def _irreducible(self, regions: Sequence[Box]) -> list[int]:
        """A set that covers, out of which nothing can be left; found by leaving out one after the other."""
        kept = list(range(len(self.boxes)))
        for at in list(kept):
            rest = [self.boxes[k] for k in kept if k != at]
            if all(Slices(region, rest, self.judge.tops).uncovered() is None for region in regions):
                kept.remove(at)
        return kept


@dataclass(slots=True)
class _Walked:
    """What stands above a step where returns or early accepts skip over rules: every walk is followed."""

    judge: _Judge
    number: int
    above: NDArray[np.intp]
    boxes: list[Box] = field(default_factory=list)

    def _cut(self, region: Box, last: tuple[Axis, ...] = (), budget: int | None = None) -> Cut:
        rows = [self.judge.rows[row] for row in self.above]
        return Cut(self.judge.program, region, rows, last=last, budget=budget)

    def reached(self, region: Box) -> Cell | None:
        cut = self._cut(region)
        return cut.slices.find(partial(cut.gets_to, self.number))

    def measured(self, region: Box, counted_before: Sequence[Box]) -> Openness:
        whole = box_size(region, self.judge.tops, COUNTED)
        try:
            cut = self._cut(region, _UNCOUNTED, OPENNESS_NODES)
            size = cut.slices.measure(partial(cut.gets_to, self.number), COUNTED)
        except TooComplexError:
            return Openness(1, whole)
        return Openness(0 if counted_before else size, size)

    def taken_otherwise(self, region: Box, mine: str) -> bool:
        judge = self.judge
        near = judge.near(self.number)
        cut = Cut(judge.program, region, [judge.rows[row] for row in near[~judge.passing[near]]])
        doubtful = sum(
            1 << at
            for at, row in enumerate(cut.rows)
            if not row.sure and judge.program.steps[row.step].kind in (Kind.ACCEPT, Kind.REFUSE, Kind.OPEN)
        )

        def leaf(alive: int, full: int) -> bool | None:
            # A skip is no verdict: what counts is where its packets end, rules that only may match left aside.
            ends = cut.ends(alive & ~doubtful, full)
            return (
                None if ends is None else judge.verdicts(ends) != {(mine == "accept", "" if mine == "accept" else mine)}
            )

        return cut.slices.find(leaf) is not None

    def explain(self, regions: Sequence[Box]) -> tuple[tuple[int, ...], bool]:
        """Every step that takes some packet of the regions; with skips about, fewer might not explain it."""
        found: set[int] = set()
        for region in regions:
            cut = self._cut(region)

            def leaf(alive: int, full: int, cut: Cut = cut) -> bool | None:
                stops = cut.stops(self.number, alive, full)
                if stops is not None:
                    found.update(stop for stop in stops if stop is not None)
                return None if stops is None else False

            cut.slices.find(leaf)
        return tuple(sorted(found))[:BECAUSE_LIMIT], False


_View = _Straight | _Walked


def _samples(region: Box, tops: Sequence[int]) -> Iterator[tuple[int, ...]]:
    """A few points of a region: all first values, all last ones, and two mixtures."""
    whole = full_cell(tuple(tops))
    cells = [whole[axis] if values is None else values for axis, values in enumerate(region)]
    firsts = [values.spans[0][0] for values in cells]
    lasts = [values.spans[-1][1] for values in cells]
    middles = [_inner(values.spans[len(values.spans) // 2]) for values in cells]
    yield tuple(firsts)
    yield tuple(lasts)
    yield tuple(middles)
    yield tuple(first if axis % 2 else last for axis, (first, last) in enumerate(zip(firsts, lasts, strict=True)))


def _inner(span: tuple[int, int]) -> int:
    return min(span[0] + 1, span[1])


def _is_plain(one: Box) -> bool:
    """Whether a box says nothing on the axes that regions narrow, or nothing that a region could take away."""
    if any(one[axis] is not None for axis in (Axis.FLAGS, Axis.STATE, Axis.TYPE)):
        return False
    return all((values := one[axis]) is None or 0 not in values for axis in (Axis.IN, Axis.OUT))


def _covers(one: Box, region: Box) -> bool:
    for mine, theirs in zip(one, region, strict=True):
        if mine is None or mine is theirs:
            continue
        if theirs is None or not theirs.issubset(mine):
            return False
    return True


def _smallest_hitting_set(needs: Iterable[int]) -> tuple[list[int], bool]:
    """The fewest bits of which every mask in `needs` has one, and whether that many are proven necessary.

    Masks that contain another are met by meeting that one. Sizes are tried upwards, branching on the narrowest mask.
    """
    masks = sorted(set(needs), key=int.bit_count)
    minimal: list[int] = []
    for mask in masks:
        if not any(mask & other == other for other in minimal):
            minimal.append(mask)
    budget = [EXPLAIN_NODES]

    def choose_from(open_masks: list[int], size: int) -> list[int] | None:
        if not open_masks:
            return []
        if size == 0 or budget[0] <= 0:
            return None
        budget[0] -= 1
        bits = open_masks[0]
        while bits:
            low = bits & -bits
            bits ^= low
            rest = choose_from([m for m in open_masks if not m & low], size - 1)
            if rest is not None:
                return [low.bit_length() - 1, *rest]
        return None

    for size in range(1, len(minimal) + 1):
        found = choose_from(minimal, size)
        if found is not None:
            return sorted(found), budget[0] > 0
        if budget[0] <= 0:
            break
    greedy: list[int] = []
    while minimal:
        counts: dict[int, int] = {}
        for mask in minimal:
            bits = mask
            while bits:
                low = bits & -bits
                bits ^= low
                counts[low] = counts.get(low, 0) + 1
        best = max(counts, key=lambda low: (counts[low], -low))
        greedy.append(best.bit_length() - 1)
        minimal = [mask for mask in minimal if not mask & best]
    return sorted(greedy), False


__all__ = ["Openness", "Standing", "StandingReport", "standings"]

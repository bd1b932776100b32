"""Which packets a program accepts or refuses, decided by which step, for whole regions at a time.

Where a qualifier stands in the way a packet has several possible ends; a statement is certain only if all its ends agree.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from aiguille.analysis.program import Kind, Program, Step
from aiguille.analysis.witness import choose
from aiguille.model import Side
from aiguille.space import EVERYTHING, Axis, Box, IntervalSet, Packet, Slices, box, overlap


@dataclass(frozen=True, slots=True)
class End:
    """One way a packet's walk can end.

    step: index of the step that gives the verdict
    settled: index of the last step that accepted in an earlier chain, -1 if none did; it is the rule people mean by
        "the rule that lets it in" when the last chain only lets pass
    accepts: the verdict
    logged: whether a step on the way recorded the packet
    """

    step: int
    settled: int
    accepts: bool
    logged: bool


Ends = frozenset[End]


@dataclass(frozen=True, slots=True)
class Proof:
    """A packet that proves a statement, and the step that decides it."""

    packet: Packet
    ends: Ends
    program: Program

    @property
    def certain(self) -> bool:
        return len({end.accepts for end in self.ends}) == 1

    @property
    def steps(self) -> tuple[Step, ...]:
        """The steps that decide the packet, in order; more than one only where a qualifier stands in the way."""
        chosen = {_telling(self.program, end) for end in self.ends}
        return tuple(self.program.steps[number] for number in sorted(chosen))


def _telling(program: Program, end: End) -> int:
    step = program.steps[end.step]
    return end.settled if end.accepts and step.rule is None and end.settled >= 0 else end.step


def surely_accepted(ends: Ends) -> bool:
    return all(end.accepts for end in ends)


def maybe_accepted(ends: Ends) -> bool:
    return any(end.accepts for end in ends)


def surely_refused(ends: Ends) -> bool:
    return not maybe_accepted(ends)


class Decider:
    """Decides regions of one program."""

    def __init__(self, program: Program, *, skip: frozenset[int] = frozenset()) -> None:
        """skip: indexes of steps to leave out, as if the rules behind them were switched off"""
        self.program = program
        self._skip = skip

    def find(self, region: Box, wanted: Callable[[Ends], bool]) -> Proof | None:
        """A packet of `region` whose possible ends satisfy `wanted`, None if there is none.

        A packet that goes from one side to another is preferred where there is one, since it reads best.
        """
        found = self._first(region, wanted)
        if found is None or found.packet.in_interface != found.packet.out_interface:
            return found
        for crossing in crossings(self.program):
            narrowed = overlap(region, crossing)
            better = self._first(narrowed, wanted) if narrowed is not None else None
            if better is not None:
                return better
        return found

    def _first(self, region: Box, wanted: Callable[[Ends], bool]) -> Proof | None:
        for part in self.program.regions(region):
            cut = _Cut(self.program, part, self._skip)
            found = cut.slices.find(cut.leaf(wanted))
            if found is not None:
                packet = choose(self.program.device, self.program.space, found)
                return Proof(packet, cut.ends_at(packet.point(self.program.space)), self.program)
        return None

    def project(self, region: Box, axis: Axis, wanted: Callable[[Ends], bool]) -> IntervalSet:
        """All values of `axis` for which `find` would succeed."""
        out: list[tuple[int, int]] = []
        for part in self.program.regions(region):
            cut = _Cut(self.program, part, self._skip, first=(axis,))
            out += cut.slices.project(axis, cut.leaf(wanted)).spans
        return IntervalSet(out)

    def ends(self, point: tuple[int, ...]) -> Ends:
        """All ways the walk of the packet at `point` can end."""
        single: Box = tuple(IntervalSet.of(value) for value in point)
        return _Cut(self.program, single, self._skip).ends_at(point)


class _Cut:
    """A program's steps cut along one region."""

    def __init__(
        self, program: Program, region: Box, skip: frozenset[int] = frozenset(), first: tuple[Axis, ...] = ()
    ) -> None:
        self.program = program
        boxes: list[Box] = []
        self.steps: list[int] = []
        self.sure = 0
        self.skips = 0
        self.final = 0
        for number, step in enumerate(program.steps):
            if number in skip or (step.kind is Kind.PASS and not step.logs):
                continue
            for piece in step.pieces:
                if piece.box is not EVERYTHING and overlap(piece.box, region) is None:
                    continue
                bit = 1 << len(boxes)
                boxes.append(piece.box)
                self.steps.append(number)
                if piece.sure:
                    self.sure |= bit
                if step.kind in (Kind.SKIP, Kind.FORK):
                    self.skips |= bit
                elif step.kind in (Kind.ACCEPT, Kind.REFUSE):
                    self.final |= bit
        self.slices = Slices(region, boxes, program.space.tops, first=first)
        self._first_piece: dict[int, int] = {}
        self._known: dict[tuple[int, int], Ends | None] = {}

    def leaf(self, wanted: Callable[[Ends], bool]) -> Callable[[int, int], bool | None]:
        def answer(alive: int, full: int) -> bool | None:
            ends = self._ends(alive, full)
            return None if ends is None else wanted(ends)

        return answer

    def ends_at(self, point: tuple[int, ...]) -> Ends:
        alive = self.slices.alive
        for axis in self.slices.axes:
            value = point[axis]
            for part in self.slices.classes[axis]:
                if any(first <= value <= last for first, last in part.spans):
                    alive &= part.signature
                    break
        found = self._ends(alive, alive)
        if found is None:
            raise LookupError("a single packet is always decided")
        return found

    def _ends(self, alive: int, full: int) -> Ends | None:
        """All ends of the packets held by the pieces `alive`; None if a piece among them does not hold them all."""
        stop = alive & full & self.sure & self.final
        if stop and not (alive & self.skips):
            alive &= (stop & -stop) * 2 - 1  # what stands after the first step that surely decides changes nothing
        key = (alive, alive & full)
        if key not in self._known:
            self._known[key] = self._walk(alive, full)
        return self._known[key]

    def _walk(self, alive: int, full: int) -> Ends | None:
        ends: set[End] = set()
        todo: list[tuple[int, bool, int]] = [(alive, False, -1)]
        seen = set(todo)

        def later(state: tuple[int, bool, int]) -> None:
            if state not in seen:
                seen.add(state)
                todo.append(state)

        while todo:
            bits, logged, settled = todo.pop()
            while bits:
                low = bits & -bits
                bits ^= low
                if not full & low:
                    return None
                number = self.steps[low.bit_length() - 1]
                step = self.program.steps[number]
                sure = bool(self.sure & low)
                was_logged = logged
                if step.logs:
                    # A log that may not fire counts as a record all the same: a rate limit thins it out, no more.
                    logged = True
                match step.kind:
                    case Kind.ACCEPT | Kind.REFUSE:
                        ends.add(End(number, settled, step.kind is Kind.ACCEPT, logged))
                    case Kind.OPEN:
                        ends.add(End(number, settled, True, logged))
                        ends.add(End(number, settled, False, logged))
                    case Kind.SKIP | Kind.FORK:
                        target = step.stop.index if step.stop is not None else 0
                        beyond = bits & ~((1 << self._piece_at(target)) - 1)
                        later((beyond, logged, number if step.settles else settled))
                    case Kind.PASS:
                        continue
                if sure and step.kind is not Kind.OPEN:
                    break
                logged = was_logged
        return frozenset(ends)

    def _piece_at(self, step: int) -> int:
        """The first piece that belongs to `step` or a later one."""
        found = self._first_piece.get(step)
        if found is None:
            found = next((i for i, number in enumerate(self.steps) if number >= step), len(self.steps))
            self._first_piece[step] = found
        return found


def crossings(program: Program) -> Iterator[Box]:
    """From the outside in, from the inside out, and between any two named interfaces."""
    symbols = program.space.symbols
    outer = IntervalSet.of(
        *(symbols.number(n) for z in program.device.zones if z.side is Side.OUTSIDE for n in z.interfaces)
    )
    inner = IntervalSet.of(*range(1, len(symbols.names))) - outer
    if outer and inner:
        yield box([(Axis.IN, outer), (Axis.OUT, inner)])
        yield box([(Axis.IN, inner), (Axis.OUT, outer)])
    for number in inner:
        if rest := inner - IntervalSet.of(number):
            yield box([(Axis.IN, IntervalSet.of(number)), (Axis.OUT, rest)])


def rule_regions(program: Program, number: int) -> Iterator[Box]:
    """The packets step `number` matches, as boxes within what can go this way."""
    for piece in program.steps[number].pieces:
        yield from program.regions(piece.box)

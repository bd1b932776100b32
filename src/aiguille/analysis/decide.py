"""Which packets a program accepts or refuses, decided by which step, for whole regions at a time.

Where a qualifier stands in the way a packet has several possible ends; a statement is certain only if all its ends agree.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cached_property
from itertools import islice
from typing import Any

from msgspec import Struct

from aiguille.analysis.diversions import Diversion, diversions
from aiguille.analysis.doubts import Doubt
from aiguille.analysis.loopback import LOOPBACK
from aiguille.analysis.program import Kind, Program, Step
from aiguille.analysis.rows import StepRow
from aiguille.analysis.witness import Chooser
from aiguille.model import Side
from aiguille.packets import Packet
from aiguille.space import (
    BUDGET,
    EVERYTHING,
    Axis,
    Box,
    IntervalSet,
    Slices,
    box,
    covers,
    full_cell,
    holds,
    meets,
    overlap,
    samples,
    subtract,
)
from aiguille.space.effort import spend
from aiguille.space.fields import ICMP_OF, SYN, TCP, UDP


class End(Struct, frozen=True):
    """One way a packet's walk can end.

    step: index of the step that gives the verdict
    settled: index of the last step that accepted in an earlier chain, -1 if none did; it is the rule people mean by
        "the rule that lets it in" when the last chain only lets pass
    accepts: the verdict
    logged: whether a step on the way recorded the packet
    doubt: the worst of the jumps on the way that may be taken or not
    """

    step: int
    settled: int
    accepts: bool
    logged: bool
    doubt: Doubt = Doubt.NONE


Ends = frozenset[End]

_Walk = tuple[bool, int, Doubt]
"""A walk under way: whether it was recorded, the last step that settled an earlier chain, and the doubt of its jumps."""


class Proof(Struct, frozen=True):
    """A packet that proves a statement, and the step that decides it."""

    packet: Packet
    ends: Ends
    program: Program

    @property
    def certain(self) -> bool:
        return len({end.accepts for end in self.ends}) == 1

    @property
    def steps(self) -> tuple[Step, ...]:
        """The steps that decide the packet, in order; more than one only where a qualifier stands in the way.

        Steps that let it in come after those that do not, so that the last is the one to name where it is let in.
        """
        chosen = {(end.accepts, decisive(self.program, end)) for end in self.ends}
        return tuple(self.program.steps[number] for _, number in sorted(chosen))


def decisive(program: Program, end: End) -> int:
    """The step people would name as the one that decides."""
    step = program.steps[end.step]
    return end.settled if end.accepts and step.rule is None and end.settled >= 0 else end.step


def accepting_steps(program: Program, ends: Ends) -> frozenset[int]:
    """The steps that let a packet in, as people would name them."""
    return frozenset(decisive(program, end) for end in ends if end.accepts)


def surely_accepted(ends: Ends) -> bool:
    return all(end.accepts for end in ends)


def maybe_accepted(ends: Ends) -> bool:
    return any(end.accepts for end in ends)


def surely_refused(ends: Ends) -> bool:
    return not maybe_accepted(ends)


LONG = 1000
"""Steps of a program from which on whatever saves looking through them pays."""

_GUESSES = 50
"""Rows whose packets are tried one by one; if none of so many is wanted, few are."""

_PARTS_LIMIT = 60
"""Parts a region is cut into to leave out what is translated."""


class Decider:
    """Decides regions of one program."""

    def __init__(self, program: Program, *, skip: frozenset[int] = frozenset()) -> None:
        """skip: indexes of steps to leave out, as if the rules behind them were switched off"""
        self.program = program
        self._rows = tuple(rows_of(program, skip))

    def find(
        self, region: Box, wanted: Callable[[Ends], bool], step: int | None = None, known: Packet | None = None
    ) -> Proof | None:
        """A packet of `region` whose possible ends satisfy `wanted`, None if there is none.

        step: a step with rows of its own that hold all of `region`; only what overlaps it is then looked at
        known: a packet that may well do
        Preferred are packets that the filter sees as they are sent, and those that go from one side to another.
        """
        rows = self._rows if step is None else self._near(step, region)
        if len(self.program.steps) >= LONG:
            guessed = self._guessed(region, wanted, rows, known)
            if guessed is None and step is None:
                guessed = self._guessed_by_row(region, wanted)
            if guessed is not None:
                return guessed
        found = self._find(region, wanted, rows)
        if found is None or not self._is_diverted(found.packet):
            return found
        untouched = [region]
        for one in self._diversions:
            if one.sure and len(untouched) < _PARTS_LIMIT:
                untouched = [part for each in untouched for part in subtract(each, one.box, self.program.space.tops)]
        better = (self._find(part, wanted, rows) for part in untouched[:_PARTS_LIMIT])
        return next((one for one in better if one is not None), found)

    def exists(self, region: Box, wanted: Callable[[Ends], bool], step: int) -> bool:
        """Whether `find` would succeed: mostly one of a few points of the region shows that it would."""
        rows = self._near(step, region)
        for part in self.program.regions(region):
            if any(wanted(self._ends_among(rows, point)) for point in samples(part, self.program.space.tops)):
                return True
        return self._first(region, wanted, rows) is not None

    def _ends_among(self, rows: Sequence[StepRow], point: tuple[int, ...]) -> Ends:
        spend(1 + (len(rows) >> 2))
        return Walks(self.program, (row for row in rows if holds(row.box, point))).everything()

    def _guessed(
        self, region: Box, wanted: Callable[[Ends], bool], rows: Sequence[StepRow], known: Packet | None
    ) -> Proof | None:
        """A packet that is known, or else the one people would choose of a region, if it happens to be wanted, which mostly it is."""
        if known is not None and holds(region, known.point(self.program.space)):
            proof = self._plainly(known, wanted, rows)
            if proof is not None:
                return proof
        usual = next((part for one in _USUAL[self.program.family] if (part := overlap(region, one)) is not None), None)
        for part in self.program.regions(usual) if usual is not None else ():
            whole = full_cell(self.program.space.tops)
            packet = self._chooser.choose(tuple(whole[a] if one is None else one for a, one in enumerate(part)))
            proof = self._plainly(packet, wanted, rows)
            if proof is not None:
                return proof
        return None

    def _guessed_by_row(self, region: Box, wanted: Callable[[Ends], bool]) -> Proof | None:
        """The same for what one row after the other matches, and for the first of them alone."""
        common = ((row.step, part) for row in self._rows if (part := overlap(region, row.box)) is not None)
        guesses = (self._guessed(part, wanted, self._near(step, part), None) for step, part in islice(common, _GUESSES))
        return next((one for one in guesses if one is not None), None)

    def _plainly(self, packet: Packet, wanted: Callable[[Ends], bool], rows: Sequence[StepRow]) -> Proof | None:
        """A packet as a proof, if it is wanted and convinces by itself."""
        if packet.in_interface == packet.out_interface or not _looks_real(packet) or self._is_diverted(packet):
            return None
        ends = self._ends_among(rows, packet.point(self.program.space))
        return Proof(packet, ends, self.program) if wanted(ends) else None

    def _find(self, region: Box, wanted: Callable[[Ends], bool], rows: Sequence[StepRow]) -> Proof | None:
        found = self._likely(region, wanted, rows)
        if found is None or found.packet.in_interface != found.packet.out_interface:
            return found
        for crossing in crossings(self.program):
            narrowed = overlap(region, crossing)
            better = self._likely(narrowed, wanted, rows) if narrowed is not None else None
            if better is not None and (_looks_real(better.packet) or not _looks_real(found.packet)):
                return better
        return found

    def _likely(self, region: Box, wanted: Callable[[Ends], bool], rows: Sequence[StepRow]) -> Proof | None:
        """A packet of a region, one that convinces where there is one."""
        found = self._first(region, wanted, rows)
        if found is None or _looks_real(found.packet):
            return found
        usual = (overlap(region, one) for one in _USUAL[self.program.family])
        better = (self._first(one, wanted, rows) for one in usual if one is not None)
        return next((one for one in better if one is not None), found)

    @cached_property
    def _diversions(self) -> tuple[Diversion, ...]:
        return diversions(self.program)

    def _is_diverted(self, packet: Packet) -> bool:
        """Whether a packet sent like this comes to the filter as another."""
        point = packet.point(self.program.space) if self._diversions else ()
        return any(one.sure and one.takes(point) for one in self._diversions)

    @cached_property
    def _chooser(self) -> Chooser:
        return Chooser(self.program.device, self.program.space)

    @cached_property
    def _looked_at(self) -> Any:
        """The marks of the program's rows that count."""
        numbers = {row.step for row in self._rows}
        return self.program.rows.index.marks([row.step in numbers for row in self.program.rows.every])

    def _overlapping(self, step: int) -> Any:
        """The numbers of the rows that overlap those of a step, ascending."""
        index = self.program.rows.index
        found = [index.overlapping(row) for row in self.program.rows.of(step)]
        if not found:
            return []
        return index.kept(found[0] if len(found) == 1 else index.joined(found), self._looked_at)

    def _near(self, step: int, region: Box) -> list[StepRow]:
        """The rows that overlap those of a step, in order, up to one of these that surely ends every walk of the region."""
        near, every = self._overlapping(step), self.program.rows.every
        if self.program.steps[step].kind in (Kind.ACCEPT, Kind.REFUSE) and not self._skips:
            own = self.program.rows.of(step)
            last = next((at for at in own if every[at].sure and covers(every[at].box, region)), None)
            if last is not None:
                near = near[: bisect_right(near, last)]
        return [every[at] for at in near]

    def overlapping(self, step: int) -> list[int]:
        """The steps before one that match some of its packets."""
        every = self.program.rows.every
        before = self._overlapping(step)
        before = before[: bisect_left(before, self.program.rows.first[step])]
        return list(dict.fromkeys(every[at].step for at in before))

    @cached_property
    def _skips(self) -> bool:
        """Whether a packet may get to a step past one before it."""
        return any(self.program.steps[row.step].kind in (Kind.SKIP, Kind.FORK) for row in self._rows)

    def _first(self, region: Box, wanted: Callable[[Ends], bool], rows: Sequence[StepRow]) -> Proof | None:
        for part in self.program.regions(region):
            cut = Cut(self.program, part, rows)
            found = cut.slices.find(cut.leaf(wanted))
            if found is not None:
                packet = self._chooser.choose(found)
                return Proof(packet, cut.ends_at(packet.point(self.program.space)), self.program)
        return None

    def project(self, region: Box, axis: Axis, wanted: Callable[[Ends], bool]) -> IntervalSet:
        """All values of `axis` for which `find` would succeed."""
        out: list[tuple[int, int]] = []
        for part in self.program.regions(region):
            cut = Cut(self.program, part, self._rows, (axis,))
            out += cut.slices.project(axis, cut.leaf(wanted)).spans
        return IntervalSet(out)

    def ends(self, point: tuple[int, ...]) -> Ends:
        """All ways the walk of the packet at `point` can end."""
        return self._ends_among(self._rows, point)


def rows_of(program: Program, skip: frozenset[int] = frozenset()) -> Iterator[StepRow]:
    """All pieces of a program's steps in order, but for steps that neither decide nor log."""
    for row in program.rows.every:
        step = program.steps[row.step]
        if row.step not in skip and (step.kind is not Kind.PASS or step.logs):
            yield row


class Walks:
    """Rows of a program with the walk that decides what packets meet on it."""

    def __init__(self, program: Program, rows: Iterable[StepRow]) -> None:
        """rows: in order of steps"""
        self.program = program
        self.rows = list(rows)
        self.sure = 0
        self.skips = 0
        self.final = 0
        for at, row in enumerate(self.rows):
            bit = 1 << at
            kind = program.steps[row.step].kind
            if row.sure:
                self.sure |= bit
            if kind in (Kind.SKIP, Kind.FORK):
                self.skips |= bit
            elif kind in (Kind.ACCEPT, Kind.REFUSE):
                self.final |= bit
        self._first_row: dict[int, int] = {}
        self._known: dict[tuple[int, int], Ends | None] = {}

    def everything(self) -> Ends:
        """All ends of packets that all the rows hold."""
        every = (1 << len(self.rows)) - 1
        return self._decided(every, every)

    def ends(self, alive: int, full: int) -> Ends | None:
        """All ends of the packets held by the pieces `alive`; None if a piece among them does not hold them all."""
        stop = alive & full & self.sure & self.final
        if stop and not (alive & self.skips):
            alive &= (stop & -stop) * 2 - 1  # what stands after the first step that surely decides changes nothing
        key = (alive, alive & full)
        if key not in self._known:
            self._known[key] = self._walk(alive, full)
        return self._known[key]

    def _decided(self, alive: int, full: int) -> Ends:
        found = self.ends(alive, full)
        if found is None:
            raise LookupError("a single packet is always decided")
        return found

    def _walk(self, alive: int, full: int) -> Ends | None:
        ends: set[End] = set()
        # Skips lead forward only, so one pass does for all walks: those under way, and those that wait for a step to come.
        walks: set[_Walk] = {(False, -1, Doubt.NONE)}
        waiting: dict[int, set[_Walk]] = {}
        bits, looked = alive, 0
        while bits:
            low = bits & -bits
            number = self.rows[low.bit_length() - 1].step
            if waiting:
                for target in [target for target in waiting if target <= number]:
                    walks = walks | waiting.pop(target)
            if not walks:
                if not waiting:
                    break
                bits &= ~self.before(min(waiting))
                continue
            bits ^= low
            looked += len(walks)
            if not full & low:
                spend(looked)
                return None
            step = self.program.steps[number]
            # A log that may not fire counts as a record all the same: a rate limit thins it out, no more.
            here = {(True, settled, doubt) for _, settled, doubt in walks} if step.logs else walks
            match step.kind:
                case Kind.ACCEPT | Kind.REFUSE:
                    ends |= {
                        End(number, settled, step.kind is Kind.ACCEPT, logged, doubt) for logged, settled, doubt in here
                    }
                case Kind.OPEN:
                    ends |= {
                        End(number, settled, at, logged, doubt)
                        for logged, settled, doubt in here
                        for at in (True, False)
                    }
                case Kind.SKIP | Kind.FORK:
                    worst = self.program.doubts[number]
                    if worst and not self.sure & low:  # whichever way it goes, that is settled elsewhere
                        walks = {(logged, settled, max(doubt, worst)) for logged, settled, doubt in walks}
                        here = {(logged, settled, max(doubt, worst)) for logged, settled, doubt in here}
                    target = step.stop.index if step.stop is not None else 0
                    gone = {(logged, number, doubt) for logged, _, doubt in here} if step.settles else here
                    waiting[target] = waiting.get(target, set()) | gone
                case Kind.PASS:
                    walks = here
                    continue
            if self.sure & low and step.kind is not Kind.OPEN:
                walks = set()
        spend(looked)
        return frozenset(ends)

    def gets_to(self, step: int, alive: int, full: int) -> bool | None:
        """Whether a packet held by the pieces `alive` may get as far as `step`; all rows are of earlier steps."""
        stops = self.stops(step, alive, full)
        return None if stops is None else None in stops

    def stops(self, step: int, alive: int, full: int) -> frozenset[int | None] | None:
        """The steps that surely end a walk before it gets to `step`, None among them if it may get there.

        None alone is the answer if a piece does not hold all the packets.
        """
        found: set[int | None] = set()
        under_way = True
        waiting: set[int] = set()
        bits = alive
        while bits:
            low = bits & -bits
            row = self.rows[low.bit_length() - 1]
            if waiting and min(waiting) <= row.step:
                waiting = {target for target in waiting if target > row.step}
                under_way = True
            if not under_way:
                if not waiting:
                    break
                bits &= ~self.before(min(waiting))
                continue
            bits ^= low
            if not full & low:
                return None
            spend(1)
            at = self.program.steps[row.step]
            if at.kind in (Kind.SKIP, Kind.FORK):
                target = at.stop.index if at.stop is not None else 0
                if target <= step:
                    waiting.add(target)
                elif row.sure:
                    found.add(row.step)
                under_way = not row.sure
            elif row.sure and at.kind in (Kind.ACCEPT, Kind.REFUSE):
                found.add(row.step)
                under_way = False
        if under_way or waiting:
            found.add(None)
        return frozenset(found)

    def before(self, step: int) -> int:
        """The mask of all rows that belong to steps before `step`."""
        found = self._first_row.get(step)
        if found is None:
            found = next((i for i, row in enumerate(self.rows) if row.step >= step), len(self.rows))
            self._first_row[step] = found
        return (1 << found) - 1


class Cut(Walks):
    """Rows of a program cut along one region, with the walk that decides what lies in a node."""

    def __init__(
        self,
        program: Program,
        region: Box,
        rows: Iterable[StepRow],
        first: tuple[Axis, ...] = (),
        last: tuple[Axis, ...] = (),
        budget: int | None = None,
    ) -> None:
        """rows: in order of steps; those that miss the region are left out

        first, last, budget: as for `Slices`
        """
        every = list(rows)
        super().__init__(program, (row for row in every if row.box is EVERYTHING or meets(row.box, region)))
        spend(1 + (len(every) >> 2))
        boxes = [row.box for row in self.rows]
        nodes = BUDGET if budget is None else budget
        self.slices = Slices(region, boxes, program.space.tops, first=first, last=last, budget=nodes)

    def leaf(self, wanted: Callable[[Ends], bool]) -> Callable[[int, int], bool | None]:
        def answer(alive: int, full: int) -> bool | None:
            ends = self.ends(alive, full)
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
        return self._decided(alive, alive)


_ODD_SOURCES = {4: IntervalSet([(0, 0xFFFFFF)]), 6: IntervalSet([(0, 1)])}
_ECHO = {4: 8, 6: 128}
"""The type of an echo request (RFC 792, RFC 4443)."""
_USUAL = {
    family: tuple(
        box(
            [
                (Axis.SRC, odd.complement((1 << (32 if family == 4 else 128)) - 1)),
                *((a, IntervalSet([v])) for a, v in asked),
            ]
        )
        for asked in (
            ((Axis.PROTO, (TCP, TCP)), (Axis.A, (1024, 65535)), (Axis.FLAGS, (SYN, SYN))),
            ((Axis.PROTO, (UDP, UDP)), (Axis.A, (1024, 65535)), (Axis.FLAGS, (0, 0))),
            (
                (Axis.PROTO, (ICMP_OF[family],) * 2),
                (Axis.A, (_ECHO[family],) * 2),
                (Axis.B, (0, 0)),
                (Axis.FLAGS, (0, 0)),
            ),
        )
    )
    for family, odd in _ODD_SOURCES.items()
}
"""Packets that convince: from an address a host may have and a port programs use, opening a connection; else an echo request."""


def _looks_real(packet: Packet) -> bool:
    odd = packet.source in _ODD_SOURCES[packet.family] or packet.sport == 0
    asks = packet.icmp_type == _ECHO[packet.family]
    return not odd and ((packet.protocol == TCP and packet.flags == SYN) or packet.protocol == UDP or asks)


def crossings(program: Program) -> Iterator[Box]:
    """From the outside in, from the inside out, between any two named interfaces, and between these and those no rule names."""
    symbols = program.space.symbols
    outer = IntervalSet.of(
        *(symbols.number(n) for z in program.device.zones if z.side is Side.OUTSIDE for n in z.interfaces)
    )
    inner = IntervalSet.of(*(n for n, name in enumerate(symbols.names) if n and name != LOOPBACK)) - outer
    if outer and inner:
        yield box([(Axis.IN, outer), (Axis.OUT, inner)])
        yield box([(Axis.IN, inner), (Axis.OUT, outer)])
    for number in inner:
        if rest := inner - IntervalSet.of(number):
            yield box([(Axis.IN, IntervalSet.of(number)), (Axis.OUT, rest)])
    if named := inner | outer:
        others = IntervalSet.of(symbols.top)
        yield box([(Axis.IN, others), (Axis.OUT, named)])
        yield box([(Axis.IN, named), (Axis.OUT, others)])

"""What `probe` says as JSON by `schemas/probe.schema.json`, and the lines on the packets of a table."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from itertools import chain, islice
from typing import TypeVar

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from aiguille.analysis import Answer, Decision, Probed, TableProber, Visit
from aiguille.analysis.sharing import share
from aiguille.model import Action, Device, Span
from aiguille.reports.data import Data, place_of
from aiguille.reports.text import to_json, visible
from aiguille.space.rows import Fault, Ids
from aiguille.space.table import Part

T = TypeVar("T")

Styled = Callable[[str], str]
"""What is done to the less important part of a line."""


def probe_data(device: Device, ids: Sequence[str], answers: Sequence[Answer]) -> Iterator[str]:
    """The JSON text on some packets, piece by piece."""
    yield '{"packets": [\n'
    yield _Tails(device).lot(Ids.of(ids), answers, np.arange(len(ids), dtype=np.int32)).text()
    yield '\n], "faults": []}\n'


class TableWriter:
    """What becomes of the packets of a table, written part by part; `faults` fills with what is wrong with its rows.

    jobs: processes that share the parts
    """

    def __init__(self, device: Device, table: TableProber, jobs: int) -> None:
        self.faults: list[Fault] = []
        self._table = table
        self._jobs = jobs
        self._tails = _Tails(device)

    def json(self) -> Iterator[str]:
        """The JSON text, piece by piece."""
        lots = self._share(self._lot)
        first = list(islice(lots, 1))  # a file that is no table shows before anything is written
        yield '{"packets": ['
        start = "\n"
        for lot in chain(first, lots):
            if lot.ids:
                yield start
                yield lot.text()
                start = ",\n"
        failed = [{"line": f.line, "id": f.id, "why": f.why} for f in self.faults]
        yield f'\n], "faults": {to_json(failed)}}}\n'

    def _lot(self, found: Probed) -> _Lot:
        return self._tails.lot(found.ids, found.answers, found.which)

    def lines(self, style: Styled) -> Iterator[str]:
        """A line a packet, many at a time: id, verdict, what decides."""
        lots = list(self._share(lambda found: _lines(found, style)))
        width = max((one.width for one in lots), default=0)
        for one in lots:
            yield one.text if one.width == width else one.widened(width)

    def _share(self, make: Callable[[Probed], T]) -> Iterator[T]:
        """What is made of each part, in order."""

        def work(part: Part) -> tuple[T, list[Fault]]:
            found = self._table.probe(part)
            return make(found), found.faults

        # What the first part needs is made before there are other processes, which then have it too.
        parts = self._table.file.parts
        for made, faults in chain(map(work, parts[:1]), share(work, parts[1:], self._jobs)):
            self.faults += faults
            yield made


class _Lines(Struct, frozen=True):
    """Lines that begin with an id, `width` columns wide."""

    text: str
    width: int

    def widened(self, width: int) -> str:
        """The same with wider ids."""
        lines = self.text.removesuffix("\n").split("\n") if self.text else []
        return "".join([f"{line[: self.width]:<{width}}{line[self.width :]}\n" for line in lines])


def _lines(found: Probed, style: Styled) -> _Lines:
    ends = [f"{_line_end(one, style)}\n" for one in found.answers]
    which = found.which.tolist()
    plain = found.ids.as_bytes()
    if plain is None:
        names = [visible(name) for name in found.ids]
        width = max(map(len, names), default=0)
        return _Lines("".join([f"{name:<{width}}{ends[at]}" for name, at in zip(names, which, strict=True)]), width)
    width = int(np.char.str_len(plain).max(initial=0))
    padded = plain.astype(f"S{max(1, width)}")
    signs = padded.view(np.uint8)
    signs[signs == 0] = ord(" ")
    pieces = [b""] * (2 * len(which))
    pieces[::2] = padded.tolist() if width else [b""] * len(which)
    pieces[1::2] = map([end.encode() for end in ends].__getitem__, which)
    return _Lines(b"".join(pieces).decode(), width)


def _line_end(one: Answer | Decision, style: Styled) -> str:
    """What stands behind the id."""
    if isinstance(one, Answer):
        first = one.verdicts[0]
        visit, certain, verdict = first.decided_by, one.certain, first.verdict
    else:
        visit, certain = _visit(one), True
        verdict = visit.action
    rule = "policy" if visit.rule is None else f"rule {visit.rule.number}"
    told = f"  {verdict.value:<7}{'  ' if certain else ' ?'}  {visible(visit.rulebase.name)} {visible(visit.chain.name)} {rule}"
    where = where_of(visit)
    return told if where is None else told + style(f"  {visible(str(where))}")


class _Lot(Struct, frozen=True):
    """The JSON of some packets, as small as it travels between processes.

    ids: as they stand in JSON, a line each; tails: what stands behind an id up to the next; which: (P,) the tail of each
    """

    ids: str
    tails: tuple[str, ...]
    which: NDArray[np.int32]

    def text(self) -> str:
        pieces = [""] * (2 * len(self.which))
        pieces[::2], pieces[1::2] = self.ids.split("\n")[:-1], map(self.tails.__getitem__, self.which.tolist())
        pieces[-1] = pieces[-1].removesuffix(_NEXT)
        return "".join(['{"id": "', *pieces])


_NEXT = ',\n{"id": "'


class _Tails:
    """What stands behind the ids of packets. Those decided by the same rule share all of it."""

    def __init__(self, device: Device) -> None:
        self._device = device
        self._decided: dict[Decision, str] = {}

    def lot(self, ids: Ids, answers: Sequence[Answer | Decision], which: NDArray[np.int32]) -> _Lot:
        plain = ids.as_bytes(unlike=b'"\\')  # JSON (RFC 8259, 7) leaves the others as they are
        told = [to_json(name)[1:-1].encode() for name in ids] if plain is None else plain.tolist()
        names = b"\n".join([*told, b""]).decode() if told else ""
        return _Lot(names, tuple(map(self._tail, answers)), which)

    def _tail(self, one: Answer | Decision) -> str:
        if isinstance(one, Answer):
            return f'", {to_json(answer_data(self._device, one))[1:]}{_NEXT}'
        if one not in self._decided:
            self._decided[one] = f'", {to_json(_decision_data(self._device, one))[1:]}{_NEXT}'
        return self._decided[one]


def answer_data(device: Device, answer: Answer) -> Data:
    """One packet's answer; ``possible`` lists every way where there are several."""
    first = answer.verdicts[0]
    out: Data = {
        "verdict": first.verdict.value,
        "certain": answer.certain,
        "decided_by": _place_data(device, first.decided_by),
        "walk": [_visit_data(device, visit) for visit in first.ways[0].visits],
    }
    ways = [(verdict, way) for verdict in answer.verdicts for way in verdict.ways]
    if len(ways) > 1:
        out["possible"] = [
            {
                "verdict": way.verdict.value,
                "decided_by": _place_data(device, way.decided_by),
                "packet": {**verdict.packet.to_dict(), "sentence": verdict.packet.sentence()},
            }
            for verdict, way in ways
        ]
    return out


def _visit(decision: Decision) -> Visit:
    """The visit that decides."""
    program, number = decision
    step = program.steps[number]
    verdict = step.chain.policy if step.rule is None else step.rule.action
    return Visit(step.rulebase, step.chain, step.rule, verdict or Action.ACCEPT)


def _decision_data(device: Device, decision: Decision) -> Data:
    visit = _visit(decision)
    return {
        "verdict": visit.action.value,
        "certain": True,
        "decided_by": _place_data(device, visit),
        "walk": [_visit_data(device, visit)],
    }


def _place_data(device: Device, visit: Visit) -> Data:
    where = where_of(visit)
    return {
        "device": device.name,
        "rulebase": visit.rulebase.name,
        "chain": visit.chain.name,
        "rule": "policy" if visit.rule is None else visit.rule.number,
        **place_of(where),
        **({"column": where.column} if where and where.column else {}),
        "text": "\n".join(device.text(where)) if where else None,
    }


def _visit_data(device: Device, visit: Visit) -> Data:
    where = where_of(visit)
    return {
        "rulebase": visit.rulebase.name,
        "chain": visit.chain.name,
        "rule": "policy" if visit.rule is None else visit.rule.number,
        **place_of(where),
        "action": visit.action.value,
        "matched": "yes" if visit.matched else "may",
        "taken": visit.taken,
    }


def where_of(visit: Visit) -> Span | None:
    """The lines of the rule or policy a packet meets."""
    return visit.chain.policy_where if visit.rule is None else visit.rule.where

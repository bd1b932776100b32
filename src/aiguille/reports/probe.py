"""What `probe` says as JSON by `schemas/probe.schema.json`, and the lines on the packets of a table."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from itertools import chain, islice

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from aiguille.analysis.sharing import share
from aiguille.analysis.walk.answers import Answer
from aiguille.analysis.walk.bulk import Decision, TableProber
from aiguille.analysis.walk.probe import Visit
from aiguille.model import Action, Device
from aiguille.packets.rows import Fault, Ids
from aiguille.packets.table import Part
from aiguille.reports.data import Data
from aiguille.reports.text import to_json, visible
from aiguille.reports.visits import answer_data, place_data, visit_data, where_of

Styled = Callable[[str], str]
"""What is done to the less important part of a line."""


def probe_data(device: Device, ids: Sequence[str], answers: Sequence[Answer]) -> Iterator[bytes]:
    """The JSON text on some packets, piece by piece, in UTF-8."""
    yield b'{"packets": [\n'
    tail = _Tails(device).of
    yield _Lot(Ids.of(ids), [tail(one) for one in answers], np.arange(len(ids), dtype=np.int32)).json()
    yield b'\n], "faults": []}\n'


class TableWriter:
    """What becomes of the packets of a table, written part by part; `faults` fills with what is wrong with its rows.

    jobs: processes that share the parts
    """

    def __init__(self, device: Device, table: TableProber, jobs: int) -> None:
        self.faults: list[Fault] = []
        self._table = table
        self._jobs = jobs
        self._device = device

    def json(self) -> Iterator[bytes]:
        """The JSON text, piece by piece, in UTF-8."""
        lots = self._share(_Tails(self._device).of)
        first = list(islice(lots, 1))  # a file that is no table shows before anything is written
        yield b'{"packets": ['
        start = b"\n"
        for lot in chain(first, lots):
            if len(lot.ids):
                yield start
                yield lot.json()
                start = b",\n"
        failed = [{"line": f.line, "id": f.id, "why": f.why} for f in self.faults]
        yield f'\n], "faults": {to_json(failed)}}}\n'.encode()

    def lines(self, style: Styled) -> Iterator[bytes]:
        """A line a packet, many at a time, in UTF-8: id, verdict, what decides."""
        # What comes last is mostly as wide as any, so that lines can be made while others are still being decided.
        expected, widest = len(visible(self._table.file.last_id())), 0
        made: list[tuple[_Lot, bytes]] = []
        for lot in self._share(lambda one: f"{_line_end(one, style)}\n".encode()):
            own = lot.width()
            widest = max(widest, own)
            made.append((lot, lot.lines(expected) if widest <= expected else b""))
        for lot, lines in made:
            yield lines if widest == expected else lot.lines(widest)

    def _share(self, tail: Callable[[Answer | Decision], bytes]) -> Iterator[_Lot]:
        """What is told of each part, in order. tail: what is told of an answer"""

        def work(part: Part) -> tuple[_Lot, list[Fault]]:
            found = self._table.probe(part)
            return _Lot(found.ids, [tail(one) for one in found.answers], found.which), found.faults

        # What the first part needs is made before there are other processes, which then have it too.
        parts = self._table.file.parts
        for lot, faults in chain(map(work, parts[:1]), share(work, parts[1:], self._jobs)):
            self.faults += faults
            yield lot


class _Lot(Struct, frozen=True):
    """What is told of some packets, as small as it travels between processes.

    tails: what stands behind an id; which: (P,) the tail of each
    """

    ids: Ids
    tails: list[bytes]
    which: NDArray[np.int32]

    def json(self) -> bytes:
        """Objects with commas between them."""
        plain = self.ids.as_bytes(unlike=b'"\\')  # JSON (RFC 8259, 7) leaves the others as they are
        described = [to_json(name)[1:-1].encode() for name in self.ids] if plain is None else plain.tolist()
        pieces = [b'{"id": "'] * (2 * len(described))
        pieces[::2], pieces[1::2] = described, map(self.tails.__getitem__, self.which.tolist())
        pieces[-1] = pieces[-1].removesuffix(_NEXT)
        return b"".join([b'{"id": "', *pieces])

    def width(self) -> int:
        """Letters of the longest id, as it is shown."""
        plain = self.ids.as_bytes()
        if plain is None:
            return max((len(visible(name)) for name in self.ids), default=0)
        held = np.flatnonzero(_signs(plain).any(axis=0))
        return int(held[-1]) + 1 if held.size else 0

    def lines(self, width: int) -> bytes:
        """Lines whose tails begin behind so many letters."""
        plain = self.ids.as_bytes()
        if plain is None:
            shown = zip(self.ids, self.which.tolist(), strict=True)
            return b"".join([f"{visible(name):<{width}}".encode() + self.tails[at] for name, at in shown])
        if not len(plain):
            return b""
        # All as long as the longest, what is too much as zeros, which are then left out at once.
        lines = _signs(np.array([b" " * width + tail for tail in self.tails])).take(self.which, axis=0)
        signs = _signs(plain)[:, :width]
        np.maximum(signs, ord(" "), out=lines[:, : signs.shape[1]])  # a printable sign is no less
        return lines.tobytes().translate(None, b"\0")


def _signs(texts: NDArray[np.bytes_]) -> NDArray[np.uint8]:
    """(R, S) the bytes of each text."""
    return texts.view(np.uint8).reshape(len(texts), texts.itemsize)


def _line_end(one: Answer | Decision, style: Styled) -> str:
    """What stands behind the id."""
    if isinstance(one, Answer):
        first = one.verdicts[0]
        visit, certain, verdict = first.decided_by, one.certain, first.verdict
    else:
        visit, certain = _visit(one), True
        verdict = visit.action
    rule = "policy" if visit.rule is None else f"rule {visit.rule.number}"
    described = f"  {verdict.value:<7}{'  ' if certain else ' ?'}  {visible(visit.rulebase.name)} {visible(visit.chain.name)} {rule}"
    where = where_of(visit)
    return described if where is None else described + style(f"  {visible(str(where))}")


_NEXT = b',\n{"id": "'


class _Tails:
    """What stands behind the ids of packets as JSON. Those decided by the same rule share all of it."""

    def __init__(self, device: Device) -> None:
        self._device = device
        self._decided: dict[Decision, bytes] = {}

    def of(self, one: Answer | Decision) -> bytes:
        """The rest of an answer's object, and the beginning of the next one."""
        if isinstance(one, Answer):
            return f'", {to_json(answer_data(self._device, one))[1:]}'.encode() + _NEXT
        if one not in self._decided:
            self._decided[one] = f'", {to_json(_decision_data(self._device, one))[1:]}'.encode() + _NEXT
        return self._decided[one]


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
        "decided_by": place_data(device, visit),
        "walk": [visit_data(device, visit)],
    }

"""What `probe` says: the walk of a packet for the terminal, and JSON by `schemas/probe.schema.json`."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import chain, islice

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray
from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from aiguille.analysis import Answer, Decision, TableProber, Verdict, Visit, Way
from aiguille.analysis.sharing import share
from aiguille.model import Action, Device, Log, SetMark, Span, Translate
from aiguille.model.guarding import guarded
from aiguille.model.spelling import spell_address
from aiguille.reports.data import Data, place_of
from aiguille.reports.terminal import LINE_STYLE, PACKET_STYLE
from aiguille.reports.text import counted, to_json, visible
from aiguille.space.rows import Fault
from aiguille.space.table import Part

_VERDICT_STYLES = {"accept": "black on dark_sea_green2", "drop": "white on red3", "reject": "black on orange1"}


def show_answer(console: Console, device: Device, answer: Answer, before: Answer | None = None) -> None:
    """The verdict on top, then the walk. With `before`, both verdicts are compared first."""
    if before is not None:
        was, now = _verdicts(before), _verdicts(answer)
        changed = "nothing changes" if was == now else "the verdict changes"
        console.print(
            Text.assemble(("before ", "dim"), was, ("  without the rules named ", "dim"), now, f"  ({changed})")
        )
        console.print()
    for number, verdict in enumerate(answer.verdicts):
        if number:
            console.print()
        if len(answer.verdicts) > 1:
            console.print(Text(f"possible verdict {number + 1} of {len(answer.verdicts)}, by example", "bold"))
        _verdict(console, device, verdict)


def _verdicts(answer: Answer) -> Text:
    names = dict.fromkeys(way.verdict.value for verdict in answer.verdicts for way in verdict.ways)
    return Text(" or ").join([_badge(name) for name in names])


def _badge(verdict: str) -> Text:
    return Text(f" {verdict.upper()} ", _VERDICT_STYLES.get(verdict, ""))


def _verdict(console: Console, device: Device, verdict: Verdict) -> None:
    console.print(Text.assemble((visible(verdict.packet.sentence()), PACKET_STYLE)))
    names = dict.fromkeys(way.verdict.value for way in verdict.ways)
    head = Text(" or ").join([_badge(name) for name in names])
    if verdict.certain:
        head.append("  certain")
    else:
        head.append("  not certain: a condition stands in the way that a packet does not settle")
    console.print(head)
    for number, way in enumerate(verdict.ways):
        if len(verdict.ways) > 1:
            console.print()
            console.print(Text.assemble(f"way {number + 1}: ", _badge(way.verdict.value)))
        console.print(_decided(device, way.decided_by))
        _walk(console, device, way)


def _decided(device: Device, visit: Visit) -> Text:
    where = _where(visit)
    name = "policy" if visit.rule is None else f"rule {visit.rule.number}"
    out = Text.assemble(("decided by ", "dim"), f"{visible(visit.rulebase.name)} {visible(visit.chain.name)} {name}")
    if where is not None:
        out.append("  ")
        out.append(visible(str(where)), "underline")
    else:
        out.append(", built into the make")
    return out


def _walk(console: Console, device: Device, way: Way) -> None:
    place: tuple[int, int] | None = None
    for visit in way.visits:
        here = (id(visit.rulebase), id(visit.chain))
        indent = 2 + 2 * visit.depth
        if here != place:
            console.print(Padding(_chain_line(visit), (0, 0, 0, indent)))
            place = here
        console.print(Padding(_visit_line(device, visit), (0, 0, 0, indent + 2)))


def _chain_line(visit: Visit) -> Text:
    return Text(f"{visible(visit.rulebase.name)} {visible(visit.chain.name)}", "bold")


def _visit_line(device: Device, visit: Visit) -> Text:
    out = Text()
    if visit.tried:
        verb = "does" if visit.tried == 1 else "do"
        out.append(f"{counted(visit.tried, 'rule')} before {verb} not match\n", "dim")
    if visit.rule is None:
        hits = f", {visit.chain.hits.packets} packets so far" if visit.chain.hits else ""
        return out.append(f"end of the chain: policy {visit.action.value}{hits}")
    rule = visit.rule
    doubt = (
        ""
        if visit.matched
        else " may match, here taken as if it did"
        if visit.taken
        else " may match, here taken as if not"
    )
    hits = f", {rule.hits.packets} packets so far" if rule.hits else ""
    out.append(f"rule {rule.number}: {_does(visit)}{doubt}{hits}")
    for qualifier in rule.qualifiers if not visit.matched else ():
        out.append(f"\nopen: {qualifier.name} ({visible(guarded(qualifier.text))})", "dim")
    for line in device.text(rule.where)[:1]:
        out.append("\n")
        out.append(f"{visible(str(rule.where))} ", "dim")
        out.append(visible(line.strip()), LINE_STYLE)
    return out


def _does(visit: Visit) -> str:
    rule = visit.rule
    if rule is None:
        return visit.action.value
    words = [f"{visit.action.value} {visible(rule.target)}" if rule.target else visit.action.value]
    for effect in rule.effects:
        match effect:
            case Translate(kind, addresses, ports):
                to = spell_address(addresses.family, addresses.first) if addresses else ""
                port = f" port {ports.first}" if ports else ""
                words.append(f"translate {kind.value} {to}{port}".rstrip())
            case SetMark(value, _):
                words.append(f"mark {value:#x}")
            case Log():
                words.append("record")
    return ", ".join(words)


def probe_data(device: Device, ids: Sequence[str], answers: Sequence[Answer]) -> Iterator[str]:
    """The JSON text on some packets, piece by piece."""
    yield '{"packets": [\n'
    yield _Tails(device).lot(ids, answers).text()
    yield '\n], "faults": []}\n'


class TableWriter:
    """What becomes of the packets of a table, written part by part; `faults` fills with what is wrong with its rows."""

    def __init__(self, device: Device, table: TableProber) -> None:
        self.faults: list[Fault] = []
        self._table = table
        self._tails = _Tails(device)

    def json(self, jobs: int) -> Iterator[str]:
        """The JSON text, piece by piece.

        jobs: processes that share the parts
        """
        lots = self._lots(jobs)
        first = list(islice(lots, 1))  # a file that is no table shows before anything is written
        yield '{"packets": ['
        start = "\n"
        for lot, faults in chain(first, lots):
            if lot.ids:
                yield start
                yield lot.text()
                start = ",\n"
            self.faults += faults
        failed = [{"line": f.line, "id": f.id, "why": f.why} for f in self.faults]
        yield f'\n], "faults": {to_json(failed)}}}\n'

    def _lots(self, jobs: int) -> Iterator[tuple[_Lot, list[Fault]]]:
        # What the first part needs is made before there are other processes, which then have it too.
        parts = self._table.file.parts
        yield from map(self._lot, parts[:1])
        yield from share(self._lot, parts[1:], jobs)

    def _lot(self, part: Part) -> tuple[_Lot, list[Fault]]:
        found = self._table.probe(part)
        return self._tails.lot(found.ids, found.answers), found.faults

    def answers(self) -> Iterator[tuple[str, Answer | Decision]]:
        """Ids and answers, in order."""
        for part in self._table.file.parts:
            found = self._table.probe(part)
            self.faults += found.faults
            yield from zip(found.ids, found.answers, strict=True)


class _Lot(Struct, frozen=True):
    """The JSON of some packets, as small as it travels between processes.

    ids: as they stand in JSON, a line each; tails: what stands behind an id up to the next; which: (P,) the tail of each
    """

    ids: str
    tails: tuple[str, ...]
    which: NDArray[np.int32]

    def text(self) -> str:
        pieces = [""] * (2 * len(self.which))
        pieces[::2], pieces[1::2] = self.ids.splitlines(), map(self.tails.__getitem__, self.which.tolist())
        pieces[-1] = pieces[-1].removesuffix(_NEXT)
        return "".join(['{"id": "', *pieces])


_NEXT = ',\n{"id": "'


class _Tails:
    """What stands behind the ids of packets. Those decided by the same rule share all of it."""

    def __init__(self, device: Device) -> None:
        self._device = device
        self._decided: dict[Decision, str] = {}

    def lot(self, ids: Sequence[str], answers: Sequence[Answer | Decision]) -> _Lot:
        spelt = "".join(ids)
        # JSON (RFC 8259, 7) leaves these as they are.
        plain = spelt.isascii() and spelt.isprintable() and '"' not in spelt and "\\" not in spelt
        names = "".join([f"{name}\n" for name in (ids if plain else [to_json(name)[1:-1] for name in ids])])
        # Packets decided alike have one and the same answer.
        numbers = list(map(id, answers))
        distinct = dict(zip(numbers, answers, strict=True))
        place = {number: at for at, number in enumerate(distinct)}
        which = np.fromiter(map(place.__getitem__, numbers), np.int32, len(numbers))
        return _Lot(names, tuple(map(self._tail, distinct.values())), which)

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


def _decision_data(device: Device, decision: Decision) -> Data:
    program, number = decision
    step = program.steps[number]
    verdict = step.chain.policy if step.rule is None else step.rule.action
    visit = Visit(step.rulebase, step.chain, step.rule, verdict or Action.ACCEPT)
    return {
        "verdict": visit.action.value,
        "certain": True,
        "decided_by": _place_data(device, visit),
        "walk": [_visit_data(device, visit)],
    }


def _place_data(device: Device, visit: Visit) -> Data:
    where = _where(visit)
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
    where = _where(visit)
    return {
        "rulebase": visit.rulebase.name,
        "chain": visit.chain.name,
        "rule": "policy" if visit.rule is None else visit.rule.number,
        **place_of(where),
        "action": visit.action.value,
        "matched": "yes" if visit.matched else "may",
        "taken": visit.taken,
    }


def _where(visit: Visit) -> Span | None:
    return visit.chain.policy_where if visit.rule is None else visit.rule.where


def show_table(console: Console, table: TableWriter) -> None:
    """A line a packet: id, verdict, what decides."""
    answers = list(table.answers())
    width = max((len(visible(name)) for name, _ in answers), default=2)
    for name, one in answers:
        line = Text(f"{visible(name):<{width}}  ")
        if isinstance(one, Answer):
            first = one.verdicts[0]
            visit, certain = first.decided_by, one.certain
        else:
            step = one[0].steps[one[1]]
            verdict = step.chain.policy if step.rule is None else step.rule.action
            visit, certain = Visit(step.rulebase, step.chain, step.rule, verdict or Action.ACCEPT), True
        rule = "policy" if visit.rule is None else f"rule {visit.rule.number}"
        verdict_text = (first.verdict if isinstance(one, Answer) else visit.action).value
        line.append(f"{verdict_text:<7}")
        line.append("  " if certain else " ?")
        line.append(f"  {visible(visit.rulebase.name)} {visible(visit.chain.name)} {rule}")
        where = _where(visit)
        if where is not None:
            line.append(f"  {visible(str(where))}", "dim")
        console.print(line, soft_wrap=True)

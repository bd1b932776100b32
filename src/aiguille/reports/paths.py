"""What `probe` says of packets followed over several devices: for the terminal, and JSON by `schemas/paths.schema.json`."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from aiguille.analysis.paths import ROUTE, Hop, Journey, Path, is_certain
from aiguille.model import Action
from aiguille.reports.data import Data
from aiguille.reports.styles import LINE_STYLE, PACKET_STYLE
from aiguille.reports.text import to_json, visible
from aiguille.reports.visits import place_data

_STYLES = {Action.ACCEPT: "black on dark_sea_green2", Action.DROP: "white on red3", Action.REJECT: "white on red3"}

_DIRECT = "both ends are in one network: no device is on the way"


def path_data(path: Path) -> Data:
    """One packet, end to end, and its answer."""
    first = path.journeys[0]
    out: Data = {
        **_journeys_data(path.journeys),
        "path": [
            {
                "device": hop.device.name,
                "in": hop.enters,
                "out": hop.leaves,
                "verdict": hop.verdict.value,
                "why": hop.why,
            }
            for hop in first.hops
        ],
        "assumed": list(dict.fromkeys(said for one in path.journeys for said in one.assumed)),
        "reply": None,
    }
    if path.answers:
        out["reply"] = {
            **_journeys_data(path.answers),
            "path": [
                {
                    "device": hop.device.name,
                    "in": hop.enters,
                    "out": hop.leaves,
                    "verdict": hop.verdict.value,
                    "why": hop.why,
                }
                for hop in path.answers[0].hops
            ],
            "assumed": list(dict.fromkeys(said for one in path.answers for said in one.assumed)),
        }
    return out


def _journeys_data(journeys: Sequence[Journey]) -> Data:
    first = journeys[0]
    return {
        "verdict": first.verdict.value,
        "certain": is_certain(journeys),
        "decided_by": _decided(first.hops[-1]) if first.hops else None,
    }


def _decided(hop: Hop) -> Data:
    if hop.by is not None:
        return place_data(hop.device, hop.by)
    chain = ROUTE if hop.why else None
    return {
        "device": hop.device.name,
        "rulebase": None,
        "chain": chain,
        "rule": None,
        "file": None,
        "line": None,
        "text": [],
    }


def paths_data(found: Iterable[tuple[str, Path]], faults: Sequence[Data]) -> Iterator[bytes]:
    """The JSON text, piece by piece, in UTF-8. faults: filled while the packets are followed"""
    yield b'{"packets": ['
    between = "\n"
    for name, path in found:
        yield f"{between}{to_json({'id': name, **path_data(path)})}".encode()
        between = ",\n"
    yield f'\n], "faults": {to_json(list(faults))}}}\n'.encode()


def path_lines(found: Iterable[tuple[str, Path]]) -> Iterator[bytes]:
    """A line a packet: what it is called, its verdict, where that is given, and what becomes of its answer."""
    for name, path in found:
        first = path.journeys[0]
        doubt = "  " if path.certain else " ?"
        by = _said(first.hops[-1]) if first.hops else _DIRECT
        answer = (
            f"; the answer: {path.answers[0].verdict.value}{'' if is_certain(path.answers) else ' ?'}"
            if path.answers
            else ""
        )
        yield f"{visible(name)}  {first.verdict.value:<7}{doubt}  {by}{answer}\n".encode()


def _said(hop: Hop) -> str:
    if hop.by is None:
        return visible(f"{hop.device.name}: {hop.why or 'no chain has a say'}")
    rule = "policy" if hop.by.rule is None else f"rule {hop.by.rule.number}"
    where = hop.by.rule.where if hop.by.rule is not None else hop.by.chain.policy_where
    return visible(
        f"{hop.device.name}: {hop.by.rulebase.name} {hop.by.chain.name} {rule}{f' ({where})' if where else ''}"
    )


def show_path(console: Console, path: Path) -> None:
    """Every hop of a packet, then those of its answer; other ways it may go by their end."""
    console.print(Text(path.packet.sentence(), PACKET_STYLE))
    _journey(console, path.journeys, "arrives")
    if path.answers:
        console.print()
        console.print(Text("its answer", "bold"))
        _journey(console, path.answers, "comes back")


def _journey(console: Console, journeys: Sequence[Journey], arrives: str) -> None:
    first = journeys[0]
    word = arrives if first.verdict is Action.ACCEPT else "does not arrive: " + first.verdict.value
    certain = is_certain(journeys)
    console.print(Text.assemble((f" {word} ", _STYLES[first.verdict]), f"  {'certain' if certain else 'not certain'}"))
    if not first.hops:
        console.print(Text(f"  {_DIRECT}"))
    for number, hop in enumerate(first.hops, 1):
        way = f"{hop.enters or 'itself'} -> {hop.leaves or ('itself' if hop.verdict is Action.ACCEPT else 'nowhere')}"
        console.print(
            Text.assemble(f"  {number}. ", (visible(hop.device.name), "bold"), f"  {visible(way)}  {hop.verdict.value}")
        )
        console.print(Padding(Text(_said(hop), LINE_STYLE), (0, 0, 0, 5)))
        if (hop.came.source, hop.came.destination, hop.came.dport) != (
            hop.went.source,
            hop.went.destination,
            hop.went.dport,
        ):
            plain = hop.went.sentence().partition(" entering ")[0].partition(" leaving ")[0]
            console.print(Padding(Text(f"translated: {plain}", "dim"), (0, 0, 0, 5)))
    for said in dict.fromkeys(said for one in journeys for said in one.assumed):
        console.print(Text(f"  not certain since {said}", "italic"))
    others = {(one.verdict, _said(one.hops[-1])) for one in journeys[1:] if one.hops} - (
        {(first.verdict, _said(first.hops[-1]))} if first.hops else set()
    )
    for verdict, said in sorted(others):
        console.print(Text(f"  or {verdict.value} by {said}", "dim"))

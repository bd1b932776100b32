"""What `flows` says of several devices as one network: pairs of places, and rows with their way over every device."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from aiguille.analysis.endtoend import EndToEnd, Pair, Row
from aiguille.analysis.flows import Reach
from aiguille.analysis.reach import Place, Stop
from aiguille.baseline.catalogue import speak
from aiguille.model.spelling import spell_spans
from aiguille.reports.compare import step_data, traffic_data
from aiguille.reports.data import Data
from aiguille.reports.styles import LINE_STYLE
from aiguille.reports.text import counted, over, visible

_ROWS = 60
"""Rows shown; JSON has all."""


def end_to_end_data(found: EndToEnd | None) -> Data | None:
    """Places and pairs, or the rows asked for; part of `schemas/flows.schema.json`. None where there is one device only."""
    if found is None:
        return None
    asked = found.rows is not None
    return {
        "places": None if asked else [_place_data(one) for one in found.places],
        "pairs": None if asked else [_pair_data(one) for one in found.pairs],
        "not_told": list(found.faults),
        "notes": list(found.notes),
        "rows": [row_data(one) for one in found.rows] if found.rows is not None else None,
    }


def _place_data(one: Place) -> Data:
    return {
        "name": one.name,
        "also": list(one.names[1:]),
        "side": one.end.side.value if one.end.side is not None else None,
        "addresses": [spell_spans(family, values.spans) for family, values in one.addresses],
    }


def _pair_data(one: Pair) -> Data:
    return {
        "from": one.source.name,
        "to": one.destination.name,
        "family": one.family,
        "reach": one.reach.value,
        "perhaps": one.perhaps.value,
        "services": one.services,
        "perhaps_services": one.may,
        "refused_by": list(one.by),
        "assumed": list(one.assumed),
    }


def row_data(one: Row) -> Data:
    """A row with its way."""
    return {
        **traffic_data(one.traffic),
        "from": one.source.name,
        "to": one.destination.name if one.destination is not None else None,
        "arrives_at": spell_spans(one.traffic.family, one.arrives.spans) if one.arrives is not None else None,
        "refused": one.refused,
        "why": one.why,
        "certain": one.certain,
        "assumed": list(one.assumed),
        "path": [
            {
                "device": stop.device.name,
                "in": stop.enters,
                "out": stop.leaves,
                "decided_by": [step_data(step) for step in stop.deciders],
            }
            for stop in one.stops
        ],
    }


def show_end_to_end(console: Console, found: EndToEnd) -> None:
    """Who reaches whom over several devices, by source, or the rows asked for; what was assumed and what is not told below."""
    console.print(Text("end to end, over several devices", "bold"))
    if found.rows is not None:
        _show_rows(console, found.rows)
    elif found.pairs:
        _show_pairs(console, found)
    below = [*found.notes, *(f"not told {fault}" for fault in found.faults)]
    if not found.pairs and found.rows is None and not below:
        below = ["nothing shows how the devices are joined; `ip -j addr` and `ip -j route` of each would"]
    for said in below:
        console.print(Text(visible(f"  {said}"), "dim"))


def _show_pairs(console: Console, found: EndToEnd) -> None:
    assumed = {said: n for n, said in enumerate(dict.fromkeys(s for one in found.pairs for s in one.assumed), 1)}
    rows = Table(box=None, show_edge=False, padding=(0, 2, 0, 0), pad_edge=False, header_style="dim")
    for name in ("from", "to", "over"):
        rows.add_column(name, no_wrap=True)
    rows.add_column("new connections", overflow="fold", ratio=1)
    for source in found.places:
        mine = [one for one in found.pairs if one.source.name == source.name]
        name = place_words(source)
        nothing: dict[tuple[str, ...], dict[str, None]] = {}
        for families, one in alike_pairs(mine):
            if one.perhaps is Reach.NOTHING:
                nothing.setdefault(one.by, {})[place_words(one.destination)] = None
                continue
            rows.add_row(name, place_words(one.destination), over(families), _words(one, assumed))
            name = ""
        for by, places in nothing.items():
            why = f" (refused by {', '.join(by)})" if by else ""
            rows.add_row(name, Text("nothing to", "dim"), "", Text(visible(", ".join(places) + why), "dim"))
            name = ""
    console.print(Padding(rows, (0, 0, 0, 2)))
    for said, number in assumed.items():
        console.print(Text(visible(f"  {number}) assumed: {said}"), "dim"))


def place_words(place: Place) -> str:
    """A place as people read it: `valley-gw/guests`, `valley-gw itself`."""
    return visible(f"{place.device.name} itself" if place.end.is_device else place.name)


def alike_pairs(pairs: Sequence[Pair]) -> Iterator[tuple[list[int], Pair]]:
    """From one place, pairs of the same places, those of families that fare alike as one."""
    out: dict[tuple[str, Reach, Reach, str, str, tuple[str, ...]], list[Pair]] = {}
    for one in pairs:
        out.setdefault((one.destination.name, one.reach, one.perhaps, one.services, one.may, one.by), []).append(one)
    for some in out.values():
        yield [one.family for one in some], some[0]


def pair_words(one: Pair) -> str:
    """What a pair lets through, in short."""
    if one.reach is Reach.EVERYTHING:
        return "everything"
    sure = "any service, between some addresses" if one.services == "any service" else one.services
    may = "everything" if one.perhaps is Reach.EVERYTHING and one.may == "any service" else one.may
    return "; perhaps ".join(filter(None, (sure, may))) if sure else f"perhaps {may}"


def _words(one: Pair, assumed: dict[str, int]) -> Text:
    marks = ", ".join(str(assumed[said]) for said in one.assumed)
    said = Text(visible(pair_words(one)), "bold" if one.reach is Reach.EVERYTHING else "" if one.services else "italic")
    return said.append(f" ({marks})" if marks else "", "dim")


def _show_rows(console: Console, rows: Sequence[Row]) -> None:
    if not rows:
        console.print(Text("  nothing gets through, or nothing shows a way", "dim"))
    else:
        console.print(Padding(rows_table(rows[:_ROWS]), (0, 0, 0, 2)))
    if len(rows) > _ROWS:
        console.print(Text(f"  and {counted(len(rows) - _ROWS, 'more row')}; --json has all", "dim"))


def rows_table(rows: Sequence[Row]) -> Table:
    """Rows, each followed by its way."""
    table = Table.grid(padding=(0, 2, 0, 0))
    table.add_column(no_wrap=True)
    table.add_column(overflow="fold", ratio=1)
    for row in rows:
        head = "refused" if row.refused else "gets there" if row.certain else "perhaps"
        to = place_words(row.destination) if row.destination is not None else "?"
        arrives = (
            f", arriving at {spell_spans(row.traffic.family, row.arrives.spans, 6)}" if row.arrives is not None else ""
        )
        table.add_row(head, visible(f"{place_words(row.source)} to {to}: {row.traffic.words()}{arrives}"))
        for stop in row.stops:
            table.add_row("", Text(visible(_stop_words(stop, row)), LINE_STYLE))
        if row.assumed:
            table.add_row("", Text(visible(f"not certain since {'; '.join(row.assumed)}"), "dim"))
    return table


def _stop_words(stop: Stop, row: Row) -> str:
    place = f"{stop.enters or 'itself'} -> {stop.leaves or 'itself'}"
    last = stop is row.stops[-1]
    if last and row.refused:
        place = stop.enters or "itself"
    by = " or ".join(f"{speak(step.chain, step.rule)} ({step.where or 'by default'})" for step in stop.deciders[:3])
    by = by or (row.why if last and row.refused else "")
    return f"{stop.device.name}  {place}" + (f"  by {by}" if by and stop.deciders else f"  {by}" if by else "")

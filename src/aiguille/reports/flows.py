"""What `flows` says: who reaches whom, for the terminal and as a heat map; JSON by `schemas/flows.schema.json`."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from msgspec import Struct
from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from aiguille.analysis.flows import DEVICE, Flow, Matrix, MatrixCell, Reach
from aiguille.baseline.catalogue import speak
from aiguille.reports.compare import step_data, traffic_data
from aiguille.reports.data import Data
from aiguille.reports.styles import LINE_STYLE
from aiguille.reports.text import counted, over, visible

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from aiguille.analysis.endtoend import EndToEnd
    from aiguille.analysis.program import Step

_ROWS = 60
"""Rows of traffic shown of each device; JSON has all."""


class Described(Struct, frozen=True):
    """What is told of a device: its matrix, or the rows asked for with the defaults that decide the rest."""

    matrix: Matrix
    rows: tuple[Flow, ...] | None = None
    rest: tuple[Step, ...] = ()


def flows_data(described: Sequence[Described]) -> Data:
    """Matrices and rows; `schemas/flows.schema.json`."""
    return {
        "devices": [
            {
                "device": one.matrix.device,
                "ends": [
                    {"name": end.name, "side": end.side.value if end.side is not None else None}
                    for end in one.matrix.ends
                ],
                "cells": [
                    {
                        "from": cell.source,
                        "to": cell.destination,
                        "family": cell.family,
                        "reach": cell.reach.value,
                        "perhaps": cell.perhaps.value,
                        "services": cell.services,
                        "perhaps_services": cell.may,
                        "certain": cell.certain,
                    }
                    for cell in one.matrix.cells
                ],
                "no_rules": [{"direction": d.value, "family": family} for d, family in one.matrix.missing],
                "rows": None
                if one.rows is None
                else [
                    {
                        **traffic_data(row.traffic),
                        "certain": row.certain,
                        "decided_by": [step_data(step) for step in row.deciders],
                    }
                    for row in one.rows
                ],
                "rest": [step_data(step) for step in one.rest],
            }
            for one in described
        ]
    }


def show_flows(console: Console, described: Sequence[Described]) -> None:
    """Each device with its cells by source, or the rows asked for."""
    for number, one in enumerate(described):
        if number:
            console.print()
        console.print(Text(visible(one.matrix.device), "bold"))
        if one.rows is None:
            console.print(Padding(_cells(one.matrix), (0, 0, 0, 2)))
        else:
            for line in _rows(one):
                console.print(Padding(line, (0, 0, 0, 2)))
        for direction, family in one.matrix.missing:
            console.print(Text(f"  no rules for IPv{family} {direction.value}: nothing is said of it", "dim"))


def _cells(matrix: Matrix) -> Table:
    rows = Table(box=None, show_edge=False, padding=(0, 2, 0, 0), pad_edge=False, header_style="dim")
    for name in ("from", "to", "over"):
        rows.add_column(name, no_wrap=True)
    rows.add_column("new connections", overflow="fold", ratio=1)
    for end in matrix.ends:
        mine = [cell for cell in matrix.cells if cell.source == end.name]
        shown = False
        nothing: dict[str, None] = {}
        for place in matrix.ends:
            cells = [cell for cell in mine if cell.destination == place.name]
            for families, cell in _alike(cells):
                if cell.perhaps is Reach.NOTHING:
                    nothing[_named(place.name) + ("" if len(families) == len(cells) else f" ({over(families)})")] = None
                    continue
                name = "" if shown else _named(end.name)
                rows.add_row(name, _named(place.name), over(families), _words(cell))
                shown = True
        if nothing:
            rows.add_row(
                "" if shown else _named(end.name), Text("nothing to", "dim"), "", Text(", ".join(nothing), "dim")
            )
    return rows


def _named(name: str) -> str:
    return "the device itself" if name == DEVICE else visible(name)


def _alike(cells: Sequence[MatrixCell]) -> Iterator[tuple[list[int], MatrixCell]]:
    """Cells of one pair, those of families that fare alike as one."""
    out: dict[tuple[Reach, Reach, str, str], list[MatrixCell]] = {}
    for cell in cells:
        out.setdefault((cell.reach, cell.perhaps, cell.services, cell.may), []).append(cell)
    for alike in out.values():
        yield [cell.family for cell in alike], alike[0]


def cell_words(cell: MatrixCell) -> str:
    """What a cell lets through, in short."""
    if cell.reach is Reach.EVERYTHING:
        return "everything"
    if cell.services == "any service":
        return "any service, between some addresses"
    return cell.services or ("" if cell.may else "nothing")


def _words(cell: MatrixCell) -> Text:
    said = Text(cell_words(cell), "bold" if cell.reach is Reach.EVERYTHING else "")
    if cell.may:
        said.append(f"{'; ' if said else ''}perhaps {cell.may}", "italic")
    return said


def _rows(described: Described) -> Iterator[Table | Text]:
    if not described.rows:
        yield Text("nothing gets through")
    rows = Table.grid(padding=(0, 2, 0, 0))
    rows.add_column(no_wrap=True)
    rows.add_column(overflow="fold", ratio=1)
    for row in (described.rows or ())[:_ROWS]:
        by = " or ".join(f"{speak(step.chain, step.rule)} ({step.where})" for step in row.deciders[:3])
        rows.add_row("gets in" if row.certain else "perhaps", visible(row.traffic.words()))
        rows.add_row("", Text(visible(f"by {by}"), LINE_STYLE))
    if rows.row_count:
        yield rows
    if described.rows and len(described.rows) > _ROWS:
        yield Text(f"and {counted(len(described.rows) - _ROWS, 'more row')}; --json has all", "dim")
    said = dict.fromkeys(f"{speak(step.chain, step.rule)} ({step.where or 'by default'})" for step in described.rest)
    if said:
        yield Text(visible(f"what no rule speaks of is decided by {', '.join(said)}"), "dim")


_SHADES = {Reach.NOTHING: "#eef1ee", Reach.SOME: "#e8b44c", Reach.EVERYTHING: "#8f2d1d"}
_DOUBT = "#f6e3b5"
_SHOWN = 46
"""Signs of a cell's words that fit."""

_CROWDED = 110
"""Signs of the names along the top that fit side by side."""


class _Panel(Struct, frozen=True):
    """A heat map: a cell for each pair of names it has anything of, by families."""

    title: str
    rows: tuple[str, ...]
    columns: tuple[str, ...]
    cells: dict[tuple[str, str], list[_Shade]]


class _Shade(Struct, frozen=True):
    families: list[int]
    reach: Reach
    perhaps: Reach
    words: str


def draw_flows(described: Sequence[Described], pairs: EndToEnd | None = None) -> Figure | None:
    """A heat map for each device, sources down and destinations across, and one for what gets from device to device; darker lets
    more through, and words say what."""
    from aiguille.reports.figures import plot

    panels = [_panel(one.matrix) for one in described if one.matrix.cells]
    if pairs is not None and pairs.pairs:
        panels.append(_end_to_end_panel(pairs))
    if not panels:
        return None
    heights = [0.9 + 0.55 * len(panel.rows) for panel in panels]
    figure, drawn = plot(sum(heights), heights)
    for axes, panel in zip(drawn, panels, strict=True):
        _draw(axes, panel)
    return figure


def _panel(matrix: Matrix) -> _Panel:
    names = tuple(_named(end.name) for end in matrix.ends)
    cells: dict[tuple[str, str], list[_Shade]] = {}
    for source in matrix.ends:
        for place in matrix.ends:
            mine = [c for c in matrix.cells if (c.source, c.destination) == (source.name, place.name)]
            for families, cell in _alike(mine):
                shade = _Shade(families, cell.reach, cell.perhaps, cell_words(cell) or f"perhaps {cell.may}")
                cells.setdefault((_named(source.name), _named(place.name)), []).append(shade)
    return _Panel(matrix.device, names, names, cells)


def _end_to_end_panel(found: EndToEnd) -> _Panel:
    """The places that reach some place of another device, and those that are reached."""
    from aiguille.reports.endtoend import alike_pairs, pair_words, place_words

    there = [one for one in found.pairs if one.perhaps is not Reach.NOTHING]
    rows = tuple(dict.fromkeys(place_words(one.source) for one in there))
    columns = tuple(dict.fromkeys(place_words(one.destination) for one in there))
    cells: dict[tuple[str, str], list[_Shade]] = {}
    for source in dict.fromkeys(one.source.name for one in found.pairs):
        for families, one in alike_pairs([pair for pair in found.pairs if pair.source.name == source]):
            shade = _Shade(families, one.reach, one.perhaps, pair_words(one))
            cells.setdefault((place_words(one.source), place_words(one.destination)), []).append(shade)
    return _Panel("over several devices", rows, columns, cells)


def _draw(axes: Axes, panel: _Panel) -> None:
    from aiguille.reports.figures import INK, MUTED, plain_text

    rows, columns = panel.rows, panel.columns
    axes.set_title(plain_text(panel.title), loc="left")
    axes.set_xlim(0, len(columns))
    axes.set_ylim(len(rows), 0)
    crowded = sum(map(len, columns)) > _CROWDED
    axes.set_xticks(
        [n + 0.5 for n in range(len(columns))], [plain_text(n) for n in columns], fontsize=6 if crowded else 8
    )
    if crowded:
        axes.tick_params(axis="x", labelrotation=18)
    axes.set_yticks([n + 0.5 for n in range(len(rows))], [plain_text(n) for n in rows], fontsize=8)
    axes.xaxis.set_label_position("top")
    axes.xaxis.tick_top()
    for row, source in enumerate(rows):
        for column, place in enumerate(columns):
            cells = panel.cells.get((source, place), [])
            if not cells:
                continue
            worst = max(cells, key=lambda c: list(Reach).index(c.reach))
            doubtful = worst.reach is Reach.NOTHING and any(c.perhaps is not Reach.NOTHING for c in cells)
            axes.add_patch(_square(column, row, _DOUBT if doubtful else _SHADES[worst.reach]))
            said = "\n".join(
                _cut(f"{over(cell.families)}: {cell.words}") for cell in cells if cell.perhaps is not Reach.NOTHING
            )
            colour = "#ffffff" if worst.reach is Reach.EVERYTHING else INK if said else MUTED
            folded = _folded(said or "nothing", 9.0 / len(columns))
            text = axes.text(column + 0.5, row + 0.5, folded, fontsize=5.5, color=colour)
            text.set(ha="center", va="center")


def _cut(text: str) -> str:
    return text if len(text) <= _SHOWN else f"{text[: _SHOWN - 1]}…"


def _folded(text: str, inches: float) -> str:
    """Lines of a cell, broken where they would leave it."""
    import textwrap

    wide = max(int(inches * 17), 8)
    return "\n".join(line for one in text.splitlines() for line in textwrap.wrap(one, wide)[:3])


def _square(column: int, row: int, shade: str):  # type: ignore[no-untyped-def]
    from matplotlib.patches import Rectangle

    return Rectangle((column, row), 1, 1, facecolor=shade, edgecolor="#ffffff", linewidth=1.5)

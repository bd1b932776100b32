"""Figures: findings, hits, openness and geo reach, as SVG or PNG. Colours differ in lightness too, and every bar has its number."""

from __future__ import annotations

import io
import logging
from collections.abc import Callable, Sequence
from textwrap import shorten
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from aiguille.baseline import Severity
from aiguille.reports import charts
from aiguille.reports.charts import ROWS
from aiguille.reports.dossier import Dossier
from aiguille.reports.text import visible

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

INK, MUTED, GRID, ACCENT = "#1d2328", "#59636b", "#d9d5ca", "#1f5f7a"
SEVERITY_COLOURS = {
    Severity.CRITICAL: "#5c130e",
    Severity.HIGH: "#b93a23",
    Severity.MEDIUM: "#e8a33d",
    Severity.LOW: "#8fbcd6",
    Severity.INFO: "#c6cbce",
}
"""From dark to light; neighbours can be distinguished with every common kind of colour blindness."""

_ON_DARK = {Severity.CRITICAL, Severity.HIGH}
_WIDTH, _LEAST = 10.0, 2.0  # inches: the width of every figure, and the least height
_ROW = 0.3  # inches
_DPI = 150
_WIDTHS = {100 / 3: "anybody to one service", 200 / 3: "any to any, one service", 100: "any to any"}
"""Widths of rules that everybody knows; see `aiguille.analysis.breadth`."""

_NAME = 26
"""Characters of a name that are shown."""


class FigureKind(Struct, frozen=True):
    """A kind of figure: what draws it, and what is said where there is nothing to draw."""

    draw: Callable[[Dossier], Figure | None]
    nothing: str


def _load() -> None:
    """Load what draws figures."""
    logging.getLogger("matplotlib").setLevel(logging.ERROR)  # its font cache is no news to an auditor
    from matplotlib import artist

    # While it loads it writes documentation for each of its classes, half of what loading takes; here nobody reads that.
    documented, artist.kwdoc = artist.kwdoc, lambda artist: ""
    try:
        from matplotlib import figure
        from matplotlib.backends import backend_agg, backend_svg
    finally:
        artist.kwdoc = documented
    _ = figure, backend_agg, backend_svg


def svg(figure: Figure) -> str:
    """The figure as SVG, its text as text; the same bytes for the same figure."""
    import matplotlib as mpl

    out = io.StringIO()
    _laid_out(figure)
    with mpl.rc_context({"svg.fonttype": "none", "svg.hashsalt": "aiguille"}):
        figure.savefig(out, format="svg", metadata={"Date": None, "Creator": None, "Format": None, "Type": None})
    return out.getvalue()


def png(figure: Figure) -> bytes:
    """The figure as PNG, 1500 dots wide."""
    out = io.BytesIO()
    _laid_out(figure)
    figure.savefig(out, format="png", dpi=_DPI, metadata={"Software": None}, facecolor="#ffffff")
    return out.getvalue()


def _laid_out(figure: Figure) -> None:
    """Find the places of all parts once: as long as an engine is there for it, saving draws everything a second time for it."""
    engine = figure.get_layout_engine()
    if engine is not None:
        engine.execute(figure)
        figure.set_layout_engine(None)


def _figure(height: float, panels: Sequence[float] = (1,)) -> tuple[Figure, list[Axes]]:
    """A figure of `height` inches with panels beside one another."""
    _load()
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=(_WIDTH, max(height, _LEAST)), dpi=_DPI, layout="constrained", facecolor="none")
    FigureCanvasAgg(figure)
    axes = figure.subplots(1, len(panels), squeeze=False, width_ratios=list(panels))[0]
    for one in axes:
        one.set_facecolor("none")
        for side in ("top", "right", "left"):
            one.spines[side].set_visible(False)
        one.spines["bottom"].set_color(GRID)
        one.tick_params(colors=INK, labelsize=9, length=0)
        one.xaxis.label.set(color=MUTED, size=9)
        one.title.set(color=INK, size=10)
        # Else a place beside all that is drawn is looked for again and again, for a label that no figure has.
        one.yaxis.set_label_coords(0, 0.5)
    return figure, list(axes)


def plot(height: float, panels: Sequence[float]) -> tuple[Figure, list[Axes]]:
    """A figure of `height` inches with panels below one another, for grids of cells."""
    figure, _ = _figure(height)
    figure.clear()
    figure.set_facecolor("#ffffff")
    axes = figure.subplots(len(panels), 1, squeeze=False, height_ratios=list(panels))[:, 0]
    for one in axes:
        for spine in one.spines.values():
            spine.set_visible(False)
        one.tick_params(colors=INK, length=0)
        one.title.set(color=INK, size=11, weight="bold")
    return figure, list(axes)


def plain_text(value: str) -> str:
    """Text that means nothing to Matplotlib's own markup, cut where it would push the figure aside."""
    return _text(value)


def _text(value: str) -> str:
    """Text that means nothing to Matplotlib's own markup, cut where it would push the figure aside."""
    shown = visible(value)
    shown = shown if len(shown) <= _NAME else shown[: _NAME - 1] + "…"
    return shown.replace("$", r"\$")


def _stacked(axes: Axes, stacks: charts.Stacks, height: int) -> None:
    """A row each, stacked by severity, the most severe first; each part with its number where it fits."""
    top, rows = stacks.top, stacks.rows
    left = [0] * len(rows)
    for severity in Severity:
        values = [row.counts.get(severity, 0) for row in rows]
        if not any(values):
            continue
        axes.barh(
            range(len(rows)), values, left=left, height=0.72, color=SEVERITY_COLOURS[severity], label=severity.value
        )
        for number, value in enumerate(values):
            if value >= top * 0.018:
                ink = "#ffffff" if severity in _ON_DARK else "#1c2227"
                axes.text(
                    left[number] + value / 2,
                    number,
                    str(value),
                    ha="center",
                    va="center",
                    color=ink,
                    size=7.5,
                    in_layout=False,
                )
        left = [a + b for a, b in zip(left, values, strict=True)]
    for number, row in enumerate(rows):
        axes.text(row.total + top * 0.015, number, str(row.total), va="center", color=MUTED, size=8, in_layout=False)
    axes.set_yticks(range(len(rows)), [_text(row.name) for row in rows])
    axes.set_xlim(0, top * 1.12)
    axes.set_ylim(height - 0.4, -0.6)
    axes.set_xticks([])
    axes.spines["bottom"].set_visible(False)
    axes.set_title(stacks.title, loc="left", color=INK, y=1)
    axes.xaxis.set_label_coords(0.5, 0)


def findings(dossier: Dossier) -> Figure | None:
    """Findings by area and by device, stacked by severity."""
    shown = charts.findings(dossier)
    if not shown:
        return None
    height = max(len(stacks.rows) for stacks in shown)
    figure, panels = _figure(0.9 + _ROW * height, (1, 1.4))
    for axes, stacks in zip(panels, shown, strict=True):
        _stacked(axes, stacks, height)
    handles, labels = panels[-1].get_legend_handles_labels()
    figure.legend(handles, labels, loc="outside lower left", ncols=5, frameon=False, fontsize=9, labelcolor=INK)
    return figure


def hits(dossier: Dossier) -> Figure | None:
    """The busiest rules, each with its share of all hits, and how the shares add up."""
    counters = charts.counted_rules(dossier)
    shown = charts.busiest(counters)
    if not shown:
        return None
    figure, (axes,) = _figure(1.1 + _ROW * len(shown))
    rows = range(len(shown))
    axes.barh(rows, [one.share for one in shown], height=0.72, color=ACCENT)
    axes.plot([one.sum for one in shown], rows, color=INK, linewidth=1, marker="o", markersize=3.5)
    for number, one in enumerate(shown):
        inside = one.share > 12
        axes.text(
            one.share - 0.8 if inside else one.share + 0.8,
            number,
            f"{one.hits:,}".replace(",", "\N{NARROW NO-BREAK SPACE}"),
            ha="right" if inside else "left",
            va="center",
            size=7.5,
            color="#ffffff" if inside else MUTED,
            in_layout=False,
        )
    last = len(shown) - 1
    axes.annotate(
        f"{shown[-1].sum:.0f} %",
        (shown[-1].sum, last),
        (4, 0),
        textcoords="offset points",
        va="center",
        size=8,
        color=INK,
    )
    axes.set_yticks(rows, [_text(one.device) + " " + _text(one.rule) for one in shown])
    axes.set_ylim(len(shown) - 0.4, -0.6)
    axes.set_xlim(0, 106)
    axes.set_xticks(range(0, 101, 20), [f"{n} %" for n in range(0, 101, 20)])
    axes.grid(axis="x", color=GRID, linewidth=0.6)
    axes.set_axisbelow(True)
    axes.set_xlabel("share of all hits: bars each rule's, line added up")
    axes.set_title(charts.usage_sentence(counters), loc="left", color=INK, y=1)
    return figure


def openness(dossier: Dossier) -> Figure | None:
    """How wide each accepting rule is that anything new gets through, by device, and the widest in words."""
    opened = {
        name: sorted(
            (one["width"], one["breadth"]) for one in rules if one["width"] is not None and one["openness"] is not None
        )
        for name, rules in dossier.rules.items()
    }
    opened = {name: found for name, found in opened.items() if found}
    if not opened:
        return None
    names = sorted(opened, key=lambda name: -opened[name][-1][0]) if len(opened) > ROWS else list(opened)
    names = names[:ROWS]
    figure, (axes,) = _figure(1.1 + _ROW * len(names))
    for number, name in enumerate(names):
        values = [width for width, _ in opened[name]]
        axes.plot([values[0], values[-1]], [number, number], color=GRID, linewidth=2, zorder=1)
        axes.scatter(values, [number] * len(values), s=26, color=ACCENT, alpha=0.55, linewidth=0, zorder=2)
        _beside(axes, number, shorten(opened[name][-1][1], 54, placeholder=" …"))
    more = f", the {ROWS} widest of {len(opened)}" if len(opened) > ROWS else ""
    axes.set_yticks(range(len(names)), [_text(name) for name in names])
    axes.set_ylim(len(names) - 0.4, -0.6)
    axes.set_xlim(-2, 102)
    for width, words in _WIDTHS.items():
        axes.axvline(width, color=MUTED, linewidth=0.8, linestyle=(0, (3, 3)), zorder=0)
        axes.text(width, -0.62, words, ha="right", va="bottom", size=8, color=MUTED)
    axes.grid(axis="x", color=GRID, linewidth=0.6)
    axes.set_axisbelow(True)
    axes.set_xlabel("0: one source, destination and service; 100: any of each. A dot each accepting rule")
    axes.set_title(f"How wide accepting rules are{more}", loc="left", color=INK, pad=20)
    _beside(axes, -0.8, "the widest in words")
    return figure


def _beside(axes: Axes, row: float, text: str) -> None:
    """Words at the right of a row; a fixed way from the axes, so that the layout leaves all of them room."""
    axes.annotate(
        text, (1, row), (10, 0), ("axes fraction", "data"), "offset points", va="center", size=7.5, color=MUTED
    )


def geo(dossier: Dossier) -> Figure | None:
    """How many ways in from the outside each country has, by device."""
    shown = charts.ways_in(dossier)
    if shown is None:
        return None
    codes, top = shown.codes, shown.top
    names, grid = [name for name, _ in shown.rows], [counts for _, counts in shown.rows]
    figure, (axes,) = _figure(1.2 + _ROW * len(names))
    shaded = [[value or float("nan") for value in row] for row in grid]
    axes.pcolormesh(range(len(codes)), range(len(names)), shaded, cmap=_shades(), vmin=0, vmax=top, shading="nearest")
    axes.invert_yaxis()
    for y, row in enumerate(grid):
        for x, value in enumerate(row):
            ink = "#ffffff" if value > 0.55 * top else "#1c2227"
            axes.text(
                x,
                y,
                str(value) if value else "·",
                ha="center",
                va="center",
                size=8,
                color=ink if value else MUTED,
                in_layout=False,
            )
    axes.set_yticks(range(len(names)), [_text(name) for name in names])
    axes.set_xticks(range(len(codes)), codes)
    axes.xaxis.tick_top()
    axes.xaxis.set_label_coords(0.5, 0)
    axes.spines["bottom"].set_visible(False)
    left = f"; {shown.left} more countries are not shown" if shown.left else ""
    axes.set_title(
        f"Ways in from the outside that a country may use; most: {_text(shown.most)}{left}", loc="left", color=INK
    )
    return figure


def _shades() -> Any:
    from matplotlib.colors import LinearSegmentedColormap

    return LinearSegmentedColormap.from_list("reach", ["#d6e6ee", ACCENT])


KINDS: dict[str, FigureKind] = {
    "findings": FigureKind(findings, "nothing was found"),
    "hits": FigureKind(hits, "no export has hit counters"),
    "openness": FigureKind(openness, "no rule accepts anything"),
    "geo": FigureKind(geo, "there is no location data, or nothing faces the outside"),
}
"""The figures there are, by the name the command line gives them."""

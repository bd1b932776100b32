"""Views of which countries reach what."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from aiguille._version import __version__
from aiguille.baseline.reaching import Reach, spell_sources
from aiguille.model import Direction, Estate, Locations
from aiguille.model.countries import country_name
from aiguille.reports.data import Data, place_of
from aiguille.reports.text import visible

_SHOWN = 8


def reach_data(estate: Estate, found: Sequence[Reach]) -> Data:
    """`schemas/geo-reach.schema.json`."""
    return {
        "aiguille": {"version": __version__},
        "as_of": estate.as_of.isoformat(),
        "sources": list(estate.locations.sources),
        "reach": [
            {
                "device": one.device,
                "service": one.what,
                "direction": one.direction.value,
                "family": one.family,
                "rulebase": one.rule.rulebase,
                "chain": one.rule.chain,
                "rule": one.rule.rule,
                **place_of(one.rule.where),
                "addresses": one.sources.size,
                "elsewhere": one.outside_data,
                "countries": [
                    {
                        "country": c.code,
                        "name": country_name(c.code),
                        "addresses": c.addresses,
                        "share": round(c.share, 6),
                    }
                    for c in one.countries
                ],
            }
            for one in found
        ],
    }


def show_reach(console: Console, estate: Estate, found: Sequence[Reach]) -> None:
    """By device: each way in, the countries that may use it, and the rule."""
    for source in estate.locations.sources:
        console.print(Text(visible(source), "dim"))
    for device in estate.devices:
        mine = [one for one in found if one.device == device.name]
        console.print()
        console.print(Text(visible(device.name), "bold"))
        if not mine:
            console.print(Padding(Text("nothing faces the outside, or the outside is not known", "dim"), (0, 0, 0, 2)))
            continue
        rows = Table(box=None, padding=(0, 2, 0, 0), show_edge=False, header_style="dim", pad_edge=False)
        rows.add_column("service", overflow="fold")
        rows.add_column("at", no_wrap=True)
        rows.add_column("over", no_wrap=True)
        rows.add_column("countries, and how much of each", overflow="fold", ratio=1)
        rows.add_column("by", overflow="fold")
        for one in mine:
            by = visible(
                f"{one.place}, {one.rule.where or 'built in'}".replace(f"{one.rule.where}", _short(str(one.rule.where)))
            )
            at = "the device" if one.direction is Direction.TO_DEVICE else "behind it"
            rows.add_row(visible(one.what), at, f"IPv{one.family}", _countries(one, estate.locations), by)
        console.print(Padding(rows, (0, 0, 0, 2)))


def _short(where: str) -> str:
    return where.rpartition("/")[2]


def _countries(one: Reach, locations: Locations) -> Text:
    if not one.countries:
        return Text(f"none the data knows: {spell_sources(one.sources, one.family)}", "dim")
    known = locations.countries(one.family)
    in_part = {c.code: c.share for c in one.countries if c.share < 1}
    held = {c.code for c in one.countries}
    left_out = {code: 0.0 for code in known if code not in held} | in_part
    if not left_out and len(known) > 1:
        text = Text(f"everywhere: all of {len(known)} countries")
    elif len(left_out) <= _SHOWN < len(known) - len(left_out):
        less = ", ".join(f"{code} {_share(share) if share else 'none'}" for code, share in sorted(left_out.items()))
        text = Text(f"everywhere, but of {less}")
    else:
        described = [f"{c.code} {_share(c.share)}" for c in one.countries[:_SHOWN]]
        if len(one.countries) > _SHOWN:
            described.append(f"{len(one.countries) - _SHOWN} more")
        text = Text(", ".join(described))
    if one.outside_data:
        text.append(" and elsewhere", "dim")
    return text


def _share(share: float) -> str:
    return "all" if share == 1 else "under 1 %" if share < 0.01 else f"{share:.0%}".replace("%", " %")

"""Views of location data: where an address is, and which countries reach what."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct
from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from aiguille._version import __version__
from aiguille.baseline.reaching import Reach, spell_sources
from aiguille.model import Addresses, Direction, Estate, Locations
from aiguille.model.countries import country_name
from aiguille.model.spelling import spell_address, spell_operand
from aiguille.reports.data import Data, place_of
from aiguille.reports.text import visible

_SHOWN = 8


class Place(Struct, frozen=True):
    """An address with what the data says of it."""

    family: int
    address: int
    code: str | None
    block: str


def place(locations: Locations, family: int, address: int) -> Place:
    """Look an address up."""
    found = locations.block(family, address)
    if found is None:
        return Place(family, address, None, "")
    return Place(family, address, found[2], spell_operand(Addresses(family, found[0], found[1])))


def lookup_data(places: Sequence[Place], locations: Locations) -> Data:
    """`schemas/geo-lookup.schema.json`."""
    return {
        "aiguille": {"version": __version__},
        "sources": list(locations.sources),
        "addresses": [
            {
                "address": spell_address(one.family, one.address),
                "country": one.code,
                "name": country_name(one.code) if one.code else None,
                "block": one.block or None,
            }
            for one in places
        ],
    }


def show_lookup(console: Console, places: Sequence[Place], locations: Locations) -> None:
    rows = Table.grid(padding=(0, 2))
    for one in places:
        where = (
            Text(f"{one.code}  {country_name(one.code)}") if one.code else Text("in no country the data knows", "dim")
        )
        rows.add_row(Text(spell_address(one.family, one.address), "bold"), where, Text(one.block, "dim"))
    console.print(rows)
    for source in locations.sources:
        console.print(Text(visible(source), "dim"))


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
            rows.add_row(visible(one.what), at, f"IPv{one.family}", _countries(one), by)
        console.print(Padding(rows, (0, 0, 0, 2)))


def _short(where: str) -> str:
    return where.rpartition("/")[2]


def _countries(one: Reach) -> Text:
    if not one.countries:
        return Text(f"none the data knows: {spell_sources(one.sources, one.family)}", "dim")
    told = [f"{c.code} {_share(c.share)}" for c in one.countries[:_SHOWN]]
    if len(one.countries) > _SHOWN:
        told.append(f"{len(one.countries) - _SHOWN} more")
    text = Text(", ".join(told))
    if one.outside_data:
        text.append(" and elsewhere", "dim")
    return text


def _share(share: float) -> str:
    return "all" if share == 1 else "under 1 %" if share < 0.01 else f"{share:.0%}".replace("%", " %")

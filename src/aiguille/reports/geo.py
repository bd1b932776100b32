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
from aiguille.model.spelling import spell_operand
from aiguille.reports.data import Data, place_of
from aiguille.reports.text import counted, visible

_SHOWN = 8


class Lookup(Struct, frozen=True):
    """An address or network with what the data says of it.

    code, block: of a single address; parts: of a network the countries in it, those with most addresses first
    elsewhere: addresses of it that are in no country the data knows
    """

    addresses: Addresses
    code: str | None
    block: str
    parts: tuple[Part, ...] = ()
    elsewhere: int = 0


class Part(Struct, frozen=True):
    """What a country has of a network."""

    code: str
    addresses: int


def place(locations: Locations, wanted: Addresses) -> Lookup:
    """Look an address or a network up."""
    if wanted.first == wanted.last:
        found = locations.block(wanted.family, wanted.first)
        if found is None:
            return Lookup(wanted, None, "")
        return Lookup(wanted, found[2], spell_operand(Addresses(wanted.family, found[0], found[1])))
    counts: dict[str, int] = {}
    for first, last, code in locations.within(wanted.family, wanted.first, wanted.last):
        counts[code] = counts.get(code, 0) + min(last, wanted.last) - max(first, wanted.first) + 1
    parts = tuple(Part(code, n) for code, n in sorted(counts.items(), key=lambda item: (-item[1], item[0])))
    rest = wanted.last - wanted.first + 1 - sum(counts.values())
    return Lookup(wanted, parts[0].code if len(parts) == 1 and not rest else None, "", parts, rest)


def lookup_data(places: Sequence[Lookup], locations: Locations) -> Data:
    """`schemas/geo-lookup.schema.json`."""
    return {
        "aiguille": {"version": __version__},
        "sources": list(locations.sources),
        "addresses": [
            {
                "address": spell_operand(one.addresses),
                "country": one.code,
                "name": country_name(one.code) if one.code else None,
                "block": one.block or None,
                "countries": [
                    {"country": part.code, "name": country_name(part.code), "addresses": part.addresses}
                    for part in one.parts
                ],
                "elsewhere": one.elsewhere,
            }
            for one in places
        ],
    }


def show_lookup(console: Console, places: Sequence[Lookup], locations: Locations) -> None:
    rows = Table.grid(padding=(0, 2))
    for one in places:
        name = Text(spell_operand(one.addresses), "bold")
        if one.parts:
            for number, part in enumerate(one.parts):
                where = Text(f"{part.code}  {country_name(part.code)}")
                rows.add_row(name if not number else "", where, Text(_portion(part.addresses, one), "dim"))
            if one.elsewhere:
                rows.add_row("", Text("in no country the data knows", "dim"), Text(_portion(one.elsewhere, one), "dim"))
            if len(one.parts) > 1:
                others = sum(part.addresses for part in one.parts[1:])
                first = one.parts[0]
                caught = counted(others, "address", "addresses")
                words = f"a rule about it for {country_name(first.code)} also catches {caught} of others"
                rows.add_row("", Text(words, "dim"), "")
            continue
        where = (
            Text(f"{one.code}  {country_name(one.code)}") if one.code else Text("in no country the data knows", "dim")
        )
        rows.add_row(name, where, Text(one.block, "dim"))
    console.print(rows)
    for source in locations.sources:
        console.print(Text(visible(source), "dim"))


def _portion(number: int, one: Lookup) -> str:
    whole = one.addresses.last - one.addresses.first + 1
    return f"{counted(number, 'address', 'addresses')}, {100 * number / whole:.1f}%"


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
    left_out = {code: 0.0 for code in known if code not in {c.code for c in one.countries}} | in_part
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

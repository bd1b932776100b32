"""Views of where an address is. They need little of the program, as people wait for them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from msgspec import Struct
from rich.console import Console
from rich.table import Table
from rich.text import Text

from aiguille._version import __version__
from aiguille.model import Addresses, Locations
from aiguille.model.countries import country_name
from aiguille.model.spelling import spell_operand
from aiguille.reports.text import counted, visible

if TYPE_CHECKING:
    from aiguille.reports.data import Data


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

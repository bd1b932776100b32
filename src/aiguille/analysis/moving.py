"""A device as it would be elsewhere: with another site's networks for its own, or with two of its interfaces exchanged.

What is written for one place can then be compared with what is written for another, packet by packet.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from aiguille.model import Addresses, Device, Interface, InterfaceName, Route, Zone

_PARTS = (
    "rulebases",
    "addresses",
    "sets",
    "zones",
    "interfaces",
    "routes",
    "geo_filters",
    "administrators",
    "administration",
)
"""Parts of a device that speak of networks or interfaces."""

Pairs = tuple[tuple[Addresses, Addresses], ...]


def at_site(device: Device, site: Device) -> Device:
    """A device with the networks of a site in place of its own: those of interfaces and zones of one name, where both are as large."""
    mine, theirs = _networks(device), _networks(site)
    pairs = tuple(
        (one, other)
        for name, networks in mine.items()
        for one, other in zip(networks, theirs.get(name, ()), strict=False)
        if one.family == other.family and one.last - one.first == other.last - other.first
    )
    own = {one.name: one for one in site.interfaces}
    moved = _moved(device, pairs, {})
    # Which address of a network a gateway has itself is no policy.
    interfaces = tuple(
        replace(one, addresses=own[one.name].addresses)
        if one.name in own and one.networks == own[one.name].networks
        else one
        for one in moved.interfaces
    )
    return replace(moved, interfaces=interfaces)


def exchanged(device: Device, one: str, other: str) -> Device:
    """A device whose interfaces one and other have changed places, with the networks behind them where these are as large."""
    known = _networks(device, zones=False)
    pairs = tuple(
        pair
        for mine, theirs in zip(known.get(one, ()), known.get(other, ()), strict=False)
        if mine.family == theirs.family and mine.last - mine.first == theirs.last - theirs.first
        for pair in ((mine, theirs), (theirs, mine))
    )
    return _moved(device, pairs, {one: other, other: one})


def _networks(device: Device, *, zones: bool = True) -> dict[str, tuple[Addresses, ...]]:
    """The networks of interfaces, and of zones, by name; those of a zone of one interface are that interface's as well."""
    out = {one.name: one.networks for one in device.interfaces if one.networks}
    for zone in device.zones:
        if zone.networks and zones:
            out.setdefault(zone.name, zone.networks)
        if zone.networks and len(zone.interfaces) == 1:
            out.setdefault(zone.interfaces[0], zone.networks)
    return out


def _moved(device: Device, pairs: Pairs, names: Mapping[str, str]) -> Device:
    def name(one: str) -> str:
        return names.get(one, one)

    def change(value: Any) -> Any:
        if isinstance(value, Addresses):
            return _shifted(value, pairs)
        if isinstance(value, InterfaceName):
            return value if value.prefix else replace(value, name=name(value.name))
        if isinstance(value, Interface | Route | Zone):
            value = _walked(value, change)
            if isinstance(value, Interface):
                return replace(value, name=name(value.name))
            if isinstance(value, Route):
                return replace(value, interface=name(value.interface))
            return replace(value, interfaces=tuple(map(name, value.interfaces)))
        return _walked(value, change)

    return replace(device, **{part: change(getattr(device, part)) for part in _PARTS})


def _walked(value: Any, change: Callable[[Any], Any]) -> Any:
    """A value with its parts changed; itself where nothing is."""
    if isinstance(value, tuple | list):
        made = [change(one) for one in value]
        return value if all(a is b for a, b in zip(made, value, strict=True)) else type(value)(made)
    if isinstance(value, frozenset):
        return frozenset(change(one) for one in value)
    if isinstance(value, Struct):
        found = {name: change(getattr(value, name)) for name in value.__struct_fields__}
        changed = {name: one for name, one in found.items() if one is not getattr(value, name)}
        return replace(value, **changed) if changed else value
    return value


def _shifted(value: Addresses, pairs: Pairs) -> Addresses:
    for one, other in pairs:
        if value.family == one.family and one.first <= value.first and value.last <= one.last:
            by = other.first - one.first
            return Addresses(value.family, value.first + by, value.last + by)
    return value

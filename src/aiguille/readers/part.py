"""What a reader of one firewall program gives to the host it belongs to."""

from __future__ import annotations

from msgspec import Struct, field

from aiguille.model import Interface, Rulebase, ServiceObject, SetObject, Setting, Zone, unknown


class FirewallPart(Struct, frozen=True):
    """The part of a device that its firewall program settles.

    default_zone: the zone of interfaces that none is stated for, if the program has one
    """

    rulebases: tuple[Rulebase, ...]
    sets: tuple[SetObject, ...] = ()
    zones: tuple[Zone, ...] = ()
    interfaces: tuple[Interface, ...] = ()
    services: tuple[ServiceObject, ...] = ()
    default_zone: str = ""
    firmware: Setting[str] = field(default_factory=unknown)
    taken_at: Setting[str] = field(default_factory=unknown)

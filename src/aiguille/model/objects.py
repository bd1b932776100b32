"""Interfaces, zones, and the named addresses and services that rules refer to."""

from __future__ import annotations

import re
from enum import StrEnum

from msgspec import Struct

from aiguille.model.spans import Span


class Numbers(Struct, frozen=True, order=True):
    """A closed range of a numeric field: ports, protocols (IANA numbers)."""

    first: int
    last: int


class Addresses(Struct, frozen=True, order=True):
    """A closed range of addresses as integers; `family` is 4 or 6."""

    family: int
    first: int
    last: int


class MaskedAddress(Struct, frozen=True, order=True):
    """All addresses that agree with `value` in the bits of `mask`, which need not be contiguous."""

    family: int
    value: int
    mask: int


class InterfaceName(Struct, frozen=True, order=True):
    """An interface by name, or every interface whose name starts with `name` when `prefix` is set."""

    name: str
    prefix: bool = False


class IcmpType(Struct, frozen=True, order=True):
    """ICMP or ICMPv6 messages by type and code, both closed ranges of 0-255 (RFC 792, RFC 4443)."""

    type_first: int
    type_last: int
    code_first: int = 0
    code_last: int = 255


class FlagTest(Struct, frozen=True, order=True):
    """TCP packets whose flag byte, masked by `mask`, equals `value` (bits as in RFC 9293, 3.1: FIN 1 ... URG 32)."""

    mask: int
    value: int


class ServiceTerm(Struct, frozen=True, order=True):
    """One protocol with its ports or message types; an empty tuple means any."""

    protocol: Numbers
    source_ports: tuple[Numbers, ...] = ()
    destination_ports: tuple[Numbers, ...] = ()
    icmp: tuple[IcmpType, ...] = ()


class NameKind(StrEnum):
    """What a name in a rule refers to."""

    ADDRESS = "address object"
    SERVICE = "service"
    ZONE = "zone"
    SET = "set"


class Named(Struct, frozen=True, order=True):
    """A reference by name, resolved when packet sets are made.

    roles: for sets, which field each dimension is looked up in: "src" or "dst" where the dimension shows the rest, or the
        value of a `Field`
    """

    kind: NameKind
    name: str
    roles: tuple[str, ...] = ()


class Tuples(Struct, frozen=True, order=True):
    """A set written into the rule itself: `roles` names the field that each value of an entry is looked up in."""

    roles: tuple[str, ...]
    entries: tuple[SetEntry, ...]


Operand = Numbers | Addresses | MaskedAddress | InterfaceName | IcmpType | FlagTest | ServiceTerm | Named | Tuples


class AddressObject(Struct, frozen=True):
    """A named address, network, range, or group: the union of its members, which may be names of other objects.

    `excluded` are taken out again. `unresolved` holds members whose addresses the export does not state (a host name, a
    hardware address, a country): the object then covers its members surely and anything else perhaps. Countries stand in
    `countries` too. `derived`: a reader made it of something else, nobody defined it.
    """

    name: str
    members: tuple[Addresses | MaskedAddress | Named, ...]
    where: Span
    comment: str = ""
    unresolved: tuple[str, ...] = ()
    excluded: tuple[Addresses | MaskedAddress | Named, ...] = ()
    countries: tuple[str, ...] = ()
    derived: bool = False


class ServiceObject(Struct, frozen=True):
    """A named service or group of services: the union of its members, and perhaps more where it is not `complete`ly read.

    `derived`: a reader made it of something else, nobody defined it.
    """

    name: str
    members: tuple[ServiceTerm | Named, ...]
    where: Span
    comment: str = ""
    complete: bool = True
    derived: bool = False


class SetEntry(Struct, frozen=True, order=True):
    """One entry of a set: a value for each of its dimensions, `excluded` if what it holds is not in the set.

    Among entries that hold a packet the narrowest network decides (ipset(8), nomatch).
    """

    values: tuple[Operand, ...]
    excluded: bool = False


class SetObject(Struct, frozen=True):
    """A set that rules look packets up in (ipset(8)).

    dimensions: what is looked up, in order: "address", "port", "interface", "protocol" and the like, or "set" for a list
        of sets
    complete: False where entries come and go or were not understood, so that its content is not known
    """

    name: str
    dimensions: tuple[str, ...]
    entries: tuple[SetEntry, ...]
    where: Span
    complete: bool = True


class Side(StrEnum):
    """What a zone is for."""

    OUTSIDE = "outside"
    INSIDE = "inside"
    DMZ = "dmz"
    MANAGEMENT = "management"
    GUEST = "guest"
    DEVICE = "device"


class Interface(Struct, frozen=True):
    """A network interface.

    addresses: its own addresses; networks: the networks they lie in; all_listed: whether the export lists all it has, if any
    services: those the export lets answer on it, by name as written
    linked: whether something is plugged in; None where nothing shows
    """

    name: str
    where: Span | None
    addresses: tuple[Addresses, ...] = ()
    networks: tuple[Addresses, ...] = ()
    zone: str | None = None
    enabled: bool = True
    comment: str = ""
    services: tuple[str, ...] = ()
    linked: bool | None = None
    all_listed: bool = False

    @property
    def addresses_known(self) -> bool:
        return bool(self.addresses) or self.all_listed


_CONTAINER_BRIDGE = re.compile(r"(docker|podman|cni|virbr)[0-9]+|br-[0-9a-f]{12}")


def is_container_bridge(name: str) -> bool:
    """Whether an interface has a name that container engines and hosts of virtual machines give their bridges."""
    return _CONTAINER_BRIDGE.fullmatch(name) is not None


class Route(Struct, frozen=True):
    """Where packets to a network leave: an interface, or nothing ("" for a route that refuses or swallows them).

    via: the router they are handed to, as a single address; None where they reach the network directly, or that is not stated
    """

    network: Addresses
    interface: str
    where: Span | None = None
    via: Addresses | None = None


class Zone(Struct, frozen=True):
    """A group of interfaces with a purpose.

    `side` is None when unknown; `guessed` holds the reason when the side was inferred rather than stated, and
    `where` the line that states or suggests it (None when the auditor's engagement file does).
    """

    name: str
    interfaces: tuple[str, ...]
    side: Side | None = None
    networks: tuple[Addresses, ...] = ()
    where: Span | None = None
    guessed: str = ""
    comment: str = ""

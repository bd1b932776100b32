"""Interfaces, zones, and the named addresses and services that rules refer to."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from aiguille.model.spans import Span


@dataclass(frozen=True, slots=True, order=True)
class Numbers:
    """A closed range of a numeric field: ports, protocols (IANA numbers)."""

    first: int
    last: int


@dataclass(frozen=True, slots=True, order=True)
class Addresses:
    """A closed range of addresses as integers; `family` is 4 or 6."""

    family: int
    first: int
    last: int


@dataclass(frozen=True, slots=True, order=True)
class MaskedAddress:
    """All addresses that agree with `value` in the bits of `mask`, which need not be contiguous."""

    family: int
    value: int
    mask: int


@dataclass(frozen=True, slots=True, order=True)
class InterfaceName:
    """An interface by name, or every interface whose name starts with `name` when `prefix` is set."""

    name: str
    prefix: bool = False


@dataclass(frozen=True, slots=True, order=True)
class IcmpType:
    """ICMP or ICMPv6 messages by type and code, both closed ranges of 0-255 (RFC 792, RFC 4443)."""

    type_first: int
    type_last: int
    code_first: int = 0
    code_last: int = 255


@dataclass(frozen=True, slots=True, order=True)
class FlagTest:
    """TCP packets whose flag byte, masked by `mask`, equals `value` (bits as in RFC 9293, 3.1: FIN 1 ... URG 32)."""

    mask: int
    value: int


@dataclass(frozen=True, slots=True, order=True)
class ServiceTerm:
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


@dataclass(frozen=True, slots=True, order=True)
class Named:
    """A reference by name, resolved when packet sets are made.

    roles: for sets, which field each dimension is looked up in: "src" or "dst" where the dimension tells the rest, or the
        value of a `Field`
    """

    kind: NameKind
    name: str
    roles: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, order=True)
class Tuples:
    """A set written into the rule itself: `roles` names the field that each value of an entry is looked up in."""

    roles: tuple[str, ...]
    entries: tuple[SetEntry, ...]


Operand = Numbers | Addresses | MaskedAddress | InterfaceName | IcmpType | FlagTest | ServiceTerm | Named | Tuples


@dataclass(frozen=True, slots=True)
class AddressObject:
    """A named address, network, range, or group: the union of its members, which may be names of other objects.

    `excluded` are taken out again. `unresolved` holds members whose addresses the export does not tell (a host name, a
    hardware address, a country): the object then covers its members surely and anything else perhaps. Countries stand in
    `countries` too.
    """

    name: str
    members: tuple[Addresses | MaskedAddress | Named, ...]
    where: Span
    comment: str = ""
    is_group: bool = False
    unresolved: tuple[str, ...] = ()
    excluded: tuple[Addresses | MaskedAddress | Named, ...] = ()
    countries: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class ServiceObject:
    """A named service or group of services: the union of its members, and perhaps more where it is not `complete`ly read."""

    name: str
    members: tuple[ServiceTerm | Named, ...]
    where: Span
    comment: str = ""
    is_group: bool = False
    complete: bool = True


@dataclass(frozen=True, slots=True, order=True)
class SetEntry:
    """One entry of a set: a value for each of its dimensions, `excluded` if what it holds is not in the set.

    Among entries that hold a packet the narrowest network decides (ipset(8), nomatch).
    """

    values: tuple[Operand, ...]
    excluded: bool = False


@dataclass(frozen=True, slots=True)
class SetObject:
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


@dataclass(frozen=True, slots=True)
class Interface:
    """A network interface.

    addresses: its own addresses; networks: the networks they lie in
    services: those the export lets answer on it, by name as written
    """

    name: str
    where: Span | None
    addresses: tuple[Addresses, ...] = ()
    networks: tuple[Addresses, ...] = ()
    zone: str | None = None
    enabled: bool = True
    comment: str = ""
    services: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Zone:
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

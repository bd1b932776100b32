"""Reader for the output of `ipset save` (ipset(8), version 7), which stands beside an iptables dump."""

from __future__ import annotations

import re

from msgspec import Struct, field

from aiguille.model import (
    Addresses,
    InterfaceName,
    MaskedAddress,
    Named,
    NameKind,
    NotUnderstoodError,
    Numbers,
    ServiceTerm,
    SetEntry,
    SetObject,
    Span,
)
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.iptables.tokens import split_words
from aiguille.readers.literals import read_address_range, read_icmp, read_network, read_ports, read_protocol

_CREATE = re.compile(r"create (\S+) (hash|bitmap|list):(\S+)(?: |$)")

_DIMENSIONS = {"ip": "address", "net": "address", "port": "port", "iface": "interface", "set": "set"}
"""What each part of a set's type looks up; others (mac, mark) are not modelled."""

Value = Addresses | ServiceTerm | InterfaceName | Named


def recognise(file: ExportFile) -> str | None:
    """Why a file looks like the output of `ipset save`."""
    for number, line in enumerate(file.lines[:20], 1):
        if found := _CREATE.match(line):
            return f"line {number} creates the set '{found[1]}'"
    return None


class _Open(Struct):
    """A set while its entries are read."""

    name: str
    dimensions: tuple[str, ...]
    where: Span
    family: int
    bare_ports: bool
    complete: bool
    entries: list[SetEntry] = field(default_factory=list)


def read(file: ExportFile, ledger: LedgerBuilder) -> tuple[SetObject, ...]:
    """All sets of a file. What is not understood goes to the ledger, and its set counts as not completely known."""
    sets: dict[str, _Open] = {}
    for number, line in enumerate(file.lines, 1):
        where = file.span(number)
        words = split_words(line)
        if not words:
            continue
        if words[0].startswith("#"):
            ledger.set_aside(where, "comment")
        elif words[0] == "create" and (found := _CREATE.match(line)):
            sets[found[1]] = _created(found[1], found[2], found[3].split(","), words[3:], where)
            ledger.read(where)
        elif words[0] == "add" and len(words) > 2 and words[1] in sets:
            _add(sets[words[1]], words, where, ledger)
        else:
            ledger.unread(where, "is neither the creation of a set nor an entry of one created above")
    return tuple(SetObject(s.name, s.dimensions, tuple(s.entries), s.where, s.complete) for s in sets.values())


def _created(name: str, storage: str, parts: list[str], options: list[str], where: Span) -> _Open:
    dimensions = tuple(_DIMENSIONS.get(part, part) for part in parts)
    known = all(part in _DIMENSIONS for part in parts)
    # Entries with a timeout come and go; what was there when the set was saved tells nothing for certain.
    return _Open(
        name, dimensions, where, 6 if "inet6" in options else 4, storage == "bitmap", known and "timeout" not in options
    )


def _add(one: _Open, words: list[str], where: Span, ledger: LedgerBuilder) -> None:
    parts = words[2].split(",")
    if len(parts) != len(one.dimensions):
        ledger.unread(where, f"has {len(parts)} parts where set '{one.name}' looks up {len(one.dimensions)}")
        one.complete = False
        return
    try:
        values = tuple(_value(d, part, one) for d, part in zip(one.dimensions, parts, strict=True))
    except NotUnderstoodError as error:
        ledger.unread(where, f"{error.message}; the set counts as not completely known")
        one.complete = False
        return
    one.entries.append(SetEntry(values, "nomatch" in words[3:]))
    ledger.read(where)


def _value(dimension: str, text: str, one: _Open) -> Value:
    match dimension:
        case "address":
            found = read_network(text) if "/" in text or "-" not in text else read_address_range(text)
            if isinstance(found, MaskedAddress):
                raise NotUnderstoodError(f"'{text}' is not a network with a prefix length")
            return found
        case "port":
            return _port(text, one)
        case "interface":
            return InterfaceName(text)
        case "set":
            return Named(NameKind.SET, text)
        case _:
            raise NotUnderstoodError(f"'{text}': sets by {dimension} are not modelled")


def _port(text: str, one: _Open) -> ServiceTerm:
    """``tcp:80``, ``udp:53``, ``icmp:echo-request``, ``vrrp:0``; a bare number in a set of ports alone is any protocol's."""
    protocol, colon, rest = text.partition(":")
    if not colon:
        ports = read_ports(text, "-")
        return ServiceTerm(Numbers(0, 255) if one.bare_ports else Numbers(6, 6), (), (ports,))
    number = read_protocol(protocol)
    if number.first in (1, 58):
        return ServiceTerm(number, icmp=(read_icmp(rest, one.family),))
    if number.first not in (6, 17, 132, 136):
        return ServiceTerm(number)
    return ServiceTerm(number, (), (read_ports(rest, "-"),))

"""Reader for the output of `ipset save` (ipset(8), version 7), which stands beside an iptables dump."""

from __future__ import annotations

import re
from collections.abc import Iterable
from itertools import pairwise

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.model import (
    Addresses,
    FillSet,
    InterfaceName,
    MaskedAddress,
    Named,
    NameKind,
    NotUnderstoodError,
    Numbers,
    Rulebase,
    ServiceTerm,
    SetEntry,
    SetObject,
    Span,
)
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.literals import read_address_range, read_icmp, read_network, read_ports, read_protocol
from aiguille.readers.quoting import split_words

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
    bits: int | None = None
    entries: list[SetEntry] = field(default_factory=list)


def as_filled(held: Iterable[SetObject], rulebases: Iterable[Rulebase]) -> tuple[SetObject, ...]:
    """The sets, those that rules fill or empty as not completely known: what is listed is what they held at that moment."""
    filled = {
        effect.name
        for base in rulebases
        for _, rule in base.rules()
        for effect in rule.effects
        if isinstance(effect, FillSet)
    }
    return tuple(replace(one, complete=False) if one.name in filled else one for one in held)


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
            sets[found[1]] = _created(found[1], found[2], found[3].split(","), words[3:], where, ledger)
            ledger.read(where)
        elif words[0] == "add" and len(words) > 2 and words[1] in sets:
            _add(sets[words[1]], words, where, ledger)
        else:
            ledger.unread(where, "is neither the creation of a set nor an entry of one created above")
    return tuple(
        SetObject(s.name, s.dimensions, tuple(s.entries), s.where, s.complete and not _nested(s)) for s in sets.values()
    )


_SIZES = ("family", "hashsize", "maxelem", "bucketsize", "initval", "range", "size", "netmask")
"""Options of a set that are followed by a word and say nothing on what is in it, but for the mask."""

_PLAIN = ("counters", "comment", "forceadd")
_COUNTS = ("packets", "bytes", "comment", "timeout")
"""What stands with an entry and says nothing on what it holds."""


def _created(
    name: str, storage: str, parts: list[str], options: list[str], where: Span, ledger: LedgerBuilder
) -> _Open:
    dimensions = tuple(_DIMENSIONS.get(part, part) for part in parts)
    complete = all(part in _DIMENSIONS for part in parts)
    family, bits, at = 4, None, 0
    while at < len(options):
        word = options[at]
        value = options[at + 1] if at + 1 < len(options) else ""
        if word == "family":
            family = 6 if value == "inet6" else 4
        elif word == "netmask" and value.isdecimal() and value.isascii() and len(value) < 4:
            bits = int(value)
        elif word not in (*_SIZES, *_PLAIN):
            # Entries with a timeout come and go; another option may change what an entry holds.
            complete = False
            if word not in ("timeout",):
                ledger.problem(
                    where, f"option '{word}' of set '{name}' is not modelled; the set counts as not completely known"
                )
            break
        at += 1 if word in _PLAIN else 2
    return _Open(name, dimensions, where, family, storage == "bitmap", complete, bits)


def _add(one: _Open, words: list[str], where: Span, ledger: LedgerBuilder) -> None:
    parts = words[2].split(",")
    if len(parts) != len(one.dimensions):
        ledger.unread(where, f"has {len(parts)} parts where set '{one.name}' looks up {len(one.dimensions)}")
        one.complete = False
        return
    options = words[3:]
    excluded = wildcard = False
    while options:
        word = options.pop(0)
        if word == "nomatch":
            excluded = True
        elif word == "wildcard":
            wildcard = True
        elif word in _COUNTS and options:
            options.pop(0)
        else:
            ledger.unread(where, f"option '{word}' of an entry is not modelled; the set counts as not completely known")
            one.complete = False
            return
    try:
        values = [tuple(_value(d, part, one, wildcard) for d, part in zip(one.dimensions, parts, strict=True))]
    except NotUnderstoodError as error:
        ledger.unread(where, f"{error.message}; the set counts as not completely known")
        one.complete = False
        return
    if one.bare_ports and one.dimensions == ("port",):
        # A bitmap of ports holds those of TCP and UDP (ipset(8)).
        values = [(_with_protocol(found, number),) for (found,) in values for number in (6, 17)]
    one.entries += [SetEntry(found, excluded) for found in values]
    ledger.read(where)


def _with_protocol(value: Value, number: int) -> Value:
    return (
        ServiceTerm(Numbers(number, number), (), value.destination_ports) if isinstance(value, ServiceTerm) else value
    )


def _nested(one: _Open) -> bool:
    """Whether networks of a set by network and interface hold one another: of those that hold a packet only the narrowest
    counts, whatever its interface (ipset(8), hash:net,iface), which is not modelled."""
    if "interface" not in one.dimensions or "address" not in one.dimensions:
        return False
    at = one.dimensions.index("address")
    nets = sorted({(v.first, v.last) for e in one.entries if isinstance(v := e.values[at], Addresses)})
    return any(later[0] <= earlier[1] for earlier, later in pairwise(nets))


def _value(dimension: str, text: str, one: _Open, wildcard: bool = False) -> Value:
    match dimension:
        case "address":
            found = read_network(text) if "/" in text or "-" not in text else read_address_range(text)
            if isinstance(found, MaskedAddress):
                raise NotUnderstoodError(f"'{text}' is not a network with a prefix length")
            return found if one.bits is None else _masked(found, one)
        case "port":
            return _port(text, one)
        case "interface":
            if ":" in text:
                raise NotUnderstoodError(f"'{text}': ports of bridges are not modelled")
            return InterfaceName(text, wildcard)
        case "set":
            return Named(NameKind.SET, text)
        case _:
            raise NotUnderstoodError(f"'{text}': sets by {dimension} are not modelled")


def _masked(found: Addresses, one: _Open) -> Addresses:
    """The network that an entry stands for in a set with a netmask."""
    free = (1 << ((32 if found.family == 4 else 128) - (one.bits or 0))) - 1
    return Addresses(found.family, found.first & ~free, found.last | free)


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

"""What the parts of the engine that build a device have in common."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from aiguille.model import (
    Addresses,
    AddressObject,
    MaskedAddress,
    Named,
    NameKind,
    NotUnderstoodError,
    Numbers,
    ServiceTerm,
    Setting,
    State,
    default,
    stated,
    unknown,
)
from aiguille.readers.files import LedgerBuilder
from aiguille.readers.literals import (
    read_address,
    read_address_range,
    read_icmp,
    read_network,
    read_ports,
    read_protocol,
)
from aiguille.readers.mapped.spec import Dialect, Scalar, Where
from aiguille.readers.mapped.tree import Node, Token
from aiguille.readers.mapped.values import Extractor, read_seconds, spec

_UNITS = {"seconds": 1, "minutes": 60, "hours": 3600, "days": 86400}


class Part:
    """Takes values out of one device's tree as a dialect says.

    addresses: address objects by name, once they are read
    ignored: statements the dialect sets aside, by identity
    """

    addresses: Mapping[str, AddressObject] = {}
    ignored: frozenset[Node] = frozenset()

    def __init__(self, dialect: Dialect, get: Extractor) -> None:
        self.dialect = dialect
        self.get = get
        self.root: Node = get.place.node
        self.ledger: LedgerBuilder = get.ledger

    def read_all(self, node: Node, where: Where | None, read: Callable[[str], Any]) -> list[Any]:
        return self.read_tokens(self.get.tokens(node, where) or (), read)

    def read_tokens(self, tokens: Sequence[Token], read: Callable[[str], Any]) -> list[Any]:
        out = []
        for token in tokens:
            try:
                out.append(read(token.text))
            except NotUnderstoodError as error:
                self.ledger.unread(token.where, error.message)
        return out

    def duration(self, node: Node, where: Where | None, unit: str, bare: str) -> Setting[float]:
        """A time in `unit`; a number alone counts what the dialect says, `bare` otherwise."""

        def read(value: Scalar) -> float:
            if value == math.inf:
                return math.inf
            counted = (spec(where).unit if where is not None else None) or bare
            return read_seconds(value, counted) / _UNITS[unit]

        return self.get.setting(node, where, read)

    def allowed_sources(self, node: Node, where: Where | None) -> Setting[tuple[Addresses, ...]]:
        """Addresses somebody or something is restricted to: empty where any will do, unknown where nothing shows."""
        if where is None:
            return unknown()
        value = spec(where)
        before = self.ledger.unread_entries
        found = self.get.tokens(node, where)
        if self.ledger.unread_entries > before:
            return unknown()
        if found is not None:
            read: list[Addresses] = []
            for token in found:
                got = self.literals(token)
                if got is None:
                    return unknown()
                read += got
            return stated(tuple(read), found[0].where if found else node.head)
        sources = (value.source,) if isinstance(value.source, str) else value.source or ()
        if any(self.get.nodes(node, path) for path in sources):
            return stated((), node.head)
        return default((), node.head) if value.missing is not None else unknown()

    def is_whole(self, node: Node) -> bool:
        """Whether a mapping has asked for everything a statement says."""
        return not self.get.spare(node) and all(
            child in self.ignored or (child.touched() and self.is_whole(child)) for child in node.children
        )

    def literals(self, token: Token) -> list[Addresses] | None:
        """The addresses a word stands for, by itself or as the name of an object; None if that is not all known."""
        if token.text in self.addresses:
            return self._members(token.text, ())
        try:
            one = read_members(token.text)
        except NotUnderstoodError as error:
            self.ledger.unread(token.where, error.message)
            return None
        if isinstance(one, MaskedAddress):
            self.ledger.unread(token.where, f"'{token.text}': a mask with holes is not understood here")
            return None
        return [one]

    def single(self, name: str) -> Addresses | None:
        """The addresses of an object that is one stretch of them, None for all others."""
        found = self._members(name, ())
        return found[0] if found is not None and len(found) == 1 else None

    def _members(self, name: str, path: tuple[str, ...]) -> list[Addresses] | None:
        one = self.addresses.get(name)
        if one is None or one.unresolved or one.excluded or name in path:
            return None
        out: list[Addresses] = []
        for member in one.members:
            found = self._members(member.name, (*path, name)) if isinstance(member, Named) else [member]
            if found is None or any(isinstance(a, MaskedAddress) for a in found):
                return None
            out += [a for a in found if isinstance(a, Addresses)]
        return out


def read_members(text: str) -> Addresses | MaskedAddress:
    """An address, a network, or a range with a hyphen."""
    if "/" in text:
        return read_network(text)
    if "-" in text:
        return read_address_range(text)
    family, value = read_address(text)
    return Addresses(family, value, value)


def read_member_or_name(text: str) -> Addresses | MaskedAddress | Named:
    """An address, a network, a range, or else the name of an object."""
    try:
        return read_members(text)
    except NotUnderstoodError:
        return Named(NameKind.ADDRESS, text)


def read_port_range(text: str) -> Numbers:
    """A port, or a range with a hyphen or colon."""
    return read_ports(text, "-" if "-" in text else ":")


def read_service(text: str) -> tuple[ServiceTerm, ...] | None:
    """``tcp/443``, ``443/tcp``, ``udp:5000-5010``, ``TCP 80``, ``80 (tcp)``, ``icmp``: a protocol, with ports or without; None for
    other shapes.

    Raises NotUnderstoodError where the shape fits and a part does not.
    """
    if "," in text:
        return _services(text)
    text = _together(text)
    head, sign, tail = text.partition("/") if "/" in text else text.partition(":")
    head, tail = head.strip(), tail.strip()
    if sign and head[:1].isdigit() and not tail[:1].isdigit():
        head, tail = tail, head
    try:
        protocol = read_protocol(head) if not head.isdecimal() else None
    except NotUnderstoodError:
        return None
    if protocol is None:
        return None
    if not sign:
        return (ServiceTerm(protocol),)
    if protocol.first in (1, 58) and protocol.last == protocol.first:
        return (ServiceTerm(protocol, icmp=(read_icmp(tail, 6 if protocol.first == 58 else 4),)),)
    return (ServiceTerm(protocol, (), (read_port_range(tail),)),)


_APART = re.compile(
    r"(?i)(?:(tcp|udp|sctp)[ _-]+(\d+(?:\s*-\s*\d+)?)|(\d+(?:\s*-\s*\d+)?)\s*[( ]\s*(tcp|udp|sctp)\s*\)?)"
)
"""A protocol and its ports with a blank between them, or in brackets."""


def _together(text: str) -> str:
    apart = _APART.fullmatch(text.strip())
    if apart is None:
        return text
    return f"{apart[1] or apart[4]}/{''.join((apart[2] or apart[3]).split())}"


def _services(text: str) -> tuple[ServiceTerm, ...] | None:
    """``tcp/80,443`` and ``tcp/80, udp/53``: a number alone is of the protocol before it."""
    out: list[ServiceTerm] = []
    head = ""
    for part in filter(None, (_together(part.strip()) for part in text.split(","))):
        alone = part.replace("-", "").replace(" ", "").isdigit()
        found = read_service(f"{head}/{part}" if alone and head else part)
        if found is None:
            return None
        out += found
        head = head if alone else re.split("[/:]", part)[0].strip()
        head = re.split("[/:]", part)[1].strip() if head.isdigit() and not alone else head
    return tuple(out) or None


def read_state(value: object) -> Numbers:
    try:
        number = State(str(value).lower()).number
    except ValueError as error:
        raise NotUnderstoodError(f"'{value}' is no state of a connection ({', '.join(State)})") from error
    return Numbers(number, number)

"""What the parts of the engine that build a device have in common."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from aiguille.model import (
    Addresses,
    MaskedAddress,
    NotUnderstoodError,
    Numbers,
)
from aiguille.readers.files import LedgerBuilder
from aiguille.readers.literals import read_address_range, read_network, read_ports
from aiguille.readers.mapped.spec import (
    Dialect,
    Where,
)
from aiguille.readers.mapped.tree import Node, Token
from aiguille.readers.mapped.values import (
    Extractor,
)


class Part:
    """Takes values out of one tree as a dialect says."""

    def __init__(self, dialect: Dialect, root: Node, get: Extractor, ledger: LedgerBuilder) -> None:
        self.dialect = dialect
        self.root = root
        self.get = get
        self.ledger = ledger

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


def read_members(text: str) -> Addresses | MaskedAddress:
    """An address, a network, or a range with a hyphen."""
    return read_address_range(text) if "-" in text else read_network(text)


def read_port_range(text: str) -> Numbers:
    """A port, or a range with a hyphen."""
    return read_ports(text, "-")

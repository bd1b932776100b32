"""The tree of an export as its describer sees it: paths as one would write them, and what the mapping took."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from aiguille.model import Secret
from aiguille.model.masking import MASK, mask_secrets
from aiguille.readers.files import ExportFile
from aiguille.readers.mapped.build import with_tree
from aiguille.readers.mapped.paths import quoted
from aiguille.readers.mapped.spec import Dialect, Structure
from aiguille.readers.mapped.starting.family import guess
from aiguille.readers.mapped.tree import Node, Token


class Twig(Struct, frozen=True):
    """A statement of the tree.

    path: from the top of the file, as a dialect writes it
    words: its own words, secrets masked, each with whether the mapping took it
    taken: whether the mapping asked for the statement, or set it aside
    """

    path: str
    depth: int
    line: int
    words: tuple[tuple[str, bool], ...]
    taken: bool


class Outline(Struct, frozen=True):
    """A tree, how it was made, and whether a mapping has gone over it."""

    structure: Structure
    twigs: tuple[Twig, ...]
    mapped: bool


def outline(file: ExportFile, dialect: Dialect | None = None) -> Outline:
    """The tree of a sample by a dialect, with what its mapping took; without one by the structure that fits best.

    Raises UnreadableError where the structure does not fit.
    """
    if dialect is None:
        guessed = guess(file)
        return Outline(guessed.structure, tuple(_twigs(guessed.tree.root, "", 0, frozenset())), mapped=False)
    reading, root, _ = with_tree(dialect, [file])
    secrets = frozenset(secret for device in reading.devices for secret in device.secrets)
    return Outline(dialect.structure, tuple(_twigs(root, "", 0, secrets)), mapped=True)


def _twigs(node: Node, above: str, depth: int, secrets: frozenset[Secret]) -> Iterator[Twig]:
    for child in node.children:
        path = f"{above}/{quoted(child.name)}" if above else quoted(child.name)
        words = tuple((_shown(word, secrets), word.used) for word in child.words)
        yield Twig(path, depth, child.first, words, child.touched())
        yield from _twigs(child, path, depth + 1, secrets)


def _shown(word: Token, secrets: frozenset[Secret]) -> str:
    """A word in one line, masked where it is secret or looks so."""
    hidden = any(one in secrets for one in word.secrets())
    return MASK if hidden else mask_secrets(word.text.replace("\n", " "))

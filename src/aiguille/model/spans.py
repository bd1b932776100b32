"""Where something is written: files with their digests, and spans of lines in them."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True, order=True)
class Span:
    """Lines `first` to `last` of `file`, both included, counted from 1."""

    file: str
    first: int
    last: int

    def __str__(self) -> str:
        return f"{self.file}:{self.first}"


@dataclass(frozen=True, slots=True, order=True)
class Secret:
    """Columns `start` (included) to `stop` (excluded), from 0, of a line whose text must never reach an output."""

    file: str
    line: int
    start: int
    stop: int


@dataclass(frozen=True, slots=True)
class Source:
    """One file of an export, as it was when it was read.

    The lines are kept, so that the evidence shown is the text whose digest is stated, even if the file changes
    or goes away before the report is written.
    """

    path: str
    sha256: str
    size: int
    lines: tuple[str, ...] = field(repr=False, compare=False, default=())

    @classmethod
    def of(cls, path: str, data: bytes, lines: tuple[str, ...]) -> Source:
        """Describe `data` read from `path`, `lines` being its decoded form."""
        return cls(path, hashlib.sha256(data).hexdigest(), len(data), lines)

"""Where something is written: files with their digests, and spans of lines in them."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True, order=True)
class Span:
    """Lines `first` to `last` of `file`, both included, counted from 1.

    start, stop: where several statements share a line, the columns from 0 at which this one starts in its first line and
        stops (excluded) in its last; both 0 for whole lines
    """

    file: str
    first: int
    last: int
    start: int = 0
    stop: int = 0

    @property
    def column(self) -> int | None:
        """The column, from 1, if the span does not begin its line; None for whole lines."""
        return self.start + 1 if self.stop else None

    def __str__(self) -> str:
        return f"{self.file}:{self.first}:{self.start + 1}" if self.stop else f"{self.file}:{self.first}"


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

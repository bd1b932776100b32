"""Where something is written: files with their digests, and spans of lines in them."""

from __future__ import annotations

import hashlib

from msgspec import Struct


class Span(Struct, frozen=True, order=True):
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

    def holds(self, other: Span) -> bool:
        """Whether another span lies within this one."""
        if self.file != other.file or not self.first <= other.first <= other.last <= self.last:
            return False
        if not (self.stop and other.stop):
            return True
        starts = other.first > self.first or other.start >= self.start
        return starts and (other.last < self.last or other.stop <= self.stop)

    def __str__(self) -> str:
        return f"{self.file}:{self.first}:{self.start + 1}" if self.stop else f"{self.file}:{self.first}"


class Secret(Struct, frozen=True, order=True):
    """Columns `start` (included) to `stop` (excluded), from 0, of a line whose text must never reach an output."""

    file: str
    line: int
    start: int
    stop: int


class Source(Struct, frozen=True):
    """One file of an export, as it was when it was read.

    The lines are kept, so that the evidence shown is the text whose digest is stated, even if the file changes
    or goes away before the report is written.
    """

    path: str
    sha256: str
    size: int
    lines: tuple[str, ...] = ()

    def __eq__(self, other: object) -> bool:
        """The digest stands for the lines."""
        if not isinstance(other, Source):
            return NotImplemented
        return (self.path, self.sha256, self.size) == (other.path, other.sha256, other.size)

    def __hash__(self) -> int:
        return hash((self.path, self.sha256, self.size))

    def __repr__(self) -> str:
        return f"Source(path={self.path!r}, sha256={self.sha256!r}, size={self.size!r})"

    @classmethod
    def of(cls, path: str, data: bytes, lines: tuple[str, ...]) -> Source:
        """Describe `data` read from `path`, `lines` being its decoded form."""
        return cls(path, hashlib.sha256(data).hexdigest(), len(data), lines)

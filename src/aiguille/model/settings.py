"""Facts a check may ask for, with how firmly they are known."""

from __future__ import annotations

from enum import StrEnum
from typing import Generic, TypeVar

from msgspec import Struct

from aiguille.model.spans import Span

T = TypeVar("T")


class Known(StrEnum):
    """How a setting came to be known."""

    STATED = "stated"
    DEFAULT = "default"
    UNKNOWN = "unknown"


class Setting(Struct, Generic[T], frozen=True):
    """A fact with its standing: stated in the export, implied by the make's documented default, or unknown.

    `where` is the line that states it; a default carries the span of the nearest block it would stand in, or None.
    """

    _value: T | None = None
    standing: Known = Known.UNKNOWN
    where: Span | None = None

    @property
    def known(self) -> bool:
        return self.standing is not Known.UNKNOWN

    @property
    def value(self) -> T:
        """The value; asking an unknown setting for it is a mistake in the asking code and raises LookupError."""
        if self.standing is Known.UNKNOWN:
            raise LookupError("this setting is unknown; ask `known` first")
        return self._value  # type: ignore[return-value]


def stated(value: T, where: Span) -> Setting[T]:
    """A setting written in the export at `where`."""
    return Setting(value, Known.STATED, where)


def default(value: T, where: Span | None = None) -> Setting[T]:
    """A setting the export leaves to the make's documented default."""
    return Setting(value, Known.DEFAULT, where)


def unknown() -> Setting[T]:
    """A setting the export says nothing about."""
    return Setting()

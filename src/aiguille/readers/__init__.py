"""Exports into devices. `NATIVE` is the table of readers; a new one is a module and a line there.

A reader is imported, and the dialects that come with the package are read, when a file asks for them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import partial
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from aiguille.model import Device, NotRecognisedError, UsageError
from aiguille.readers.bundle import is_wanted, layout, place_of_zone, recognise_places
from aiguille.readers.files import PACKED, ExportFile, begins_packed, decode, left_behind, load, loaded, printable

if TYPE_CHECKING:
    from aiguille.readers import mapped

HOST = "linux-host"
"""The format of bundles, which are recognised by how their files lie."""


class Format(Struct, frozen=True):
    """A kind of export.

    recognise: why a file looks like one, None if it does not
    read: the files of one export and the name of its device (empty: take the export's own) into the devices it describes
    grouped: whether several files may describe one device together; such files go together by name or, for a bundle, by root
    """

    name: str
    make: str
    recognise: Callable[[ExportFile], str | None]
    read: Callable[[Sequence[ExportFile], str], tuple[Device, ...]]
    grouped: bool = False


def _native(name: str, make: str, module: str, *, grouped: bool = False) -> Format:
    """A format whose reader is a module of this package with the functions `recognise` and `read` (of one device)."""

    def reader() -> Any:
        return import_module(f"aiguille.readers.{module}")

    def recognise(file: ExportFile) -> str | None:
        found: str | None = reader().recognise(file)
        return found

    def read(files: Sequence[ExportFile], name: str) -> tuple[Device, ...]:
        return (reader().read(files, name),)

    return Format(name, make, recognise, read, grouped)


NATIVE = (
    _native(HOST, "Linux host", "host"),
    _native("iptables-save", "Linux netfilter (iptables)", "iptables", grouped=True),
    _native("nftables", "Linux netfilter (nftables)", "nftables", grouped=True),
)
"""The open formats, in the order in which a file is tried for them: what programs keep in the words of others first."""


class Formats(Struct, frozen=True):
    """All formats in the order in which they are tried: the dialects given, the open formats, the dialects that come with the
    package. A dialect given stands in for a shipped one of the same name."""

    dialects: tuple[mapped.Dialect, ...] = ()

    def __iter__(self) -> Iterator[Format]:
        yield from map(_described, self.dialects)
        yield from NATIVE
        from aiguille.readers import mapped

        own = {one.dialect for one in self.dialects}
        yield from (_described(one) for one in mapped.shipped() if one.dialect not in own)

    def names(self) -> str:
        """Their names, as messages list them."""
        return ", ".join(one.name for one in self)

    def with_first(self, dialects: Sequence[mapped.Dialect]) -> Formats:
        """The same with more dialects, which are tried before all others."""
        given = {one.dialect for one in dialects}
        return Formats((*dialects, *(one for one in self.dialects if one.dialect not in given)))


def formats(dialects: Sequence[mapped.Dialect] = ()) -> Formats:
    """All formats, with the dialects given before those that come with the package."""
    return Formats(tuple(dialects))


def _described(dialect: mapped.Dialect) -> Format:
    from aiguille.readers import mapped

    return Format(dialect.dialect, dialect.make, partial(mapped.recognise, dialect), partial(mapped.read, dialect))


def load_dialect(path: Path) -> mapped.Dialect:
    """A dialect out of a file; raises UsageError with file, line and what is wrong."""
    from aiguille.readers import mapped
    from aiguille.readers.whole import whole_text

    return mapped.load(str(path), whole_text(path))


def named(name: str, known: Formats | None = None) -> Format:
    """The format of that name; raises UsageError, listing all, if there is none."""
    known = known or formats()
    for one in known:
        if one.name == name:
            return one
    raise UsageError(f"there is no format '{name}'; known are {known.names()}")


def recognise(file: ExportFile, known: Formats | None = None) -> tuple[Format, str]:
    """The format of a file and why it is taken for that; raises UnreadableError if nothing fits."""
    known = known or formats()
    for one in known:
        why = one.recognise(file)
        if why is not None:
            return one, why
    raise NotRecognisedError(
        f"{file.path}:1: the format is not recognised; known are {known.names()}; "
        "name it with --format if this is one of them, or describe it in a dialect file (`aiguille dialect start`)"
    )


__all__ = [
    "HOST",
    "PACKED",
    "ExportFile",
    "Format",
    "Formats",
    "begins_packed",
    "decode",
    "formats",
    "is_wanted",
    "layout",
    "left_behind",
    "load",
    "load_dialect",
    "loaded",
    "named",
    "place_of_zone",
    "printable",
    "recognise",
    "recognise_places",
]

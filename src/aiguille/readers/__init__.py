"""Exports into devices. `FORMATS` is the table of readers; a new one is a module and a line here."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from aiguille.model import Device, UnreadableError, UsageError
from aiguille.readers import host, iptables, mapped, nftables
from aiguille.readers.archives import is_archive, members
from aiguille.readers.bundle import is_wanted, layout
from aiguille.readers.files import ExportFile, decode, load
from aiguille.readers.host import recognise_places
from aiguille.readers.locations import read_locations

HOST = host.NAME
"""The format of bundles, which are recognised by how their files lie."""


@dataclass(frozen=True, slots=True)
class Format:
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


def _alone(
    read: Callable[[Sequence[ExportFile], str], Device],
) -> Callable[[Sequence[ExportFile], str], tuple[Device, ...]]:
    """The reader of a format that tells of one device."""

    def several(files: Sequence[ExportFile], name: str) -> tuple[Device, ...]:
        return (read(files, name),)

    return several


def formats(dialects: Sequence[mapped.Dialect] = ()) -> tuple[Format, ...]:
    """All formats: the dialects given, the open ones, then one for each dialect that comes with the package.

    A dialect given stands in for a shipped one of the same name.
    """
    native = (
        Format(host.NAME, host.MAKE, host.recognise, _alone(host.read)),
        Format(iptables.NAME, iptables.MAKE, iptables.recognise, _alone(iptables.read), grouped=True),
        Format(nftables.NAME, nftables.MAKE, nftables.recognise, _alone(nftables.read), grouped=True),
    )
    own = {d.dialect for d in dialects}
    shipped = [d for d in mapped.shipped() if d.dialect not in own]
    return (*map(_described, dialects), *native, *map(_described, shipped))


def _described(dialect: mapped.Dialect) -> Format:
    return Format(dialect.dialect, dialect.make, partial(mapped.recognise, dialect), partial(mapped.read, dialect))


def load_dialect(path: Path) -> mapped.Dialect:
    """A dialect out of a file; raises UsageError with file, line and what is wrong."""
    try:
        text = path.read_text(encoding="utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        raise UsageError(f"{path}: cannot be read ({error}); name a dialect file, see docs/dialects.md") from error
    return mapped.load(str(path), text)


def named(name: str, known: Sequence[Format] | None = None) -> Format:
    """The format of that name; raises UsageError, listing all, if there is none."""
    known = formats() if known is None else known
    for one in known:
        if one.name == name:
            return one
    raise UsageError(f"there is no format '{name}'; known are {', '.join(f.name for f in known)}")


def recognise(file: ExportFile, known: Sequence[Format] | None = None) -> tuple[Format, str]:
    """The format of a file and why it is taken for that; raises UnreadableError if nothing fits."""
    known = formats() if known is None else known
    for one in known:
        why = one.recognise(file)
        if why is not None:
            return one, why
    raise UnreadableError(
        f"{file.path}:1: the format is not recognised; known are {', '.join(f.name for f in known)}; "
        "name it with --format if this is one of them, or describe it in a dialect file (`aiguille dialect start`)"
    )


__all__ = [
    "HOST",
    "ExportFile",
    "Format",
    "decode",
    "formats",
    "is_archive",
    "is_wanted",
    "layout",
    "load",
    "load_dialect",
    "members",
    "named",
    "read_locations",
    "recognise",
    "recognise_places",
]

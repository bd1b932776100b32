"""A compiled copy of location data in the user's cache folder, so that a file of a million networks is walked through once.

The copy goes by the content of the files, holds nothing else, and may be deleted at any time. What is wrong with it, or
with the folder, only means that the files are read themselves.
"""

from __future__ import annotations

import hashlib
import os
import sys
import tempfile
from array import array
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from zlib import crc32

import msgspec

from aiguille.model import Ranges, Wide

_FORM = "ranges of countries, 2"
LEAST = 1 << 20
"""Bytes of location data from which a copy is worth its place."""
_HEAD = 4
"""Bytes of the checksum before all else."""


class _Columns(msgspec.Struct):
    """Ranges of one family as columns of unsigned numbers, in the order of this machine's bytes: 4 bytes each for IPv4, twice 8 for
    IPv6 (the upper halves, then the lower), 4 for the number of the country, and 4 for positions country by country."""

    codes: list[str]
    ends: list[int]
    first: bytes
    last: bytes
    country: bytes
    order: bytes


class _Copy(msgspec.Struct):
    families: dict[int, _Columns]
    described: list[str]


def kept(
    digests: Sequence[str], make: Callable[[], tuple[dict[int, Ranges], list[str]]]
) -> tuple[dict[int, Ranges], list[str]]:
    """The ranges of some files and what each file says of itself: out of the copy if there is one, else made, and kept.

    digests: of the files' contents, in their order
    """
    place = _place(digests)
    if place is not None:
        with suppress(OSError, msgspec.DecodeError, ValueError):
            return _load(place.read_bytes(), len(digests))
    blocks, described = make()
    if place is not None:
        with suppress(OSError):
            store(place, _packed(blocks, described))
    return blocks, described


def _place(digests: Sequence[str]) -> Path | None:
    """Where the copy of some files is, None where there is no home to keep it in."""
    folder = cache_folder()
    if folder is None:
        return None
    key = hashlib.sha256("\n".join((f"{_FORM} {sys.byteorder} {array('I').itemsize}", *digests)).encode())
    return folder / f"{key.hexdigest()}.locations"


def cache_folder() -> Path | None:
    """The program's folder for what may be deleted at any time (XDG Base Directory Specification), None where there is no home."""
    said = os.environ.get("XDG_CACHE_HOME", "")
    try:
        return (Path(said) if said.startswith("/") else Path.home() / ".cache") / "aiguille"
    except RuntimeError:
        return None


def store(place: Path, data: bytes) -> None:
    """Write the copy whole or not at all."""
    place.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    handle, name = tempfile.mkstemp(dir=place.parent, prefix=".new-")
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(data)
        Path(name).replace(place)
    except OSError:
        Path(name).unlink(missing_ok=True)
        raise


def _packed(blocks: Mapping[int, Ranges], described: list[str]) -> bytes:
    families = {
        family: _Columns(
            list(held.codes),
            list(held.ends),
            _bytes(held.first),
            _bytes(held.last),
            held.country.tobytes(),
            held.order.tobytes(),
        )
        for family, held in blocks.items()
    }
    body = msgspec.msgpack.encode(_Copy(families, described))
    return crc32(body).to_bytes(_HEAD, "big") + body


def _bytes(column: array[int] | Wide) -> bytes:
    return column.upper.tobytes() + column.lower.tobytes() if isinstance(column, Wide) else column.tobytes()


def _load(data: bytes, files: int) -> tuple[dict[int, Ranges], list[str]]:
    body = memoryview(data)[_HEAD:]
    if crc32(body).to_bytes(_HEAD, "big") != data[:_HEAD]:
        raise ValueError("the copy is damaged")
    copy = msgspec.msgpack.decode(body, type=_Copy)
    if len(copy.described) != files:
        raise ValueError("the copy is of other files")
    blocks = {
        family: Ranges(
            held.codes,
            _column(family, held.first),
            _column(family, held.last),
            array("I", held.country),
            array("I", held.order),
            held.ends,
        )
        for family, held in copy.families.items()
    }
    return blocks, copy.described


def _column(family: int, data: bytes) -> array[int] | Wide:
    if family == 4:
        return array("I", data)
    half = len(data) // 2
    return Wide(array("Q", data[:half]), array("Q", data[half:]))

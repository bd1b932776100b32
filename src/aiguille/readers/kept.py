"""A compiled copy of location data in the user's cache folder, so that a file of a million networks is walked through once.

The copy goes by the content of the files (SHA-256), holds nothing else, and may be deleted at any time. What is wrong with it, or
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
from itertools import repeat
from operator import lshift, or_
from pathlib import Path

import msgspec

from aiguille.model import Block

_FORM = "ranges of countries, 1"
LEAST = 1 << 20
"""Bytes of location data from which a copy is worth its place."""
_LOW = (1 << 64) - 1
_CODES = 1 << 16


class _Ranges(msgspec.Struct):
    """Ranges of one family as columns of unsigned numbers, in the order of this machine's bytes: 4 bytes each for IPv4, twice 8 for
    IPv6 (the upper halves, then the lower), and 2 for the number of the country."""

    first: bytes
    last: bytes
    country: bytes


class _Copy(msgspec.Struct):
    countries: list[str]
    families: dict[int, _Ranges]
    described: list[str]


def kept(
    contents: Sequence[bytes], make: Callable[[], tuple[dict[int, tuple[Block, ...]], list[str]]]
) -> tuple[dict[int, tuple[Block, ...]], list[str]]:
    """The ranges of some files and what each file says of itself: out of the copy if there is one, else made, and kept.

    contents: of the files, in their order
    """
    place = _place(contents)
    if place is not None:
        with suppress(OSError, msgspec.DecodeError, ValueError, IndexError):
            return _load(place.read_bytes(), len(contents))
    blocks, described = make()
    if place is not None:
        with suppress(OSError, ValueError):
            store(place, _packed(blocks, described))
    return blocks, described


def _place(contents: Sequence[bytes]) -> Path | None:
    """Where the copy of some files is, None where there is no home to keep it in."""
    folder = cache_folder()
    if folder is None:
        return None
    key = hashlib.sha256(f"{_FORM} {sys.byteorder} {array('I').itemsize}".encode())
    for content in contents:
        key.update(hashlib.sha256(content).digest())
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


def _packed(blocks: Mapping[int, tuple[Block, ...]], described: list[str]) -> bytes:
    countries = sorted({code for held in blocks.values() for _, _, code in held})
    if len(countries) >= _CODES:
        raise ValueError("there are too many countries")
    number = {code: at for at, code in enumerate(countries)}
    families = {
        family: _Ranges(
            _column(family, [first for first, _, _ in held]),
            _column(family, [last for _, last, _ in held]),
            array("H", [number[code] for _, _, code in held]).tobytes(),
        )
        for family, held in blocks.items()
    }
    body = msgspec.msgpack.encode(_Copy(countries, families, described))
    return hashlib.sha256(body).digest() + body


def _column(family: int, values: list[int]) -> bytes:
    if family == 4:
        return array("I", values).tobytes()
    return array("Q", [v >> 64 for v in values]).tobytes() + array("Q", [v & _LOW for v in values]).tobytes()


def _load(data: bytes, files: int) -> tuple[dict[int, tuple[Block, ...]], list[str]]:
    body = data[32:]
    if hashlib.sha256(body).digest() != data[:32]:
        raise ValueError("the copy is damaged")
    copy = msgspec.msgpack.decode(body, type=_Copy)
    if len(copy.described) != files:
        raise ValueError("the copy is of other files")
    blocks: dict[int, tuple[Block, ...]] = {}
    for family, held in copy.families.items():
        country = array("H", held.country)
        first, last = _values(family, held.first), _values(family, held.last)
        blocks[family] = tuple(zip(first, last, map(copy.countries.__getitem__, country), strict=True))
    return blocks, copy.described


def _values(family: int, data: bytes) -> Sequence[int]:
    if family == 4:
        return array("I", data)
    half = len(data) // 2
    return list(map(or_, map(lshift, array("Q", data[:half]), repeat(64)), array("Q", data[half:])))

"""Archives of exports, .tar.gz and the like or .zip, read into memory: nothing is unpacked to disk and nothing leads out."""

from __future__ import annotations

import bz2
import gzip
import lzma
import tarfile
import zipfile
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path, PurePosixPath
from typing import IO

from msgspec import Struct

from aiguille.model import UnreadableError
from aiguille.readers.workbook import is_workbook

MEMBER_LIMIT = 10_000
"""An archive with more members is not an export but a whole disk."""
TOTAL_LIMIT = 512 * 1024 * 1024
"""Bytes all members may have together."""
EXPANSION_LIMIT = 200
"""How many times its own size an archive may unpack to; text packs to a twentieth, rarely less."""
EXPANSION_FREE = 8 * 1024 * 1024
"""Bytes that are not held against a small archive."""


class Member(Struct, frozen=True):
    """One regular file of an archive, or why a member is left out (data is then None)."""

    name: str
    data: bytes | None
    why: str = ""


def is_archive(path: Path) -> bool:
    """Whether a file is an archive that can be read, by its content."""
    try:
        if not path.is_file() or is_workbook(_head(path)):
            return False
        return zipfile.is_zipfile(path) or _begins_as_tar(path)
    except (EOFError, zlib.error, lzma.LZMAError):
        return True  # packed, but damaged: `members` says so
    except OSError:
        return False


def _head(path: Path) -> bytes:
    with path.open("rb") as file:
        return file.read(4096)


_PACKERS: dict[bytes, Callable[[Path], IO[bytes]]] = {
    b"\x1f\x8b": gzip.open,  # type: ignore[dict-item]
    b"BZh": bz2.open,
    b"\xfd7zXZ": lzma.open,
}
"""What unpacks a file, by how it begins (RFC 1952; the formats of bzip2 and xz)."""


def _unpacked(path: Path) -> IO[bytes]:
    head = _head(path)
    opener = next((one for mark, one in _PACKERS.items() if head.startswith(mark)), None)
    return opener(path) if opener is not None else path.open("rb")


def _begins_as_tar(path: Path) -> bool:
    """Whether the first block is the header of a member: its sum is right. Nothing beyond it is unpacked."""
    with _unpacked(path) as packed:
        block = packed.read(tarfile.BLOCKSIZE)
    try:
        tarfile.TarInfo.frombuf(block, tarfile.ENCODING, "surrogateescape")
    except tarfile.HeaderError:
        return bool(block) and not block.strip(b"\0")  # an archive without members
    return True


class _Counted:
    """What an archive unpacks to, read on; beyond what may be taken it is refused, whatever a header says of it."""

    def __init__(self, packed: IO[bytes], budget: _Budget) -> None:
        self._packed, self._budget, self._read = packed, budget, 0

    def read(self, size: int) -> bytes:
        self._read += size
        if self._read > self._budget.allowed + _SLACK:
            raise UnreadableError(
                f"{self._budget.path}: unpacks to more than {self._budget.allowed} bytes, more than exports do; nothing of it is read"
            )
        return self._packed.read(size)


_SLACK = 1 << 20
"""Bytes that headers and padding may take beside the members."""


def members(path: Path) -> list[Member]:
    """All members in order of name.

    Raises UnreadableError for an archive that is damaged, holds too many members, unpacks to too much, or has a member whose
    name would lead out of it: whoever packed that had something else in mind than an export.
    """
    try:
        found = list(_zip(path) if zipfile.is_zipfile(path) else _tar(path))
    except (
        tarfile.TarError,
        zipfile.BadZipFile,
        zlib.error,
        lzma.LZMAError,
        EOFError,
        OSError,
        RuntimeError,
        NotImplementedError,
    ) as error:
        raise UnreadableError(f"{path}: the archive cannot be read ({error}); pack it again") from error
    return sorted(found, key=lambda one: one.name)


def _zip(path: Path) -> Iterator[Member]:
    budget = _Budget(path)
    with zipfile.ZipFile(path) as archive:
        for info in archive.infolist():
            name = budget.name(info.filename)
            if info.is_dir():
                continue
            if (info.external_attr >> 16) & 0o170000 == 0o120000:
                yield Member(name, None, "is a link; what it leads to is not followed")
                continue
            budget.take(info.file_size, name)
            with archive.open(info) as stream:
                data = stream.read(info.file_size + 1)
            if len(data) > info.file_size:
                raise UnreadableError(f"{path}: member '{name}' is larger than the archive says; pack it again")
            yield Member(name, data)


def _tar(path: Path) -> Iterator[Member]:
    budget = _Budget(path)
    with _unpacked(path) as packed, tarfile.open(fileobj=_Counted(packed, budget), mode="r|") as archive:  # type: ignore[call-overload]
        for info in archive:
            name = budget.name(info.name)
            if info.isdir():
                continue
            if info.issym() or info.islnk():
                yield Member(name, None, f"is a link to '{info.linkname}'; what it leads to is not followed")
                continue
            if not info.isfile():
                yield Member(name, None, "is not a regular file")
                continue
            budget.take(info.size, name)
            stream = archive.extractfile(info)
            if stream is not None:
                yield Member(name, stream.read())


class _Budget:
    """Counts members and bytes against the limits."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.allowed = min(TOTAL_LIMIT, max(EXPANSION_FREE, EXPANSION_LIMIT * path.stat().st_size))
        self.members = self.taken = 0
        self.names: set[str] = set()

    def name(self, name: str) -> str:
        self.members += 1
        if self.members > MEMBER_LIMIT:
            raise UnreadableError(f"{self.path}: holds more than {MEMBER_LIMIT} members; pack the exports alone")
        parts = PurePosixPath(name.replace("\\", "/"))
        if parts.is_absolute() or ".." in parts.parts or (parts.parts and parts.parts[0].endswith(":")):
            raise UnreadableError(f"{self.path}: member '{name}' would lead out of the archive; nothing of it is read")
        return str(parts)

    def take(self, size: int, name: str) -> None:
        if name in self.names:
            raise UnreadableError(f"{self.path}: holds '{name}' twice, and nothing shows which counts; pack it again")
        self.names.add(name)
        self.taken += size
        if self.taken > self.allowed:
            raise UnreadableError(
                f"{self.path}: unpacks to more than {self.allowed} bytes (at member '{name}'), more than exports do; "
                "nothing of it is read"
            )

"""Archives of exports, .tar.gz and the like or .zip, read into memory: nothing is unpacked to disk and nothing leads out."""

from __future__ import annotations

import lzma
import tarfile
import zipfile
import zlib
from collections.abc import Iterator
from pathlib import Path, PurePosixPath

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
        return zipfile.is_zipfile(path) or tarfile.is_tarfile(path)
    except (EOFError, zlib.error, lzma.LZMAError):
        return True  # packed, but damaged: `members` says so
    except OSError:
        return False


def _head(path: Path) -> bytes:
    with path.open("rb") as file:
        return file.read(4096)


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
            yield Member(name, archive.read(info))


def _tar(path: Path) -> Iterator[Member]:
    budget = _Budget(path)
    with tarfile.open(path) as archive:
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

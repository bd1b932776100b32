"""Files read whole that are no exports: configuration, tables, location data. What never ends is refused instead of read."""

from __future__ import annotations

import stat
from pathlib import Path

from aiguille.model import UsageError

LIMIT = 2 << 30
"""Bytes beyond which no such file is read."""


def whole(path: str | Path, what: str = "", *, piped: bool = False) -> bytes:
    """The bytes of a regular file.

    what: it is called in the sentence that says what is wrong; piped: a pipe will do as well, as shells make of ``<(command)``

    Raises UsageError for a path that is missing, cannot be read, is no such file or too large.
    """
    cannot = f"{what} cannot be read".lstrip()
    try:
        described = Path(path).stat()
        pipe = piped and stat.S_ISFIFO(described.st_mode) and str(path).startswith(("/dev/fd/", "/proc/self/fd/"))
        if not (stat.S_ISREG(described.st_mode) or pipe):
            raise UsageError(f"{path}: {cannot} (it is not a regular file)")
        if described.st_size > LIMIT:
            raise UsageError(f"{path}: {cannot} ({described.st_size} bytes are more than such a file can have)")
        return Path(path).read_bytes()
    except OSError as error:
        raise UsageError(f"{path}: {cannot} ({error.strerror})") from error


def whole_text(path: str | Path, what: str = "") -> str:
    """The text of a regular file in UTF-8; errors as for `whole`."""
    try:
        return whole(path, what).decode("utf-8-sig").replace("\r\n", "\n").replace("\r", "\n")
    except UnicodeDecodeError as error:
        raise UsageError(f"{path}: cannot be read ({error})") from error

"""Writing reports to files: whole or not at all, and never over an existing one unasked."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path

from aiguille.model import UsageError

_SHORT = 60
"""Letters of a file's name in that of the temporary one, which must not be longer than names may be."""


Content = str | bytes | Iterator[str] | Iterator[bytes]
"""What a file is to hold; what may be long comes piece by piece."""


def refuse_existing(path: Path, *, force: bool = False) -> None:
    """Raises UsageError if there is a file already and `force` is not given."""
    try:
        there = path.exists()
    except OSError as error:
        raise UsageError(f"{path}: cannot be written ({error.strerror})") from error
    if there and not force:
        raise UsageError(f"{path}: exists already; name another file or add --force to replace it")


def write_whole(path: Path, content: Content, *, force: bool = False) -> None:
    """Write a file through a temporary one beside it, so that no half-written file is ever seen.

    Raises UsageError if it exists and `force` is not given, or if it cannot be written.
    """
    import tempfile  # most runs write no file

    refuse_existing(path, force=force)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, temporary = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name[:_SHORT]}.")
        try:
            with os.fdopen(handle, "wb") as file:
                file.writelines(pieces(content))
                file.flush()
                os.fsync(handle)  # what replaces a report must be on the disk before it does
            mask = os.umask(0)
            os.umask(mask)
            os.chmod(temporary, 0o666 & ~mask)
            os.replace(temporary, path)
        except BaseException:
            os.unlink(temporary)
            raise
    except OSError as error:
        raise UsageError(f"{path}: cannot be written ({error.strerror})") from error


Writer = Callable[[], Content]


def ending_of(path: Path, known: Iterable[str]) -> str:
    """The ending of a file's name, the longest of those known that fits; raises UsageError, listing them, if none does."""
    fitting = [ending for ending in known if path.name.lower().endswith(ending)]
    if not fitting:
        raise UsageError(f"{path}: the ending names the format; known are {', '.join(sorted(known))}")
    return max(fitting, key=len)


def pieces(content: Content) -> Iterator[bytes]:
    """What a writer made, as it goes to a file."""
    if isinstance(content, bytes):
        yield content
    elif isinstance(content, str):
        yield content.encode()
    else:
        yield from (one if isinstance(one, bytes) else one.encode() for one in content)


def as_bytes(content: Content) -> bytes:
    """The same in one piece."""
    return b"".join(pieces(content))

"""The sample estate: Valdrane Lifts, a made-up operator of cable cars, with faults planted on purpose."""

from __future__ import annotations

from importlib import resources
from importlib.resources.abc import Traversable
from pathlib import Path

from aiguille.model import UsageError

_FOLDER = "valdrane"
_LATER = "quarter"
"""What was exported anew for the re-test, a quarter later."""


def files(*, later: bool = False) -> dict[str, bytes]:
    """Every file of the estate by its path below the folder, in order.

    later: as it was a quarter later, when the valley's gateway and the huts were mended and exported again
    """
    out: dict[str, bytes] = {}

    def collect(folder: Traversable, prefix: str) -> None:
        for entry in sorted(folder.iterdir(), key=lambda e: e.name):
            if entry.is_dir():
                collect(entry, f"{prefix}{entry.name}/")
            else:
                out[prefix + entry.name] = entry.read_bytes()

    collect(resources.files("aiguille.demo") / _FOLDER, "")
    if later:
        collect(resources.files("aiguille.demo") / _LATER, "")
    return out


def write_estate(folder: Path, *, force: bool = False, later: bool = False) -> None:
    """Write the estate, or with `later` what it was a quarter on; files that are there must be the same, or `force` replaces them.

    Raises UsageError otherwise, before anything is written.
    """
    from aiguille.reports.files import write_whole

    content = files(later=later)
    for name, data in content.items():
        path = folder / name
        if path.exists() and not force and (not path.is_file() or path.read_bytes() != data):
            raise UsageError(
                f"{path}: exists and differs from the sample; name another folder or add --force to replace it"
            )
    for name, data in content.items():
        path = folder / name
        if not path.exists() or path.read_bytes() != data:
            write_whole(path, data, force=True)

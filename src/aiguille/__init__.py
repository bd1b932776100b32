"""Aiguille audits exported firewall configurations.

>>> import aiguille
>>> estate = aiguille.read(["exports/"])
>>> audit = aiguille.audit(estate)

Nothing heavy is imported before it is used.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

from aiguille._version import __version__

if TYPE_CHECKING:
    from aiguille.baseline import Audit
    from aiguille.model import Estate


def read(
    paths: Iterable[str | Path],
    *,
    format: str | None = None,
    dialects: Iterable[str | Path] = (),
    as_of: date | None = None,
) -> Estate:
    """Read exports, folders of exports and engagement files; see `aiguille.estate.read`."""
    from aiguille.estate import read as read_estate

    return read_estate(paths, format=format, dialects=dialects, as_of=as_of)


def audit(estate: Estate) -> Audit:
    """Check an estate against the built-in baseline."""
    from aiguille.baseline import CATALOGUE, run

    return run(estate, CATALOGUE)


__all__ = ["__version__", "audit", "read"]

"""Aiguille audits exported firewall configurations.

>>> import aiguille
>>> estate = aiguille.read(["exports/"])
>>> audit = aiguille.audit(estate)

Nothing heavy is imported before it is used.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

from aiguille._version import __version__

if TYPE_CHECKING:
    from aiguille.baseline import Audit, Baseline
    from aiguille.model import Estate


def read(
    paths: Iterable[str | Path],
    *,
    format: str | None = None,
    dialects: Iterable[str | Path] = (),
    as_of: date | None = None,
    geo: Iterable[str | Path] = (),
) -> Estate:
    """Read exports, folders of exports and engagement files; see `aiguille.estate.read`."""
    from aiguille.estate import read as read_estate

    return read_estate(paths, format=format, dialects=dialects, as_of=as_of, geo=geo)


def audit(
    estate: Estate,
    baseline: Baseline | str | None = None,
    *,
    accepted: str | None = None,
    jobs: int = 1,
    progress: Callable[[int, int], None] | None = None,
) -> Audit:
    """Check an estate against a baseline.

    baseline: one that was loaded, the name of a shipped one or the path of a file; default: the engagement's, else "standard"
    accepted: path of a file of accepted risks; default: the engagement's, if it names one
    jobs, progress: see `aiguille.baseline.run`

    Raises UsageError for a faulty baseline or file of accepted risks.
    """
    from aiguille.baseline import CATALOGUE, STANDARD, load, run
    from aiguille.baseline import accepted as risks

    if baseline is None or isinstance(baseline, str):
        baseline = load(baseline or estate.baseline or STANDARD, CATALOGUE)
    path = accepted or estate.accepted
    entries = risks.load(path, baseline.catalogue) if path else ()
    return risks.apply(run(estate, baseline, jobs=jobs, progress=progress), entries)


__all__ = ["__version__", "audit", "read"]

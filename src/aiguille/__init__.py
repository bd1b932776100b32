"""Aiguille audits exported firewall configurations.

>>> import aiguille
>>> estate = aiguille.read(["exports/"])
>>> audit = aiguille.audit(estate)

Nothing heavy is imported before it is used.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

from aiguille._version import __version__

if TYPE_CHECKING:
    from aiguille.analysis import Answer, StandingReport
    from aiguille.baseline import Audit, Baseline
    from aiguille.model import Addresses, Estate, Side


def read(
    paths: str | Path | Iterable[str | Path],
    *,
    format: str | None = None,
    dialects: str | Path | Iterable[str | Path] = (),
    as_of: date | None = None,
    geo: str | Path | Iterable[str | Path] = (),
    sides: Mapping[str, Side] | None = None,
    administrators: Iterable[Addresses] = (),
    progress: Callable[[int, int], None] | None = None,
) -> Estate:
    """Read exports, folders of exports and engagement files; see `aiguille.estate.read`."""
    from aiguille.estate import read as read_estate

    return read_estate(
        paths,
        format=format,
        dialects=dialects,
        as_of=as_of,
        geo=geo,
        sides=sides,
        administrators=administrators,
        progress=progress,
    )


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
    return risks.apply(run(estate, baseline, jobs=jobs, progress=progress), entries).folded()


def probe(estate: Estate, packet: str, *, device: str | None = None) -> Answer:
    """Which rule decides a packet, and the walk that leads there.

    packet: a sentence such as "tcp from 203.0.113.9:41000 to 192.0.2.10:443 entering eth0"; what is left out means any
    device: its name, where the estate has several

    Raises UsageError for a sentence that is not understood, naming the word, and for a device that is not there.
    """
    from aiguille.analysis import Prober, Programs, answer
    from aiguille.analysis.lookup import one_device
    from aiguille.space import read_sentence

    return answer(Prober(Programs(one_device(estate, device))), read_sentence(packet))


def standings(estate: Estate, *, device: str | None = None, jobs: int = 1) -> tuple[StandingReport, ...]:
    """What each rule of a device is worth where it stands; see `aiguille.analysis.standing`.

    device: its name, where the estate has several

    Raises UsageError for a device that is not there.
    """
    from aiguille.analysis import Programs
    from aiguille.analysis import standings as all_standings
    from aiguille.analysis.lookup import one_device

    return all_standings(Programs(one_device(estate, device)), jobs)


def write(audit: Audit, path: str | Path, *, force: bool = False, jobs: int = 1) -> None:
    """Write a report whole; the ending of the name tells the format, as for the option ``--out`` of `aiguille audit`.

    force: replace the file if it exists
    jobs: processes to share the devices among, for reports that show every rule

    Raises UsageError for an unknown ending and for a file that exists or cannot be written.
    """
    from aiguille.reports.outputs import write as write_report

    write_report(audit, Path(path), force=force, jobs=jobs)


__all__ = ["__version__", "audit", "probe", "read", "standings", "write"]

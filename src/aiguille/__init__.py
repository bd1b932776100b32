"""Aiguille audits exported firewall configurations.

>>> import aiguille
>>> estate = aiguille.read(["exports/"])
>>> audit = aiguille.audit(estate)

Nothing heavy is imported before it is used.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

from aiguille._version import __version__

if TYPE_CHECKING:
    from aiguille.analysis.endtoend import EndToEnd
    from aiguille.analysis.flows import Matrix
    from aiguille.analysis.paths import Path as Path_
    from aiguille.analysis.standing import StandingReport
    from aiguille.analysis.walk.answers import Answer
    from aiguille.baseline import Audit, Baseline
    from aiguille.baseline.claims import Judged
    from aiguille.baseline.comparing import Comparison
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
    answers: str | None = None,
    claims: str | None = None,
    jobs: int = 1,
    progress: Callable[[int, int], None] | None = None,
    devices: Collection[str] | None = None,
) -> Audit:
    """Check an estate against a baseline.

    baseline: one that was loaded, the name of a shipped one or the path of a file; default: the engagement's, else "standard"
    accepted: path of a file of accepted risks; default: the engagement's, if it names one
    answers: path of a file of the auditee's answers; default: `answers.toml` beside the engagement, if there is one
    claims: path of a file of claims, of which those refuted are findings; default: `claims.yaml` beside the engagement, if there is one
    jobs, progress, devices: see `aiguille.baseline.run`

    Raises UsageError for a faulty baseline, file of accepted risks, file of answers or file of claims.
    """
    from aiguille.baseline import CATALOGUE
    from aiguille.baseline.asked import asked, audited

    meant = asked(estate, CATALOGUE, baseline, accepted=accepted, answers=answers, claims=claims)
    return audited(estate, meant, jobs=jobs, progress=progress, devices=devices)


def probe(estate: Estate, packet: str, *, device: str | None = None) -> Answer:
    """Which rule decides a packet, and the walk that leads there.

    packet: a sentence such as "tcp from 203.0.113.9:41000 to 192.0.2.10:443 entering eth0"; what is left out means any;
        "at Sat 23:30" at its end decides rules that hold at hours
    device: its name, where the estate has several

    Raises UsageError for a sentence that is not understood, naming the word, and for a device that is not there.
    """
    from aiguille.analysis.hours import device_at, read_moment, split_moment
    from aiguille.analysis.lookup import one_device
    from aiguille.analysis.program import Programs
    from aiguille.analysis.walk.answers import answer
    from aiguille.analysis.walk.probe import Prober
    from aiguille.packets import read_sentence

    sentence, moment = split_moment(packet)
    asked = one_device(estate, device)
    if moment is not None:
        asked = device_at(asked, read_moment(moment))
    return answer(Prober(Programs(asked)), read_sentence(sentence))


def as_if(estate: Estate, changes: str | Iterable[str]) -> Estate:
    """The estate as if something were changed; see `aiguille.analysis.changes` for the sentences.

    changes: sentences, commands of iptables or nft, or files of them, made one after the other

    Raises UsageError for a change that is not understood or names nothing there is.
    """
    from aiguille.estate.wordings import changed

    return changed(estate, [changes] if isinstance(changes, str) else changes)


def flows(estate: Estate, *, device: str | None = None) -> Matrix:
    """Who reaches whom on a device; see `aiguille.analysis.flows`.

    device: its name, where the estate has several

    Raises UsageError for a device that is not there.
    """
    from aiguille.analysis.flows import matrix
    from aiguille.analysis.lookup import one_device
    from aiguille.analysis.program import Programs
    from aiguille.analysis.study import Study

    chosen = one_device(estate, device)
    return matrix(Study(chosen, estate, Programs(chosen)))


def end_to_end(estate: Estate) -> EndToEnd:
    """Who reaches whom between zones of different devices, over every device on the way; see `aiguille.analysis.endtoend`."""
    from aiguille.analysis.endtoend import end_to_end as pairs
    from aiguille.analysis.reach import Reaches

    return pairs(Reaches(estate))


def claims(estate: Estate, file: str | Path) -> tuple[Judged, ...]:
    """Statements that must hold, each decided on every device it speaks of; see `aiguille.baseline.claims`.

    file: of claims (YAML), or a matrix of who may reach whom (CSV, XLSX)

    Raises UsageError, with file and line, for a claim that is not understood or names what is nowhere.
    """
    from aiguille.baseline.claims import judged, load

    return judged(estate, load(str(file)))


def compare(before: Estate, after: Estate, *, findings: bool = True, jobs: int = 1) -> Comparison:
    """What newly opens or closes between two estates, and what was rewritten; see `aiguille.baseline.comparing`.

    findings: whether both are audited, which takes most of the time
    jobs: processes to share that among

    Raises UsageError if no device is on both sides.
    """
    from aiguille.baseline.comparing import compare as compared

    return compared(before, after, (lambda estate: audit(estate, jobs=jobs)) if findings else None)


def path(estate: Estate, packet: str) -> Path_:
    """A packet followed over all devices of an estate, and its answer followed back; see `aiguille.analysis.paths`.

    packet: a sentence that shows both addresses and the service, and no interface

    Raises UsageError for a sentence that is not understood, and where nothing shows at which device the packet starts.
    """
    from aiguille.analysis.network import Network
    from aiguille.analysis.paths import Follower
    from aiguille.packets import read_sentence
    from aiguille.packets.unplaced import complete

    return Follower(Network(estate)).path(complete(read_sentence(packet, placed=False)))


def standings(estate: Estate, *, device: str | None = None, jobs: int = 1) -> tuple[StandingReport, ...]:
    """What each rule of a device is worth where it stands; see `aiguille.analysis.standing`.

    device: its name, where the estate has several

    Raises UsageError for a device that is not there.
    """
    from aiguille.analysis.lookup import one_device
    from aiguille.analysis.program import Programs
    from aiguille.analysis.standing import standings as all_standings

    return all_standings(Programs(one_device(estate, device)), jobs)


def write(audit: Audit, path: str | Path, *, force: bool = False, jobs: int = 1) -> None:
    """Write a report whole; the ending of the name shows the format, as for the option ``--out`` of `aiguille audit`.

    force: replace the file if it exists
    jobs: processes to share the devices among, for reports that show every rule

    Raises UsageError for an unknown ending and for a file that exists or cannot be written.
    """
    from aiguille.reports.outputs import write as write_report

    write_report(audit, Path(path), force=force, jobs=jobs)


__all__ = [
    "__version__",
    "as_if",
    "audit",
    "claims",
    "compare",
    "end_to_end",
    "flows",
    "path",
    "probe",
    "read",
    "standings",
    "write",
]

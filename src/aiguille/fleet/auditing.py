"""An audit of many devices: exports read and devices checked by a crew, what is done kept, and the whole put together."""

from __future__ import annotations

import errno
import sqlite3
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing
from functools import lru_cache
from pathlib import Path
from typing import overload

from msgspec.structs import replace

from aiguille.analysis.outlines import Outline, Surroundings, set_outlines, set_surroundings, surroundings_of
from aiguille.baseline import claims
from aiguille.baseline.accepted import notes_on
from aiguille.baseline.audit import Audit
from aiguille.baseline.findings import Acceptance, Finding, order
from aiguille.baseline.running import claims_alone
from aiguille.baseline.tailoring import Baseline
from aiguille.estate.finding import Job
from aiguille.estate.reading import Knowledge, check_sides, estate_of, read_job, unique
from aiguille.fleet.assembled import Assembled, ManyAudit, many
from aiguille.fleet.crew import Crew, Turn
from aiguille.fleet.results import Results, decoded, digest, digest_of_check, digest_of_job, digest_of_terms, encoded
from aiguille.fleet.tasks import Checked, Order, Read, settled
from aiguille.model import Device, Estate, UsageError

Progress = Callable[[str, int, int], None]
"""Called with what is done ("exports" or "devices"), how many of it are done, and how many there are."""


class Devices(Sequence[Device]):
    """The devices of an estate, each read again when it is asked for."""

    def __init__(self, jobs: Sequence[Job], known: Knowledge, places: Sequence[tuple[int, int, str]]) -> None:
        """places: of each device the number of its export, which of that it is, and its name"""
        self._places = places
        self._read = lru_cache(4)(lambda number: read_job(jobs[number], known))

    def __len__(self) -> int:
        return len(self._places)

    @overload
    def __getitem__(self, at: int) -> Device: ...
    @overload
    def __getitem__(self, at: slice) -> Sequence[Device]: ...
    def __getitem__(self, at: int | slice) -> Device | Sequence[Device]:
        if isinstance(at, slice):
            return tuple(self[one] for one in range(*at.indices(len(self))))
        job, which, name = self._places[at]
        return replace(self._read(job)[which], name=name)


def audit(order: Order, crew: Crew, kept: Path | None = None, progress: Progress | None = None) -> ManyAudit:
    """Audit what was gathered; the same findings, bytes of reports included, as an audit of the whole estate at once.

    kept: a file for what is done of each device, made if it is not there; what stands in it already is not done again

    Raises UsageError for a file that cannot be used, where there is no room for what is found, and as claims and stated sides do.
    """
    told = progress or (lambda stage, number, total: None)
    with closing(Results(kept)) as results, crew:
        try:
            return _Auditing(order, crew, results, told).audit()
        except sqlite3.Error as error:
            raise UsageError(f"{_NO_ROOM} ({error}){_ROOM}") from error
        except OSError as error:
            if error.errno not in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG):
                raise
            raise UsageError(f"{_NO_ROOM} ({error.strerror}){_ROOM}") from error


_NO_ROOM = "what is found cannot be kept in the temporary folder"
_ROOM = "; let the variable TMPDIR name one with more room"


class _Auditing:
    def __init__(self, order: Order, crew: Crew, results: Results, told: Progress) -> None:
        self._order = order
        self._crew = crew
        self._results = results
        self._told = told
        self._terms = digest_of_terms(order)
        self._jobs = [digest_of_job(job, self._terms) for job in order.gathered.jobs]

    def audit(self) -> ManyAudit:
        asked, terms, gathered = self._order.asked, self._order.terms, self._order.gathered
        every: list[Outline] = []
        places: list[tuple[int, int, str]] = []
        notes: list[str] = []
        taken: set[str] = set()
        for number, found in enumerate(self._read()):
            if found.failure is not None:
                gathered.failures.append(found.failure)
            for at, (one, said) in enumerate(zip(found.outlines, found.notes, strict=True)):
                name = unique(one.name, taken)
                taken.add(name)
                notes += [f"{name}{note.removeprefix(one.name)}" for note in said]
                every.append(replace(one, name=name))
                places.append((number, at, name))
        check_sides(terms.known.sides, every)
        around = surroundings_of(every)
        devices = Devices(gathered.jobs, terms.known, places)
        estate = estate_of(gathered, devices, notes, terms.known.locations, terms.as_of)
        set_outlines(estate, every)
        set_surroundings(estate, around)
        turns = [Turn(job, at, name) for job, at, name in places]
        groups = {id(group): digest(repr(group)) for group in around.siblings.values()}
        keys = [
            digest_of_check(self._jobs[turn.job], turn.at, one, around, groups)
            for turn, one in zip(turns, every, strict=True)
        ]
        self._check(turns, keys, around)
        assembled = Assembled(every, around)
        raised = self._claimed(estate)
        set_aside: list[tuple[Finding, Acceptance]] = []
        used: set[int] = set()
        for number, (one, key) in enumerate(zip(every, keys, strict=True)):
            done = self._done(number, key)
            if raised:
                done = settled(_joined(done, raised[number], terms.baseline), terms)
            elif not terms.whole:
                done = settled(done, terms)
            assembled.add(one, done)
            set_aside += [(found, terms.acceptances[at]) for found, at in done.accepted]
            used.update(done.used)
        assembled.finish(asked.kept)
        homeless = claims.homeless(estate, asked.stated) if asked.stated else ()
        said = (*homeless, *notes_on(terms.acceptances, used, estate.as_of))
        whole = Audit(estate, (), (), terms.baseline, tuple(set_aside), said, asked.kept.replies)
        return many(whole, assembled)

    def _read(self) -> Iterator[Read]:
        """What every export holds, in order."""
        total = len(self._jobs)
        known = {number: found for number, key in enumerate(self._jobs) if (found := self._results.get(key, Read))}
        missing = [number for number in range(total) if number not in known]
        for count, (number, found) in enumerate(self._crew.read(missing), 1 + len(known)):
            known[number] = found
            if found.failure is None:
                self._results.put(self._jobs[number], encoded(found))
            self._told("exports", count, total)
        self._results.write()
        return (known[number] for number in range(total))

    def _check(self, turns: Sequence[Turn], keys: Sequence[bytes], around: Surroundings) -> None:
        """Have every device checked that is not yet."""
        missing = [number for number, key in enumerate(keys) if not self._results.has(key)]
        wanted = [turns[number] for number in missing]
        for count, (at, body) in enumerate(self._crew.check(wanted, around), 1 + len(turns) - len(wanted)):
            self._results.put(keys[missing[at]], body)
            self._told("devices", count, len(turns))
        self._results.write()

    def _done(self, number: int, key: bytes) -> Checked:
        body = self._results.body(key)
        if body is None:
            raise LookupError(f"the results of device {number} are gone")
        return decoded(body)

    def _claimed(self, estate: Estate) -> list[Checked]:
        """What claims make of each device; nothing where there are none. They ask for devices whole."""
        if not self._order.asked.stated:
            return []
        stated = digest("claims", repr(self._order.asked.stated), *self._jobs)
        keys = [digest(stated, number) for number in range(len(estate.devices))]
        known = [done for key in keys if (done := self._results.get(key, Checked)) is not None]
        if len(known) == len(keys):
            return known
        whole = replace(estate, devices=tuple(estate.devices))
        made = [Checked(tuple(found), tuple(said)) for said, found in claims_alone(whole, self._order.terms.baseline)]
        for key, done in zip(keys, made, strict=True):
            self._results.put(key, encoded(done))
        return made


def _joined(one: Checked, other: Checked, baseline: Baseline) -> Checked:
    """What two runs of checks say of a device, as one run of all would."""
    place = {check.id: at for at, check in enumerate(baseline.catalogue)}
    outcomes = sorted((*one.outcomes, *other.outcomes), key=lambda said: place[said.check])
    return Checked(tuple(sorted((*one.findings, *other.findings), key=order)), tuple(outcomes))

"""Who does the work on exports and devices: processes of this machine, or, in `cluster`, those of others."""

from __future__ import annotations

import os
import tempfile
from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager
from functools import partial
from types import TracebackType

from msgspec import Struct
from msgspec.structs import replace

from aiguille.analysis.outlines import Surroundings
from aiguille.analysis.sharing import share
from aiguille.estate.finding import Job
from aiguille.estate.reading import read_job, unpacked
from aiguille.fleet.results import encoded
from aiguille.fleet.tasks import Read, Terms, check, read
from aiguille.model import Device

CHUNK = 8
"""Exports or devices a process takes at a time."""


class Turn(Struct, frozen=True):
    """A device whose turn it is: which of which export, and what it is called.

    job: the place of its export among the jobs; at: which of the export's devices it is
    """

    job: int
    at: int
    name: str


class Crew(AbstractContextManager["Crew"], ABC):
    """Reads exports and checks devices."""

    def __init__(self, jobs: Sequence[Job], terms: Terms) -> None:
        self.jobs = jobs
        self.terms = terms

    @abstractmethod
    def read(self, wanted: Sequence[int]) -> Iterator[tuple[int, Read]]:
        """What some exports hold, in any order. The crew keeps their devices until they are checked."""

    @abstractmethod
    def check(self, turns: Sequence[Turn], around: Surroundings) -> Iterator[tuple[int, bytes]]:
        """What the baseline says of devices, as `results.encoded` makes it, in any order: their places in `turns`.

        around: what their checks ask of all the others
        """

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        """Let everything go."""


class Here(Crew):
    """Processes of this machine. Devices that were read wait in a file that nobody else can open."""

    def __init__(self, jobs: Sequence[Job], terms: Terms, processes: int) -> None:
        super().__init__(jobs, terms)
        self._processes = processes
        self._waiting = tempfile.TemporaryFile()  # noqa: SIM115 - open for as long as the crew is
        self._places: dict[int, tuple[int, int]] = {}
        self._end = 0

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._waiting.close()

    def read(self, wanted: Sequence[int]) -> Iterator[tuple[int, Read]]:
        work = partial(_read, self)
        for number, (found, devices) in zip(wanted, share(work, wanted, self._processes, CHUNK), strict=True):
            self._waiting.write(devices)
            self._places[number] = (self._end, len(devices))
            self._end += len(devices)
            yield number, found
        self._waiting.flush()

    def check(self, turns: Sequence[Turn], around: Surroundings) -> Iterator[tuple[int, bytes]]:
        yield from enumerate(share(partial(_check, self, around), turns, self._processes, CHUNK))

    def devices(self, number: int) -> list[Device]:
        """The devices of an export, as they wait, or read again."""
        if number not in self._places:
            return read_job(self.jobs[number], self.terms.known)
        start, size = self._places[number]
        return unpacked(os.pread(self._waiting.fileno(), size, start))


def _read(crew: Here, number: int) -> tuple[Read, bytes]:
    return read(crew.jobs[number], crew.terms.known)


def _check(crew: Here, around: Surroundings, turn: Turn) -> bytes:
    device = replace(crew.devices(turn.job)[turn.at], name=turn.name)
    return encoded(check(device, around, crew.terms))

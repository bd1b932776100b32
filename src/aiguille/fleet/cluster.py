"""The work on exports and devices shared among the machines of a Dask cluster (extra ``cluster``; https://distributed.dask.org).

The scheduler is running already, and workers have this version of aiguille installed. A device stays on the worker that read its
export until it is checked; what a worker that dies held is read again by another. Exports are opened by workers where they are, in a
folder all machines share; to workers that do not see one it is sent.
"""

from __future__ import annotations

import hashlib
import logging
import socket
import sys
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import CancelledError
from contextlib import suppress
from pathlib import Path
from time import monotonic, sleep
from types import TracebackType
from typing import TYPE_CHECKING, Any

from msgspec import Struct
from msgspec.structs import replace

from aiguille._version import __version__
from aiguille.analysis.outlines import Surroundings
from aiguille.estate.engagement import DeviceEntry
from aiguille.estate.finding import Job
from aiguille.estate.reading import unpacked
from aiguille.fleet.crew import Crew, Turn
from aiguille.fleet.results import encoded
from aiguille.fleet.tasks import Read, Terms, check, read
from aiguille.model import UsageError
from aiguille.readers import ExportFile, Formats, formats, left_behind, loaded, mapped, named

if TYPE_CHECKING:
    from distributed import Client, Future

WAIT = 20
"""Seconds for which a scheduler is waited for, and a worker where there is none."""

GRACE = 5
"""Seconds for which a worker is waited for where there are some of another version."""

LOOK = 2.0
"""Seconds after which it is looked again which workers there are."""

AHEAD = 16
"""Tasks a thread of a worker has before it: enough that it never waits, and few enough that a scheduler keeps up."""

_log = logging.getLogger("aiguille")

Dialects = tuple[tuple[str, str], ...]
"""Dialect files beside those that come with the package: name and text."""


class Parcel(Struct, frozen=True):
    """An export as it is sent: its format by name, its files with their lines or to be opened there."""

    name: str
    files: tuple[ExportFile, ...]
    form: str
    why: str
    entry: DeviceEntry | None


class Unseen(Struct, frozen=True):
    """Said by a worker that does not see an export, or sees another in its place."""


Held = tuple[Read, bytes] | Unseen
"""What stays on the worker that read an export: what is said of it, and its devices."""


# What runs on workers.

_orders: dict[str, tuple[Terms, Formats, Surroundings]] = {}
"""On a worker, what devices are held to, for each client."""


def version() -> str:
    """What must be the same here and on a worker."""
    return f"{__version__} under Python {sys.version_info[0]}.{sys.version_info[1]}"


def take_orders(client: str, terms: Terms, dialects: Dialects, around: Surroundings) -> None:
    """Know what the devices of a client are held to."""
    _orders[client] = (terms, formats([mapped.load(name, text) for name, text in dialects]), around)


def forget_orders(client: str) -> None:
    """Let go what a client said."""
    _orders.pop(client, None)


def read_there(one: Parcel, client: str) -> Held:
    """Read an export."""
    terms, known, _ = _orders[client]
    if not all(map(_is_there, one.files)):
        return Unseen()
    return read(Job(one.name, one.files, named(one.form, known), one.why, one.entry), terms.known)


def _is_there(file: ExportFile) -> bool:
    if not file.left:
        return True
    try:
        return hashlib.sha256(Path(file.origin).read_bytes()).hexdigest() == file.source.sha256
    except OSError:
        return False


def told(held: Held) -> Read | Unseen:
    """What is said of an export that was read; its devices stay where they are."""
    return held if isinstance(held, Unseen) else held[0]


def check_there(held: Held, turn: Turn, client: str) -> bytes | Unseen:
    """Check a device of an export that was read."""
    if isinstance(held, Unseen):
        return held
    terms, _, around = _orders[client]
    return encoded(check(replace(unpacked(held[1])[turn.at], name=turn.name), around, terms))


# What runs here.


class _Task(Struct, frozen=True):
    """Something workers do. crews: the workers that may do it, and those that may do what it needs to be done before"""

    future: Future
    crews: tuple[frozenset[str], ...]


class Elsewhere(Crew):
    """The workers of a cluster."""

    def __init__(self, jobs: Sequence[Job], terms: Terms, address: str, dialects: Sequence[tuple[str, str]]) -> None:
        """Raises UsageError where there is no scheduler, or no worker that has this version."""
        super().__init__(jobs, terms)
        self._address = address
        self._client = _connected(address)
        self._orders = (terms, tuple(dialects), Surroundings({4: (), 6: ()}, frozenset(), {}))
        self._workers: dict[str, int] = {}
        self._refused: set[str] = set()
        self._looked = 0.0
        self._sent: set[int] = set()
        self._held: dict[int, _Task] = {}
        try:
            self._await_worker()
        except BaseException:
            self._client.close()
            raise

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._held.clear()
        with suppress(OSError):  # whoever has gone away holds nothing more
            if self._workers and self._client.status == "running":
                self._client.run(forget_orders, self._client.id, workers=[*self._workers], on_error="ignore")
            self._client.close()

    def read(self, wanted: Sequence[int]) -> Iterator[tuple[int, Read]]:
        yield from self._done(wanted, self._reading, lambda number: number)

    def check(self, turns: Sequence[Turn], around: Surroundings) -> Iterator[tuple[int, bytes]]:
        self._orders = (*self._orders[:2], around)
        self._instruct([*self._workers])
        left: dict[int, int] = {}
        for turn in turns:
            left[turn.job] = left.get(turn.job, 0) + 1

        def checking(number: int) -> _Task:
            turn = turns[number]
            if turn.job not in self._held:  # its outline was known, so nobody has read it in this run
                self._reading(turn.job)
            return self._submit(check_there, turn, self._client.id, after=self._held[turn.job])

        for number, body in self._done(range(len(turns)), checking, lambda number: turns[number].job):
            job = turns[number].job
            left[job] -= 1
            if not left[job]:
                self._held.pop(job, None)  # its devices may go
            yield number, body

    def _reading(self, number: int) -> _Task:
        sent = number in self._sent
        files = tuple(map(loaded if sent else left_behind, self.jobs[number].files))
        job = self.jobs[number]
        one = Parcel(job.name, files, job.format.name, job.why, job.entry)
        self._held[number] = self._submit(read_there, one, self._client.id)
        return self._submit(told, after=self._held[number])

    def _submit(self, work: Callable[..., Any], *given: object, after: _Task | None = None) -> _Task:
        """after: the task whose result is the first of what is given"""
        first = () if after is None else (after.future,)
        future = self._client.submit(work, *first, *given, workers=[*self._workers], pure=False)
        return _Task(future, (frozenset(self._workers), *(() if after is None else after.crews)))

    def _done(
        self, wanted: Sequence[int], begin: Callable[[int], _Task], job_of: Callable[[int], int]
    ) -> Iterator[tuple[int, Any]]:
        """The results of tasks as they come. Those whose workers are all gone are begun again, as are those of an export that no
        worker sees, which is then sent."""
        waiting = [*reversed(wanted)]
        running: dict[Future, tuple[int, _Task]] = {}

        def again(number: int) -> None:
            self._held.pop(job_of(number), None)
            waiting.append(number)

        while waiting or running:
            self._await_worker()
            for future, (number, task) in [*running.items()]:
                if any(crew.isdisjoint(self._workers) for crew in task.crews) and not future.done():
                    del running[future]
                    again(number)
            room = AHEAD * sum(self._workers.values()) - len(running)
            for _ in range(min(room, len(waiting))):
                number = waiting.pop()
                task = begin(number)
                running[task.future] = (number, task)
            for future in self._finished(running):
                number, task = running.pop(future)
                if future.status in ("cancelled", "lost"):
                    again(number)
                    continue
                try:
                    result = self._result(future, job_of(number))
                except TimeoutError:  # lost on its way here: it is done once more, by those who may
                    running[future] = (number, task)
                    continue
                if isinstance(result, Unseen):
                    self._sent.add(job_of(number))
                    again(number)
                else:
                    yield number, result

    def _finished(self, running: dict[Future, tuple[int, _Task]]) -> list[Future]:
        from distributed import wait

        if not running:
            return []
        try:
            with self._client.as_current():
                return list(wait(list(running), timeout=LOOK, return_when="FIRST_COMPLETED").done)
        except TimeoutError:
            return []
        except CancelledError:  # the scheduler forgot some, or has gone away, which shows when it is asked for workers
            return [one for one in running if one.cancelled()]

    def _result(self, future: Future, job: int) -> Any:
        """Raises TimeoutError where it does not come, and UsageError where it could not be made."""
        try:
            return future.result(WAIT)
        except Exception as error:
            if isinstance(error, TimeoutError) and future.status != "error":
                raise  # nobody did anything wrong: the result is not here
            path = self.jobs[job].files[0].path
            raise UsageError(
                f"{path}: the cluster could not do its part ({type(error).__name__}: {str(error)[:200]}); what is done of the "
                "others is kept where --resume names a file"
            ) from error

    def _await_worker(self) -> None:
        """See which workers there are, and wait for one if there is none; raises UsageError where none comes."""
        began = monotonic()
        while True:
            try:
                self._look()
            except OSError as error:
                raise UsageError(
                    f"{self._address}: the scheduler has gone away ({error}); start it again, and take the audit up with --resume"
                ) from error
            waited = monotonic() - began
            if self._workers:
                return
            if self._refused and waited > GRACE:
                raise UsageError(
                    f"{self._address}: no worker has aiguille {version()}; install it there, or start workers that have it"
                )
            if waited > WAIT:
                raise UsageError(
                    f"{self._address}: this scheduler has no workers; start some with `dask worker {self._address}`"
                )
            sleep(0.2)

    def _look(self) -> None:
        """See which workers there are; those that are new are asked for their version, and instructed or refused."""
        if self._workers and monotonic() - self._looked < LOOK:
            return
        self._looked = monotonic()
        there: dict[str, int] = self._client.nthreads()
        for name in [name for name in self._workers if name not in there]:
            _log.warning("worker %s is gone; what it was at is done by others", name)
            del self._workers[name]
        new = [name for name in there if name not in self._workers and name not in self._refused]
        if not new:
            return
        versions = self._client.run(version, workers=new, on_error="return")
        for name, said in versions.items():
            if said == version():
                self._workers[name] = there[name]
                continue
            self._refused.add(name)
            what = "no aiguille that this one knows" if isinstance(said, Exception) else f"aiguille {said}"
            _log.warning("worker %s is refused: it has %s, and this is %s", name, what, version())
        self._instruct([name for name in new if name in self._workers])

    def _instruct(self, names: list[str]) -> None:
        if names:
            self._client.run(take_orders, self._client.id, *self._orders, workers=names, on_error="ignore")


def _connected(address: str) -> Client:
    try:
        from distributed import Client
    except ImportError as error:
        raise UsageError("--cluster needs Dask: install aiguille[cluster]") from error
    logging.getLogger("distributed").setLevel(logging.CRITICAL)  # what matters of it is said here
    host, _, port = address.rpartition("//")[2].rpartition(":")
    try:
        with socket.create_connection((host.strip("[]"), int(port)), WAIT):
            pass  # where nothing listens, Dask itself would try for as long as it is let
        return Client(address, timeout=WAIT, set_as_default=False)
    except (OSError, OverflowError, ValueError, TypeError) as error:
        raise UsageError(f"{address}: no scheduler answers ({error}); give it as tcp://HOST:8786") from error

"""Sharing work among processes. Forked ones inherit what they work on, so that nothing large is sent to them."""

from __future__ import annotations

import logging
import signal
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, TypeVar

T = TypeVar("T")
Task = TypeVar("Task")


def share(work: Callable[[Task], T], tasks: Sequence[Task], jobs: int, chunk: int = 1) -> Iterator[T]:
    """What `work` makes of each task, in their order; the result does not depend on the number of jobs.

    jobs: processes to start; with fewer than two, or where the system cannot fork, all is done in this one
    chunk: tasks handed out at a time
    """
    if jobs < 2 or len(tasks) < 2:
        yield from map(work, tasks)
        return
    import multiprocessing

    if "fork" not in multiprocessing.get_all_start_methods():
        yield from map(work, tasks)
        return
    from concurrent.futures import ProcessPoolExecutor
    from concurrent.futures.process import BrokenProcessPool

    done = 0
    context = multiprocessing.get_context("fork")
    with ProcessPoolExecutor(min(jobs, len(tasks)), context, _start, (work,)) as pool:
        try:
            with _undisturbed():
                found = pool.map(_do, tasks, chunksize=chunk)
            for one in found:
                yield one
                done += 1
        except BrokenProcessPool:
            broken = True
        else:
            broken = False
        finally:
            if done < len(tasks):
                # Nobody waits for the rest: its reader went away, or a helper was killed.
                for helper in multiprocessing.active_children():
                    helper.terminate()
            pool.shutdown(wait=True, cancel_futures=True)
    if broken:
        # A process was killed, for want of memory most likely; what it left is done here, one after the other.
        logging.getLogger("aiguille").warning("a helping process was killed; the rest is done without such helpers")
        yield from map(work, tasks[done:])


@contextmanager
def _undisturbed() -> Iterator[None]:
    """Let signals that ask to end wait while processes start: Python drops what they raise in what it does after a fork."""
    before = signal.pthread_sigmask(signal.SIG_BLOCK, _ENDING)
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)


_ENDING = {signal.SIGINT, signal.SIGTERM}

_worker: list[Callable[[Any], Any]] = []
"""In a forked process, the work it inherited."""


def _start(work: Callable[[Task], T]) -> None:
    # A helper ends when it is told to, at once and in silence; an interrupt at the keyboard is for the command, which tells it.
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.pthread_sigmask(signal.SIG_UNBLOCK, _ENDING)
    _worker[:] = [work]


def _do(task: Any) -> Any:
    return _worker[0](task)

"""Sharing work among processes. Forked ones inherit what they work on, so that nothing large is sent to them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
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
    with multiprocessing.get_context("fork").Pool(jobs, _start, (work,)) as pool:
        yield from pool.imap(_do, tasks, chunk)


_worker: list[Callable[[Any], Any]] = []
"""In a forked process, the work it inherited."""


def _start(work: Callable[[Task], T]) -> None:
    _worker[:] = [work]


def _do(task: Any) -> Any:
    return _worker[0](task)

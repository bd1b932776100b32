"""Sharing work among processes gives what one process gives, in order."""

from __future__ import annotations

import multiprocessing
import os

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from aiguille.analysis.sharing import share


@settings(max_examples=15)
@given(st.lists(st.integers(), max_size=12), st.integers(0, 3), st.integers(1, 5))
def test_the_result_does_not_depend_on_jobs_or_chunks(numbers: list[int], jobs: int, chunk: int) -> None:
    assert list(share(lambda n: (n, n * n), numbers, jobs, chunk)) == [(n, n * n) for n in numbers]


def test_processes_are_started_where_that_pays() -> None:
    assert {os.getpid()} == set(share(lambda _: os.getpid(), range(8), 1))
    assert os.getpid() not in set(share(lambda _: os.getpid(), range(8), 2))
    assert list(share(lambda _: os.getpid(), range(1), 2)) == [os.getpid()]


def test_a_system_that_cannot_fork_does_it_alone(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(multiprocessing, "get_all_start_methods", lambda: ["spawn"])
    assert set(share(lambda _: os.getpid(), range(4), 4)) == {os.getpid()}


def test_an_error_in_the_work_gets_out() -> None:
    with pytest.raises(ZeroDivisionError):
        list(share(lambda n: 1 // n, [1, 0], 2))

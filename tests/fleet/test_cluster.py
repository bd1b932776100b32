"""An audit on a scheduler and workers that run as processes of their own."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace

import pytest
from msgspec import Struct

from aiguille.fleet.cluster import Elsewhere
from aiguille.model import UsageError
from tests.fleet.test_many import AS_OF, kept_in, write_gateways
from tests.helpers import run

SOURCE = Path(__file__).parents[2] / "src"


class Cluster(Struct):
    address: str
    folder: Path
    started: list[subprocess.Popen[bytes]]

    def start(self, *words: str, path: Path | None = None) -> subprocess.Popen[bytes]:
        """A scheduler or worker. path: where it finds another aiguille than the installed one"""
        env = {**os.environ, "DASK_DISTRIBUTED__SCHEDULER__WORK_STEALING": "False"}
        if path is not None:
            env["PYTHONPATH"] = str(path)
        command = [sys.executable, "-m", "dask", *words, "--no-dashboard"]
        with (self.folder / f"log{len(self.started)}").open("wb") as log:
            one = subprocess.Popen(command, cwd=self.folder, stdout=log, stderr=log, env=env)
        self.started.append(one)
        return one

    def worker(self, path: Path | None = None) -> subprocess.Popen[bytes]:
        words = ("--nthreads", "1", "--no-nanny", "--local-directory", str(self.folder / "held"))
        return self.start("worker", self.address, *words, path=path)


def _await_port(port: int) -> None:
    """Wait until something listens there."""
    until = time.monotonic() + 60
    while time.monotonic() < until:
        try:
            socket.create_connection(("127.0.0.1", port), 1).close()
        except OSError:
            time.sleep(0.1)
        else:
            return
    pytest.fail(f"no scheduler listens on port {port}")


@pytest.fixture
def cluster(tmp_path: Path) -> Iterator[Cluster]:
    """A scheduler without workers, in a folder of its own."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    folder = tmp_path / "cluster"
    folder.mkdir()
    made = Cluster(f"tcp://127.0.0.1:{port}", folder, [])
    made.start("scheduler", "--host", "127.0.0.1", "--port", str(port))
    try:
        _await_port(port)
        yield made
    finally:
        for one in made.started:
            one.kill()
        for one in made.started:
            one.wait()


@pytest.mark.parametrize(("status", "raised"), [("error", UsageError), ("pending", TimeoutError)])
def test_what_a_worker_says_of_a_slow_disk_is_not_taken_for_a_result_that_is_lost(status: str, raised: type) -> None:
    def result(timeout: float) -> None:
        raise TimeoutError(f"within {timeout} seconds")

    crew = Elsewhere.__new__(Elsewhere)
    crew.jobs = (SimpleNamespace(files=[SimpleNamespace(path="a.v4")]),)
    with pytest.raises(raised):
        crew._result(SimpleNamespace(status=status, result=result), 0)


@pytest.mark.parametrize(("first", "count"), [(3, 80), (1, 30)])
def test_a_worker_that_dies_loses_nothing(cluster: Cluster, tmp_path: Path, first: int, count: int) -> None:
    """Exports lie in a folder that workers see; one of three is killed in the middle, the only one known to those that read first."""
    estate = write_gateways(tmp_path / "estate", count, 100)
    workers = [cluster.worker() for _ in range(first)]
    kept = tmp_path / "kept.db"
    words = ["audit", str(estate), "--json", *AS_OF[:2], "--cluster", cluster.address, "--resume", str(kept)]
    command = [str(Path(sys.executable).parent / "aiguille"), *words]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE) as running:
        until = time.monotonic() + 120
        while kept_in(kept) <= 1 and running.poll() is None and time.monotonic() < until:
            time.sleep(0.05)
        _ = [cluster.worker() for _ in range(first, 3)]
        while kept_in(kept) <= count + 1 and running.poll() is None and time.monotonic() < until:
            time.sleep(0.05)
        workers[-1].send_signal(signal.SIGKILL)
        out, err = running.communicate(timeout=240)
    assert running.returncode == 1, err.decode()
    assert out.decode() == run("audit", estate, "--json", *AS_OF).stdout
    assert kept_in(kept) == 2 * count
    assert b"is gone; what it was at is done by others" in err


def test_workers_that_all_die_and_a_scheduler_that_does(cluster: Cluster, tmp_path: Path) -> None:
    """What was done is kept, others go on with it, and where nobody is left the command ends in a sentence."""
    count = 32
    estate = write_gateways(tmp_path / "estate", count, 80)
    kept = tmp_path / "kept.db"
    words = ["audit", str(estate), "--json", *AS_OF[:2], "--cluster", cluster.address, "--resume", str(kept)]
    command = [str(Path(sys.executable).parent / "aiguille"), *words]
    first = cluster.worker()
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE) as running:
        until = time.monotonic() + 120
        while kept_in(kept) <= count + 1 and running.poll() is None and time.monotonic() < until:
            time.sleep(0.05)
        first.kill()
        cluster.worker()
        while kept_in(kept) <= count + 10 and running.poll() is None and time.monotonic() < until:
            time.sleep(0.05)
        cluster.started[0].kill()
        out, err = running.communicate(timeout=120)
    assert (running.returncode, out) == (2, b""), err.decode()
    assert b"the scheduler has gone away" in err, err.decode()
    assert b"take the audit up with --resume" in err
    assert count + 10 < kept_in(kept) < 2 * count
    done = run(*words[:-4], *words[-2:])
    assert done.stdout == run("audit", estate, "--json", *AS_OF).stdout
    assert kept_in(kept) == 2 * count


def test_exports_are_sent_and_other_versions_refused(cluster: Cluster, tmp_path: Path) -> None:
    """Workers elsewhere see no relative path; one of them has another aiguille."""
    other = tmp_path / "other"
    shutil.copytree(SOURCE / "aiguille", other / "aiguille", ignore=shutil.ignore_patterns("__pycache__"))
    (other / "aiguille" / "_version.py").write_text('__version__ = "9.9.9"\n')
    write_gateways(tmp_path / "estate", 5)
    (tmp_path / "estate" / "accepted.yaml").write_text(
        "accepted:\n  - check: access.reachable-from-outside\n    reason: it is tried out\n"
        "    owner: duty officer\n    until: 2026-12-31\n"
    )
    cluster.worker(other)
    alone = run("audit", "estate", *AS_OF, "--cluster", cluster.address, cwd=tmp_path)
    assert alone.returncode == 2
    assert "no worker has aiguille" in alone.stderr
    cluster.worker()
    words = ("audit", "estate", "--json", *AS_OF[:2], "--accepted", "estate/accepted.yaml")
    until = time.monotonic() + 60
    while True:  # the second worker may still be on its way
        done = run(*words, "--cluster", cluster.address, cwd=tmp_path)
        if done.returncode != 2 or time.monotonic() > until:
            break
    assert "is refused: it has aiguille 9.9.9" in done.stderr
    whole = run(*words, cwd=tmp_path)
    assert (done.returncode, done.stdout) == (whole.returncode, whole.stdout)
    assert "accepted" in whole.stdout


def test_where_nobody_answers_it_says_so(tmp_path: Path) -> None:
    write_gateways(tmp_path / "estate", 1)
    done = run("audit", "estate", "--cluster", "tcp://127.0.0.1:9", cwd=tmp_path)
    assert (done.returncode, done.stdout) == (2, "")
    assert "tcp://127.0.0.1:9: no scheduler answers" in done.stderr

"""Measures an audit of many devices on a cluster of this machine's processes, as ratios within that run, and prints Markdown.

    python -m benchmarks.cluster [--devices 240] [--rules 200] [--workers 1,2] [--out FILE.sqlite]

A scheduler and workers of one thread run as processes of their own, as they would on other machines. What the scheduler itself takes
for a device is told apart: its processor time, out of which follows how many workers it can keep busy.
"""

from __future__ import annotations

import argparse
import os
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from msgspec import Struct

from benchmarks.estate import write


class Measured(Struct):
    """Of one run: seconds, and processor seconds of the scheduler, of the client and of the workers together; peak memory of the client
    in MiB."""

    seconds: float
    scheduler: float
    client: float
    workers: float
    memory: int


def processor(pid: int) -> float:
    """Seconds a process and those it waited for have had of the processor so far (proc(5))."""
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return sum(map(int, fields[11:15])) / os.sysconf("SC_CLK_TCK")


@contextmanager
def cluster(workers: int, folder: Path) -> Iterator[tuple[str, list[int]]]:
    """The address of a scheduler with that many workers, and the numbers of the processes, the scheduler's first."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    address = f"tcp://127.0.0.1:{port}"
    started: list[subprocess.Popen[bytes]] = []

    def start(*words: str) -> None:
        command = [sys.executable, "-m", "dask", *words, "--no-dashboard"]
        started.append(subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, cwd=folder))

    try:
        start("scheduler", "--host", "127.0.0.1", "--port", str(port))
        for _ in range(workers):
            start("worker", address, "--nthreads", "1", "--no-nanny", "--local-directory", str(folder / "held"))
        time.sleep(5)
        yield address, [one.pid for one in started]
    finally:
        for one in started:
            one.kill()
            one.wait()


def measured(estate: Path, workers: int, outs: Sequence[Path] = ()) -> Measured:
    """One audit of a folder of exports."""
    with tempfile.TemporaryDirectory() as name, cluster(workers, Path(name)) as (address, processes):
        before = [processor(pid) for pid in processes]
        words = [str(Path(sys.executable).parent / "aiguille"), "audit", str(estate), "--cluster", address, "--quiet"]
        words += [word for path in outs for word in ("--out", str(path))]
        start = time.perf_counter()
        with subprocess.Popen([*words, "--as-of", "2026-11-30"], stdout=subprocess.DEVNULL) as client:
            _, status, used = os.wait4(client.pid, 0)
            client.returncode = os.waitstatus_to_exitcode(status)
        took = time.perf_counter() - start
        if client.returncode not in (0, 1):
            raise SystemExit(f"the audit ended with {client.returncode}")
        spent = [processor(pid) - at for pid, at in zip(processes, before, strict=True)]
    return Measured(took, spent[0], used.ru_utime + used.ru_stime, sum(spent[1:]), used.ru_maxrss >> 10)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--devices", type=int, default=240)
    parser.add_argument("--rules", type=int, default=200)
    parser.add_argument("--workers", default="1,2")
    parser.add_argument("--out", type=Path, action="append", default=[])
    arguments = parser.parse_args()
    print(
        "| devices | workers | devices a second | scheduler, of a device's work | client, of a device's work | client's memory |"
    )
    print("|---|---|---|---|---|---|")
    with tempfile.TemporaryDirectory() as name:
        write(Path(name), arguments.devices, arguments.rules)
        for workers in map(int, arguments.workers.split(",")):
            one = measured(Path(name), workers, arguments.out)
            print(
                f"| {arguments.devices:,} | {workers} | {arguments.devices / one.seconds:.2f} | {one.scheduler / one.workers:.3f} | "
                f"{one.client / one.workers:.3f} | {one.memory} MiB |",
                flush=True,
            )


if __name__ == "__main__":
    main()

"""Measures an audit of many devices in one run, as ratios within that run, and prints Markdown.

    python -m benchmarks.estate [--devices 125,250,500,1000] [--rules 200]

Every device has rules of its own. The result must not depend on the number of jobs.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from benchmarks.generate import as_dump, generate


def write(folder: Path, devices: int, rules: int) -> None:
    for number in range(devices):
        (folder / f"gw{number:04}.v4").write_text(as_dump(generate(rules, seed=number)))


def audited(folder: Path, jobs: int) -> tuple[float, str, int]:
    """Seconds of the whole process, a digest of what it says, and its findings."""
    words = [
        str(Path(sys.executable).parent / "aiguille"),
        "audit",
        str(folder),
        "--json",
        "--jobs",
        str(jobs),
        "--quiet",
    ]
    start = time.perf_counter()
    done = subprocess.run([*words, "--as-of", "2026-11-30"], capture_output=True, check=False)
    took = time.perf_counter() - start
    if done.returncode not in (0, 1):
        raise SystemExit(done.stderr.decode())
    said = json.loads(done.stdout)
    return took, hashlib.sha256(done.stdout).hexdigest(), len(said["findings"])


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--devices", default="125,250,500,1000")
    parser.add_argument("--rules", type=int, default=200)
    arguments = parser.parse_args()
    sizes = [int(size) for size in arguments.devices.split(",")]
    cores = os.cpu_count() or 1
    print(
        f"| devices of {arguments.rules} rules | findings | time, {cores} jobs | per device, against the "
        f"first row | time, 1 job over {cores} |"
    )
    print("|---|---|---|---|---|")
    first = 0.0
    for size in sizes:
        with tempfile.TemporaryDirectory() as name:
            write(Path(name), size, arguments.rules)
            took, digest, findings = audited(Path(name), cores)
            alone, other, _ = audited(Path(name), 1) if size == sizes[0] else (0.0, digest, 0)
        if digest != other:
            raise SystemExit("the result depends on the number of jobs")
        first = first or took / size
        ratio = f"{alone / took:.2f}" if alone else ""
        print(
            f"| {size:,} | {findings:,} | {took / (first * sizes[0]):.2f} | {took / size / first:.2f} | {ratio} |",
            flush=True,
        )
    print(f"\nPeak memory of a process: {resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024:.0f} MiB")


if __name__ == "__main__":
    main()

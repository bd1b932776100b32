"""What goes wrong around the program: a full disk, a folder nobody may write to, a kill in the middle, an output that is an input."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.needs import needed

PROGRAM = str(Path(sys.executable).parent / "aiguille")
SHEET = "source,destination,service,action\nany,10.0.0.5,tcp/443,allow\nany,any,any,deny\n"
DUMP = "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n-A INPUT -p tcp -m tcp --dport 22 -j ACCEPT\nCOMMIT\n"


def run(*words: str, cwd: Path, **more: object) -> subprocess.CompletedProcess[str]:
    return subprocess.run([PROGRAM, *words], cwd=cwd, capture_output=True, text=True, check=False, timeout=120, **more)  # type: ignore[call-overload, no-any-return]


@pytest.fixture
def small_disk(tmp_path: Path) -> Iterator[Path]:
    """A file system of 64 KiB."""
    place = tmp_path / "small"
    place.mkdir()
    needed(os.geteuid() == 0 or None, "only root may mount a file system")
    done = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=64k", "none", place], capture_output=True, check=False)
    needed(done.returncode == 0 or None, "no file system can be mounted here")
    yield place
    subprocess.run(["umount", place], check=True)


@pytest.mark.parametrize(
    ("name", "command"),
    [
        ("x.csv", "audit x.csv --format sheet --out x.csv --force"),
        ("x.csv", "audit . --format sheet --out ./x.csv --force"),
        ("x.csv", "rules x.csv --format sheet --out x.csv --force"),
        ("x.txt", "read x.txt --out x.txt --force"),
        ("p.csv", "probe gw.v4 --packets p.csv --out p.csv --force"),
    ],
)
def test_an_input_is_never_written_over(name: str, command: str, tmp_path: Path) -> None:
    texts = {"x.csv": SHEET, "x.txt": DUMP, "p.csv": "id,in,src,dst,proto\n1,eth0,10.0.0.1,10.0.0.2,tcp\n"}
    (tmp_path / name).write_text(texts[name])
    (tmp_path / "gw.v4").write_text(DUMP) if name == "p.csv" else None
    done = run(*command.split(), cwd=tmp_path)
    assert done.returncode == 2
    assert (tmp_path / name).read_text() == texts[name]


def test_a_full_disk(tmp_path: Path, small_disk: Path) -> None:
    (tmp_path / "gw.v4").write_text(DUMP)
    old = small_disk / "report.html"
    old.write_text("the report before")
    done = run("audit", "gw.v4", "--out", str(old), "--out", "report.md", "--force", cwd=tmp_path)
    assert done.returncode == 2
    assert "cannot be written (No space left on device)" in done.stderr
    assert old.read_text() == "the report before"
    assert [p.name for p in small_disk.iterdir()] == ["report.html"]


def test_a_folder_nobody_may_write_to(tmp_path: Path) -> None:
    (tmp_path / "gw.v4").write_text(DUMP)
    done = run("audit", "gw.v4", "--out", "/proc/report.html", cwd=tmp_path)
    assert done.returncode == 2
    assert "/proc/report.html: cannot be written" in done.stderr


def test_without_a_home_or_anything_else_around(tmp_path: Path) -> None:
    (tmp_path / "gw.v4").write_text(DUMP)
    words = ("audit", "gw.v4", "--out", "report.html", "--force")
    with_all = run(*words, cwd=tmp_path, env={**os.environ, "COLUMNS": "100"})
    (tmp_path / "report.html").unlink()
    alone = run(*words, cwd=tmp_path, env={"COLUMNS": "100"})
    assert (alone.returncode, alone.stdout) == (with_all.returncode, with_all.stdout)
    assert "Traceback" not in alone.stderr
    assert (tmp_path / "report.html").exists()


def test_killed_in_the_middle_the_report_is_the_old_or_the_new_one(tmp_path: Path) -> None:
    (tmp_path / "gw.v4").write_text(DUMP)
    report = tmp_path / "report.md"
    words = [PROGRAM, "audit", "gw.v4", "--out", "report.md", "--force", "--quiet"]
    subprocess.run(words, cwd=tmp_path, stdout=subprocess.DEVNULL, check=False)
    new = report.read_text()
    for turn in range(12):
        report.write_text("the report before")
        process = subprocess.Popen(words, cwd=tmp_path, stdout=subprocess.DEVNULL)
        time.sleep(0.12 + 0.05 * turn)
        process.send_signal(signal.SIGKILL)
        process.wait()
        assert report.read_text() in ("the report before", new)


def test_two_runs_on_one_output(tmp_path: Path) -> None:
    (tmp_path / "gw.v4").write_text(DUMP)
    words = [PROGRAM, "audit", "gw.v4", "--out", "report.md", "--force", "--quiet"]
    both = [subprocess.Popen(words, cwd=tmp_path, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE) for _ in range(2)]
    assert [one.communicate()[1] for one in both] == [b"", b""]
    first = (tmp_path / "report.md").read_text()
    subprocess.run(words, cwd=tmp_path, stdout=subprocess.DEVNULL, check=False)
    assert (tmp_path / "report.md").read_text() == first
    assert sorted(p.name for p in tmp_path.iterdir()) == ["gw.v4", "report.md"]

"""Help, completion, interrupts, pipes, and the library as README shows it."""

from __future__ import annotations

import contextlib
import os
import pty
import re
import shlex
import shutil
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest
from benchmarks.generate import as_dump, generate

from aiguille.cli.commands import COMMANDS
from aiguille.demo import write_estate
from aiguille.packets import COLUMNS
from tests.helpers import DUMP, run
from tests.needs import needed

PROGRAM = str(Path(sys.executable).parent / "aiguille")
ROOT = Path(__file__).parent.parent.parent


@pytest.mark.parametrize("command", COMMANDS)
def test_help_teaches_with_two_examples_that_parse(command: str, tmp_path: Path) -> None:
    done = run(command, "--help", env={"COLUMNS": "200"})
    assert done.returncode == 0
    examples = [line.strip() for line in done.stdout.splitlines() if line.strip().startswith(f"aiguille {command}")]
    assert len(examples) >= 2
    for example in examples[:2]:
        words = shlex.split(example)[1:]
        again = run(*words, cwd=tmp_path)
        assert "usage:" not in again.stderr.lower(), again.stderr


def test_help_lists_every_command() -> None:
    done = run("--help")
    assert all(re.search(rf"^\s+{name}\s", done.stdout, re.MULTILINE) for name in COMMANDS)
    assert run("--version").stdout.startswith("aiguille ")


@pytest.mark.parametrize(
    ("typed", "offered"),
    [
        ("aiguille ru", {"rules"}),
        ("aiguille audit --fail-on ", {"critical", "never"}),
        ("aiguille baseline explain access.idle", {"access.idle-timeout"}),
        ("aiguille baseline start x.yaml --from s", {"standard", "strict"}),
        ("aiguille audit x --baseline st", {"standard", "strict"}),
        ("aiguille dialect explain tin", {"tindrel"}),
        ("aiguille read x --format ipt", {"iptables-save"}),
        ("aiguille figure o", {"openness"}),
    ],
)
@pytest.mark.parametrize("shell", ["bash", "zsh"])
def test_shells_complete_names(tmp_path: Path, shell: str, typed: str, offered: set[str]) -> None:
    program = needed(shutil.which(shell), f"{shell} is not installed")
    register = str(Path(sys.executable).parent / "register-python-argcomplete")
    words = typed.split(" ")
    # What a shell does when the tab key is pressed, without a terminal: its variables are set, the function is called.
    if shell == "bash":
        script = (
            f'eval "$({register} --shell bash aiguille)"\n'
            f"COMP_LINE={shlex.quote(typed)} COMP_POINT={len(typed)} COMP_TYPE=9 COMP_KEY=9\n"
            f"COMP_WORDS=({' '.join(map(shlex.quote, words))}) COMP_CWORD={len(words) - 1}\n"
            f"_python_argcomplete aiguille {shlex.quote(words[-1])} {shlex.quote(words[-2])}\n"
            'printf "%s\\n" "${COMPREPLY[@]}"\n'
        )
    else:
        script = (
            "_describe() { print -l -- ${(P)2} }\n"
            "compdef() { : }\n"
            f'eval "$({register} --shell zsh aiguille)"\n'
            f"words=({' '.join(map(shlex.quote, words))}) CURRENT={len(words)}\n"
            f"BUFFER={shlex.quote(typed)} CURSOR={len(typed)}\n"
            "_python_argcomplete\n"
        )
    path = f"{Path(sys.executable).parent}:{os.environ['PATH']}"
    done = subprocess.run(
        [program, "-c", script],
        capture_output=True,
        text=True,
        cwd=tmp_path,
        env={**os.environ, "PATH": path},
        check=False,
    )
    names = {line.split(":")[0].strip() for line in done.stdout.splitlines()}
    assert offered <= names, (done.stdout, done.stderr)


def test_a_reader_that_goes_away_is_no_error(tmp_path: Path) -> None:
    write_estate(tmp_path / "v")
    rows = [f"p{n},eth0,eth2,198.51.100.7,192.0.2.2,tcp,1,{n},,,," for n in range(9000)]
    (tmp_path / "packets.csv").write_text("\n".join([",".join(COLUMNS), *rows]))
    for words in ("rules v --json", "probe v --device valley-gw --packets packets.csv"):
        done = subprocess.run(
            ["bash", "-o", "pipefail", "-c", f"{PROGRAM} {words} | head -n 1"],
            capture_output=True,
            text=True,
            cwd=tmp_path,
            check=False,
        )
        assert (done.returncode, done.stderr) == (0, "")
        assert done.stdout


@pytest.mark.parametrize(
    ("data", "code", "said"),
    [
        (DUMP.encode(), 0, "standard input"),
        (b"", 3, "standard input: the file is empty"),
        (b"PK\x03\x04", 3, "an archive cannot be read from there; write it to a file"),
        (b"hello\n", 3, "standard input:1: the format is not recognised"),
    ],
)
def test_an_export_may_come_from_another_command(data: bytes, code: int, said: str, tmp_path: Path) -> None:
    done = subprocess.run([PROGRAM, "read", "-"], input=data, capture_output=True, cwd=tmp_path, check=False)
    assert done.returncode == code
    assert said in " ".join((done.stdout + done.stderr).decode().split())
    assert b"Traceback" not in done.stderr


@pytest.mark.parametrize(
    ("signals", "code", "said"),
    [
        ([signal.SIGINT], 130, b"interrupted"),
        ([signal.SIGINT, signal.SIGINT], 130, b"interrupted"),
        ([signal.SIGTERM], 143, b"ended by a signal"),
        ([signal.SIGTERM, signal.SIGINT], 143, b"ended by a signal"),
    ],
)
@pytest.mark.parametrize("jobs", ["1", "2"])
def test_an_interrupt_leaves_no_half_file(
    tmp_path: Path, jobs: str, signals: list[signal.Signals], code: int, said: bytes
) -> None:
    (tmp_path / "big.v4").write_text(as_dump(generate(12000)))
    process = subprocess.Popen(
        [PROGRAM, "rules", "big.v4", "--jobs", jobs, "--out", "report.json", "--verbose"],
        cwd=tmp_path,
        stderr=subprocess.PIPE,
        stdout=subprocess.DEVNULL,
    )
    assert process.stderr is not None
    assert b"iptables-save" in process.stderr.readline(), "the export is read and the work begins"
    for one in signals:
        process.send_signal(one)
        time.sleep(0.01)
    _, errors = process.communicate(timeout=60)
    assert process.returncode == code
    assert said + b"; done so far: 1 of 1 exports read" in errors
    assert b"no file was left half written" in errors
    assert b"Traceback" not in errors
    assert [p.name for p in tmp_path.iterdir()] == ["big.v4"]


def on_a_terminal(*words: str, cwd: Path, watched: str = "stderr") -> tuple[str, str]:
    """What comes on the stream that is piped, and what a terminal on the one watched gets."""
    controller, terminal = pty.openpty()
    out = terminal if watched == "stdout" else subprocess.PIPE
    errors = terminal if watched == "stderr" else subprocess.PIPE
    environment = {**os.environ, "TERM": "xterm", "NO_COLOR": "1"}
    process = subprocess.Popen([PROGRAM, *words], cwd=cwd, stdout=out, stderr=errors, text=True, env=environment)
    os.close(terminal)
    shown = bytearray()

    def watch() -> None:
        # The terminal ends with an error once nobody holds its other end.
        with contextlib.suppress(OSError):
            while part := os.read(controller, 4096):
                shown.extend(part)

    watcher = threading.Thread(target=watch)
    watcher.start()
    piped = process.communicate(timeout=120)
    watcher.join()
    os.close(controller)
    return piped[0] or piped[1] or "", shown.decode(errors="replace")


@pytest.mark.parametrize(
    "command", [("audit",), ("read",), ("rules",), ("probe", "--packet", "tcp to any:22 entering eth0")]
)
def test_what_could_not_be_read_is_told_once_whoever_looks(tmp_path: Path, command: tuple[str, ...]) -> None:
    (tmp_path / "cut.v4").write_text("*filter\n:INPUT DROP [0:0]\n")
    (tmp_path / "good.v4").write_text("*filter\n:INPUT DROP [0:0]\nCOMMIT\n")
    name, *more = command
    errors, shown = on_a_terminal(name, "cut.v4", "good.v4", *more, cwd=tmp_path, watched="stdout")
    assert (errors + shown).count("cut off") == 1, (errors, shown)
    piped = run(name, "cut.v4", "good.v4", *more, cwd=tmp_path)
    assert piped.stderr.count("cut off") == 1
    assert piped.returncode == 3


def test_progress_is_shown_on_a_terminal_only(tmp_path: Path) -> None:
    (tmp_path / "in").mkdir()
    for number in range(6):
        (tmp_path / "in" / f"h{number}.v4").write_text("*filter\n:INPUT DROP [0:0]\nCOMMIT\n")
    out, shown = on_a_terminal("audit", ".", "--out", "../r.html", cwd=tmp_path / "in")
    assert "devices" in shown
    assert "exports" in shown
    assert "writing r.html" in shown
    piped = run("audit", ".", "--out", "../s.html", cwd=tmp_path / "in")
    assert out == piped.stdout, "standard output is the same"
    assert piped.stderr == ""
    assert on_a_terminal("audit", ".", "--quiet", cwd=tmp_path / "in")[1] == ""


def test_quiet_and_verbose(tmp_path: Path) -> None:
    (tmp_path / "h.v4").write_text("*filter\n:INPUT DROP [0:0]\n-A INPUT --odd\nCOMMIT\n")
    assert run("read", "h.v4", "--quiet", cwd=tmp_path).stderr == ""
    assert "not understood" in run("read", "h.v4", cwd=tmp_path).stderr
    assert "opens the table 'filter'" in run("read", "h.v4", "--verbose", cwd=tmp_path).stderr


def test_the_library_example_of_readme_runs(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    write_estate(tmp_path / "valdrane-lifts")
    monkeypatch.chdir(tmp_path)
    code = re.search(r"```python\n(.*?)```", (ROOT / "README.md").read_text(), re.DOTALL)
    assert code is not None
    exec(compile(code[1], "README.md", "exec"), {})
    assert "high valley-gw" in capsys.readouterr().out

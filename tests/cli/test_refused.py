"""What never ends, and what would lose something in silence, is refused with a sentence."""

from __future__ import annotations

import io
import os
import subprocess
import sys
import tarfile
import zipfile
from pathlib import Path

import pytest

from tests.helpers import run

RULES = "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n-A INPUT -i lo -j ACCEPT\nCOMMIT\n"
HEADER = "id,in,out,src,dst,protocol,sport,dport,icmp_type,icmp_code,tcp_flags,state\n"


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    (tmp_path / "gw.v4").write_text(RULES)
    os.mkfifo(tmp_path / "pipe")
    return tmp_path


@pytest.mark.parametrize("what", ["/dev/zero", "pipe", "."])
@pytest.mark.parametrize(
    ("command", "option"),
    [
        ("probe", "--packets"), ("audit", "--geo"), ("audit", "--dialect"), ("audit", "--accepted"), ("claims", "--claims"),
    ],
)  # fmt: skip
def test_no_regular_file_is_refused_at_once(folder: Path, what: str, command: str, option: str) -> None:
    target = what if what.startswith("/") else folder / what
    done = run(command, folder / "gw.v4", option, target)
    assert done.returncode == 2
    assert "it is not a regular file" in done.stderr
    assert "Traceback" not in done.stderr


@pytest.mark.parametrize(
    ("words", "into", "code"),
    [
        ("--version", "> /dev/full", 2),
        ("audit gw.v4", "> /dev/full", 2),
        ("rules gw.v4 --json", "> /dev/full", 2),
        ("read gw.v4", ">&-", 0),
        ("read gw.v4", ">&- 2>&-", 0),
        ("audit gw.v4 --fail-on low --out r.html", "| true", 1),
        ("audit gw.v4 --fail-on low --out r.html", ">&-", 1),
        ("audit gw.v4 --out r.html", "> /dev/full", 2),
        ("audit gone.v4", "", 3),
        ("audit gw.v4 --as-off 2026-01-01", "", 2),
    ],
)
def test_where_nothing_can_be_said(folder: Path, words: str, into: str, code: int) -> None:
    """The code is what it is elsewhere, files are written, and a full disk is told in a sentence."""
    done = subprocess.run(
        ["bash", "-c", f"aiguille {words} {into}; exit ${{PIPESTATUS[0]}}"],
        capture_output=True, text=True, cwd=folder, check=False, timeout=60,
        env={**os.environ, "PATH": f"{os.path.dirname(sys.executable)}:{os.environ['PATH']}"},
    )  # fmt: skip
    assert done.returncode == code, done.stderr
    assert "Traceback" not in done.stderr
    assert ("standard output cannot be written" in done.stderr) == ("/dev/full" in into)
    assert (folder / "r.html").exists() == ("r.html" in words)


def test_packets_may_come_from_another_command(folder: Path) -> None:
    (folder / "packets.csv").write_text(f"{HEADER}a,eth0,,192.0.2.7,192.0.2.1,tcp,4000,22,,,,\n")
    done = subprocess.run(
        ["bash", "-c", "aiguille probe gw.v4 --quiet --packets <(cat packets.csv)"],
        capture_output=True, text=True, cwd=folder, check=False, timeout=60,
        env={**os.environ, "PATH": f"{os.path.dirname(sys.executable)}:{os.environ['PATH']}"},
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert done.stdout.startswith("a  drop")


def test_signs_of_a_table_cannot_steer_the_terminal(folder: Path) -> None:
    (folder / "packets.csv").write_text(f"{HEADER}\x1b[31ma,eth0,,1.2.3.4,5.6.7.8\x1b[2J,tcp,1,22,,,,\n")
    done = run("probe", folder / "gw.v4", "--packets", folder / "packets.csv")
    assert done.returncode == 2
    assert "\x1b" not in done.stderr + done.stdout
    (folder / "packets.csv").write_text("id,src,dst,protocol,dport\n\x1b[31ma,1.2.3.4,5.6.7.8\x1b[2J,tcp,22\n")
    done = run("probe", folder / "gw.v4", "--packets", folder / "packets.csv")
    assert done.returncode == 2
    assert "\x1b" not in done.stderr + done.stdout


def test_an_archive_with_a_name_twice_is_refused(folder: Path) -> None:
    with tarfile.open(folder / "host.tar.gz", "w:gz") as archive:
        for body in (RULES, RULES.replace("DROP", "ACCEPT")):
            member = tarfile.TarInfo("etc/iptables/rules.v4")
            member.size = len(body)
            archive.addfile(member, io.BytesIO(body.encode()))
    with zipfile.ZipFile(folder / "host.zip", "w") as packed:
        packed.writestr("etc/iptables/rules.v4", RULES)
        with pytest.warns(UserWarning, match="Duplicate name"):
            packed.writestr("etc/iptables/rules.v4", RULES.replace("DROP", "ACCEPT"))
    for name in ("host.tar.gz", "host.zip"):
        done = run("audit", folder / name)
        assert done.returncode == 3
        assert "holds 'etc/iptables/rules.v4' twice, and nothing shows which counts" in done.stderr


def test_json_with_a_key_twice_is_refused(folder: Path) -> None:
    chain = (
        '{"chain": {"family": "ip", "table": "f", "name": "input", "type": "filter", "hook": "input", "prio": 0, %s}}'
    )
    table = '{"table": {"family": "ip", "name": "f"}}'
    for twice, code in (('"policy": "drop"', 0), ('"policy": "accept", "policy": "drop"', 3)):
        (folder / "gw.json").write_text(f'{{"nftables": [{table}, {chain % twice}]}}')
        done = run("read", folder / "gw.json")
        assert done.returncode == code, done.stderr
        assert ("has the key 'policy' twice" in done.stderr) is bool(code)

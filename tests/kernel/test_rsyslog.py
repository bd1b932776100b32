"""Where rsyslog itself puts a record of the packet filter, and where we say it does."""

from __future__ import annotations

import os
import random
import shutil
import socket
import subprocess
import time
from pathlib import Path

from aiguille.readers.bundle import Bundle
from aiguille.readers.files import LedgerBuilder
from aiguille.readers.host.rsyslog import Ways, ways
from tests.helpers import placed
from tests.needs import needed

SETS = int(os.environ.get("AIGUILLE_KERNEL_SETS", "24"))
RECORD = "fw-drop: IN=eth0 OUT= MAC=02:00:5e:00:53:01 SRC=192.0.2.7 DST=192.0.2.1 LEN=60 PROTO=TCP SPT=40000 DPT=22"
STATEMENTS = (
    "*.* {0}",
    "kern.* -{0}",
    "kern.warn {0}",
    "kern.=warning {0}",
    "kern.!=info {0}",
    "kern.err {0}",
    "*.info;kern.none {0}",
    "*.*;auth,authpriv.none -{0}",
    "auth,kern.debug {0}",
    "mail.*;*.!warning {0}",
    ':msg, contains, "fw-drop" {0}',
    ':msg, contains, "fw-drop" {0}\n& stop',
    ':msg, contains, "fw-drop: " -{0}\n& ~',
    ':msg,!contains,"DPT=" {0}',
    ':msg, startswith, "other" {0}',
    ":programname, isequal, \"kernel\" {0}\n& {1}",
    'if $msg contains "IN=" and $msg contains "OUT=" then {0}',
    'if ($msg contains "IN=" or $programname == "sshd") then {{\n  action(type="omfile" file="{0}")\n  stop\n}}',
    'if $programname == "sshd" then {0}\nelse {1}',
    'if not ($msg contains "nothing") then action(type="omfile"\n  file="{0}"\n)',
    'if $syslogfacility-text == "kern" and $syslogseverity <= 6 then {0}\n& stop',
    'if $syslogseverity < 2 then stop',
    'if $programname startswith "ker" then {{\n if $msg contains "SPT=1 " then {0}\n else {1}\n}}',
    'ruleset(name="apart") {{\n  action(type="omfile" file="{0}")\n}}\nif $msg contains "IN=" then call apart',
    'ruleset(name="unused") {{\n *.* {0}\n}}',
    "# kern.* {0}\n/* *.* {1} */ local1.* {1}",
    'template(name="t" type="string" string="%msg%)(\\n")\nkern.* {0};t',
    '*.* action(type="omfile"\n   file="{0}")',
    "$FileCreateMode 0644\nlocal0.none;*.* {0}",
)  # fmt: skip


def rules(seed: int, folder: Path) -> str:
    chance = random.Random(seed)
    out = []
    for number, text in enumerate(chance.sample(STATEMENTS, 5)):
        text = text.replace('"apart"', f'"apart{number}"').replace("call apart", f"call apart{number}")
        text = text.replace('name="t"', f'name="t{number}"').replace(";t", f";t{number}")
        out.append(text.format(folder / f"{number}-a.log", folder / f"{number}-b.log"))
    return "\n".join(out) + "\n"


def written(configuration: str, folder: Path) -> set[str]:
    """The files in which rsyslog puts the record, of those below a folder."""
    conf, arrived = folder / "rsyslog.conf", folder / "arrived"
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    head = (
        f'module(load="imptcp")\ninput(type="imptcp" port="{port}" address="127.0.0.1")\nlocal7.* {arrived}\n& stop\n'
    )
    conf.write_text(head + configuration)
    daemon = subprocess.Popen(
        ["rsyslogd", "-n", "-f", str(conf), "-i", str(folder / "pid")], stdout=subprocess.PIPE, stderr=subprocess.STDOUT
    )
    try:
        wait = time.monotonic() + 20
        while True:
            try:
                with socket.create_connection(("127.0.0.1", port), 1) as line:
                    line.sendall(
                        f"<4>Nov 29 08:00:00 gate kernel: {RECORD}\n<190>Nov 29 08:00:00 gate done: x\n".encode()
                    )
                break
            except OSError:
                assert daemon.poll() is None, daemon.stdout and daemon.stdout.read().decode()
                assert time.monotonic() < wait
                time.sleep(0.02)
        while not (arrived.exists() and arrived.read_bytes()):
            assert time.monotonic() < wait, "rsyslog took too long"
            time.sleep(0.02)
    finally:
        daemon.terminate()
        daemon.wait(20)
    return {path.name for path in folder.glob("*.log") if b"DPT=22" in path.read_bytes() or path.read_bytes()}


def ours(configuration: str) -> Ways:
    files = placed({"etc/rsyslog.conf": configuration})
    found = ways(Bundle(tuple(files)), LedgerBuilder(tuple(files)), ["fw-drop: "])
    assert found is not None
    return found


def test_a_record_goes_where_rsyslog_puts_it(tmp_path: Path) -> None:
    needed(shutil.which("rsyslogd"), "rsyslog is not installed")
    certain = 0
    for seed in range(SETS):
        folder = tmp_path / str(seed)
        folder.mkdir()
        configuration = rules(seed, folder)
        there = written(configuration, folder)
        (way,) = ours(configuration).each
        said = {Path(path).name: sure for path, sure in way.files.items()}
        surely = {name for name, sure in said.items() if sure}
        assert surely <= there <= set(said), f"{configuration}\nrsyslog: {sorted(there)}, ours: {said}"
        certain += len(surely)
        shutil.rmtree(folder)
    assert certain > SETS

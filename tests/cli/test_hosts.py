"""The installed program on hosts as people send them: folders, archives, listings, scripts, and what is wrong with them."""

from __future__ import annotations

import json
import tarfile
from pathlib import Path

import jsonschema
import pytest

from tests.cli.test_program import schema
from tests.estate.test_bundles import UFW, below, write
from tests.helpers import DUMP, run

HOST = {
    "rules.v4": DUMP.replace("COMMIT", "-A INPUT -p tcp --dport 22 -j ACCEPT\nCOMMIT"),
    "ss.txt": "tcp   LISTEN 0 128    0.0.0.0:22      0.0.0.0:*\ntcp   LISTEN 0 128    0.0.0.0:80      0.0.0.0:*\n",
    "r.json": '[{"dst":"default","dev":"eth0"}]\n',
    "etc/ssh/sshd_config": "Port 22\nPermitRootLogin yes\n",
    "etc/fail2ban/jail.local": "[sshd]\nenabled = true\nmaxretry = 9\nbantime = 1h\n",
    "etc/os-release": 'PRETTY_NAME="Some Linux 9"\n',
}


@pytest.fixture
def box(tmp_path: Path) -> Path:
    return write(tmp_path / "box", HOST)


def test_read_shows_what_the_host_is_and_how_it_is_managed(box: Path) -> None:
    done = run("read", box)
    assert done.returncode == 0, done.stderr
    shown = " ".join(done.stdout.split())
    for part in (
        "Linux host (the dump of iptables), Some Linux 9",
        "recognised linux-host",
        "zone outside (outside): eth0 a guess: the default route leaves by eth0",
        "management ssh",
        "lockout after failed logins: 9 (stated)",
        "sshd PermitRootLogin: yes (stated)",
        "sshd PasswordAuthentication: yes (default)",
        "0 not understood",
    ):
        assert part in shown, part
    data = json.loads(run("read", box, "--json").stdout)
    jsonschema.validate(data, schema("read"))
    (device,) = data["devices"]
    assert [one["name"] for one in device["management"]] == ["ssh"]
    assert {s["name"]: s["standing"] for s in device["settings"]}["sshd MaxAuthTries"] == "default"
    assert len(device["sources"]) == len(HOST)


def test_audit_rests_on_the_lines_of_several_files(box: Path) -> None:
    done = run("audit", box, "--json")
    assert done.returncode == 1, done.stderr
    data = json.loads(done.stdout)
    jsonschema.validate(data, schema("audit"))
    findings = {one["check"]: one for f in data["findings"] for one in (*f["consequences"], f)}
    reachable = findings["access.reachable-from-outside"]
    assert [(Path(e["file"]).name, e["line"]) for e in reachable["evidence"]] == [("rules.v4", 6), ("sshd_config", 1)]
    assert findings["access.lockout-threshold"]["evidence"][0]["text"] == "maxretry = 9"
    assert reachable["witness"]["in"] == "eth0"


def test_rules_and_probe_take_an_archive(box: Path) -> None:
    path = box.parent / "box.tgz"
    with tarfile.open(path, "w:gz") as archive:
        archive.add(box, "box")
    rules = json.loads(run("rules", path, "--json").stdout)["rules"]
    jsonschema.validate({"rules": rules}, schema("rules"))
    assert [r["standing"] for r in rules] == ["live", "live"]
    assert rules[0]["file"] == f"{path}/box/rules.v4"
    packet = "tcp from 198.51.100.7:4000 to 192.0.2.2:22 entering eth0"
    data = json.loads(run("probe", path, "--packet", packet, "--json").stdout)
    jsonschema.validate(data, schema("probe"))
    (answer,) = data["packets"]
    assert (answer["verdict"], answer["certain"], answer["decided_by"]["line"]) == ("accept", True, 6)
    assert {visit["file"] for visit in answer["walk"]} == {f"{path}/box/rules.v4"}


def test_rules_of_other_files_are_named_with_their_file(tmp_path: Path) -> None:
    files = {
        "zones": "fw firewall\nnet ipv4\n",
        "interfaces": "?FORMAT 2\nnet eth0 routeback\n",
        "policy": "$FW net ACCEPT\nall all REJECT info\n",
        "rules": "DROP net:192.0.2.0/24 $FW\nACCEPT net:192.0.2.7 $FW tcp 22\n",
        "blrules": "DROP net:192.0.2.0/25 all\n",
        "shorewall.conf": "STARTUP_ENABLED=Yes\n",
    }
    write(tmp_path / "gate", below("etc/shorewall/", files))
    shown = run("rules", "gate", "--chain", "net-fw", "--standing", "shadowed", "--details", cwd=tmp_path).stdout
    assert "ACCEPT net:192.0.2.7 $FW tcp 22" in shown
    assert "net-fw rule" in shown
    assert "(line 1)" in shown or "(blrules:1)" in shown
    data = json.loads(run("rules", "gate", "--chain", "net-fw", "--json", cwd=tmp_path).stdout)
    jsonschema.validate(data, schema("rules"))
    named = {Path(one["file"]).name for rule in data["rules"] for one in rule["because"]}
    assert named >= {"rules"}


NO_CHAIN = '{"nftables": [{"metainfo": {}}, {"rule": {"family": "ip", "table": "t", "chain": "c", "expr": []}}]}'
BASE = "table inet t {\n\tchain a {\n\t\ttype filter hook input priority 0; policy drop;\n\t\t%s\n\t}\n}\n"
BROKEN = [
    # files, exit code of read, what is said
    ({"box/etc/ufw/" + name: text for name, text in UFW.items() if name != "user.rules"}, 3, "user.rules is missing"),
    ({"box/etc/ssh/sshd_config": "Port 22\n", "box/x.txt": "hello\n"}, 3, "nothing in this bundle"),
    ({"box/etc/firewalld/firewalld.conf": "x=1\n", "box/etc/firewalld/zones/public.xml": "<zone>"}, 3, "not well-formed XML"),
    ({"box/etc/iptables/rules.v4": "*filter\n:INPUT DROP [0:0]\n"}, 3, "cut off"),
    ({"rules.json": '{"nftables": [{"metainfo": {}}, {"table": {"family": "inet", "na'}, 3, "rules.json"),
    ({"rules.json": NO_CHAIN}, 3, "the rule belongs to chain 'c', which the table does not have"),
    ({"rules.nft": BASE % "jump a"}, 3, "circle"),
    ({"rules.nft": BASE % "jump gone"}, 3, "jumps to chain 'gone'"),
    ({"rules.nft": BASE % "ip saddr @gone accept"}, 3, "looks into set 'gone'"),
    ({"fw.sh": "#!/bin/sh\niptables -t gizmo -A INPUT -j DROP\n"}, 3, "'gizmo' is not a table"),
]  # fmt: skip


@pytest.mark.parametrize(("files", "code", "said"), BROKEN)
def test_what_is_wrong_is_said_in_a_sentence(tmp_path: Path, files: dict[str, str], code: int, said: str) -> None:
    write(tmp_path / "in", files)
    done = run("read", "in", cwd=tmp_path)
    shown = " ".join((done.stdout + done.stderr).split())
    assert said in shown
    assert "Traceback" not in shown
    assert done.returncode == code, shown


def test_unread_lines_are_listed_with_their_reason(tmp_path: Path) -> None:
    write(tmp_path / "box", {**HOST, "etc/passwd": "root:x:0:0::/root:/bin/bash\nodd line\n"})
    done = run("read", "box", "--show", "unread", cwd=tmp_path)
    shown = " ".join(done.stdout.split())
    assert "box/etc/passwd:2 is not a line of passwd with seven fields odd line" in shown
    assert "1 not understood" in shown


def test_poorer_sources_say_so(tmp_path: Path) -> None:
    status = (
        "Status: active\nLogging: on\nDefault: deny (incoming), allow (outgoing), disabled (routed)\n\n"
        "22/tcp   ALLOW IN   Anywhere\n"
    )
    (tmp_path / "status.txt").write_text(status)
    (tmp_path / "listed.txt").write_text("-P INPUT DROP\n-P FORWARD DROP\n-P OUTPUT ACCEPT\n-A INPUT -i lo -j ACCEPT\n")
    shown = " ".join(run("audit", "status.txt", "listed.txt", "--details", cwd=tmp_path).stdout.split())
    assert "this listing is the poorer source" in shown
    assert "ask for iptables-save" in shown

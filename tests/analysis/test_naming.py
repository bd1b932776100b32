"""Packets told by names become those with addresses; and what somebody expects of packets is held against the answers."""

from __future__ import annotations

import json
from pathlib import Path

import jsonschema
import pytest

import aiguille
from aiguille.analysis.naming import in_estate
from aiguille.demo import files
from aiguille.model import Estate, UsageError
from tests.helpers import run, schema


@pytest.fixture(scope="module")
def estate(tmp_path_factory: pytest.TempPathFactory) -> Estate:
    folder = tmp_path_factory.mktemp("named")
    for name in ("summit-gw.txt", "midway-perimeter.xml"):
        (folder / name).write_bytes(files()[f"exports/{name}"])
    return aiguille.read(folder)


OWN = ("192.0.2.34", "10.44.51.1", "10.44.31.1", "10.44.71.1", "10.44.41.1")


@pytest.mark.parametrize(
    ("device", "text", "expected"),
    [
        ("summit-gw", "modbus from terrace to lifts", "tcp from 10.44.41.0/24 to 10.44.31.0/24:502 entering g1 leaving l1"),
        ("summit-gw", "tcp from Guest to lift-plc:502", "tcp from 10.44.41.0/24 to 10.44.31.10:502 entering g1 leaving l1"),
        ("summit-gw", "https from outside to webcam-lake", "tcp from any to 10.44.71.40:https entering w1 leaving h1"),
        ("summit-gw", "tcp from huts to itself:22", "tcp from 10.44.71.0/24 to 10.44.71.1:22 entering h1"),
        ("summit-gw", "udp from itself to huts:53", [f"udp from {one} to 10.44.71.0/24:53 leaving h1" for one in OWN]),
        ("summit-gw", "tcp from h1 to 10.44.31.7:80 state established",
         "tcp from 10.44.71.0/24 to 10.44.31.7:80 entering h1 leaving l1 state established"),
        ("midway-perimeter", "tcp from terrace to pass lists:443",
         "tcp from 10.44.45.0/24 to 10.44.34.60:443 entering terrace leaving ops"),
        (None, "tcp from yard to ops:443", "tcp from 10.44.46.0/24 to 10.44.34.0/24:443 entering yard leaving ops"),
        (None, "tcp from summit-gw to midway-perimeter:22", "tcp from 192.0.2.34 to 192.0.2.66:22"),
        (None, "tcp from 10.44.41.9 to 10.44.31.10:502", "tcp from 10.44.41.9 to 10.44.31.10:502"),
        (None, "https from summit-gw/terrace to midway-perimeter", "tcp from 10.44.41.20 to 192.0.2.66:https"),
        (None, "modbus from 10.44.41.9 to 10.44.31.10", "tcp from 10.44.41.9 to 10.44.31.10:502"),
    ],
)  # fmt: skip
def test_names_become_addresses(estate: Estate, device: str | None, text: str, expected: str | list[str]) -> None:
    assert in_estate(estate, device, text)[1] == tuple([expected] if isinstance(expected, str) else expected)


@pytest.mark.parametrize(
    ("device", "text", "said"),
    [
        ("summit-gw", "modbus from terace to lifts", "'terace' in the packet is no address, .*; there is terrace"),
        (
            "summit-gw",
            "modbuz from terrace to lifts",
            "'modbuz' is neither a protocol nor a service .*; there is modbus",
        ),
        ("summit-gw", "rescue from terrace to lifts", "'rescue' stands for udp 5004-5011; name the port that is meant"),
        ("summit-gw", "tcp from lifts to lifts:502", "both ends lie behind one interface"),
        (
            "midway-perimeter",
            "tcp from yard to ski school desk:443",
            "does not list all addresses of 'ski school desk'",
        ),
        (None, "tcp from outside to guest:443", "fit several devices; choose one with --device"),
    ],
)
def test_names_that_are_refused(estate: Estate, device: str | None, text: str, said: str) -> None:
    with pytest.raises(UsageError, match=said):
        in_estate(estate, device, text)


def test_a_packet_by_names_through_the_program(tmp_path: Path) -> None:
    (tmp_path / "gate.txt").write_bytes(files()["exports/summit-gw.txt"])
    named = run("probe", "gate.txt", "--packet", "modbus from terrace to lifts", "--json", cwd=tmp_path)
    plain = "tcp from 10.44.41.0/24 to 10.44.31.0/24:502 entering g1 leaving l1"
    assert named.returncode == 0, named.stderr
    assert named.stdout == run("probe", "gate.txt", "--packet", plain, "--json", cwd=tmp_path).stdout
    several = run("probe", "gate.txt", "--packet", "tcp from controllers to webcams:443", cwd=tmp_path)
    assert "ways: " in several.stdout or "entering l1 leaving h1" in several.stdout
    wrong = run("probe", "gate.txt", "--packet", "modbus from terace to lifts", cwd=tmp_path)
    assert wrong.returncode == 2
    assert wrong.stderr.startswith("aiguille: 'terace' in the packet")


HEAD = "id,in,out,src,dst,protocol,sport,dport,icmp_type,icmp_code,tcp_flags,state,expect"
RULES = "*filter\n:INPUT DROP [0:0]\n-A INPUT -p tcp --dport 22 -j ACCEPT\n-A INPUT -p tcp -m limit --limit 1/s -j ACCEPT\nCOMMIT\n"


@pytest.mark.parametrize(
    ("rows", "code", "told"),
    [
        (["a,eth0,,198.51.100.7,192.0.2.1,tcp,4000,22,,,,,accept", "b,eth0,,198.51.100.7,192.0.2.1,udp,4000,53,,,,,refuse"], 0,
         "2 of 2 packets as expected"),
        (["a,eth0,,198.51.100.7,192.0.2.1,tcp,4000,22,,,,,drop"], 1, "line 2: a: expected drop, is accept by INPUT 1"),
        (["a,eth0,,198.51.100.7,192.0.2.1,udp,4000,53,,,,,reject"], 1, "line 2: a: expected reject, is drop by INPUT policy"),
        (["a,eth0,,198.51.100.7,192.0.2.1,tcp,4000,80,,,,,drop"], 0, "line 2: a: expected drop, may be "),
        (["a,eth0,,198.51.100.7,192.0.2.1,tcp,4000,22,,,,,"], 0, "1 of 1 packet as expected"),
        (["a,eth0,,198.51.100.7,192.0.2.1,tcp,4000,99999,,,,,drop", "b,eth0,,198.51.100.7,192.0.2.1,udp,4000,53,,,,,drop"], 2,
         "1 of 1 packet as expected"),
        (["a,eth0,,198.51.100.7,192.0.2.1,tcp,4000,22,,,,,maybe"], 2, "line 2: 'maybe' is nothing to expect"),
    ],
)  # fmt: skip
def test_what_is_expected_of_packets(rows: list[str], code: int, told: str, tmp_path: Path) -> None:
    (tmp_path / "a.v4").write_text(RULES)
    (tmp_path / "p.csv").write_text("\n".join([HEAD, *rows]) + "\n")
    done = run("probe", "a.v4", "--packets", "p.csv", cwd=tmp_path)
    assert done.returncode == code, done.stderr
    assert told in done.stdout + done.stderr
    data = run("probe", "a.v4", "--packets", "p.csv", "--json", cwd=tmp_path)
    assert data.returncode == code
    if data.stdout:
        held = json.loads(data.stdout)
        jsonschema.validate(held, schema("probe"))
        assert held["as_expected"]["no"] == (code == 1)


def test_what_is_expected_of_packets_over_devices(tmp_path: Path) -> None:
    """One way of a journey alone is told: where it is not certain, no expectation is fulfilled for sure, and none fails."""
    gateway = tmp_path / "gw"
    gateway.mkdir()
    (gateway / "rules.v4").write_text(RULES.replace("-A INPUT", ":FORWARD ACCEPT [0:0]\n-A INPUT", 1))
    held = [("eth0", "192.0.2.1"), ("eth1", "10.0.0.1")]
    (gateway / "ip-addr.json").write_text(json.dumps([
        {"ifname": name, "flags": ["UP"], "addr_info": [{"family": "inet", "local": one, "prefixlen": 24}]} for name, one in held
    ]))  # fmt: skip
    rows = [
        f"{to} {word},10.0.0.7,{to},tcp,22,{word}"
        for to in ("192.0.2.1", "198.51.100.9")
        for word in ("accept", "drop")
    ]
    (tmp_path / "q.csv").write_text("\n".join(["id,src,dst,protocol,dport,expect", *rows]) + "\n")
    done = run("probe", gateway, "--packets", "q.csv", "--json", cwd=tmp_path)
    path = json.loads(done.stdout)
    jsonschema.validate(path, schema("paths"))
    assert [(one["certain"], one["as_expected"]) for one in path["packets"]] == [
        (True, True), (True, False), (False, None), (False, None),
    ]  # fmt: skip
    assert done.returncode == 1
    told = run("probe", gateway, "--packets", "q.csv", cwd=tmp_path).stdout
    assert told.endswith("1 of 4 packets as expected\n")

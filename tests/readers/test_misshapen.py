"""JSON of the right words in the wrong shapes, and numbers nobody can mean: told of, and never the end of the export."""

from __future__ import annotations

import copy
import io
import json
import sys
import zipfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import openpyxl
import pytest

import aiguille
from aiguille.analysis.program import Programs
from aiguille.model import AiguilleError, Device, Direction
from aiguille.readers import host, nftables
from aiguille.readers.files import decode
from tests.helpers import DUMP, linux, placed

SHAPES: tuple[Any, ...] = (
    5,
    "x",
    [],
    {},
    None,
    True,
    -1,
    1e300,
    ["a"],
    {"a": 1},
    [5],
    int("9" * 4000),
    "9" * 5000,
    "\u0663",
)
TCP = {"payload": {"protocol": "tcp", "field": "dport"}}
SOURCE = {"payload": {"protocol": "ip", "field": "saddr"}}
IN = {"family": "inet", "table": "u"}
RULES = [
    {"metainfo": {"version": "1.0.6"}},
    {"table": {"family": "inet", "name": "u", "flags": ["dormant"]}},
    {"table": {"family": "inet", "name": "u"}},
    {"set": {**IN, "name": "s", "type": "ipv4_addr", "flags": ["interval"], "timeout": 5,
             "elem": ["192.0.2.4", {"prefix": {"addr": "10.0.0.0", "len": 8}}, {"elem": {"val": "192.0.2.1", "timeout": 5}},
                      {"range": ["192.0.2.2", "192.0.2.9"]}]}},
    {"set": {**IN, "name": "c", "type": ["ipv4_addr", "inet_service"], "elem": [{"concat": ["192.0.2.4", 80]}]}},
    {"map": {**IN, "name": "m", "type": "inet_service", "map": "verdict",
             "elem": [[80, {"accept": None}], [22, {"jump": {"target": "k"}}]]}},
    {"chain": {**IN, "name": "k"}},
    {"chain": {**IN, "name": "c", "type": "filter", "hook": "input", "prio": 0, "policy": "drop", "dev": "eth0"}},
    {"chain": {**IN, "name": "n", "type": "nat", "hook": "prerouting", "prio": -100, "policy": "accept"}},
    {"rule": {**IN, "chain": "c", "comment": "hi", "expr": [
        {"match": {"op": "==", "left": TCP, "right": {"set": [22, {"range": [80, 90]}]}}}, {"counter": {"packets": 1, "bytes": 2}},
        {"log": {"prefix": "x", "level": "info", "flags": ["all"]}}, {"limit": {"rate": 5, "burst": 3, "per": "second", "inv": True}},
        {"jump": {"target": "k"}}]}},
    {"rule": {**IN, "chain": "c", "expr": [
        {"match": {"op": "in", "left": {"ct": {"key": "state"}}, "right": ["established", "related"]}},
        {"match": {"op": "!=", "left": {"meta": {"key": "iifname"}}, "right": "@s"}}, {"vmap": {"key": TCP, "data": "@m"}}]}},
    {"rule": {**IN, "chain": "c", "expr": [
        {"match": {"op": "==", "left": SOURCE, "right": "@s"}}, {"mangle": {"key": {"meta": {"key": "mark"}}, "value": 5}},
        {"set": {"op": "add", "elem": SOURCE, "set": "@s"}}, {"reject": {"type": "icmp", "expr": "port-unreachable"}}]}},
    {"rule": {**IN, "chain": "n", "expr": [
        {"match": {"op": "==", "left": {"&": [{"payload": {"protocol": "tcp", "field": "flags"}}, ["syn", "ack"]]}, "right": "syn"}},
        {"dnat": {"family": "ip", "addr": "10.0.0.5", "port": {"range": [80, 90]}, "flags": ["random"]}}]}},
    {"rule": {**IN, "chain": "n", "expr": [
        {"match": {"op": "==", "left": {"fib": {"result": "type", "flags": ["daddr"]}}, "right": "local"}},
        {"match": {"op": "==", "left": {"concat": [SOURCE, TCP]}, "right": "@c"}},
        {"dnat": {"family": "ip", "addr": {"map": {"key": TCP, "data": {"set": [[80, "10.0.0.5"], [81, "10.0.0.6"]]}}}}}]}},
    {"element": {**IN, "name": "s", "elem": ["192.0.2.99"]}},
    {"quota": {**IN, "name": "q", "bytes": 5, "used": 3, "inv": False}},
]  # fmt: skip
PRINTED = {
    "ip-addr.json": [{"ifname": "eth0", "flags": ["UP"], "operstate": "UP", "addr_info": [
        {"family": "inet", "local": "192.0.2.1", "prefixlen": 24}, {"family": "inet6", "local": "fe80::1", "prefixlen": 64}]}],
    "ip-route.json": [{"dst": "default", "gateway": "192.0.2.254", "dev": "eth0", "flags": []},
                      {"dst": "10.0.0.0/8", "via": {"family": "inet6", "host": "fe80::2"}, "dev": "eth1",
                       "table": "main", "pref": "medium"},
                      {"type": "blackhole", "dst": "10.9.0.0/16"}],
    "ip-rule.json": [{"priority": 0, "src": "all", "table": "local"}, {"priority": 5, "src": "10.0.0.0", "srclen": 8, "table": "77"}],
}  # fmt: skip


def places(value: Any, way: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    yield way
    if isinstance(value, dict | list):
        for key in value if isinstance(value, dict) else range(len(value)):
            yield from places(value[key], (*way, key))


def put(value: Any, way: tuple[Any, ...], other: Any) -> Any:
    if not way:
        return other
    out = copy.copy(value)
    out[way[0]] = put(out[way[0]], way[1:], other)
    return out


def each(value: Any, read: Callable[[str], Device]) -> int:
    """Every place of some JSON in every other shape; how many were read."""
    read_ones = 0
    for way in places(value):
        for shape in SHAPES:
            try:
                device = read(json.dumps(put(value, way, shape)))
            except AiguilleError:
                continue
            programs = Programs(device)
            for family in (4, 6):
                for direction in Direction:
                    programs.get(family, direction)
            read_ones += 1
    return read_ones


def test_json_of_nft_in_other_shapes() -> None:
    assert each({"nftables": RULES}, lambda text: nftables.read([decode("a.json", text.encode())], "box")) > 1000


@pytest.mark.parametrize("name", PRINTED)
def test_json_of_ip_in_other_shapes(name: str) -> None:
    assert each(PRINTED[name], lambda text: host.read(placed({"rules.v4": DUMP, name: text}), "box")) > 50


LONG, ARABIC = "9" * 5000, "\u0662\u0662"
NUMBERS = {
    "etc/sysctl.conf": "net.ipv4.tcp_max = {}\n",
    "ss-tuln.txt": "tcp LISTEN 0 1 0.0.0.0:{} 0.0.0.0:*\n",
    "routes.txt": "default via 192.0.2.1 dev eth0 metric {}\n",
    "old-routes.txt": "Destination Gateway Genmask Flags Metric Ref Use Iface\n0.0.0.0 192.0.2.1 0.0.0.0 UG {} 0 0 eth0\n",
    "addresses.txt": "2: eth0: <UP> mtu 1500 state UP\n    inet 192.0.2.2/{} scope global eth0\n",
    "brief.txt": "eth0 UP 192.0.2.2/{}\n",
    "netstat.txt": "Proto Recv-Q Send-Q Local Address Foreign Address State\ntcp 0 0 0.0.0.0:{} 0.0.0.0:* LISTEN\n",
    "uptime.txt": " 08:00:05 up {} days\n",
    "etc/logrotate.d/x": "/var/log/syslog {{\nrotate {}\n daily\n}}\n",
    "etc/ssh/sshd_config": "Port {0}\nClientAliveInterval {0}\n",
    "etc/fail2ban/jail.local": "[sshd]\nenabled=true\nmaxretry={0}\nbantime={0}\n",
    "etc/systemd/journald.conf": "[Journal]\nMaxRetentionSec={}day\n",
    "etc/security/pwquality.conf": "minlen = {}\n",
    "rules.v6": "*filter\n:INPUT DROP [{0}:{0}]\n[{0}:{0}] -A INPUT -p tcp --dport {0} -j ACCEPT\nCOMMIT\n",
    "ruleset.nft": "table ip t {{ chain c {{ type filter hook input priority {0}; "
    "tcp dport {0} counter packets {0} bytes 010 accept; }} }}\n",
}


@pytest.mark.parametrize("number", [LONG, ARABIC], ids=["long", "of another script"])
@pytest.mark.parametrize("place", NUMBERS)
def test_numbers_nobody_can_mean(place: str, number: str) -> None:
    device = linux({place: NUMBERS[place].format(number)})
    assert device.rulebases
    assert sys.get_int_max_str_digits() == 4300  # nothing was done about it for the whole process


def workbook() -> dict[str, bytes]:
    book = openpyxl.Workbook()
    for row in (("action", "source", "destination", "service"), ("allow", "any", "192.0.2.1", "tcp/443")):
        book.active.append(row)
    out = io.BytesIO()
    book.save(out)
    with zipfile.ZipFile(out) as packed:
        return {name: packed.read(name) for name in packed.namelist()}


@pytest.mark.parametrize("part", ["sheet1", "styles", "sharedStrings", "workbook.xml"])
@pytest.mark.parametrize("cut", [0.3, 0.7])
def test_a_cut_workbook_does_not_end_the_others_audit(tmp_path: Path, part: str, cut: float) -> None:
    with zipfile.ZipFile(tmp_path / "rules.xlsx", "w") as packed:
        for name, data in workbook().items():
            packed.writestr(name, data[: int(len(data) * cut)] if part in name else data)
    (tmp_path / "gate.v4").write_text(DUMP)
    estate = aiguille.read(tmp_path)
    assert [device.name for device in estate.devices if device.dialect == "iptables-save"] == ["gate"]
    assert len(estate.devices) + len(estate.failures) + len(estate.notes) >= 2
    assert not any("please report" in failure.message for failure in estate.failures)


@pytest.mark.parametrize("name", [b"rules\xff.v4", b"n\xfe/rules.v4"])
def test_names_that_are_no_utf8(tmp_path: Path, name: bytes) -> None:
    path = bytes(tmp_path) + b"/" + name
    Path(path.decode(errors="surrogateescape")).parent.mkdir(exist_ok=True)
    Path(path.decode(errors="surrogateescape")).write_text(DUMP.replace("-i lo", "-p tcp --dport 22"))
    audit = aiguille.audit(aiguille.read(tmp_path))
    assert audit.findings
    assert "\\udcf" in audit.findings[0].evidence[0].where.file
    json.dumps([finding.device for finding in audit.findings]).encode()


def test_lines_that_end_as_old_programs_ended_them() -> None:
    assert linux({}, DUMP.replace("\n", "\r")).rulebases

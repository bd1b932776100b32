"""Two exports of one device, of makes that are described and of hosts: what was rewritten is named as what it is."""

from __future__ import annotations

import json
from datetime import date
from pathlib import Path

import pytest
from msgspec.structs import replace

import aiguille
from aiguille.analysis.edits import Edit
from aiguille.baseline.comparing import Comparison, compare
from aiguille.demo import files
from aiguille.model import UsageError
from aiguille.readers.literals import read_network

SUMMIT = files()["exports/summit-gw.txt"].decode()
HOST = "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n%sCOMMIT\n"
ADMINS = "create admins hash:net family inet hashsize 1024 maxelem 65536\n%s"


def compared(folder: Path, before: dict[str, str], after: dict[str, str]) -> Comparison:
    """Two folders with files compared, findings left out."""
    for name, content in (("before", before), ("after", after)):
        for file, text in content.items():
            path = folder / name / "gw" / file
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text)
    return aiguille.compare(
        aiguille.read(folder / "before" / "gw"), aiguille.read(folder / "after" / "gw"), findings=False
    )


def edited(text: str, *pairs: tuple[str, str]) -> str:
    for old, new in pairs:
        assert old in text, old
        text = text.replace(old, new, 1)
    return text


@pytest.mark.parametrize(
    ("pairs", "things", "opens", "closes"),
    [
        ([("is 10.44.10.32/29", "is 10.44.10.32/28")], {("changed", "address object", "valley-consoles")}, True, False),
        ([("is 10.44.10.32/29", "is 10.44.10.32/30")], {("changed", "address object", "valley-consoles")}, False, True),
        (
            [("place brake-plc ", "place spare-plc       { is 10.44.31.12 }\nplace brake-plc ")],
            {("added", "address object", "spare-plc")}, False, False,
        ),
        ([("build          5.2.1", "build          5.2.4")], {("changed", "setting", "firmware")}, False, False),
    ],
)  # fmt: skip
def test_objects_and_settings_of_a_described_make(
    tmp_path: Path, pairs: list[tuple[str, str]], things: set[tuple[str, str, str]], opens: bool, closes: bool
) -> None:
    found = compared(tmp_path, {"summit-gw.txt": SUMMIT}, {"summit-gw.txt": edited(SUMMIT, *pairs)})
    (pair,) = found.pairs
    assert {(one.edit.value, one.kind, one.name) for one in pair.things} == things
    assert (bool(pair.opened), bool(pair.closed)) == (opens, closes)
    assert found.opened is opens
    assert not pair.rules


def test_a_group_as_if_it_had_one_member_more(tmp_path: Path) -> None:
    (tmp_path / "summit-gw.txt").write_text(SUMMIT)
    before = aiguille.read(tmp_path / "summit-gw.txt")
    after = aiguille.as_if(before, "add 10.44.41.0/24 to group valley-consoles")
    (pair,) = aiguille.compare(before, after, findings=False).pairs
    assert [(one.edit, one.name) for one in pair.things] == [(Edit.CHANGED, "valley-consoles")]
    assert all("10.44.41.0/24" in row.traffic.words() for row in pair.opened)
    assert pair.opened
    back = aiguille.as_if(after, "take 10.44.41.0/24 from group valley-consoles")
    (pair,) = aiguille.compare(before, back, findings=False).pairs
    assert not pair.changes


def test_a_set_and_the_rules_that_look_into_it(tmp_path: Path) -> None:
    rules = HOST % "-A INPUT -p tcp -m set --match-set admins src -m tcp --dport 22 -j ACCEPT\n"
    before = {"rules.v4": rules, "rules.ipset": ADMINS % "add admins 10.0.0.0/28\n"}
    after = {"rules.v4": rules, "rules.ipset": ADMINS % "add admins 10.0.0.0/28\nadd admins 203.0.113.0/24\n"}
    (pair,) = compared(tmp_path, before, after).pairs
    assert [(one.edit, one.kind, one.name) for one in pair.things] == [(Edit.CHANGED, "set", "admins")]
    assert [row.traffic.words() for row in pair.opened] == ["tcp 22 from 203.0.113.0/24 to any"]


def test_rules_are_recognised_under_other_numbers(tmp_path: Path) -> None:
    lines = [f"-A INPUT -s 10.0.{n}.0/24 -p tcp --dport {20 + n} -j ACCEPT\n" for n in range(12)]
    other = [*lines]
    other.insert(0, "-A INPUT -p icmp -j ACCEPT\n")
    del other[6]
    other.append(other.pop(3))
    other[8] = (
        other[8].replace("--dport 28", "--dport 2800")
        if "--dport 28" in other[8]
        else other[8].replace("10.0.", "10.1.")
    )
    (pair,) = compared(tmp_path, {"rules.v4": HOST % "".join(lines)}, {"rules.v4": HOST % "".join(other)}).pairs
    edits = sorted((one.edit.value, one.before.where.first if one.before else 0) for one in pair.rules)
    assert [edit for edit, _ in edits] == ["added", "changed", "moved", "removed"]


@pytest.mark.parametrize(
    ("change", "who", "told"),
    [
        ("remove rule 2 of INPUT", "10.0.0.9", [("ssh", "yes", "no", "yes")]),
        ("remove rule 1 of INPUT", "10.0.0.9", [("ssh", "yes", "yes", "yes")]),
        ("put above rule 1 of INPUT: drop tcp to any:22", "10.0.0.9", [("ssh", "yes", "no", "no")]),
        ("put first in INPUT: drop from 10.0.0.0/24", "10.0.0.9", [("ssh", "yes", "no", "no")]),
        ("remove rule 2 of INPUT", "10.9.0.9", []),
    ],
)
def test_administrators(tmp_path: Path, change: str, who: str, told: list[tuple[str, str, str, str]]) -> None:
    states = "-A INPUT -m conntrack --ctstate ESTABLISHED,RELATED -j ACCEPT\n"
    (tmp_path / "gw.v4").write_text(HOST % f"{states}-A INPUT -s 10.0.0.0/24 -p tcp --dport 22 -j ACCEPT\n")
    before = aiguille.read(tmp_path / "gw.v4")
    network = read_network(who)
    (pair,) = compare(before, aiguille.as_if(before, change), None, [(network, "")]).pairs  # type: ignore[list-item]
    assert [(one.service, one.before, one.after, one.running_after) for one in pair.access] == told
    assert [one.lost for one in pair.access] == [one[2] == "no" for one in told]


def test_findings_that_time_alone_brings_are_due_not_new(tmp_path: Path) -> None:
    (tmp_path / "summit-gw.txt").write_text(SUMMIT)
    before = replace(aiguille.read(tmp_path / "summit-gw.txt"), as_of=date(2026, 11, 1))
    later = replace(before, as_of=date(2027, 6, 1))
    found = aiguille.compare(before, later)
    assert not found.new
    assert found.due
    assert found.unchanged
    assert not found.opened


def test_estates_without_a_device_in_common(tmp_path: Path) -> None:
    (tmp_path / "a.v4").write_text(HOST % "")
    (tmp_path / "b.v4").write_text(HOST % "")
    both, one = aiguille.read([tmp_path / "a.v4", tmp_path / "b.v4"]), aiguille.read(tmp_path / "a.v4")
    other = replace(one, devices=(replace(one.devices[0], name="elsewhere"),))
    assert [pair.before.name for pair in aiguille.compare(both, one, findings=False).pairs] == ["a"]
    assert aiguille.compare(both, one, findings=False).only_before == ("b",)
    with pytest.raises(UsageError, match="no device is on both sides"):
        aiguille.compare(both, other, findings=False)


def test_an_administrator_uses_the_address_in_his_own_network(tmp_path: Path) -> None:
    """A rule for another address of the gateway does not help who always opened that of his network."""
    told = [
        {"ifname": f"eth{n}", "flags": ["UP"], "addr_info": [{"local": f"10.{n}.0.1", "prefixlen": 24}]} for n in (1, 2)
    ]
    (tmp_path / "gw").mkdir()
    (tmp_path / "gw" / "ip-addr.json").write_text(json.dumps(told))
    (tmp_path / "gw" / "rules.v4").write_text(HOST % "-A INPUT -s 10.1.0.0/24 -p tcp --dport 22 -j ACCEPT\n")
    before = aiguille.read(tmp_path / "gw")
    after = aiguille.as_if(before, "-R INPUT 1 -s 10.1.0.0/24 -d 10.2.0.1 -p tcp --dport 22 -j ACCEPT")
    (pair,) = compare(before, after, None, [(read_network("10.1.0.9"), "ssh")]).pairs  # type: ignore[list-item]
    assert [(one.before, one.after, one.lost) for one in pair.access] == [("yes", "no", True)]

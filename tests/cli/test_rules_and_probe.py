"""`rules` and `probe` of the installed program."""

from __future__ import annotations

import json
from pathlib import Path

import jsonschema
import pytest

from aiguille.demo import write_estate
from aiguille.packets import COLUMNS
from tests.helpers import run, schema

HEADER = ",".join(COLUMNS)


@pytest.fixture
def estate(tmp_path: Path) -> Path:
    write_estate(tmp_path / "estate")
    return tmp_path / "estate"


def rules(estate: Path, *words: str) -> list[dict[str, object]]:
    done = run("rules", estate, "--json", *words)
    assert done.returncode == 0, done.stderr
    data = json.loads(done.stdout)
    jsonschema.validate(data, schema("rules"))
    return data["rules"]


def test_rules_of_some_devices(estate: Path) -> None:
    two = rules(estate, "--device", "valley-gw", "--device", "summit-gw")
    assert {one["device"] for one in two} == {"valley-gw", "summit-gw"}
    assert two == [one for one in rules(estate) if one["device"] in ("valley-gw", "summit-gw")]
    # The loopback's rule stands above all others and hides none of them.
    assert {
        one["standing"] for one in rules(estate, "--device", "valley-gw", "--chain", "INPUT") if one["rule"] == 3
    } >= {"live"}
    wrong = run("rules", estate, "--device", "valley")
    assert wrong.returncode == 2
    assert "did you mean 'valley-gw'?" in wrong.stderr


def test_rules_of_the_sample(estate: Path) -> None:
    found = {
        (r["device"], r["chain"], r["rule"], "v6" if str(r["file"]).endswith("v6") else ""): r for r in rules(estate)
    }
    hidden = found["valley-gw", "to-huts", 3, ""]
    assert (hidden["standing"], hidden["witness"], hidden["openness"]) == ("shadowed", None, None)
    assert hidden["because"] == [
        {"rulebase": "filter", "chain": "to-huts", "rule": 2, "file": hidden["file"], "line": 45, "called_by": None}
    ]
    needless = found["valley-gw", "FORWARD", 5, ""]
    assert (needless["standing"], needless["because"][0]["rule"]) == ("redundant", 11)
    consoles = found["summit-gw", "passages", 1, ""]
    assert "valley-consoles = 10.44.10.32/29" in consoles["match"]
    assert "controllers = 10.44.31.10 or 10.44.31.11" in consoles["match"]
    assert consoles["hits"] == 18231
    assert found["summit-gw", "passages", 10, ""]["standing"] == "shadowed"
    assert found["valley-gw", "remote-help", 1, ""]["openness"] == 49
    # By its lines each rule can be found again in the export.
    for rule in found.values():
        text = Path(str(rule["file"])).read_text().splitlines()[int(str(rule["line"])) - 1]
        assert str(rule["text"]).splitlines()[0] == text


def test_rules_can_be_chosen_and_ordered(estate: Path) -> None:
    valley, summit, midway = (estate / "exports" / name for name in ("valley-gw", "summit-gw.txt", "midway-gw"))
    everything = rules(summit)
    for chosen in (["shadowed", "impossible", "off"], ["redundant"]):
        some = [r for r in everything if r["standing"] in chosen]
        assert some == rules(summit, *(word for one in chosen for word in ("--standing", one)))
        assert some
    gone = [r for r in everything if r["witness"] is None and r["standing"] in ("shadowed", "redundant", "impossible")]
    assert rules(summit, "--hidden") == gone
    assert gone
    assert {r["chain"] for r in rules(valley, "--chain", "to-huts")} == {"to-huts"}
    assert {r["action"] for r in rules(valley, "--action", "drop")} == {"drop"}
    named = rules(summit, "--touching", "controllers", "--chain", "passages")
    assert [r["name"] for r in named] == ["consoles to controllers", "lift maker"]
    by_zone = rules(summit, "--touching", "lifts", "--chain", "passages")
    assert {r["name"] for r in named} <= {r["name"] for r in by_zone}
    assert "there is keepers" in run("rules", midway, "--touching", "keeprs").stderr
    touching = rules(summit, "--touching", "10.44.31.10/502", "--chain", "passages")
    assert [r["name"] for r in touching] == ["consoles to controllers", "test of the new link", "nothing else"]
    widths = [r["width"] for r in rules(midway, "--sort", "openness") if r["width"] and r["openness"]]
    assert widths == sorted(widths, reverse=True)
    named = {
        (r["device"], r["chain"], r["rule"])
        for r in rules(estate, "--check", "rules.any-to-any", "--severity", "critical")
    }
    assert ("summit-gw", "passages", 8) in named
    assert len({device for device, _, _ in named}) < 5
    hits = [r["hits"] or 0 for r in rules(valley, "--sort", "hits", "--chain", "FORWARD")]
    assert hits == sorted(hits, reverse=True)
    for bad in ("x/22", "10.0.0.1/x", "/"):
        assert run("rules", summit, "--touching", bad).returncode == 2


def test_listings_do_not_depend_on_jobs_and_are_written_whole(estate: Path) -> None:
    one = run("rules", estate, "--jobs", "1", "--out", estate / "a.txt", "--out", estate / "a.json")
    two = run("rules", estate, "--jobs", "2", "--json")
    assert one.stdout == (estate / "a.txt").read_text()
    assert json.loads(two.stdout) == json.loads((estate / "a.json").read_text())
    assert "taken above by to-huts rule 2 (line 45)" in one.stdout


def test_probe_a_packet(estate: Path) -> None:
    words = ("probe", estate, "--device", "valley-gw", "--packet")
    packet = "tcp from 198.51.100.7:41000 to 192.0.2.2:443 entering eth0 leaving eth2"
    shown = run(*words, packet)
    assert shown.returncode == 0
    assert "ACCEPT" in shown.stdout
    assert "translate destination 10.44.60.20 port 8443" in shown.stdout
    data = json.loads(run(*words, packet, "--json").stdout)
    jsonschema.validate(data, schema("probe"))
    (found,) = data["packets"]
    decided = found["decided_by"]
    assert (found["verdict"], found["certain"], decided["chain"], decided["rule"], decided["line"]) == (
        "accept",
        True,
        "FORWARD",
        3,
        29,
    )
    assert decided["text"].startswith("[88213:5292780] -A FORWARD")
    without = json.loads(run(*words, packet, "--json", "--without", "iptables.v4:29").stdout)["packets"]
    assert [(p["id"], p["verdict"]) for p in without] == [("before", "accept"), ("packet", "drop")]
    doubtful = json.loads(
        run(*words, "icmp type 8 code 0 from 10.44.40.9 to 10.44.40.1 entering eth1.40", "--json").stdout
    )
    jsonschema.validate(doubtful, schema("probe"))
    assert doubtful["packets"][0]["certain"] is False
    assert {p["verdict"] for p in doubtful["packets"][0]["possible"]} == {"accept", "drop"}


def test_probe_a_zone_gateway(estate: Path) -> None:
    packet = "tcp from 10.44.10.33:4000 to 10.44.31.10:502 entering w1 leaving l1"
    data = json.loads(run("probe", estate, "--device", "summit-gw", "--packet", packet, "--json").stdout)
    assert data["packets"][0]["decided_by"]["rule"] == 1
    assert 'passage "consoles to controllers" {' in data["packets"][0]["decided_by"]["text"]


TABLE = f"""{HEADER}
good,eth0,eth2,198.51.100.7,192.0.2.2,tcp,41000,443,,,,
flags,eth1.10,eth0,10.44.10.9,203.0.113.9,tcp,41000,443,,,"SYN,ACK",
icmp,eth1.40,,10.44.40.9,10.44.40.1,icmp,,,8,0,,new
six,eth0,,2001:db8:1::1,2001:db8:44::1,tcp,5,22,,,,
short,eth0
mixed,eth0,eth2,198.51.100.7,2001:db8::1,tcp,1,2,,,,
address,eth0,eth2,198.51.100.777,192.0.2.2,tcp,1,2,,,,
nowhere,,,198.51.100.7,192.0.2.2,tcp,1,2,,,,
port,eth0,eth2,198.51.100.7,192.0.2.2,tcp,1,70000,,,,
"""


def test_probe_a_table_with_rows_that_are_wrong(estate: Path) -> None:
    (estate / "packets.csv").write_text(TABLE)
    done = run("probe", estate, "--device", "valley-gw", "--packets", estate / "packets.csv", "--json")
    assert done.returncode == 2
    data = json.loads(done.stdout)
    jsonschema.validate(data, schema("probe"))
    assert [(p["id"], p["verdict"]) for p in data["packets"]] == [
        ("good", "accept"),
        ("flags", "accept"),
        ("icmp", "accept"),
        ("six", "accept"),
    ]
    assert [(f["line"], f["id"]) for f in data["faults"]] == [
        (6, "short"),
        (7, "mixed"),
        (8, "address"),
        (9, "nowhere"),
        (10, "port"),
    ]
    for fault in data["faults"]:
        assert f"packets.csv:{fault['line']}: packet '{fault['id']}'" in done.stderr
    listed = run("probe", estate, "--device", "valley-gw", "--packets", estate / "packets.csv").stdout
    assert listed.splitlines()[0].startswith("good   accept")
    (estate / "packets.csv").write_text(TABLE + "short\n" * 200)
    done = run("probe", estate, "--device", "valley-gw", "--packets", estate / "packets.csv")
    assert done.stdout == listed
    assert done.stderr.count("the row is left out") == 100
    assert "packets.csv: 105 more rows are left out; --json names each" in done.stderr


def test_probe_refuses_what_it_cannot_know(estate: Path) -> None:
    (estate / "bad.csv").write_text("id,src\n")
    for words, reason in (
        (("--packets", estate / "bad.csv", "--device", "valley-gw"), "the header lacks in, out"),
        (("--packets", estate / "gone.csv", "--device", "valley-gw"), "gone.csv"),
        (("--packet", "tcp entering eth0"), "choose one with --device"),
        (("--packet", "tcp entering eth0", "--device", "vally-gw"), "did you mean 'valley-gw'"),
        (("--packet", "tcp entering eth0", "--device", "valley-gw", "--without", "INPUT/99"), "is no rule"),
    ):
        done = run("probe", estate, *words)
        assert done.returncode == 2, done.stderr
        assert reason in done.stderr
        assert "Traceback" not in done.stderr

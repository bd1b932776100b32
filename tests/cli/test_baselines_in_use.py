"""Baselines, accepted risks and location data with the installed program, as an engagement and as options."""

from __future__ import annotations

import json
from pathlib import Path

import jsonschema
import pytest

from aiguille.demo import write_estate
from tests.cli.test_program import schema
from tests.helpers import run

DUMP = """*filter
:INPUT DROP [0:0]
:FORWARD DROP [0:0]
:OUTPUT ACCEPT [0:0]
-A INPUT -i eth0 -p tcp -m tcp --dport 22 -j ACCEPT
-A FORWARD -i eth0 -o eth1 -p tcp -m tcp --dport 443 -j ACCEPT
COMMIT
"""
ENGAGEMENT = """[engagement]
%s
[[device]]
export = "gw.v4"
%s
zones.outside = { interfaces = ["eth0"], side = "outside" }
zones.office = { interfaces = ["eth1"], networks = ["10.0.1.0/24"], side = "inside" }
"""
OWN = "baseline: own\nchecks: [access]\nsettings: {access.reachable-from-outside: {severity: critical}}\n"
RISKS = "accepted:\n  - {check: access.reachable-from-outside, reason: a test, owner: head, until: 2027-01-31}\n"
PLACES = "2|r|20261101|1|20200101|20261101|+0000\nr|FR|ipv4|198.51.100.0|256|20200101|allocated\n"


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    for name, text in (("gw.v4", DUMP), ("own.yaml", OWN), ("risks.yaml", RISKS), ("places.txt", PLACES)):
        (tmp_path / name).write_text(text)
    (tmp_path / "engagement.toml").write_text(ENGAGEMENT % ("as_of = 2026-11-30", ""))
    return tmp_path


def audit(folder: Path, *words: str) -> dict[str, object]:
    done = run("audit", ".", "--json", *words, cwd=folder)
    assert done.returncode in (0, 1), done.stderr
    data = json.loads(done.stdout)
    jsonschema.validate(data, schema("audit"))
    return data


def told(data: dict[str, object], check: str) -> list[dict[str, object]]:
    every = [one for f in data["findings"] for one in (f, *f["consequences"])]  # type: ignore[attr-defined]
    return [one for one in every if one["check"] == check]


def test_a_baseline_by_option_and_by_engagement(folder: Path) -> None:
    plain = audit(folder)
    assert (plain["baseline"], told(plain, "access.reachable-from-outside")[0]["severity"]) == ("standard", "high")
    by_option = audit(folder, "--baseline", "own.yaml")
    (folder / "engagement.toml").write_text(ENGAGEMENT % ('as_of = 2026-11-30\nbaseline = "own.yaml"', ""))
    by_file = audit(folder)
    for data in (by_option, by_file):
        assert data["baseline"] == "own"
        assert told(data, "access.reachable-from-outside")[0]["severity"] == "critical"
        assert {o["check"].partition(".")[0] for o in data["outcomes"]} == {"access"}  # type: ignore[attr-defined]
    assert audit(folder, "--baseline", "strict")["baseline"] == "strict"
    (folder / "engagement.toml").write_text(ENGAGEMENT % ('baseline = "host"', ""))
    assert audit(folder)["baseline"] == "host"


def test_accepted_risks_by_option_and_by_engagement(folder: Path) -> None:
    before = audit(folder)
    data = audit(folder, "--accepted", "risks.yaml")
    assert not told(data, "access.reachable-from-outside")
    (accepted,) = data["accepted"]  # type: ignore[misc]
    assert (accepted["owner"], accepted["until"], accepted["listed"]) == ("head", "2027-01-31", "risks.yaml:2")  # type: ignore[index]
    assert told(before, "access.reachable-from-outside")
    (folder / "engagement.toml").write_text(ENGAGEMENT % ('as_of = 2027-02-01\naccepted = "risks.yaml"', ""))
    later = audit(folder)
    assert told(later, "access.reachable-from-outside")
    assert any("that is over" in note for note in later["notes"])  # type: ignore[attr-defined]
    page = run("audit", ".", "--as-of", "2026-12-01", cwd=folder).stdout
    assert "1 finding accepted by a named owner" in page
    text = run("audit", ".", "--as-of", "2026-12-01", "--details", cwd=folder).stdout
    assert "Accepted risks" in text
    assert "head, until 2027-01-31: a test" in " ".join(text.split())


def test_location_data_by_option_and_by_engagement(folder: Path) -> None:
    (folder / "strict.yaml").write_text("baseline: s\nchecks: [geo]\nsettings: {geo.countries: {allowed: [CH]}}\n")
    without = audit(folder, "--baseline", "strict.yaml")
    outcomes = {o["check"]: o["outcome"] for o in without["outcomes"]}  # type: ignore[attr-defined]
    assert outcomes["geo.countries"] == "cannot tell"
    data = audit(folder, "--baseline", "strict.yaml", "--geo", "places.txt")
    assert "France (FR)" in told(data, "geo.countries")[0]["detail"]  # type: ignore[operator]
    assert data["locations"] == ["places.txt: statistics of r, 20261101"]
    (folder / "engagement.toml").write_text(ENGAGEMENT % ('geo = ["places.txt"]', ""))
    assert told(audit(folder, "--baseline", "strict.yaml"), "geo.countries")
    done = run("geo", "reach", ".", "--json", cwd=folder)
    found = json.loads(done.stdout)
    jsonschema.validate(found, schema("geo-reach"))
    assert [(r["service"], r["direction"], [c["country"] for c in r["countries"]]) for r in found["reach"]] == [
        ("tcp/22", "to-device", ["FR"]),
        ("tcp/443", "through-device", ["FR"]),
    ]
    shown = run("geo", "reach", ".", cwd=folder).stdout
    assert "behind it" in shown
    assert "FR all and elsewhere" in " ".join(shown.split())


@pytest.mark.parametrize(
    ("header", "device", "words"),
    [
        ('baseline = "own.yml"', "", ("own.yml", "the baseline cannot be read")),
        ('baseline = "strickt"', "", ("no baseline 'strickt'", "strict")),
        ('accepted = "none.yaml"', "", ("none.yaml", "cannot be read")),
        ('geo = ["none.txt"]', "", ("none.txt", "location data cannot be read")),
        ('geo = ["gw.v4"]', "", ("gw.v4:1", "version line")),
        ("", 'administrators = ["10.0.0.300"]', ("engagement.toml:5", "10.0.0.300", "administrators")),
        ('basline = "own.yaml"', "", ("engagement.toml:2", "did you mean 'baseline'")),
    ],
)
def test_faulty_engagements_end_with_a_sentence(folder: Path, header: str, device: str, words: tuple[str, ...]) -> None:
    (folder / "engagement.toml").write_text(ENGAGEMENT % (header, device))
    done = run("audit", ".", cwd=folder)
    assert (done.returncode, done.stderr.count("\n"), "Traceback" in done.stderr) == (2, 1, False), done.stderr
    assert all(word in done.stderr for word in words), done.stderr


def test_an_administrator_who_would_be_refused(folder: Path) -> None:
    closed = DUMP.replace("-i eth0 -p tcp -m tcp --dport 22", "-i eth0 -s 203.0.113.0/28 -p tcp -m tcp --dport 22")
    (folder / "gw.v4").write_text(closed)
    for source, expected in (("198.51.100.9", "fail"), ("203.0.113.9", "pass")):
        (folder / "engagement.toml").write_text(ENGAGEMENT % ("", f'administrators = ["{source}"]'))
        outcomes = {o["check"]: o["outcome"] for o in audit(folder)["outcomes"]}  # type: ignore[attr-defined]
        assert outcomes["access.keeper-refused"] == expected


def test_advice_is_in_the_words_of_the_make(tmp_path: Path) -> None:
    write_estate(tmp_path)
    data = json.loads(run("audit", tmp_path, "--json").stdout)
    fixes = {(f["device"], f["check"]): f["fix"] for f in data["findings"]}
    assert "On this make: In doors write misses-before-lock 3." in fixes["summit-gw", "access.lockout-threshold"]
    assert "On this make" not in fixes["season-pass-web", "access.lockout-threshold"]


def test_light_findings_of_one_check_stand_together(tmp_path: Path) -> None:
    rules = "".join(f"-A INPUT -s 10.0.0.{n} -p tcp -m tcp --dport 8{n}0 -j ACCEPT\n" for n in range(1, 5))
    (tmp_path / "gw.v4").write_text(DUMP.replace("-A FORWARD", rules + "-A FORWARD", 1))
    text = run("audit", "gw.v4", "--details", cwd=tmp_path).stdout
    assert text.count("Nothing says what a rule is for") == 1
    assert "6 of 6 accepting rules have no description: rule 1 of chain INPUT" in " ".join(text.split())

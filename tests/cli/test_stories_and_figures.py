"""`explain` and `figure`, and the files an audit is written to, as the installed program gives them."""

from __future__ import annotations

import json
import re
from importlib import resources
from pathlib import Path
from xml.etree import ElementTree

import jsonschema
import pytest

import aiguille
from aiguille.baseline.story import describe
from aiguille.demo import write_estate
from aiguille.reports.figures import KINDS
from aiguille.reports.story import stories_data, story_data
from aiguille.reports.text import to_json
from tests.helpers import run

OPEN = "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n-A INPUT -p tcp -m tcp --dport 22 -j ACCEPT\nCOMMIT\n"


@pytest.fixture(scope="module")
def estate(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("estate")
    write_estate(folder / "valdrane-lifts")
    return folder


@pytest.fixture(scope="module")
def findings(estate: Path) -> list[dict[str, object]]:
    found: list[dict[str, object]] = json.loads(run("audit", "valdrane-lifts", "--json", cwd=estate).stdout)["findings"]
    return found


def test_a_story_tells_all_there_is(estate: Path, findings: list[dict[str, object]]) -> None:
    finding = next(f for f in findings if "tcp/9443 answers" in str(f["detail"]))
    done = run("explain", str(finding["fingerprint"])[:8], "valdrane-lifts", cwd=estate)
    assert done.returncode == 0, done.stderr
    parts = re.findall(r"^[A-Z][a-z ,]+$", done.stdout, re.MULTILINE)
    assert parts == [
        "What was found", "Why it matters", "How it is judged", "Where it is written", "The packet that proves it, and its way",
        "How to mend it", "The same elsewhere", "How to accept it for a while",
    ]  # fmt: skip
    text = " ".join(done.stdout.split())
    assert "at_most_sources: 64" in text
    assert re.search(r"> 23 \[731:43860\]", text), "the line it rests on is marked"
    assert "22 [17:1020]" in text, "and lines around it are shown"
    assert "decided by filter remote-help rule 2" in text
    assert re.search(r"[0-9]+ more devices: .*summit-gw \(1\)", text)
    assert max(map(len, done.stdout.splitlines())) <= 100


def test_all_that_is_behind_a_cause_and_all_that_filters_leave(estate: Path) -> None:
    exports = ("valdrane-lifts/exports/valley-gw", "valdrane-lifts/exports/summit-gw.txt")
    audit = json.loads(run("audit", *exports, "--json", cwd=estate).stdout)
    cause = next(one for one in audit["causes"] if len(one["findings"]) in (2, 3))
    numbers = {one["fingerprint"]: one["number"] for one in audit["findings"]}

    def told(word: str, *filters: str) -> list[str]:
        done = run("explain", word, *exports, *filters, "--json", cwd=estate)
        return [numbers[one["finding"]["fingerprint"]] for one in json.loads(done.stdout)["stories"]]

    assert told(cause["number"]) == told("all", "--cause", cause["number"]) == cause["findings"]
    grave = {"device": "summit-gw", "severity": "critical"}
    wanted = [one["number"] for one in audit["findings"] if grave.items() <= one.items()]
    assert wanted
    assert told("all", "--device", "summit-gw", "--severity", "critical") == wanted
    text = run("explain", cause["number"], *exports, cwd=estate).stdout
    assert text.count("How to mend it") == len(cause["findings"])
    assert "No finding" in run("explain", "all", *exports, "--check", "rules.both-ports", cwd=estate).stdout
    wrong = run("explain", "C-999", *exports, cwd=estate)
    assert (wrong.returncode, "there is no cause 'C-999'" in wrong.stderr) == (2, True)


def test_the_acceptance_it_proposes_is_one_once_filled_in(
    estate: Path, findings: list[dict[str, object]], tmp_path: Path
) -> None:
    fingerprint = str(findings[0]["fingerprint"])
    done = json.loads(run("explain", fingerprint, "valdrane-lifts", "--json", cwd=estate).stdout)
    entry = done["acceptance"]
    (tmp_path / "risks.yaml").write_text(f"accepted:\n{entry}")
    refused = run("baseline", "check", "risks.yaml", "--as-of", "2026-11-30", cwd=tmp_path)
    assert refused.returncode == 2
    assert "'reason' is empty" in refused.stderr
    filled = re.sub(r'(reason|owner): ""', r"\1: somebody said so", entry)
    (tmp_path / "risks.yaml").write_text(f"accepted:\n{filled}")
    again = run("explain", fingerprint, estate / "valdrane-lifts", "--accepted", "risks.yaml", "--json", cwd=tmp_path)
    data = json.loads(again.stdout)
    assert data["accepted"]["owner"] == "somebody said so"
    assert data["accepted"]["line"] == 2


def test_stories_follow_their_schema(estate: Path) -> None:
    schema = json.loads((resources.files("aiguille.reports") / "schemas" / "explain.schema.json").read_text())
    validator = jsonschema.Draft202012Validator(schema)
    audit = aiguille.audit(aiguille.read([estate / "valdrane-lifts"]))
    for finding in (*audit.findings[::7], *(one for one, _ in audit.accepted)):
        data = json.loads(to_json(story_data(describe(audit, finding.fingerprint))))
        validator.validate(data)
        assert data["finding"]["fingerprint"] == finding.fingerprint
        meant = [line["text"] for one in data["excerpts"] for line in one["lines"] if line["meant"]]
        assert meant or not finding.evidence
        assert [line for e in finding.evidence for line in e.text][:1] == meant[:1] or finding.evidence[0].where.column
        assert (data["walk"] is None) == (finding.proof is None)
    validator.validate(
        json.loads(to_json(stories_data([describe(audit, one.fingerprint) for one in audit.findings[:2]])))
    )


@pytest.mark.parametrize(
    ("word", "told"),
    [
        ("xyz", "no fingerprint"),
        ("7c", "at least 4"),
        ("0000000000000000", "no finding of these exports"),
        ("<script>", "no fingerprint"),
    ],
)
def test_fingerprints_that_name_nothing(tmp_path: Path, word: str, told: str) -> None:
    (tmp_path / "f.v4").write_text(OPEN)
    done = run("explain", word, "f.v4", cwd=tmp_path)
    assert done.returncode == 2
    assert told in done.stderr
    assert "Traceback" not in done.stderr


def test_secrets_stay_hidden_in_the_lines_around(estate: Path, findings: list[dict[str, object]]) -> None:
    text = (estate / "valdrane-lifts" / "exports" / "summit-gw.txt").read_text()
    secret = re.search(r'proof\s+"?([^\s"]+)', text)
    assert secret is not None
    near = text[: secret.start()].count("\n") + 1
    told = [
        f
        for f in findings
        if f["device"] == "summit-gw" and any(abs(e["line"] - near) <= 3 for e in f["evidence"])  # type: ignore[attr-defined]
    ]
    assert told, "a finding stands beside it"
    for finding in told:
        done = run("explain", str(finding["fingerprint"]), "valdrane-lifts", cwd=estate)
        assert "[secret]" in done.stdout
        assert secret[1] not in done.stdout


@pytest.mark.parametrize("kind", KINDS)
def test_figures_hold_what_they_show(estate: Path, tmp_path: Path, kind: str) -> None:
    done = run("figure", kind, estate / "valdrane-lifts", "--out", "a.svg", "--out", "a.png", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert done.stdout == ""
    root = ElementTree.fromstring((tmp_path / "a.svg").read_text())
    words = [text.text for text in root.iter("{http://www.w3.org/2000/svg}text")]
    assert {"findings": "by device", "hits": "100 %", "openness": "any to any, one service", "geo": "CH"}[kind] in words
    assert any("valley-gw" in (word or "") for word in words)
    assert (tmp_path / "a.png").read_bytes().startswith(b"\x89PNG")
    if kind == "hits":
        again = run("figure", kind, estate / "valdrane-lifts", "--out", "b.svg", "--out", "b.png", cwd=tmp_path)
        assert again.returncode == 0
        assert (tmp_path / "a.svg").read_bytes() == (tmp_path / "b.svg").read_bytes()
        assert (tmp_path / "a.png").read_bytes() == (tmp_path / "b.png").read_bytes()
    assert run("figure", kind, "x", "--out", "a.svg", cwd=tmp_path).returncode == 2, "nothing is written over unasked"


@pytest.mark.parametrize(("kind", "told"), [("hits", "no export has hit counters"), ("geo", "no location data")])
def test_nothing_to_draw_is_said(tmp_path: Path, kind: str, told: str) -> None:
    (tmp_path / "f.v4").write_text(OPEN)
    done = run("figure", kind, "f.v4", "--out", "a.svg", cwd=tmp_path)
    assert done.returncode == 2
    assert told in done.stderr
    assert not (tmp_path / "a.svg").exists()


def test_every_ending_is_written_and_read_endings_are_longest_first(tmp_path: Path) -> None:
    (tmp_path / "f.v4").write_text(OPEN)
    names = [
        "r.html",
        "r.xlsx",
        "r.csv",
        "r.rules.csv",
        "r.md",
        "r.json",
        "r.sarif",
        "r.oscal.json",
        "r.xml",
        "r.txt",
        "R2.HTML",
    ]
    done = run("audit", "f.v4", *(word for name in names for word in ("--out", name)), cwd=tmp_path)
    assert done.returncode in (0, 1), done.stderr
    assert sorted(p.name for p in tmp_path.iterdir()) == sorted([*names, "f.v4"])
    assert json.loads((tmp_path / "r.oscal.json").read_text())["assessment-results"]
    assert json.loads((tmp_path / "r.json").read_text())["findings"]
    assert (tmp_path / "r.rules.csv").read_text().startswith("device,rule base")
    assert (tmp_path / "r.csv").read_text().startswith("device,also on,severity")
    assert (tmp_path / "R2.HTML").read_text() == (tmp_path / "r.html").read_text()


def test_rules_as_csv_hold_what_was_chosen(estate: Path, tmp_path: Path) -> None:
    done = run("rules", estate / "valdrane-lifts", "--standing", "shadowed", "--out", "s.csv", "--json", cwd=tmp_path)
    rows = (tmp_path / "s.csv").read_text().count("shadowed")
    assert rows >= len(json.loads(done.stdout)["rules"]) > 0


@pytest.mark.parametrize(
    ("stated", "options", "code"), [("low", (), 1), ("never", (), 0), ("never", ("--fail-on", "low"), 1)]
)
def test_options_count_above_the_engagement(tmp_path: Path, stated: str, options: tuple[str, ...], code: int) -> None:
    (tmp_path / "f.v4").write_text(OPEN)
    (tmp_path / "engagement.toml").write_text(
        f'[engagement]\nfail_on = "{stated}"\nclient = "C"\nauditor = "A"\nscope = "S"\n[[device]]\nexport = "f.v4"\n'
    )
    done = run("audit", tmp_path / "engagement.toml", "--json", *options)
    assert done.returncode == code
    if stated == "never":
        # One that was only found in the folder may have come with the exports.
        found = run("audit", tmp_path, "--json")
        assert found.returncode == 1
        assert any("is not obeyed" in note for note in json.loads(found.stdout)["notes"])
    data = json.loads(done.stdout)
    assert (data["client"], data["auditor"], data["scope"]) == ("C", "A", "S")
    (tmp_path / "engagement.toml").write_text('[engagement]\nfail_on = "hihg"\n[[device]]\nexport = "f.v4"\n')
    wrong = run("audit", tmp_path)
    assert wrong.returncode == 2
    assert ":2:" in wrong.stderr
    assert "'hihg' is not a severity; known are critical, high" in wrong.stderr

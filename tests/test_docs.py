"""What the documents say is what the program does."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import sys
import tomllib
from datetime import date
from pathlib import Path
from typing import Any

import jsonschema
import pytest
import yaml

import aiguille
from aiguille import baseline
from aiguille.cli.commands import COMMANDS
from aiguille.demo import write_estate
from aiguille.model import Estate, UsageError
from aiguille.readers import decode
from aiguille.reports.questions import collecting
from tests import held, pages, proof, walks
from tests.helpers import run
from tests.needs import needed

ROOT = Path(__file__).parent.parent
DIALECTS = (ROOT / "docs" / "dialects.md").read_text()


def test_the_page_on_proof_names_tests_that_are_there() -> None:
    assert (ROOT / "docs" / "proof.md").read_text().endswith(proof.held())
    for what, file, case in held.HELD:
        assert case in (ROOT / file).read_text(), what


@pytest.mark.parametrize("name", [*pages.WHOLE, *pages.PARTS])
def test_what_is_made_from_the_program_is_current(name: str) -> None:
    assert (ROOT / name).read_text() == pages.wanted(name), "run `python -m tests.pages`"


def test_the_manual_page_is_sound() -> None:
    text = (ROOT / "docs" / "aiguille.1").read_text()
    for command in COMMANDS:
        assert f".SS aiguille {command}" in text
    linter = needed(shutil.which("mandoc"), "mandoc is not installed")
    done = subprocess.run(
        [linter, "-T", "lint", ROOT / "docs" / "aiguille.1"], capture_output=True, text=True, check=False
    )
    assert [
        line for line in done.stdout.splitlines() if "ERROR" in line or ("WARNING" in line and "date" not in line)
    ] == []


def test_the_examples_of_baseline_files_hold(tmp_path: Path) -> None:
    page = (ROOT / "docs" / "baselines.md").read_text()
    for name in ("our-own.yaml", "accepted-risks.yaml"):
        found = re.search(rf"<!-- file: {name} -->\n```yaml\n(.*?)```", page, re.DOTALL)
        assert found is not None
        (tmp_path / name).write_text(found[1])
        done = run("baseline", "check", name, "--as-of", "2026-11-30", cwd=tmp_path)
        assert done.returncode == 0, done.stderr


def test_the_examples_of_the_library_print_what_the_page_says(tmp_path: Path) -> None:
    page = (ROOT / "docs" / "library.md").read_text()
    wanted, names = walks.library(page, tmp_path)
    assert page == wanted, "run `python -m tests.pages`"
    assert (tmp_path / "report.html").read_text().startswith("<!doctype html>")
    frame = names["frame"]
    assert list(frame.fingerprint) == [
        f.fingerprint for f in (*names["audit"].findings, *(f for f, _ in names["audit"].accepted))
    ]
    assert frame.severity.cat.ordered
    assert frame.accepted_until.notna().sum() == 1


def test_the_guide_goes_as_it_says(tmp_path: Path) -> None:
    page = (ROOT / "docs" / "guide.md").read_text()
    assert page == walks.guide(page, tmp_path), "run `python -m tests.pages`"


def test_a_frame_without_pandas_says_what_to_do(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setitem(sys.modules, "pandas", None)
    with pytest.raises(UsageError, match=r"aiguille\[frames\]"):
        aiguille.audit(Estate((), date(2026, 11, 30))).to_frame()


def test_the_example_of_a_reader_reads() -> None:
    names: dict[str, Any] = {}
    exec(walks.example("adding-a-reader.md", "reader"), names)
    text = "# one\nallow tcp/22 from 10.44.50.0/24\nrefuse tcp/22 from any\nallow tcp/99999 from any\n\n"
    file = decode("gate.txt", text.encode())
    assert names["recognise"](file)
    assert names["recognise"](decode("x", b"hello\n")) is None
    device = names["read"]([file], "gate")
    ledger = device.ledger
    assert (ledger.lines, ledger.read, ledger.known, ledger.unread_lines) == (5, 2, 2, 1)
    answers = {
        source: aiguille.probe(
            Estate((device,), date(2026, 11, 30)), f"tcp from {source} to 192.0.2.1:22 entering eth0"
        )
        for source in ("10.44.50.9", "198.51.100.1")
    }
    assert {source: one.verdicts[0].verdict.value for source, one in answers.items()} == {
        "10.44.50.9": "accept",
        "198.51.100.1": "reject",
    }
    assert [one.standing.value for one in aiguille.standings(Estate((device,), date(2026, 11, 30)))][:2] == [
        "live",
        "contradicted",
    ]


def walk(part: str) -> str:
    """A piece of the walk in docs/dialects.md."""
    found = re.search(rf"<!-- walk: {re.escape(part)} -->\n```\w+\n(.*?)```", DIALECTS, re.DOTALL)
    assert found is not None
    return found[1]


@pytest.mark.parametrize(
    ("name", "file"),
    [
        ("engagement", "engagement.toml"),
        ("baseline", "baseline.yaml"),
        ("accepted", "accepted-risks.yaml"),
        ("claims", "claims.yaml"),
    ],
)
def test_the_files_of_the_sample_follow_their_schemas_for_editors(name: str, file: str, tmp_path: Path) -> None:
    write_estate(tmp_path)
    text = (tmp_path / file).read_text()
    raw = tomllib.loads(text) if file.endswith(".toml") else yaml.safe_load(text)
    schema = json.loads((ROOT / f"src/aiguille/reports/schemas/{name}-file.schema.json").read_text())
    told = json.loads(json.dumps(raw, default=str))
    jsonschema.validate(told, schema)
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate({**told, "no such key": 1}, schema)


def test_the_walk_from_a_sample_to_a_dialect_goes_as_the_page_says(tmp_path: Path) -> None:
    (tmp_path / "gate.txt").write_text(walk("gate.txt"))
    (tmp_path / "gravel.dialect.yaml").write_text(walk("gravel.dialect.yaml"))
    assert run("dialect", "start", "gate.txt", cwd=tmp_path).stdout == walk("start")
    done = run("dialect", "check", "gravel.dialect.yaml", "gate.txt", cwd=tmp_path, env={"COLUMNS": "100"})
    assert (done.returncode, done.stdout) == (0, walk("check"))
    listed = json.loads(run("read", "gate.txt", "--dialect", "gravel.dialect.yaml", "--json", cwd=tmp_path).stdout)
    assert [(d["name"], d["dialect"], d["ledger"]["unread"]) for d in listed["devices"]] == [
        ("front-gate", "gravel", [])
    ]


@pytest.mark.parametrize("document", ["README.md", *(str(p.relative_to(ROOT)) for p in (ROOT / "docs").glob("*.md"))])
def test_links_lead_somewhere(document: str) -> None:
    path = ROOT / document
    for target in re.findall(r"\]\(([^)#]+)\)", path.read_text()):
        assert (path.parent / target).exists(), f"{document}: {target}"


def test_the_example_of_a_check_runs() -> None:
    from tests.baseline.devices import gate

    names: dict[str, Any] = {}
    exec(walks.example("adding-a-check.md", "check"), names)
    check = names["few_collectors"]
    cases = {
        "records { sent-to [ 10.0.0.1 10.0.0.2 ] }": "pass",
        "records { sent-to [ 10.0.0.1 ] }": "fail",
        "": "fail",
    }
    for text, outcome in cases.items():
        assert [o.outcome for o in baseline.run(Estate((gate(text),), date(2026, 11, 30)), [check]).outcomes] == [
            outcome
        ]


def test_the_commands_that_questions_send_are_those_of_the_page() -> None:
    page = (ROOT / "docs" / "collecting.md").read_text()
    found = re.search(r"<!-- collect -->\n```sh\n(.*?)```", page, re.DOTALL)
    assert found is not None
    assert found[1] == collecting()

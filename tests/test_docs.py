"""What the documents say is what the program does."""

from __future__ import annotations

import json
import re
import tomllib
from datetime import date
from pathlib import Path
from typing import Any

import pytest

import aiguille
from aiguille import baseline
from aiguille.demo import write_estate
from aiguille.model import Estate
from aiguille.readers import mapped
from aiguille.reports.reference import baseline_keys_markdown, checks_markdown, dialect_keys_markdown
from tests.helpers import run

ROOT = Path(__file__).parent.parent
DIALECTS = (ROOT / "docs" / "dialects.md").read_text()


def test_the_check_reference_is_current(tmp_path: Path) -> None:
    write_estate(tmp_path)
    key = tomllib.loads((tmp_path / "answer-key.toml").read_text())["fault"]
    assert (ROOT / "docs" / "checks.md").read_text() == checks_markdown(aiguille.audit(aiguille.read([tmp_path])), key)


def test_the_reference_of_baseline_files_is_current_and_its_examples_hold(tmp_path: Path) -> None:
    page = (ROOT / "docs" / "baselines.md").read_text()
    assert page.partition("differ -->\n\n")[2] == baseline_keys_markdown().rstrip() + "\n"
    for name in ("our-own.yaml", "accepted-risks.yaml"):
        found = re.search(rf"<!-- file: {name} -->\n```yaml\n(.*?)```", page, re.DOTALL)
        assert found is not None
        (tmp_path / name).write_text(found[1])
        done = run("baseline", "check", name, "--as-of", "2026-11-30", cwd=tmp_path)
        assert done.returncode == 0, done.stderr


def walk(part: str) -> str:
    """A piece of the walk in docs/dialects.md."""
    found = re.search(rf"<!-- walk: {re.escape(part)} -->\n```\w+\n(.*?)```", DIALECTS, re.DOTALL)
    assert found is not None
    return found[1]


def test_the_dialect_reference_and_the_schema_for_editors_are_current() -> None:
    assert DIALECTS.partition("differ -->\n\n")[2] == dialect_keys_markdown().rstrip() + "\n"
    schema = ROOT / "src/aiguille/reports/schemas/dialect-file.schema.json"
    assert json.loads(schema.read_text()) == json.loads(json.dumps(mapped.schema()))


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

    found = re.search(
        r"<!-- example: check -->\n```python\n(.*?)```", (ROOT / "docs" / "adding-a-check.md").read_text(), re.DOTALL
    )
    assert found is not None
    names: dict[str, Any] = {}
    exec(found[1], names)
    check = names["few_collectors"]
    cases = {
        "records { sent-to [ 10.0.0.1 10.0.0.2 ] }": "pass",
        "records { sent-to [ 10.0.0.1 ] }": "fail",
        "": "cannot tell",
    }
    for text, outcome in cases.items():
        assert [o.outcome for o in baseline.run(Estate((gate(text),), date(2026, 11, 30)), [check]).outcomes] == [
            outcome
        ]

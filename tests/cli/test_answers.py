"""Questions that go out to the owners of devices, and answers that come back in a workbook."""

from __future__ import annotations

import json
import shutil
import subprocess
import tomllib
import zipfile
from collections.abc import Callable
from datetime import date
from pathlib import Path
from typing import Any

import jsonschema
import openpyxl
import pytest

from tests.helpers import run, schema
from tests.needs import needed

RULES = """*filter
:INPUT ACCEPT [0:0]
:FORWARD DROP [0:0]
:OUTPUT ACCEPT [0:0]
-A INPUT -i eth0 -p tcp -m tcp --dport 23 -j ACCEPT
-A INPUT -i eth0 -p tcp -m tcp --dport 3306 -j ACCEPT
-A INPUT -i eth9 -p tcp -m tcp --dport 5432 -j ACCEPT
COMMIT
"""
ENGAGEMENT = """[engagement]
title = "Autumn"
as_of = 2026-11-30
[[device]]
name = "gw"
export = "gw.v4"
zones.outside = { interfaces = ["eth0"], side = "outside" }
"""
Row = dict[str, Any]


@pytest.fixture
def home(tmp_path: Path) -> Path:
    (tmp_path / "engagement.toml").write_text(ENGAGEMENT)
    (tmp_path / "gw.v4").write_text(RULES)
    return tmp_path


def workbook(home: Path, fill: Callable[[Any, dict[str, int]], None] = lambda *_: None) -> Path:
    """The workbook of an audit of `home`, filled in as somebody would."""
    path = home / "findings.xlsx"
    run("audit", str(home), "--out", str(path), "--force")
    book = openpyxl.load_workbook(path)
    sheet = book["findings"]
    fill(sheet, {cell.value: cell.column for cell in sheet[1]})
    book.save(path)
    return path


def rows(*told: Row) -> Callable[[Any, dict[str, int]], None]:
    """Write into the rows below the headings, one after the other."""

    def fill(sheet: Any, at: dict[str, int]) -> None:
        for number, row in enumerate(told, 2):
            for name, value in row.items():
                sheet.cell(number, at[name]).value = value

    return fill


def kept(home: Path) -> dict[str, Any]:
    return tomllib.loads((home / "answers.toml").read_text())


FILLED = (
    {"status": "Fixed ", "owner": "ops", "due": date(2026, 12, 1), "remark": "port closed"},
    {"status": "open", "owner": "ops", "due": "2026-11-01"},
    {"status": "accepted", "owner": "board", "due": date(2026, 10, 1), "remark": "until the move"},
)


@pytest.mark.parametrize("through", ["openpyxl", "LibreOffice"])
def test_answers_come_back_and_the_next_audit_shows_them(home: Path, through: str) -> None:
    path = workbook(home, rows(*FILLED))
    if through == "LibreOffice":
        office = needed(shutil.which("soffice"), "LibreOffice is not installed")
        (home / "saved").mkdir()
        subprocess.run(
            [office, "--headless", "--convert-to", "xlsx", "--outdir", str(home / "saved"), str(path)],
            capture_output=True, check=True, timeout=180, env={"HOME": str(home), "PATH": "/usr/bin:/bin"},
        )  # fmt: skip
        path = home / "saved" / path.name
    done = run("answers", str(path), str(home), "--json")
    assert done.returncode == 0, done.stderr
    told = json.loads(done.stdout)
    jsonschema.validate(told, schema("answers"))
    assert [one["number"] for one in told["changes"]] == ["F-1", "F-2", "F-3"]
    assert told["without_row"] == 0
    assert [one["status"] for one in kept(home)["answer"]] == ["fixed", "open", "accepted"]
    page = run("audit", str(home)).stdout
    assert "3 findings answered" in page
    for words in ("1 said to be fixed and still there (F-1)", "1 overdue (F-2)", "1 accepted until"):
        assert words in run("audit", str(home), env={"COLUMNS": "200"}).stdout, page
    audit = json.loads(run("audit", str(home), "--json").stdout)
    jsonschema.validate(audit, schema("audit"))
    assert audit["findings"][0]["answer"] == {
        "status": "fixed", "owner": "ops", "due": "2026-12-01", "remark": "port closed"
    }  # fmt: skip
    assert "port closed" in run("audit", str(home), "--details").stdout
    # The next workbook holds what is known, and says nothing new.
    again = run("answers", str(workbook(home)), str(home))
    assert "Nothing new" in again.stdout


def test_numbers_stay_while_findings_come_and_go(home: Path) -> None:
    run("answers", str(workbook(home, rows(*FILLED))), str(home))
    before = {
        one["fingerprint"]: one["number"] for one in json.loads(run("audit", str(home), "--json").stdout)["findings"]
    }
    (home / "gw.v4").write_text(RULES.replace("--dport 23 ", "--dport 445 ").replace("-i eth9 ", ""))
    after = json.loads(run("audit", str(home), "--json").stdout)["findings"]
    same = {one["number"] for one in after if one["fingerprint"] in before}
    assert same == {before[one["fingerprint"]] for one in after if one["fingerprint"] in before}
    new = [int(one["number"][2:]) for one in after if one["fingerprint"] not in before]
    assert new
    assert min(new) > len(before)
    number = f"F-{new[0]}"
    assert number in run("audit", str(home), "--top", "30", "--device", "gw").stdout
    fingerprint = next(one["fingerprint"] for one in after if one["number"] == number)
    assert fingerprint in run("explain", number, str(home)).stdout


WRONG: list[tuple[str, Row, str]] = [
    ("a word that is no status", {"status": "maybe"}, "V2: 'maybe' is no status"),
    ("a formula", {"status": "fixed", "remark": "=1+1"}, "Y2: holds a formula"),
    ("a day that is none", {"status": "open", "due": "soon"}, "X2: 'soon' is no day"),
    ("accepted without an end", {"status": "accepted", "owner": "board"}, "X2: what is accepted needs"),
    (
        "a changed fingerprint",
        {"status": "fixed", "fingerprint": "0123456789abcdef"},
        "R2: '0123456789abcdef' is no finding",
    ),
]


@pytest.mark.parametrize(("row", "said"), [(row, said) for _, row, said in WRONG], ids=[name for name, *_ in WRONG])
def test_a_row_that_cannot_be_taken_is_named_by_cell_and_the_others_are_kept(home: Path, row: Row, said: str) -> None:
    done = run("answers", str(workbook(home, rows(row, {"status": "disputed", "remark": "wanted"}))), str(home))
    assert done.returncode == 1
    assert said in done.stdout
    assert [one["status"] for one in kept(home)["answer"]] == ["disputed"]


def test_a_row_pasted_twice_and_one_deleted_lose_nothing(home: Path) -> None:
    run("answers", str(workbook(home, rows({}, {}, {"status": "disputed"}))), str(home))

    def fill(sheet: Any, at: dict[str, int]) -> None:
        for column in range(1, sheet.max_column + 1):
            sheet.cell(sheet.max_row + (column == 1), column).value = sheet.cell(2, column).value
        sheet.cell(2, at["status"]).value = "fixed"
        sheet.cell(sheet.max_row, at["status"]).value = "open"
        sheet.delete_rows(4)

    done = run("answers", str(workbook(home, fill)), str(home))
    assert done.returncode == 1
    assert "stands in R2 and R" in done.stdout
    assert "1 finding without a row" in done.stdout
    assert [one["status"] for one in kept(home)["answer"]] == ["disputed"]


@pytest.mark.parametrize(
    ("spoil", "said"),
    [
        (lambda path, home: path.write_bytes(b"PK\x03\x04 no zip"), "no workbook, or a damaged one"),
        (lambda path, home: add_macros(path), "holds macros"),
        (lambda path, home: retitle(home), "is of 'Autumn', and PATH is 'Spring'"),
        (lambda path, home: rename_heading(path), "has no column 'due'"),
    ],
    ids=["damaged", "macros", "another engagement", "a heading gone"],
)
def test_a_workbook_that_is_none_of_ours_is_refused(
    home: Path, spoil: Callable[[Path, Path], object], said: str
) -> None:
    path = workbook(home, rows({"status": "fixed"}))
    spoil(path, home)
    done = run("answers", str(path), str(home))
    assert done.returncode == 2
    assert said in done.stderr
    assert "Traceback" not in done.stderr
    assert not (home / "answers.toml").exists()


def add_macros(path: Path) -> None:
    with zipfile.ZipFile(path, "a") as packed:
        packed.writestr("xl/vbaProject.bin", b"x")


def retitle(home: Path) -> None:
    file = home / "engagement.toml"
    file.write_text(file.read_text().replace("Autumn", "Spring"))


def rename_heading(path: Path) -> None:
    book = openpyxl.load_workbook(path)
    for cell in book["findings"][1]:
        cell.value = "when" if cell.value == "due" else cell.value
    book.save(path)


def test_answers_of_another_engagement_or_without_a_place_are_refused(home: Path) -> None:
    run("answers", str(workbook(home, rows({"status": "fixed"}))), str(home))
    (home / "alone").mkdir()
    (home / "alone" / "gw.v4").write_text(RULES)
    assert "is no engagement" in run("answers", str(home / "findings.xlsx"), str(home / "alone" / "gw.v4")).stderr
    retitle(home)
    done = run("audit", str(home))
    assert done.returncode == 2
    assert "answers of the engagement 'Autumn'" in done.stderr
    (home / "answers.toml").write_text("[[answer]]\nfinding = 'x'\nstatus = 'later'\n")
    done = run("audit", str(home))
    assert "answers.toml: the answer at line 1: " in done.stderr


def test_questions_are_ready_to_send(home: Path) -> None:
    done = run("questions", str(home))
    assert done.returncode == 0
    assert "## gw" in done.stdout
    assert "tar -czf" in done.stdout  # the block itself, not where it is to be found
    assert "   - eth9: " in done.stdout
    assert "--dport 3306" in done.stdout
    told = json.loads(run("questions", str(home), "--json").stdout)
    jsonschema.validate(told, schema("questions"))
    assert told["devices"][0]["interfaces_of_unknown_side"] == ["eth9"]
    assert run("questions", str(home), "--device", "gw", "--out", str(home / "q.md")).returncode == 0
    assert (home / "q.md").read_text() == done.stdout

"""`aiguille dialect`, `--dialect` and the empty rule sheet, as their users meet them."""

from __future__ import annotations

import json
from pathlib import Path

import jsonschema
import pytest
from openpyxl import Workbook, load_workbook

from aiguille.demo import files
from tests.helpers import run
from tests.readers.test_dialects import BOX, MORAINE, SAMPLES

SCHEMAS = Path(__file__).parents[2] / "src/aiguille/reports/schemas"


def checked(name: str, text: str) -> dict[str, object]:
    data: dict[str, object] = json.loads(text)
    jsonschema.validate(data, json.loads((SCHEMAS / f"{name}.schema.json").read_text()))
    return data


@pytest.fixture
def box(tmp_path: Path) -> Path:
    (tmp_path / "moraine.dialect.yaml").write_text(MORAINE)
    (tmp_path / "box.txt").write_text(BOX)
    return tmp_path


def test_list_and_explain() -> None:
    listed = checked("dialect-list", run("dialect", "list", "--json").stdout)
    assert [one["name"] for one in listed["dialects"]] == sorted(SAMPLES)  # type: ignore[attr-defined]
    shown = run("dialect", "list").stdout
    for name in SAMPLES:
        assert name in shown
        told = checked("dialect-explain", run("dialect", "explain", name, "--json").stdout)
        assert told["reads"]
        assert told["examples"]
    text = run("dialect", "explain", "tindrel").stdout
    for part in (
        "reads",
        "assumes, where an export is silent",
        "does by itself",
        "leaves out",
        "never shows",
        "tests itself by",
    ):
        assert part in text
    wrong = run("dialect", "explain", "nobody")
    assert (wrong.returncode, "known are castrevo" in wrong.stderr) == (2, True)


def test_the_tree_of_a_sample_shows_paths_and_what_a_mapping_took(box: Path) -> None:
    (box / "box.txt").write_text((box / "box.txt").read_text() + "oddity here\n")
    words = ("dialect", "tree", "box.txt", "--dialect", "moraine.dialect.yaml")
    tree = checked("dialect-tree", run(*words, "--json", "--top", "0", cwd=box).stdout)
    told = {one["path"]: one for one in tree["statements"]}  # type: ignore[attr-defined]
    assert tree["mapped"]
    assert [one["taken"] for path, one in told.items() if path.endswith("oddity")] == [False]
    assert any(one["taken"] and all(word["taken"] for word in one["words"]) for one in told.values())
    shown = run(*words, cwd=box).stdout
    assert "oddity›  ‹here›" in shown
    assert "hunter2" not in shown + str(tree)
    guessed = run("dialect", "tree", "box.txt", "--top", "1", cwd=box)
    assert (guessed.returncode, "the structure is guessed" in guessed.stdout, "--top 0" in guessed.stdout) == (
        0,
        True,
        True,
    )
    assert run("dialect", "tree", "nothing.txt", cwd=box).returncode in (2, 3)


def test_a_dialect_of_ones_own_is_checked_and_then_read_with_every_command(box: Path) -> None:
    done = run("dialect", "check", "moraine.dialect.yaml", "box.txt", cwd=box)
    assert done.returncode == 0, done.stderr
    assert "2 rules, 1 of them only may match; 11 of 11 lines of rules read; " in " ".join(done.stdout.split())
    data = checked(
        "dialect-check", run("dialect", "check", "moraine.dialect.yaml", "box.txt", "--json", cwd=box).stdout
    )
    assert [one["path"] for one in data["paths_that_matched_nothing"]] == ["rules/else"]  # type: ignore[attr-defined]
    assert run("read", "box.txt", cwd=box).returncode == 3
    for command in (
        ["read"],
        ["audit"],
        ["rules"],
        ["probe", "--packet", "tcp from 10.0.0.9:1 to 10.4.0.2:80 entering p0 leaving p1"],
    ):
        done = run(command[0], "box.txt", *command[1:], "--dialect", "moraine.dialect.yaml", "--json", cwd=box)
        assert done.returncode in (0, 1), done.stderr
        assert json.loads(done.stdout)
        assert "hunter2" not in done.stdout
    (box / "engagement.toml").write_text(
        '[engagement]\ndialects = ["moraine.dialect.yaml"]\n[[device]]\nexport = "box.txt"\n'
    )
    assert json.loads(run("read", ".", "--json", cwd=box).stdout)["devices"][0]["dialect"] == "moraine"


LOGS = """
log:
  structure: {family: text, pairs: "="}
  time: "@1"
  verdict: {from: did, words: deeds}
  rule: by
  source: of
  destination: for
  source-port: of-port
  destination-port: for-port
  protocol: kind
  in-interface: nowhere
"""
LINES = """moraine T1 did=passed by=one of=10.0.0.9 of-port=1 for=10.4.0.2 for-port=80 kind=tcp len=40
moraine T2 did=stopped by=nine of=10.0.0.9 for=10.4.0.2 kind=icmp len=40

moraine T3 did=eaten by=one of=10.0.0.9 for=10.4.0.2
moraine T4 did=passed by=one of=10.0.0.999 for=10.4.0.2
moraine T5 did=passed of=10.0.0.9 for-port=99999 for=10.4.0.2
moraine up since="
"""


def test_log_lines_are_read_one_by_one_and_nothing_of_them_is_passed_over(box: Path) -> None:
    told = MORAINE.replace("nope: drop}", "nope: drop}, deeds: {passed: accept, stopped: drop}", 1) + LOGS
    (box / "own.dialect.yaml").write_text(told)
    (box / "box.log").write_text(LINES)
    words = ("dialect", "check", "own.dialect.yaml", "box.txt", "--log", "box.log")
    (log,) = checked("dialect-check", run(*words, "--json", cwd=box).stdout)["logs"]  # type: ignore[attr-defined]
    assert [(r["line"], r["time"], r["verdict"], r["rule"], r["destination_port"]) for r in log["records"]] == [
        (1, "T1", "accept", "one", "80"),
        (2, "T2", "drop", "nine", ""),
    ]
    assert {one["line"]: one["why"].partition(";")[0] for one in log["unread"]} == {
        4: "'eaten' is not in the word table 'deeds' (passed, stopped)",
        5: "'10.0.0.999' is no address",
        6: "'99999' is no port",
        7: 'the export is cut off: the quote " opened in line 1 is not closed',
    }
    assert (log["lines"], log["aside"], log["not_asked_for"]) == (7, 1, [{"name": "len", "times": 2}])
    assert log["rules_no_sample_has"] == [{"name": "nine", "times": 1}]
    assert log["paths_that_matched_nothing"] == [{"key": "log/in-interface", "path": "nowhere"}]
    shown = run(*words, cwd=box).stdout
    assert "7 lines: 2 read (1 accept, 1 drop), 1 set aside, 4 not understood" in shown
    refused = run("dialect", "check", "moraine.dialect.yaml", "box.txt", "--log", "box.log", cwd=box)
    assert (refused.returncode, "describes no log lines" in refused.stderr) == (2, True)


def test_an_example_that_does_not_hold_and_a_file_that_is_wrong(box: Path) -> None:
    example = (
        'examples:\n  - name: odd\n    text: "moraine\\n  box b\\n[rules]\\nrule x\\n  colour red\\n"\n'
        "    holds: {name: c, rules: [{name: x}, {}], odd: 1}\n"
    )
    (box / "own.dialect.yaml").write_text(MORAINE + example)
    done = run("dialect", "check", "own.dialect.yaml", cwd=box)
    assert done.returncode == 2
    for why in (
        "'odd' does not hold",
        "name: 'c' expected, 'b' found",
        "rules: 2 expected, 1 found",
        "odd: there is no such part",
        "not known in a rule",
    ):
        assert why in " ".join(done.stdout.split()), done.stdout
    (box / "own.dialect.yaml").write_text(MORAINE.replace("direction: through", "directoin: through"))
    for command in (["dialect", "check", "own.dialect.yaml"], ["read", "box.txt", "--dialect", "own.dialect.yaml"]):
        done = run(*command, cwd=box)
        assert (done.returncode, done.stdout) == (2, "")
        assert "did you mean 'direction'?" in done.stderr
    assert "cannot be read" in run("dialect", "check", "none.yaml", cwd=box).stderr
    assert run("dialect", "check", "moraine.dialect.yaml", "none.txt", cwd=box).returncode == 3


def test_start_writes_a_file_that_check_accepts(tmp_path: Path) -> None:
    for name, path in SAMPLES.items():
        (tmp_path / path).write_bytes(files()[f"exports/{path}"])
        done = run("dialect", "start", path, "--out", f"{name}.dialect.yaml", cwd=tmp_path)
        assert done.returncode == 0, done.stderr
        assert "lines of rules read" in done.stderr
        assert run("dialect", "check", f"{name}.dialect.yaml", path, cwd=tmp_path).returncode == 0
        again = run("dialect", "start", path, "--out", f"{name}.dialect.yaml", cwd=tmp_path)
        assert (again.returncode, "--force" in again.stderr) == (2, True)
        assert run("dialect", "start", path, cwd=tmp_path).stdout == (tmp_path / f"{name}.dialect.yaml").read_text()
    (tmp_path / "prose.txt").write_text("Dear auditor,\nplease find nothing here.\n")
    done = run("dialect", "start", "prose.txt", cwd=tmp_path)
    assert (done.returncode, "# rulebases:" in done.stdout) == (0, True)
    assert "no statements look like rules" in done.stderr


def test_the_empty_sheet_is_filled_in_and_read(tmp_path: Path) -> None:
    for name in ("rules.csv", "rules.xlsx"):
        assert run("read", "--sheet-template", name, cwd=tmp_path).returncode == 0
        data = json.loads(run("read", name, "--json", cwd=tmp_path).stdout)
        assert data["devices"][0]["ledger"]["unread"] == []
    assert run("read", "--sheet-template", "rules.csv", cwd=tmp_path).returncode == 2
    assert run("read", "--sheet-template", "rules.odt", cwd=tmp_path).returncode == 2
    assert run("read", cwd=tmp_path).returncode == 2
    book = load_workbook(tmp_path / "rules.xlsx")
    heads = [cell.value for cell in book["rules"][1]]
    rows = [
        {
            "number": 1,
            "source": "office",
            "destination": "192.0.2.7",
            "ports": 443,
            "protocol": "tcp",
            "action": "Allow",
            "log": True,
        },
        {"number": 2, "action": "Deny", "comment": "=cmd()|'x'!A1"},
    ]
    for row in rows:
        book["rules"].append([row.get(head) for head in heads])
    book["objects"].append(["office", "10.0.1.0/24; 10.0.2.1-10.0.2.9"])
    book["settings"]["B2"] = "front-box"
    book.create_sheet("scribbles").append(["buy", "milk"])
    book.save(tmp_path / "filled.xlsx")
    done = run("rules", "filled.xlsx", "--json", cwd=tmp_path)
    listed = json.loads(done.stdout)["rules"]
    assert [(r["device"], r["action"], r["file"], r["line"]) for r in listed] == [
        ("front-box", "accept", "filled.xlsx[rules]", 2), ("front-box", "drop", "filled.xlsx[rules]", 3),
    ]  # fmt: skip
    assert "1,,,,,,,,office" in listed[0]["text"]
    unread = json.loads(run("read", "filled.xlsx", "--json", cwd=tmp_path).stdout)["devices"][0]["ledger"]["unread"]
    assert [(e["file"], e["text"]) for e in unread] == [("filled.xlsx[scribbles]", "buy,milk")]
    (tmp_path / "broken.xlsx").write_bytes((tmp_path / "rules.xlsx").read_bytes()[:3000])
    done = run("read", "broken.xlsx", cwd=tmp_path)
    assert (done.returncode, "damaged" in done.stderr) == (3, True)


def test_a_sheet_with_synonyms_and_a_file_that_is_none(tmp_path: Path) -> None:
    book = Workbook()
    sheet = book.active
    assert sheet is not None
    for row in (
        ["Src", "Dst", "Verdict", "Dport"],
        ["any", "10.0.0.1", "permit", "80; 443"],
        ["10.0.0.0/8", "any", "maybe", ""],
    ):
        sheet.append(row)
    book.save(tmp_path / "plain.xlsx")
    done = run("rules", "plain.xlsx", "--json", cwd=tmp_path)
    assert [rule["action"] for rule in json.loads(done.stdout)["rules"]] == ["accept", "unknown"]
    told = run("read", "plain.xlsx", cwd=tmp_path).stdout
    assert "plain.xlsx[Sheet]:3  'maybe' is not in the word table 'action'" in told
    book = Workbook()
    book.save(tmp_path / "empty.xlsx")
    assert run("read", "empty.xlsx", cwd=tmp_path).returncode == 3

"""The installed program on files in a temporary folder."""

from __future__ import annotations

import json
import subprocess
import sys
import tomllib
from collections import Counter
from pathlib import Path

import jsonschema
import pytest

from aiguille.demo import files, write_estate
from aiguille.model import AiguilleError
from tests.helpers import run, schema

GOOD = "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n%s-A INPUT -j LOG\n-A FORWARD -j LOG\nCOMMIT\n"
OPEN = GOOD % "-A INPUT -p tcp -m tcp --dport 22 -j ACCEPT\n"
CLOSED = GOOD % ""


@pytest.fixture
def estate(tmp_path: Path) -> Path:
    write_estate(tmp_path / "estate")
    return tmp_path / "estate"


def test_version_starts_light() -> None:
    code = (
        "import sys; from aiguille.cli.main import main; main(['--version']); "
        "print(sorted({m.split('.')[0] for m in sys.modules} & {'numpy', 'pandas', 'matplotlib', 'rich', 'yaml'}))"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[0].startswith("aiguille 0.")
    assert done.stdout.splitlines()[1] == "[]"


def test_the_answer_key(estate: Path) -> None:
    """Every planted fault is found on its line, by itself or as a consequence, and nothing else at medium or above."""
    done = run("audit", estate, "--json")
    assert done.returncode == 1, done.stderr
    data = json.loads(done.stdout)
    jsonschema.validate(data, schema("audit"))
    key = tomllib.loads((estate / "answer-key.toml").read_text())["fault"]
    expected = Counter((f["device"], f["check"], f["severity"], f["line"]) for f in key)
    found: Counter[tuple[str, str, str, str]] = Counter()
    every = [
        (device, one, one is not finding)
        for finding in data["findings"]
        for one in (finding, *finding["consequences"])
        for device in (finding["device"], *finding["also_on"])
    ]
    for device, finding, follows in every:
        lines = [f"{Path(e['file']).name}:{e['line']}" for e in finding["evidence"]]
        about = (device, finding["check"], finding["severity"])
        known = [k for k in expected if k[:3] == about and k[3] in lines and found[k] < expected[k]]
        assert known or follows or finding["severity"] in ("low", "info"), (
            f"not in the answer key: {device} {finding['check']} {lines}"
        )
        found.update(known[:1])
    assert found == expected
    first = {(f["device"], f["line"]) for f in key if f.get("first")}
    shown = [(c["devices"][0], f"{Path(c['file']).name}:{c['line']}") for c in data["causes"][:10]]
    assert len(first) == 10
    assert set(shown) == first
    assert not data["failures"]
    outcomes: dict[str, set[str]] = {}
    for one in data["outcomes"]:
        outcomes.setdefault(one["check"], set()).add(one["outcome"])
    # One's own check, and mistakes that are not planted: their tables of cases have them.
    own = {"rules.lift-control-from-guests", "rules.no-effect", "rules.both-ports"}
    own |= {"deny.neighbour-discovery", "deny.established", "rules.other-port", "rules.wrong-list", "system.old-export"}
    own |= {
        "deny.icmp-errors",
        "rules.unknown-network",
        "rules.dead-forward",
        "objects.undescribed",
        "deny.opened-on-request",
        "rules.fail-open",
        "usage.long-idle",
    }
    # A claim is one statement on one device, and holds or does not.
    strange = {c for c, seen in outcomes.items() if not {"pass", "fail"} <= seen and not c.startswith("rules.claim-")}
    assert sorted(strange - own) == []
    for device in json.loads(run("read", estate, "--json").stdout)["devices"]:
        assert device["ledger"]["unread"] == []
        assert {p["why"].split("'")[1] for p in device["ledger"]["problems"]} <= {"ski school desk", "friends"}


def test_output_is_the_same_for_the_same_input(estate: Path, tmp_path: Path) -> None:
    said = []
    for seed in ("7", "9"):
        out = tmp_path / f"{seed}.txt"
        done = run("audit", estate, "--json", "--out", out, env={"PYTHONHASHSEED": seed})
        said.append((done.stdout, out.read_text()))
    assert said[0] == said[1]


def test_text_is_plain_and_fits_100_columns(estate: Path) -> None:
    out = run("audit", estate).stdout + run("read", estate).stdout
    assert "\x1b" not in out
    assert max(map(len, out.splitlines())) <= 100
    assert all(line == line.rstrip() for line in out.splitlines())


def test_demo_ends_well_and_leaves_other_peoples_files_alone(tmp_path: Path) -> None:
    done = run("demo", "here", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert "summit-gw" in done.stdout
    written = {str(p.relative_to(tmp_path / "here")) for p in (tmp_path / "here").rglob("*") if p.is_file()}
    assert written == {*files(), "report.html"}
    assert "report.html" in done.stdout
    assert run("demo", "here", cwd=tmp_path).returncode == 0
    (tmp_path / "here" / "engagement.toml").write_text("mine")
    again = run("demo", "here", cwd=tmp_path)
    assert again.returncode == 2
    assert "--force" in again.stderr
    assert (tmp_path / "here" / "engagement.toml").read_text() == "mine"
    assert run("demo", "here", "--force", cwd=tmp_path).returncode == 0


@pytest.mark.parametrize(
    ("words", "content", "code"),
    [
        (("audit", "f"), CLOSED, 0),
        (("audit", "f"), OPEN, 1),
        (("audit", "f", "--fail-on", "critical"), OPEN, 0),
        (("audit", "f", "--fail-on", "never"), OPEN, 0),
        (("audit", "f", "--fail-on", "low"), CLOSED, 1),
        (("read", "f"), OPEN, 0),
        (("audit", "f", "--format", "nonsuch"), OPEN, 2),
        (("audit", "f", "--as-of", "soon"), OPEN, 2),
        (("audit", "f", "--out", "report.docx"), OPEN, 2),
        (("audit",), OPEN, 2),
        (("frobnicate",), OPEN, 2),
    ],
)
def test_exit_codes(tmp_path: Path, words: tuple[str, ...], content: str, code: int) -> None:
    (tmp_path / "f").write_text(content)
    done = run(*words, cwd=tmp_path)
    assert done.returncode == code, done.stderr + done.stdout
    assert "Traceback" not in done.stderr


BAD = [
    # name, content, words of the sentence; each stands beside a good export, which must still be audited
    ("empty.v4", b"", ("empty.v4", "empty")),
    ("binary.v4", b"*filter\n\0\x01", ("binary.v4:2", "binary")),
    ("cut.v4", OPEN.encode()[:-8], ("cut.v4:7", "cut off", "COMMIT")),
    ("latin.v4", OPEN.replace("LOG", "LOG --log-prefix caf\xe9", 1).encode("latin-1"), ("latin.v4:6", "UTF-8")),
    ("unknown.cfg", b"hello\nworld\n", ("unknown.cfg:1", "not recognised")),
    ("missing.v4", None, ("missing.v4", "no such file")),
    ("set.v4", (GOOD % "-A INPUT -m set --match-set gone src -j ACCEPT\n").encode(), ("set.v4:5", "'gone'")),
    (
        "zone.txt",
        b'~~ Veskara zone gateway\npassages { passage "x" {\n out-of gone\n then let } }\n',
        ("zone.txt:2", "'gone'"),
    ),
    (
        "circle.txt",
        b"~~ Veskara zone gateway\nplaces a { are [ b ] }\nplaces b { are [ a ] }\npassages { passage p { sender [ a ], then let } }\n",
        ("circle.txt:2", "a -> b -> a"),
    ),
    (
        "group.txt",
        b"~~ Veskara zone gateway\nplaces a { are [ gone ] }\npassages { passage p { receiver [ a ], then let } }\n",
        ("group.txt:2", "'gone'"),
    ),
]


@pytest.mark.parametrize(("name", "content", "words"), BAD, ids=[b[0] for b in BAD])
def test_bad_input_is_one_sentence_and_stops_nothing_else(
    tmp_path: Path, name: str, content: bytes | None, words: tuple[str, ...]
) -> None:
    if content is not None:
        (tmp_path / name).write_bytes(content)
    (tmp_path / "good.v4").write_text(CLOSED)
    done = run("audit", name, "good.v4", "--json", cwd=tmp_path)
    assert done.returncode == 3
    assert "Traceback" not in done.stderr
    lines = [line for line in done.stderr.splitlines() if all(word in line for word in words)]
    assert len(lines) == 1, done.stderr
    assert "good" in [device["name"] for device in json.loads(done.stdout)["devices"]]


def test_a_folder_without_exports(tmp_path: Path) -> None:
    (tmp_path / "notes.txt").write_text("nothing here\n")
    done = run("audit", tmp_path)
    assert done.returncode == 3
    assert "no export was recognised" in done.stderr
    assert "1 files looked at" in done.stderr


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("[engagement]\ntitle = 'x'\n", ("no [[device]]",)),
        ("[engagement\n", (":1:", "TOML")),
        ("[[device]]\nexport = 'x'\n[[device]]\nexport = 'f'\nzonez = 1\n", (":5:", "zonez", "zones")),
        ("[[device]]\nexport = 'f'\nzones.a = { side = 'outsidee' }\n", (":3:", "outsidee", "outside")),
        ("[[device]]\nexport = 'f'\nzones.a = { networks = ['10.0.0.0/99'] }\n", (":3:", "10.0.0.0/99")),
        ("[[device]]\nexport = 'f'\nmanagement = ['tcp/http2s']\n", (":3:", "http2s")),
        ("[[device]]\nexport = 'f'\nformat = 'nonsuch'\n", ("nonsuch", "iptables-save")),
        ("[engagement]\nas_of = 'soon'\n[[device]]\nexport = 'f'\n", (":2:", "as_of")),
    ],
)
def test_engagement_files_that_are_wrong(tmp_path: Path, text: str, words: tuple[str, ...]) -> None:
    (tmp_path / "engagement.toml").write_text(text)
    (tmp_path / "f").write_text(OPEN)
    done = run("audit", tmp_path)
    assert done.returncode == 2
    assert "Traceback" not in done.stderr
    for word in words:
        assert word in done.stderr


def test_reports_are_written_whole_and_never_over_others(tmp_path: Path) -> None:
    (tmp_path / "f.v4").write_text(OPEN)
    done = run("audit", "f.v4", "--out", "a.json", "--out", "sub/a.txt", cwd=tmp_path)
    assert done.returncode == 1
    jsonschema.validate(json.loads((tmp_path / "a.json").read_text()), schema("audit"))
    assert (tmp_path / "sub" / "a.txt").read_text().startswith("Audit")
    before = (tmp_path / "a.json").read_bytes()
    refused = run("audit", "f.v4", "--out", "a.json", cwd=tmp_path)
    assert refused.returncode == 2
    assert not refused.stdout, "nothing is done before all outputs are known to be possible"
    assert (tmp_path / "a.json").read_bytes() == before
    assert run("audit", "f.v4", "--out", "a.json", "--force", cwd=tmp_path).returncode == 1
    assert sorted(p.name for p in tmp_path.iterdir()) == ["a.json", "f.v4", "sub"]


def test_what_strangers_write_cannot_drive_the_terminal(tmp_path: Path) -> None:
    hostile = "\x1b[31mred\x07 [bold]x[/bold] \u202egnp"
    rule = f'-A INPUT -p tcp -m tcp --dport 22 -m comment --comment "{hostile}" -j ACCEPT\n'
    (tmp_path / "f.v4").write_text(GOOD % rule)
    out = run("audit", "f.v4", "--details", cwd=tmp_path).stdout + run("audit", "f.v4", cwd=tmp_path).stdout
    assert "\x1b" not in out
    assert "\x07" not in out
    assert "\u202e" not in out
    assert "\\x1b[31mred\\x07 [bold]x[/bold]" in out.replace("\n           ", " ").replace("  ", " ")


def test_read_json_follows_its_schema_and_folders_join_families(tmp_path: Path) -> None:
    (tmp_path / "host.v4").write_text(OPEN)
    (tmp_path / "host.v6").write_text(CLOSED)
    data = json.loads(run("read", tmp_path, "--json").stdout)
    jsonschema.validate(data, schema("read"))
    (device,) = data["devices"]
    assert device["name"] == "host"
    assert [r["families"] for r in device["rulebases"]] == [[4], [6]]


def test_every_error_of_ours_knows_its_exit_code() -> None:
    todo, seen = [AiguilleError], 0
    while todo:
        kind = todo.pop()
        todo += kind.__subclasses__()
        assert kind("x").exit_code in (2, 3)
        seen += 1
    assert seen > 3

"""Dialects as a whole: those that ship, one that only this test knows, files that are wrong, and first ones out of samples."""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
from collections.abc import Callable
from importlib import resources
from pathlib import Path
from typing import Any

import jsonschema
import pytest
import yaml

from aiguille.demo import files as demo_files
from aiguille.model import Device, UnreadableError, UsageError
from aiguille.readers import ExportFile, decode, formats, mapped
from aiguille.readers.mapped.starting import start
from tests.helpers import dialect

SAMPLES = {
    "veskara": "summit-gw.txt",
    "ormelune": "midway-perimeter.xml",
    "tindrel": "mast-router.txt",
    "castrevo": "huts.json",
    "sheet": "contractor-sheet.csv",
}
PACKAGE = Path(str(resources.files("aiguille")))


def sample(name: str) -> ExportFile:
    path = SAMPLES[name]
    return decode(path, demo_files()[f"exports/{path}"])


def rule_lines(devices: tuple[Device, ...]) -> set[int]:
    """Lines that belong to rules somebody wrote."""
    rules = (rule for device in devices for base in device.rulebases for _, rule in base.rules() if not rule.built_in)
    return {line for rule in rules for line in range(rule.where.first, rule.where.last + 1)}


@pytest.mark.parametrize("name", SAMPLES)
def test_shipped_dialects_hold_their_examples_and_read_the_sample_whole(name: str) -> None:
    trial = mapped.try_out(dialect(name), [sample(name)])
    assert trial.examples
    assert [fault for one in trial.examples for fault in one.faults] == []
    (covered,) = trial.samples
    assert (covered.unread_lines, covered.unread, covered.doubtful) == (0, (), 0)
    # What is planted in objects that no rule uses stands in nobody's way.
    assert not any(problem.matters for problem in covered.problems)
    assert covered.lines == covered.read + covered.known
    assert covered.rule_lines == covered.rule_lines_read > 0
    recognised = [one.name for one in formats() if one.recognise(sample(name))]
    assert recognised == [name]


def test_python_knows_no_make_and_a_dialect_file_is_all_there_is_of_one(tmp_path: Path) -> None:
    makes = [name for name in SAMPLES if name != "sheet"]
    for file in PACKAGE.rglob("*.py"):
        assert not re.search("|".join(makes), file.read_text().lower()), f"{file} names a make"
    shutil.copytree(PACKAGE, tmp_path / "aiguille", ignore=shutil.ignore_patterns("__pycache__"))
    (tmp_path / "aiguille/dialects/ormelune.dialect.yaml").unlink()
    code = "from aiguille.readers import formats; print([f.name for f in formats()])"
    done = subprocess.run([sys.executable, "-c", code], cwd=tmp_path, capture_output=True, text=True, check=True)
    left = [one.name for one in formats() if one.name != "ormelune"]
    assert done.stdout.strip() == str(left)


@pytest.mark.parametrize("name", SAMPLES)
def test_a_started_dialect_is_sound_and_reads_most_rules(name: str) -> None:
    file = sample(name)
    made = start(file)
    again = mapped.load("again", made.text)
    assert mapped.try_out(again, [file]).passed
    reading = mapped.examine(again, [file])
    unread = {n for d in reading.devices for e in d.ledger.unread for n in range(e.where.first, e.where.last + 1)}
    true = rule_lines(mapped.read(dialect(name), [file], ""))
    read = true & rule_lines(reading.devices) - unread
    assert len(read) >= 0.8 * len(true), f"{len(read)} of {len(true)}"
    assert mapped.recognise(again, file)


MORAINE = """
dialect: moraine
make: Moraine box
language: 1
recognise: {first-lines: '^moraine'}
structure:
  family: text
  comments: ["#"]
  indentation: true
  continuation: "&"
  headings: {pattern: '^\\[(.+)\\]$', split: " / "}
words: {does: {ok: accept, nope: drop}}
device:
  name: {from: moraine/box}
  taken-at: {from: moraine/day, date: "%d.%m.%Y"}
interfaces: {at: ports/port, name: "@1", addresses: {join: [ip, mask]}, zone: side}
zones: {at: ports/port/side, name: "@1"}
addresses:
  - {at: "things/net", name: {from: "@1", format: "net-{}"}, members: {join: [base, bits], wildcard: true}}
  - {at: "things/span", name: "@1", members: {join: [low, high], between: "-"}, excluded: without}
  - {at: "things/host", name: "@1", members: {from: at, pattern: "^ip:(.+)$"}}
  - {at: "things/who", name: "@1", members: dns, kind: hostname}
services:
  - {at: "things/svc", name: "@1", protocol: proto, destination-ports: {from: port, split: "+"}}
schedules: [{at: things/shift, name: "@1", times: "@2-"}]
rulebases:
  - name: all
    direction: through-device
    decides: last
    at: rules / rule
    unmatched: {action: {from: rules/else, words: does, missing: drop}}
    rule:
      name: "@1"
      action: {from: do, words: does, missing: ok}
      source: {from: src, negated-by: "!", lookup: {in: things/id, by: number, take: "@1"}}
      destination: {from: dst, negated-if: dst-not, any: ["*"]}
      service: svc
      schedule: shift
      qualifiers: [{name: user, from: user}]
management: {idle-minutes: {from: moraine/sleep, unit: minutes}, lockout-attempts: {from: moraine/tries, never: [none]}}
logging: {device-days: {from: moraine/keep}, collectors: {from: moraine/to, any: [nobody]}}
secrets: [moraine/key]
ignore: [{at: moraine/key, why: a key}, {at: things/id, why: only a number for a name}]
""".replace("at: rules / rule", "at: rules/rule").replace("missing: ok", "missing: accept")

BOX = """moraine
  box m1
  day 24.12.2025
  key hunter2 # trailing
  sleep 5
  tries none
  keep 2w
  to nobody
[ports]
port p0
  ip 10.0.0.1
  mask 255.255.255.0
  side left
port p1
  ip 10.0.1.1
  side right
[things]
net a
  base 10.2.0.0
  bits 0.0.255.255
span b
  low 10.3.0.1
  high 10.3.0.9
  without 10.3.0.5
host c
  at ip:10.4.0.1
who d
  dns box.example
svc s
  proto tcp
  port 80+8000-8010
shift night 22:00 &
  to 06:00
id x
  number 7
host x
  at ip:10.5.0.1
[rules]
rule one
  src 7 b
  dst net-a
  dst-not
  svc s udp/53
rule two
  do nope
  src !c !10.9.0.0/16
  dst *
  shift night
  user eve
"""


def test_a_dialect_of_indentation_and_headings_reads_its_sample_whole() -> None:
    made = mapped.load("moraine.dialect.yaml", MORAINE)
    (device,) = mapped.read(made, [decode("box", BOX.encode())], "")
    assert (device.ledger.unread, device.ledger.problems) == ((), ())
    parts = mapped.parts_of(device)
    wanted: dict[str, Any] = {
        "name": "m1", "taken_at": "2025-12-24", "idle_minutes": 5, "lockout_attempts": float("inf"), "device_days": 14,
        "collectors": [],
        "interfaces": [
            {"name": "p0", "addresses": ["10.0.0.1"], "networks": ["10.0.0.0/24"], "zone": "left"}, {"name": "p1", "networks": []},
        ],
        "addresses": [
            {"name": "net-a", "members": ["10.2.0.0/16"]}, {"name": "b", "members": ["10.3.0.1-10.3.0.9"], "excluded": ["10.3.0.5"]},
            {"name": "c", "members": ["10.4.0.1"]}, {"name": "x"}, {"name": "d", "members": [], "unresolved": ["box.example"]},
        ],
        "services": [{"name": "s", "members": ["tcp/80,8000-8010"]}],
        "schedules": [{"name": "night", "times": "22:00 to 06:00"}],
        "chains": [{"policy": "drop", "default": True}],
        # The last match decides, so the last rule is looked at first.
        "rules": [
            {"name": "two", "rule": 1, "action": "drop", "matches": {"not source": ["c", "10.9.0.0/16"]},
             "qualifiers": ["time of day", "user"], "schedule": "night"},
            {"name": "one", "action": "accept",
             "matches": {"source": ["x", "b"], "not destination": ["net-a"], "service": ["s", "udp/53"]}},
        ],
    }  # fmt: skip
    assert list(mapped.trial.differences(wanted, parts)) == []
    assert "hunter2" not in str([device.text(entry.where) for entry in device.ledger.set_aside])
    assert mapped.describe(made).behaviour == (
        "all: what no rule matches is handled by drop, where the export does not say",
        "all: the last rule that matches decides",
    )


@pytest.mark.parametrize(
    ("old", "new", "rules"),
    [
        ("port 80+8000-8010", "port 80+many", {"one": "service"}),
        ("src 7 b", "src 7 !b", {"one": "source"}),
        ("  user eve", "  colour red", {"two": "colour"}),
        ("  do nope", "  do perhaps", {"two": "unknown"}),
        ("svc s udp/53", "svc s udp/many", {"one": "udp/many"}),
    ],
)
def test_what_is_not_understood_leaves_the_rule_in_doubt(old: str, new: str, rules: dict[str, str]) -> None:
    """A rule with a part that is not understood never says surely what it takes."""
    from aiguille.analysis.program import Programs

    (device,) = mapped.read(mapped.load("m", MORAINE), [decode("box", BOX.replace(old, new).encode())], "")
    assert device.ledger.unread
    resolver = Programs(device).resolver(4)
    for base in device.rulebases:
        for _, rule in base.rules():
            if rule.name in rules:
                sure = [piece for piece in resolver.rule(rule) if piece.sure]
                open_ended = rule.action.value == "unknown" or any(not piece.sure for piece in resolver.rule(rule))
                assert open_ended, sure


def test_devices_of_one_file_share_and_differ() -> None:
    text = sample("castrevo").source.lines
    devices = mapped.read(dialect("castrevo"), [sample("castrevo")], "")
    assert [device.name for device in devices] == ["hut-larch", "hut-pine", "hut-arolla", "hut-marmot"]
    for device in devices:
        ledger = device.ledger
        assert ledger.lines == len(text) == ledger.read + ledger.known + ledger.unread_lines
        hidden = "".join(line for one in ledger.set_aside for line in device.text(one.where))
        assert "cv-9a81" not in hidden
    names = {d.name: [r["name"] for r in mapped.parts_of(d)["rules"] if not r["built_in"]] for d in devices}
    assert names["hut-larch"] == names["hut-pine"] == names["hut-arolla"]
    assert names["hut-marmot"][-1] == "keeper's own to everything"
    with pytest.raises(UnreadableError, match="there is no template 'nest'"):
        mapped.read(dialect("castrevo"), [decode("x", b'{"castrevo": {}, "places": [{"mould": "nest"}]}')], "")
    with pytest.raises(UnreadableError, match="holds no device at 'places'"):
        mapped.read(dialect("castrevo"), [decode("x", b'{"castrevo": {}}')], "")


def broken(change: Callable[[dict[str, Any]], object]) -> str:
    data = yaml.safe_load(MORAINE)
    change(data)
    return yaml.safe_dump(data, sort_keys=False)


@pytest.mark.parametrize(
    ("change", "line_of", "why"),
    [
        (lambda d: d["interfaces"].update(addreses="x"), "addreses", "did you mean 'addresses'?"),
        (lambda d: d["words"].update(does={"ok": "allow"}), "from: do", "makes 'allow' of 'ok'"),
        (lambda d: d["rulebases"][0]["unmatched"]["action"].update(missing="sink"), "missing: sink", "'action' is accept, drop"),
        (lambda d: d["logging"].update(device_days="x"), "device_days", "did you mean 'device-days'?"),
        (lambda d: d["management"]["idle-minutes"].update(missing="soon"), "missing: soon", "a number or a time"),
        (lambda d: d["interfaces"].update(enabled={"from": "x", "is": True}), "enabled", "exactly one of"),
        (lambda d: d["interfaces"].update(name="a//b"), "name: a//b", "a step has no name"),
        (lambda d: d["addresses"][2]["members"].update(pattern="ip"), "pattern: ip", "has 0 groups; one is needed"),
        (lambda d: d["recognise"].update({"first-lines": "("}), "first-lines", "no RE2 pattern"),
        (lambda d: d.update(recognise={}), "recognise", "needs 'first-lines' or 'columns'"),
        (lambda d: d["rulebases"][0].pop("direction"), "name: all", "either 'direction' or 'chains'"),
        (lambda d: d["rulebases"][0].pop("unmatched"), "name: all", "needs 'unmatched'"),
        (lambda d: d["rulebases"][0]["rule"].pop("action"), "name: all", "a rule needs 'action'"),
        (lambda d: d["rulebases"][0].pop("at"), "name: all", "needs both 'at' and 'rule'"),
        (lambda d: d["structure"].update(family="tome"), "family: tome", "tome"),
        (lambda d: d["structure"].update(indentation="deep"), "indentation", "true or false, not text"),
    ],
)  # fmt: skip
def test_a_wrong_dialect_file_is_explained(change: Callable[[dict[str, Any]], object], line_of: str, why: str) -> None:
    text = broken(change)
    line = next(n for n, content in enumerate(text.splitlines(), 1) if line_of in content)
    with pytest.raises(UsageError) as caught:
        mapped.load("d.yaml", text)
    assert why in str(caught.value)
    assert abs(int(str(caught.value).split(":")[1]) - line) <= 3, str(caught.value)


def test_the_schema_for_editors_is_the_languages_own() -> None:
    schema = mapped.schema()
    jsonschema.Draft202012Validator.check_schema(schema)
    for _, text in mapped.shipped_files():
        jsonschema.validate(yaml.safe_load(text), schema)
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate({**yaml.safe_load(MORAINE), "colour": "red"}, schema)
    for table in mapped.tables():
        described = mapped.key_docs(table)
        keys = {field for field in schema["$defs"].get(table.__name__, {}).get("properties", {}) if field != "family"}
        assert keys <= set(described), f"{table.__name__}: {keys - set(described)} are not described"

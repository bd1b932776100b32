"""Baseline files and accepted risks: what they change, and what is said of faulty ones."""

from __future__ import annotations

import json
from datetime import date
from importlib import resources
from pathlib import Path

import jsonschema
import pytest
from msgspec.structs import replace

import aiguille
from aiguille.baseline import CATALOGUE, accepted, load, run
from aiguille.baseline.files import shipped
from aiguille.model import Device, Estate, UsageError
from aiguille.reports.baselines import template
from tests.baseline.devices import SSH, WEB, three, zoned
from tests.helpers import run as command

AS_OF = date(2026, 11, 30)
OPEN = f"-A INPUT -i eth0 {SSH} -j ACCEPT\n-A INPUT -i eth0 -p tcp -m tcp --dport 23 -j ACCEPT"


def written(tmp_path: Path, text: str, name: str = "own.yaml") -> str:
    (tmp_path / name).write_text(text)
    return str(tmp_path / name)


def chosen(tmp_path: Path, text: str, device: Device) -> dict[str, tuple[dict[str, object], str | None]]:
    baseline = load(written(tmp_path, text), CATALOGUE)
    return {c.check.id: (dict(c.params), c.severity and c.severity.value) for c in baseline.for_device(device)}


def test_shipped_baselines_load_and_differ() -> None:
    sizes = {name: len(load(name, CATALOGUE).for_device(zoned(""))) for name in shipped()}
    assert sizes["standard"] == sizes["strict"] == len(CATALOGUE)
    assert sizes["host"] < sizes["standard"]
    estate = Estate((zoned(OPEN),), AS_OF)
    worst = {name: run(estate, load(name, CATALOGUE)).worst() for name in sizes}
    assert (worst["standard"], worst["strict"]) == ("critical", "critical")


def test_files_choose_set_and_scope(tmp_path: Path) -> None:
    text = """
baseline: own
extends: strict
checks: [access, deny.to-device]
omit: [access.cleartext]
settings:
  access.idle-timeout: {at_most: 2 minutes, severity: low}
scopes:
  - devices: {names: ["core-*"], tags: [edge]}
    omit: [access.redirect]
    settings: {access.idle-timeout: {at_most: 30}}
"""
    plain = chosen(tmp_path, text, zoned(""))
    assert plain["access.idle-timeout"] == ({"at_most": 120}, "low")
    assert plain["access.reachable-from-outside"] == ({"at_most_sources": 0}, "critical")
    assert "access.redirect" in plain
    assert not {"access.cleartext", "logging.refusals", "deny.egress"} & set(plain)
    core = chosen(tmp_path, text, replace(zoned(""), name="core-1", tags=("edge", "x")))
    assert (core["access.idle-timeout"][0], "access.redirect" in core) == ({"at_most": 30}, False)
    assert "access.redirect" in chosen(tmp_path, text, replace(zoned(""), name="core-1"))
    for which, fits in (("sides: [outside]", True), ("sides: [dmz]", False), ("dialects: [iptables-save]", True)):
        scoped = f"baseline: own\nscopes:\n  - devices: {{{which}}}\n    omit: [geo]\n"
        assert ("geo.one-way" not in chosen(tmp_path, scoped, zoned(""))) is fits


OWN = """
baseline: own
checks: []
own-checks:
  - id: rules.mine
    title: guests reach the office
    severity: critical
    advice: Do {not}.
    rules: {%s}
"""


@pytest.mark.parametrize(
    ("test", "rules", "found"),
    [
        ("from: [guest], to: [office]", f"-A FORWARD -i eth2 -o eth1 {WEB} -j ACCEPT", 1),
        ("from: [guest], to: [office]", f"-A FORWARD -i eth1 -o eth2 {WEB} -j ACCEPT", 0),
        ("from: [guest], to: [office]", "-A FORWARD -m conntrack --ctstate ESTABLISHED -j ACCEPT", 0),
        ("from: [guests], to: [device]", f"-A INPUT {SSH} -j ACCEPT", 1),
        ("from: [guests], to: [device]", f"-A INPUT -s 10.9.9.9 {SSH} -j ACCEPT", 0),
        ("from: [guest]", f"-A FORWARD -i eth2 -j own\n-A own {WEB} -j ACCEPT", 1),
        ("from: [guest]", f"-A FORWARD -i eth1 -j own\n-A own {WEB} -j ACCEPT", 0),
        ("service: [tcp/23, udp/161]", "-A FORWARD -p tcp -m tcp --dport 20:25 -j ACCEPT", 1),
        ("service: [tcp/23]", f"-A FORWARD {WEB} -j ACCEPT", 0),
        ("source: {within: [10.0.0.0/8]}", f"-A FORWARD -s 10.0.1.0/24 {WEB} -j ACCEPT", 1),
        ("source: {within: [10.0.0.0/8]}", f"-A FORWARD {WEB} -j ACCEPT", 0),
        ("destination: {covers: [10.0.1.0/24]}", f"-A FORWARD -d 10.0.0.0/16 {WEB} -j ACCEPT", 1),
        ("destination: {covers: [10.0.1.0/24]}", f"-A FORWARD -d 10.0.1.9 {WEB} -j ACCEPT", 0),
        ("action: [drop]", f"-A FORWARD {WEB} -j DROP\n-A FORWARD {SSH} -j ACCEPT", 1),
        ("logged: false, service: [tcp/22]", f"-A FORWARD {SSH} -j ACCEPT", 1),
        ("hits-at-most: 0", f"[0:0] -A FORWARD {SSH} -j ACCEPT\n[5:9] -A FORWARD {WEB} -j ACCEPT", 1),
        ("hits-at-least: 5", f"[0:0] -A FORWARD {SSH} -j ACCEPT\n[5:9] -A FORWARD {WEB} -j ACCEPT", 1),
        ("comment-matches: 'VL-[0-9]+'", f'-A FORWARD {SSH} -m comment --comment "VL-1" -j ACCEPT', 1),
        ("comment-lacks: 'VL-[0-9]+'", f'-A FORWARD {SSH} -m comment --comment "VL-1" -j ACCEPT', 0),
        ("openness-above: 60", "-A FORWARD -p tcp -j ACCEPT", 1),
        ("openness-above: 60", f"-A FORWARD -s 10.0.0.1 -d 10.0.1.1 {SSH} -j ACCEPT", 0),
        (
            "service: [tcp/22]}\n    unless: {source: {within: [10.0.0.0/8]}",
            f"-A FORWARD -s 10.0.1.0/24 {SSH} -j ACCEPT",
            0,
        ),
    ],
)
def test_own_checks_find_rules(tmp_path: Path, test: str, rules: str, found: int) -> None:
    device = three(rules, chains=("own",))
    result = run(Estate((device,), AS_OF), load(written(tmp_path, OWN % test), CATALOGUE), raise_crashes=True)
    assert len(result.findings) == found
    (outcome,) = result.outcomes
    assert outcome.outcome == ("fail" if found else "pass")
    for finding in result.findings:
        assert (finding.severity, finding.fix, finding.area) == ("critical", "Do {not}.", "rules")


def test_own_checks_do_not_pass_for_want_of_counters(tmp_path: Path) -> None:
    device = three(f"-A FORWARD {SSH} -j ACCEPT")
    (outcome,) = run(Estate((device,), AS_OF), load(written(tmp_path, OWN % "hits-at-most: 0"), CATALOGUE)).outcomes
    assert outcome.outcome == "cannot tell"


FAULTY = [
    # text, line, words of the sentence
    ("baseline: a\nomit: [acces.idle-timeout]", 2, ("no check 'acces.idle-timeout'", "access.idle-timeout")),
    ("baseline: a\nchecks: [acces]", 2, ("did you mean 'access'",)),
    ("baseline: a\nsettings:\n  access.idle: {at_most: 1}", 3, ("did you mean 'access.idle-timeout'",)),
    ("baseline: a\nsettings:\n  access.idle-timeout:\n    at_last: 1", 4, ("no parameter 'at_last'", "at_most")),
    ("baseline: a\nsettings:\n  access.idle-timeout:\n    at_most: soon", 4, ("number of seconds", "'soon'")),
    ("baseline: a\nsettings:\n  access.idle-timeout:\n    at_most: 5 metres", 4, ("counts seconds",)),
    ("baseline: a\nsettings:\n  access.idle-timeout: {at_most: 1.5}", 3, ("whole number",)),
    ("baseline: a\nsettings:\n  access.idle-timeout: {at_most: -1}", 3, ("below 0",)),
    ("baseline: a\nsettings:\n  access.idle-timeout: {severity: grave}", 3, ("no severity", "critical")),
    ("baseline: a\nsettings:\n  geo.countries: {allowed: [FR, Frankreich]}", 3, ("no country",)),
    ("baseline: a\nsettings:\n  geo.countries: {allowed: [Frence]}", 3, ("did you mean FR (France)",)),
    ("baseline: a\nsettings:\n  geo.countries: {allowed: [NO, no]}", 3, ("truth values",)),
    ("baseline: a\nsettings:\n  geo.countries: {allowed: FR}", 3, ("is a list",)),
    ("baseline: a\nsettings:\n  rules.outgoing-mail: {relays: [10.0.0.300]}", 3, ("no address or network",)),
    ("baseline: a\nsettings:\n  logging.sensitive: {services: [ssh/x]}", 3, ("no service such as",)),
    ("baseline: a\nsettings:\n  access.shared-account: {patterns: ['(']}", 3, ("no RE2 pattern",)),
    ("baseline: a\nsettings:\n  access.needless-service: {sides: [outsde]}", 3, ("not a side",)),
    ("baseline: a\nsettings:\n  system.old-firmware: {releases: [veskara]}", 3, ("names no release",)),
    ("baseline: a\nsettings:\n  rules.incomplete-documentation: {date: 1}", 3, ("true or false",)),
    ("baseline: a\nextends: strikt", 2, ("no baseline 'strikt'", "strict")),
    ("baseline: a\nextends: own.yaml", 2, ("round in a circle", "own.yaml > own.yaml")),
    ("baseline: a\nextend: strict", 2, ("did you mean 'extends'",)),
    ("baseline: a\nscopes:\n  - devices: {}\n    omit: [geo]", 3, ("every device",)),
    ("baseline: a\nscopes:\n  - devices: {tags: [x]}\n    omit: [gee]", 4, ("did you mean 'geo'",)),
    (OWN % "services: [tcp/22]", 9, ("did you mean 'service'",)),
    (OWN % "service: [tcp/x]", 9, ("no service such as",)),
    (OWN % "source: {within: [x]}", 9, ("no address or network",)),
    (OWN % "comment-matches: '('", 9, ("no RE2 pattern",)),
    (OWN % "", 9, ("every accepting rule",)),
    ((OWN % "logged: true").replace("rules.mine", "rules.any-to-any"), 5, ("already",)),
    ((OWN % "logged: true").replace("rules.mine", "mine"), 5, ("no id such as",)),
    ("baseline: a\n- b", 2, ("not valid YAML",)),
    ("- a", 1, ("table of keys",)),
    ("baseline: a\nchecks:\n  access.cleartext: {severity: low}", 2, ("checks: this takes a list, not a table",)),
    ("baseline: a\nsettings:\n  access:\n  - x", 3, ("settings: this takes a table of keys, not a list",)),
    ("baseline: 3", 1, ("baseline: this takes text, not a whole number",)),
    ("about: x", 1, ("'baseline' is missing",)),
    ("accepted:\n  - {check: acess.cleartext, reason: a, owner: b, until: 2027-01-01}", 2, ("access.cleartext",)),
    ("accepted:\n  - {check: access.cleartext, owner: b, until: 2027-01-01}", 2, ("'reason' is missing",)),
    ("accepted:\n  - {check: access.cleartext, reason: ' ', owner: b, until: 2027-01-01}", 2, ("'reason' is empty",)),
    ("accepted:\n  - {check: access.cleartext, reason: a, owner: b, until: soon}", 2, ("until",)),
    ("accepted:\n  - {check: access.cleartext, reason: a, owner: b, until: 2026-11-29}", 2, ("is past",)),
    ("accepted:\n  - {finding: 12, reason: a, owner: b, until: 2027-01-01}", 2, ("finding",)),
    ("accepted:\n  - {finding: '12', reason: a, owner: b, until: 2027-01-01}", 2, ("no fingerprint",)),
    ("accepted:\n  - {reason: a, owner: b, until: 2027-01-01}", 2, ("either 'finding' or 'check'",)),
]


@pytest.mark.parametrize(("text", "line", "words"), FAULTY, ids=range(len(FAULTY)))
def test_faults_have_file_line_and_a_sentence(tmp_path: Path, text: str, line: int, words: tuple[str, ...]) -> None:
    path = written(tmp_path, text)

    def check() -> None:
        if accepted.is_one(Path(path)):
            accepted.refuse_past(accepted.load(path, CATALOGUE), AS_OF)
        else:
            load(path, CATALOGUE)

    with pytest.raises(UsageError) as caught:
        check()
    assert str(caught.value).startswith(f"{path}:{line}: "), str(caught.value)
    assert all(word in str(caught.value) for word in words), str(caught.value)


def test_circles_over_several_files(tmp_path: Path) -> None:
    written(tmp_path, "baseline: a\nextends: b.yaml", "a.yaml")
    written(tmp_path, "baseline: b\n\nextends: a.yaml", "b.yaml")
    with pytest.raises(UsageError, match=r"b\.yaml:3: 'extends' goes round in a circle: a\.yaml > b\.yaml > a\.yaml"):
        load(str(tmp_path / "a.yaml"), CATALOGUE)


def test_accepted_risks_set_findings_aside_until_they_end(tmp_path: Path) -> None:
    estate = Estate((zoned(OPEN),), AS_OF)
    every = run(estate, load("standard", CATALOGUE)).findings
    (telnet,) = [f for f in every if f.check == "access.cleartext"]
    counted = sum(1 + len(f.consequences) for f in aiguille.audit(estate).findings)
    entry = "accepted:\n  - {%s, reason: old masts, owner: head of network, until: %s}\n"

    def after(which: str, until: str = "2027-01-31") -> aiguille.baseline.Audit:
        return aiguille.audit(estate, accepted=written(tmp_path, entry % (which, until), "risks.yaml"))

    for which in (
        f"finding: {telnet.fingerprint!r}",
        "check: access.cleartext, device: 't*', rule: dport 23",
        "check: access.cleartext",
    ):
        audit = after(which)
        assert [f.fingerprint for f, _ in audit.accepted] == [telnet.fingerprint]
        assert sum(1 + len(f.consequences) for f in audit.findings) == counted - 1
        (outcome,) = [o for o in audit.outcomes if o.check == "access.cleartext"]
        assert (outcome.outcome, "head of network until 2027-01-31: old masts" in outcome.because) == ("accepted", True)
        assert not audit.notes
    for which in ("check: access.cleartext, device: other", "check: access.cleartext, rule: dport 99"):
        audit = after(which)
        assert (audit.accepted, sum(1 + len(f.consequences) for f in audit.findings)) == ((), counted)
        assert "covers no finding" in audit.notes[0]
    audit = after("check: access.cleartext", "2026-11-29")
    assert (audit.accepted, sum(1 + len(f.consequences) for f in audit.findings)) == ((), counted)
    assert "that is over, and the finding is back" in audit.notes[0]


def test_the_commands(tmp_path: Path) -> None:
    def schema(name: str) -> dict[str, object]:
        return json.loads((resources.files("aiguille.reports") / "schemas" / f"{name}.schema.json").read_text())

    listed = json.loads(command("baseline", "list", "--area", "geo", "--json").stdout)
    jsonschema.validate(listed, schema("baseline-list"))
    assert {c["area"] for c in listed["checks"]} == {"geo"}
    assert [b["name"] for b in listed["baselines"]] == ["host", "standard", "strict"]
    told = json.loads(command("baseline", "explain", "access.idle-timeout", "--json").stdout)
    jsonschema.validate(told, schema("baseline-explain"))
    assert told["parameters"][0]["default"] == 600
    unknown = command("baseline", "explain", "access.idle")
    assert (unknown.returncode, "access.idle-timeout" in unknown.stderr) == (2, True)
    assert command("baseline", "start", "mine.yaml", "--from", "strict", cwd=tmp_path).returncode == 0
    assert command("baseline", "start", "mine.yaml", cwd=tmp_path).returncode == 2
    assert command("baseline", "start", "mine.txt", cwd=tmp_path).returncode == 2
    written(
        tmp_path, "accepted:\n  - {check: rules.any-to-any, reason: a, owner: b, until: 2027-01-01}\n", "risks.yaml"
    )
    done = command("baseline", "check", "mine.yaml", "risks.yaml", "--json", "--as-of", "2026-11-30", cwd=tmp_path)
    jsonschema.validate(json.loads(done.stdout), schema("baseline-check"))
    assert [f["kind"] for f in json.loads(done.stdout)["files"]] == ["baseline", "accepted risks"]
    assert command("baseline", "check", "risks.yaml", "--as-of", "2027-01-02", cwd=tmp_path).returncode == 2


def test_the_file_to_tailor_changes_nothing_until_it_is_changed(tmp_path: Path) -> None:
    text = template("mine", "standard", CATALOGUE)
    assert load(written(tmp_path, text), CATALOGUE).for_device(zoned("")) == load("standard", CATALOGUE).for_device(
        zoned("")
    )
    # With every comment mark of the settings taken away it states the defaults, and is still a valid file.
    head, _, body = text.partition("settings: {}\n")
    lines = [
        line.replace("  #", "  ", 1) if line.startswith("  #") and not line.startswith("  # --") else line
        for line in body.splitlines()
    ]
    opened = load(
        written(tmp_path, head + "settings:\n" + "\n".join(line for line in lines if "# -" not in line)), CATALOGUE
    )
    for mine, usual in zip(
        opened.for_device(zoned("")), load("standard", CATALOGUE).for_device(zoned("")), strict=True
    ):
        assert (mine.check.id, mine.params, mine.severity) == (usual.check.id, usual.params, usual.check.severity)

"""What holds for every check: facts taken away never make one pass, findings keep their names, jobs change nothing."""

from __future__ import annotations

import pickle
import random
from datetime import date
from functools import cache
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import pytest
from benchmarks.generate import as_dump, generate
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec import Struct
from msgspec.structs import replace

import aiguille
from aiguille.analysis import decide, study
from aiguille.baseline import CATALOGUE, load, run
from aiguille.baseline.checks.rules import order
from aiguille.demo import write_estate
from aiguille.model import Device, Estate, Locations, Setting
from aiguille.readers import iptables
from aiguille.readers.files import decode
from tests.cli.test_effort import CALLS
from tests.helpers import run as command


@cache
def sample() -> Estate:
    """The sample estate, read once."""
    with TemporaryDirectory() as folder:
        write_estate(Path(folder))
        return aiguille.read([folder])


@pytest.fixture
def estate() -> Estate:
    return sample()


def settings_in(value: Any, path: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    """The paths of all known settings of a device."""
    if isinstance(value, Setting):
        return [path] if value.known else []
    if isinstance(value, tuple):
        return [p for number, one in enumerate(value) for p in settings_in(one, (*path, number))]
    if isinstance(value, Struct):
        skipped = ("rulebases", "sources", "ledger", "saved", "sets", "addresses", "services_objects")
        return [
            p
            for name in value.__struct_fields__
            if name not in skipped
            for p in settings_in(getattr(value, name), (*path, name))
        ]
    return []


def without(value: Any, path: tuple[Any, ...]) -> Any:
    """A value with the setting at a path unknown."""
    if not path:
        return Setting()
    head, *rest = path
    if isinstance(value, tuple):
        return (*value[:head], without(value[head], tuple(rest)), *value[head + 1 :])
    return replace(value, **{head: without(getattr(value, head), tuple(rest))})


# Checks that look at the facts below; rules are not facts of this kind, and computing them anew would only take time.
_BY_HAND = """access.second-factor access.weak-ciphers access.root-login access.portal-open access.redirect access.default-account
deny.half-open deny.forwarding geo.late-filter geo.one-way geo.unexplained-exception system.updates system.spoofing system.redirects
system.source-routing usage.unused-account"""
ABOUT_FACTS = tuple(one for one in CATALOGUE if one.needs or one.id in _BY_HAND.split())


def outcomes(device: Device, estate: Estate) -> dict[str, str]:
    alone = replace(estate, devices=(device,))
    return {o.check: o.outcome.value for o in run(alone, ABOUT_FACTS, raise_crashes=True).outcomes}


def test_a_fact_taken_away_never_turns_a_fail_into_a_pass(estate: Estate) -> None:
    """Every single setting of every device of the estate."""
    for device in estate.devices:
        before = outcomes(device, estate)
        paths = settings_in(device)
        assert paths
        for path in paths:
            after = outcomes(without(device, path), estate)
            assert not [c for c in before if before[c] == "fail" and after[c] == "pass"], (device.name, path)


@settings(max_examples=40)
@given(st.integers(0, 2**32))
def test_several_facts_taken_away_never_turn_a_fail_into_a_pass(seed: int) -> None:
    estate, chance = sample(), random.Random(seed)
    device = chance.choice(estate.devices)
    less = device
    paths = settings_in(device)
    for path in chance.sample(paths, chance.randint(1, len(paths))):
        less = without(less, path)
    before, after = outcomes(device, estate), outcomes(less, estate)
    assert not [c for c in before if before[c] == "fail" and after[c] == "pass"]


def test_without_location_data_no_check_on_countries_passes(estate: Estate) -> None:
    geo = [one for one in CATALOGUE if one.area.value == "geo"]
    bare = replace(estate, locations=Locations())
    assert {o.outcome.value for o in run(bare, geo).outcomes} <= {"cannot tell", "not applicable", "fail"}


def test_findings_keep_their_fingerprints_when_lines_and_rules_are_added_above(tmp_path: Path) -> None:
    write_estate(tmp_path)
    before = {f.fingerprint: f for f in aiguille.audit(aiguille.read([tmp_path])).findings}
    folder = tmp_path / "exports"
    passage = 'passage "new" { out-of lifts, into huts, sender [ 10.44.31.99 ], talking [ rescue ], then let, note yes, ticket VL-999 }'
    slip = 'slip lane=across do=discard by=s4 of=10.44.73.99 told=yes note="VL-999"'
    files = {
        "valley-gw/iptables.v4": (":INPUT", "# a remark\n:INPUT"),
        "midway-gw/nft-ruleset.txt": (
            '\t\tiifname "lo" accept\n',
            '\t\tiifname "lo" accept\n\t\tiifname "lo" udp dport 9 accept\n',
        ),
        "summit-gw.txt": ("passages {\n", f"passages {{\n    {passage}\n"),
        "mast-router.txt": ("== sorting ==\n", f"== sorting ==\n{slip}\n"),
        "midway-perimeter.xml": ("<house>", "<!-- a remark -->\n  <house>"),
        "huts.json": ('"people": [', '"people": [\n'),
    }
    for name, (old, new) in files.items():
        text = (folder / name).read_text()
        assert old in text, name
        (folder / name).write_text(text.replace(old, new, 1))
    after = {f.fingerprint for f in aiguille.audit(aiguille.read([tmp_path])).findings}
    gone = [f for fingerprint, f in before.items() if fingerprint not in after]
    # What tells of a chain's whole order, or lists all silent refusals, is about the rule that was added too.
    assert {f.check for f in gone} <= {"usage.rule-order", "logging.refusals"}, [
        (f.check, f.device, f.detail) for f in gone
    ]


def test_jobs_change_nothing_and_findings_can_travel(estate: Estate, tmp_path: Path) -> None:
    standard = load("standard", CATALOGUE)
    told: list[tuple[int, int]] = []
    one = run(estate, standard, jobs=1, progress=lambda done, total: told.append((done, total)))
    two = run(estate, standard, jobs=2)
    assert (one.findings, one.outcomes) == (two.findings, two.outcomes)
    assert told == [(n, len(estate.devices)) for n in range(1, len(estate.devices) + 1)]
    assert pickle.loads(pickle.dumps(one.findings)) == one.findings
    write_estate(tmp_path)
    outputs = [command("audit", tmp_path, "--json", "--jobs", jobs).stdout for jobs in ("1", "2")]
    assert outputs[0] == outputs[1]
    assert command("audit", tmp_path, "--jobs", "0").returncode == 2


def test_what_saves_work_on_long_programs_finds_the_same(estate: Estate, monkeypatch: pytest.MonkeyPatch) -> None:
    """Other packets may prove it, and so other rules be named beside the one a finding is about."""
    standard = load("standard", CATALOGUE)
    plain = run(estate, standard)
    for one in (decide, study, order):
        monkeypatch.setattr(one, "LONG", 1)
    alike = run(replace(estate), standard)
    assert [o.outcome for o in alike.outcomes] == [o.outcome for o in plain.outcomes]
    mine, theirs = ({(f.check, f.device, f.fingerprint, f.severity) for f in one.findings} for one in (plain, alike))
    assert {check for check, *_ in mine ^ theirs} <= {"deny.between-inside"}
    assert all(f.proof is not None for f in alike.findings if f.check == "rules.contradicted")


@pytest.mark.parametrize("beside", ["", CALLS], ids=["plain", "entangled"])
def test_one_long_device_is_the_same_shared_among_processes(beside: str) -> None:
    text = as_dump(generate(1200, seed=5)).replace("COMMIT", f"{beside}COMMIT")
    device = iptables.read([decode("gw.v4", text.encode())], "gw")
    estate, standard = Estate((device,), date(2026, 11, 30)), load("standard", CATALOGUE)
    one, two = (run(estate, standard, jobs=jobs) for jobs in (1, 2))
    assert (one.outcomes, one.findings) == (two.outcomes, two.findings)
    left_open = [o for o in one.outcomes if "written out" in o.because]
    assert bool(left_open) is bool(beside)

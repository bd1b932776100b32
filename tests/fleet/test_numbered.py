"""A finding explained by the numbers of an audit is the finding as the whole audit tells it."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest
from msgspec.structs import replace

import aiguille
from aiguille.baseline import Audit
from aiguille.baseline.story import describe
from aiguille.demo import write_estate
from aiguille.fleet.numbered import Numbers, numbers_of, renumbered
from aiguille.reports.story import story_data
from tests.fleet.test_many import gateway, write_gateways
from tests.helpers import run


@pytest.fixture(scope="module")
def audit(tmp_path_factory: pytest.TempPathFactory) -> Audit:
    folder = tmp_path_factory.mktemp("sample")
    write_estate(folder)
    return aiguille.audit(aiguille.read(folder))


@pytest.fixture(scope="module")
def numbers(audit: Audit) -> Numbers:
    return numbers_of(audit)


def words(audit: Audit) -> list[str]:
    """Findings of every kind: alone, shared, with consequences, accepted; by number, fingerprint and cause."""
    shared = next(one for one in audit.findings if one.also_on)
    deep = max(audit.findings, key=lambda one: len(one.consequences))
    return [
        "F-1",
        f"f-{shared.number}",
        deep.fingerprint,
        deep.consequences[0].fingerprint,
        audit.accepted[0][0].fingerprint[:12],
    ]


def test_the_story_is_the_same(audit: Audit, numbers: Numbers) -> None:
    names = [one.name for one in audit.estate.devices]
    for word in words(audit):
        meant = numbers.meant(word)
        places = {at for one in meant for at in one.devices}
        assert 0 < len(places) < len(names)
        part = renumbered(aiguille.audit(audit.estate, devices={names[at] for at in places}), numbers)
        told = describe(part, word, numbers.elsewhere(names, places))
        assert json.dumps(story_data(told)) == json.dumps(story_data(describe(audit, word))), word


def test_what_a_word_means(audit: Audit, numbers: Numbers) -> None:
    first = audit.findings[0]
    assert [one.fingerprint for one in numbers.meant("f-1")] == [first.fingerprint]
    behind = [one.fingerprint for one in audit.findings if one.cause == first.cause]
    assert [one.fingerprint for one in numbers.meant("C-1")] == behind
    for word in ("f-0", "c-0", "f-99999", "all", first.fingerprint[:3], "F-1x", "zzzz"):
        assert numbers.meant(word) == ()
    # A finding that the part makes of other devices is not called by the whole's number.
    other = replace(audit.findings[0], also_on=(audit.estate.devices[-1].name,))
    assert renumbered(replace(audit, findings=(other,)), numbers).findings == ()


def test_the_program_keeps_numbers_and_no_names(tmp_path: Path) -> None:
    folder = write_gateways(tmp_path / "estate", 3)
    env = {"XDG_CACHE_HOME": str(tmp_path / "cache")}
    day = ("--as-of", "2026-11-30")
    assert run("audit", folder, *day, "--no-cache", env=env).returncode == 1
    assert not (tmp_path / "cache").exists()
    assert run("audit", folder, *day, env=env).returncode == 1
    (kept,) = (tmp_path / "cache" / "aiguille").iterdir()
    assert kept.stat().st_mode & 0o077 == 0
    assert b"gw00" not in kept.read_bytes()
    quick = run("explain", "F-1", folder, *day, "--json", env=env)
    whole = run("explain", "F-1", folder, *day, "--json", "--no-cache", env=env)
    assert quick.stdout == whole.stdout
    assert json.loads(quick.stdout)["finding"]["device"] == "gw000"
    # Other exports, another baseline, a damaged file: all devices are audited, and the numbers are theirs.
    (folder / "gw000.v4").write_text(gateway(2000).replace("-A INPUT -i eth0 -p tcp -m tcp --dport 22 -j ACCEPT", ""))
    changed = run("explain", "F-1", folder, *day, "--json", env=env)
    assert json.loads(changed.stdout)["finding"]["device"] == "gw001"
    for one in (tmp_path / "cache" / "aiguille").iterdir():
        one.write_bytes(b"\xc1 damaged")
    assert run("explain", "F-1", folder, *day, "--json", env=env).stdout == changed.stdout
    shutil.rmtree(tmp_path / "cache")
    (tmp_path / "cache").write_text("no folder")
    assert run("explain", "F-1", folder, *day, "--json", env=env).stdout == changed.stdout

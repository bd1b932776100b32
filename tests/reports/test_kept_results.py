"""What an audit found out on the way serves the reports, and changes nothing in them."""

from __future__ import annotations

from pathlib import Path

import pytest
from msgspec.structs import replace

import aiguille
from aiguille.analysis.standing import standings as compute
from aiguille.baseline import running as auditing
from aiguille.demo import files
from aiguille.reports import dossier


@pytest.fixture(scope="module", params=[1, 2])
def audit(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> aiguille.Audit:
    """Of three devices; by one process, and by two of which each sends what it found out."""
    folder = tmp_path_factory.mktemp("kept")
    for name in ("summit-gw.txt", "midway-perimeter.xml", "mast-router.txt"):
        (folder / name).write_bytes(files()[f"exports/{name}"])
    return aiguille.audit(aiguille.read(folder), jobs=request.param)


@pytest.mark.parametrize("ending", ["html", "rules.csv", "md", "xlsx"])
def test_reports_are_the_same_with_and_without(audit: aiguille.Audit, ending: str, tmp_path: Path) -> None:
    assert set(audit.results) == {device.name for device in audit.estate.devices}
    for name, one in (("kept", audit), ("anew", replace(audit, results={}))):
        aiguille.write(one, tmp_path / f"{name}.{ending}")
    assert (tmp_path / f"kept.{ending}").read_bytes() == (tmp_path / f"anew.{ending}").read_bytes()


def test_no_standing_is_computed_twice(audit: aiguille.Audit, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    asked: list[object] = []
    monkeypatch.setattr(dossier, "standings", lambda programs, jobs: asked.append(programs) or compute(programs, jobs))
    aiguille.write(audit, tmp_path / "r.html")
    assert not asked
    aiguille.write(replace(audit, results={}), tmp_path / "again.html")
    assert len(asked) == len(audit.estate.devices)


def test_large_estates_keep_nothing(audit: aiguille.Audit, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(auditing, "_KEPT", 3)
    again = aiguille.audit(audit.estate)
    assert not again.results
    assert again.findings == audit.findings

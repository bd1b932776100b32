"""What the owner of some devices is handed says nothing of the others."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from aiguille.demo import files
from tests.helpers import run


@pytest.fixture(scope="module")
def estate(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("estate")
    for name, data in files().items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_bytes(data)
    return folder


@pytest.mark.parametrize(
    ("owned", "devices"),
    [
        (["hut-larch"], {"hut-larch"}),
        (["server"], {"season-pass-web", "lake-cam"}),
        (["hut-pine", "server"], {"hut-pine", "season-pass-web", "lake-cam"}),
    ],
)
def test_an_extract_is_of_its_devices_alone(estate: Path, owned: list[str], devices: set[str], tmp_path: Path) -> None:
    words = [word for name in owned for word in ("--for", name)]
    out = tmp_path / "theirs.html"
    kept = ("--resume", estate.parent / "kept.db")  # what is found is not the matter here, so it is found once
    done = run("audit", estate, "--json", "--out", out, *kept, *words)
    data = json.loads(done.stdout)
    assert {one["name"] for one in data["devices"]} == devices
    assert {f["device"] for f in data["findings"]} | {o["device"] for o in data["outcomes"]} == devices
    whole = json.loads(run("audit", estate, "--json", *kept).stdout)
    others = {one["name"] for one in whole["devices"]} - devices
    for text in (done.stdout, out.read_text(), done.stderr):
        assert not [name for name in others if name in text]
    numbers = {f["fingerprint"]: f["number"] for f in whole["findings"]}
    kept = {f["fingerprint"]: f["number"] for f in data["findings"]}
    assert kept == {name: numbers[name] for name in kept}  # people call them by the same numbers
    assert len(kept) >= 10


def test_a_name_that_is_neither_device_nor_tag_is_refused(estate: Path) -> None:
    done = run("audit", estate, "--for", "hut-larsh")
    assert done.returncode == 2
    assert "there is no device or tag 'hut-larsh'; did you mean hut-larch" in done.stderr

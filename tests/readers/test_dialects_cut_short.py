"""Dialects from which one mapping is taken, or led astray: no verdict becomes certain that was not, and none changes with certainty.

What a dialect says by itself (`is`), whole lists of rules it leaves out, and what only tells where a list stands are no part of that:
no word of the export is left over by which one could know.
"""

from __future__ import annotations

import copy
import random
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import yaml

import aiguille
from aiguille.model import AiguilleError, Estate

ROOT = Path(aiguille.__file__).parent
SAMPLES = {
    "veskara": "summit-gw.txt",
    "tindrel": "mast-router.txt",
    "ormelune": "midway-perimeter.xml",
    "castrevo": "huts.json",
}
CONDITIONS = frozenset([
    "in-interface", "out-interface", "in-zone", "out-zone", "source", "destination", "service", "protocol", "source-ports",
    "destination-ports", "icmp", "states", "qualifiers", "schedule", "any", "from", "members", "excluded", "interfaces",
])  # fmt: skip


def _mappings(node: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """The paths of what maps words to conditions."""
    items = node.items() if isinstance(node, dict) else enumerate(node) if isinstance(node, list) else ()
    for key, value in items:
        told = (isinstance(value, dict) and "is" in value) or (isinstance(value, str) and value.startswith("../"))
        if key in CONDITIONS and not told and "chains" not in path:
            yield (*path, key)
        if not (isinstance(value, dict) and "is" in value):
            yield from _mappings(value, (*path, key))


def _cut(dialect: dict[str, Any], path: tuple[Any, ...], astray: bool) -> dict[str, Any] | None:
    out = copy.deepcopy(dialect)
    node: Any = out
    for key in path[:-1]:
        node = node[key]
    if not astray:
        del node[path[-1]]
    elif isinstance(node[path[-1]], str):
        node[path[-1]] += "-not-there"
    else:
        return None
    return out


def _read(dialect: dict[str, Any], export: Path, home: Path) -> Estate | None:
    file = home / "mine.dialect.yaml"
    # Anchors of YAML would make what one list loses be lost by all.
    file.write_text(yaml.safe_dump(dialect | {"dialect": "mine"}, sort_keys=False))
    try:
        estate = aiguille.read(export, format="mine", dialects=[file])
    except AiguilleError:
        return None  # refused as a dialect
    return estate if estate.devices and not estate.failures else None


def _packets(estate: Estate, text: str, chance: random.Random) -> list[str]:
    ways = sorted({one.name for device in estate.devices for one in device.interfaces})
    ends = [*re.findall(r"\b(?:\d{1,3}\.){3}\d{1,3}\b", text), "198.51.100.77"]
    ports = [int(p) for p in re.findall(r"(?<![\d.])\d{2,5}(?![\d.])", text) if 0 < int(p) < 65536]
    return [
        f"{chance.choice(['tcp', 'udp'])} from {chance.choice(ends)} to {chance.choice(ends)}:{chance.choice(ports)} "
        f"entering {chance.choice(ways)} leaving {chance.choice(ways)}"
        for _ in range(30)
    ]


def _certain(estate: Estate, packets: list[str]) -> list[frozenset[str] | None]:
    out: list[frozenset[str] | None] = []
    for device in estate.devices:
        for packet in packets:
            answer = aiguille.probe(estate, packet, device=device.name)
            out.append(frozenset(one.verdict.value for one in answer.verdicts) if answer.certain else None)
    return out


@pytest.mark.parametrize("name", SAMPLES)
def test_what_a_dialect_loses_is_never_decided_for_certain(name: str, tmp_path: Path) -> None:
    chance = random.Random(name)
    dialect = yaml.safe_load((ROOT / "dialects" / f"{name}.dialect.yaml").read_text())
    dialect = copy.deepcopy({key: value for key, value in dialect.items() if key != "examples"})
    export = ROOT / "demo" / "valdrane" / "exports" / SAMPLES[name]
    whole = _read(dialect, export, tmp_path)
    assert whole is not None
    packets = _packets(whole, export.read_text(), chance)
    before = _certain(whole, packets)
    sections = {key: dialect[key] for key in ("rulebases", "addresses", "services", "zones") if key in dialect}
    tried = 0
    paths = list(_mappings(sections))
    for path in chance.sample(paths, min(len(paths), 25)):
        for astray in (False, True):
            cut = _cut(dialect, path, astray)
            after = None if cut is None else _read(cut, export, tmp_path)
            if after is None or len(after.devices) != len(whole.devices):
                continue
            tried += 1
            for was, now in zip(before, _certain(after, packets), strict=True):
                assert now is None or was == now, (
                    f"{'/'.join(map(str, path))} {'astray' if astray else 'taken'}: {was}, then {now}"
                )
    assert tried > 5

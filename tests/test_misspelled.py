"""A word that is misspelled in a rule leaves verdicts as they are, or open: never another one that is certain."""

from __future__ import annotations

import random
import re
from collections.abc import Iterator
from functools import cache
from itertools import islice
from pathlib import Path

import pytest

import aiguille
from aiguille.model import AiguilleError, Estate, InterfaceName
from tests.damage import Files, corpus

_WORD = re.compile(r"[A-Za-z][A-Za-z-]{2,}(?![A-Za-z0-9-])")
_THEIR_OWN = re.compile(
    r"\s*(?:\[\d+:\d+\] )?-A \S+|\S*(?:iptables|IPT\S*) (?:-t \S+ )?-\w \S+|\s*(?:ENABLED=|DEFAULT_|<(?:zone|source|interface)\b).*"
)
"""What the programs themselves take for another table, pass over or refuse as a whole, and so do we."""


@cache
def _exports() -> list[Files]:
    return [files for files in corpus() if len(files) < 8]


def _read(files: Files, home: Path) -> Estate | None:
    for name, data in files.items():
        (home / name).parent.mkdir(parents=True, exist_ok=True)
        (home / name).write_bytes(data)
    single = len(files) == 1 and "/" not in next(iter(files))
    try:
        estate = aiguille.read(home / next(iter(files)) if single else home)
    except AiguilleError:
        return None
    return estate if estate.devices and not estate.failures else None


def _interfaces(estate: Estate) -> set[str]:
    device = estate.devices[0]
    named = {one.name for one in device.interfaces} | {name for z in device.zones for name in (z.name, *z.interfaces)}
    rules = [rule for base in device.rulebases for _, rule in base.rules()]
    operands = [o for rule in rules for c in rule.match.conditions for o in c.operands]
    return named | {o.name for o in operands if isinstance(o, InterfaceName)}


def _packets(files: Files, interfaces: list[str], chance: random.Random) -> list[str]:
    text = b"\n".join(files.values()).decode("utf-8", "replace")
    ends = [*re.findall(r"\b(?:\d{1,3}\.){3}\d{1,3}\b", text), "198.51.100.77"]
    ports = [int(p) for p in re.findall(r"(?<![\d.])\d{2,5}(?![\d.])", text) if 0 < int(p) < 65536] + [22, 80, 443]
    return [
        f"{chance.choice(['tcp', 'udp'])} from {chance.choice(ends)} to {chance.choice(ends)}:{chance.choice(ports)} "
        f"entering {chance.choice(interfaces)}"
        for _ in range(25)
    ]


def _verdicts(estate: Estate, packets: list[str]) -> Iterator[frozenset[str] | None]:
    """For each packet what may become of it, None if that is not certain or the packet makes no sense there."""
    for packet in packets:
        try:
            answer = aiguille.probe(estate, packet, device=estate.devices[0].name)
        except AiguilleError:
            yield None
        else:
            yield frozenset(one.verdict.value for one in answer.verdicts) if answer.certain else None


def _misspelled(files: Files, estate: Estate, home: Path, chance: random.Random) -> Iterator[tuple[str, Files]]:
    """Copies of an export, each with one word of a rule misspelled, and the line where."""
    keep = _interfaces(estate)
    rules = [rule for base in estate.devices[0].rulebases for _, rule in base.rules()]
    where = sorted({rule.where for rule in rules if not rule.where.file.endswith(".conf")})
    while where:
        span = chance.choice(where)
        name, number = (
            str(Path(span.file).relative_to(home)),
            chance.randint(span.first, min(span.last, span.first + 20)),
        )
        lines = files[name].decode().split("\n")
        line = lines[number - 1]
        theirs = _THEIR_OWN.match(line)
        words = [w for w in _WORD.finditer(line, theirs.end() if theirs else 0) if w[0] not in keep]
        if words:
            word = chance.choice(words)
            lines[number - 1] = f"{line[: word.end()]}qq{line[word.end() :]}"
            yield f"{name}:{number}: {lines[number - 1].strip()}", {**files, name: "\n".join(lines).encode()}
        else:
            where.remove(span)


@pytest.mark.parametrize("seed", range(10))
def test_what_is_misspelled_decides_nothing_for_certain(seed: int, tmp_path: Path) -> None:
    chance = random.Random(seed)
    tried = 0
    for number, files in enumerate(chance.sample(_exports(), 25)):
        home = tmp_path / str(number)
        estate = _read(files, home)
        if estate is None:
            continue
        packets = _packets(files, sorted(_interfaces(estate)) or ["eth0"], chance)
        before = list(_verdicts(estate, packets))
        for where, changed in islice(_misspelled(files, estate, home, chance), 2):
            after = _read(changed, home)
            if after is not None:
                tried += 1
                for packet, was, now in zip(packets, before, _verdicts(after, packets), strict=True):
                    assert was is None or now is None or was == now, f"{where}: {packet}: {set(was)}, then {set(now)}"
    assert tried > 20

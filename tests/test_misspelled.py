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
    r"\s*(?:\[\d+:\d+\] )?-A \S+|\s*slip lane=\S+|"
    r"\s*\S*(?:iptables|IPT\S*) (?:-t \S+ )?-\w \S+|\s*(?:ENABLED=|DEFAULT_|<(?:zone|source|interface)\b).*"
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
    if device.dialect == "sheet":
        named.add("firewall")  # as the device itself is called, among names anybody may choose
    return named | {o.name for o in operands if isinstance(o, InterfaceName)}


def _entered(estate: Estate) -> list[str]:
    """The interfaces packets come in by. A zone's own name is one only where the export shows none of its interfaces."""
    zones = {zone.name for zone in estate.devices[0].zones if zone.interfaces != (zone.name,)}
    return sorted(_interfaces(estate) - zones) or ["eth0"]


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


@pytest.mark.parametrize("seed", range(7))
def test_what_is_misspelled_decides_nothing_for_certain(seed: int, tmp_path: Path) -> None:
    chance = random.Random(seed)
    tried = 0
    for number, files in enumerate(chance.sample(_exports(), 25)):
        home = tmp_path / str(number)
        estate = _read(files, home)
        if estate is None:
            continue
        packets = _packets(files, _entered(estate), chance)
        before = list(_verdicts(estate, packets))
        for where, changed in islice(_misspelled(files, estate, home, chance), 2):
            after = _read(changed, home)
            if after is not None:
                tried += 1
                for packet, was, now in zip(packets, before, _verdicts(after, packets), strict=True):
                    assert was is None or now is None or was == now, f"{where}: {packet}: {set(was)}, then {set(now)}"
    assert tried > 20


VESKARA = """~~ Veskara zone gateway, full export
about { called "g", build 5.2.1 }
socket w { holds 192.0.2.2/30, in street, answers%s [ shell ] }
socket l { holds 10.0.3.1/24, in lifts }
area street { faces outside }
area lifts { faces inside }
passages {
    passage%s "one" { out-of street, into lifts, sender anyone, receiver anyone, talking anything, then let, note yes }
    passage "two" { out-of anywhere, into anywhere, sender anyone, receiver anyone, talking anything, then swallow, note yes }
}
doors { door shell { at 22 } }
"""
NFT = """define lan = { lan0 }
table inet t {
    chain c {
        type filter hook input priority 0; policy drop;
        iifname $lan%s accept
    }
}
"""
OBJECTS = """{"nftables": [{"metainfo": {"version": "1.0.6"}}, {"table": {"family": "inet", "name": "t"}},
{"chain": {"family": "inet", "table": "t", "name": "c", "type": "filter", "hook": "input", "prio": 0, "policy": "drop"}},
{"rule%s": {"family": "inet%s", "table": "t", "chain": "c", "expr": [{"match": {"op": "==", "left": {"meta": {"key": "iifname"}},
"right": "lan0"}}, {"accept": null}]}}]}
"""
LISTING = """public (active)
  target: DROP
  interfaces: eth0
  services: https
  rich rules:
\trule family="ipv4" source address="203.0.113.9" drop%s
"""
SCRIPT = """nft add table inet f
nft 'add chain inet f i { type filter hook input priority 0; policy drop; }'
nft add rule%s inet f i tcp dport 443 accept
"""
LEFT_ALONE = """#!/bin/sh
iptables -t raw -A PREROUTING -i eth0 -p tcp --dport 22 -j %s
iptables -A INPUT -m conntrack --ctstate ESTABLISHED,UNTRACKED -j ACCEPT
iptables -P INPUT DROP
"""
SHEET = """Seq;Interface;Direction;Action;Protocol;Source;Destination;Destination port
1;lan;in;pass;any;10.1.1.0/24;any%s;any
2;any;in;block;any;any;any;any
"""


@pytest.mark.parametrize(
    ("name", "text", "packet"),
    [
        ("gate.txt", VESKARA % ("", "QQ"), "tcp from 198.51.100.7 to 10.0.3.9:80 entering w leaving l"),
        ("gate.txt", VESKARA % ("QQ", ""), "tcp from 198.51.100.7 to 192.0.2.2:22 entering w"),
        ("rules.nft", NFT % "QQ", "tcp from 10.0.0.1 to 10.0.0.2:22 entering lan0"),
        ("rules.json", OBJECTS % ("QQ", ""), "tcp from 10.0.0.1 to 10.0.0.2:22 entering lan0"),
        ("rules.json", OBJECTS % ("", "QQ"), "tcp from 10.0.0.1 to 10.0.0.2:22 entering lan0"),
        ("fw.sh", SCRIPT % "QQ", "tcp from 203.0.113.9 to 192.0.2.2:443 entering eth0"),
        ("fw.sh", LEFT_ALONE % "CT --notrackQQ", "tcp from 203.0.113.9 to 192.0.2.2:22 entering eth0"),
        ("fw.sh", LEFT_ALONE % "NOTRACKQQ", "tcp from 203.0.113.9 to 192.0.2.2:22 entering eth0"),
        (
            "gate.txt",
            VESKARA.replace("socket w", "socketQQ w") % ("", ""),
            "tcp from 198.51.100.7 to 10.0.3.9:80 entering w leaving l",
        ),
        (
            "gate.txt",
            VESKARA.replace("socket w", "socketQQ w") % ("", ""),
            "tcp from 198.51.100.7 to 192.0.2.2:22 entering w",
        ),
        ("zones.txt", LISTING % "QQ", "tcp from 203.0.113.9 to 192.0.2.2:443 entering eth0"),
        ("rules.csv", SHEET % "QQ", "tcp from 10.1.1.5 to 192.0.2.2:443 entering lan"),
    ],
)
def test_what_may_be_a_rule_leaves_open_what_it_may_decide(name: str, text: str, packet: str, tmp_path: Path) -> None:
    for spelled, certain in ((text.replace("QQ", ""), True), (text.replace("QQ", "qq"), False)):
        (tmp_path / name).write_text(spelled)
        estate = aiguille.read([tmp_path / name])
        assert not estate.failures
        (verdict,) = _verdicts(estate, [packet])
        assert (verdict is not None) is certain, spelled

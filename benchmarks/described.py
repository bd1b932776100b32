"""Measures how fast exports of described makes are read, as ratios within one run, and prints Markdown.

    python -m benchmarks.described [--rules 10000,100000] [--megabytes 10,50]

Text is compared with `shlex.split` of the same lines, JSON with `json.load` of the same file.
"""

from __future__ import annotations

import argparse
import gc
import io
import json
import random
import shlex
import time
from collections.abc import Callable
from typing import Any

from aiguille.readers import ExportFile, decode, mapped
from aiguille.readers.mapped.loading import load
from aiguille.readers.mapped.structure import parse


def least(*works: Callable[[], object]) -> list[float]:
    """The least time of each among five; done in turn, since a machine's speed changes from second to second."""
    return [min(times) for times in zip(*([seconds(work) for work in works] for _ in range(5)), strict=True)]


def seconds(work: Callable[[], object]) -> float:
    gc.collect()
    gc.disable()  # as the commands do while they read
    start = time.perf_counter()
    work()
    took = time.perf_counter() - start
    gc.enable()
    return took


def dialect(name: str) -> mapped.Dialect:
    return next(one for one in mapped.shipped() if one.dialect == name)


def braces(rules: int, seed: int = 5) -> ExportFile:
    """A zone gateway's rules, a block each, of 8 to 12 lines."""
    rnd = random.Random(seed)
    lines = ["~~ Veskara zone gateway, full export"]
    zones = [f"area{n}" for n in range(8)]
    lines += [f"area {zone} {{ faces inside }}" for zone in zones]
    lines += [f"place host{n} {{ is 10.{n % 200}.{n // 200}.1 }}" for n in range(500)]
    lines += [f"talk talk{n} {{ over tcp, to-port {1000 + n} }}" for n in range(80)]
    lines.append("passages {")
    for number in range(rules):
        lines += [
            f'    passage "rule {number}" {{',
            f"        out-of   {rnd.choice(zones)}",
            f"        into     {rnd.choice(zones)}",
            f"        sender   [ {' '.join(f'host{rnd.randrange(500)}' for _ in range(rnd.randint(1, 4)))} ]",
            f"        receiver [ host{rnd.randrange(500)} 10.{number >> 16 & 255}.{number >> 8 & 255}.{number & 255} ]",
            f"        talking  [ talk{rnd.randrange(80)} ]",
            f"        then     {rnd.choice(('let', 'swallow'))}",
            "        note     yes",
            f"        met      {rnd.randrange(10**6)}",
            "    }",
        ]
    lines.append("}")
    return decode("generated", "\n".join(lines).encode())


SENTENCES = r"""
dialect: sentences
make: a box of sentences
language: 1
recognise: {first-lines: "^# sentences"}
structure:
  family: text
  continues: "\\"
  list: {opens: "{", closes: "}"}
  sentences:
    - of: [let]
      fillers: [",", and]
      keywords:
        out-of: {said: [out of]}
        from: {}
        towards: {}
        towards-but: {said: [but not towards]}
        for: {}
        remark: {takes: word}
        seen: {takes: word}
words: {verdict: {pass: accept, stop: drop}}
rulebases:
  - name: lets
    at: let
    direction: through-device
    rule:
      action: {from: "@1", words: verdict}
      in-zone: out-of
      source: from
      destination: {from: towards, except: towards-but}
      service: for
      comment: remark
      hits: seen
    unmatched: {action: {is: drop}}
"""


def sentences(rules: int, seed: int = 5) -> ExportFile:
    """Rules of one or two lines whose parts come in any order."""
    rnd = random.Random(seed)
    lines = ["# sentences"]
    for number in range(rules):
        there = f"10.{number >> 16 & 255}.{number >> 8 & 255}.{number & 255}"
        parts = [
            f"out of area{rnd.randrange(8)}",
            f"from {{ {', '.join(f'10.9.{rnd.randrange(256)}.0/24' for _ in range(rnd.randint(1, 3)))} }}",
            f"towards 10.0.0.0/8 but not towards {there}",
            f"for tcp/{rnd.randrange(1, 65536)} and udp/53",
            f'remark "rule {number}"',
            f"seen {rnd.randrange(10**6)}",
        ]
        rnd.shuffle(parts)
        lines += [f"let {rnd.choice(('pass', 'stop'))} {' '.join(parts[:3])}", f"    \\ {' '.join(parts[3:])}"]
    return decode("generated", "\n".join(lines).encode())


def cloud(megabytes: int, share: float) -> str:
    """A cloud-managed site of a given size, of which a share is rules and the rest machines seen, which nobody asks for."""
    lane = {"label": "office", "gate": "10.0.0.1/24", "for": "work"}
    rules: list[dict[str, Any]] = []
    clients: list[dict[str, Any]] = []
    size = 0
    while size < megabytes * 1e6:
        number = len(rules) + len(clients)
        if size < megabytes * 1e6 * share:
            address = f"10.{number >> 16 & 255}.{number >> 8 & 255}.{number & 255}"
            rules.append({"label": f"rule {number}", "say": "permit", "from": {"lane": "office"}, "to": {"range": address},
                          "talk": "tcp", "ports": ["443", "8080"], "met": number, "recorded": True})  # fmt: skip
            size += 420
        else:
            clients.append({"seen": "2026-11-06", "address": f"10.44.{number >> 8 & 255}.{number & 255}",
                            "called": "a machine of a guest", "octets": number})  # fmt: skip
            size += 155
    place = {"label": "hut", "mould": "hut", "line": {"gate": "192.0.2.1/30"}, "lanes": [lane], "between": rules}
    return json.dumps({"castrevo": {}, "moulds": [{"key": "hut"}], "places": [place], "clients": clients}, indent=2)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rules", default="10000,100000")
    parser.add_argument("--megabytes", default="10,50")
    arguments = parser.parse_args()
    print("| rules | lines | reading, times `shlex.split` | a rule, times that of the first row |")
    print("|---|---|---|---|")
    first = 0.0
    for count in map(int, arguments.rules.split(",")):
        file = braces(count)
        split = seconds(lambda file=file: [shlex.split(line) for line in file.lines])  # type: ignore[misc]
        took = seconds(lambda file=file: mapped.read(dialect("veskara"), [file], ""))  # type: ignore[misc]
        first = first or took / count
        print(f"| {count:,} | {len(file.lines):,} | {took / split:.1f} | {took / count / first:.2f} |")
    print("\n| sentences | lines | reading, times `shlex.split` |")
    print("|---|---|---|")
    told = load("sentences.dialect.yaml", SENTENCES)
    for count in map(int, arguments.rules.split(",")):
        file = sentences(count)
        split = seconds(lambda file=file: [shlex.split(line.replace("\\", "")) for line in file.lines])  # type: ignore[misc]
        took = seconds(lambda file=file: mapped.read(told, [file], ""))  # type: ignore[misc]
        print(f"| {count:,} | {len(file.lines):,} | {took / split:.1f} |", flush=True)
    print("\n| JSON | rules | tree, times `json.load` | reading whole, times `json.load` |")
    print("|---|---|---|---|")
    for megabytes in map(int, arguments.megabytes.split(",")):
        for share in (0.01, 0.2, 1.0):
            text = cloud(megabytes, share)
            file = decode("generated", text.encode())
            loading, tree, took = least(
                lambda text=text: json.load(io.StringIO(text)),  # type: ignore[misc]
                lambda file=file: parse([file], dialect("castrevo").structure),  # type: ignore[misc]
                lambda file=file: mapped.read(dialect("castrevo"), [file], ""),  # type: ignore[misc]
            )
            rules = text.count('"say"')
            print(f"| {len(text) / 1e6:.0f} MB | {rules:,} | {tree / loading:.1f} | {took / loading:.1f} |", flush=True)


if __name__ == "__main__":
    main()

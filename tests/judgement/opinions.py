"""Opinions of an auditor on small exports, and how they are held against an audit.

A file of cases holds one after the other:

    === a title                       what the case is about
    sides: eth0=outside eth1=inside   optional: what the auditor states with --side
    each PORT: 22 23                  optional: a case for each word ({PORT} stands for it, ~ for a blank in it)
    --- FILE                          one or more files of the export, by name
    ...
    --- expect
    must high: some words             a finding of at least this severity has a line with these words
    never medium: some words          none of this severity or above has it
    says: some words                  the sentence of a finding has these words
    leads CHECK: some words           a finding of this check, no consequence, has a line with these words
    pass: deny.to-device              this check passes; `not pass:` it does not; `cannot tell:` it says so
    at most 12                        findings there may be
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import date
from pathlib import Path

from msgspec import Struct

import aiguille
from aiguille.baseline import Audit, Severity
from aiguille.model import Side

AS_OF = date(2026, 11, 30)
_HEAD = re.compile(r"(?m)^=== ")
_FILE = re.compile(r"(?m)^--- (.+)$")


class Case(Struct, frozen=True):
    """A case with its files by name and what is expected, a line each."""

    title: str
    sides: dict[str, Side]
    files: dict[str, str]
    expected: tuple[str, ...]


def cases(folder: Path) -> Iterator[Case]:
    for path in sorted(folder.glob("*.txt")):
        for block in _HEAD.split(path.read_text(encoding="utf-8"))[1:]:
            head, *parts = _FILE.split(block)
            title, *options = head.strip().splitlines()
            told = dict(line.split(":", 1) for line in options)
            wheel = next((key for key in told if key.startswith("each ")), None)
            for word in (one.replace("~", " ") for one in told[wheel].split()) if wheel else [""]:
                mark = f"{{{wheel.removeprefix('each ')}}}" if wheel else "\0"
                texts = {
                    parts[n].replace(mark, word): parts[n + 1].lstrip("\n").replace(mark, word)
                    for n in range(0, len(parts), 2)
                }
                expected = tuple(line for line in texts.pop("expect").splitlines() if line.strip())
                stated = told.get("sides", "").replace(mark, word).split()
                sides = {name: Side(side) for name, side in (pair.split("=") for pair in stated)}
                yield Case(f"{path.stem}: {title} {word}".strip(), sides, texts, expected)


def audit_of(case: Case, folder: Path) -> Audit:
    for name, text in case.files.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(text, encoding="utf-8")
    single = len(case.files) == 1 and "/" not in next(iter(case.files))
    place = folder / next(iter(case.files)) if single else folder
    return aiguille.audit(aiguille.read([place], sides=case.sides, as_of=AS_OF))


def wrong(audit: Audit, line: str) -> str:
    """What speaks against an expected line, empty if it holds."""
    told = [(f.severity, f.check, f.evidence) for f in audit.findings]
    told += [(c.severity, c.check, c.evidence) for f in audit.findings for c in f.consequences]
    if found := re.fullmatch(r"(must|never) (\w+): (.+)", line):
        least = Severity(found[2]).rank
        on_line = [
            (severity, check)
            for severity, check, evidence in told
            if any(found[3] in text for one in evidence for text in one.text)
        ]
        grave = [(s.value, check) for s, check in on_line if s.rank >= least]
        if found[1] == "must":
            return "" if grave else f"only {[(s.value, c) for s, c in on_line]} has it"
        return f"{grave} has it" if grave else ""
    if found := re.fullmatch(r"says: (.+)", line):
        return "" if any(found[1] in f.detail for f in audit.findings) else "no finding says so"
    if found := re.fullmatch(r"leads (\S+): (.+)", line):
        heads = [f.check for f in audit.findings if any(found[2] in text for one in f.evidence for text in one.text)]
        return "" if found[1] in heads else f"{heads} lead there"
    if found := re.fullmatch(r"at most ([0-9]+)", line):
        return "" if len(audit.findings) <= int(found[1]) else f"there are {len(audit.findings)}"
    found = re.fullmatch(r"(pass|not pass|cannot tell): (\S+)", line)
    assert found is not None, f"'{line}' is no expectation"
    (outcome,) = {one.outcome.value for one in audit.outcomes if one.check == found[2]}
    held = {"pass": outcome == "pass", "not pass": outcome != "pass", "cannot tell": outcome == "cannot tell"}[found[1]]
    return "" if held else f"it is '{outcome}'"

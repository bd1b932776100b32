"""What the guide and the library's page show of the program: their commands and examples run anew, with what came out put in.

A line of an ellipsis stands for any number of lines; those around it are found again by their likeness.
"""

from __future__ import annotations

import contextlib
import io
import os
import re
import subprocess
import sys
from difflib import SequenceMatcher
from itertools import groupby
from pathlib import Path
from typing import Any

from aiguille.demo import write_estate

GAP = "…"
_STEPS = re.compile(r"<!-- (?P<kind>run|file:) ?(?P<name>\S*) ?-->\n```\w+\n(?P<text>.*?)```", re.DOTALL)
_EXAMPLES = re.compile(
    r"<!-- example: (?P<name>\w+) -->\n```python\n(?P<text>.*?)```(?P<printed>.*?)(?=<!--|\Z)", re.DOTALL
)
_PRINTED = re.compile(r"(?<=It prints:\n\n```text\n).*?(?=```)", re.DOTALL)


def guide(page: str, folder: Path) -> str:
    """The page as it should be, its files written and its commands run in `folder`, one after the other."""
    path = f"{Path(sys.executable).parent}:{os.environ['PATH']}"

    def again(found: re.Match[str]) -> str:
        if found["kind"] == "file:":
            (folder / found["name"]).write_text(found["text"])
            return found[0]
        steps = re.split(r"^(?=\$ )", found["text"], flags=re.MULTILINE)[1:]
        return found[0].replace(found["text"], "".join(map(step, steps)))

    def step(text: str) -> str:
        command, *shown = text.splitlines()
        done = subprocess.run(
            ["bash", "-c", command[2:]], capture_output=True, text=True, cwd=folder, check=False,
            env={**os.environ, "PATH": path, "COLUMNS": "100"},
        )  # fmt: skip
        return "".join(f"{line}\n" for line in (command, *with_gaps(shown, done.stdout.splitlines())))

    return _STEPS.sub(again, page)


def library(page: str, folder: Path) -> tuple[str, dict[str, Any]]:
    """The page as it should be, its examples run in `folder` beside the sample estate; and the names they leave."""
    write_estate(folder / "valdrane-lifts")
    names: dict[str, Any] = {}

    def again(found: re.Match[str]) -> str:
        out = io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.chdir(folder):
            exec(found["text"], names)
        return found[0].replace(found["printed"], _PRINTED.sub(lambda _: out.getvalue(), found["printed"], count=1))

    return _EXAMPLES.sub(again, page), names


def example(page: str, name: str) -> str:
    """A piece of Python in a page of docs/."""
    text = (Path(__file__).parent.parent / "docs" / page).read_text()
    return next(found["text"] for found in _EXAMPLES.finditer(text) if found["name"] == name)


def with_gaps(shown: list[str], came: list[str]) -> list[str]:
    """As many lines of what came as are shown, each run of them where it is most like what was shown there."""
    if GAP not in shown:
        return came
    out: list[str] = []
    at = 0
    runs = [(is_gap, list(lines)) for is_gap, lines in groupby(shown, lambda line: line == GAP)]
    for number, (is_gap, lines) in enumerate(runs):
        if is_gap:
            out.append(GAP)
            continue
        starts = range(at, max(at, len(came) - len(lines)) + 1)
        if number == 0:
            starts = range(1)
        elif number == len(runs) - 1:
            starts = starts[-1:]
        at = max(starts, key=lambda start: _likeness(lines, came[start:]))
        out += came[at : at + len(lines)]
        at += len(lines)
    return out


def _likeness(lines: list[str], came: list[str]) -> float:
    return sum(
        1.0 if one == other else SequenceMatcher(None, one, other).ratio()
        for one, other in zip(lines, came, strict=False)
    )

"""`python -m tests.proof [SETS] [SEED]` writes docs/proof.md: what is held against the kernel and the programs, and what came of it.

Runs the tests of `tests/kernel` as root, with so many random rule sets for each kind as SETS says.
"""

from __future__ import annotations

import argparse
import datetime
import os
import re
import subprocess
import sys
import tempfile
from pathlib import Path
from xml.etree import ElementTree

from tests.held import DAMAGED, HELD

ROOT = Path(__file__).parent.parent
PAGE = ROOT / "docs" / "proof.md"
HEAD = """# What the answers are held against

Written by `python -m tests.proof {sets} {seed}` on {day}, Linux {kernel}, {nft}, {iptables}. Each line is one test of `tests/kernel`:
random rule sets are loaded for real in a network namespace, packets are sent, and the kernel's counters say what became of them. One
packet whose certain answer differs, in verdict or in the rule that decides, fails the test.

*Certain* counts the packets whose answer depends on nothing a packet does not tell; those that are not certain are followed by what
stood in the way most often. Rule sets of the lines "every option" and "every statement" are made of whatever this kernel loads,
much of it beyond what sets of packets can follow: there a third to a half of the answers are open on purpose, and none may be wrong.
Text and JSON of nft are asked each, which makes two answers a packet.

"""


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("sets", nargs="?", type=int, default=25)
    parser.add_argument("seed", nargs="?", type=int, default=20261129)
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as work:
        report = Path(work) / "report.xml"
        env = {
            **os.environ,
            "AIGUILLE_KERNEL_SETS": str(asked.sets),
            "AIGUILLE_KERNEL_SEED": str(asked.seed),
            "AIGUILLE_REQUIRE_KERNEL": "1",
        }
        words = [sys.executable, "-m", "pytest", "-q", "tests/kernel", f"--junitxml={report}"]
        done = subprocess.run(words, cwd=ROOT, env=env, check=False)
        if done.returncode:
            raise SystemExit("the tests fail: nothing is written")
        said = [
            one.get("value", "") for one in ElementTree.parse(report).iter("property") if one.get("name") == "kernel"
        ]
    head = HEAD.format(
        sets=asked.sets,
        seed=asked.seed,
        day=datetime.datetime.now(tz=datetime.UTC).date(),
        kernel=os.uname().release.split("-")[0],
        nft=_version("nft", "--version"),
        iptables=_version("iptables", "--version"),
    )
    PAGE.write_text(head + _table(sorted(said)) + held(), encoding="utf-8")


def held() -> str:
    """The end of the page: damaged exports by hand, and what was once certain and wrong."""
    runs = (f"| {cases} | {seed} | {day} | {faults} |" for cases, seed, day, faults in DAMAGED)
    rows = (f"| {what} | `{file}`: {case.removesuffix(': {')} |" for what, file, case in HELD)
    return (
        "\n## Damaged exports\n\n360 in every run of the tests; more by hand, with `python -m tests.damage N SEED`. A fault is a "
        "traceback, a hang, a file that is accounted for nowhere, an answer that is certain of what was not read, or a planted "
        "secret in any output. "
        "What the runs found is mended (both of the second: a secret in what damage had made a zone's name).\n\n"
        "| cases | seed | day | faults |\n|---|---|---|---|\n" + "\n".join(runs) + "\n"
        "\n## Certain once, and wrong\n\nEach of these was answered with certainty and otherwise than the kernel or the program does. "
        "What holds it now:\n\n| what | where |\n|---|---|\n" + "\n".join(rows) + "\n"
    )


def _version(*words: str) -> str:
    said = subprocess.run(words, capture_output=True, text=True, check=True).stdout
    return " ".join(said.split()[:2])


def _table(said: list[str]) -> str:
    rows = [
        "| what | rule sets | packets | certain | accept | drop | reject | open, and by what |",
        "|---|---|---|---|---|---|---|---|",
    ]
    others = []
    for one in said:
        found = re.fullmatch(r"(.*): (\d+) rule sets from seed \d+, \{(.*)\}(?:; open by (.*))?", one)
        if found is None:
            others.append(f"- {one}\n")
            continue
        counts = dict(re.findall(r"'([^']+)': (\d+)", found[3]))
        certain = counts.get("certain") or counts.get("agreed", "")
        shown = [counts.get(k, "0") for k in ("packets", "accept", "drop", "reject", "not certain")]
        why = f": {found[4]}" if found[4] else ""
        rows.append(
            f"| {found[1]} | {found[2]} | {shown[0]} | {certain} | {shown[1]} | {shown[2]} | {shown[3]} | {shown[4]}{why} |"
        )
    programs = "\nWhole configurations, as their programs load them, compared as sets of packets with what the kernel then holds:\n\n"
    return "\n".join([*rows, ""]) + programs + "".join(others)


if __name__ == "__main__":
    main()

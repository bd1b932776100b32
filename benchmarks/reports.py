"""Measures report writing and the start of the program in one run, as ratios within that run, and prints Markdown.

    python -m benchmarks.reports [--devices 1000] [--findings 20000] [--rounds 3]

An audit of that many devices is made out of the sample estate's: its devices under other names, each with findings of its own.
Writing is measured alone: what reports show beside the audit (the standing of rules, the reach of countries) is computed before.
"""

from __future__ import annotations

import argparse
import io
import json
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from jinja2 import Environment
from msgspec.structs import replace

import aiguille
from aiguille.baseline import Audit, fingerprint
from aiguille.demo import write_estate
from aiguille.model import Estate
from aiguille.reports.data import audit_data
from aiguille.reports.dossier import Dossier
from aiguille.reports.files import as_bytes
from aiguille.reports.outputs import OUTPUTS
from aiguille.reports.page import as_html
from benchmarks.generate import as_dump, generate

TABLE = """<!doctype html><title>t</title><table>
{% for one in rows %}
<tr>{% for cell in one %}<td>{{ cell }}</td>{% endfor %}</tr>
{% endfor %}
</table>"""


def many(devices: int, findings: int) -> Dossier:
    """The audit, with what reports show beside it computed."""
    with tempfile.TemporaryDirectory() as name:
        write_estate(Path(name))
        audit = aiguille.audit(aiguille.read([name]))
    sample = Dossier(audit)
    whole = audit.estate.devices
    made, told, outcomes, rules, reach = [], [], [], {}, []
    for number in range(devices):
        old = whole[number % len(whole)]
        name = f"{old.name}-{number:04}"
        made.append(replace(old, name=name))
        mine = sample.audit.findings_on(old.name)
        share = (number + 1) * findings // devices - number * findings // devices
        for at in range(share):
            one = (mine or list(audit.findings))[at % len(mine or audit.findings)]
            told.append(replace(one, device=name, fingerprint=fingerprint(one.check, name, one.detail, at)))
        outcomes += [replace(one, device=name) for one in audit.outcomes if one.device == old.name]
        rules[name] = [{**row, "device": name} for row in sample.rules[old.name]]
        reach += [replace(one, device=name) for one in sample.reach if one.device == old.name]
    estate: Estate = replace(audit.estate, devices=tuple(made))
    dossier = Dossier(Audit(estate, tuple(outcomes), tuple(told), audit.baseline))
    dossier.__dict__.update(rules=rules, reach=tuple(reach))
    return dossier


def best(rounds: int, work: Callable[[], object]) -> float:
    """Seconds of the quickest of some rounds."""
    times = []
    for _ in range(rounds):
        start = time.perf_counter()
        work()
        times.append(time.perf_counter() - start)
    return min(times)


def dump(dossier: Dossier) -> None:
    json.dump(audit_data(dossier.audit), io.StringIO())


def table(dossier: Dossier, size: int) -> Callable[[], str]:
    """A render of one table that is as large as the page: rows of findings, as often as it takes."""
    template = Environment(autoescape=True, trim_blocks=True, lstrip_blocks=True).from_string(TABLE)
    rows = [
        (f.severity.value, f.device, f.title, f.detail, f.why, f.fix, *(t for e in f.evidence for t in e.text))
        for f in dossier.audit.findings
    ]
    one = len(template.render(rows=rows))
    times = -(-size // one)
    return lambda: template.render(rows=(rows * times)[: len(rows) * size // one])


def reports(devices: int, findings: int, rounds: int) -> None:
    dossier = many(devices, findings)
    as_html(many(15, 300))  # what is imported and compiled once is no part of it
    page = as_html(dossier)
    render = table(dossier, len(page))
    plain = best(rounds, lambda: dump(dossier)) + best(rounds, render)
    print(
        f"{devices:,} devices, {findings:,} findings; the page has {len(page) / 1e6:.1f} MB, the table {len(render()) / 1e6:.1f} MB\n"
    )
    print("| report | time, times json.dump of the audit and a table of that size |")
    print("|---|---|")
    for ending, (_, make) in OUTPUTS.items():
        print(f"| `{ending}` | {best(rounds, lambda make=make: as_bytes(make(dossier))) / plain:.2f} |", flush=True)


def process(rounds: int, *words: str) -> float:
    """Seconds of the quickest of some runs of a program."""
    return best(rounds, lambda: subprocess.run(words, capture_output=True, check=False))


def start(rounds: int) -> None:
    """The whole process of small audits against Python importing NumPy."""
    program = str(Path(sys.executable).parent / "aiguille")
    numpy = process(rounds, sys.executable, "-c", "import numpy")
    print("\n| whole process | times `python -c 'import numpy'` |")
    print("|---|---|")
    with tempfile.TemporaryDirectory() as name:
        for rules in (10, 300):
            path = Path(name) / f"gw{rules}.v4"
            path.write_text(as_dump(generate(rules)))
            for more in ((), ("--json",)):
                took = process(rounds, program, "audit", str(path), "--quiet", *more)
                print(f"| `audit{' --json' if more else ''}` of {rules} rules | {took / numpy:.1f} |", flush=True)
        print(f"| `--version` | {process(rounds, program, '--version') / numpy:.1f} |")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--devices", type=int, default=1000)
    parser.add_argument("--findings", type=int, default=20_000)
    parser.add_argument("--rounds", type=int, default=3)
    arguments = parser.parse_args()
    reports(arguments.devices, arguments.findings, arguments.rounds)
    start(5)


if __name__ == "__main__":
    main()

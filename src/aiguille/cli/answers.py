"""`aiguille answers`: what the auditee wrote into the workbook, merged for the next audit."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from aiguille.cli import inputs, options, output
from aiguille.model import EXIT_FINDINGS, EXIT_OK, UsageError

NAME = "answers"
HELP = "read a workbook that the auditee filled in, and keep the answers for the next audit"
EXAMPLES = """examples:
  aiguille answers findings.xlsx engagement/
  aiguille answers findings.xlsx valley-gw.v4 --out answers.toml

The answers are merged, by fingerprint, into answers.toml beside the engagement. Rows that cannot be taken are
named by cell, and the exit code is then 1; all others are kept."""


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("workbook", metavar="WORKBOOK", type=Path, help="the workbook, as `audit --out` wrote it")
    options.add_paths(parser)
    options.add_baseline(parser)
    parser.add_argument(
        "--out", metavar="FILE", type=Path, help="where to keep them (default: answers.toml beside the engagement)"
    )
    parser.add_argument(
        "--json", action="store_true", help="write JSON to standard output instead of the terminal view"
    )
    parser.add_argument("--force", action="store_true", help="replace a file that --out names")
    options.add_manner(parser)


def run(arguments: argparse.Namespace) -> int:
    from aiguille.baseline import answers
    from aiguille.reports import answers as report
    from aiguille.reports import returned
    from aiguille.reports.data import dump
    from aiguille.reports.files import refuse_existing, write_whole

    target = _target(arguments)
    if arguments.out is not None:
        refuse_existing(target, force=arguments.force)
    estate = inputs.read_estate(arguments)
    audit = inputs.run_audit(arguments, estate)
    found = returned.read(arguments.workbook, audit)
    file = arguments.answers or estate.answers
    known = answers.load(file, estate.title) if file else answers.Kept()
    kept, changes = answers.merge(audit, known, found.answers)
    if changes or arguments.out is not None:
        # What was there is in it still, but for what the workbook says anew.
        write_whole(target, answers.dump(kept, estate.title).encode(), force=True)
    numbers = dict(kept.numbers)
    described = report.Taken(changes, numbers, found.faults, found.missing, str(target), len(kept.replies))
    if arguments.json:
        sys.stdout.write(dump(report.answers_data(described)))
    else:
        output.show(arguments, lambda console: report.show_answers(console, described))
    return inputs.exit_code(estate, EXIT_FINDINGS if found.faults else EXIT_OK)


def _target(arguments: argparse.Namespace) -> Path:
    from aiguille.estate.engagement import ANSWERS, FILE_NAME

    if arguments.out is not None:
        return Path(arguments.out)
    if arguments.answers is not None:
        return Path(arguments.answers)
    for path in map(Path, arguments.paths):
        home = path if path.is_dir() else path.parent
        if (home / FILE_NAME).is_file() or path.name == FILE_NAME:
            return home / ANSWERS
    raise UsageError(
        f"{arguments.paths[0]} is no engagement, so there is no place for answers; name one with --out FILE.toml"
    )

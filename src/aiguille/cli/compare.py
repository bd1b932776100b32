"""`aiguille compare`: what newly opens or closes between two exports, and what was rewritten and mended."""

from __future__ import annotations

import argparse
from pathlib import Path

from aiguille.cli import inputs, options, output
from aiguille.model import EXIT_FINDINGS, EXIT_OK, UsageError

NAME = "compare"
HELP = "show what newly opens or closes between two exports, folders or engagements, and what was rewritten"
EXAMPLES = """examples:
  aiguille compare valley-gw.v4 valley-gw-new.v4
  aiguille compare spring/ autumn/ --json
  aiguille compare valley-gw.v4 --as-if "remove rule 3 of INPUT" --administrator 192.0.2.20

With --as-if there is one PATH, compared with what it would be. Exit code 1 when something opens, or an administrator gets
locked out."""


def add(parser: argparse.ArgumentParser) -> None:
    options.add_paths(parser)
    options.add_changes(parser)
    options.add_baseline(parser)
    parser.add_argument("--no-findings", action="store_true", help="leave findings out, which takes most of the time")
    options.add_output(parser)


def run(arguments: argparse.Namespace) -> int:
    from aiguille.baseline.comparing import compare
    from aiguille.estate.wordings import changed
    from aiguille.reports import compare as report

    paths = arguments.paths
    asked, arguments.as_if = arguments.as_if, []
    if len(paths) != (1 if asked else 2):
        raise UsageError("compare takes BEFORE and AFTER, or one path and --as-if with what would change")
    if len(paths) == 2 and Path(paths[0]).resolve() == Path(paths[1]).resolve():
        raise UsageError(f"BEFORE and AFTER are both {paths[0]}; there is nothing to compare")
    before = inputs.read_estate(arguments, paths[:1])
    after = changed(before, asked) if asked else inputs.read_estate(arguments, paths[1:])
    audited = None if arguments.no_findings else lambda estate: inputs.run_audit(arguments, estate)
    found = compare(before, after, audited, tuple(arguments.administrator))
    output.report(arguments, lambda: report.compare_data(found), lambda console: report.show_compare(console, found))
    worse = found.opened or any(one.lost for pair in found.pairs for one in pair.access)
    code = EXIT_FINDINGS if worse else EXIT_OK
    return max(inputs.exit_code(before, code), inputs.exit_code(after, code))

"""`aiguille explain`: the full story of one finding."""

from __future__ import annotations

import argparse

from aiguille.cli import inputs, options, output

NAME = "explain"
HELP = "give the full story of one finding: the lines around it, the packet's walk, the fix, how to accept it"
EXAMPLES = """examples:
  aiguille explain 7c6e395a6dbe9131 engagement/
  aiguille explain 7c6e39 valley-gw.v4 --baseline strict --json

The first digits of a fingerprint will do where no other finding begins so. Give the same paths and baseline as to the audit."""


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "fingerprint", metavar="FINGERPRINT", help="the finding's id, as audit prints it, or its first digits"
    )
    options.add_paths(parser)
    options.add_baseline(parser)
    options.add_output(parser)


def run(arguments: argparse.Namespace) -> int:
    from aiguille.baseline.story import describe
    from aiguille.reports.story import show_story, story_data

    audit = inputs.run_audit(arguments, inputs.read_estate(arguments))
    story = describe(audit, arguments.fingerprint)
    output.report(arguments, lambda: story_data(story), lambda console: show_story(console, story))
    return inputs.exit_code(audit.estate)

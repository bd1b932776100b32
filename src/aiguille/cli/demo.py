"""`aiguille demo`: write the sample estate and audit it."""

from __future__ import annotations

import argparse
from pathlib import Path

from aiguille.cli import audit, options

NAME = "demo"
HELP = "write the sample estate, Valdrane Lifts, to a folder and audit it"
EXAMPLES = """examples:
  aiguille demo
  aiguille demo /tmp/valdrane --json"""


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "folder",
        nargs="?",
        default="valdrane-lifts",
        metavar="DIR",
        type=Path,
        help="where to write it (default: valdrane-lifts)",
    )
    options.add_output(parser, audit.ENDINGS)
    parser.set_defaults(as_of=None)


def run(arguments: argparse.Namespace) -> int:
    from aiguille.demo import write_estate

    write_estate(arguments.folder, force=arguments.force)
    audit.report(arguments, [arguments.folder])
    return 0

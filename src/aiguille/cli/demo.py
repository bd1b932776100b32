"""`aiguille demo`: write the sample estate and audit it."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from aiguille.cli import audit, options, output

if TYPE_CHECKING:
    from aiguille.baseline import Audit

NAME = "demo"
HELP = "write the sample estate, Valdrane Lifts, to a folder and audit it"
REPORT = "report.html"
EXAMPLES = """examples:
  aiguille demo
  aiguille demo /tmp/valdrane --json
  aiguille demo --later valdrane-winter"""


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "folder",
        nargs="?",
        default="valdrane-lifts",
        metavar="DIR",
        type=Path,
        help="where to write it (default: valdrane-lifts)",
    )
    parser.add_argument(
        "--later", action="store_true", help="the estate a quarter later, for a re-test: what was exported anew"
    )
    options.add_output(parser, audit.ENDINGS)
    parser.set_defaults(as_of=None, details=False, top=10)


def run(arguments: argparse.Namespace) -> int:
    from aiguille.demo import write_estate

    write_estate(arguments.folder, force=arguments.force, later=arguments.later)
    done = audit.report(arguments, [arguments.folder])
    _write_report(arguments, done)
    return 0


def _write_report(arguments: argparse.Namespace, done: Audit) -> None:
    """Write the report to hand in beside the estate, and say where it is; one that somebody changed is left alone."""
    from aiguille.reports.dossier import Dossier
    from aiguille.reports.files import write_whole
    from aiguille.reports.outputs import writers

    path = arguments.folder / REPORT
    text = writers(lambda: Dossier(done))[".html"]()
    data = text.encode() if isinstance(text, str) else text
    if path.exists() and path.read_bytes() != data and not arguments.force:
        output.log.warning("%s: exists and is another report; add --force to replace it", path)
        return
    write_whole(path, data, force=True)
    if not arguments.json and not arguments.quiet:
        print(f"The whole report, to be opened in a browser: {path}")

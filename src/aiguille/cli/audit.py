"""`aiguille audit`: check exports against the baseline and report."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

from aiguille.cli import options, output

if TYPE_CHECKING:
    from rich.console import Console

    from aiguille.baseline import Audit
    from aiguille.reports.files import Writer

SEVERITIES = ("critical", "high", "medium", "low", "info", "never")
NAME = "audit"
HELP = "check exports against the baseline and report what is wrong, where, and how to mend it"
EXAMPLES = """examples:
  aiguille audit valley-gw.v4 valley-gw.v6
  aiguille audit engagement/ --json --fail-on medium"""


def add(parser: argparse.ArgumentParser) -> None:
    options.add_paths(parser)
    parser.add_argument(
        "--fail-on",
        choices=SEVERITIES,
        default="high",
        metavar="SEVERITY",
        help=f"end with exit code 1 on findings of this severity or above: {', '.join(SEVERITIES)} (default: high)",
    )
    parser.add_argument(
        "--baseline", metavar="NAME|FILE", help="check against this one (default: the engagement's, else standard)"
    )
    parser.add_argument(
        "--accepted", metavar="FILE", help="accepted risks (default: the engagement's, if it names a file)"
    )
    parser.add_argument(
        "--jobs", metavar="N", type=_jobs, default=0, help="processes to share devices among (default: one a core)"
    )
    options.add_output(parser)


def _jobs(text: str) -> int:
    if not (text.isdecimal() and text.isascii() and 1 <= int(text) <= 256):
        raise argparse.ArgumentTypeError(f"'{text}' is not a number of processes from 1 to 256")
    return int(text)


def run(arguments: argparse.Namespace) -> int:
    audit = report(arguments)
    return options.exit_code(audit.estate, failing(audit, arguments.fail_on))


def report(arguments: argparse.Namespace, paths: list[str | Path] | None = None) -> Audit:
    """Audit the paths, write every output asked for, and return the audit."""
    import aiguille
    from aiguille.reports import data, terminal

    made: dict[str, Any] = {}

    def view(console: Console) -> None:
        terminal.show_audit(console, made["audit"])

    writers: dict[str, Writer] = {
        ".json": lambda: data.dump(data.audit_data(made["audit"])),
        ".txt": lambda: output.as_text(arguments, view),
    }
    options.check_outputs(arguments, writers)
    estate = options.read_estate(arguments, paths)
    with output.progress(arguments, "devices") as progress:
        audit = made["audit"] = aiguille.audit(
            estate,
            getattr(arguments, "baseline", None),
            accepted=getattr(arguments, "accepted", None),
            jobs=getattr(arguments, "jobs", 0) or options.cores(len(estate.devices)),
            progress=progress,
        )
    # On a terminal the view that follows says this once.
    if arguments.json or not sys.stdout.isatty():
        for note in audit.notes:
            options.log.warning("%s", note)
    if arguments.json:
        sys.stdout.write(writers[".json"]())
    else:
        output.show(arguments, view)
    options.write_outputs(arguments, writers)
    return audit


def failing(audit: Audit, fail_on: str) -> int:
    """1 if a finding is as severe as `fail_on` or more, else 0."""
    from aiguille.baseline import Severity

    worst = audit.worst()
    return int(fail_on != "never" and worst is not None and worst.rank >= Severity(fail_on).rank)

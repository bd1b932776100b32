"""`aiguille audit`: check exports against the baseline and report."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

from aiguille.cli import inputs, options, output

if TYPE_CHECKING:
    from rich.console import Console

    from aiguille.baseline import Audit
    from aiguille.reports.files import Writer

SEVERITIES = ("critical", "high", "medium", "low", "info", "never")
ENDINGS = ".html, .xlsx, .csv, .rules.csv, .sqlite, .md, .json, .sarif, .oscal.json, .xml for JUnit, .txt"
NAME = "audit"
HELP = "check exports against the baseline and report what is wrong, where, and how to mend it"
EXAMPLES = """examples:
  aiguille audit valley-gw.v4 valley-gw.v6
  aiguille audit engagement/ --out report.html --out findings.xlsx
  aiguille audit engagement/ --details --device valley-gw --severity medium
  aiguille audit engagement/ --for valley-gw --out valley-gw.html
  aiguille audit engagement/ --json --fail-on medium"""


def add(parser: argparse.ArgumentParser) -> None:
    options.add_paths(parser)
    options.add_changes(parser)
    parser.add_argument(
        "--fail-on",
        choices=SEVERITIES,
        metavar="SEVERITY",
        help=f"end with exit code 1 on findings of this severity or above: {', '.join(SEVERITIES)} "
        "(default: the engagement's, else high)",
    )
    options.add_baseline(parser)
    parser.add_argument("--details", action="store_true", help="every finding with its reason, lines, packet and fix")
    parser.add_argument(
        "--top", type=int, metavar="N", default=10, help="how many causes stand on the page (default: 10)"
    )
    options.add_filters(parser)
    parser.add_argument(
        "--for",
        dest="owned",
        action="append",
        default=[],
        metavar="DEVICE|TAG",
        help="an extract for the owner of a device or of all with a tag: theirs, and nothing of the others'; repeatable",
    )
    options.add_many(parser)
    options.add_output(parser, ENDINGS)


def run(arguments: argparse.Namespace) -> int:
    audit = report(arguments)
    return inputs.exit_code(audit.estate, failing(audit, arguments.fail_on or audit.estate.fail_on or "high"))


def report(arguments: argparse.Namespace, paths: list[str | Path] | None = None) -> Audit:
    """Audit the paths, write every output asked for, and return the audit."""
    from aiguille.baseline.extract import extract
    from aiguille.fleet.numbered import keep
    from aiguille.reports import data, outputs
    from aiguille.reports.dossier import Dossier

    made: dict[str, Any] = {}

    def view(console: Console) -> None:
        from aiguille.reports import terminal

        terminal.show_audit(console, made["shown"])

    def page(console: Console) -> None:
        from aiguille.reports import brief

        brief.show_brief(console, made["shown"], top=max(1, arguments.top))

    writers: dict[str, Writer] = {
        **outputs.writers(lambda: made["dossier"]),
        ".txt": lambda: output.as_text(arguments, view),
    }
    output.check_outputs(arguments, writers)
    found = inputs.gathered(arguments, paths)
    large = inputs.is_large(arguments, found)
    if large:
        audit = inputs.audit_large(arguments, found)
        inputs.say_what_was_read(arguments, audit.estate, paths, view_shows=True)
    else:
        estate = inputs.read_estate(arguments, paths, view_shows=True, found=found)
        asked = inputs.meant(arguments, estate)
        audit = inputs.run_audit(arguments, estate, asked, meanwhile=lambda: outputs.prepare(arguments.out or ()))
        keep(inputs.name_of_audit(arguments, found, estate, asked), audit)
    names = getattr(arguments, "owned", ())  # the demonstration has no such option
    owned = extract(audit, names) if names else audit
    made["shown"] = shown = owned.narrowed(**options.filters(arguments))
    made["dossier"] = Dossier(shown, inputs.jobs(arguments, audit.estate))
    # On a terminal the view that follows says this once.
    if arguments.json or not sys.stdout.isatty():
        for note in owned.notes:
            output.log.warning("%s", note)
    if not large:
        outputs.compute_shared(made["dossier"], arguments.out or ())
    output.write_outputs(arguments, writers, shared=not large)
    # A reader that goes away changes neither the files nor the exit code.
    with output.reader_may_leave():
        if arguments.json:
            sys.stdout.writelines(data.audit_text(shown))
        else:
            output.show(arguments, view if arguments.details else page)
    return audit


def failing(audit: Audit, fail_on: str) -> int:
    """1 if a finding is as severe as `fail_on` or more, else 0."""
    from aiguille.baseline import Severity

    worst = audit.worst()
    return int(fail_on != "never" and worst is not None and worst.rank >= Severity(fail_on).rank)

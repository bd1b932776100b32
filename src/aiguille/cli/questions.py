"""`aiguille questions`: what would settle the open points, ready to send to each device's owner."""

from __future__ import annotations

import argparse
import sys

from aiguille.cli import inputs, options, output

NAME = "questions"
HELP = "what to ask the owner of each device so that the open points can be settled"
EXAMPLES = """examples:
  aiguille questions engagement/
  aiguille questions engagement/ --device valley-gw --out questions.md
  aiguille questions valley-gw.v4 --json"""


def add(parser: argparse.ArgumentParser) -> None:
    options.add_paths(parser)
    options.add_baseline(parser)
    parser.add_argument(
        "--device", action="append", default=[], metavar="NAME", help="ask about this device; repeatable"
    )
    options.add_output(parser, ".md, .txt, .json")


def run(arguments: argparse.Namespace) -> int:
    from aiguille.baseline.questions import enquiries
    from aiguille.cli.output import reader_may_leave
    from aiguille.reports import questions as report
    from aiguille.reports.data import dump
    from aiguille.reports.files import Writer

    output.check_outputs(arguments, (".md", ".txt", ".json"))
    estate = inputs.read_estate(arguments)
    audit = inputs.run_audit(arguments, estate).narrowed(device=arguments.device)
    asked = enquiries(audit)
    writers: dict[str, Writer] = {
        ".md": lambda: report.as_text(audit, asked),
        ".txt": lambda: report.as_text(audit, asked),
        ".json": lambda: dump(report.questions_data(audit, asked)),
    }
    output.write_outputs(arguments, writers)
    with reader_may_leave():
        sys.stdout.write(writers[".json" if arguments.json else ".md"]())  # type: ignore[arg-type]
    return inputs.exit_code(estate)

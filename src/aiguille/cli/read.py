"""`aiguille read`: what the exports say, and what could not be read."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING

from aiguille.cli import options, output

if TYPE_CHECKING:
    from rich.console import Console

    from aiguille.reports.files import Writer

NAME = "read"
HELP = "show what the exports say, and every line that could not be read"
EXAMPLES = """examples:
  aiguille read valley-gw.v4
  aiguille read exports/ --show all --json"""


def add(parser: argparse.ArgumentParser) -> None:
    options.add_paths(parser)
    parser.add_argument(
        "--show",
        choices=("summary", "unread", "all"),
        default="summary",
        help="summary: facts and lines not understood; unread: only the latter; all: lines set aside too",
    )
    options.add_output(parser)


def run(arguments: argparse.Namespace) -> int:
    from aiguille.reports import data, terminal

    def view(console: Console) -> None:
        terminal.show_read(console, estate, show=arguments.show)

    writers: dict[str, Writer] = {
        ".json": lambda: data.dump(data.read_data(estate)),
        ".txt": lambda: output.as_text(arguments, view),
    }
    options.check_outputs(arguments, writers)
    estate = options.read_estate(arguments)
    if arguments.json:
        sys.stdout.write(writers[".json"]())
    else:
        output.show(arguments, view)
    options.write_outputs(arguments, writers)
    return options.exit_code(estate)

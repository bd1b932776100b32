"""`aiguille read`: what the exports say, and what could not be read."""

from __future__ import annotations

import argparse
from pathlib import Path

from aiguille.cli import inputs, options, output
from aiguille.model import Estate, UsageError

NAME = "read"
HELP = "show what the exports say, and every line that could not be read"
EXAMPLES = """examples:
  aiguille read valley-gw.v4
  aiguille read exports/ --show all --json
  aiguille read exports/ --start engagement.toml
  aiguille read --sheet-template rules.xlsx"""


def add(parser: argparse.ArgumentParser) -> None:
    options.add_paths(parser, needed=False)
    parser.add_argument(
        "--show",
        choices=("summary", "unread", "all"),
        default="summary",
        help="summary: facts and lines not understood; unread: only the latter; all: lines set aside too",
    )
    parser.add_argument(
        "--sheet-template",
        metavar="FILE",
        type=Path,
        help="write an empty rule sheet with explanations there (.csv or .xlsx), and read nothing",
    )
    parser.add_argument(
        "--start",
        metavar="FILE",
        type=Path,
        help="also write an engagement file to start from there: interfaces, networks, guesses and open questions",
    )
    options.add_output(parser)


def run(arguments: argparse.Namespace) -> int:
    if arguments.sheet_template is not None:
        return _template(arguments)
    if not arguments.paths:
        raise UsageError("name an export, a folder of exports or an engagement file, or use --sheet-template FILE")
    from aiguille.reports import data, terminal

    output.check_outputs(arguments, output.ENDINGS)
    estate = inputs.read_estate(arguments, view_shows=True)
    if arguments.start is not None and estate.devices:
        _start(arguments, estate)
    output.report(
        arguments,
        lambda: data.read_data(estate),
        lambda console: terminal.show_read(console, estate, show=arguments.show),
    )
    return inputs.exit_code(estate)


def _start(arguments: argparse.Namespace, estate: Estate) -> None:
    from aiguille.estate.starting import starting_engagement
    from aiguille.reports.files import write_whole

    path: Path = arguments.start
    if path.suffix.lower() != ".toml":
        raise UsageError(f"{path}: an engagement file ends in .toml")
    write_whole(path, starting_engagement(estate, path.parent).encode(), force=arguments.force)
    output.log.info("written: %s", path)


def _template(arguments: argparse.Namespace) -> int:
    from aiguille.readers.mapped.template import sheet_tables
    from aiguille.reports import sheets
    from aiguille.reports.files import write_whole

    path: Path = arguments.sheet_template
    if arguments.paths:
        raise UsageError("--sheet-template writes an empty sheet and reads nothing; leave the paths out")
    match path.suffix.lower():
        case ".csv":
            content = sheets.as_csv(sheet_tables()).encode()
        case ".xlsx":
            content = sheets.as_workbook(sheet_tables())
        case _:
            raise UsageError(f"{path}: the extension names the format; known are .csv, .xlsx")
    write_whole(path, content, force=arguments.force)
    output.log.info("written: %s", path)
    return 0

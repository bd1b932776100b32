"""The argument parser, put together from the command modules."""

from __future__ import annotations

import argparse
import os
from importlib import import_module

from aiguille._version import __version__
from aiguille.cli.commands import COMMANDS

_DESCRIPTION = """Audits exported firewall configurations: what they let through, what is wrong, on which line,
with a packet that proves it. Works offline on files and changes nothing."""
_EPILOG = """exit codes:
  0  done, nothing at or above --fail-on      1  findings at or above it
  2  wrong usage or configuration             3  an input could not be read; the rest was done
  4  the program itself failed"""


def build(only: str | None = None) -> argparse.ArgumentParser:
    """The whole parser, with completion at work where the shell asks; or the parser that knows one command, which is quicker."""
    completing = "_ARGCOMPLETE" in os.environ
    parser = argparse.ArgumentParser(
        "aiguille", description=_DESCRIPTION, epilog=_EPILOG, formatter_class=_undressed, allow_abbrev=False
    )
    parser.add_argument("-V", "--version", action="version", version=f"aiguille {__version__}")
    # Told what the program is called, argparse makes no help to find that out.
    commands = parser.add_subparsers(title="commands", metavar="COMMAND", required=True, prog=parser.prog)
    for name in (only,) if only in COMMANDS and not completing else COMMANDS:
        module = import_module(f"aiguille.cli.{name}")
        command = commands.add_parser(
            module.NAME,
            help=module.HELP,
            description=module.HELP[0].upper() + module.HELP[1:] + ".",
            epilog=module.EXAMPLES,
            formatter_class=_undressed,
            allow_abbrev=False,  # "--with" must not run as "--without"
        )
        module.add(command)
        command.set_defaults(run=module.run)
    _dress(parser)
    if completing:
        import argcomplete

        argcomplete.autocomplete(parser)
    return parser


def _undressed(prog: str) -> argparse.HelpFormatter:
    """What argparse checks each argument with as it is added; a width spares it to look for the terminal's."""
    return argparse.HelpFormatter(prog, width=80)


def _dress(parser: argparse.ArgumentParser) -> None:
    """Have help of a parser and all below it laid out with colours."""
    parser.formatter_class = _formatter
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            for below in action.choices.values():
                _dress(below)


def _formatter(prog: str) -> argparse.HelpFormatter:
    """What lays out help; imported when there is help to give."""
    from rich_argparse import RawDescriptionRichHelpFormatter

    return RawDescriptionRichHelpFormatter(prog)

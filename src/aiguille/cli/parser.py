"""The argument parser, put together from the command modules."""

from __future__ import annotations

import argparse
from importlib import import_module

import argcomplete
from rich_argparse import RawDescriptionRichHelpFormatter

from aiguille._version import __version__
from aiguille.cli import COMMANDS

_DESCRIPTION = """Audits exported firewall configurations: what they let through, what is wrong, on which line,
with a packet that proves it. Works offline on files and changes nothing."""
_EPILOG = """exit codes:
  0  done, nothing at or above --fail-on      1  findings at or above it
  2  wrong usage or configuration             3  an input could not be read; the rest was done"""


def build() -> argparse.ArgumentParser:
    """The whole parser; completion hooks are installed."""
    parser = argparse.ArgumentParser(
        "aiguille", description=_DESCRIPTION, epilog=_EPILOG, formatter_class=RawDescriptionRichHelpFormatter
    )
    parser.add_argument("-V", "--version", action="version", version=f"aiguille {__version__}")
    # Told what the program is called, argparse makes no help to find that out.
    commands = parser.add_subparsers(title="commands", metavar="COMMAND", required=True, prog=parser.prog)
    for name in COMMANDS:
        module = import_module(f"aiguille.cli.{name}")
        command = commands.add_parser(
            module.NAME,
            help=module.HELP,
            description=module.HELP[0].upper() + module.HELP[1:] + ".",
            epilog=module.EXAMPLES,
            formatter_class=RawDescriptionRichHelpFormatter,
        )
        module.add(command)
        command.set_defaults(run=module.run)
    argcomplete.autocomplete(parser)
    return parser

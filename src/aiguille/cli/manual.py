"""The manual page, built from the parser: `docs/aiguille.1`, which the package installs."""

from __future__ import annotations

import argparse
import re
from collections.abc import Iterator

from aiguille._version import __version__

_ABOUT = "audits exported firewall configurations"
_SEE = """.SH FILES
.TP
.I engagement.toml
says which exports belong together and what the auditor knows beside them: zones and their sides, baseline, accepted risks,
location data. A folder with such a file is a valid PATH for every command; options count above it.
.SH ENVIRONMENT
.TP
.B NO_COLOR
if set, no colours.
.TP
.B COLUMNS
the width of terminal views that are written to a file or pipe.
.SH SEE ALSO
.BR iptables-save (8),
.BR nft (8),
.BR ufw (8),
.BR firewalld (1),
.BR shorewall (8)"""


def manual(parser: argparse.ArgumentParser) -> str:
    """The page in the man macros of roff (groff_man(7))."""
    epilog = parser.epilog or ""
    lines = [
        f'.TH AIGUILLE 1 "" "Aiguille {__version__}" "User Commands"',
        ".SH NAME",
        f"aiguille \\- {_ABOUT}",
        ".SH SYNOPSIS",
        ".B aiguille",
        r".I COMMAND",
        r"[\fIOPTION\fR ...] [\fIPATH\fR ...]",
        ".SH DESCRIPTION",
        _text(parser.description or ""),
        ".SH COMMANDS",
        *_commands(parser),
        ".SH EXIT STATUS",
        *_exit_codes(epilog),
        _SEE,
    ]
    return "\n".join(lines) + "\n"


def _commands(parser: argparse.ArgumentParser) -> Iterator[str]:
    for name, about, command in _below(parser):
        inner = list(_below(command))
        yield f".SS aiguille {_text(name)}"
        yield _text(_sentence(about))
        if not inner:
            yield from _one(command)
        for action, described, below in inner:
            yield ".PP"
            yield rf"\fBaiguille {_text(name)} {_text(action)}\fR: {_text(_sentence(described))}"
            yield from _one(below)
        yield from _examples(command.epilog or "")


def _below(parser: argparse.ArgumentParser) -> Iterator[tuple[str, str, argparse.ArgumentParser]]:
    """The commands of a parser with their one-line help."""
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            for described in action._choices_actions:
                yield described.dest, described.help or "", action.choices[described.dest]


def _one(parser: argparse.ArgumentParser) -> Iterator[str]:
    """The arguments and options of a command, each with its help."""
    for action in parser._actions:
        if isinstance(action, argparse._HelpAction | argparse._SubParsersAction):
            continue
        value = action.metavar or ("|".join(map(str, action.choices)) if action.choices else "")
        yield ".TP"
        if action.option_strings:
            names = ", ".join(rf"\fB{_text(name)}\fR" for name in action.option_strings)
            takes = "" if action.nargs == 0 else rf" \fI{_text(str(value or action.dest.upper()))}\fR"
            yield names + takes
        else:
            yield rf"\fI{_text(str(value or action.dest.upper()))}\fR"
        yield _text(_sentence((action.help or "").replace("%%", "%")))


def _examples(epilog: str) -> Iterator[str]:
    """Lines of an epilog: those indented are examples, the others text."""
    for block in filter(None, (part.strip("\n") for part in epilog.split("\n\n"))):
        heading, _, rest = block.partition("\n")
        if heading == "examples:":
            yield ".PP"
            yield "Examples:"
            yield ".EX"
            yield from (f"    {_text(line.strip())}" for line in rest.splitlines())
            yield ".EE"
        else:
            yield ".PP"
            yield _text(block)


def _exit_codes(epilog: str) -> Iterator[str]:
    for code, meaning in re.findall(r"\b(\d)  (.+?)(?=\s{3,}|$)", epilog, re.MULTILINE):
        yield ".TP"
        yield rf"\fB{code}\fR"
        yield _text(_sentence(meaning))


def _sentence(text: str) -> str:
    return f"{text[:1].upper()}{text[1:]}{'' if text.endswith('.') else '.'}"


def _text(text: str) -> str:
    """Text that roff takes as it is."""
    escaped = text.replace("\\", r"\e").replace("-", r"\-")
    return "\n".join(rf"\&{line}" if line.startswith((".", "'")) else line for line in escaped.split("\n"))

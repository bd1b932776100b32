"""Options that several commands share, and what they mean for input and output."""

from __future__ import annotations

import argparse
import re
from collections.abc import Callable, Iterable, Mapping
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any

from aiguille.cli import completion
from aiguille.model import Addresses, NotUnderstoodError, Side

if TYPE_CHECKING:
    pass

SIDES = tuple(side.value for side in Side if side is not Side.DEVICE)
"""Sides an interface can be said to face."""


def add_paths(parser: argparse.ArgumentParser, *, needed: bool = True) -> None:
    parser.add_argument(
        "paths",
        nargs="+" if needed else "*",
        metavar="PATH",
        help="an export, a folder of exports, or an engagement file or its folder; - for standard input",
    )
    wanted = parser.add_argument(
        "--format", metavar="NAME", help="take every file for this format instead of recognising it"
    )
    complete(wanted, completion.formats)
    parser.add_argument(
        "--dialect",
        action="append",
        default=[],
        metavar="FILE",
        type=Path,
        help="know the make that this dialect file describes; repeatable",
    )
    parser.add_argument(
        "--outside",
        action="append",
        default=[],
        metavar="IFACE",
        help="this interface faces the internet; repeatable, short for --side IFACE=outside",
    )
    parser.add_argument(
        "--side",
        action="append",
        default=[],
        metavar="IFACE=SIDE",
        type=_side,
        help=f"what lies behind an interface: {', '.join(SIDES)}; repeatable",
    )
    parser.add_argument(
        "--administrator",
        action="append",
        default=[],
        metavar="ADDRESS[/SERVICE]",
        type=administrator,
        help="an address or network that administrators come from, and what they use; repeatable",
    )
    parser.add_argument(
        "--effort",
        type=_times,
        default=1,
        metavar="N",
        help="let entangled rules take N times the usual work before the answer is 'cannot tell' (default: 1)",
    )
    add_geo(parser)
    add_as_of(parser)


def _times(text: str) -> int:
    number = int(text) if text.isascii() and text.isdigit() and len(text) < 7 else 0
    if not number:
        raise argparse.ArgumentTypeError(f"'{text}' is not a whole number from 1")
    return number


def _side(text: str) -> tuple[str, str]:
    """``eth1=inside``."""
    name, _, side = text.rpartition("=")
    if not name or side not in SIDES:
        raise argparse.ArgumentTypeError(f"'{text}' is not an interface and its side, such as eth1={SIDES[0]}")
    return name, side


def network(text: str) -> Addresses:
    """An address or network given as an option."""
    from aiguille.readers.literals import read_network

    try:
        found = read_network(text)
    except NotUnderstoodError as error:
        raise argparse.ArgumentTypeError(error.message) from error
    if not isinstance(found, Addresses):
        raise argparse.ArgumentTypeError(f"'{text}' is not a network with a prefix length")
    return found


def administrator(text: str) -> tuple[Addresses, str]:
    """ADDRESS, ADDRESS/PREFIX or either with /SERVICE: the addresses, and the service they use, empty for any."""
    head, _, service = text.rpartition("/")
    if head and not service.isdecimal():
        return network(head), service
    return network(text), ""


def add_actions(
    parser: argparse.ArgumentParser, described: Mapping[str, str], examples: str
) -> dict[str, argparse.ArgumentParser]:
    """The parsers of a command's actions by name; the help of each ends with the examples that are about it."""
    actions = parser.add_subparsers(title="actions", metavar="ACTION", required=True, dest="action", prog=parser.prog)
    out = {}
    for name, about in described.items():
        mine = [line for line in examples.splitlines() if line.strip().startswith(f"{parser.prog} {name} ")]
        out[name] = actions.add_parser(
            name,
            help=about,
            description=f"{about[0].upper()}{about[1:]}.",
            epilog="\n".join(["examples:", *mine]) if mine else None,
            formatter_class=parser.formatter_class,
            allow_abbrev=False,
        )
    return out


def add_changes(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--as-if",
        action="append",
        default=[],
        metavar="CHANGE",
        help="as if this were changed, in a sentence ('remove rule 3 of INPUT'), a command of iptables or nft, or a file of them; "
        "repeatable, one after the other",
    )
    parser.add_argument(
        "--at",
        metavar="MOMENT",
        help="as at this moment of the week, by the clock the rules go by ('Sat 23:30'): rules with hours hold or do not",
    )


def add_filters(parser: argparse.ArgumentParser) -> None:
    """Options that narrow what is shown; what is computed and the exit code stay the same."""
    parser.add_argument("--device", action="append", default=[], metavar="NAME", help="show this device; repeatable")
    parser.add_argument(
        "--severity",
        metavar="LEVEL",
        choices=("critical", "high", "medium", "low", "info"),
        help="show this severity and above",
    )
    parser.add_argument("--area", action="append", default=[], metavar="AREA", help="show this area; repeatable")
    parser.add_argument("--check", action="append", default=[], metavar="ID", help="show this check; repeatable")
    parser.add_argument(
        "--cause", action="append", default=[], metavar="C-N", help="show what this cause is behind; repeatable"
    )


def filters(arguments: argparse.Namespace) -> dict[str, Any]:
    """What `Audit.narrowed` takes."""
    names = ("device", "severity", "area", "check", "cause")
    return {name: getattr(arguments, name, None) for name in names}


def add_geo(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--geo",
        action="append",
        default=[],
        metavar="FILE",
        type=Path,
        help="location data: registry statistics or MMDB; repeatable, later files win",
    )
    parser.add_argument(
        "--no-cache",
        action="store_true",
        help="leave the cache folder alone: neither keep large location data compiled in it, or what findings are called, nor use that",
    )


def add_as_of(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--as-of", metavar="DATE", type=_day, help="the day ages are counted from, as 2026-11-30 (default: today)"
    )


def add_baseline(parser: argparse.ArgumentParser) -> None:
    """What a command that audits asks for beside its paths."""
    chosen = parser.add_argument(
        "--baseline", metavar="NAME|FILE", help="check against this one (default: the engagement's, else standard)"
    )
    complete(chosen, completion.baselines)
    parser.add_argument(
        "--accepted", metavar="FILE", help="accepted risks (default: the engagement's, if it names a file)"
    )
    parser.add_argument(
        "--answers",
        metavar="FILE",
        help="what the auditee says of findings (default: answers.toml beside the engagement)",
    )
    parser.add_argument(
        "--claims",
        metavar="FILE",
        help="statements that must hold; refuted ones are findings (default: claims.yaml beside the engagement)",
    )
    parser.add_argument(
        "--jobs",
        metavar="N",
        type=_jobs,
        default=0,
        help="processes to share devices among, or the rules of a single one (default: one a core)",
    )


def add_many(parser: argparse.ArgumentParser) -> None:
    """What is asked of estates that take long."""
    parser.add_argument(
        "--resume",
        metavar="FILE",
        type=Path,
        help="keep what is done of each device in this file and, given again, do only what is missing or has changed",
    )
    parser.add_argument(
        "--cluster",
        metavar="ADDRESS",
        type=_address,
        help="share the devices among the workers of this Dask scheduler, as tcp://192.0.2.10:8786 (extra 'cluster')",
    )


def _address(text: str) -> str:
    if not re.fullmatch(r"([a-z]+://)?[^/\s]+:[0-9]{1,5}", text):
        raise argparse.ArgumentTypeError(f"'{text}' is not the address of a scheduler such as tcp://192.0.2.10:8786")
    return text


def _jobs(text: str) -> int:
    if not (text.isdecimal() and text.isascii() and 1 <= int(text) <= 256):
        raise argparse.ArgumentTypeError(f"'{text}' is not a number of processes from 1 to 256")
    return int(text)


def complete(action: argparse.Action, completer: Callable[..., Iterable[str]]) -> None:
    """Let the shell propose these where the option's value is typed."""
    action.completer = completer  # type: ignore[attr-defined]


def add_output(parser: argparse.ArgumentParser, endings: str = ".json, .txt") -> None:
    parser.add_argument(
        "--json", action="store_true", help="write JSON to standard output instead of the terminal view"
    )
    parser.add_argument(
        "--out",
        action="append",
        default=[],
        metavar="FILE",
        type=Path,
        help=f"also write there, in the format its ending names ({endings}); repeatable",
    )
    parser.add_argument("--force", action="store_true", help="replace files that exist")
    add_manner(parser)


def add_manner(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--no-color", action="store_true", help="no colours; the variable NO_COLOR does the same")
    loudness = parser.add_mutually_exclusive_group()
    loudness.add_argument("--quiet", action="store_true", help="no warnings on standard error")
    loudness.add_argument("--verbose", action="store_true", help="say on standard error what was recognised and why")


def _day(text: str) -> date:
    try:
        return date.fromisoformat(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"'{text}' is not a date such as 2026-11-30") from error

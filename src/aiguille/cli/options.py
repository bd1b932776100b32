"""Options that several commands share, and what they mean for input and output."""

from __future__ import annotations

import argparse
import gc
import logging
import os
import sys
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO

from aiguille.cli import completion
from aiguille.model import EXIT_UNREADABLE, Addresses, Estate, NotUnderstoodError, Side

if TYPE_CHECKING:
    from rich.console import Console

    from aiguille.baseline import Audit
    from aiguille.reports.files import Writer

SIDES = tuple(side.value for side in Side if side is not Side.DEVICE)
"""Sides an interface can be said to face."""

WIDTH = 100
"""Columns of terminal views that are not written to a terminal."""

WIDEST = 140
"""Columns of a terminal beyond which lines would get too long to read."""

log = logging.getLogger("aiguille")


def add_paths(parser: argparse.ArgumentParser, *, needed: bool = True) -> None:
    parser.add_argument(
        "paths",
        nargs="+" if needed else "*",
        metavar="PATH",
        help="an export, a folder of exports, or an engagement file or its folder",
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
        metavar="ADDRESS",
        type=network,
        help="an address or network that administrators come from; repeatable",
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


def add_actions(
    parser: argparse.ArgumentParser, told: Mapping[str, str], examples: str
) -> dict[str, argparse.ArgumentParser]:
    """The parsers of a command's actions by name; the help of each ends with the examples that are about it."""
    actions = parser.add_subparsers(title="actions", metavar="ACTION", required=True, dest="action", prog=parser.prog)
    out = {}
    for name, about in told.items():
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


def console(arguments: argparse.Namespace, file: TextIO | None = None) -> Console:
    """A console for standard output, or for `file`: coloured on a terminal, plain and `WIDTH` wide elsewhere."""
    from rich.console import Console

    stream = sys.stdout if file is None else file
    width = None if stream.isatty() or (file is None and "COLUMNS" in os.environ) else WIDTH
    plain = arguments.no_color or file is not None
    made = Console(file=stream, width=width, no_color=plain or None, highlight=False, emoji=False, markup=False)
    if made.width > WIDEST:
        made.width = WIDEST
    return made


def start_messages(arguments: argparse.Namespace) -> None:
    """Send messages of the one logger to standard error, as loud as asked."""
    handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(logging.Formatter("aiguille: %(message)s"))
    log.handlers[:] = [handler]
    log.propagate = False
    level = logging.ERROR if arguments.quiet else logging.INFO if arguments.verbose else logging.WARNING
    log.setLevel(level)


def did(arguments: argparse.Namespace, stage: str, what: str) -> None:
    """Note what is done so far, for whoever interrupts."""
    vars(arguments).setdefault("done", {})[stage] = what


def _sides(arguments: argparse.Namespace) -> dict[str, Side]:
    stated = [
        *getattr(arguments, "side", ()),
        *((name, Side.OUTSIDE.value) for name in getattr(arguments, "outside", ())),
    ]
    return {name: Side(side) for name, side in stated}


def read_estate(
    arguments: argparse.Namespace, paths: Sequence[str | Path] | None = None, *, view_tells: bool = False
) -> Estate:
    """Read the paths given and say what was recognised, missing or odd.

    view_tells: on a terminal the view that follows says what is missing or odd
    """
    from aiguille.cli.output import progress
    from aiguille.estate import read
    from aiguille.reports.text import counted, visible
    from aiguille.space.effort import set_effort

    set_effort(getattr(arguments, "effort", 1))
    # What is read lives to the end; looking for garbage in it meanwhile would cost up to a third.
    collecting = gc.isenabled()
    gc.disable()
    try:
        with progress(arguments, "exports", "read") as told:
            estate = read(
                arguments.paths if paths is None else paths,
                format=getattr(arguments, "format", None),
                dialects=getattr(arguments, "dialect", ()),
                as_of=arguments.as_of,
                geo=getattr(arguments, "geo", ()),
                sides=_sides(arguments),
                administrators=getattr(arguments, "administrator", ()),
                progress=told,
            )
    finally:
        if collecting:
            gc.freeze()  # nor need it be looked through later
            gc.enable()
    if changes := getattr(arguments, "as_if", ()):
        from aiguille.estate.wordings import changed

        estate = changed(estate, changes)
    for device in estate.devices:
        log.info("%s: %s, as %s", visible(device.name), device.dialect, visible(device.recognised))
    if arguments.json or not (view_tells and sys.stdout.isatty()):
        for failure in estate.failures:
            log.error("%s", visible(failure.message))
        for device in estate.devices:
            for problem in device.ledger.problems:
                level = logging.ERROR if problem.matters else logging.INFO
                log.log(level, "%s: %s", visible(str(problem.where)), visible(problem.why))
            if device.ledger.unread_lines:
                left = counted(device.ledger.unread_lines, "line")
                log.warning("%s: %s not understood", visible(device.name), left)
    return estate


def run_audit(arguments: argparse.Namespace, estate: Estate) -> Audit:
    """Check an estate as the options and the engagement ask for."""
    import aiguille
    from aiguille.cli.output import progress

    with progress(arguments, "devices", "checked") as told:
        return aiguille.audit(
            estate,
            getattr(arguments, "baseline", None),
            accepted=getattr(arguments, "accepted", None),
            answers=getattr(arguments, "answers", None),
            claims=getattr(arguments, "claims", None),
            jobs=jobs(arguments, estate),
            progress=told,
        )


def jobs(arguments: argparse.Namespace, estate: Estate) -> int:
    """How many processes share the devices, or a long rule set where there is but one."""
    count = len(estate.devices)
    return getattr(arguments, "jobs", 0) or (cores(count) if count > 1 else os.cpu_count() or 1)


def cores(tasks: int) -> int:
    """Processes worth starting for some tasks: one a core, none for a handful."""
    return 1 if tasks < 4 else min(os.cpu_count() or 1, tasks)


def exit_code(estate: Estate, otherwise: int = 0) -> int:
    """3 if something could not be read or contradicts itself, else what the command itself ends with."""
    broken = estate.failures or any(p.matters for device in estate.devices for p in device.ledger.problems)
    return EXIT_UNREADABLE if broken else otherwise


def check_outputs(arguments: argparse.Namespace, writers: Iterable[str]) -> None:
    """Refuse impossible output files before any work is done."""
    from aiguille.reports.files import ending_of, refuse_existing

    for path in arguments.out:
        ending_of(path, writers)
        refuse_existing(path, force=arguments.force)


def write_outputs(arguments: argparse.Namespace, writers: dict[str, Writer]) -> None:
    """Write every file of ``--out``, each whole."""
    from aiguille.cli.output import working
    from aiguille.reports.files import as_bytes, ending_of, write_whole

    for path in arguments.out:
        with working(arguments, f"writing {path.name}"):
            write_whole(path, as_bytes(writers[ending_of(path, writers)]()), force=arguments.force)
        did(arguments, f"file {path}", f"{path} is written")
        log.info("written: %s", path)

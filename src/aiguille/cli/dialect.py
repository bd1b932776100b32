"""`aiguille dialect`: makes described as data; list them, explain one, try one out, start a new one."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from aiguille.cli import completion, options, output
from aiguille.model import EXIT_OK, EXIT_USAGE, UsageError

if TYPE_CHECKING:
    from collections.abc import Callable

    from rich.console import Console

    from aiguille.readers.mapped import Dialect
    from aiguille.reports.data import Data

NAME = "dialect"
HELP = "makes described as data: list them, explain one, try one out, start a new one from a sample"
EXAMPLES = """examples:
  aiguille dialect explain sheet
  aiguille dialect start export.txt --out my-make.dialect.yaml
  aiguille dialect check my-make.dialect.yaml export.txt"""

_HELP = {
    "list": "the dialects there are",
    "explain": "what a dialect reads, and what it takes for granted",
    "check": "validate a dialect file, run its examples, and say how much of samples it reads",
    "start": "write a first dialect file out of a sample, by guessing",
    "tree": "the tree a sample becomes: paths as a dialect writes them, and what its mapping took",
}


def add(parser: argparse.ArgumentParser) -> None:
    made = options.add_actions(parser, _HELP, EXAMPLES)
    dialect = made["explain"].add_argument("dialect", metavar="NAME|FILE", help="a dialect's name, or a dialect file")
    options.complete(dialect, completion.dialects)
    made["check"].add_argument("file", metavar="FILE", type=Path, help="a dialect file")
    made["check"].add_argument("samples", nargs="*", metavar="SAMPLE", type=Path, help="exports of the make")
    made["check"].add_argument(
        "--log", action="append", default=[], metavar="FILE", type=Path, help="log lines of the make; repeatable"
    )
    made["check"].add_argument(
        "--top",
        metavar="N",
        type=int,
        default=20,
        help="show so many rules and log records of each file as understood (20; 0 for all)",
    )
    made["start"].add_argument("sample", metavar="SAMPLE", type=Path, help="an export of the make")
    made["start"].add_argument("--out", metavar="FILE", type=Path, help="write it there instead of to standard output")
    made["start"].add_argument("--force", action="store_true", help="replace the file if it exists")
    options.add_manner(made["start"])
    made["tree"].add_argument("sample", metavar="SAMPLE", type=Path, help="an export of the make")
    named = made["tree"].add_argument(
        "--dialect", metavar="NAME|FILE", help="the dialect; without it the structure is guessed"
    )
    options.complete(named, completion.dialects)
    made["tree"].add_argument(
        "--top", metavar="N", type=int, default=200, help="show so many statements (200; 0 for all)"
    )
    for name in ("list", "explain", "check", "tree"):
        options.add_output(made[name])


def run(arguments: argparse.Namespace) -> int:
    action: Callable[[argparse.Namespace], int] = {
        "list": _list,
        "explain": _explain,
        "check": _check,
        "start": _start,
        "tree": _tree,
    }[arguments.action]
    return action(arguments)


def _list(arguments: argparse.Namespace) -> int:
    from aiguille.readers import mapped
    from aiguille.reports import dialects

    known = [(one, name) for one, (name, _) in zip(mapped.shipped(), mapped.shipped_files(), strict=True)]
    return _report(arguments, lambda: dialects.list_data(known), lambda console: dialects.show_list(console, known))


def _explain(arguments: argparse.Namespace) -> int:
    from aiguille.reports import dialects

    dialect = _dialect(arguments.dialect)
    return _report(
        arguments, lambda: dialects.explain_data(dialect), lambda console: dialects.show_explain(console, dialect)
    )


def _check(arguments: argparse.Namespace) -> int:
    from aiguille.readers import load, load_dialect, mapped
    from aiguille.reports import dialects

    dialect = load_dialect(arguments.file)
    top = max(arguments.top, 0)
    trial = mapped.try_out(dialect, *([load(path) for path in paths] for paths in (arguments.samples, arguments.log)))
    _report(
        arguments, lambda: dialects.trial_data(trial, top), lambda console: dialects.show_trial(console, trial, top)
    )
    return EXIT_OK if trial.passed else EXIT_USAGE


def _start(arguments: argparse.Namespace) -> int:
    from aiguille.readers import load
    from aiguille.readers.mapped.starting import start
    from aiguille.reports.files import refuse_existing, write_whole

    if arguments.out is not None:
        refuse_existing(arguments.out, force=arguments.force)
    made = start(load(arguments.sample))
    if arguments.out is None:
        sys.stdout.write(made.text)
    else:
        write_whole(arguments.out, made.text.encode(), force=arguments.force)
    output.log.warning("%s", made.described())
    return EXIT_OK


def _tree(arguments: argparse.Namespace) -> int:
    from aiguille.readers import load, mapped
    from aiguille.reports import dialects

    made = mapped.outline(load(arguments.sample), _dialect(arguments.dialect) if arguments.dialect else None)
    top = arguments.top if arguments.top > 0 else len(made.twigs)
    return _report(
        arguments,
        lambda: dialects.tree_data(made, str(arguments.sample), top),
        lambda console: dialects.show_tree(console, made, top),
    )


def _dialect(word: str) -> Dialect:
    """A dialect by its name or out of a file."""
    from aiguille.readers import load_dialect, mapped

    for one in mapped.shipped():
        if one.dialect == word:
            return one
    if Path(word).suffix in (".yaml", ".yml"):
        return load_dialect(Path(word))
    raise UsageError(
        f"there is no dialect '{word}'; known are {', '.join(one.dialect for one in mapped.shipped())}, or name a file"
    )


def _report(arguments: argparse.Namespace, data: Callable[[], Data], view: Callable[[Console], None]) -> int:
    output.report(arguments, data, view)
    return EXIT_OK

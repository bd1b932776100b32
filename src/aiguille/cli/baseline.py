"""`aiguille baseline`: what is checked; list it, explain a check, start a baseline of one's own, try a file."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from aiguille.cli import completion, options, output
from aiguille.model import EXIT_OK, UsageError

if TYPE_CHECKING:
    from collections.abc import Callable

    from rich.console import Console

    from aiguille.reports.data import Data

AREAS = ("access", "deny", "logging", "geo", "rules", "objects", "usage", "system")
NAME = "baseline"
HELP = "what is checked: list it, explain a check, start a baseline of one's own, try a file"
EXAMPLES = """examples:
  aiguille baseline list --area access
  aiguille baseline explain access.idle-timeout
  aiguille baseline start our-own.yaml --from strict
  aiguille baseline check our-own.yaml accepted-risks.yaml"""

_HELP = {
    "list": "the baselines and checks there are",
    "explain": "why a check matters, what it needs, how its outcome comes about, how to mend what it finds",
    "start": "write a commented baseline file to tailor",
    "check": "validate baseline files and files of accepted risks",
}


def add(parser: argparse.ArgumentParser) -> None:
    made = options.add_actions(parser, _HELP, EXAMPLES)
    made["list"].add_argument(
        "--area", choices=AREAS, metavar="AREA", help=f"only checks of this area: {', '.join(AREAS)}"
    )
    check = made["explain"].add_argument(
        "check", metavar="CHECK", help="the id of a check, such as access.idle-timeout"
    )
    options.complete(check, completion.checks)
    for name in ("list", "explain"):
        chosen = made[name].add_argument(
            "--baseline", metavar="NAME|FILE", help="with the checks of one's own in this baseline"
        )
        options.complete(chosen, completion.baselines)
    made["start"].add_argument("file", metavar="FILE", type=Path, help="the file to write, ending in .yaml")
    origin = made["start"].add_argument(
        "--from", dest="origin", default="standard", metavar="NAME", help="the baseline to extend (default: standard)"
    )
    options.complete(origin, completion.baselines)
    made["start"].add_argument("--force", action="store_true", help="replace the file if it exists")
    options.add_manner(made["start"])
    made["check"].add_argument(
        "files", metavar="FILE", nargs="+", type=Path, help="baseline files, or files of accepted risks"
    )
    options.add_as_of(made["check"])
    for name in ("list", "explain", "check"):
        options.add_output(made[name])


def run(arguments: argparse.Namespace) -> int:
    action: Callable[[argparse.Namespace], int] = {
        "list": _list,
        "explain": _explain,
        "start": _start,
        "check": _check,
    }[arguments.action]
    return action(arguments)


def _list(arguments: argparse.Namespace) -> int:
    from aiguille.baseline import CATALOGUE, STANDARD, load
    from aiguille.baseline.files import shipped
    from aiguille.reports import baselines

    known = [load(name, CATALOGUE) for name in shipped()]
    chosen = load(arguments.baseline or STANDARD, CATALOGUE)
    checks = [one for one in chosen.catalogue if arguments.area in (None, one.area.value)]
    return _report(
        arguments,
        lambda: baselines.list_data(known, checks),
        lambda console: baselines.show_list(console, known, checks),
    )


def _explain(arguments: argparse.Namespace) -> int:
    from aiguille.baseline import CATALOGUE, STANDARD, load
    from aiguille.baseline.files import unknown_check
    from aiguille.reports import baselines

    catalogue = load(arguments.baseline or STANDARD, CATALOGUE).catalogue
    check = next((one for one in catalogue if one.id == arguments.check), None)
    if check is None:
        raise UsageError(unknown_check(arguments.check, [one.id for one in catalogue]))
    return _report(
        arguments, lambda: baselines.explain_data(check), lambda console: baselines.show_explain(console, check)
    )


def _start(arguments: argparse.Namespace) -> int:
    from aiguille.baseline import CATALOGUE, load
    from aiguille.reports import baselines
    from aiguille.reports.files import refuse_existing, write_whole

    if arguments.file.suffix not in (".yaml", ".yml"):
        raise UsageError(f"{arguments.file}: a baseline file ends in .yaml, so that it is known for one")
    refuse_existing(arguments.file, force=arguments.force)
    origin = load(arguments.origin, CATALOGUE)
    text = baselines.template(arguments.file.stem, arguments.origin, origin.catalogue)
    write_whole(arguments.file, text.encode(), force=arguments.force)
    output.log.warning("written: %s, extending %s; nothing is changed in it yet", arguments.file, arguments.origin)
    return EXIT_OK


def _check(arguments: argparse.Namespace) -> int:
    from datetime import date

    from aiguille.baseline import CATALOGUE, Acceptance, Baseline, accepted, load
    from aiguille.reports import baselines

    loaded: list[tuple[Baseline | None, tuple[Acceptance, ...], str]] = []
    catalogue = CATALOGUE
    as_of = arguments.as_of or date.today()  # noqa: DTZ011 - the auditor's own calendar day is meant
    for path in arguments.files:
        if accepted.is_one(path):
            risks = accepted.load(str(path), catalogue)
            accepted.refuse_past(risks, as_of)
            loaded.append((None, risks, str(path)))
        else:
            baseline = load(str(path), CATALOGUE)
            catalogue = baseline.catalogue
            loaded.append((baseline, (), str(path)))

    def view(console: Console) -> None:
        for one in loaded:
            baselines.show_check(console, *one)

    return _report(arguments, lambda: {"files": [baselines.check_data(*one) for one in loaded]}, view)


def _report(arguments: argparse.Namespace, data: Callable[[], Data], view: Callable[[Console], None]) -> int:
    output.report(arguments, data, view)
    return EXIT_OK

"""`aiguille claims`: statements on traffic that must hold."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from aiguille.cli import inputs, options, output
from aiguille.model import EXIT_FINDINGS, EXIT_OK, UsageError

NAME = "claims"
HELP = "prove statements that must hold, such as 'never guests to lifts', or refute them with a packet"
EXAMPLES = """examples:
  aiguille claims engagement/
  aiguille claims valley-gw.v4 --outside eth0 --claims claims.yaml --out claims.xml
  aiguille claims engagement/ --start

Without --claims the file claims.yaml beside the engagement is read. Exit code 1 if a claim is refuted."""


def add(parser: argparse.ArgumentParser) -> None:
    options.add_paths(parser)
    options.add_changes(parser)
    parser.add_argument(
        "--claims", metavar="FILE", type=Path, help="the claims (default: claims.yaml beside the engagement)"
    )
    parser.add_argument(
        "--start", action="store_true", help="write claims that hold today to standard output, to begin with"
    )
    options.add_output(parser, ".json, .txt, .xml (JUnit)")


def run(arguments: argparse.Namespace) -> int:
    from aiguille.analysis.claims import Holds, draft
    from aiguille.analysis.program import Programs
    from aiguille.analysis.study import Study
    from aiguille.baseline import claims as files
    from aiguille.reports import claims as report
    from aiguille.reports.data import dump
    from aiguille.reports.files import Writer

    output.check_outputs(arguments, (".json", ".txt", ".xml"))
    stated = () if arguments.start else files.load(str(_file(arguments)))
    estate = inputs.read_estate(arguments)
    if arguments.start:
        studies = [Study(device, estate, Programs(device)) for device in estate.devices]
        lines = [f"  - claim: {text}\n    devices: [{name}]\n" for name, text in draft(studies)]
        sys.stdout.write("claims:\n" + "".join(lines) if lines else "claims: []\n")
        return inputs.exit_code(estate)
    found = files.judged(estate, stated)
    writers: dict[str, Writer] = {
        ".json": lambda: dump(report.claims_data(found)),
        ".txt": lambda: output.as_text(arguments, lambda console: report.show_claims(console, found)),
        ".xml": lambda: report.claims_junit(found),
    }
    if arguments.json:
        sys.stdout.write(dump(report.claims_data(found)))
    else:
        output.show(arguments, lambda console: report.show_claims(console, found))
    output.write_outputs(arguments, writers)
    refuted = any(one.holds is Holds.REFUTED for one in found)
    return inputs.exit_code(estate, EXIT_FINDINGS if refuted else EXIT_OK)


def _file(arguments: argparse.Namespace) -> Path:
    from aiguille.baseline.claims import FILE_NAME

    if arguments.claims is not None:
        return Path(arguments.claims)
    for path in map(Path, arguments.paths):
        beside = (path if path.is_dir() else path.parent) / FILE_NAME
        if beside.is_file():
            return beside
    raise UsageError(
        f"there is no {FILE_NAME} beside {arguments.paths[0]}; name a file with --claims, or begin one with --start"
    )

"""`aiguille figure`: one figure of an audit as SVG or PNG."""

from __future__ import annotations

import argparse
from pathlib import Path

from aiguille.cli import inputs, options, output
from aiguille.model import UsageError

KINDS = ("findings", "hits", "openness", "geo")
NAME = "figure"
HELP = "draw one figure: findings by area and severity, hits, openness of rules, or reach by country"
EXAMPLES = """examples:
  aiguille figure findings engagement/ --out findings.svg
  aiguille figure hits valley-gw.v4 --out hits.png"""


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("kind", choices=KINDS, metavar="KIND", help=f"what to draw: {', '.join(KINDS)}")
    options.add_paths(parser)
    parser.add_argument(
        "--out",
        action="append",
        required=True,
        metavar="FILE",
        type=Path,
        help="where to write it: .svg or .png; repeatable",
    )
    parser.add_argument("--force", action="store_true", help="replace files that exist")
    options.add_baseline(parser)
    options.add_manner(parser)
    parser.set_defaults(json=False)


def run(arguments: argparse.Namespace) -> int:
    from aiguille.baseline import Audit
    from aiguille.reports import figures
    from aiguille.reports.dossier import Dossier
    from aiguille.reports.files import Writer

    kind = figures.KINDS[arguments.kind]
    output.check_outputs(arguments, (".svg", ".png"))
    estate = inputs.read_estate(arguments)
    # Only this one rests on checks; the others need the rules alone.
    audit = inputs.run_audit(arguments, estate) if arguments.kind == "findings" else Audit(estate, (), ())
    with output.working(arguments, f"drawing {arguments.kind}"):
        drawn = kind.draw(Dossier(audit, inputs.jobs(arguments, estate)))
    if drawn is None:
        raise UsageError(f"nothing to draw: {kind.nothing}")
    figure = drawn
    writers: dict[str, Writer] = {".svg": lambda: figures.svg(figure), ".png": lambda: figures.png(figure)}
    output.write_outputs(arguments, writers)
    return inputs.exit_code(estate)

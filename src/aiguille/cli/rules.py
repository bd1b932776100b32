"""`aiguille rules`: every rule with what it resolves to and what it is worth where it stands."""

from __future__ import annotations

import argparse
import gc
import io
import os
import sys
from typing import TYPE_CHECKING

from aiguille.cli import inputs, options, output

if TYPE_CHECKING:
    from aiguille.reports.files import Writer

NAME = "rules"
HELP = "list every rule: what it resolves to, its standing, how much it opens, its hits"
EXAMPLES = """examples:
  aiguille rules valley-gw.v4 --standing shadowed --standing redundant
  aiguille rules engagement/ --touching 10.44.30.10/502 --sort openness
  aiguille rules engagement/ --severity high

With --severity, --area, --check or --cause only the rules that such findings speak of."""

STANDINGS = ("off", "impossible", "shadowed", "redundant", "contradicted", "partly hidden", "live")
ACTIONS = ("accept", "drop", "reject", "return", "jump", "goto", "continue", "unknown")


def add(parser: argparse.ArgumentParser) -> None:
    options.add_paths(parser)
    options.add_changes(parser)
    parser.add_argument(
        "--standing",
        action="append",
        default=[],
        choices=STANDINGS,
        metavar="S",
        help=f"only these: {', '.join(STANDINGS)}; repeatable",
    )
    parser.add_argument(
        "--hidden",
        action="store_true",
        help="only rules that no packet reaches, or of which that cannot be told; takes less than half as long",
    )
    parser.add_argument(
        "--chain", action="append", default=[], metavar="NAME", help="only rules of this chain; repeatable"
    )
    parser.add_argument(
        "--action",
        action="append",
        default=[],
        choices=ACTIONS,
        metavar="A",
        help=f"only these: {', '.join(ACTIONS)}; repeatable",
    )
    parser.add_argument(
        "--touching",
        metavar="NAME|ADDRESS/PORT",
        help="only rules that name this object, service, zone or interface, be it through groups; or that match packets from or to "
        "an address or port, of which a part may be left out",
    )
    parser.add_argument(
        "--sort", choices=("export", "openness", "hits"), default="export", help="order (default: as in the export)"
    )
    parser.add_argument(
        "--details", action="store_true", help="each rule with its place, its text and a packet that reaches it"
    )
    options.add_baseline(parser)
    options.add_filters(parser)
    options.add_output(parser, ".json, .csv, .txt")


def run(arguments: argparse.Namespace) -> int:
    # A run makes millions of small objects that all live to its end; looking for garbage among them costs a fifth.
    gc.disable()
    from aiguille.analysis.listing import Selection, listing, touching_in
    from aiguille.analysis.lookup import one_device
    from aiguille.analysis.program import Programs
    from aiguille.reports.rules import rules_data, show_rules

    def table() -> str:
        from aiguille.reports.csvfile import as_csv
        from aiguille.reports.tables import RULES, rules_rows

        return as_csv(RULES, rules_rows(found))

    def text() -> str:
        lines: list[str] = []
        show_rules(output.console(arguments, io.StringIO()), found, lines.append, details=arguments.details)
        return "".join(lines)

    writers: dict[str, Writer] = {
        ".json": lambda: "".join(rules_data(found, jobs)),
        ".csv": table,
        ".txt": text,
    }
    output.check_outputs(arguments, writers)
    estate = inputs.read_estate(arguments)
    devices = [one_device(estate, name) for name in dict.fromkeys(arguments.device)] or estate.devices
    touching = touching_in(devices, arguments.touching) if arguments.touching else None
    behind = None
    if any(value for name, value in options.filters(arguments).items() if name != "device"):
        behind = inputs.run_audit(arguments, estate).narrowed(**options.filters(arguments)).rules
        devices = [one for one in devices if behind.get(one.name)]
    jobs = arguments.jobs or os.cpu_count() or 1
    found = []
    with output.progress(arguments, "devices", "judged") as described:
        for number, device in enumerate(devices, 1):
            programs = Programs(device)
            named = None if behind is None else behind[device.name]
            wanted = Selection(
                arguments.standing, arguments.chain, arguments.action, touching, named, arguments.hidden, arguments.sort
            )
            found.append((programs, listing(programs, wanted, jobs)))
            described(number, len(devices))
    if touching is not None:
        found = [one for one in found if one[1]] or found[:1]
    if arguments.json:
        sys.stdout.writelines(rules_data(found, jobs))
    else:
        show_rules(output.console(arguments), found, sys.stdout.write, details=arguments.details)
    output.write_outputs(arguments, writers)
    return inputs.exit_code(estate)

"""`aiguille flows`: who reaches whom."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from aiguille.cli import inputs, options, output
from aiguille.model import UsageError

if TYPE_CHECKING:
    from matplotlib.figure import Figure

NAME = "flows"
HELP = "show who reaches whom: zones, the outside and the device itself, and the rules behind each pair"
EXAMPLES = """examples:
  aiguille flows valley-gw.v4
  aiguille flows engagement/ --device valley-gw --from guests --to device
  aiguille flows engagement/ --service tcp/502 --json
  aiguille flows valley-gw.v4 --out flows.svg"""


def add(parser: argparse.ArgumentParser) -> None:
    options.add_paths(parser)
    options.add_changes(parser)
    parser.add_argument("--device", metavar="NAME", help="only this device")
    parser.add_argument(
        "--from", dest="source", metavar="END", help="rows from here: a zone, a side, an interface, or device"
    )
    parser.add_argument("--to", metavar="END", help="rows to here")
    parser.add_argument(
        "--service", metavar="PROTOCOL[/PORTS]", help="rows of this service, as tcp/443, udp/53 or icmp"
    )
    parser.add_argument(
        "--address",
        metavar="ADDRESS",
        action="append",
        default=[],
        type=options.network,
        help="rows to or from this address or network; repeatable",
    )
    parser.add_argument("--object", metavar="NAME", help="rows to or from the addresses this object stands for")
    options.add_output(parser, ".json, .txt, .svg, .png")


def run(arguments: argparse.Namespace) -> int:
    from msgspec.structs import replace

    from aiguille.analysis.flows import Wish, addresses_named, flows, matrix, read_service
    from aiguille.analysis.lookup import one_device
    from aiguille.analysis.program import Programs
    from aiguille.analysis.study import Study
    from aiguille.reports import figures
    from aiguille.reports import flows as report
    from aiguille.reports.data import dump
    from aiguille.reports.files import Writer

    output.check_outputs(arguments, (".json", ".txt", ".svg", ".png"))
    estate = inputs.read_estate(arguments)
    if arguments.device is not None:
        estate = replace(estate, devices=(one_device(estate, arguments.device),))
    service = read_service(arguments.service) if arguments.service else None
    asked = any((arguments.source, arguments.to, service, arguments.address, arguments.object))
    described: list[report.Described] = []
    faults: list[str] = []
    for device in estate.devices:
        study = Study(device, estate, Programs(device))
        if not asked:
            described.append(report.Described(matrix(study)))
            continue
        try:
            addresses = addresses_named(study.programs, arguments.address, arguments.object)
            wish = Wish(arguments.source, arguments.to, service, addresses)
            rows = flows(study, wish)
        except UsageError as error:
            faults.append(error.message)
            continue
        rest = {row.traffic.direction: None for row in rows}
        defaults = [step for direction in rest for p in study.programs.all(direction) for step in p.defaults]
        described.append(report.Described(matrix(study), tuple(rows), tuple(defaults)))
    if faults and not described:
        raise UsageError(faults[0])

    def figure() -> Figure:
        drawn = report.draw_flows(described)
        if drawn is None:
            raise UsageError("nothing to draw: there are no rules")
        return drawn

    writers: dict[str, Writer] = {
        ".json": lambda: dump(report.flows_data(described)),
        ".txt": lambda: output.as_text(arguments, lambda console: report.show_flows(console, described)),
        ".svg": lambda: figures.svg(figure()),
        ".png": lambda: figures.png(figure()),
    }
    if arguments.json:
        output.write([dump(report.flows_data(described)).encode()])
    else:
        output.show(arguments, lambda console: report.show_flows(console, described))
    output.write_outputs(arguments, writers)
    return inputs.exit_code(estate)

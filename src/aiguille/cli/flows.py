"""`aiguille flows`: who reaches whom."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from aiguille.cli import inputs, options, output
from aiguille.model import UsageError

if TYPE_CHECKING:
    from matplotlib.figure import Figure
    from rich.console import Console


NAME = "flows"
HELP = "show who reaches whom: zones, the outside and the device itself, and the rules behind each pair"
EXAMPLES = """examples:
  aiguille flows valley-gw.v4
  aiguille flows engagement/ --device valley-gw --from guests --to device
  aiguille flows engagement/ --from ticket-hall/hall --to valley-gw/lifts
  aiguille flows engagement/ --service tcp/502 --json
  aiguille flows valley-gw.v4 --out flows.svg"""


def add(parser: argparse.ArgumentParser) -> None:
    options.add_paths(parser)
    options.add_changes(parser)
    parser.add_argument("--device", metavar="NAME", help="only this device")
    parser.add_argument(
        "--from",
        dest="source",
        metavar="END",
        help="rows from here: a zone, a side, an interface or device; GATEWAY/ZONE is that of one device",
    )
    parser.add_argument("--to", metavar="END", help="rows to here")
    parser.add_argument("--service", metavar="PROTOCOL[/PORTS]", help="rows of this service, as tcp/443, https or icmp")
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

    from aiguille.analysis.endtoend import EndToEnd, between, end_to_end
    from aiguille.analysis.flows import Wish, addresses_named, flows, matrix, read_services
    from aiguille.analysis.lookup import one_device
    from aiguille.analysis.program import Programs
    from aiguille.analysis.reach import Reaches
    from aiguille.analysis.study import Study
    from aiguille.reports import endtoend, figures
    from aiguille.reports import flows as report
    from aiguille.reports.data import dump
    from aiguille.reports.files import Writer
    from aiguille.space import IntervalSet

    output.check_outputs(arguments, (".json", ".txt", ".svg", ".png"))
    estate = inputs.read_estate(arguments)
    if arguments.device is not None:
        estate = replace(estate, devices=(one_device(estate, arguments.device),))
    service = read_services(arguments.service) if arguments.service else ()
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
    joined: EndToEnd | None = None
    if len(estate.devices) > 1 and not asked:
        joined = end_to_end(Reaches(estate))
    elif len(estate.devices) > 1 and (arguments.source or arguments.to) and not arguments.object:
        addresses = tuple((one.family, IntervalSet([(one.first, one.last)])) for one in arguments.address)
        try:
            wish = Wish(services=service, addresses=addresses)
            joined = between(Reaches(estate, detailed=True), arguments.source, arguments.to, wish)
        except UsageError as error:
            faults.insert(0, error.message)
    if faults and not described and joined is None:
        raise UsageError(faults[0])

    def show(console: Console) -> None:
        report.show_flows(console, described)
        if described and joined is not None:
            console.print()
        if joined is not None:
            endtoend.show_end_to_end(console, joined)

    def data() -> str:
        return dump({**report.flows_data(described), "end_to_end": endtoend.end_to_end_data(joined)})

    def figure() -> Figure:
        drawn = report.draw_flows(described, joined)
        if drawn is None:
            raise UsageError("nothing to draw: there are no rules")
        return drawn

    writers: dict[str, Writer] = {
        ".json": data,
        ".txt": lambda: output.as_text(arguments, show),
        ".svg": lambda: figures.svg(figure()),
        ".png": lambda: figures.png(figure()),
    }
    if arguments.json:
        output.write([data().encode()])
    else:
        output.show(arguments, show)
    output.write_outputs(arguments, writers)
    return inputs.exit_code(estate)

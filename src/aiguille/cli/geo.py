"""`aiguille geo`: where an address is, and which countries reach what faces the outside."""

from __future__ import annotations

import argparse
from pathlib import Path

from aiguille.cli import options, output
from aiguille.model import EXIT_OK, UsageError

NAME = "geo"
HELP = "look addresses up in location data, and see which countries reach which service"
EXAMPLES = """examples:
  aiguille geo lookup 198.51.100.7 2001:db8::5 --geo delegated-extended.txt
  aiguille geo lookup 198.51.100.0/22 --in engagement/
  aiguille geo reach engagement/"""

_HELP = {
    "lookup": "the country of addresses, or the countries of networks",
    "reach": "which countries reach which outside-facing service, how much of their address space, by which rule",
}


def add(parser: argparse.ArgumentParser) -> None:
    made = options.add_actions(parser, _HELP, EXAMPLES)
    made["lookup"].add_argument("addresses", nargs="+", metavar="ADDRESS", help="an IPv4 or IPv6 address or network")
    made["lookup"].add_argument(
        "--in", dest="folder", metavar="PATH", type=Path, help="with the location data this engagement names"
    )
    options.add_geo(made["lookup"])
    options.add_paths(made["reach"])
    made["reach"].add_argument("--device", metavar="NAME", help="only this device")
    for one in made.values():
        options.add_output(one)


def run(arguments: argparse.Namespace) -> int:
    return _lookup(arguments) if arguments.action == "lookup" else _reach(arguments)


def _lookup(arguments: argparse.Namespace) -> int:
    from aiguille.readers.locations import read_locations
    from aiguille.reports import lookup

    files: list[Path] = []
    if arguments.folder is not None:
        from aiguille.estate import engagement

        folder = arguments.folder
        files += engagement.load(folder / engagement.FILE_NAME if folder.is_dir() else folder).geo
    files += arguments.geo
    if not files:
        raise UsageError(
            "no location data: name registry statistics or MMDB files with --geo, or an engagement with --in"
        )
    try:
        wanted = [options.network(text) for text in arguments.addresses]
    except argparse.ArgumentTypeError as error:
        raise UsageError(str(error)) from error
    locations = read_locations(files, wanted, cache=not arguments.no_cache)
    places = [lookup.place(locations, one) for one in wanted]
    output.report(
        arguments,
        lambda: lookup.lookup_data(places, locations),
        lambda console: lookup.show_lookup(console, places, locations),
    )
    return EXIT_OK


def _reach(arguments: argparse.Namespace) -> int:
    from msgspec.structs import replace

    from aiguille.analysis.lookup import one_device
    from aiguille.baseline.reaching import reach_of
    from aiguille.cli import inputs
    from aiguille.reports import geo

    estate = inputs.read_estate(arguments)
    if arguments.device is not None:
        estate = replace(estate, devices=(one_device(estate, arguments.device),))
    if not estate.locations:
        raise UsageError(
            "no location data: name registry statistics or MMDB files under geo in engagement.toml, or with --geo"
        )
    found = reach_of(estate)
    output.report(
        arguments, lambda: geo.reach_data(estate, found), lambda console: geo.show_reach(console, estate, found)
    )
    return inputs.exit_code(estate)

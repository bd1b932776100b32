"""`aiguille compare`: what newly opens or closes between two exports, and what was rewritten and mended."""

from __future__ import annotations

import argparse
from pathlib import Path

from aiguille.cli import inputs, options, output
from aiguille.model import EXIT_FINDINGS, EXIT_OK, UsageError

NAME = "compare"
HELP = "show what newly opens or closes between two exports, folders or engagements, and what was rewritten"
EXAMPLES = """examples:
  aiguille compare valley-gw.v4 valley-gw-new.v4
  aiguille compare spring/ autumn/ --json
  aiguille compare valley-gw.v4 --as-if "remove rule 3 of INPUT" --administrator 192.0.2.20
  aiguille compare engagement/ --sites
  aiguille compare huts/ --sites --master template.json
  aiguille compare valley-gw.v4 --interfaces eth1 eth2

With --as-if there is one PATH, compared with what it would be; with --sites each site in it with its template, at the
site's own networks; with --interfaces what one interface lets through with what another does. Exit code 1 when something opens, or
an administrator gets locked out."""


def add(parser: argparse.ArgumentParser) -> None:
    options.add_paths(parser)
    options.add_changes(parser)
    options.add_baseline(parser)
    parser.add_argument("--no-findings", action="store_true", help="leave findings out, which takes most of the time")
    parser.add_argument(
        "--sites",
        action="store_true",
        help="compare each site with its template: the sibling most like the others, or --master",
    )
    parser.add_argument("--master", metavar="NAME|PATH", help="the template of --sites: a device, or an export of one")
    parser.add_argument(
        "--interfaces", nargs=2, metavar="IFACE", help="compare what the first lets through with what the second does"
    )
    parser.add_argument("--device", metavar="NAME", help="the device of --interfaces, where PATH holds several")
    options.add_output(parser)


def run(arguments: argparse.Namespace) -> int:
    from aiguille.baseline.comparing import compare
    from aiguille.estate.wordings import changed_in_turn
    from aiguille.reports import compare as report

    paths = arguments.paths
    if arguments.sites or arguments.interfaces:
        return _alike(arguments)
    if arguments.master or arguments.device:
        raise UsageError("--master goes with --sites, and --device with --interfaces")
    asked, arguments.as_if = arguments.as_if, []
    if len(paths) != (1 if asked else 2):
        raise UsageError("compare takes BEFORE and AFTER, or one path and --as-if with what would change")
    if len(paths) == 2 and Path(paths[0]).resolve() == Path(paths[1]).resolve():
        raise UsageError(f"BEFORE and AFTER are both {paths[0]}; there is nothing to compare")
    before = inputs.read_estate(arguments, paths[:1])
    steps = changed_in_turn(before, asked)
    after = steps[-1][1] if steps else inputs.read_estate(arguments, paths[1:])
    audited = None if arguments.no_findings else lambda estate: inputs.run_audit(arguments, estate)
    found = compare(before, after, audited, tuple(arguments.administrator), steps)
    output.report(arguments, lambda: report.compare_data(found), lambda console: report.show_compare(console, found))
    worse = found.opened or any(one.lost or one.interrupted for pair in found.pairs for one in pair.access)
    code = EXIT_FINDINGS if worse else EXIT_OK
    return max(inputs.exit_code(before, code), inputs.exit_code(after, code))


def _alike(arguments: argparse.Namespace) -> int:
    """Sites with their template, or two interfaces of one device."""
    from msgspec.structs import replace

    from aiguille.analysis.lookup import one_device
    from aiguille.baseline.comparing import compare_interfaces, compare_sites
    from aiguille.reports import compare as report

    if arguments.sites and arguments.interfaces:
        raise UsageError("--sites and --interfaces are two questions; ask one of them")
    estate = inputs.read_estate(arguments, arguments.paths)
    if arguments.interfaces:
        found = compare_interfaces(estate, one_device(estate, arguments.device), *arguments.interfaces)
    else:
        master = None
        if arguments.master is not None:
            known = {device.name for device in estate.devices}
            if arguments.master in known or not Path(arguments.master).exists():
                master = one_device(estate, arguments.master)
            else:
                template = inputs.read_estate(arguments, [arguments.master])
                master = replace(one_device(template, None), name=Path(arguments.master).stem)
        found = compare_sites(estate, master)
    output.report(arguments, lambda: report.compare_data(found), lambda console: report.show_compare(console, found))
    return inputs.exit_code(estate, EXIT_FINDINGS if found.opened else EXIT_OK)

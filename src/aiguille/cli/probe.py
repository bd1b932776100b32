"""`aiguille probe`: which rule decides a packet, and the walk that leads there."""

from __future__ import annotations

import argparse
import gc
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from aiguille.cli import inputs, options, output
from aiguille.model import EXIT_FINDINGS, EXIT_USAGE, UsageError

if TYPE_CHECKING:
    from rich.console import Console

    from aiguille.analysis.walk.answers import Answer
    from aiguille.analysis.walk.probe import Prober
    from aiguille.model import Device, Estate
    from aiguille.reports.expected import Expectation

FAULTS_SHOWN = 100
"""Rows of a table that are reported one by one to be left out."""

NAME = "probe"
HELP = "show which rule decides a packet, and the walk that leads there"
EXAMPLES = """examples:
  aiguille probe valley-gw.v4 --packet "tcp from 203.0.113.9:41000 to 192.0.2.10:443 entering eth0 leaving eth1"
  aiguille probe valdrane-lifts --device summit-gw --packet "modbus from terrace to lifts"
  aiguille probe valley-gw.v4 --packets packets.csv --json
  aiguille probe valley-gw.v4 --packet "tcp to any:22 entering eth0" --without INPUT/4
  aiguille probe valdrane-lifts --device summit-gw --packet "tcp from terrace to lifts:443 at Sat 23:30"

What a packet leaves out means any; the answer then lists the possible verdicts with an example each. Addresses and ports
are those before translation. A zone, a side, an interface, an object or a device may stand for its addresses, a service for
its ports: interfaces then follow from zones."""


def add(parser: argparse.ArgumentParser) -> None:
    options.add_paths(parser)
    options.add_changes(parser)
    what = parser.add_mutually_exclusive_group(required=True)
    what.add_argument("--packet", metavar="TEXT", help="one packet in words")
    what.add_argument(
        "--packets",
        metavar="FILE",
        type=Path,
        help="many packets, as CSV with a header; a column expect is held against the answers",
    )
    parser.add_argument("--device", metavar="NAME", help="the device to probe, where the paths hold several")
    parser.add_argument(
        "--without",
        action="append",
        default=[],
        metavar="RULE",
        help="treat this rule as switched off: FILE:LINE or CHAIN/NUMBER; repeatable",
    )
    parser.add_argument(
        "--json", action="store_true", help="write JSON to standard output instead of the terminal view"
    )
    options.add_manner(parser)


def run(arguments: argparse.Namespace) -> int:
    gc.disable()  # what a long table is made of lives to the end; looking for garbage in it costs a third
    from aiguille.analysis.hours import split_moment
    from aiguille.analysis.lookup import find_rule, one_device
    from aiguille.analysis.naming import in_estate
    from aiguille.analysis.program import Programs
    from aiguille.analysis.walk.probe import Prober
    from aiguille.readers.whole import whole
    from aiguille.reports.expected import split

    if arguments.packet is not None and arguments.at is None:
        arguments.packet, arguments.at = split_moment(arguments.packet)
    table = whole(arguments.packets, piped=True) if arguments.packets is not None else b""
    try:
        table, expected = split(table)
    except (UsageError, UnicodeDecodeError) as error:
        raise UsageError(f"{arguments.packets}: {error}") from error
    estate = inputs.read_estate(arguments)
    device: Device | None = None
    described: tuple[str, ...] = ()
    if arguments.packet is not None and estate.devices:
        device, described = in_estate(estate, arguments.device, arguments.packet)
    if device is None and _is_path(arguments, estate, table, described):
        return inputs.exit_code(estate, _path(arguments, estate, table, described, expected))
    device = device or one_device(estate, arguments.device)
    programs = Programs(device)
    without = [find_rule(device, name) for name in arguments.without]
    prober = Prober(programs, without)
    plain = Prober(programs) if without else None
    one = arguments.packet is not None
    code = (
        _one(arguments, device, prober, plain, described) if one else _many(arguments, device, prober, table, expected)
    )
    return inputs.exit_code(estate, code)


def _is_path(arguments: argparse.Namespace, estate: Estate, table: bytes, described: tuple[str, ...]) -> bool:
    """Whether packets are to be followed over devices: there are several, or nothing shows an interface."""
    if arguments.device is not None or arguments.without or not estate.devices:
        return False
    if described:
        return not {"entering", "leaving"} & {*described[0].lower().split()}
    from aiguille.packets.unplaced import is_unplaced

    return len(estate.devices) > 1 or is_unplaced(table)


def _path(
    arguments: argparse.Namespace,
    estate: Estate,
    table: bytes,
    described: tuple[str, ...],
    expected: tuple[Expectation, ...],
) -> int:
    from aiguille.analysis.network import Network
    from aiguille.analysis.paths import Follower
    from aiguille.analysis.paths import Path as Followed
    from aiguille.packets import read_sentence
    from aiguille.packets.unplaced import complete, read_unplaced
    from aiguille.reports import paths
    from aiguille.reports.expected import Held
    from aiguille.reports.text import visible

    follower = Follower(Network(estate))
    if described:
        found = follower.path(complete(read_sentence(described[0], placed=False)))
        if arguments.json:
            output.write(paths.paths_data([("packet", found)], []))
        else:
            output.show(arguments, lambda console: paths.show_path(console, found))
        return 0
    file: Path = arguments.packets
    faults: list[dict[str, object]] = []

    def followed() -> Iterator[tuple[str, Followed]]:
        for row in read_unplaced(table):
            why = row.why
            if row.packet is not None:
                try:
                    yield row.id, follower.path(row.packet)
                    continue
                except UsageError as error:
                    why = error.message
            faults.append({"line": row.line, "id": row.id, "why": why})

    held: Held | None = None
    try:
        if expected:
            held = Held(paths.paths_data(followed(), faults), expected)
            output.write(held.json() if arguments.json else held.lines())
        else:
            output.write(paths.paths_data(followed(), faults) if arguments.json else paths.path_lines(followed()))
    except BrokenPipeError:
        raise
    except UnicodeDecodeError as error:
        raise UsageError(f"{file}: cannot be read ({error})") from error
    except UsageError as error:
        raise UsageError(f"{file}: {error.message}") from error
    for fault in faults[:FAULTS_SHOWN]:
        name, why = visible(str(fault["id"])), visible(str(fault["why"]))
        output.log.error("%s:%s: packet '%s': %s; the row is left out", file, fault["line"], name, why)
    return EXIT_USAGE if faults else EXIT_FINDINGS if held is not None and held.different else 0


def _one(
    arguments: argparse.Namespace, device: Device, prober: Prober, plain: Prober | None, described: tuple[str, ...]
) -> int:
    """What becomes of one packet, or of each that a sentence with names stands for."""
    from aiguille.analysis.walk.answers import answer
    from aiguille.packets import read_sentence
    from aiguille.reports.probe import probe_data

    sketches = [read_sentence(one) for one in described]
    found = [answer(prober, sketch) for sketch in sketches]
    before: list[Answer] = [answer(plain, sketch) for sketch in sketches] if plain is not None else []
    if arguments.json:
        ids = ["packet"] if len(described) == 1 else list(described)
        both = (
            [*(["before"] if len(described) == 1 else [f"before: {one}" for one in described]), *ids] if before else ids
        )
        output.write(probe_data(device, both, [*before, *found]))
        return 0

    def view(console: Console) -> None:
        from aiguille.reports.walk import show_answer, show_answers

        if len(described) > 1 and not before:
            show_answers(console, device, described, found)
            return
        for number, one in enumerate(found):
            show_answer(console, device, one, before[number] if before else None)

    output.show(arguments, view)
    return 0


def _many(
    arguments: argparse.Namespace, device: Device, prober: Prober, data: bytes, expected: tuple[Expectation, ...]
) -> int:
    from aiguille.analysis.walk.bulk import TableProber
    from aiguille.packets.table import TableFile
    from aiguille.reports.expected import Held
    from aiguille.reports.probe import TableWriter
    from aiguille.reports.text import counted, visible

    path: Path = arguments.packets
    try:
        table = TableProber(prober, TableFile(data))
        writer = TableWriter(device, table, inputs.cores(len(table.file.parts)))
        held = Held(writer.json(), expected) if expected else None
        if held is not None:
            output.write(held.json() if arguments.json else held.lines())
        else:
            output.write(writer.json() if arguments.json else writer.lines(output.dimmed(arguments)))
    except BrokenPipeError:
        raise  # of our output
    except UnicodeDecodeError as error:
        raise UsageError(f"{path}: cannot be read ({error})") from error
    except UsageError as error:
        raise UsageError(f"{path}: {error.message}") from error
    for fault in writer.faults[:FAULTS_SHOWN]:
        output.log.error(
            "%s:%d: packet '%s': %s; the row is left out", path, fault.line, visible(fault.id), visible(fault.why)
        )
    if (more := len(writer.faults) - FAULTS_SHOWN) > 0:
        listed = "the JSON names" if arguments.json else "--json names"
        output.log.error(
            "%s: %s left out; %s each with its reason", path, counted(more, "more row is", "more rows are"), listed
        )
    return EXIT_USAGE if writer.faults else EXIT_FINDINGS if held is not None and held.different else 0

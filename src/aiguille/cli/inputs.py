"""What commands read: the estate that paths and options name, and its audit."""

from __future__ import annotations

import argparse
import gc
import logging
import os
import sys
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import contextmanager, nullcontext
from pathlib import Path
from typing import TYPE_CHECKING

from aiguille.analysis.outlines import at_hand
from aiguille.cli.output import log, progress, stages
from aiguille.model import EXIT_UNREADABLE, Estate, Side, UsageError

if TYPE_CHECKING:
    from aiguille.baseline import Audit
    from aiguille.baseline.asked import Asked
    from aiguille.estate.finding import Gathered
    from aiguille.estate.reading import Knowledge


def _standard_input() -> bytes:
    """What another command hands over; raises UsageError for more than an export can have."""
    from aiguille.readers.files import SIZE_LIMIT

    data = sys.stdin.buffer.read(SIZE_LIMIT + 1) if sys.stdin is not None else b""
    if len(data) > SIZE_LIMIT:
        raise UsageError(
            f"standard input: more than {SIZE_LIMIT} bytes, which no export has; is this the right command?"
        )
    return data


def gathered(arguments: argparse.Namespace, paths: Sequence[str | Path] | None = None) -> Gathered:
    """What the paths given hold, before any of it is read."""
    from aiguille.estate.finding import PIPED
    from aiguille.estate.reading import gather
    from aiguille.space.effort import set_effort

    set_effort(getattr(arguments, "effort", 1))
    given = arguments.paths if paths is None else paths
    piped = _standard_input() if PIPED in map(str, given) else None
    return gather(
        given,
        format=getattr(arguments, "format", None),
        dialects=getattr(arguments, "dialect", ()),
        piped=piped,
    )


def known_beside(arguments: argparse.Namespace, found: Gathered) -> Knowledge:
    """What options and engagement say of all devices."""
    from aiguille.estate.reading import Knowledge, read_locations_of

    locations = read_locations_of(found, getattr(arguments, "geo", ()), cache=not getattr(arguments, "no_cache", False))
    administrators = tuple(who for who, _ in getattr(arguments, "administrator", ()))
    return Knowledge(_sides(arguments), administrators, locations)


def read_estate(
    arguments: argparse.Namespace,
    paths: Sequence[str | Path] | None = None,
    *,
    view_shows: bool = False,
    found: Gathered | None = None,
    meanwhile: Callable[[], object] = lambda: None,
) -> Estate:
    """Read the paths given and say what was recognised, missing or odd.

    view_shows: on a terminal the view that follows says what is missing or odd
    found: what they hold, if that is known already
    meanwhile: what else this process may do while others read
    """
    from aiguille.estate.reading import read_gathered

    with _leaving_garbage(), progress(arguments, "exports", "read") as described:
        found = found or gathered(arguments, paths)
        helpers = getattr(arguments, "jobs", 0) or cores(len(found.jobs))
        told = _and_meanwhile(described, meanwhile)
        estate = read_gathered(found, known_beside(arguments, found), arguments.as_of, told, helpers)
    if changes := getattr(arguments, "as_if", ()):
        from aiguille.estate.wordings import changed

        estate = changed(estate, changes)
    if moment := getattr(arguments, "at", None):
        from aiguille.analysis.hours import estate_at, read_moment

        estate = estate_at(estate, read_moment(moment))
    say_what_was_read(arguments, estate, paths, view_shows=view_shows)
    return estate


def _and_meanwhile(told: Callable[[int, int], None], meanwhile: Callable[[], object]) -> Callable[[int, int], None]:
    """Tell of progress; and when the first of several things is done, which other processes work on, do something beside them."""

    def tell(number: int, total: int) -> None:
        told(number, total)
        if number == 1 < total:
            meanwhile()

    return tell


@contextmanager
def _leaving_garbage() -> Iterator[None]:
    """Look for no garbage meanwhile: what is made lives to the end, and looking through it would cost up to a third."""
    collecting = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if collecting:
            gc.freeze()  # nor need it be looked through later
            gc.enable()


def say_what_was_read(
    arguments: argparse.Namespace,
    estate: Estate,
    paths: Sequence[str | Path] | None = None,
    *,
    view_shows: bool = False,
) -> None:
    """Say what was recognised, missing or odd; raises UsageError where an output would take the place of an input."""
    from aiguille.reports.text import counted, visible

    _spare_inputs(arguments, arguments.paths if paths is None else paths, estate)
    for device in at_hand(estate):
        log.info("%s: %s, as %s", visible(device.name), device.dialect, visible(device.recognised))
    if arguments.json or not (view_shows and sys.stdout.isatty()):
        for failure in estate.failures:
            log.error("%s", visible(failure.message))
        for device in at_hand(estate):
            for problem in device.ledger.problems:
                level = logging.ERROR if problem.matters else logging.INFO
                log.log(level, "%s: %s", visible(str(problem.where)), visible(problem.why))
            if device.ledger.unread_lines:
                left = counted(device.ledger.unread_lines, "line")
                log.warning("%s: %s not understood", visible(device.name), left)


def _spare_inputs(arguments: argparse.Namespace, given: Sequence[str | Path], estate: Estate) -> None:
    """Refuse to write over what was read, with ``--force`` or without: an export is evidence."""
    read = [source.path for device in at_hand(estate) for source in device.sources]
    read += [*map(str, given), *(one.path for one in estate.failures)]
    # Tables of packets, location data, baselines, dialects.
    options = (value for name, value in vars(arguments).items() if name != "out")
    held = {
        one for value in options for one in (value if isinstance(value, list) else [value]) if isinstance(one, Path)
    }
    held = {path.resolve() for path in (*held, *map(Path, read))}
    for path in getattr(arguments, "out", None) or ():
        if path.resolve() in held:
            raise UsageError(f"{path}: this is one of the inputs, which are never written over; name another file")


def _sides(arguments: argparse.Namespace) -> dict[str, Side]:
    stated = [
        *getattr(arguments, "side", ()),
        *((name, Side.OUTSIDE.value) for name in getattr(arguments, "outside", ())),
    ]
    return {name: Side(side) for name, side in stated}


def meant(arguments: argparse.Namespace, names: Estate | Gathered) -> Asked:
    """What options and engagement hold devices to."""
    from aiguille.baseline import CATALOGUE
    from aiguille.baseline.asked import asked

    files = {name: getattr(arguments, name, None) for name in ("accepted", "answers", "claims")}
    return asked(names, CATALOGUE, getattr(arguments, "baseline", None), **files)


def run_audit(
    arguments: argparse.Namespace,
    estate: Estate,
    asked: Asked | None = None,
    devices: Collection[str] | None = None,
    meanwhile: Callable[[], object] = lambda: None,
) -> Audit:
    """Check an estate as the options and the engagement ask for.

    asked: what it is held to, if that is loaded already
    devices: only these, the others being asked about
    meanwhile: what else this process may do while others check devices
    """
    from aiguille.baseline.asked import audited
    from aiguille.baseline.running import is_long

    asked = asked or meant(arguments, estate)
    keeping = nullcontext() if is_long(estate) else _leaving_garbage()
    with keeping, progress(arguments, "devices", "checked") as described:
        told = _and_meanwhile(described, meanwhile)
        return audited(estate, asked, jobs=jobs(arguments, estate), progress=told, devices=devices)


def is_large(arguments: argparse.Namespace, found: Gathered) -> bool:
    """Whether devices are audited one by one, so that they need not be in memory together."""
    from aiguille.estate.finding import MANY

    asked = getattr(arguments, "resume", None) or getattr(arguments, "cluster", None)
    whole = getattr(arguments, "as_if", ()) or getattr(arguments, "at", None)
    if asked and whole:
        option = "--resume" if getattr(arguments, "resume", None) else "--cluster"
        raise UsageError(
            f"{option} takes devices one by one, so that nothing can be changed in them; leave --as-if out"
        )
    return bool(asked or (len(found.jobs) > MANY and not whole))


def audit_large(arguments: argparse.Namespace, found: Gathered) -> Audit:
    """Check devices one by one, as the options and the engagement ask for."""
    from aiguille.fleet.auditing import audit
    from aiguille.fleet.crew import Crew, Here
    from aiguille.fleet.tasks import ordered

    asked, known = meant(arguments, found), known_beside(arguments, found)
    order = ordered(found, known, asked, arguments.as_of, getattr(arguments, "effort", 1))
    crew: Crew
    if address := getattr(arguments, "cluster", None):
        from aiguille.fleet.cluster import Elsewhere

        crew = Elsewhere(found.jobs, order.terms, address, order.dialects())
    else:
        crew = Here(found.jobs, order.terms, getattr(arguments, "jobs", 0) or os.cpu_count() or 1)
    with stages(arguments) as told:
        return audit(order, crew, getattr(arguments, "resume", None), told)


def name_of_audit(arguments: argparse.Namespace, found: Gathered, estate: Estate, asked: Asked) -> bytes | None:
    """Stands for all that an audit follows from, so that what its findings are called can be kept; None where nothing is to be."""
    from aiguille.estate.reading import Knowledge
    from aiguille.fleet.results import digest_of_order
    from aiguille.fleet.tasks import ordered

    if getattr(arguments, "no_cache", False) or getattr(arguments, "as_if", ()) or getattr(arguments, "at", None):
        return None
    administrators = tuple(who for who, _ in getattr(arguments, "administrator", ()))
    known = Knowledge(_sides(arguments), administrators, estate.locations)
    return digest_of_order(ordered(found, known, asked, arguments.as_of, getattr(arguments, "effort", 1)))


def jobs(arguments: argparse.Namespace, estate: Estate) -> int:
    """How many processes share the devices, or a long rule set where there is but one."""
    count = len(estate.devices)
    return getattr(arguments, "jobs", 0) or (cores(count) if count > 1 else os.cpu_count() or 1)


def cores(tasks: int) -> int:
    """Processes worth starting for some tasks: one a core, none for a handful."""
    return 1 if tasks < 4 else min(os.cpu_count() or 1, tasks)


def exit_code(estate: Estate, otherwise: int = 0) -> int:
    """3 if something could not be read or contradicts itself, else what the command itself ends with."""
    broken = estate.failures or any(p.matters for device in at_hand(estate) for p in device.ledger.problems)
    return EXIT_UNREADABLE if broken else otherwise

"""From paths to an estate: exports found, read, and joined with what the auditor knows."""

from __future__ import annotations

import difflib
import pickle
import zlib
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from datetime import UTC, date, datetime
from functools import partial
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from aiguille.analysis.countries import located
from aiguille.analysis.oddities import oddities
from aiguille.analysis.outlines import Outline, outlines
from aiguille.analysis.sharing import share
from aiguille.analysis.sides import guess_sides
from aiguille.analysis.written import as_written
from aiguille.estate import engagement
from aiguille.estate.finding import MANY, Gathered, Job, joined, look, unexpected_told, with_printed
from aiguille.model import (
    Addresses,
    AiguilleError,
    Device,
    Estate,
    Failure,
    GeoFilter,
    Locations,
    Side,
    UnreadableError,
    UsageError,
)
from aiguille.model.countries import country_code
from aiguille.model.masking import mask_secrets
from aiguille.readers import (
    formats,
    load_dialect,
    loaded,
    named,
    printable,
)
from aiguille.readers.annotations import with_annotations
from aiguille.readers.comments import without_noted_secrets


def read(
    paths: str | Path | Iterable[str | Path],
    *,
    format: str | None = None,
    dialects: str | Path | Iterable[str | Path] = (),
    as_of: date | None = None,
    geo: str | Path | Iterable[str | Path] = (),
    sides: Mapping[str, Side] | None = None,
    administrators: Iterable[Addresses] = (),
    progress: Callable[[int, int], None] | None = None,
    piped: bytes | None = None,
    cache: bool = False,
) -> Estate:
    """Read exports, folders of exports and engagement files into an estate.

    paths, dialects, geo: one path, or several
    format: take every file for this format instead of recognising it
    dialects: dialect files to know beside those that come with the package
    as_of: the day ages are counted from; default: the engagement's, else today
    geo: location data beside the engagement's: registry statistics or MMDB files, later ones winning
    sides: by interface, the side it faces, on every device that has it; counts above what exports and engagements say
    administrators: addresses that administrators come from, beside those of the engagement
    progress: called with how many exports of how many are read
    piped: the bytes that the path ``-`` stands for
    cache: whether large location data is kept in compiled form in the user's cache folder

    What cannot be read becomes a `Failure` of the estate and does not stop the rest. Raises UsageError for a faulty
    engagement or dialect file or an unknown format.
    """
    found = gather(paths, format=format, dialects=dialects, piped=piped)
    locations = read_locations_of(found, geo, cache=cache)
    return read_gathered(found, Knowledge(dict(sides or {}), tuple(administrators), locations), as_of, progress)


def read_gathered(
    found: Gathered,
    known: Knowledge,
    as_of: date | None = None,
    progress: Callable[[int, int], None] | None = None,
    jobs: int = 1,
) -> Estate:
    """Read what was gathered; other parameters and errors as for `read`.

    jobs: processes to share the exports among, where the system can fork
    """
    devices: list[Device] = []
    taken: set[str] = set()
    work = partial(_read_or_failure if jobs < 2 else _read_and_packed, found, known)
    for number, mine in enumerate(share(work, range(len(found.jobs)), jobs), 1):
        made = unpacked(mine) if isinstance(mine, bytes) else mine
        if isinstance(made, Failure):
            found.failures.append(made)
        else:
            for device in made:
                name = unique(device.name, taken)
                taken.add(name)
                devices.append(device if name == device.name else replace(device, name=name))
        if progress is not None:
            progress(number, len(found.jobs))
    notes = [note for device in devices for note in notes_on(device, known.locations)]
    estate = estate_of(found, tuple(devices), notes, known.locations, as_of)
    check_sides(known.sides, outlines(estate) if known.sides else ())
    return estate


class Knowledge(Struct, frozen=True):
    """What is known beside the exports, of all devices.

    sides: by interface, the side it faces
    administrators: addresses that administrators come from
    """

    sides: dict[str, Side]
    administrators: tuple[Addresses, ...]
    locations: Locations


def gather(
    paths: str | Path | Iterable[str | Path],
    *,
    format: str | None = None,
    dialects: str | Path | Iterable[str | Path] = (),
    piped: bytes | None = None,
) -> Gathered:
    """What there is to read, before any of it is; parameters and errors as for `read`."""
    known = formats([load_dialect(path) for path in _each(dialects)])
    wanted = named(format, known) if format is not None else None
    found = Gathered([], [], [], known, piped=piped, dialects=tuple(_each(dialects)))
    each = _each(paths)
    found.light = len(each) > MANY
    for path in each:
        look(path, wanted, found)
    found.jobs = list(joined(found.jobs))
    found.jobs = list(with_printed(found))
    return found


def read_locations_of(
    found: Gathered, geo: str | Path | Iterable[str | Path] = (), *, cache: bool = False
) -> Locations:
    """What is known of where addresses are: the engagement's files, and others that win over them."""
    paths = [*found.geo, *_each(geo)]
    if not paths:
        return Locations()
    from aiguille.readers.locations import read_locations

    return read_locations(paths, cache=cache)


def _read_or_failure(found: Gathered, known: Knowledge, number: int) -> list[Device] | Failure:
    job = found.jobs[number]
    try:
        return read_job(job, known)
    except UnreadableError as error:
        return failure_of(job, error)


def _read_and_packed(found: Gathered, known: Knowledge, number: int) -> bytes | Failure:
    made = _read_or_failure(found, known, number)
    return made if isinstance(made, Failure) else packed(made)


def packed(devices: list[Device]) -> bytes:
    """Devices in a form that takes little room. It is read again by `unpacked` in one run and never kept: it can hold code."""
    return zlib.compress(pickle.dumps(devices, pickle.HIGHEST_PROTOCOL), 1)


def unpacked(data: bytes) -> list[Device]:
    """Devices out of what `packed` made in the same run."""
    out: list[Device] = pickle.loads(zlib.decompress(data))
    return out


def failure_of(job: Job, error: UnreadableError) -> Failure:
    """A job that could not be read, with what of it goes unaudited for that."""
    return Failure(job.files[0].path, f"{error}{_others(job)}")


def check_sides(sides: Mapping[str, Side], devices: Sequence[Outline]) -> None:
    """Raises UsageError, with the nearest names, for a side stated of an interface that no device has."""
    names = {name for device in devices for name in device.interfaces}
    for name in sides:
        if name not in names and devices and all(device.lists_interfaces for device in devices):
            near = difflib.get_close_matches(name, names, n=2)
            hint = (
                f"; did you mean {' or '.join(near)}?"
                if near
                else f"; there are {', '.join(sorted(names)[:8]) or 'none'}"
            )
            raise UsageError(f"--side {name}: no device has such an interface{hint}")


def notes_on(device: Device, locations: Locations) -> list[str]:
    """What a user should know of a device, each note with its name before it."""
    notes = []
    guesses = [f"{z.name} is {z.side.value} ({z.guessed})" for z in device.zones if z.guessed and z.side is not None]
    if guesses:
        notes.append(
            f"{device.name}: assumed: {'; '.join(guesses)}. State it with --side IFACE=SIDE or in engagement.toml"
        )
    notes += oddities(device)
    if filters := [one for one in device.geo_filters if one.enabled]:
        notes += _countries_note(device, filters[0], locations)
    return notes


def day_of(found: Gathered, as_of: date | None = None) -> date:
    """The day ages are counted from."""
    return as_of or found.as_of or date.today()  # noqa: DTZ011 - the auditor's own calendar day is meant


def estate_of(
    found: Gathered, devices: Sequence[Device], notes: Iterable[str], locations: Locations, as_of: date | None = None
) -> Estate:
    """The estate that devices make with what was gathered.

    notes: on the devices
    """
    day = day_of(found, as_of)
    old = [
        f"{source}: this location data is {(day - made).days} days old, and addresses move between countries; get it anew"
        for source in locations.sources
        if (made := _made(source)) is not None and (day - made).days > _OLD_DATA
    ]
    return Estate(
        devices=devices,
        as_of=day,
        title=found.title,
        failures=tuple(Failure(printable(one.path), _masked(printable(one.message))) for one in found.failures),
        notes=tuple(map(printable, (*found.notes, *notes, *old))),
        locations=locations,
        baseline=found.baseline,
        accepted=found.accepted,
        answers=found.answers,
        claims=found.claims,
        about=found.about,
        fail_on=found.fail_on,
    )


def _masked(message: str) -> str:
    """A message without what looks like a secret; the place it begins with stays, which may be ``etc/passwd:1``."""
    place, colon, what = message.partition(": ")
    return f"{place}{colon}{mask_secrets(what)}" if colon else mask_secrets(message)


def _others(job: Job) -> str:
    """What is said of the other files of a device that could not be read, so that nobody takes them for audited."""
    others = len(job.files) - 1
    if not others:
        return ""
    folders = [Path(file.path).parent for file in job.files]
    # Some may be given by a whole path and some by a relative one.
    shared = next(
        (one for one in (folders[0], *folders[0].parents) if all(one == f or one in f.parents for f in folders)), None
    )
    what = f"{others} other file of this device is" if others == 1 else f"{others} other files of this device are"
    return f". {what} not audited either{f', below {shared}' if shared is not None else ''}"


_OLD_DATA = 365
"""Days after which location data is called old."""


def _made(source: str) -> date | None:
    """The day location data is of, as its source is told: the serial of registry statistics, or the epoch of an MMDB file."""
    number = source.rpartition(", ")[2]
    if not number.isdecimal() or not number.isascii():
        return None
    try:
        if len(number) == 8:
            return date(int(number[:4]), int(number[4:6]), int(number[6:]))
        return datetime.fromtimestamp(int(number), UTC).date() if len(number) in (9, 10) else None
    except ValueError:
        return None


def _each(paths: str | Path | Iterable[str | Path]) -> list[Path]:
    return [Path(paths)] if isinstance(paths, str | Path) else [Path(path) for path in paths]


def _countries_note(device: Device, first: GeoFilter, locations: Locations) -> list[str]:
    """What a user should know of a device's filters by country."""
    words = [word for one in device.geo_filters for word in one.countries if country_code(word) is None]
    out = (
        [f"{device.name}: '{words[0]}' ({first.where}) is no country of ISO 3166; its filter is taken as uncertain"]
        if words
        else []
    )
    if not locations:
        out.append(
            f"{device.name}: filters by country ({first.where}) are read and shown, not computed, for want of location data; "
            "verdicts are as if they let everything through"
        )
    return out


def read_job(job: Job, known: Knowledge) -> list[Device]:
    """The devices of one export, with what is known beside it; raises UnreadableError."""
    files = tuple(map(loaded, job.files))
    try:
        with unexpected_told(job.files[0].path, job.format.name):
            found = [
                as_written(replace(one, recognised=job.why, name=printable(one.name or job.files[0].path)))
                for one in job.format.read(files, job.name)
            ]
    except UnreadableError:
        raise
    except AiguilleError as error:
        raise UnreadableError(str(error)) from error
    if job.entry is not None and job.entry.name and len(found) > 1:
        names = ", ".join(f"'{device.name}'" for device in found)
        raise UnreadableError(
            f"{job.entry.export}: describes {len(found)} devices ({names}), which cannot all be called '{job.entry.name}'; "
            "leave the name out"
        )
    out = []
    for device in found:
        if job.entry is not None:
            device = engagement.apply(job.entry, device)
        if known.sides:
            device = engagement.state_sides(device, known.sides)
        if known.administrators:
            whole = dict.fromkeys((*device.administrators, *known.administrators))
            device = replace(device, administrators=tuple(whole))
        out.append(located(guess_sides(without_noted_secrets(with_annotations(device))), known.locations))
    return out


def unique(name: str, taken: Collection[str]) -> str:
    """A name no other device has."""
    out, number = name, 2
    while out in taken:
        out = f"{name} ({number})"
        number += 1
    return out

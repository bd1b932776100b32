"""From paths to an estate: exports found, read, and joined with what the auditor knows."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import UTC, date, datetime
from pathlib import Path

from msgspec.structs import replace

from aiguille.analysis.countries import located
from aiguille.analysis.oddities import oddities
from aiguille.analysis.sides import guess_sides, interface_names
from aiguille.analysis.written import as_written
from aiguille.estate import engagement
from aiguille.estate.finding import Gathered, Job, joined, look, unexpected_told, with_printed
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
    known = formats([load_dialect(path) for path in _each(dialects)])
    wanted = named(format, known) if format is not None else None
    found = Gathered([], [], [], known, piped=piped)
    for path in _each(paths):
        look(path, wanted, found)
    found.jobs = list(joined(found.jobs))
    found.jobs = list(with_printed(found))
    locations = _locations([*found.geo, *_each(geo)], cache=cache)
    devices: list[Device] = []
    for number, job in enumerate(found.jobs, 1):
        try:
            for device in _devices(job, sides or {}, tuple(administrators)):
                devices.append(located(_unique(device, {d.name for d in devices}), locations))
        except UnreadableError as error:
            found.failures.append(Failure(job.files[0].path, f"{error}{_others(job)}"))
        if progress is not None:
            progress(number, len(found.jobs))
    names = {name for device in devices for name in interface_names(device)}
    for name in sides or {}:
        if name not in names and devices and all(device.interfaces for device in devices):
            near = difflib.get_close_matches(name, names, n=2)
            hint = (
                f"; did you mean {' or '.join(near)}?"
                if near
                else f"; there are {', '.join(sorted(names)[:8]) or 'none'}"
            )
            raise UsageError(f"--side {name}: no device has such an interface{hint}")
    for device in devices:
        guesses = [
            f"{z.name} is {z.side.value} ({z.guessed})" for z in device.zones if z.guessed and z.side is not None
        ]
        if guesses:
            found.notes.append(
                f"{device.name}: assumed: {'; '.join(guesses)}. State it with --side IFACE=SIDE or in engagement.toml"
            )
        found.notes += oddities(device)
        if filters := [one for one in device.geo_filters if one.enabled]:
            found.notes += _countries_note(device, filters[0], locations)
    day = as_of or found.as_of or date.today()  # noqa: DTZ011 - the auditor's own calendar day is meant
    found.notes += [
        f"{source}: this location data is {(day - made).days} days old, and addresses move between countries; get it anew"
        for source in locations.sources
        if (made := _made(source)) is not None and (day - made).days > _OLD_DATA
    ]
    return Estate(
        devices=tuple(devices),
        as_of=day,
        title=found.title,
        failures=tuple(Failure(printable(one.path), _masked(printable(one.message))) for one in found.failures),
        notes=tuple(map(printable, found.notes)),
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


def _locations(paths: Sequence[Path], *, cache: bool) -> Locations:
    """What is known of where addresses are."""
    if not paths:
        return Locations()
    from aiguille.readers.locations import read_locations

    return read_locations(paths, cache=cache)


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


def _devices(job: Job, sides: Mapping[str, Side], administrators: tuple[Addresses, ...]) -> list[Device]:
    try:
        with unexpected_told(job.files[0].path, job.format.name):
            found = [
                as_written(replace(one, recognised=job.why, name=printable(one.name or job.files[0].path)))
                for one in job.format.read(job.files, job.name)
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
        if sides:
            device = engagement.state_sides(device, sides)
        if administrators:
            device = replace(device, administrators=tuple(dict.fromkeys((*device.administrators, *administrators))))
        out.append(guess_sides(without_noted_secrets(with_annotations(device))))
    return out


def _unique(device: Device, taken: set[str]) -> Device:
    """The device under a name no other has."""
    name, number = device.name, 2
    while name in taken:
        name = f"{device.name} ({number})"
        number += 1
    return device if name == device.name else replace(device, name=name)

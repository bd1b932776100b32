"""From paths to an estate: exports found, recognised, read, and joined with what the auditor knows."""

from __future__ import annotations

import difflib
import os
import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import UTC, date, datetime
from pathlib import Path

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.analysis.countries import located
from aiguille.analysis.sides import guess_sides, interface_names
from aiguille.estate import engagement
from aiguille.model import (
    About,
    Addresses,
    AiguilleError,
    Device,
    EmptyFileError,
    Estate,
    Failure,
    GeoFilter,
    Locations,
    NotRecognisedError,
    Side,
    UnreadableError,
    UsageError,
)
from aiguille.model.countries import country_code
from aiguille.readers import (
    HOST,
    ExportFile,
    Format,
    Formats,
    begins_packed,
    decode,
    formats,
    is_wanted,
    layout,
    load,
    load_dialect,
    named,
    recognise,
    recognise_places,
)
from aiguille.readers.comments import without_noted_secrets

RAISE_FAULTS = "AIGUILLE_RAISE_FAULTS"
"""Environment variable with which faults of the program itself are raised where they occur, for its tests."""

FILE_LIMIT = 10_000
"""A folder with more files is not an export but a whole disk."""


_Key = tuple[str, str, str]
"""What files of one device have in common: their folder, the stem of their names, their format."""

DUMPS = "iptables-save"
"""The format whose rules look into sets that stand in files of their own."""

_Member = tuple[ExportFile, Format, str]
"""A file, the format it is in, and why it is taken for that."""


class _Job(Struct, frozen=True):
    """The files of one device, their format and the name it shall have (empty: the export's own)."""

    name: str
    files: tuple[ExportFile, ...]
    format: Format
    why: str
    entry: engagement.Entry | None = None


class _Found(Struct):
    """What is collected while paths are looked at."""

    jobs: list[_Job]
    failures: list[Failure]
    notes: list[str]
    formats: Formats = field(default_factory=Formats)
    title: str = ""
    as_of: date | None = None
    baseline: str = ""
    accepted: str = ""
    answers: str = ""
    claims: str = ""
    about: About = field(default_factory=About)
    fail_on: str = ""
    geo: tuple[Path, ...] = ()


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
) -> Estate:
    """Read exports, folders of exports and engagement files into an estate.

    paths, dialects, geo: one path, or several
    format: take every file for this format instead of recognising it
    dialects: dialect files to know beside those that come with the package
    as_of: the day ages are counted from; default: the engagement's, else today
    geo: location data beside the engagement's: registry statistics or MMDB files, later ones winning
    sides: by interface, the side it faces, on every device that has it; counts above what exports and engagements say
    administrators: addresses that administrators come from, beside those of the engagement
    progress: told how many exports of how many are read

    What cannot be read becomes a `Failure` of the estate and does not stop the rest. Raises UsageError for a faulty
    engagement or dialect file or an unknown format.
    """
    known = formats([load_dialect(path) for path in _each(dialects)])
    wanted = named(format, known) if format is not None else None
    found = _Found([], [], [], known)
    for path in _each(paths):
        _look(path, wanted, found)
    found.jobs = list(_joined(found.jobs))
    locations = _locations([*found.geo, *_each(geo)])
    devices: list[Device] = []
    for number, job in enumerate(found.jobs, 1):
        try:
            for device in _devices(job, sides or {}, tuple(administrators)):
                devices.append(located(_unique(device, {d.name for d in devices}), locations))
        except UnreadableError as error:
            found.failures.append(Failure(job.files[0].path, str(error)))
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
        failures=tuple(found.failures),
        notes=tuple(found.notes),
        locations=locations,
        baseline=found.baseline,
        accepted=found.accepted,
        answers=found.answers,
        claims=found.claims,
        about=found.about,
        fail_on=found.fail_on,
    )


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


def _locations(paths: Sequence[Path]) -> Locations:
    """What is known of where addresses are."""
    if not paths:
        return Locations()
    from aiguille.readers.locations import read_locations

    return read_locations(paths)


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


def _look(path: Path, wanted: Format | None, found: _Found) -> None:
    if path.is_dir() and (path / engagement.FILE_NAME).is_file():
        _engagement(path / engagement.FILE_NAME, found, within=path)
        return
    if path.suffix == ".toml" and path.is_file():
        _engagement(path, found)
        return
    try:
        found.jobs += _jobs(path, wanted, found)
    except UnreadableError as error:
        found.failures.append(Failure(str(path), str(error)))


def _engagement(path: Path, found: _Found, within: Path | None = None) -> None:
    """Take in an engagement file. within: the folder it was found in, where nobody named the file itself; it may have come with
    the exports, so it leads to nothing outside and makes no failure a success."""
    loaded = engagement.load(path)
    if within is not None:
        loaded = _limited(loaded, path, within, found)
    found.title = found.title or loaded.title
    found.as_of = found.as_of or loaded.as_of
    found.baseline = found.baseline or loaded.baseline
    found.accepted = found.accepted or loaded.accepted
    if (beside := path.with_name(engagement.ANSWERS)).is_file():
        found.answers = found.answers or str(beside)
    if (beside := path.with_name(engagement.CLAIMS)).is_file():
        found.claims = found.claims or str(beside)
    found.about = loaded.about if found.about == About() else found.about
    found.fail_on = found.fail_on or loaded.fail_on
    found.geo += loaded.geo
    found.formats = found.formats.with_first([load_dialect(dialect) for dialect in loaded.dialects])
    for entry in loaded.devices:
        try:
            wanted = named(entry.format, found.formats) if entry.format is not None else None
        except UsageError as error:
            raise UsageError(f"{path}: device '{entry.name or entry.export}': {error.message}") from error
        try:
            jobs = list(_jobs(Path(entry.export), wanted, found))
            _refuse_several(entry, jobs)
            found.jobs += [replace(job, name=entry.name or job.name, entry=entry) for job in jobs]
        except UnreadableError as error:
            found.failures.append(Failure(entry.export, str(error)))


def _joined(jobs: Sequence[_Job]) -> Iterator[_Job]:
    """The jobs, files of one device that were given one by one as one: ``gw.v4 gw.v6``, as they would be from a folder."""
    whole: dict[tuple[str, str, str], int] = {}
    out: list[_Job] = []
    for job in jobs:
        key = (job.name, job.format.name, str(Path(job.files[0].path).parent))
        at = whole.get(key) if job.format.grouped and job.entry is None else None
        if at is not None and not {f.path for f in job.files} & {f.path for f in out[at].files}:
            out[at] = replace(out[at], files=(*out[at].files, *job.files))
            continue
        whole.setdefault(key, len(out))
        out.append(job)
    yield from out


_LAX = ("critical", "never")
"""Severities of `fail_on` that let high findings end a command as if nothing were wrong."""


def _limited(loaded: engagement.Engagement, path: Path, folder: Path, found: _Found) -> engagement.Engagement:
    """An engagement file that was found in a folder, without what only a file named on the command line may do."""
    inside = os.path.realpath(folder)

    def is_within(name: str | Path) -> bool:
        return Path(os.path.realpath(name)).is_relative_to(inside)

    if loaded.fail_on in _LAX:
        found.notes.append(
            f'{path}: fail_on = "{loaded.fail_on}" is not obeyed, as the file was found and not named; name it, or use --fail-on'
        )
        loaded = replace(loaded, fail_on="")
    reason = f"{path} was found in the folder and names a place outside it; name the file itself if that is meant"
    for entry in loaded.devices:
        if not is_within(entry.export):
            found.failures.append(Failure(entry.export, f"{entry.export}: {reason}"))
    beside = (loaded.baseline if loaded.baseline.endswith((".yaml", ".yml")) else "", loaded.accepted)
    named: list[str | Path] = [*filter(None, beside), *loaded.dialects, *loaded.geo]
    for name in named:
        if not is_within(name):
            raise UsageError(f"{name}: {reason}")
    return replace(loaded, devices=tuple(entry for entry in loaded.devices if is_within(entry.export)))


def _refuse_several(entry: engagement.Entry, jobs: list[_Job]) -> None:
    """One name cannot stand for several devices."""
    if len(jobs) > 1 and entry.name:
        names = ", ".join(job.files[0].path for job in jobs)
        raise UnreadableError(f"{entry.export}: holds the exports of several devices ({names}); list them one by one")


def _jobs(path: Path, wanted: Format | None, found: _Found) -> Iterator[_Job]:
    """The devices a path holds: bundles of hosts, and exports. Files that one format joins go together by name."""
    if _is_archive(path):
        given = _archived(path, found)
    elif path.is_dir():
        given = _files(path, found)
    else:
        yield _single(load(path), wanted, found.formats)
        return
    hosts = layout([one.name for one in given]) if wanted is None or wanted.name == HOST else {}
    taken: set[str] = set()
    for root, places in sorted(hosts.items()):
        if (job := _bundle(path, root, places, given, found)) is not None:
            taken |= set(places)
            yield job
    groups: dict[_Key, list[_Member]] = {}
    for one in given:
        if one.name in taken:
            continue
        try:
            file = one.load()
            form, why = (wanted, "named by --format") if wanted else recognise(file, found.formats)
        except NotRecognisedError:
            found.notes.append(f"{one.shown}: not an export that is recognised; left out")
            continue
        except UnreadableError as error:
            found.failures.append(Failure(one.shown, str(error)))
            continue
        shown = Path(one.shown)
        stem = _stem(shown) if form.grouped else shown.name
        groups.setdefault((str(shown.parent), stem, form.name), []).append((file, form, why))
    if not groups and not taken:
        kind = "folder" if path.is_dir() else "archive"
        raise UnreadableError(f"{path}: no export was recognised in this {kind} ({len(given)} files looked at)")
    for (parent, stem, _), group in _with_sets(groups).items():
        _, form, why = group[0]
        name = (stem or Path(parent).resolve().name) if form.grouped else ""
        yield _Job(name, tuple(member[0] for member in group), form, why)


def _with_sets(groups: dict[_Key, list[_Member]]) -> dict[_Key, list[_Member]]:
    """The groups, a file of sets whose name fits no dump put to the one dump of its folder."""
    dumps = [key for key in groups if key[2] == DUMPS]
    if len(dumps) < 2:
        return groups
    from aiguille.readers.iptables import is_sets

    lone = [key for key in dumps if all(is_sets(file) for file, _, _ in groups[key])]
    out = {key: list(group) for key, group in groups.items() if key not in lone}
    for key in lone:
        beside = [other for other in out if (other[0], other[2]) == (key[0], key[2])]
        if len(beside) == 1:
            out[beside[0]] += groups[key]
        else:
            out[key] = groups[key]
    return out


def _bundle(path: Path, root: str, places: dict[str, str], given: list[_Given], found: _Found) -> _Job | None:
    """The host whose files lie below a root, None if nothing there tells of a firewall."""
    why = recognise_places(list(places.values()))
    by_name = {one.name: one for one in given}
    if why is None:
        return None
    files = []
    left = 0
    for name, place in sorted(places.items()):
        if not is_wanted(place):
            left += 1
            continue
        try:
            file = by_name[name].load()
        except EmptyFileError:
            continue
        except UnreadableError as error:
            found.failures.append(Failure(by_name[name].shown, str(error)))
            continue
        files.append(replace(file, place=place))
    if not files:
        return None
    if left:
        found.notes.append(
            f"{path / root}: {left} files of the copy are of no use to an audit of the firewall; left out"
        )
    base = Path(root).name or (path.resolve().name if path.is_dir() else re.sub(r"(\.tar)?\.\w+$", "", path.name))
    return _Job(base, tuple(files), named(HOST, found.formats), why)


class _Given(Struct, frozen=True):
    """A file of a folder or archive: its name there, the path shown, and its bytes if they are at hand."""

    name: str
    shown: str
    data: bytes | None = None

    def load(self) -> ExportFile:
        return load(Path(self.shown)) if self.data is None else decode(self.shown, self.data)


def _is_archive(path: Path) -> bool:
    if not begins_packed(path):
        return False
    from aiguille.readers.archives import is_archive

    return is_archive(path)


def _archived(path: Path, found: _Found) -> list[_Given]:
    from aiguille.readers.archives import members

    out = []
    for one in members(path):
        if one.data is None:
            found.notes.append(f"{path}/{one.name}: {one.why}; left out")
        else:
            out.append(_Given(one.name, f"{path}/{one.name}", one.data))
    return out


def _single(file: ExportFile, wanted: Format | None, known: Formats) -> _Job:
    one, why = (wanted, "named by --format") if wanted else recognise(file, known)
    path = Path(file.path)
    return _Job((_stem(path) or path.parent.name or path.name) if one.grouped else "", (file,), one, why)


def _files(folder: Path, found: _Found) -> list[_Given]:
    """Regular files below a folder, sorted; hidden ones are left alone, links that lead out of it are told of."""
    inside = os.path.realpath(folder)
    out: list[_Given] = []
    for path in sorted(_below(folder, found)):
        try:
            real, regular = os.path.realpath(path), path.is_file()
        except OSError as error:
            _refused(path, error, found)
            continue
        if not Path(real).is_relative_to(inside):
            if path.is_symlink():
                found.notes.append(f"{path}: is a link that leads out of the folder; not followed")
        elif regular:
            if len(out) >= FILE_LIMIT:
                raise UnreadableError(f"{folder}: holds more than {FILE_LIMIT} files; name the exports themselves")
            out.append(_Given(path.relative_to(folder).as_posix(), str(path)))
        elif path.is_symlink() and not path.exists():
            found.notes.append(f"{path}: is a link that leads nowhere")
    return out


def _below(folder: Path, found: _Found) -> Iterator[Path]:
    """What a folder holds at any depth, hidden things left alone and links to folders not followed."""
    for where, folders, names in os.walk(folder, onerror=lambda error: _refused(error.filename, error, found)):
        folders[:] = [name for name in folders if not name.startswith(".")]
        yield from (Path(where, name) for name in (*folders, *names) if not name.startswith("."))


def _refused(path: str | Path, error: OSError, found: _Found) -> None:
    found.failures.append(Failure(str(path), f"{path}: cannot be read ({error.strerror}); check its permissions"))


def _stem(path: Path) -> str:
    """A file's name without what tells the address families of one host apart; empty if nothing else is left."""
    name = re.sub(r"\.(txt|rules|dump|save|conf|out|log)$", "", path.name)
    name = re.sub(r"(?i)(^|[._-])(ip6?tables(-save)?|ipsets?|rules|ip)?[._-]?(v4|v6|ipv4|ipv6|4|6)$", "", name)
    return re.sub(r"(?i)[._-]?(ip6?tables(-save)?|ipsets?|rules)$", "", name).strip("._-")


def _devices(job: _Job, sides: Mapping[str, Side], administrators: tuple[Addresses, ...]) -> list[Device]:
    try:
        found = job.format.read(job.files, job.name)
    except AiguilleError as error:
        if isinstance(error, UnreadableError):
            raise
        raise UnreadableError(str(error)) from error
    except (Exception, RecursionError) as error:
        # A fault of ours must not end the others' audit, nor go unnoticed.
        if os.environ.get(RAISE_FAULTS):
            raise
        raise UnreadableError(
            f"{job.files[0].path}: the reader of {job.format.name} failed ({type(error).__name__}: {str(error)[:200]}); "
            "please report this with the file"
        ) from error
    if job.entry is not None and job.entry.name and len(found) > 1:
        names = ", ".join(f"'{device.name}'" for device in found)
        raise UnreadableError(
            f"{job.entry.export}: describes {len(found)} devices ({names}), which cannot all be called '{job.entry.name}'; "
            "leave the name out"
        )
    out = []
    for device in found:
        device = replace(device, recognised=job.why, name=device.name or job.files[0].path)
        if job.entry is not None:
            device = engagement.apply(job.entry, device)
        if sides:
            device = engagement.state_sides(device, sides)
        if administrators:
            device = replace(device, administrators=tuple(dict.fromkeys((*device.administrators, *administrators))))
        out.append(guess_sides(without_noted_secrets(device)))
    return out


def _unique(device: Device, taken: set[str]) -> Device:
    """The device under a name no other has."""
    name, number = device.name, 2
    while name in taken:
        name = f"{device.name} ({number})"
        number += 1
    return device if name == device.name else replace(device, name=name)


__all__ = ["read"]

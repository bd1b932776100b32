"""From paths to jobs: files found, recognised, and those of one device put together."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import date
from pathlib import Path

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.estate import engagement
from aiguille.model import (
    About,
    AiguilleError,
    EmptyFileError,
    Failure,
    NotRecognisedError,
    UnreadableError,
    UsageError,
)
from aiguille.readers import (
    HOST,
    PACKED,
    ExportFile,
    Format,
    Formats,
    begins_packed,
    decode,
    is_wanted,
    layout,
    left_behind,
    load,
    load_dialect,
    loaded,
    named,
    place_of_zone,
    recognise,
    recognise_places,
)

FILE_LIMIT = 100_000
"""A folder with more files is not an export but a whole disk."""


MANY = 200
"""Exports up to which all are held in memory at once."""


_Key = tuple[str, str, str]
"""What files of one device have in common: their folder, the stem of their names, their format."""


DUMPS = "iptables-save"
"""The format whose rules look into sets that stand in files of their own."""


_Member = tuple[ExportFile, Format, str]
"""A file, the format it is in, and why it is taken for that."""


class Job(Struct, frozen=True):
    """The files of one device, their format and the name it shall have (empty: the export's own)."""

    name: str
    files: tuple[ExportFile, ...]
    format: Format
    why: str
    entry: engagement.DeviceEntry | None = None


class Gathered(Struct):
    """What is collected while paths are looked at."""

    jobs: list[Job]
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
    piped: bytes | None = None
    light: bool = False
    """Whether files are left behind until it is their turn, since there are many."""
    dialects: tuple[Path, ...] = ()
    printed: list[tuple[ExportFile, bool]] = field(default_factory=list)
    """What commands of a host print of it beside its rules, and whether it was given by name; see `with_printed`."""


PIPED, SHOWN = "-", "standard input"
"""The path that stands for what comes from another command, and what it is called."""


def look(path: Path, wanted: Format | None, found: Gathered) -> None:
    found.light = found.light or len(found.jobs) > MANY
    if path.is_dir() and (path / engagement.FILE_NAME).is_file():
        _engagement(path / engagement.FILE_NAME, found, within=path)
        return
    if path.suffix == ".toml" and path.is_file():
        _engagement(path, found)
        return
    try:
        with unexpected_told(str(path)):
            if str(path) == PIPED and found.piped is not None:
                found.jobs.append(_single(_given_by_pipe(found.piped), wanted, found.formats))
            else:
                found.jobs += _jobs(path, wanted, found)
    except UnreadableError as error:
        if isinstance(error, NotRecognisedError) and path.is_file() and _is_printed(file := load(path)):
            found.printed.append((file, True))
            return
        found.failures.append(Failure(str(path), str(error)))


def _given_by_pipe(data: bytes) -> ExportFile:
    """One export that came from another command; raises UnreadableError for an archive, which has to be a file."""
    if data.startswith(PACKED):
        raise UnreadableError(f"{SHOWN}: an archive cannot be read from there; write it to a file and name that")
    return decode(SHOWN, data)


RAISE_FAULTS = "AIGUILLE_RAISE_FAULTS"
"""Environment variable with which faults of the program itself are raised where they occur, for its tests."""


@contextmanager
def unexpected_told(path: str, of: str = "") -> Iterator[None]:
    """Makes a fault of ours an UnreadableError of one export, so that it neither ends the others' audit nor goes unnoticed.

    of: the format whose reader was at work, where it is known
    """
    try:
        yield
    except AiguilleError:
        raise
    except (Exception, RecursionError) as error:
        if os.environ.get(RAISE_FAULTS):
            raise
        fault = f"the reader{f' of {of}' if of else ''} failed ({type(error).__name__}: {str(error)[:200]})"
        raise UnreadableError(f"{path}: {fault}; please report this with the file") from error


def _engagement(path: Path, found: Gathered, within: Path | None = None) -> None:
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
    found.dialects = (*loaded.dialects, *found.dialects)
    found.light = found.light or len(loaded.devices) > MANY
    for entry in loaded.devices:
        try:
            wanted = named(entry.format, found.formats) if entry.format is not None else None
        except UsageError as error:
            raise UsageError(f"{path}: device '{entry.name or entry.export}': {error.message}") from error
        try:
            with unexpected_told(entry.export):
                jobs = list(_jobs(Path(entry.export), wanted, found))
            _refuse_several(entry, jobs)
            found.jobs += [replace(job, name=entry.name or job.name, entry=entry) for job in jobs]
        except UnreadableError as error:
            found.failures.append(Failure(entry.export, str(error)))


def joined(jobs: Sequence[Job]) -> Iterator[Job]:
    """The jobs, files of one device that were given one by one as one: ``gw.v4 gw.v6``, as they would be from a folder."""
    whole: dict[tuple[str, str, str], int] = {}
    out: list[Job] = []
    for job in jobs:
        key = (job.name, job.format.name, str(Path(job.files[0].path).parent))
        at = whole.get(key) if job.format.grouped and job.entry is None else None
        if at is not None and not {f.path for f in job.files} & {f.path for f in out[at].files}:
            out[at] = replace(out[at], files=(*out[at].files, *job.files))
            continue
        whole.setdefault(key, len(out))
        out.append(job)
    yield from out


def _is_printed(file: ExportFile) -> bool:
    from aiguille.readers.host import describes

    return describes(file)


def with_printed(found: Gathered) -> Iterator[Job]:
    """The jobs, with what a host's commands printed beside its rules put to the one in whose folder it lies: whose name its own begins
    with, or the only one there. What was given by name also goes to the only one given, wherever that lies.

    What may belong to several is noted; what belongs to none is a failure: another host's sockets would hide what answers.
    """
    linux = [job for job in found.jobs if job.format.name in (HOST, DUMPS, "nftables")]
    added: dict[int, list[ExportFile]] = {}
    for file, given in found.printed:
        path = Path(file.path)
        beside = [job for job in linux if Path(job.files[0].path).parent == path.parent] or (linux if given else [])
        called = [job for job in beside if job.name and re.match(rf"{re.escape(job.name)}(?:[\W_]|$)", path.name)]
        beside = [max(called, key=lambda job: len(job.name))] if called else beside
        if len(beside) == 1:
            added.setdefault(id(beside[0]), []).append(file)
        elif beside:
            found.notes.append(
                f"{file.path}: is what a host's commands print, and may belong to several of these hosts; left out. "
                "Put it into a folder with the rules of its host"
            )
        else:
            said = f"{file.path}: is what a host's commands print of it, without rules; give it with the rules of that host"
            found.failures.append(Failure(file.path, said))
    for job in found.jobs:
        more = added.get(id(job), [])
        if not more:
            yield job
            continue
        files = tuple(replace(one, place=one.place or Path(one.path).name) for one in (*job.files, *more))
        yield replace(job, files=files, format=named(HOST, found.formats))


_LAX = ("critical", "never")
"""Severities of `fail_on` that let high findings end a command as if nothing were wrong."""


def _limited(loaded: engagement.Engagement, path: Path, folder: Path, found: Gathered) -> engagement.Engagement:
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


def _refuse_several(entry: engagement.DeviceEntry, jobs: list[Job]) -> None:
    """One name cannot stand for several devices."""
    if len(jobs) > 1 and entry.name:
        names = ", ".join(job.files[0].path for job in jobs)
        raise UnreadableError(f"{entry.export}: holds the exports of several devices ({names}); list them one by one")


def _jobs(path: Path, wanted: Format | None, found: Gathered) -> Iterator[Job]:
    """The devices a path holds: bundles of hosts, and exports. Files that one format joins go together by name."""
    if _is_archive(path):
        given = _archived(path, found)
    elif path.is_dir():
        given = _files(path, found)
    else:
        yield _kept(_single(load(path), wanted, found.formats), found)
        return
    found.light = found.light or len(given) > MANY
    hosts = layout([one.name for one in given]) if wanted is None or wanted.name == HOST else {}
    taken: set[str] = set()
    for root, places in sorted(hosts.items()):
        if (job := _bundle(path, root, places, given, found)) is not None:
            taken |= set(places)
            yield _kept(job, found)
    groups: dict[_Key, list[_Member]] = {}
    zones: dict[str, list[ExportFile]] = {}
    for one in given:
        if one.name in taken:
            continue
        try:
            with unexpected_told(one.shown):
                file = one.load()
                form, why = _format(file, wanted, found.formats)
        except NotRecognisedError:
            if _is_printed(file):
                found.printed.append((file, False))
                continue
            found.notes.append(f"{one.shown}: not an export that is recognised; left out")
            continue
        except UnreadableError as error:
            found.failures.append(Failure(one.shown, str(error)))
            continue
        if place := place_of_zone(file) if form.name == HOST else "":
            zones.setdefault(str(Path(one.shown).parent), []).append(replace(file, place=place))
            continue
        shown = Path(one.shown)
        stem = _stem(shown) if form.grouped else shown.name
        kept = left_behind(file) if found.light else file
        groups.setdefault((str(shown.parent), stem, form.name), []).append((kept, form, why))
    for folder, held in zones.items():
        yield _zones_alone(Path(folder), held, found.formats)
    if not groups and not taken and not zones:
        kind = "folder" if path.is_dir() else "archive"
        raise UnreadableError(f"{path}: no export was recognised in this {kind} ({len(given)} files looked at)")
    for (parent, stem, _), group in _with_sets(groups).items():
        _, form, why = group[0]
        name = (stem or Path(parent).resolve().name) if form.grouped else ""
        yield Job(name, tuple(member[0] for member in group), form, why)


def _kept(job: Job, found: Gathered) -> Job:
    """A job as it waits for its turn."""
    return replace(job, files=tuple(map(left_behind, job.files))) if found.light else job


def _zones_alone(folder: Path, files: list[ExportFile], known: Formats) -> Job:
    """The zones of firewalld that somebody sent without the rest of its folder."""
    return Job(folder.resolve().name, tuple(files), named(HOST, known), "it holds zones of firewalld")


def _with_sets(groups: dict[_Key, list[_Member]]) -> dict[_Key, list[_Member]]:
    """The groups, a file of sets whose name fits no dump put to the one dump of its folder."""
    dumps = [key for key in groups if key[2] == DUMPS]
    if len(dumps) < 2:
        return groups
    from aiguille.readers.iptables import is_sets

    lone = [key for key in dumps if all(is_sets(loaded(file)) for file, _, _ in groups[key])]
    out = {key: list(group) for key, group in groups.items() if key not in lone}
    for key in lone:
        beside = [other for other in out if (other[0], other[2]) == (key[0], key[2])]
        if len(beside) == 1:
            out[beside[0]] += groups[key]
        else:
            out[key] = groups[key]
    return out


def _bundle(path: Path, root: str, places: dict[str, str], given: list[_Given], found: Gathered) -> Job | None:
    """The host whose files lie below a root, None if nothing there shows a firewall."""
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
            with unexpected_told(by_name[name].shown):
                file = by_name[name].load()
        except EmptyFileError as error:
            if not place.startswith("etc/"):  # where a blank file says that nothing was changed
                found.notes.append(f"{error}, unless there was nothing to print; what it would say is not known")
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
    return Job(base, tuple(files), named(HOST, found.formats), why)


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


def _archived(path: Path, found: Gathered) -> list[_Given]:
    from aiguille.readers.archives import members

    out = []
    for one in members(path):
        if one.data is None:
            found.notes.append(f"{path}/{one.name}: {one.why}; left out")
        else:
            out.append(_Given(one.name, f"{path}/{one.name}", one.data))
    return out


def _single(file: ExportFile, wanted: Format | None, known: Formats) -> Job:
    one, why = _format(file, wanted, known)
    path = Path(file.path)
    if place := place_of_zone(file) if one.name == HOST else "":
        return Job(path.stem, (replace(file, place=place),), one, why)
    return Job((_stem(path) or path.parent.name or path.name) if one.grouped else "", (file,), one, why)


def _format(file: ExportFile, wanted: Format | None, known: Formats) -> tuple[Format, str]:
    return (wanted, "named by --format") if wanted else recognise(file, known)


def _files(folder: Path, found: Gathered) -> list[_Given]:
    """Regular files below a folder, sorted; hidden ones are left alone, links that lead out of it are reported."""
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


def _below(folder: Path, found: Gathered) -> Iterator[Path]:
    """What a folder holds at any depth, hidden things left alone and links to folders not followed."""
    for where, folders, names in os.walk(folder, onerror=lambda error: _refused(error.filename, error, found)):
        folders[:] = [name for name in folders if not name.startswith(".")]
        yield from (Path(where, name) for name in (*folders, *names) if not name.startswith("."))


def _refused(path: str | Path, error: OSError, found: Gathered) -> None:
    found.failures.append(Failure(str(path), f"{path}: cannot be read ({error.strerror}); check its permissions"))


def _stem(path: Path) -> str:
    """A file's name without what tells the address families of one host apart; empty if nothing else is left."""
    name = re.sub(r"\.(txt|rules|dump|save|conf|out|log)$", "", path.name)
    if re.fullmatch(r"(?i)(nft|(nft[._-]?)?(list[._-]?)?ruleset)", name):
        return ""
    name = re.sub(r"(?i)(^|[._-])(ip6?tables(-save)?|ipsets?|rules|ip)?[._-]?(v4|v6|ipv4|ipv6|4|6)$", "", name)
    return re.sub(r"(?i)[._-]?(ip6?tables(-save)?|ipsets?|rules)$", "", name).strip("._-")

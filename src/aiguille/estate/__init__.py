"""From paths to an estate: exports found, recognised, read, and joined with what the auditor knows."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from datetime import date
from pathlib import Path

from aiguille.analysis import guess_outside
from aiguille.estate import engagement
from aiguille.model import AiguilleError, Device, Estate, Failure, UnreadableError, UsageError
from aiguille.readers import ExportFile, Format, load, named, recognise

FILE_LIMIT = 10_000
"""A folder with more files is not an export but a whole disk."""


@dataclass(frozen=True, slots=True)
class _Job:
    """The files of one device, their format and the name it shall have (empty: the export's own)."""

    name: str
    files: tuple[ExportFile, ...]
    format: Format
    why: str
    entry: engagement.Entry | None = None


@dataclass(slots=True)
class _Found:
    """What is collected while paths are looked at."""

    jobs: list[_Job]
    failures: list[Failure]
    notes: list[str]
    title: str = ""
    as_of: date | None = None


def read(paths: Iterable[str | Path], *, format: str | None = None, as_of: date | None = None) -> Estate:
    """Read exports, folders of exports and engagement files into an estate.

    format: take every file for this format instead of recognising it
    as_of: the day ages are counted from; default: the engagement's, else today

    What cannot be read becomes a `Failure` of the estate and does not stop the rest. Raises UsageError for a faulty
    engagement file or an unknown format.
    """
    wanted = named(format) if format is not None else None
    found = _Found([], [], [])
    for path in paths:
        _look(Path(path), wanted, found)
    devices: list[Device] = []
    for job in found.jobs:
        try:
            devices.append(_device(job, {d.name for d in devices}))
        except UnreadableError as error:
            found.failures.append(Failure(job.files[0].path, str(error)))
    for device in devices:
        for zone in device.zones:
            if zone.guessed:
                found.notes.append(f"{device.name}: zone '{zone.name}' is a guess: {zone.guessed}")
    return Estate(
        devices=tuple(devices),
        as_of=as_of or found.as_of or date.today(),  # noqa: DTZ011 - the auditor's own calendar day is meant
        title=found.title,
        failures=tuple(found.failures),
        notes=tuple(found.notes),
    )


def _look(path: Path, wanted: Format | None, found: _Found) -> None:
    if path.is_dir() and (path / engagement.FILE_NAME).is_file():
        path = path / engagement.FILE_NAME
    if path.suffix == ".toml" and path.is_file():
        _engagement(path, found)
        return
    try:
        found.jobs += _jobs(path, wanted, found)
    except UnreadableError as error:
        found.failures.append(Failure(str(path), str(error)))


def _engagement(path: Path, found: _Found) -> None:
    loaded = engagement.load(path)
    found.title = found.title or loaded.title
    found.as_of = found.as_of or loaded.as_of
    for entry in loaded.devices:
        try:
            wanted = named(entry.format) if entry.format is not None else None
        except UsageError as error:
            raise UsageError(f"{path}: device '{entry.name or entry.export}': {error.message}") from error
        try:
            jobs = list(_jobs(Path(entry.export), wanted, found))
            _refuse_several(entry, jobs)
            found.jobs += [replace(job, name=entry.name or job.name, entry=entry) for job in jobs]
        except UnreadableError as error:
            found.failures.append(Failure(entry.export, str(error)))


def _refuse_several(entry: engagement.Entry, jobs: list[_Job]) -> None:
    """One name cannot stand for several devices."""
    if len(jobs) > 1 and entry.name:
        names = ", ".join(job.files[0].path for job in jobs)
        raise UnreadableError(f"{entry.export}: holds the exports of several devices ({names}); list them one by one")


def _jobs(path: Path, wanted: Format | None, found: _Found) -> Iterator[_Job]:
    """The devices a path holds. Files that one format joins (both address families, say) go together by name."""
    if not path.is_dir():
        yield _single(load(path), wanted)
        return
    groups: dict[tuple[str, str, str], list[tuple[ExportFile, Format, str]]] = {}
    looked_at = 0
    for file_path in _files(path):
        looked_at += 1
        try:
            file = load(file_path)
            one, why = (wanted, "named by --format") if wanted else recognise(file)
        except UnreadableError as error:
            if wanted is None and "not recognised" in error.message:
                found.notes.append(f"{file_path}: not an export that is recognised; left out")
            else:
                found.failures.append(Failure(str(file_path), str(error)))
            continue
        stem = _stem(file_path) if one.grouped else file_path.name
        groups.setdefault((str(file_path.parent), stem, one.name), []).append((file, one, why))
    if not groups:
        raise UnreadableError(f"{path}: no export was recognised in this folder ({looked_at} files looked at)")
    for (parent, stem, _), members in groups.items():
        _, one, why = members[0]
        name = (stem or Path(parent).resolve().name) if one.grouped else ""
        yield _Job(name, tuple(m[0] for m in members), one, why)


def _single(file: ExportFile, wanted: Format | None) -> _Job:
    one, why = (wanted, "named by --format") if wanted else recognise(file)
    path = Path(file.path)
    return _Job((_stem(path) or path.parent.name or path.name) if one.grouped else "", (file,), one, why)


def _files(folder: Path) -> Iterator[Path]:
    """Regular files below a folder, sorted; hidden ones and links that lead out of it are left alone."""
    inside = folder.resolve()
    count = 0
    for path in sorted(folder.rglob("*")):
        if any(part.startswith(".") for part in path.relative_to(folder).parts):
            continue
        if path.is_file() and path.resolve().is_relative_to(inside):
            count += 1
            if count > FILE_LIMIT:
                raise UnreadableError(f"{folder}: holds more than {FILE_LIMIT} files; name the exports themselves")
            yield path


def _stem(path: Path) -> str:
    """A file's name without what tells the address families of one host apart; empty if nothing else is left."""
    name = re.sub(r"\.(txt|rules|dump|save|conf|out|log)$", "", path.name)
    name = re.sub(r"(?i)(^|[._-])(ip6?tables(-save)?|ipsets?|rules|ip)?[._-]?(v4|v6|ipv4|ipv6|4|6)$", "", name)
    return re.sub(r"(?i)[._-]?(ip6?tables(-save)?|ipsets?|rules)$", "", name).strip("._-")


def _device(job: _Job, taken: set[str]) -> Device:
    try:
        device = job.format.read(job.files, job.name)
    except AiguilleError as error:
        if isinstance(error, UnreadableError):
            raise
        raise UnreadableError(str(error)) from error
    device = replace(device, recognised=job.why, name=device.name or job.files[0].path)
    if job.entry is not None:
        device = engagement.apply(job.entry, device)
    name, number = device.name, 2
    while device.name in taken:
        device = replace(device, name=f"{name} ({number})")
        number += 1
    return guess_outside(device)


__all__ = ["read"]

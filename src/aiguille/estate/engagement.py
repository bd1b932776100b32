"""The engagement file: which exports belong together, and what the auditor knows beside them."""

from __future__ import annotations

import difflib
import re
from collections.abc import Mapping
from datetime import date
from pathlib import Path
from typing import Literal, get_args

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from aiguille.analysis.sides import interface_names
from aiguille.model import (
    About,
    Addresses,
    Device,
    ManagementService,
    MaskedAddress,
    NotUnderstoodError,
    ServiceTerm,
    Side,
    UsageError,
    Zone,
)
from aiguille.readers.literals import read_network, read_ports, read_protocol
from aiguille.readers.whole import whole_text

FILE_NAME = "engagement.toml"
CLAIMS = "claims.yaml"
"""What must hold of the traffic, beside the engagement file; see `aiguille.baseline.claims`."""

ANSWERS = "answers.toml"
"""What the auditee says of the findings, beside the engagement file; see `aiguille.baseline.answers`."""


FailOn = Literal["critical", "high", "medium", "low", "info", "never"]


class ZoneTable(Struct, forbid_unknown_fields=True, frozen=True):
    """A zone of a device; one the export names itself is overruled in what is given here.

    side: outside, inside, dmz, management, guest or device
    interfaces: the interfaces it consists of
    networks: the networks behind them, as 10.44.20.0/24
    """

    side: Side | None = None
    interfaces: tuple[str, ...] = ()
    networks: tuple[str, ...] = ()


class DeviceTable(Struct, forbid_unknown_fields=True, frozen=True):
    """A device, or all devices of one export.

    export: the file or folder, relative to the engagement file
    name: what to call it; without it the export's own name
    format: take it for this format instead of recognising it
    zones: what the auditor knows of its zones, by name
    tags: words that scopes of a baseline and comparisons of siblings go by
    management: ways in beside the well-known ones, as tcp/9443
    administrators: addresses its administrators come from: they must get in
    """

    export: str
    name: str = ""
    format: str | None = None
    zones: dict[str, ZoneTable] = {}
    tags: tuple[str, ...] = ()
    management: tuple[str, ...] = ()
    administrators: tuple[str, ...] = ()


class Header(Struct, forbid_unknown_fields=True, frozen=True):
    """What holds for the whole engagement; options of the command line count above it.

    title: the title of reports
    client: for whom the audit is, for the head of reports
    auditor: by whom it is
    scope: what it covers and what not, in words
    as_of: the day ages are counted from, as 2026-11-30; without it today
    baseline: a baseline file beside this one, or standard, strict, host; without it standard
    accepted: a file of accepted risks beside this one
    geo: files of location data, later ones winning
    dialects: dialect files of makes described beside this file
    fail_on: the severity from which on findings give exit code 1: critical, high, medium, low, info or never; without it high
    """

    title: str = ""
    client: str = ""
    auditor: str = ""
    scope: str = ""
    fail_on: FailOn | None = None
    as_of: date | None = None
    dialects: tuple[str, ...] = ()
    baseline: str = ""
    accepted: str = ""
    geo: tuple[str, ...] = ()


class EngagementFile(Struct, forbid_unknown_fields=True, frozen=True):
    """An engagement: what the auditor knows, and which exports belong together.

    engagement: what holds for all of it
    device: the devices, a table each
    """

    engagement: Header = Header()
    device: tuple[DeviceTable, ...] = ()


TABLES = (Header, DeviceTable, ZoneTable)
"""The tables of an engagement file, for its reference."""


class DeviceEntry(Struct, frozen=True):
    """What the engagement says of one device. `export` is a path as the user may open it."""

    name: str
    export: str
    format: str | None
    zones: tuple[Zone, ...]
    tags: tuple[str, ...]
    management: tuple[ManagementService, ...]
    administrators: tuple[Addresses, ...] = ()


class Engagement(Struct, frozen=True):
    title: str
    about: About
    fail_on: str
    as_of: date | None
    devices: tuple[DeviceEntry, ...]
    dialects: tuple[Path, ...] = ()
    baseline: str = ""
    accepted: str = ""
    geo: tuple[Path, ...] = ()


def load(path: Path) -> Engagement:
    """Read an engagement file; raises UsageError with file, line and what is wrong."""
    import tomllib  # single exports come without one

    text = whole_text(path)
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        found = re.search(r"at line (\d+)", str(error))
        raise UsageError(f"{path}:{found[1] if found else 1}: this is not valid TOML: {error}") from error
    except RecursionError as error:
        raise UsageError(f"{path}:1: values are nested deeper than any engagement needs") from error
    try:
        raw = msgspec.convert(data, EngagementFile)
    except msgspec.ValidationError as error:
        raise UsageError(_explain(path, text, str(error))) from error
    if not raw.device:
        raise UsageError(f"{path}:1: no [[device]] is listed; name at least one with its export")
    return Engagement(
        raw.engagement.title,
        About(raw.engagement.client, raw.engagement.auditor, raw.engagement.scope.strip()),
        raw.engagement.fail_on or "",
        raw.engagement.as_of,
        tuple(_entry(path, text, number, device) for number, device in enumerate(raw.device)),
        tuple(path.parent / dialect for dialect in raw.engagement.dialects),
        _beside(path, raw.engagement.baseline),
        str(path.parent / raw.engagement.accepted) if raw.engagement.accepted else "",
        tuple(path.parent / name for name in raw.engagement.geo),
    )


def _beside(path: Path, baseline: str) -> str:
    """A baseline file beside the engagement; a word without an ending names one that ships with the program."""
    return str(path.parent / baseline) if baseline.endswith((".yaml", ".yml")) else baseline


def _administrator(path: Path, text: str, word: str) -> Addresses:
    try:
        found = read_network(word)
    except NotUnderstoodError as error:
        raise UsageError(f"{path}:{_line_of(text, -1, word)}: {error.message} (administrators)") from error
    if isinstance(found, MaskedAddress):
        raise UsageError(
            f"{path}:{_line_of(text, -1, word)}: '{word}' is not a network with a prefix length (administrators)"
        )
    return found


def apply(entry: DeviceEntry, device: Device) -> Device:
    """The device with what the auditor knows: zones of the same name are overruled, new ones added."""
    stated = {zone.name: zone for zone in entry.zones}
    zones = []
    for zone in device.zones:
        mine = stated.pop(zone.name, None)
        if mine is not None:
            zone = replace(
                zone,
                side=mine.side or zone.side,
                interfaces=mine.interfaces or zone.interfaces,
                networks=mine.networks or zone.networks,
                guessed="" if mine.side is not None else zone.guessed,
            )
        zones.append(zone)
    placed = {name for zone in entry.zones for name in zone.interfaces}
    # What the auditor states of an interface ends every guess about it.
    zones = [zone for zone in zones if not (zone.guessed and zone.interfaces and placed.issuperset(zone.interfaces))]
    administration = replace(device.administration, services=(*device.administration.services, *entry.management))
    return replace(
        device,
        zones=(*zones, *stated.values()),
        tags=entry.tags,
        administration=administration,
        administrators=entry.administrators,
    )


def state_sides(device: Device, sides: Mapping[str, Side]) -> Device:
    """The device with interfaces on the sides the auditor states; a zone that is cut apart by that loses the interface."""
    known = interface_names(device)
    # Rules without interface names hold for whatever there is; exports that list interfaces list them all.
    mine = {name: side for name, side in sides.items() if name in known or not (device.interfaces or device.zones)}
    zones = []
    for zone in device.zones:
        stated = {mine[name] for name in zone.interfaces if name in mine}
        if len(stated) == 1 and all(name in mine for name in zone.interfaces):
            zone = replace(zone, side=stated.pop(), guessed="")
        elif stated:
            zone = replace(zone, interfaces=tuple(name for name in zone.interfaces if name not in mine))
        zones.append(zone)
    placed = {name for zone in zones for name in zone.interfaces}
    taken = {zone.name for zone in zones}
    for name, side in mine.items():
        if name not in placed:
            networks = next((one.networks for one in device.interfaces if one.name == name), ())
            zones.append(Zone(side.value if side.value not in taken else name, (name,), side, networks))
            taken.add(zones[-1].name)
    return replace(device, zones=tuple(zones))


def _entry(path: Path, text: str, number: int, device: DeviceTable) -> DeviceEntry:
    def fault(value: str, error: NotUnderstoodError) -> UsageError:
        return UsageError(f"{path}:{_line_of(text, number, value)}: {error.message}")

    zones = []
    for name, zone in device.zones.items():
        networks: list[Addresses] = []
        for word in zone.networks:
            try:
                found = read_network(word)
            except NotUnderstoodError as error:
                raise fault(word, error) from error
            if isinstance(found, MaskedAddress):
                raise fault(word, NotUnderstoodError(f"'{word}' is not a network with a prefix length"))
            networks.append(found)
        zones.append(Zone(name, zone.interfaces, zone.side, tuple(networks)))
    services = []
    for word in device.management:
        protocol, _, ports = word.partition("/")
        try:
            term = ServiceTerm(read_protocol(protocol), (), (read_ports(ports, "-"),))
        except NotUnderstoodError as error:
            raise fault(word, error) from error
        services.append(ManagementService(word, (term,), False, None))
    return DeviceEntry(
        device.name,
        str(path.parent / device.export),
        device.format,
        tuple(zones),
        device.tags,
        tuple(services),
        tuple(_administrator(path, text, word) for word in device.administrators),
    )


def _explain(path: Path, text: str, message: str) -> str:
    what, _, place = message.partition(" - at `")
    number = int(found[1]) if (found := re.search(r"\.device\[(\d+)\]", place)) else 0
    unknown = re.search(r"unknown field `([^`]+)`", what)
    if unknown:
        key = unknown[1]
        known = [
            f.encode_name for s in (ZoneTable, DeviceTable, Header, EngagementFile) for f in msgspec.structs.fields(s)
        ]
        near = difflib.get_close_matches(key, known, n=1)
        hint = f"; did you mean '{near[0]}'?" if near else f"; known here are {', '.join(sorted(set(known)))}"
        return f"{path}:{_line_of(text, number, key)}: '{key}' is not a key of an engagement file{hint}"
    key = re.findall(r"[A-Za-z_]+", place.rstrip("`"))[-1:] or [""]
    value = re.search(r"enum value '([^']+)'", what)
    if value:
        severity = key[0] == "fail_on"
        words = ", ".join(get_args(FailOn) if severity else Side)
        what = f"'{value[1]}' is not a {'severity' if severity else 'side'}; known are {words}"
    return f"{path}:{_line_of(text, number, value[1] if value else key[0])}: {what[0].lower()}{what[1:]} ({key[0]})"


def _line_of(text: str, device: int, word: str) -> int:
    """The line in which a word first occurs at or after the `device`-th [[device]] header; the header's if nowhere."""
    seen, start = -1, 1
    for number, line in enumerate(text.splitlines(), 1):
        if line.strip().startswith("[[device]]"):
            seen += 1
            if seen == device:
                start = number
        if seen >= device and word and re.search(rf"(?<![\w-]){re.escape(word)}(?![\w-])", line):
            return number
    for number, line in enumerate(text.splitlines(), 1):
        if word and word in line:
            return number
    return start

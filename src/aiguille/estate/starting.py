"""An engagement file to start from: every interface with its networks, what is guessed, and what only the auditor knows."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Iterator, Sequence
from pathlib import Path

from aiguille.analysis.loopback import LOOPBACK
from aiguille.analysis.sides import interface_names
from aiguille.model import Addresses, Device, Estate, Side, Zone
from aiguille.model.spelling import spell_operand

_BARE = re.compile(r"[A-Za-z0-9_-]+")
_SIDES = ", ".join(side.value for side in Side if side is not Side.DEVICE)

_HEAD = """\
# What the exports show. Lines that end with "?" are guesses or open: settle them, then name this file instead of the exports.
[engagement]
title = {title}
# client = "for whom the audit is"
# auditor = "by whom"
# scope = "what it covers and what not"
as_of = {as_of}

# What a device may say besides, as far as you know it:
#   administrators = ["10.0.0.5"]      where its administrators sit: they must get in
#   management = ["tcp/9443"]          ways in beside the well-known ones
#   tags = ["edge"]                    words that scopes of a baseline and comparisons of siblings go by
"""


def starting_engagement(estate: Estate, folder: Path) -> str:
    """The text of an engagement file that stands in `folder` and names the exports of `estate`."""
    parts = [_HEAD.format(title=json.dumps(estate.title or "", ensure_ascii=False), as_of=estate.as_of)]
    exports: dict[str, list[Device]] = {}
    for device in estate.devices:
        exports.setdefault(_export(device), []).append(device)
    for export, devices in exports.items():
        parts.append("\n".join(_table(os.path.relpath(export, folder), devices)) + "\n")
    parts += [f"# not read: {failure.path}\n" for failure in estate.failures]
    return "\n".join(parts)


def _export(device: Device) -> str:
    """The file a device was read from, or the folder that holds all of its files."""
    paths = [one.path for one in device.sources]
    found = Path(paths[0] if len(paths) == 1 else os.path.commonpath([str(Path(path).parent) for path in paths]))
    # What lies within an archive is named by the archive.
    return str(next((one for one in (found, *found.parents[:-1]) if one.exists()), found))


def _table(export: str, devices: Sequence[Device]) -> Iterator[str]:
    yield "[[device]]"
    if len(devices) == 1:
        yield f"name = {_text(devices[0].name)}"
    else:
        yield f"# it holds {len(devices)} devices: {', '.join(one.name for one in devices)}"
    yield f"export = {_text(export)}      # {', '.join(dict.fromkeys(one.make for one in devices))}"
    written: set[str] = set()
    for device in devices:
        for zone in _zones(device):
            if zone.name not in written:
                written.add(zone.name)
                yield _line(device, zone)
        unread = len(device.ledger.unread)
        if unread:
            yield f"# {unread} lines of {device.name} were not understood: aiguille read {export} --show unread"


def _zones(device: Device) -> Iterator[Zone]:
    """The zones of a device, then the interfaces none of them holds, each as one of its own."""
    yield from (zone for zone in device.zones if zone.side is not Side.DEVICE)
    held = {name for zone in device.zones for name in (*zone.interfaces, zone.name)}
    yield from (Zone(name, (name,)) for name in interface_names(device) if name not in held and name != LOOPBACK)


def _line(device: Device, zone: Zone) -> str:
    connected = (network for one in device.interfaces if one.name in zone.interfaces for network in one.networks)
    networks = [one for one in zone.networks or connected if not _is_link_local(one)]
    fields = [f"interfaces = [{', '.join(map(_text, zone.interfaces))}]"] if zone.interfaces else []
    if networks:
        fields.append(f"networks = [{', '.join(_text(spell_operand(one)) for one in networks)}]")
    if zone.side is not None:
        fields.append(f'side = "{zone.side.value}"')
    key = zone.name if _BARE.fullmatch(zone.name) else _text(zone.name)
    line = f"zones.{key} = {{ {', '.join(fields)} }}" if fields else f"zones.{key} = {{}}"
    if zone.side is None:
        return f"{line}      # which side: {_SIDES} ?"
    if zone.guessed:
        return f"{line}      # guessed: {_comment(zone.guessed)} ?"
    return f"# {line}      # as the export states it{f', {zone.where}' if zone.where is not None else ''}"


def _is_link_local(network: Addresses) -> bool:
    return network.family == 6 and network.first >> 118 == 0x3FA


def _text(said: str) -> str:
    """A TOML basic string; JSON escapes all that TOML needs escaped."""
    return json.dumps(said, ensure_ascii=False).replace("\x7f", "\\u007f")


def _comment(said: str) -> str:
    return " ".join(said.split())

"""Packets of which only the ends are told: by which interfaces they come and go follows from routes."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from typing import NamedTuple

from msgspec.structs import replace

from aiguille.model import UsageError
from aiguille.packets.packet import Packet
from aiguille.packets.sentences import COLUMNS, Sketch, read_row
from aiguille.space.fields import ICMP_OF, WITH_PORTS

NEEDED = ("id", "src", "dst", "protocol")
"""Columns without which a row says nothing; of the others those that are left out are empty."""

SPORT = 40000
"""The source port of a packet that names none: one of those programs take (RFC 6335, 6)."""


class Unplaced(NamedTuple):
    """A row: its line in the file, what it is called, and the packet, or why there is none."""

    line: int
    id: str
    packet: Packet | None
    why: str = ""


def is_unplaced(data: bytes) -> bool:
    """Whether a table has no columns for interfaces."""
    head = data.split(b"\n", 1)[0].decode("utf-8-sig", "replace").lower()
    cells = {cell.strip().strip('"') for cell in head.split(",")}
    return not {"in", "out"} & cells and {*NEEDED} <= cells


def read_unplaced(data: bytes) -> Iterator[Unplaced]:
    """Every row of a table of packets without interfaces.

    Raises UnicodeDecodeError if it is not UTF-8, UsageError for a wrong header.
    """
    rows = csv.reader(io.StringIO(data.decode("utf-8-sig"), newline=""))
    header = [cell.strip().lower() for cell in next(rows, [])]
    missing = [name for name in NEEDED if name not in header]
    extra = [name for name in header if name not in COLUMNS]
    if missing or extra or len(set(header)) != len(header):
        problem = (
            f"lacks {', '.join(missing)}"
            if missing
            else f"has unknown {', '.join(extra)}"
            if extra
            else "names one twice"
        )
        raise UsageError(f"line 1: the header {problem}; its columns are of {','.join(COLUMNS)}")
    for cells in rows:
        if not cells:
            continue
        row = {**dict.fromkeys(COLUMNS, ""), **dict(zip(header, cells, strict=False))}
        if len(cells) != len(header):
            yield Unplaced(rows.line_num, row["id"], None, f"has {len(cells)} cells instead of {len(header)}")
            continue
        if row["in"].strip() or row["out"].strip():
            yield Unplaced(rows.line_num, row["id"], None, "names an interface; choose the device with --device")
            continue
        try:
            yield Unplaced(rows.line_num, row["id"], complete(read_row(row, placed=False)))
        except UsageError as error:
            yield Unplaced(rows.line_num, row["id"], None, error.message)


def complete(sketch: Sketch) -> Packet:
    """The packet of a sketch that shows its ends; raises UsageError if it leaves open what cannot be chosen for it."""
    if sketch.protocol in WITH_PORTS and sketch.sport is None:
        sketch = replace(sketch, sport=SPORT)
    if sketch.family is not None and sketch.protocol == ICMP_OF[sketch.family]:
        request = 8 if sketch.family == 4 else 128
        sketch = replace(
            sketch,
            icmp_type=request if sketch.icmp_type is None else sketch.icmp_type,
            icmp_code=sketch.icmp_code or 0,
        )
    packet = sketch.packet()
    if packet is None:
        raise UsageError("the packet leaves its protocol, an address or the destination port open; state them")
    return packet

"""Files of assignments, ``NAME=value`` a line, as many programs of a host have them."""

from __future__ import annotations

import re
from collections.abc import Collection

from msgspec import Struct

from aiguille.model import Span
from aiguille.readers.files import ExportFile, LedgerBuilder

_LINE = re.compile(r"\s*(?:export\s+)?([A-Za-z_][A-Za-z0-9_.\-]*)\s*=\s*(.*?)\s*")


class Assigned(Struct, frozen=True):
    """A value with the line that assigns it."""

    value: str
    where: Span


def read_assignments(
    file: ExportFile | None,
    ledger: LedgerBuilder,
    wanted: Collection[str] | None = (),
    aside: str = "no check needs this setting",
) -> dict[str, Assigned]:
    """The assignments of a file, the last of a name counting; quotes are taken off.

    wanted: names that count as read, None for all; aside: why the others are set aside
    """
    out: dict[str, Assigned] = {}
    for number, line in enumerate(file.lines if file is not None else (), 1):
        if file is None or not line.strip():
            continue
        where = file.span(number)
        if line.lstrip()[0] in "#;":
            ledger.set_aside(where, "comment")
            continue
        found = _LINE.fullmatch(line)
        if found is None:
            ledger.unread(where, "is not an assignment such as NAME=value")
            continue
        value = found[2]
        if value[:1] in "\"'" and value[:1]:
            value = value[1 : value.find(value[0], 1)] if value.find(value[0], 1) > 0 else value[1:]
        else:
            value = re.split(r"\s#", value, maxsplit=1)[0].strip()
        out[found[1]] = Assigned(value, where)
        if wanted is None or found[1] in wanted:
            ledger.read(where)
        else:
            ledger.set_aside(where, aside)
    return out

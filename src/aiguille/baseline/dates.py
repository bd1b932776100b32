"""Dates in the words of exports: when a rule ends, how long something is ago."""

from __future__ import annotations

import re
from datetime import date

from aiguille.model import Device

_ISO = re.compile(r"(?<!\d)(20\d\d)-(\d\d)-(\d\d)(?!\d)")
_UNTIL = re.compile(
    r"(?i)\b(?:until|till|expires?|expiry|ends?|valid to|remove(?:d)?(?: on| after| by)?)\b[^0-9]{0,20}(20\d\d-\d\d-\d\d)"
)
_MONTHS = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"]
_LONG = re.compile(r"\b(?:\w{3} )?(\w{3})\s+(\d{1,2})\s+[\d:]+\s+(?:\w+ )?(20\d\d)\b")


def read_date(text: str) -> date | None:
    """The first date of a text: 2026-11-30 with or without a time, or as programs print it, Mon Nov  2 08:00:00 2026."""
    found = _ISO.search(text)
    try:
        if found:
            return date(int(found[1]), int(found[2]), int(found[3]))
        long = _LONG.search(text)
        if long and long[1].lower() in _MONTHS:
            return date(int(long[3]), _MONTHS.index(long[1].lower()) + 1, int(long[2]))
    except ValueError:
        return None
    return None


def until(text: str) -> date | None:
    """The date a text says something ends."""
    found = _UNTIL.search(text)
    return read_date(found[1]) if found else None


def seen_at(device: Device, as_of: date) -> date:
    """The day an export shows: when it was taken, else the day ages are counted from."""
    taken = read_date(device.taken_at.value) if device.taken_at.known else None
    return min(taken, as_of) if taken is not None else as_of

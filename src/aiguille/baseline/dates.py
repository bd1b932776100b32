"""Dates in the words of exports: when a rule ends, how long something is ago."""

from __future__ import annotations

import re
from calendar import monthrange
from datetime import UTC, date, datetime

from aiguille.model import Device

_MONTHS = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"]
_MONTH = (
    r"(?:jan(?:uary)?|feb(?:ruary)?|mar(?:ch)?|apr(?:il)?|may|june?|july?"
    r"|aug(?:ust)?|sept?(?:ember)?|oct(?:ober)?|nov(?:ember)?|dec(?:ember)?)"
)
_ISO = re.compile(r"(?<!\d)(20\d\d)[-/](\d\d)[-/](\d\d)(?!\d)")
_LONG = re.compile(r"\b(?:\w{3} )?(\w{3})\s+(\d{1,2})\s+[\d:]+\s+(?:\w+ )?(20\d\d)\b")
_END = re.compile(
    r"(?i)\b(?:until|till|expires?|expiry|ends?|valid to|remove(?:d)?(?: on| after| by)?"
    r"|bis|gültig bis|befristet|läuft ab|jusqu'au|jusqu'à|échéance|fino al|scade|scadenza)\b[^0-9]{0,20}?\b(?=\d|"
    + _MONTH
    + r"\b)"
)
_WRITTEN = (
    re.compile(r"(?P<y>20\d\d)[-/](?P<m>\d\d)[-/](?P<d>\d\d)(?!\d)"),
    re.compile(r"(?P<d>\d{1,2})\. ?(?P<m>\d{1,2})\. ?(?P<y>20\d\d)(?!\d)"),
    re.compile(r"(?P<one>\d{1,2})/(?P<other>\d{1,2})/(?P<y>20\d\d)(?!\d)"),
    re.compile(r"(?i)(?P<d>\d{1,2})(?:st|nd|rd|th)?\.? (?P<name>" + _MONTH + r")\.?,? (?P<y>20\d\d)\b"),
    re.compile(r"(?i)(?P<name>" + _MONTH + r")\.? (?P<d>\d{1,2})(?:st|nd|rd|th)?,? (?P<y>20\d\d)\b"),
    re.compile(r"(?i)(?P<name>" + _MONTH + r")\.? (?P<y>20\d\d)\b"),
    re.compile(r"(?P<y>20\d\d)-(?P<m>\d\d)(?!\d|-\d)"),
    re.compile(r"(?P<m>\d\d)/(?P<y>20\d\d)(?!\d)"),
    re.compile(r"(?P<y>20\d\d)(?![\d.:/-])"),
)
"""How people write a date behind a word for an end, the most exact first."""


_SECONDS = re.compile(r"1\d{9}(?:\d{3})?")
"""Seconds since 1970, or thousandths of them, of the years 2001 to 2033."""

_NO_DAY = re.compile(
    r"(?i)never(?: hit| used)?|none|null|n/?a|-+|0|not (?:yet )?(?:hit|used)|nie|jamais|mai|19[67]\d-\d\d-\d\d.*"
)


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


def read_day(text: str) -> date | None:
    """The day a cell holds, in any way people or programs write one, seconds since 1970 included; of what can be read two ways the
    later day."""
    if _SECONDS.fullmatch(text.strip()):
        return datetime.fromtimestamp(int(text.strip()[:10]), UTC).date()
    found = read_date(text)
    said = next((m for form in _WRITTEN if (m := form.match(text.strip())) is not None), None)
    try:
        return found or (_day(said.groupdict()) if said is not None else None)
    except ValueError:
        return None


def is_never(text: str) -> bool:
    """Whether a cell for a day says that there was none, in words or by the day computers begin to count at."""
    return _NO_DAY.fullmatch(text.strip()) is not None


def until(text: str) -> date | None:
    """The last day a text says something holds: until 2025-03-31, 31.3.2025, 31 March 2025, March 2025, the end of 2025.

    Of what can be read two ways, such as 03/04/2025, the later day is taken.
    """
    found = _END.search(text)
    if found is None:
        return None
    rest = text[found.end() :]
    said = next((m for form in _WRITTEN if (m := form.match(rest)) is not None), None)
    try:
        return _day(said.groupdict()) if said is not None else None
    except ValueError:
        return None


def _day(parts: dict[str, str]) -> date:
    """The day of a date's parts; of a month or year alone the last one."""
    year = int(parts["y"])
    if "one" in parts:
        days = [(int(parts[a]), int(parts[b])) for a, b in (("one", "other"), ("other", "one"))]
        return max(date(year, month, day) for month, day in days if month <= len(_MONTHS))
    month = _MONTHS.index(parts["name"][:3].lower()) + 1 if "name" in parts else int(parts.get("m", len(_MONTHS)))
    return date(year, month, int(parts["d"]) if "d" in parts else monthrange(year, month)[1])


def seen_at(device: Device, as_of: date) -> date:
    """The day an export shows: when it was taken, else the day ages are counted from."""
    taken = read_date(device.taken_at.value) if device.taken_at.known else None
    return min(taken, as_of) if taken is not None else as_of

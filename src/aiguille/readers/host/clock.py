"""When a host was looked at, and since when it runs: date(1), uptime(1), /proc/uptime (proc(5))."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta

from aiguille.model import Setting, Span, default, stated, unknown
from aiguille.readers.bundle import Bundle
from aiguille.readers.files import ExportFile, LedgerBuilder

_UP = re.compile(r"(?:[\d:]+ )?up\s+(?P<for>.+?)(?:,\s+\d+ users?)?(?:,?\s+load average:.*)?$")
_PART = re.compile(r"(\d+)\s*(years?|weeks?|days?|hours?|min(?:ute)?s?|sec(?:ond)?s?)\b")
_DAYS = {"y": 365.0, "w": 7.0, "d": 1.0, "h": 1 / 24, "m": 1 / 1440, "s": 1 / 86400}
_CLOCK = re.compile(r"(?:^|[\s,])(\d{1,3}):(\d\d)$")
_SECONDS = re.compile(r"(\d{1,11})\.\d\d \d+\.\d\d")
_ISO = re.compile(r"20\d\d-\d\d-\d\d[T ]\d\d:\d\d(?::\d\d)?\S*")
_STARTED = re.compile(r"^up\b|^up-|uptime|boot|since")
_FORMS = (
    "%a %b %d %H:%M:%S %Y",
    "%a %b %d %I:%M:%S %p %Y",
    "%a %d %b %Y %I:%M:%S %p",
    "%a %d %b %Y %H:%M:%S",
    "%a, %d %b %Y %H:%M:%S",
)
_ZONE = re.compile(r"\s+(?!AM\b|PM\b)(?:[A-Z]{2,5}|[+-]\d{4}|[+-]\d\d)(?=\s|$)")


def taken(bundle: Bundle, ledger: LedgerBuilder, dumped: Setting[str]) -> Setting[str]:
    """When the export was taken: what ``date`` printed, else what the dump says of itself."""
    for file in _alone(bundle):
        if not _says_start(file) and (found := read_moment(_line(file)[0])) is not None:
            where = _line(file)[1]
            ledger.read(where)
            return dumped if dumped.known else stated(found.isoformat(), where)
    return dumped


def started(bundle: Bundle, ledger: LedgerBuilder, at: Setting[str]) -> Setting[str]:
    """When the host started, which is the earliest that anything can have been counted since: rules may have been loaded anew.

    That makes it a default, not something the export states of its counters.
    """
    for file in _alone(bundle):
        text, where = _line(file)
        if _says_start(file) and (begun := read_moment(text)) is not None:
            ledger.read(where)
            return default(begun.isoformat(), where)
        if (days := _days(text)) is not None:
            ledger.read(where)
            seen = read_moment(at.value) if at.known else None
            if seen is not None and days < 36525:
                return default((seen - timedelta(days=days)).isoformat(timespec="seconds"), where)
    return unknown()


def _alone(bundle: Bundle) -> list[ExportFile]:
    """What commands printed in a single line; of the kernel's own files that of its uptime."""
    inside = ("etc/", "usr/", "run/")
    held = [file for file in bundle.files if not file.place.startswith(inside)]
    return [file for file in held if sum(bool(line.strip()) for line in file.lines) == 1]


def _line(file: ExportFile) -> tuple[str, Span]:
    number = next(n for n, line in enumerate(file.lines, 1) if line.strip())
    return file.lines[number - 1].strip(), file.span(number)


def _says_start(file: ExportFile) -> bool:
    """Whether a time alone is that of the start, as ``uptime -s`` prints it: only the file's name shows."""
    return _STARTED.search(file.place.rsplit("/", 1)[-1].lower()) is not None


def _days(text: str) -> float | None:
    """How long a host is up, in days."""
    if (seconds := _SECONDS.fullmatch(text)) is not None:
        return int(seconds[1]) / 86400
    found = _UP.fullmatch(text)
    if found is None:
        return None
    said = found["for"].rstrip(", ")
    parts = [float(number) * _DAYS[unit[0]] for number, unit in _PART.findall(said) if len(number) < 7]
    clock = _CLOCK.search(said)
    if clock is not None:
        parts.append(int(clock[1]) / 24 + int(clock[2]) / 1440)
    return sum(parts) if parts else None


def read_moment(text: str) -> datetime | None:
    """A point in time as ``date`` prints it in English or in ISO 8601; its zone is left aside, days are what matters."""
    try:
        if _ISO.fullmatch(text):
            return datetime.fromisoformat(text).replace(tzinfo=None)
        plain = _ZONE.sub("", text)
        for form in _FORMS:
            try:
                return datetime.strptime(plain, form).replace(tzinfo=UTC).replace(tzinfo=None)
            except ValueError:
                continue
    except (ValueError, OverflowError):
        pass
    return None

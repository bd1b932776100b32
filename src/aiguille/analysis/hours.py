"""Rules that hold at hours of the week, decided for one moment.

What a time reads like: `--timestart 08:00:00 --timestop 18:00:00 --weekdays Mon,Tue` (iptables-extensions(8), "time"),
`meta hour "08:00"-"18:00"`, `meta day { Monday, Tuesday }` (nft(8)), `timestart=8:00&timestop=18:00` (shorewall-rules(5)), and what
people write: `mon-fri 07:00-18:00`, `every day 07:00 to 19:00`, `22-6`. Dates and what else is said leave a rule as it is: one that
may hold.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from functools import lru_cache, partial

from msgspec import Struct
from msgspec.structs import replace

from aiguille.analysis.doubts import HOURS
from aiguille.model import Device, Estate, Rule, UsageError

DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_FULL = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
_NUMBER = {name: at for at, name in enumerate(DAYS)} | {name: at for at, name in enumerate(_FULL)}
_NUMBER |= {"tues": 1, "wednes": 2, "thur": 3, "thurs": 3}
_SETS = {
    "daily": range(7), "everyday": range(7), "weekdays": range(5), "workdays": range(5), "weekday": range(5), "workday": range(5),
    "weekend": range(5, 7), "weekends": range(5, 7),
}  # fmt: skip
_DAY = 24 * 60
_TIME = r"([01]?\d|2[0-4])(?::([0-5]\d))?(?::[0-5]\d)?"
_WORD = re.compile(
    rf"(?P<time>(?<![\w.:]){_TIME}(?![\w.]))|(?P<name>[a-z]+)|(?P<sign>[-–—,;&=!{{}}\"'.+|/])|(?P<odd>\S)",
    re.IGNORECASE,
)
_FILLERS = frozenset([
    "from", "on", "at", "between", "open", "hours", "hour", "day", "days", "time", "times", "meta", "utc", "h", "and", "local",
    "localtz", "kerneltz",
])  # fmt: skip
"""Words that say nothing more of when a rule holds."""


class Moment(Struct, frozen=True):
    """A minute of the week, by the clock a rule goes by: the day from 0 for Monday, and the minute of that day."""

    day: int
    minute: int


EXAMPLE = "Sat 23:30"


def read_moment(text: str) -> Moment:
    """A moment from words such as "Sat 23:30". Raises UsageError."""
    words = text.replace(",", " ").lower().split()
    days = [_NUMBER[word] for word in words if word in _NUMBER]
    times = [found for word in words if word not in _NUMBER and (found := re.fullmatch(_TIME, word))]
    if len(words) != 2 or len(days) != 1 or len(times) != 1 or times[0][1] == "24":
        raise UsageError(f"'{text}' is no moment of the week; write a day and a time, as {EXAMPLE}")
    return Moment(days[0], int(times[0][1]) * 60 + int(times[0][2] or 0))


def spell_moment(moment: Moment) -> str:
    """``Sat 23:30``."""
    return f"{DAYS[moment.day].capitalize()} {moment.minute // 60:02}:{moment.minute % 60:02}"


def moments_of(hours: str, others: Sequence[str]) -> tuple[Moment, ...]:
    """The first moment of each time within some hours at which others hold alike; none where the hours are not understood.

    What happens in a minute that hours end with is left open where the text does not tell.
    """
    found: dict[tuple[bool | None, ...], Moment] = {}
    for day in range(7):
        for minute in range(_DAY):
            moment = Moment(day, minute)
            if holds(hours, moment):
                found.setdefault(tuple(holds(text, moment) for text in others), moment)
    return tuple(found.values())


def hours_told(devices: Iterable[Device]) -> tuple[str, ...]:
    """The hours at which rules of some devices hold, in their words, each once."""
    rules = (rule for device in devices for base in device.rulebases for _, rule in base.rules() if rule.enabled)
    return tuple(dict.fromkeys(one.text for rule in rules for one in rule.qualifiers if one.name == HOURS))


def split_moment(sentence: str) -> tuple[str, str | None]:
    """A packet in words without the moment at its end, and the moment: "tcp to any:22 entering eth0 at Sat 23:30"."""
    head, found, tail = sentence.rpartition(" at ")
    return (head, tail.strip("\"' ")) if found else (sentence, None)


class _Hours(Struct, frozen=True):
    """What a text says: days (all where none is named), spans of minutes, whether the end itself is held for certain."""

    days: frozenset[int]
    spans: tuple[tuple[int, int], ...]
    native: bool


def holds(text: str, moment: Moment) -> bool | None:
    """Whether a rule with these hours holds at a moment; None where the text says more than days and times, or leaves it open."""
    name, named, times = text.partition(": ")  # hours that have a name
    said = _hours(times if named else name)
    if said is None:
        return None
    if not said.spans:
        return moment.day in said.days
    yesterday = (moment.day - 1) % 7
    answers: set[bool | None] = set()
    for first, last in said.spans:
        if first <= last:
            inside = first <= moment.minute <= last
            ends = moment.minute == last and not said.native and last != first
            answers.add(None if inside and ends and moment.day in said.days else inside and moment.day in said.days)
        elif moment.minute >= first:
            answers.add(moment.day in said.days)
        elif moment.minute > last:
            answers.add(False)
        else:
            # After midnight: by the rule's own day on Linux, by that of the evening before as people mean it.
            both = {moment.day in said.days, yesterday in said.days}
            answers.add(both.pop() if len(both) == 1 else (moment.day in said.days) if said.native else None)
    return True if True in answers else None if None in answers else False


@lru_cache(maxsize=256)
def _hours(text: str) -> _Hours | None:
    native = any(one in text for one in ("timestart", "timestop", "--weekdays", "meta hour", "meta day"))
    if "contiguous" in text or "date" in text.lower() or "monthdays" in text:
        return None
    lowered = (
        text.removeprefix("-m time ")
        .lower()
        .replace("--", " ")
        .replace("every day", "daily")
        .replace("24/7", "daily")
        .replace("all day", "")
    )
    days: set[int] = set()
    negated = False
    spans: list[tuple[int, int]] = []
    times: list[int] = []
    keyed: dict[str, int] = {}
    key, joined, last_day = "", False, -1
    for word in _WORD.finditer(lowered):
        if word["odd"]:
            return None
        if sign := word["sign"]:
            joined = joined or sign in "-–—"
            negated = negated or sign == "!"
            continue
        name = word["name"]
        if name in ("timestart", "timestop"):
            key = name
        elif name == "weekdays" and native:
            key = ""
        elif name in ("to", "until", "till", "through"):
            joined = True
        elif name in _NUMBER:
            day = _NUMBER[name]
            days |= (
                {(last_day + step) % 7 for step in range((day - last_day) % 7 + 1)}
                if joined and last_day >= 0
                else {day}
            )
            last_day, joined = (-1 if joined else day), False
        elif name in _SETS:
            days |= set(_SETS[name])
        elif name is not None:
            if name not in _FILLERS:
                return None
        else:
            hour, minutes, *_ = [*map(int, word["time"].split(":")), 0]
            minute = hour * 60 + minutes
            if key:
                keyed[key] = minute
                key = ""
            elif joined and times:
                spans.append((times.pop(), min(minute, _DAY)))
            else:
                times.append(minute)
            joined = False
    if times or (negated and not (native and days and not spans)):
        return None
    if keyed:
        spans.append((keyed.get("timestart", 0), keyed.get("timestop", _DAY)))
    if not days and not spans and "daily" not in lowered:
        return None
    kept = frozenset(range(7)) - days if negated else frozenset(days or range(7))
    return _Hours(kept, tuple(spans), native)


def device_at(device: Device, moment: Moment) -> Device:
    """A device as its rules are at a moment: those whose hours hold it have none, those whose hours do not are off."""
    bases = tuple(base.with_each_rule(partial(_rule_at, moment=moment)) for base in device.rulebases)
    return device if bases == device.rulebases else replace(device, rulebases=bases)


def estate_at(estate: Estate, moment: Moment) -> Estate:
    """An estate as its rules are at a moment of the week."""
    return replace(estate, devices=tuple(device_at(device, moment) for device in estate.devices))


def _rule_at(rule: Rule, moment: Moment) -> Rule:
    timed = [one for one in rule.qualifiers if one.name == HOURS]
    answers = {one: holds(one.text, moment) for one in timed}
    if False in answers.values():
        return replace(rule, enabled=False)
    kept = tuple(one for one in rule.qualifiers if answers.get(one) is not True)
    return rule if len(kept) == len(rule.qualifiers) else replace(rule, qualifiers=kept)

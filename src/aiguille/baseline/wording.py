"""Small pieces of sentences that checks share."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from aiguille.model import Known, Setting, Span
from aiguille.model.spelling import grouped
from aiguille.space import IntervalSet

NO_INWARD_RULES = "the export holds no rules for traffic to or through the device"

NO_RULES = "the export holds no rules for traffic to the device itself; export the filter rules too"

NO_THROUGH = "the export holds no rules for traffic through the device"

SETTLE_OUTSIDE = "state the interface that faces the outside in engagement.toml (zones.outside)"

UNSETTLED = "under a condition the export does not settle (a time of day, a set that was not exported, a mark)"

NO_DATA = "no location data; name registry statistics or MMDB files under geo in engagement.toml, or with --geo"

NO_FILTER = "the export mentions no filter by country"

UNSAID = "the export does not say what becomes of traffic"
"""Where a make's default is not stated, before a direction."""

UNDESCRIBED = "nothing that was understood shows"
"""Before what answers on an interface or in a zone."""

UNREAD = "was not understood as a whole"
"""Behind a rule, and before what of it was not."""

GUESSED = f"a rule that comes before connections are tracked {UNREAD}; it may leave them untracked"


def listed(names: Iterable[str], most: int = 0) -> str:
    """``a, b and c``; beyond `most` names the rest is counted; ``none`` if there is none."""
    every = list(dict.fromkeys(names)) or ["none"]
    if most and len(every) > most:
        return ", ".join(every[:most]) + f" and {len(every) - most} more"
    return every[0] if len(every) == 1 else ", ".join(every[:-1]) + " and " + every[-1]


def capital(text: str) -> str:
    return text[:1].upper() + text[1:]


def counted(number: int, noun: str, plural: str = "") -> str:
    return f"{grouped(number)} {noun if number == 1 else plural or noun + 's'}"


def by_default(setting: Setting[Any]) -> str:
    """What to add to a sentence about a setting that nobody wrote."""
    return ", the make's default, as the export says nothing else" if setting.standing is Known.DEFAULT else ""


def lines(*wheres: Span | None) -> tuple[Span, ...]:
    return tuple(dict.fromkeys(where for where in wheres if where is not None))


def spell_ports(ports: IntervalSet, most: int = 4) -> str:
    """``80, 443, 8000-8080``; beyond `most` ranges the rest is counted."""
    spelled = [str(a) if a == b else f"{a}-{b}" for a, b in ports.spans[:most]]
    return ", ".join(spelled) + (f" and {len(ports.spans) - most} more" if len(ports.spans) > most else "")

"""How long a host keeps its logs and where it sends them: journald.conf(5), rsyslog.conf(5), logrotate(8)."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator

from aiguille.model import Logging, Setting, Span, default, stated, unknown
from aiguille.readers.bundle import Bundle
from aiguille.readers.files import ExportFile, LedgerBuilder

_ACTION = re.compile(
    r"""type\s*=\s*"omfwd".*?target\s*=\s*"([^"]+)"|target\s*=\s*"([^"]+)".*?type\s*=\s*"omfwd\"""", re.I
)
_SPAN = re.compile(r"([0-9]+)\s*([a-zA-Z]*)")
_DAYS = {"": 1 / 86400, "s": 1 / 86400, "sec": 1 / 86400, "min": 1 / 1440, "m": 1 / 1440, "h": 1 / 24, "hour": 1 / 24,
         "hours": 1 / 24, "d": 1.0, "day": 1.0, "days": 1.0, "w": 7.0, "week": 7.0, "weeks": 7.0, "month": 30.44,
         "months": 30.44, "y": 365.25, "year": 365.25, "years": 365.25}  # fmt: skip
_TURNS = {"daily": 1.0, "weekly": 7.0, "monthly": 30.44, "yearly": 365.25, "hourly": 1 / 24}
_SYSTEM_LOGS = re.compile(r"/var/log/(?:syslog|messages|kern\.log|ufw\.log|firewalld|ulog\S*|iptables\S*)|/var/log/\*")


def read(bundle: Bundle, ledger: LedgerBuilder) -> Logging:
    """Days that the log of the kernel, where packets are recorded, is kept; and collectors it is sent to."""
    kept = _rotated(bundle, ledger) or _journal(bundle, ledger) or unknown()
    return Logging(device_days=kept, collectors=_collectors(bundle, ledger))


def _lines(file: ExportFile, ledger: LedgerBuilder) -> Iterator[tuple[str, Span]]:
    for number, line in enumerate(file.lines, 1):
        text, where = line.strip(), file.span(number)
        if not text:
            continue
        if text[0] in "#;":
            ledger.set_aside(where, "comment")
        else:
            yield text, where


def _journal(bundle: Bundle, ledger: LedgerBuilder) -> Setting[float] | None:
    """MaxRetentionSec; 0, the default, sets no limit of age, only of size."""
    main = bundle.get("etc/systemd/journald.conf")
    files = [*filter(None, [main]), *bundle.under("etc/systemd/journald.conf.d/", ".conf")]
    found: Setting[float] | None = default(math.inf, files[0].span(1)) if files else None
    for file in files:
        for text, where in _lines(file, ledger):
            key, _, value = text.partition("=")
            if key == "MaxRetentionSec":
                days = sum(int(n) * _DAYS.get(unit, 0) for n, unit in _SPAN.findall(value))
                found = stated(days or math.inf, where)
                ledger.read(where)
            else:
                ledger.set_aside(where, "no check needs this setting of the journal")
    return found


def _rotated(bundle: Bundle, ledger: LedgerBuilder) -> Setting[float] | None:
    """How many turns of what length logrotate keeps of the system's logs; None if nothing rotates them."""
    main = bundle.get("etc/logrotate.conf")
    turn, count, found = 7.0, 0, None
    for file in [*filter(None, [main]), *bundle.under("etc/logrotate.d/")]:
        inside, mine, own_turn, own_count = False, False, turn, count
        pending: list[str] = []
        where_kept: Span | None = None
        for text, where in _lines(file, ledger):
            ledger.set_aside(where, "no check needs this setting of logrotate")
            words = text.split()
            if not inside and (text.startswith(("/", '"/')) or text == "{"):
                pending += words
                if text.endswith("{"):
                    inside, own_turn, own_count, where_kept = True, turn, count, where
                    mine = any(_SYSTEM_LOGS.fullmatch(word.strip('"')) for word in pending)
                    pending = []
            elif text == "}":
                if mine and inside and where_kept is not None:
                    days = own_turn * max(own_count, 1)
                    if found is None or days < found.value:
                        found = stated(days, where_kept)
                        ledger.read(where_kept)
                inside = mine = False
            elif words[0] in _TURNS or (words[0] == "rotate" and len(words) > 1 and words[1].isdecimal()):
                ledger.read(where)
                if words[0] == "rotate":
                    own_count = int(words[1])
                    where_kept = where
                else:
                    own_turn = _TURNS[words[0]]
                if not inside:
                    turn, count = own_turn, own_count
    return found


def _collectors(bundle: Bundle, ledger: LedgerBuilder) -> Setting[tuple[str, ...]]:
    """Where rsyslog sends messages: ``@host`` or ``@@host`` after a selector, or an omfwd action."""
    main = bundle.get("etc/rsyslog.conf")
    files = [*filter(None, [main]), *bundle.under("etc/rsyslog.d/", ".conf")]
    found: list[str] = []
    where: Span | None = None
    for file in files:
        for text, here in _lines(file, ledger):
            target = ""
            if (action := _ACTION.search(text)) is not None:
                target = action[1] or action[2]
            elif (
                plain := re.search(r"\s(@@?)(?:\([^)]*\))?\[?([^\s\];]+?)\]?(?::\d+)?(?:[;\s].*)?$", text)
            ) is not None:
                target = plain[2]
            if target:
                found.append(target)
                where = where or here
                ledger.read(here)
            else:
                ledger.set_aside(here, "no check needs this setting of rsyslog")
    if not files:
        return unknown()
    return stated(tuple(found), where) if where is not None else default((), files[0].span(1))

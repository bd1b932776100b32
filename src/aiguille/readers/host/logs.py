"""How long a host keeps what its packet filter records, and where it sends it: journald.conf(5), rsyslog.conf(5), logrotate(8)."""

from __future__ import annotations

import re
from collections.abc import Iterable

from aiguille.model import Log, Logging, Rulebase, Setting, default, stated, unknown
from aiguille.readers.bundle import Bundle
from aiguille.readers.files import LedgerBuilder
from aiguille.readers.host.rotation import Rotation, lines_of, rotations
from aiguille.readers.host.rsyslog import Ways, ways
from aiguille.readers.literals import whole

_SPAN = re.compile(r"([0-9]+)\s*([a-zA-Z]*)")
_DAYS = {"": 1 / 86400, "s": 1 / 86400, "sec": 1 / 86400, "min": 1 / 1440, "m": 1 / 1440, "h": 1 / 24, "hour": 1 / 24,
         "hours": 1 / 24, "d": 1.0, "day": 1.0, "days": 1.0, "w": 7.0, "week": 7.0, "weeks": 7.0, "month": 30.44,
         "months": 30.44, "y": 365.25, "year": 365.25, "years": 365.25}  # fmt: skip
_SYSTEM_LOGS = re.compile(r"/var/log/(?:syslog|messages|kern\.log|ufw\.log|firewalld|ulog\S*|iptables\S*)|/var/log/\*")
"""Where the kernel's records lie on most hosts, where nothing shows where they do on this one."""


def read(bundle: Bundle, ledger: LedgerBuilder, rulebases: Iterable[Rulebase] = ()) -> Logging:
    """Days that what the rules record is kept, and collectors it is sent to.

    Files and the journal are two stores: a record is kept as long as one of them has it. Records with different prefixes may go
    different ways; those kept for the shortest time count.
    """
    prefixes = [
        effect.prefix
        for base in rulebases
        for _, rule in base.rules()
        for effect in rule.effects
        if isinstance(effect, Log)
    ]
    found = ways(bundle, ledger, prefixes)
    turned = rotations(bundle, ledger)
    stores = [*_kept(found, turned), *_journal(bundle, ledger)]
    kept = max(stores, key=lambda one: one.value, default=None)
    collectors, elsewhere = _collectors(found)
    return Logging(device_days=kept or unknown(), collectors=collectors, elsewhere=elsewhere)


def _kept(found: Ways | None, turned: tuple[Rotation, ...]) -> list[Setting[float]]:
    """How long the files keep the records: those of the prefix that fares worst. Nothing where that is not known."""
    if found is None:
        usual = [one for one in turned if any(_SYSTEM_LOGS.fullmatch(path) for path in one.paths)]
        if not usual or any(one.days is None for one in usual):
            return []
        return [min((stated(one.days, one.where) for one in usual if one.days is not None), key=lambda one: one.value)]
    worst: list[Setting[float]] = []
    for way in found.each:
        paths = [path for path, certain in way.files.items() if certain]
        days = [
            stated(one.days, one.where)
            for path in paths
            if (one := next((r for r in turned if r.concerns(path)), None)) is not None and one.days is not None
        ]
        if not days:
            return []
        worst.append(max(days, key=lambda one: one.value))
    return [min(worst, key=lambda one: one.value)]


def _collectors(found: Ways | None) -> tuple[Setting[tuple[str, ...]], tuple[str, ...]]:
    """Whom every record of the rules is sent to, unknown where a condition leaves it open; and who gets others only."""
    if found is None:
        return unknown(), ()
    everywhere = [{host for host, certain in way.collectors.items() if certain} for way in found.each]
    held = tuple(host for host in found.hosts if all(host in hosts for hosts in everywhere))
    if held:
        return stated(held, found.hosts[held[0]]), ()
    if not found.hosts:
        return default((), found.where), ()
    if any(way.collectors for way in found.each):
        return unknown(), ()
    return stated((), next(iter(found.hosts.values()))), tuple(found.hosts)


def _journal(bundle: Bundle, ledger: LedgerBuilder) -> list[Setting[float]]:
    """MaxRetentionSec; 0, the default, sets no limit of age, only of size, so that nothing is known."""
    main = bundle.get("etc/systemd/journald.conf")
    found: Setting[float] | None = None
    for file in [*filter(None, [main]), *bundle.under("etc/systemd/journald.conf.d/", ".conf")]:
        for text, where in lines_of(file, ledger):
            key, _, value = text.partition("=")
            if key.strip() != "MaxRetentionSec":
                ledger.set_aside(where, "no check needs this setting of the journal")
                continue
            days = sum(whole(n) * _DAYS.get(unit, 0) for n, unit in _SPAN.findall(value))
            found = stated(days, where) if days else None
            ledger.read(where)
    return [found] if found is not None else []

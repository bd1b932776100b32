"""Who may log in, when failed logins lock out, and what system it is: passwd(5), jail.conf(5), os-release(5)."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator

from msgspec.structs import replace

from aiguille.model import (
    Account,
    Addresses,
    Administration,
    NotUnderstoodError,
    Setting,
    Span,
    default,
    stated,
    unknown,
)
from aiguille.readers.assignments import read_assignments
from aiguille.readers.bundle import Bundle
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.literals import is_whole, read_network, whole

_NO_LOGIN = re.compile(r".*/(nologin|false|sync|shutdown|halt)")
_TIME = re.compile(r"(-?[0-9]+)\s*([a-z]*)")
_UNITS = {"": 1, "s": 1, "sec": 1, "m": 60, "min": 60, "h": 3600, "d": 86400, "w": 604800, "mo": 2629746, "y": 31556952}


def read(bundle: Bundle, ledger: LedgerBuilder, known: Administration) -> Administration:
    """Accounts with a login shell, and the lockout of fail2ban's jail for sshd."""
    attempts, seconds = _jail(bundle, ledger)
    return replace(known, accounts=tuple(_accounts(bundle, ledger)), lockout_attempts=attempts, lockout_seconds=seconds)


def _accounts(bundle: Bundle, ledger: LedgerBuilder) -> Iterator[Account]:
    file = bundle.get("etc/passwd")
    for number, line in enumerate(file.lines if file is not None else (), 1):
        if file is None or not line.strip():
            continue
        where, parts = file.span(number), line.split(":")
        if len(parts) != 7:
            ledger.unread(where, "is not a line of passwd with seven fields")
        elif not parts[6] or not _NO_LOGIN.fullmatch(parts[6]):
            ledger.read(where)
            role = "root" if parts[2] == "0" else ""
            yield Account(parts[0], where, role, no_password=stated(not parts[1], where))
        else:
            ledger.set_aside(where, "an account that cannot log in")


def release(bundle: Bundle, ledger: LedgerBuilder) -> Setting[str]:
    """The system and its version."""
    for place in ("etc/os-release", "usr/lib/os-release"):
        described = read_assignments(bundle.get(place), ledger, ("PRETTY_NAME",), "describes the system")
        if (name := described.get("PRETTY_NAME")) is not None:
            return stated(name.value, name.where)
    file = bundle.get("etc/debian_version")
    if file is not None and (version := file.lines[0].strip()) and re.fullmatch(r"\d{1,2}(\.\d{1,2})?", version):
        ledger.read(file.span(1))
        return stated(f"Debian GNU/Linux {version}", file.span(1))
    return unknown()


def _jail(bundle: Bundle, ledger: LedgerBuilder) -> tuple[Setting[float], Setting[float]]:
    """Attempts and seconds of the sshd jail; both unknown where no file of fail2ban is in the bundle.

    A jail that is not switched on locks nobody out, nor does one that spares every address. Files are read in the order of
    jail.conf(5): jail.conf, jail.d/*.conf, jail.local, jail.d/*.local.
    """
    files = [
        *filter(None, [bundle.get("etc/fail2ban/jail.conf")]),
        *bundle.under("etc/fail2ban/jail.d/", ".conf"),
        *filter(None, [bundle.get("etc/fail2ban/jail.local")]),
        *bundle.under("etc/fail2ban/jail.d/", ".local"),
    ]
    described: dict[tuple[str, str], tuple[str, Span]] = {}
    for file in files:
        _sections(file, ledger, described)
    if not files:
        return unknown(), unknown()

    def ask(key: str) -> tuple[str, Span] | None:
        return described.get(("sshd", key)) or described.get(("DEFAULT", key))

    home = files[-1].span(1)
    enabled, spared = ask("enabled"), ask("ignoreip")
    if spared is not None and any(_is_everybody(one) for one in re.split(r"[\s,]+", spared[0])):
        return stated(math.inf, spared[1]), stated(0.0, spared[1])
    if enabled is None or enabled[0].lower() not in ("true", "yes", "1", "on"):
        where = enabled[1] if enabled else home
        return default(math.inf, where), default(0.0, where)
    attempts, ban = ask("maxretry"), ask("bantime")
    return (
        stated(float(attempts[0]), attempts[1]) if attempts and is_whole(attempts[0]) else default(5.0, enabled[1]),
        _duration(ban, enabled[1]),
    )


def _is_everybody(text: str) -> bool:
    """Whether what is never banned is every address."""
    try:
        network = read_network(text)
    except NotUnderstoodError:
        return False
    return isinstance(network, Addresses) and network.first == 0 and network.last >= (1 << 32) - 1


def _duration(given: tuple[str, Span] | None, home: Span) -> Setting[float]:
    if given is None:
        return default(600.0, home)
    total = 0.0
    if given[0].strip().startswith("-"):
        return stated(math.inf, given[1])  # a negative time bans until somebody lifts it
    for number, unit in _TIME.findall(given[0].lower()):
        if unit not in _UNITS:
            return unknown()
        total += whole(number) * _UNITS[unit]
    return stated(total, given[1])


def _sections(file: ExportFile, ledger: LedgerBuilder, described: dict[tuple[str, str], tuple[str, Span]]) -> None:
    section = last = ""
    for number, line in enumerate(file.lines, 1):
        text, where = line.strip(), file.span(number)
        if not text:
            continue
        if text[0] in "#;":
            ledger.set_aside(where, "comment")
        elif text[0] == "[" and text[-1] == "]":
            section = text[1:-1]
            ledger.read(where)
        elif "=" in text and not line[:1].isspace():
            key, _, value = text.partition("=")
            last = key.strip()
            described[section, last] = (re.split(r"\s#", value)[0].strip(), where)
            if section in ("DEFAULT", "sshd") and key.strip() in (
                "enabled",
                "maxretry",
                "bantime",
                "findtime",
                "ignoreip",
            ):
                ledger.read(where)
            else:
                ledger.set_aside(where, "no check needs this setting of fail2ban")
        elif line[:1].isspace() and last == "ignoreip":
            so_far, begun = described[section, last]
            described[section, last] = (f"{so_far} {text}".strip(), begun)
            ledger.read(where)
        elif line[:1].isspace():
            ledger.set_aside(where, "no check needs this setting of fail2ban")
        else:
            ledger.unread(where, "is not a setting of fail2ban")

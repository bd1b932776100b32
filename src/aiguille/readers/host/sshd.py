"""sshd_config with its Include and Match, and the defaults of the program (sshd_config(5), OpenSSH 9.2)."""

from __future__ import annotations

import fnmatch
import math
import posixpath
from collections.abc import Iterator

from msgspec import Struct, field

from aiguille.model import (
    Administration,
    Fact,
    Known,
    ManagementService,
    NotUnderstoodError,
    Numbers,
    ServiceTerm,
    Setting,
    Span,
    default,
    stated,
)
from aiguille.readers.bundle import Bundle
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.literals import is_whole, read_port, whole

MAIN = "etc/ssh/sshd_config"
_DEPTH = 16
"""Levels of Include that sshd follows (servconf.c)."""

_FACTS = {
    "PermitRootLogin": "prohibit-password", "PasswordAuthentication": "yes", "KbdInteractiveAuthentication": "yes",
    "PubkeyAuthentication": "yes", "PermitEmptyPasswords": "no", "MaxAuthTries": "6", "LoginGraceTime": "120",
    "AuthenticationMethods": "", "X11Forwarding": "no", "AllowTcpForwarding": "yes", "AllowUsers": "", "AllowGroups": "",
    "Ciphers": "", "MACs": "", "KexAlgorithms": "",
}  # fmt: skip
"""Settings that become facts of the system, with the program's defaults; empty: unset, which the program fills by its release."""
_USED = frozenset(
    ["port", "listenaddress", "clientaliveinterval", "clientalivecountmax", *(name.lower() for name in _FACTS)]
)
_FORMER = {
    "challengeresponseauthentication": "kbdinteractiveauthentication",
    "skeyauthentication": "kbdinteractiveauthentication",
    "dsaauthentication": "pubkeyauthentication",
}
"""Names of settings that sshd still takes for others (servconf.c)."""
_SEVERAL = frozenset(["port", "listenaddress"])


class Said(Struct):
    """The settings outside Match, the first of a name counting as in sshd; those in Match beside them."""

    first: dict[str, tuple[str, Span]] = field(default_factory=dict)
    several: dict[str, list[tuple[str, Span]]] = field(default_factory=dict)
    matched: list[tuple[str, str, str, Span]] = field(default_factory=list)


def read(bundle: Bundle, ledger: LedgerBuilder) -> tuple[Administration, tuple[Fact, ...]]:
    """The way in by ssh, when an idle session is closed, and other settings. Nothing if the bundle has no sshd_config."""
    file = bundle.get(MAIN)
    if file is None:
        return Administration(), ()
    said = Said()
    _file(file, bundle, ledger, said, "", 0)
    listening = [_listening(text, where) for text, where in said.several.get("listenaddress", ())]
    ports = said.several.get("port", []) or [("22", file.span(1))]
    beyond = [one for one in listening if not one[0].startswith("127.") and one[0] not in ("::1", "localhost")]
    heard = beyond or listening
    # An address with a port of its own does not answer on the others (sshd_config(5), ListenAddress).
    answered = [(port, where) for _, port, where in heard if port]
    if not heard or any(not port for _, port, _ in heard):
        answered += ports
    services: list[ManagementService] = []
    for text, where in {text: (text, where) for text, where in answered}.values():
        try:
            port = read_port(text)
        except NotUnderstoodError as error:
            ledger.unread(where, str(error))
            continue
        term = ServiceTerm(Numbers(6, 6), (), (Numbers(port, port),))
        services.append(ManagementService("ssh", (term,), False, where, enabled=bool(beyond) or not listening))
    facts = tuple(_facts(said, file.span(1)))
    return Administration(services=tuple(services), idle_minutes=_idle(said, file.span(1))), facts


def _listening(text: str, where: Span) -> tuple[str, str, Span]:
    """Host and port of a ListenAddress: ``192.0.2.1``, ``192.0.2.1:2222``, ``[2001:db8::1]:2222``, ``2001:db8::1``."""
    if text.startswith("["):
        host, _, rest = text[1:].partition("]")
        return host, rest.removeprefix(":").split()[0] if rest.startswith(":") else "", where
    host, _, port = text.partition(":")
    return (text, "", where) if ":" in port else (host, port, where)


def _facts(said: Said, home: Span) -> Iterator[Fact]:
    for name, usual in _FACTS.items():
        key = name.lower()
        if key in said.first:
            yield Fact(f"sshd {name}", stated(*said.first[key]))
        elif usual:
            yield Fact(f"sshd {name}", default(usual, home))
        for match, other, value, where in said.matched:
            if other == key:
                yield Fact(f"sshd {name} (Match {match})", stated(value, where))


def _idle(said: Said, home: Span) -> Setting[float]:
    """Minutes until a silent client is cut off: ClientAliveInterval times ClientAliveCountMax, never where either is 0."""
    interval = said.first.get("clientaliveinterval")
    if interval is None:
        return default(math.inf, home)
    count = said.first.get("clientalivecountmax", ("3", home))[0]
    seconds = _seconds(interval[0])
    if seconds is None or not is_whole(count):
        return Setting(None, Known.UNKNOWN, interval[1])
    total = seconds * int(count)
    return stated(total / 60 if total else math.inf, interval[1])


def _seconds(text: str) -> int | None:
    """A time of sshd_config(5), "TIME FORMATS"."""
    units = {"s": 1, "m": 60, "h": 3600, "d": 86400, "w": 604800}
    total, number = 0, ""
    for char in text.lower():
        if is_whole(char):
            number += char
        elif char in units and number:
            total, number = total + whole(number) * units[char], ""
        else:
            return None
    return total + whole(number or "0")


def _file(file: ExportFile, bundle: Bundle, ledger: LedgerBuilder, said: Said, match: str, depth: int) -> str:
    for number, line in enumerate(file.lines, 1):
        text, where = line.strip(), file.span(number)
        if not text:
            continue
        if text[0] == "#":
            ledger.set_aside(where, "comment")
            continue
        key, _, value = text.replace("=", " ", 1).partition(" ") if "=" in text.split()[0] else text.partition(" ")
        key, value = key.lower(), value.strip().strip('"')
        key = _FORMER.get(key, key)
        if key == "match":
            match = "" if value.lower() == "all" else value
            ledger.read(where)
        elif key == "include":
            _include(value, where, bundle, ledger, said, match, depth)
        elif key not in _USED:
            ledger.set_aside(where, f"no check needs '{key}'")
        else:
            ledger.read(where)
            if match:
                said.matched.append((match, key, value, where))
            elif key in _SEVERAL:
                said.several.setdefault(key, []).append((value, where))
            else:
                said.first.setdefault(key, (value, where))
    return match


def _include(
    value: str, where: Span, bundle: Bundle, ledger: LedgerBuilder, said: Said, match: str, depth: int
) -> None:
    if depth >= _DEPTH:
        ledger.unread(where, "includes too deeply")
        return
    ledger.read(where)
    for pattern in value.split():
        place = posixpath.normpath(pattern if pattern.startswith("/") else f"/etc/ssh/{pattern}").lstrip("/")
        found = [name for name in sorted(bundle.by_place) if fnmatch.fnmatchcase(name, place)]
        if not found and ".." in pattern.split("/"):
            ledger.problem(where, f"'{pattern}' leads out of its folder; nothing outside the bundle is read")
        elif not found and not any(char in pattern for char in "*?["):
            ledger.problem(where, f"'{pattern}' is not in the bundle; what it sets is not known")
        for name in found:
            _file(bundle.by_place[name], bundle, ledger, said, match, depth + 1)

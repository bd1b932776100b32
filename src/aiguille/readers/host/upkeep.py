"""What keeps a host in order: whom it asks the time, what passwords must be, what starts with it, what it tells its neighbours.

chrony.conf(5), ntp.conf(5), timesyncd.conf(5), pwquality.conf(5), systemctl(1) list-unit-files, and `ss -H -tuln`.
"""

from __future__ import annotations

import re

from aiguille.model import Setting, Span, default, stated, unknown
from aiguille.readers.assignments import read_assignments
from aiguille.readers.bundle import Bundle
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.host.commands import listed_protocols, socket
from aiguille.readers.host.network import kind_of
from aiguille.readers.literals import is_whole

_ASKED = re.compile(r"\s*(?:server|pool|peer)\s+(\S+)")
_UNIT = re.compile(
    r"(\S+\.(?:service|socket|timer|target|mount|path|slice|scope|swap|automount|device))\s+(\S+)(?:\s+\S+)?"
)
_TELLING = {("udp", 5353), ("udp", 5355), ("udp", 1900), ("udp", 3702)}
"""Ports of multicast DNS (RFC 6762), LLMNR (RFC 4795), SSDP and WS-Discovery."""

LOADERS = {
    "the dump of iptables": (
        "netfilter-persistent",
        "iptables",
        "ip6tables",
        "ufw",
        "firewalld",
        "shorewall",
        "nftables",
    ),
    "the dump of nftables": ("nftables", "firewalld", "ufw", "shorewall"),
    "nftables.conf": ("nftables",),
    "the rules stored for the next start": ("netfilter-persistent", "iptables"),
    "ufw": ("ufw",),
    "firewalld": ("firewalld",),
    "Shorewall": ("shorewall",),
}
"""Units that put rules in place, by where the rules were read from."""


def time_sources(bundle: Bundle, ledger: LedgerBuilder) -> Setting[tuple[str, ...]]:
    """Servers the clock is set by; unknown where the bundle holds no file of a program that does that."""
    files = [file for place in ("etc/chrony/chrony.conf", "etc/chrony.conf", "etc/ntp.conf", "etc/ntpsec/ntp.conf")
             if (file := bundle.get(place)) is not None]  # fmt: skip
    files += [*bundle.under("etc/chrony/conf.d/", ".conf"), *bundle.under("etc/chrony/sources.d/", ".sources")]
    found: list[tuple[str, Span]] = []
    for file in files:
        for number, line in enumerate(file.lines, 1):
            if not line.strip():
                continue
            if (asked := _ASKED.match(line)) is not None:
                found.append((asked[1], file.span(number)))
                ledger.read(file.span(number))
            else:
                ledger.set_aside(file.span(number), "no check needs this setting of the clock")
    main = bundle.get("etc/systemd/timesyncd.conf")
    daemon = [*filter(None, [main]), *bundle.under("etc/systemd/timesyncd.conf.d/", ".conf")]
    for file in daemon:
        for number, line in enumerate(file.lines, 1):
            key, _, value = line.partition("=")
            if key.strip() in ("NTP", "FallbackNTP") and value.strip():
                found += [(one, file.span(number)) for one in value.split()]
                ledger.read(file.span(number))
            elif line.strip():
                ledger.set_aside(file.span(number), "no check needs this setting of the clock")
    if found:
        return stated(tuple(name for name, _ in found), found[0][1])
    if files:
        return default((), files[0].span(1))
    # timesyncd asks servers built in where its file names none (timesyncd.conf(5), FallbackNTP=).
    return default(("the servers built in",), daemon[0].span(1)) if daemon else unknown()


def passwords(bundle: Bundle, ledger: LedgerBuilder) -> tuple[Setting[float], Setting[float]]:
    """Least length and classes of characters of a new password; the program's defaults are 8 and 0."""
    file = bundle.get("etc/security/pwquality.conf")
    if file is None:
        return unknown(), unknown()
    described = read_assignments(file, ledger, ("minlen", "minclass"), "no check needs this setting of passwords")

    def ask(key: str, usual: float) -> Setting[float]:
        one = described.get(key)
        if one is None:
            return default(usual, file.span(1))
        return stated(float(one.value), one.where) if is_whole(one.value) else Setting()

    return ask("minlen", 8), ask("minclass", 0)


def discovery(bundle: Bundle, ledger: LedgerBuilder) -> Setting[bool]:
    """Whether a service that tells the neighbours of itself listens."""
    sockets = [file for file in bundle.files if kind_of(file) == "ss"]
    for file in sockets:
        for number, line in enumerate(file.lines, 1):
            found = socket(line)
            if found is not None and (found[0], found[2]) in _TELLING and not found[1].startswith("127."):
                return stated(True, file.span(number))
    told = next((file for file in sockets if 17 in listed_protocols(file.lines)), None)
    return stated(False, told.span(1, len(told.lines))) if told is not None else unknown()


def is_unit_list(file: ExportFile) -> bool:
    """Whether a file is what `systemctl list-unit-files` prints."""
    return any(line.startswith("UNIT FILE") and "STATE" in line for line in file.lines[:3])


def loads_rules(bundle: Bundle, ledger: LedgerBuilder, label: str, *, switch: bool = True) -> Setting[bool]:
    """Whether a unit that puts the rules in place starts with the host; ufw and Shorewall have a switch of their own too.

    label: where the rules were read from
    switch: whether the program's own switch says so where no list of units is there
    """
    enabled: dict[str, Span] = {}
    listed: dict[str, Span] = {}
    lists = [file for file in bundle.files if not file.place.startswith("etc/") and is_unit_list(file)]
    for file in lists:
        ledger.read(file.span(1, len(file.lines)))
        for number, line in enumerate(file.lines, 1):
            if (found := _UNIT.match(line)) is not None:
                name = found[1].removesuffix(".service")
                listed[name] = file.span(number)
                if found[2].startswith("enabled"):
                    enabled[name] = file.span(number)
    switched = _switch(bundle, label)
    if switched is not None and not switched.value:
        return switched
    loaders = LOADERS.get(label, ())
    if lists and loaders:
        if on := next((enabled[name] for name in loaders if name in enabled), None):
            return stated(True, on)
        return stated(False, next((listed[name] for name in loaders if name in listed), lists[0].span(1)))
    return switched if switched is not None and switch else unknown()


def _switch(bundle: Bundle, label: str) -> Setting[bool] | None:
    places = {"ufw": ("etc/ufw/ufw.conf", "ENABLED"), "Shorewall": ("etc/shorewall/shorewall.conf", "STARTUP_ENABLED")}
    if label not in places:
        return None
    place, key = places[label]
    file = bundle.get(place)
    for number, line in enumerate(file.lines if file is not None else (), 1):
        name, _, value = line.partition("=")
        if name.strip() == key and file is not None:
            return stated(value.strip().strip("\"'").lower() == "yes", file.span(number))
    return None

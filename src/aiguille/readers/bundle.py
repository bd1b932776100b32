"""The files of one host by their place below its root, and how a folder or archive is told to be such a bundle."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterator, Sequence
from functools import cached_property

from msgspec import Struct

from aiguille.readers.files import ExportFile

PROGRAMS = {"ufw": "etc/ufw/", "firewalld": "etc/firewalld/", "Shorewall": "etc/shorewall"}
"""Programs that write rules from files of their own, and where those lie."""

STORED = ("etc/iptables/rules.v4", "etc/iptables/rules.v6", "etc/sysconfig/iptables", "etc/sysconfig/ip6tables")
"""Where the rules lie that are loaded at the next start."""

PRINTED = (
    "ip-addr.json",
    "ip-link.json",
    "ip-route.json",
    "ip-route6.json",
    "ip-rule.json",
    "ip-rule6.json",
    "date.txt",
    "uptime.txt",
    "ss-tuln.txt",
    "sysctl.txt",
    "unit-files.txt",
)
"""What docs/collecting.md calls the files that describe a host beside its rules."""

_ETC = re.compile(r"(?:^|/)etc/")
_WANTED = re.compile(
    r"etc/(?:ufw/|default/ufw|firewalld/|shorewall6?/|ssh/sshd_config|fail2ban/|sysctl\.|systemd/journald\.|rsyslog\.|logrotate\."
    r"|chrony/chrony\.conf$|chrony/(?:conf|sources)\.d/|chrony\.conf$|ntp\.conf$|ntpsec/ntp\.conf$|systemd/timesyncd\.|security/pwquality\."
    r"|iptables/|sysconfig/ip6?tables|nftables\.|passwd$|os-release$|debian_version$|hostname$|issue$|ipset)"
    r"|usr/lib/(?:firewalld/|sysctl\.d/|os-release$)|usr/share/shorewall6?/"
    r"|(?!(?:etc|usr|var|boot|bin|lib|lib64|sbin|opt|home|root|srv|run|proc|sys|dev|tmp|mnt)/)"
)
"""Places of a host that are read; what commands print lies outside the host's own folders."""
_OF_A_HOST = re.compile(
    r"etc/(?:hostname|os-release|debian_version|issue|passwd|sysctl\.|ssh/sshd_config|fail2ban/|systemd/|rsyslog\.|logrotate\.)"
)
"""What shows that a folder is a copy of a host's, whatever the dump beside it is called."""
_MARKS = {
    "ufw": ("user.rules",),
    "firewalld": ("firewalld.conf", "zones"),
    "shorewall": ("policy", "zones"),
    "shorewall6": ("policy", "zones"),
}
"""Programs whose folder below /etc may be sent alone, and the names that must be in it."""


class Bundle(Struct, frozen=True, dict=True):
    """A host's files. Places are relative to its root, with forward slashes.

    sets: the names of the sets of ipset whose members some file of the bundle shows
    """

    files: tuple[ExportFile, ...]
    sets: frozenset[str] = frozenset()

    @cached_property
    def by_place(self) -> dict[str, ExportFile]:
        return {file.place: file for file in self.files if file.place}

    def get(self, place: str) -> ExportFile | None:
        return self.by_place.get(place)

    def under(self, prefix: str, suffix: str = "") -> Iterator[ExportFile]:
        """Files below a folder, in order of name."""
        for place in sorted(self.by_place):
            if place.startswith(prefix) and place.endswith(suffix):
                yield self.by_place[place]

    def has(self, prefix: str) -> bool:
        return any(place.startswith(prefix) for place in self.by_place)


_ZONE = re.compile(r"\s*+(?:<\?xml[^>]*+>\s*+)?(?:<!--(?:(?!-->).)*+-->\s*+)*+<zone[\s>/]", re.DOTALL)


def place_of_zone(file: ExportFile) -> str:
    """Where a file that holds a zone of firewalld lies on its host, by its root element (firewalld.zone(5)); else empty."""
    name = posixpath.basename(file.path.replace("\\", "/"))
    if not name.endswith(".xml") or not _ZONE.match("\n".join(file.lines[:40])):
        return ""
    return f"{PROGRAMS['firewalld']}zones/{name}"


def is_wanted(place: str) -> bool:
    """Whether a file at this place of a host is of use."""
    return _WANTED.match(place) is not None


def layout(paths: Sequence[str]) -> dict[str, dict[str, str]]:
    """The hosts among relative paths: for each root, the place of every path below it.

    A root is what stands before ``etc/``; a folder of one program sent alone is put where it belongs. Paths of no host are
    left out.
    """
    out: dict[str, dict[str, str]] = {}
    roots = {path[: found.start()].strip("/") for path in paths if (found := _ETC.search(path))}
    # What a host's own commands printed lies at its root, whether a copy of /etc is there or not.
    roots |= {
        posixpath.dirname(path) for path in paths if posixpath.basename(path) in PRINTED and not _ETC.search(path)
    }
    for root in roots:
        inside = {path: path[len(root) :].lstrip("/") for path in paths if not root or path.startswith(f"{root}/")}
        # A root within another belongs to itself.
        nested = [other for other in roots if other != root and (not root or other.startswith(f"{root}/"))]
        out[root] = {
            path: place
            for path, place in inside.items()
            if not any(path.startswith(f"{other}/") for other in nested if other)
        }
    taken = {path for places in out.values() for path in places}
    folders: dict[str, set[str]] = {}
    for path in paths:
        if path not in taken:
            folder, name = posixpath.split(path)
            folders.setdefault(folder, set()).add(name)
            while folder:
                folder, name = posixpath.split(folder)
                folders.setdefault(folder, set()).add(name)
    # Folders within others first, so that each file belongs to the nearest.
    for folder in sorted(folders, key=lambda name: (-name.count("/") - bool(name), name)):
        program = _program(folder, folders[folder])
        if program is None:
            continue
        # The folder may stand in a copy of /etc under another name.
        etc = posixpath.dirname(folder) if posixpath.basename(folder) == program else None
        places = out.setdefault(folder if etc is None else etc, {})
        for path in paths:
            if path in taken:
                continue
            if not folder or path.startswith(f"{folder}/"):
                places[path] = f"etc/{program}/{path[len(folder) :].lstrip('/')}"
            elif etc is not None and (not etc or path.startswith(f"{etc}/")):
                places.setdefault(path, f"etc/{path[len(etc) :].lstrip('/')}")
        taken |= set(places)
    return out


def _program(folder: str, names: set[str]) -> str | None:
    base = posixpath.basename(folder)
    for program, marks in _MARKS.items():
        if all(mark in names for mark in marks) and (base == program or base not in _MARKS):
            if program == "shorewall" and "shorewall6.conf" in names:
                return "shorewall6"
            return program
    return None


def recognise_places(places: Sequence[str]) -> str | None:
    """Why files at these places below a root look like a host's; None if they do not."""
    for name, prefix in PROGRAMS.items():
        if any(place.startswith(prefix) for place in places):
            return f"it holds the files of {name}"
    if any(place in (*STORED, "etc/nftables.conf", "etc/ssh/sshd_config") for place in places):
        return "it is laid out like the root of a host"
    if any(_OF_A_HOST.match(place) for place in places) and any("/" not in place for place in places):
        return "it holds what lies below /etc of a host beside what its commands print"
    if any(place in PRINTED for place in places) and any(place not in PRINTED for place in places):
        return "it holds what a host's own commands print of it"
    return None

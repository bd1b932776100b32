"""Settings of the kernel: `sysctl -a` where its output is in the bundle, else the files it is set from (sysctl.d(5))."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator

from aiguille.model import Fact, Setting, stated
from aiguille.readers.bundle import Bundle
from aiguille.readers.files import ExportFile, LedgerBuilder

_LINE = re.compile(r"-?\s*([a-zA-Z0-9_./*-]+)\s*=\s*(.*)")
_USED = re.compile(
    r"net\.ipv4\.tcp_syncookies|net\.ipv4\.ip_forward|net\.ipv6\.conf\.(?:all|default)\.forwarding"
    r"|net\.ipv[46]\.conf\.[^.]+\.(?:accept_source_route|accept_redirects|send_redirects|secure_redirects|rp_filter|log_martians)"
    r"|net\.ipv4\.icmp_echo_ignore_broadcasts|net\.netfilter\.nf_conntrack_(?:helper|max|tcp_loose|tcp_be_liberal)|net\.ipv6\.conf\.[^.]+\.disable_ipv6"
)
_OUTPUT = re.compile(r"(?:net|kernel|vm|fs|dev)\.[a-zA-Z0-9_./-]+ = .*")


def is_output(file: ExportFile) -> bool:
    """Whether a file is what `sysctl -a` prints."""
    lines = [line for line in file.lines[:20] if line.strip()]
    return bool(lines) and all(_OUTPUT.fullmatch(line.strip()) for line in lines)


def read(bundle: Bundle, ledger: LedgerBuilder, made: Iterable[Fact] = ()) -> tuple[Fact, ...]:
    """The settings that matter to a firewall, by name. What runs counts above what is set at the next start.

    made: what the firewall's program sets when it starts, which is after the files are read
    """
    found: dict[str, Setting[str]] = {}
    later = {one.name: one.setting for one in made}
    for file in _files(bundle):
        if is_output(file):
            found.update(later)
            later = {}
        for number, line in enumerate(file.lines, 1):
            text, where = line.strip(), file.span(number)
            if not text:
                continue
            if text[0] in "#;":
                ledger.set_aside(where, "comment")
                continue
            matched = _LINE.fullmatch(text)
            if matched is None:
                ledger.unread(where, "is not a setting such as net.ipv4.ip_forward = 1")
                continue
            name = matched[1].replace("/", ".")
            if _USED.fullmatch(name):
                ledger.read(where)
                found[name] = stated(matched[2].strip(), where)
            else:
                ledger.set_aside(where, "no check needs this setting of the kernel")
    found.update(later)
    return tuple(Fact(name, found[name]) for name in sorted(found))


def _files(bundle: Bundle) -> Iterator[ExportFile]:
    """In the order in which they take effect: by file name whatever the folder, sysctl.conf last, then what runs."""
    folders = ("usr/lib/sysctl.d/", "run/sysctl.d/", "etc/sysctl.d/")
    named = {file.place.rsplit("/", 1)[-1]: file for folder in folders for file in bundle.under(folder, ".conf")}
    yield from (named[name] for name in sorted(named))
    for place in ("etc/sysctl.conf", "etc/ufw/sysctl.conf"):
        if (file := bundle.get(place)) is not None:
            yield file
    inside = ("etc/", "usr/", "run/")
    yield from (file for file in bundle.files if not file.place.startswith(inside) and is_output(file))

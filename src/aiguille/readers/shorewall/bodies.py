"""The columns of one rule, as a row gives them or a macro fills them in, and the entries they become (shorewall-rules(5))."""

from __future__ import annotations

import re

from msgspec import Struct
from msgspec.structs import replace

from aiguille.model import Span
from aiguille.readers.shorewall.actions import Call
from aiguille.readers.shorewall.columns import zone_part
from aiguille.readers.shorewall.lines import UNKNOWN, ColumnRow

_DETAILS = ("rate", "user", "mark", "connlimit", "time", "headers", "switch")


class ActionLine(Struct, frozen=True):
    """A rule to be: its words without the target, the target, what was not understood."""

    where: Span
    words: tuple[str, ...]
    target: tuple[str, ...]
    gaps: tuple[str, ...] = ()

    @property
    def catches_all(self) -> bool:
        """Whether it decides on every packet, so that nothing after it is reached."""
        bare = not self.words or (self.words[:3] == ("-m", "comment", "--comment") and len(self.words) == 4)
        final = self.target in (("-j", "ACCEPT"), ("-j", "DROP"), ("-g", "reject")) or self.target[:2] == (
            "-j",
            "REJECT",
        )
        return bare and final and not self.gaps


class Columns(Struct, frozen=True):
    """The columns of a rule, which macros fill in further."""

    where: Span
    source: str = ""
    dest: str = ""
    protocol: str = ""
    dport: str = ""
    sport: str = ""
    origdest: str = ""
    details: tuple[tuple[str, str], ...] = ()
    inline: tuple[str, ...] = ()
    comment: str = ""
    gap: str = ""


class Server(Struct, frozen=True):
    """Where a translation leads: empty parts stay as they are."""

    zone: str
    address: str
    port: str


def server_of(call: Call, columns: Columns) -> Server:
    """Where a rule sends packets: ``dmz:10.0.5.11:8080``, ``dmz:[2001:db8::5]:8080``, ``3128``."""
    text = columns.dest
    if call.name.startswith("REDIRECT"):
        return Server("", "", text.rsplit(":", 1)[-1] if text not in ("", "-") else "")
    zone = ""
    if not call.name.endswith("-"):
        zone, _, text = text.partition(":")
    text = re.sub(r":(?:random|persistent)$", "", text)
    if found := re.fullmatch(r"\[([^\]]+)\](?::(\w+))?", text):
        return Server(zone, found[1], found[2] or "")
    if text.count(":") > 1:
        return Server(zone, text, "")
    address, _, port = text.partition(":")
    return Server(zone, address, port)


def columns_of(row: ColumnRow) -> Columns:
    """The columns of a row of rules."""
    details = {
        name: value
        for at, name in enumerate(_DETAILS, 7)
        if (value := row.column(at, f"{name}|ratelimit" if name == "rate" else name))
    }
    return Columns(
        row.where,
        source=_known(row.column(1, "source")),
        dest=_known(row.column(2, "dest")),
        protocol=_known(row.column(3, "proto|protocol")),
        dport=_known(row.column(4, "dport|dports|port|ports")),
        sport=_known(row.column(5, "sport|sports|cport")),
        origdest=_known(row.column(6, "origdest|origdst")),
        details=tuple(sorted((name, value) for name, value in details.items() if UNKNOWN not in value)),
        inline=tuple(word for word in row.inline if UNKNOWN not in word),
        comment=row.comment or row.named.get("comment", ""),
        gap=row.gap,
    )


def _known(text: str) -> str:
    """A column without what only the host knows, so that the rule is taken for as wide as it may be: the zone stays."""
    if UNKNOWN not in text:
        return text
    zone, _ = zone_part(text)
    return "" if UNKNOWN in zone or not zone else zone


def macro_line(line: str, family: int) -> tuple[str, Columns]:
    """A line of our own table of macros as the body of a macro."""
    if family == 6:
        line = line.replace("icmp 8", "ipv6-icmp 128")
    turned = line.startswith("<")
    source, dest = ("DEST", "SOURCE") if turned else ("", "")
    words = line.lstrip("< ").split()
    body = Columns(Span("", 0, 0), source, dest)
    if words[0].startswith("@"):
        return words[0][1:], body
    words += [""] * (3 - len(words))
    return "PARAM", replace(body, protocol=words[0], dport=words[1], sport=words[2])


def merged(body: Columns, outer: Columns) -> Columns:
    """The columns of a macro's line with those of the rule that calls it (shorewall-macros(5))."""
    ends = {"SOURCE": outer.source, "DEST": outer.dest}

    def end(text: str, own: str) -> str:
        if not text:
            return own
        name, found, rest = text.partition(":")
        if name in ends:
            return f"{ends[name]}:{rest}" if found else ends[name]
        return f"{own}:{text}" if own else text

    return replace(
        outer,
        source=end(body.source, outer.source),
        dest=end(body.dest, outer.dest),
        protocol=outer.protocol or body.protocol,
        dport=outer.dport or body.dport,
        sport=outer.sport or body.sport,
        origdest=outer.origdest or body.origdest,
        details=tuple(sorted((dict(body.details) | dict(outer.details)).items())),
        inline=(*body.inline, *outer.inline),
        comment=body.comment or outer.comment,
        gap=body.gap or outer.gap,
    )

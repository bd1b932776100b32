"""Rows of rules and blacklists into rules by pair of zones, and translations (shorewall-rules(5), shorewall-blrules(5))."""

from __future__ import annotations

import re

from msgspec.structs import replace

from aiguille.model import NotUnderstoodError, Span, UnreadableError
from aiguille.readers.shorewall.actions import TRANSLATING, Call, read_call
from aiguille.readers.shorewall.bodies import ActionLine, Columns, columns_of, server_of
from aiguille.readers.shorewall.calls import Calls
from aiguille.readers.shorewall.columns import address_words, alternatives, negated, zone_part
from aiguille.readers.shorewall.lines import ColumnRow, Folder
from aiguille.readers.shorewall.sections import SECTIONS, Sections
from aiguille.readers.shorewall.zones import Network


class Rules:
    """All rules by pair of zones, and translations by source zone."""

    def __init__(self, folder: Folder, network: Network) -> None:
        self.folder, self.network, self.ledger = folder, network, folder.ledger
        self.calls = Calls(folder, network)
        self.sections = Sections(folder, self.calls)
        self.nat: dict[str, list[ActionLine]] = {}

    def read(self) -> None:
        for row in self.folder.rows("blrules"):
            self._row(row, blacklist=True)
        for row in self.folder.rows("rules"):
            self._row(row)

    def _row(self, row: ColumnRow, blacklist: bool = False) -> None:
        self.ledger.read(row.where)
        section = row.section or "NEW"
        if section not in SECTIONS:
            raise UnreadableError(f"{row.where}: '{section}' is not a section of rules ({', '.join(SECTIONS)})")
        if not blacklist and section != self.sections.current:
            self.sections.begin(section)
        columns = columns_of(row)
        try:
            call = read_call(row.columns[0])
        except NotUnderstoodError as error:
            call, columns = Call("?"), replace(columns, gap=str(error))
        if call.name in ("ADD", "DEL", "HELPER", "INLINE", "IPTABLES", "IP6TABLES") or (
            blacklist and call.name == "BLACKLIST"
        ):
            columns, call = self._special(call, columns, row)
        for column, text in (("SOURCE", columns.source), ("DEST", columns.dest)):
            if text.endswith(":") and text.count(":") == 1:
                raise UnreadableError(
                    f"{row.where}: {column} '{text}' ends with a colon, as where a variable is empty; Shorewall refuses such a "
                    "configuration, so these files are not what runs"
                )
        for one, said in self.calls.expanded(call, columns):
            self._between(one, said, section, blacklist)

    def _between(self, call: Call, columns: Columns, section: str, blacklist: bool) -> None:
        """Put a rule, free of macros, where packets between its zones pass."""
        sources, own = self._zones(zone_part(columns.source)[0] or "all", columns.where)
        if call.name.startswith("REDIRECT") or call.name in ("DNAT-", "NONAT"):
            dests, its = [self.network.firewall], False
        else:
            dests, its = self._zones(zone_part(columns.dest)[0] or "all", columns.where)
        both = len(sources) == 1 == len(dests) or own or its
        for source in sources:
            if call.name in TRANSLATING and any(dest != source or both for dest in dests):
                self._translation(call, columns, source)
            if call.name.endswith("-") or call.name == "NONAT":
                continue
            for dest in dests:
                if source != dest or both:
                    held = self.sections.pair(source, dest)
                    entries = list(self.calls.entries(call, columns, f"{source}-{dest}"))
                    if blacklist:
                        held.blacklist += entries
                    else:
                        self.sections.put(held, f"{source}-{dest}", section, entries)

    def _special(self, call: Call, columns: Columns, row: ColumnRow) -> tuple[Columns, Call]:
        """Actions that write iptables' own words, fill sets or attach helpers."""
        if call.name == "BLACKLIST":
            name = self.folder.setting("BLACKLIST_DISPOSITION")
            return columns, Call(name, level=call.level or self.folder.setting("BLACKLIST_LOG_LEVEL"))
        if call.name == "INLINE" and row.inline:
            words = list(row.inline)
            if "-j" in words:
                at = words.index("-j")
                columns = replace(columns, inline=tuple(words[:at]))
                return columns, Call(words[at + 1], level=call.level)
            return columns, Call(call.parameters[0] if call.parameters else "COUNT", level=call.level)
        if call.name in ("IPTABLES", "IP6TABLES") and call.parameters:
            return columns, Call(call.parameters[0].split()[0], level=call.level)
        return columns, Call("COUNT", level=call.level)

    def _zones(self, text: str, where: Span) -> tuple[list[str], bool]:
        """The zones meant, and whether packets from a zone to itself are."""
        firewall = self.network.firewall
        head, _, without = text.partition("!")
        own = head.endswith("+")
        head = head.rstrip("+")
        left_out = {self.network.zone(name, where).name for name in filter(None, without.split(","))}
        if (found := re.fullmatch(r"(all|any)(-?)", head)) is not None:
            names = [firewall, *(zone.name for zone in self.network.order)]
            if found[1] == "any":
                names = [name for name in names if not self.network.zones[name].parents]
            if found[2]:
                names.remove(firewall)
            return [name for name in names if name not in left_out], own
        names = [self.network.zone(name.rstrip("+"), where).name for name in head.split(",")]
        return [name for name in names if name not in left_out], own

    def _translation(self, call: Call, columns: Columns, source: str) -> None:
        """The rule that translates, in the chain for packets from a zone."""
        name = call.name.rstrip("-")
        server = server_of(call, columns)
        if name in ("NONAT", "ACCEPT+"):
            target: tuple[str, ...] = ("-j", "ACCEPT")
            columns = replace(columns, dest=columns.dest if name == "NONAT" else "")
        elif name == "REDIRECT":
            target = ("-j", "REDIRECT", "--to-ports", server.port) if server.port else ("-j", "REDIRECT")
        else:
            address = f"[{server.address}]" if ":" in server.address else server.address
            target = ("-j", "DNAT", "--to-destination", f"{address}:{server.port}" if server.port else address)
        inside, _, outside = columns.origdest.partition("!")
        matches = self.calls.matches(replace(columns, origdest=""), zones=True, destination=False)
        try:
            origin = [address_words(text, "d") for text in inside.split(",") if text]
            for text in filter(None, outside.split(",")):
                matches.without += negated(address_words(text, "d"))
            matches.words = alternatives([matches.words, origin]) if origin else matches.words
        except NotUnderstoodError as error:
            matches.gaps.append(str(error))
        entries = self.calls.finished(call, matches, [[]], target, columns, f"{source}_dnat")
        self.nat.setdefault(source, []).extend(entries)

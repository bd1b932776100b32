"""The text of `firewall-cmd --list-all-zones` (firewall-cmd(1)): zones as they run, without services' definitions."""

from __future__ import annotations

import re

from aiguille.model import Span, UnreadableError
from aiguille.readers.assignments import Assigned
from aiguille.readers.bundle import Bundle
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.firewalld import firewalld
from aiguille.readers.firewalld.config import Zone
from aiguille.readers.firewalld.element import Element
from aiguille.readers.part import FirewallPart

_NAME = re.compile(r"[\w/-]+")
_ZONE = re.compile(r"(\S+)(?: \((active|default|default, active|active, default)\))?")
_KEYS = ("target", "icmp-block-inversion", "interfaces", "sources", "services", "ports", "protocols", "forward", "masquerade",
         "forward-ports", "source-ports", "icmp-blocks", "rich rules")  # fmt: skip
_TOKEN = re.compile(r'([a-z-]+)="([^"]*)"|(\S+)')
_ELEMENTS = frozenset(
    ["service", "port", "protocol", "source-port", "icmp-block", "icmp-type", "masquerade", "forward-port", "tcp-mss-clamp",
     "source", "destination", "log", "nflog", "audit", "accept", "reject", "drop", "mark", "limit"]
)  # fmt: skip


def recognise(file: ExportFile) -> str | None:
    """Why a file looks like a listing of firewalld's zones; None if it does not."""
    for number, line in enumerate(file.lines[:40], 1):
        following = file.lines[number].strip() if number < len(file.lines) else ""
        if line and not line[0].isspace() and _ZONE.fullmatch(line.strip()) and following.startswith("target: "):
            return f"line {number} opens firewalld's zone '{line.split()[0]}'"
    return None


def read(file: ExportFile, ledger: LedgerBuilder) -> FirewallPart:
    """The rules of the zones listed."""
    ledger.problem(
        file.span(1),
        "this listing is the poorer source: policies between zones, direct rules, sets and definitions of services are not in it; "
        "ask for a copy of /etc/firewalld and /usr/lib/firewalld",
    )
    return _Listed(file, ledger).part()


class _Listed(firewalld.Writer):
    """Zones of a listing in place of zone files."""

    def __init__(self, file: ExportFile, ledger: LedgerBuilder) -> None:
        self.file = file
        self.default = ""
        super().__init__(Bundle((file,)), ledger, Span(file.path, 1, 1))

    def _zones(self) -> dict[str, Zone]:
        out: dict[str, Zone] = {}
        zone: Zone | None = None
        key = ""
        for number, line in enumerate(self.file.lines, 1):
            text, where = line.strip(), self.file.span(number)
            if not text:
                continue
            if not line[0].isspace():
                if not _NAME.fullmatch(text.split()[0]):
                    following = self.file.lines[number : number + 1]
                    if following and following[0].strip().startswith("target: "):
                        raise UnreadableError(
                            f"{where}: '{text.split()[0]}' is no name of a zone; export the listing again"
                        )
                    self.ledger.unread(where, "this is no line of a zone's listing")
                    continue
                zone = Zone(text.split()[0], where)
                if "default" in text.partition("(")[2]:
                    self.default = zone.name
                out[zone.name] = zone
                self.ledger.read(where)
                continue
            if zone is None:
                continue
            name, colon, value = text.partition(":")
            if colon and name in _KEYS:
                key = name
                self.ledger.read(where)
                _described(zone, key, value.strip(), where)
            elif key in ("rich rules", "forward-ports"):
                self.ledger.read(where)
                _described(zone, key, text, where)
            else:
                zone.entries.append(Element(name.strip() or text, {}, "", where))  # it may let anything in
        self.default = self.default or ("public" if "public" in out else next(iter(out), "public"))
        return out

    def setting(self, name: str) -> Assigned:
        if name == "DefaultZone":
            where = self.zones[self.default].where if self.default in getattr(self, "zones", {}) else self.home
            return Assigned(self.default, where)
        return super().setting(name)


def _described(zone: Zone, key: str, value: str, where: Span) -> None:
    words = value.split()
    match key:
        case "target":
            zone.target = value or "default"
        case "interfaces":
            zone.interfaces += words
        case "sources":
            zone.sources += [(word, where) for word in words]
        case "forward":
            zone.forward = value == "yes"
        case "icmp-block-inversion":
            zone.inverted = value == "yes"
        case "masquerade":
            if value == "yes":
                zone.entries.append(Element("masquerade", {}, "", where))
        case "services" | "icmp-blocks":
            tag = "service" if key == "services" else "icmp-block"
            zone.entries += [Element(tag, {"name": word}, "", where) for word in words]
        case "protocols":
            zone.entries += [Element("protocol", {"value": word}, "", where) for word in words]
        case "ports" | "source-ports":
            for word in words:
                port, _, protocol = word.partition("/")
                zone.entries.append(Element(key[:-1], {"port": port, "protocol": protocol}, "", where))
        case "forward-ports":
            for word in words:
                parts = dict(part.partition("=")[::2] for part in re.split(r":(?=proto=|toport=|toaddr=)", word))
                described = {"port": parts.get("port", ""), "protocol": parts.get("proto", ""), "to-port": parts.get("toport", ""),
                        "to-addr": parts.get("toaddr", "")}  # fmt: skip
                zone.entries.append(Element("forward-port", described, "", where))
        case _:
            if words:
                zone.rules.append(_rich(value, where))


def _rich(text: str, where: Span) -> Element:
    """A rich rule in its own language (firewalld.richlanguage(5)) as the XML form has it."""
    attributes: dict[str, str] = {}
    children: list[list[object]] = []
    current = attributes
    for name, value, word in _TOKEN.findall(text):
        if name:
            current[name] = value
        elif word in _ELEMENTS:
            current = {}
            children.append([word, current])
        elif word == "NOT":
            current["invert"] = "yes"
        elif word != "rule":
            children.append([word, {}])  # a word that is no element leaves the rule open
    made: list[Element] = []
    for tag, described in children:
        one = Element(str(tag), described, "", where)  # type: ignore[arg-type]
        if tag == "limit" and made:
            last = made.pop()
            one = Element(last.tag, last.attributes, "", where, (one,))
        made.append(one)
    return Element("rule", attributes, "", where, tuple(made))

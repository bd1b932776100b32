"""From a tree and a dialect to a device."""

from __future__ import annotations

from collections.abc import Sequence

import re2

from aiguille.model import (
    Device,
    Logging,
    Secret,
)
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.mapped.administering import Administering
from aiguille.readers.mapped.objects import Objects
from aiguille.readers.mapped.rules import Rules
from aiguille.readers.mapped.spec import (
    Dialect,
)
from aiguille.readers.mapped.text import parse
from aiguille.readers.mapped.tree import Node, select
from aiguille.readers.mapped.values import (
    Extractor,
    read_seconds,
    read_text,
)
from aiguille.readers.references import check_names


def recognise(dialect: Dialect, file: ExportFile) -> str | None:
    """Why a file looks like an export of the dialect's make, None if it does not."""
    pattern = re2.compile(dialect.recognise.first_lines)
    for number, line in enumerate(file.lines[:20], 1):
        if pattern.search(line):
            return f"line {number} is how a {dialect.make} export begins"
    return None


def read(dialect: Dialect, files: Sequence[ExportFile], name: str) -> Device:
    """Read the export of one device; one file so far."""
    file = files[0]
    ledger = LedgerBuilder(tuple(files))
    root = parse(file, dialect.structure, ledger)
    return _Builder(dialect, file, root, ledger).device(name)


class _Builder:
    def __init__(self, dialect: Dialect, file: ExportFile, root: Node, ledger: LedgerBuilder) -> None:
        self.dialect = dialect
        self.file = file
        self.root = root
        self.ledger = ledger
        self.get = Extractor(dialect, ledger)
        self.ignored: set[int] = set()

    def device(self, name: str) -> Device:
        d, get = self.dialect, self.get
        self._ignore()
        parts = (d, self.root, get, self.ledger)
        objects, administering, rules = Objects(*parts), Administering(*parts), Rules(*parts)
        interfaces = objects.interfaces()
        zones = objects.zones(interfaces)
        addresses = tuple(one for m in d.addresses for one in objects.addresses(m))
        rules.address_names = frozenset(one.name for one in addresses)
        rules.ignored = frozenset(self.ignored)
        services = tuple(one for m in d.services for one in objects.services(m))
        administration = administering.administration()
        rulebases = [rules.rulebase(m) for m in d.rulebases]
        rulebases += rules.guards(interfaces, administration)
        for entry in check_names(rulebases, zones, addresses, services):
            self.ledger.problem(entry.where, entry.why)
        own_name = get.setting(self.root, d.device.name, read_text)
        firmware = get.setting(self.root, d.device.firmware, read_text)
        taken = get.setting(self.root, d.device.taken_at, read_text)
        since = get.setting(self.root, d.device.counters_since, read_text)
        logging = Logging(
            device_days=get.setting(self.root, d.logging.device_days, lambda v: read_seconds(_days(v)) / 86400),
            collectors=administering.collectors(),
        )
        self._leftover(self.root)
        return Device(
            name=own_name.value if own_name.known and not name else name,
            dialect=d.dialect,
            make=d.make,
            sources=(self.file.source,),
            ledger=self.ledger.finish(),
            firmware=firmware,
            taken_at=taken,
            counters_since=since,
            interfaces=interfaces,
            zones=zones,
            addresses=addresses,
            services=services,
            rulebases=tuple(rulebases),
            administration=administration,
            logging=logging,
            secrets=self._secrets(),
        )

    def _ignore(self) -> None:
        for one in self.dialect.ignore:
            for node in select(self.root, tuple(one.at.split("/"))):
                self.ignored.add(id(node))
                self.get.taken.add(id(node))
                self.ledger.set_aside(node.where, one.why)

    def _leftover(self, node: Node) -> None:
        """Statements nobody asked for are unread; blocks are read where anything in them was."""
        for child in node.children:
            if id(child) in self.ignored:
                continue
            if id(child) in self.get.taken:
                if spare := self.get.spare(child):
                    words = " ".join(word.text for word in spare)
                    self.ledger.unread(spare[0].where, f"'{words}' is more than the dialect reads of '{child.name}'")
                self._leftover(child)
            elif any(id(below) in self.get.taken for below in child.walk()):
                self.get.take(child)
                self._leftover(child)
            elif not self.ledger.spoken_for(child.head.file, child.head.first):
                inside = f" in '{node.name}'" if node.name else ""
                self.ledger.unread(child.where, f"the dialect has no place for '{child.name}'{inside}")

    def _secrets(self) -> frozenset[Secret]:
        found = (n for path in self.dialect.secrets for n in select(self.root, tuple(path.split("/"))))
        return frozenset(word.secret() for node in found for word in node.words)


def _days(value: object) -> str:
    """A bare number in a place that counts days."""
    text = str(value)
    return f"{text}d" if text.isdecimal() else text

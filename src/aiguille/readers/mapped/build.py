"""From a tree and a dialect to devices."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

from msgspec import Struct
from msgspec.structs import replace

from aiguille.model import Device, Ledger, Logging, Named, Secret, ServiceTerm, Side, Span, UnreadableError
from aiguille.model.patterns import pattern
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.mapped import sheet
from aiguille.readers.mapped.administering import Administering
from aiguille.readers.mapped.guards import Guards, answering_perhaps
from aiguille.readers.mapped.objects import Objects
from aiguille.readers.mapped.paths import read_path
from aiguille.readers.mapped.rules import Rules, with_doubt, with_strays, with_unread_interfaces
from aiguille.readers.mapped.spec import Devices, Dialect, SheetStructure, paths_of
from aiguille.readers.mapped.structure import parse
from aiguille.readers.mapped.tree import Node, NodePlace, Token, Tree, Unopened
from aiguille.readers.mapped.values import Extractor, read_text
from aiguille.readers.references import check_names

RECOGNISED_LINES = 20
RECOGNISED_SIGNS = 4096
"""Of each of these lines; an export on one line shows its make near the beginning."""


def recognise(dialect: Dialect, file: ExportFile) -> str | None:
    """Why a file looks like an export of the dialect's make, None if it does not."""
    described = dialect.recognise
    because = ""
    if described.columns:
        if not isinstance(dialect.structure, SheetStructure):
            return None
        tables = dialect.structure.tables.values()
        if not any(
            sheet.has_headings(one, table, described.columns) for one in file.sheets or (file,) for table in tables
        ):
            return None
        because = f"its columns are those of a {dialect.make} ({', '.join(described.columns)})"
    if described.first_lines:
        lines = (file.sheets[0] if file.sheets else file).lines[:RECOGNISED_LINES]
        first = pattern(described.first_lines)
        found = next((n for n, line in enumerate(lines, 1) if first.search(line[:RECOGNISED_SIGNS])), None)
        if found is None:
            return None
        because = because or f"line {found} is how exports of the {dialect.make} begin"
    return because or None


class Reading(Struct, frozen=True, dict=True):
    """What came of an export: its devices, the paths that led somewhere, and how many lines some device read, all know and
    none understands."""

    devices: tuple[Device, ...]
    found: frozenset[str]
    lines: tuple[int, int, int]


def read(dialect: Dialect, files: Sequence[ExportFile], name: str) -> tuple[Device, ...]:
    """The devices an export describes. `name`, if given, is that of the only one."""
    return examine(dialect, files, name).devices


def examine(dialect: Dialect, files: Sequence[ExportFile], name: str = "") -> Reading:
    """Read an export and keep account of the paths that led somewhere."""
    return with_tree(dialect, files, name)[0]


def with_tree(dialect: Dialect, files: Sequence[ExportFile], name: str = "") -> tuple[Reading, Node, frozenset[Node]]:
    """The same, the tree with the marks of what was asked for, and its statements that the dialect leaves out."""
    files = files[0].sheets or files
    tree = parse(files, dialect.structure)
    places = _places(dialect.devices, tree, files[0])
    builders = [_Builder(dialect, files, tree, place) for place in places]
    secrets = frozenset(secret for builder in builders for secret in builder.secrets())
    # What one device leaves another may use, so all are read before anything is called unread.
    devices = [builder.device(name if len(builders) == 1 else "") for builder in builders]
    done = []
    for builder, device in zip(builders, devices, strict=True):
        others = {
            other.place.node: one.name for other, one in zip(builders, devices, strict=True) if other is not builder
        }
        done.append(builder.finish(device, others, secrets))
    found = frozenset(path for builder in builders for path in builder.get.found)
    lines = LedgerBuilder.merged([builder.ledger for builder in builders])
    ignored = frozenset(node for builder in builders for node in builder.ignored)
    return Reading(tuple(done), found, lines), tree.root, ignored


def _places(m: Devices | None, tree: Tree, file: ExportFile) -> list[NodePlace]:
    """Where each device of the export is described."""
    if m is None:
        return [NodePlace(tree.root)]
    nodes = list(read_path(m.at).nodes(tree.root))
    if not nodes:
        raise UnreadableError(f"{file.path}:1: the export holds no device at '{m.at}'; is it whole?")
    return [NodePlace(node, _template(m, node)) for node in nodes]


def _template(m: Devices, node: Node) -> Node | None:
    """What a device falls back on."""
    if m.template is None:
        return None
    if m.templates is None or m.by is None:
        return next(read_path(m.template).nodes(node), None)
    named = next(read_path(m.template).nodes(node), None)
    words = read_path(m.template).chosen(named) if named is not None else ()
    if named is None or not words:
        return None
    _use(named, words[0])
    for template in read_path(m.templates).nodes(node):
        for place in read_path(m.by).nodes(template):
            for word in read_path(m.by).chosen(place):
                if word.text == words[0].text:
                    _use(place, word)
                    return template
    raise UnreadableError(f"{words[0].where}: there is no template '{words[0].text}' at '{m.templates}'")


def _use(node: Node, word: Token) -> None:
    node.taken = word.used = True


class _Run:
    """Statements set aside for the same reason, one right after the other, as one entry."""

    def __init__(self, ledger: LedgerBuilder) -> None:
        self.ledger = ledger
        self.first: Node | None = None
        self.last: Node | None = None
        self.why = ""

    def add(self, node: Node, why: str) -> None:
        last = self.last
        if last is not None and why == self.why and not node.stop and 0 <= node.first - last.last <= 1:
            self.last = node
            return
        self.finish()
        self.first = self.last = node
        self.why = why

    def finish(self) -> None:
        if self.first is not None and self.last is not None:
            where = self.first.where
            self.ledger.set_aside(replace(where, last=max(where.last, self.last.last)), self.why)
        self.first = self.last = None


class _Builder:
    def __init__(self, dialect: Dialect, files: Sequence[ExportFile], tree: Tree, place: NodePlace) -> None:
        self.dialect = dialect
        self.files = files
        self.tree = tree
        self.place = place
        self.ledger = LedgerBuilder(tuple(files), idle=tree.idle)
        self.get = Extractor(dialect, self.ledger, place)
        self.ignored: dict[Node, str] = {}
        self.leading: set[Node] = set()
        self.used: list[Node] = []
        self.strays: list[Node] = []
        self.in_part: list[Node] = []
        self.sharing: set[Span] = set()

    def device(self, name: str) -> Device:
        """The device, its ledger still open."""
        d, get, root = self.dialect, self.get, self.place.node
        for one in d.ignore:
            nodes = get.nodes(root, one.at)
            self.ignored.update(dict.fromkeys(nodes, one.why))
            for one_of_each in {node.parent: node for node in nodes}.values():
                self._lead_to(one_of_each)
        get.for_objects = True
        objects, administering, rules = Objects(d, get), Administering(d, get), Rules(d, get)
        interfaces = objects.interfaces()
        zones = objects.zones(interfaces)
        addresses = objects.all_addresses()
        services = objects.all_services()
        schedules = objects.schedules()
        get.for_objects = False
        rules.addresses = administering.addresses = {one.name: one for one in addresses}
        # A zone without interfaces and side may be the device itself, by its name; one on the device's side surely is.
        rules.zone_names = frozenset(z.name for z in zones if z.interfaces or z.side not in (None, Side.DEVICE))
        rules.interface_names = frozenset(one.name for one in interfaces)
        rules.own_zones = frozenset(zone.name.lower() for zone in zones if zone.side is Side.DEVICE)
        rules.service_names = frozenset(one.name for one in services)
        rules.sharing = self.sharing
        rules.schedules = {one.name: one.text for one in schedules}
        rules.ignored = administering.ignored = frozenset(self.ignored)
        administration = administering.administration()
        rulebases = [rules.rulebase(m) for m in d.rulebases]
        rulebases += Guards(d, get).rulebases(interfaces, administration)
        if objects.by_use(zones):
            zones = objects.zones_in_use(interfaces, rulebases)
        for entry in check_names(rulebases, zones, addresses, services):
            self.ledger.problem(entry.where, entry.why, matters=entry.matters)
        own_name = get.setting(root, d.device.name, read_text)
        return Device(
            name=own_name.value if own_name.known and not name else name,
            dialect=d.dialect,
            make=d.make,
            sources=tuple(file.source for file in self.files),
            ledger=LedgerBuilder(()).finish(),
            firmware=get.setting(root, d.device.firmware, read_text),
            taken_at=get.setting(root, d.device.taken_at, read_text),
            counters_since=administering.counted_since(),
            interfaces=interfaces,
            zones=zones,
            addresses=addresses,
            services=services,
            rulebases=tuple(rulebases),
            administration=administration,
            logging=Logging(
                device_days=administering.duration(root, d.logging.device_days, "days", "days"),
                collector_days=administering.duration(root, d.logging.collector_days, "days", "days"),
                collectors=administering.hosts(d.logging.collectors),
            ),
            schedules=schedules,
            portal=administering.portal(),
            geo_filters=administering.geo_filters(),
            flood_protection=get.flag(root, d.device.flood_protection),
            update_waiting=get.setting(root, d.device.update_waiting, read_text),
            updates_itself=get.flag(root, d.device.updates_itself),
            backed_up=get.setting(root, d.device.backed_up, read_text),
            time_sources=administering.hosts(d.device.time_sources),
            loads_rules=get.flag(root, d.device.loads_rules),
            advice=tuple(sorted(d.advice.items())),
        )

    def finish(self, device: Device, others: dict[Node, str], secrets: frozenset[Secret]) -> Device:
        """The device with its ledger. others: the names of the file's other devices, by where each stands."""
        for where, why in self.tree.asides.entries:
            self.ledger.set_aside(where, why)
        self._lead_to(self.place.node)
        self._leftover(self.tree.root, others)
        # Last, so that a line of which a part is set aside counts as read where another part is.
        self._read_used()
        ledger = self.ledger.finish()
        guard = self.dialect.behaviour.to_device
        known = _as_far_as_read(device, ledger, answering=guard is not None and guard.services_on_interfaces)
        bases = known.rulebases
        if self.strays or self.in_part:
            bases = tuple(with_strays(base, self.strays, self.in_part, self.sharing) for base in bases)
        if perhaps := _perhaps_interfaces(self.strays, device):
            bases = tuple(with_unread_interfaces(base, perhaps) for base in bases)
        return replace(known, rulebases=bases, ledger=ledger, secrets=secrets)

    def _leftover(self, node: Node, others: dict[Node, str]) -> None:
        """Statements nobody asked for are unread; blocks are read where anything in them was."""
        aside = _Run(self.ledger)
        ignored = self.ignored
        for child in node.children:
            if (why := ignored.get(child)) is not None:
                aside.add(child, why)
            elif (other := others.get(child)) is not None:
                aside.add(child, f"about device '{other}'")
            elif child.whole is not None:
                self.used.append(child)
            elif child.touched():
                self.used.append(child)
                if spare := self.get.spare(child):
                    self.in_part.append(child)
                    words = " ".join(word.text for word in spare)
                    self.ledger.unread(spare[0].where, f"'{words}' is more than the dialect reads of '{child.name}'")
                self._leftover(child, others)
            elif child in self.leading:
                self.used.append(child)
                self._leftover(child, others)
            elif self._holds_nothing(child):
                aside.add(child, "holds nothing")
            else:
                inside = f" in '{node.name}'" if node.name else ""
                self.ledger.unread(child.where, f"the dialect has no place for '{child.name}'{inside}")
                self.strays.append(child)
        aside.finish()

    @cached_property
    def _ways(self) -> frozenset[tuple[str, ...]]:
        """The names of the blocks that paths of the dialect lead through, from the top or from a device down."""
        out = set()
        for _, text in paths_of(self.dialect):
            names: list[str] = []
            for step in read_path(text).steps[:-1]:
                if step.special:
                    break
                names.append(step.name)
                out.add(tuple(names))
        return frozenset(out)

    def _holds_nothing(self, node: Node) -> bool:
        """Whether a block is empty that would hold what some path of the dialect leads to."""
        if node.words or node.children:
            return False
        names = [node.name]
        above = node.parent
        while above is not None and above is not self.place.node and above.parent is not None:
            names.append(above.name)
            above = above.parent
        return tuple(reversed(names)) in self._ways

    def _lead_to(self, node: Node) -> None:
        """Blocks that only lead to what is ignored, or to devices, say nothing by themselves."""
        while node.parent is not None and node.parent not in self.leading:
            node = node.parent
            self.leading.add(node)

    def _read_used(self) -> None:
        """What was used is read; objects that were whole, and stand one right after the other, at once."""
        whole: Unopened | None = None
        file, first, last = "", 0, 0
        for node in self.used:
            if whole is not None and node.whole is not None and node.file == file and 0 <= node.first - last <= 1:
                last = node.last
                continue
            if whole is not None:
                self.ledger.read_lines(file, first, last, whole.bare(first, last))
            whole, file, first, last = node.whole, node.file, node.first, node.last
            if whole is None:
                self._read(node)
        if whole is not None:
            self.ledger.read_lines(file, first, last, whole.bare(first, last))

    def _read(self, node: Node) -> None:
        for line in range(node.first, node.head_last + 1):
            self.ledger.read_line(node.file, line)
        if node.closing:
            self.ledger.read_line(node.file, node.closing)

    def secrets(self) -> frozenset[Secret]:
        """What must never be shown: of the device and of the template it falls back on, whether it does or not."""
        found: list[Token] = []
        for text in self.dialect.secrets:
            path = read_path(text)
            for start in (self.place.node, self.place.template):
                if start is not None and (nodes := list(path.nodes(start, self.place))):
                    self.get.found.add(path.text)
                    found += [word for node in nodes for word in path.chosen(node)]
        return frozenset(secret for word in found for secret in word.secrets())


def _perhaps_interfaces(strays: Sequence[Node], device: Device) -> dict[str, Node]:
    """Blocks the dialect has no place for that hold what the interfaces beside them do, by the names they give."""
    known = {one.where for one in device.interfaces if one.where is not None}
    out: dict[str, Node] = {}
    for stray in strays:
        beside = (
            [one for one in stray.parent.children if one.where in known] if stray.parent is not None and known else []
        )
        parts = {child.name for one in beside for child in one.children}
        mine = {child.name for child in stray.children}
        if stray.words and (len(parts & mine) > 1 or (mine and mine <= parts)):
            out[stray.words[0].text] = stray
    return out


def _as_far_as_read(device: Device, ledger: Ledger, *, answering: bool) -> Device:
    """A device whose objects are open where nothing was read of what they hold, and something of them was not understood; and so
    are its interfaces where nothing was read of what answers there, and its zones where none of their interfaces is described.

    answering: whether interfaces name what answers on them
    """
    unread = [entry.where for entry in ledger.unread]
    bare = _without_interfaces(device) if answering else {}
    nameless = [one.where for one in device.interfaces if not one.name and one.where]
    nameless += [one.where for one in device.zones if not one.name and one.where]
    if not (unread or bare or nameless):
        return device

    def is_cut(where: Span) -> bool:
        return any(where.holds(one) for one in unread)

    addresses = tuple(
        replace(one, unresolved=("what it holds",))
        if not (one.members or one.unresolved or one.countries) and is_cut(one.where)
        else one
        for one in device.addresses
    )
    services = tuple(
        replace(one, members=(), complete=False)  # its protocol alone would be every port of it
        if one.complete and not any(map(_says_which, one.members)) and is_cut(one.where)
        else one
        for one in device.services
    )
    cut = {one.name: one.where for one in device.interfaces if answering and one.where and is_cut(one.where)}
    silent = {name: (where, f"interface {name}") for name, where in cut.items()}
    silent |= {name: (where, f"zone {name}, no interface of which is described,") for name, where in bare.items()}
    bases = tuple(answering_perhaps(base, silent) for base in device.rulebases) if silent else device.rulebases
    bases = tuple(with_doubt(base, nameless, "the name of what holds it") for base in bases) if nameless else bases
    return replace(device, addresses=addresses, services=services, rulebases=bases)


def _without_interfaces(device: Device) -> dict[str, Span]:
    """Zones of which the export seems to leave out the interfaces, with their lines: all where it describes none, and those that
    face outside where none of them has one. Others may be spare ones."""
    told = any(zone.interfaces for zone in device.zones if zone.side is Side.OUTSIDE)
    return {
        zone.name: zone.where
        for zone in device.zones
        if zone.where and not zone.interfaces and (not device.interfaces or (zone.side is Side.OUTSIDE and not told))
    }


def _says_which(member: ServiceTerm | Named) -> bool:
    """Whether a member of a service says more than a protocol."""
    return isinstance(member, Named) or bool(member.source_ports or member.destination_ports or member.icmp)

"""Reader for a Linux host: a bundle of its files, laid out as below its root, and of what its commands print.

What counts is the rule set that runs, where its dump is in the bundle; else the rules that a program (ufw, firewalld,
Shorewall) would load from its files, or those stored for the next start. Where dump and files are both there, the device has
both: what runs, and what the program makes of its files (`Device.written`).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from enum import Enum

from msgspec import Struct
from msgspec.structs import replace

from aiguille.model import Device, Rulebase, SetObject, UnreadableError, default
from aiguille.readers import iptables, nftables
from aiguille.readers.bundle import PROGRAMS, STORED, Bundle, place_of_zone
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.firewalld import firewalld
from aiguille.readers.firewalld import listing as firewalld_listing
from aiguille.readers.host import accounts, clock, logs, network, sshd, sysctl, upkeep
from aiguille.readers.iptables.sets import as_filled
from aiguille.readers.nftables import json_form
from aiguille.readers.part import FirewallPart
from aiguille.readers.shorewall import shorewall
from aiguille.readers.ufw import added as ufw_added
from aiguille.readers.ufw import status as ufw_status
from aiguille.readers.ufw import ufw

NAME = "linux-host"
MAKE = "Linux host"

_READERS: dict[str, Callable[[Bundle, LedgerBuilder], FirewallPart]] = {
    "ufw": ufw.read,
    "firewalld": firewalld.read,
    "Shorewall": shorewall.read,
}
"""What reads the files of each of the programs of `PROGRAMS`."""

CONF = "nftables.conf"

POORER: tuple[
    tuple[str, Callable[[ExportFile], str | None], Callable[[ExportFile, LedgerBuilder], FirewallPart]], ...
] = (
    ("the listing of ufw", ufw_status.recognise, ufw_status.read),
    ("ufw's rules of its user", ufw.recognise, ufw.read_alone),
    ("commands of ufw", ufw_added.recognise, ufw_added.read),
    ("the listing of firewalld", firewalld_listing.recognise, firewalld_listing.read),
)
"""Listings that leave things out, read where nothing better is there."""


class Dump(Enum):
    """What programs print of the rules that run."""

    IPTABLES = "iptables"
    NFTABLES = "nftables"


class _Source(Struct, frozen=True):
    """Where a host's rules can come from: in words, the files it takes, how they are read, and what printed them if they run."""

    label: str
    files: tuple[ExportFile, ...]
    read: Callable[[], FirewallPart]
    dump: Dump | None = None


def describes(file: ExportFile) -> bool:
    """Whether a file is what a host's commands print of it beside its rules: its network, what listens, settings of its kernel."""
    return bool(network.kind_of(file)) or sysctl.is_output(file) or upkeep.is_unit_list(file)


def read(files: Sequence[ExportFile], name: str) -> Device:
    """Read the bundle of one host.

    Raises UnreadableError if nothing in it holds rules.
    """
    objects = {file.path: list(json_form.items(file)) for file in files if json_form.recognise(file)}
    ledger = LedgerBuilder(tuple(files), {path: [where for *_, where in found] for path, found in objects.items()})
    sets = iptables.read_sets(sorted(filter(iptables.is_sets, files), key=_is_below_etc), ledger)
    bundle = Bundle(tuple(files), frozenset(one.name for one in sets))
    source, *others = _sources(bundle, sets, name, objects, ledger)
    part = source.read()
    program, written = _written(part, source, others, bundle, ledger)
    made_of = program.files if program is not None else ()
    runs = program is not None and bool(_chains(part) & _chains(written))
    for other in others:
        for file in other.files:
            if file not in (*source.files, *made_of) and not _is_saved(source, file) and not iptables.is_sets(file):
                _leave(ledger, file, f"the rules are taken from {source.label}; these are not the ones that count")
    saved = _saved(bundle, source, sets, name, objects, ledger)
    if program is not None and saved is None:
        saved = written.rulebases
    if runs:
        part = _joined(part, written)
    facts = network.read(bundle, ledger)
    ssh, settings = sshd.read(bundle, ledger)
    administration = accounts.read(bundle, ledger, ssh)
    services = network.listening(bundle, ledger, administration.services)
    system, firmware = sysctl.read(bundle, ledger, part.system), accounts.release(bundle, ledger)
    taken = clock.taken(bundle, ledger, part.taken_at)
    since = clock.started(bundle, ledger, taken)
    logging = logs.read(bundle, ledger, part.rulebases)
    length, classes = upkeep.passwords(bundle, ledger)
    administration = replace(
        administration,
        services=services,
        password_length=length,
        password_classes=classes,
        discovery=upkeep.discovery(bundle, ledger),
        # A login by hardware address, or one that the maker built in, is no part of any system of this kind.
        link_layer=default(False),
        recovery_account=default(False),
    )
    shown = program if program is not None and runs else source
    time_sources, loads = upkeep.time_sources(bundle, ledger), upkeep.loads_rules(bundle, ledger, shown.label)
    for file in files:
        if ledger.untouched(file):
            backup = file.place.endswith((".old", "~", ".bak", ".dpkg-dist", ".dpkg-old", ".rpmsave", ".rpmnew"))
            why = "a backup copy that no program reads" if backup else "a file of the host that no check needs"
            ledger.set_aside_file(file, why)
    return Device(
        name=name,
        dialect=NAME,
        make=f"{MAKE} ({source.label})" if shown is source else f"{MAKE} ({shown.label}, with {source.label})",
        sources=tuple(file.source for file in files),
        ledger=ledger.finish(),
        firmware=firmware if firmware.known else part.firmware,
        taken_at=taken,
        counters_since=since,
        interfaces=network.joined(facts, part),
        zones=network.zones(facts, part),
        routes=tuple(facts.routes),
        listeners=network.listeners(bundle),
        listed=network.listed(bundle),
        services=part.services,
        rulebases=part.rulebases,
        waiting=part.waiting,
        written=written.rulebases if runs else (),
        sets=as_filled((*part.sets, *(one for one in sets if one not in part.sets)), part.rulebases),
        administration=administration,
        logging=logging,
        system=(*system, *settings),
        time_sources=time_sources,
        saved=saved,
        loads_rules=loads,
    )


def _is_below_etc(file: ExportFile) -> bool:
    return file.place.startswith("etc/")


def _sources(
    bundle: Bundle,
    sets: tuple[SetObject, ...],
    name: str,
    objects: dict[str, list[json_form.Item]],
    ledger: LedgerBuilder,
) -> list[_Source]:
    """All places the rules could come from, the one that counts first."""
    printed = [file for file in bundle.files if not _is_below_etc(file) and not iptables.is_sets(file)]

    def commands(files: tuple[ExportFile, ...]) -> FirewallPart:
        return iptables.read_part(files, name, ledger, sets)

    known = tuple(file for file in printed if iptables.recognise(file) and not ufw.recognise(file))
    scripts = tuple(file for file in known if iptables.is_script(file))
    dumps = tuple(file for file in known if file not in scripts)
    shown = tuple(file for file in printed if nftables.recognise(file))
    given = tuple(file for file in shown if nftables.is_script(file))
    rulesets = tuple(file for file in shown if file not in given)
    out: list[_Source] = []
    dumped = _Source(
        "the dump of iptables",
        (*dumps, *rulesets),
        lambda: _running(dumps, rulesets, sets, name, objects, ledger),
        Dump.IPTABLES,
    )
    if dumps and any(line.lstrip().startswith(("-A", "[")) for file in dumps for line in file.lines):
        out.append(dumped)
    elif rulesets:
        out.append(
            _Source("the dump of nftables", rulesets, lambda: _ruleset(rulesets, objects, ledger), Dump.NFTABLES)
        )
    for label, prefix in PROGRAMS.items():
        reader = _READERS[label]
        if held := tuple(bundle.under(prefix)):
            out.append(_Source(label, held, lambda reader=reader: reader(bundle, ledger)))  # type: ignore[misc]
    if (stored := bundle.get("etc/nftables.conf")) is not None:
        out.append(_Source(CONF, (stored,), lambda: _ruleset((stored,), objects, ledger)))
    if kept := tuple(file for place in STORED if (file := bundle.get(place)) is not None):
        out.append(_Source("the rules stored for the next start", kept, lambda: commands(kept)))
    if scripts:
        out.append(_Source("a script of iptables commands", scripts, lambda: commands(scripts)))
    if given:
        out.append(_Source("a script of nft commands", given, lambda: _ruleset(given, objects, ledger)))
    for label, recognised, reader_of in POORER:
        if shown := tuple(file for file in printed if recognised(file)):
            out.append(_Source(label, shown, lambda shown=shown, reader_of=reader_of: reader_of(shown[0], ledger)))  # type: ignore[misc]
    if not out and dumps:
        out.append(dumped)  # defaults alone, and nothing else says what filters
    if not out:
        raise UnreadableError(
            f"{bundle.files[0].path}: nothing in this bundle of {name} holds firewall rules; ask for the output of "
            "`nft -j list ruleset` or `iptables-save`, see docs/collecting.md"
        )
    return out


def _is_saved(source: _Source, file: ExportFile) -> bool:
    """Whether a file holds what the host starts with while the rules that run are in a dump."""
    if source.dump is Dump.IPTABLES:
        return file.place in STORED
    return source.dump is Dump.NFTABLES and file.place == "etc/nftables.conf"


def _ruleset(
    files: tuple[ExportFile, ...], objects: dict[str, list[json_form.Item]], ledger: LedgerBuilder
) -> FirewallPart:
    """One rule set; where both its forms are there, the text counts, since a line of it can be shown as it is."""
    best = next((file for file in files if file.path not in objects), files[0])
    for other in files:
        if other is not best:
            _leave(ledger, other, f"the same rule set as {best.path} in its other form")
    return nftables.read_part(best, objects.get(best.path), ledger)


def _running(
    dumps: tuple[ExportFile, ...],
    rulesets: tuple[ExportFile, ...],
    sets: tuple[SetObject, ...],
    name: str,
    objects: dict[str, list[json_form.Item]],
    ledger: LedgerBuilder,
) -> FirewallPart:
    """Dumps of iptables, and what nft shows beside the tables that iptables keeps there itself."""
    part = iptables.read_part(dumps, name, ledger, sets)
    if not rulesets:
        return part
    held = {f"{'ip' if 4 in r.families else 'ip6'} {r.name}" for r in part.rulebases}
    own = _ruleset(rulesets, objects, ledger)
    beside = tuple(r for r in own.rulebases if r.name not in held and r.name != "no table")
    return replace(part, rulebases=(*part.rulebases, *beside), sets=(*part.sets, *own.sets))


def _written(
    running: FirewallPart, source: _Source, others: Sequence[_Source], bundle: Bundle, ledger: LedgerBuilder
) -> tuple[_Source | None, FirewallPart]:
    """The program that made the rules of a dump, or will at the next start, and what it makes of its files; none if it is
    installed only."""
    for other in others if source.dump is not None else ():
        if other.label == CONF and source.dump is Dump.NFTABLES:
            try:
                return other, other.read()
            except UnreadableError:
                continue
        if other.label not in PROGRAMS:
            continue
        # Looked at apart first: no line of a program that does not count is taken for read.
        aside = LedgerBuilder(bundle.files)
        try:
            part = _READERS[other.label](bundle, aside)
        except UnreadableError:
            continue
        # That Shorewall's own switch is on says little: its package comes so.
        starts = upkeep.loads_rules(bundle, aside, other.label, switch=other.label == "ufw")
        if not part.waiting and (_chains(part) & _chains(running) or (starts.known and starts.value)):
            return other, other.read()
    return None, FirewallPart(())


def _chains(part: FirewallPart) -> frozenset[tuple[str, str]]:
    """Where the chains stand that a program, or who wrote the rules of nft, made and named; iptables brings its base chains along."""
    return frozenset(
        (base.name, chain.name)
        for base in part.rulebases
        for chain in base.chains
        if chain.base is None or " " in base.name
    )


def _joined(running: FirewallPart, written: FirewallPart) -> FirewallPart:
    """What runs, with what only the files of its program state of it."""
    held = {one.name for one in running.sets}
    return replace(
        running,
        sets=(*running.sets, *(one for one in written.sets if one.name not in held)),
        zones=running.zones or written.zones,
        interfaces=running.interfaces or written.interfaces,
        services=(*running.services, *written.services),
        default_zone=running.default_zone or written.default_zone,
        system=running.system or written.system,
    )


def _leave(ledger: LedgerBuilder, file: ExportFile, why: str) -> None:
    ledger.set_aside_file(file, why)


def _saved(
    bundle: Bundle,
    source: _Source,
    sets: tuple[SetObject, ...],
    name: str,
    objects: dict[str, list[json_form.Item]],
    ledger: LedgerBuilder,
) -> tuple[Rulebase, ...] | None:
    """The rules stored for the next start, where those that run were read from a dump."""
    kept = tuple(file for place in STORED if (file := bundle.get(place)) is not None)
    plain = bundle.get("etc/nftables.conf")
    try:
        if source.dump is Dump.IPTABLES and kept:
            return iptables.read_part(kept, name, ledger, sets).rulebases
        if source.dump is Dump.NFTABLES and plain is not None:
            return _ruleset((plain,), objects, ledger).rulebases
    except UnreadableError as error:
        file = kept[0] if kept else plain
        if file is not None:
            said = f"the rules stored for the next start cannot be read: {error.message}"
            ledger.problem(file.span(1), said)
    return None


def recognise(file: ExportFile) -> str | None:
    """Why a single file, sent without a bundle, is read as a host's: only the listings of ufw and firewalld are, the rules ufw
    keeps for its user, and zones of firewalld."""
    if place_of_zone(file):
        return "it holds a zone of firewalld"
    return next((why for _, recognised, _ in POORER if (why := recognised(file)) is not None), None)

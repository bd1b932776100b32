"""What stands outside the filter table: translations (shorewall-rules(5), shorewall-snat(5)) and checks of reverse paths."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence

from aiguille.model import NotUnderstoodError, Span
from aiguille.readers.iptables.tables import BUILT_IN, Table, Tables
from aiguille.readers.shorewall.bodies import ActionLine
from aiguille.readers.shorewall.columns import (
    Side,
    address_words,
    negated,
    ports_words,
    protocols_of,
    read_side,
)
from aiguille.readers.shorewall.lines import ColumnRow, Folder
from aiguille.readers.shorewall.policies import Policies
from aiguille.readers.shorewall.rules import Rules
from aiguille.readers.shorewall.zones import Network, Zone


def fill(tables: Tables, table: Table, name: str, entries: list[ActionLine], home: Span) -> None:
    """Append entries to a chain, which is made where it is missing."""
    if name not in table.chains:
        tables.chain(table, name, entries[0].where if entries else home)
    for one in entries:
        tables.append(table, name, one.where, [*one.words, *one.target], gaps=one.gaps)


def _made(tables: Tables, name: str, home: Span) -> Table:
    table = tables.table(name, home)
    for chain in BUILT_IN[name]:
        tables.chain(table, chain, home, "ACCEPT")
    return table


def translate(tables: Tables, folder: Folder, network: Network, policies: Policies, rules: Rules) -> None:
    """The table nat, where the folder asks for any translation."""
    masks = [*folder.rows("snat"), *folder.rows("masq")]
    if not rules.nat and not masks:
        return
    nat = _made(tables, "nat", folder.home)
    if own := rules.nat.get(network.firewall):
        fill(tables, nat, "OUTPUT", own, folder.home)
    for zone in network.order:
        chain = f"{zone.name}_dnat" if zone.name in rules.nat else ""
        if chain:
            fill(tables, nat, chain, rules.nat[zone.name], folder.home)
        # What a zone's own packets meet is not also what the zone around it says, but where a policy lets it have its say.
        inherited = any(parent in rules.nat for parent in zone.parents) and not _continues(zone, network, policies)
        for group in zone.groups:
            for net in group.networks or ("",):
                words = ["-i", group.interface.name, *(address_words(net, "s") if net and net != "dynamic" else [])]
                left = [word for out in group.without for word in negated(address_words(out, "s"))]
                if chain:
                    tables.append(nat, "PREROUTING", group.where, [*words, *left, "-j", chain])
                if inherited:
                    tables.append(nat, "PREROUTING", group.where, [*words, "-j", "RETURN"])
    for row in masks:
        _masquerade(tables, nat, row, network)
        folder.ledger.read(row.where)


def _continues(zone: Zone, network: Network, policies: Policies) -> bool:
    others = (other for other in network.order if other is not zone)
    return any(policies.between(zone, other).action.name == "CONTINUE" for other in others)


_SNAT = re.compile(r"SNAT\+?\(([0-9.:a-fA-F\[\]-]+)\)")


def _masquerade(tables: Tables, nat: Table, row: ColumnRow, network: Network) -> None:
    """Translation of the source, which leaves filtering as it is; masq is the table of Shorewall before 5.0."""
    old = row.columns[0].split(":")[0].rstrip("+") in network.interfaces
    dest = row.columns[0] if old else row.column(2, "dest")
    source = row.column(1, "source")
    side = Side() if source in ("", *network.interfaces) else read_side(f"x:{source}")
    found = _SNAT.fullmatch(row.columns[0])
    address = row.column(2, "address") if old else found[1] if found else ""
    target = ["SNAT", "--to-source", address] if address else ["MASQUERADE"]
    for name in [one for one in dest.split(":")[0].lstrip("+").split(",") if one]:
        held = network.interfaces.get(name)
        leaves: list[str] = ["-o", held.name if held else name]
        gaps: tuple[str, ...] = ()
        for one in side.addresses or ("",):
            try:
                ends = address_words(one, "s") if one else []
                ends += [word for out in side.without for word in negated(address_words(out, "s"))]
                services = list(_services(row, tables.family))
            except NotUnderstoodError as error:
                ends, services, gaps = [], [[]], (str(error),)
            for service in services:
                tables.append(nat, "POSTROUTING", row.where, [*leaves, *ends, *service, "-j", *target], gaps=gaps)


def _services(row: ColumnRow, family: int) -> Iterator[list[str]]:
    """Words for the protocols and ports of a row."""
    for protocol in protocols_of(row.column(3, "proto")):
        for ports in ports_words(protocol, row.column(4, "port|dport"), "d", family):
            yield [*(["-p", protocol] if protocol else []), *ports]


def check_reverse_paths(
    tables: Tables, folder: Folder, network: Network, recorded: Callable[[str, str, str], Sequence[str]]
) -> None:
    """The option rpfilter: packets whose source would not be reached by the interface they came in by are refused.

    recorded: the words of a record, by its level, chain and what is done
    """
    asked = [one for one in network.interfaces.values() if one.has("rpfilter")]
    if not asked:
        return
    mangle = _made(tables, "mangle", folder.home)
    tables.chain(mangle, "rpfilter", folder.home)
    for interface in asked:
        tables.append(mangle, "PREROUTING", interface.where, ["-i", interface.name, "-j", "rpfilter"])
    where = folder.setting_where("RPFILTER_DISPOSITION")
    if any(interface.has("dhcp") for interface in asked) and folder.family == 4:
        words = ["-s", "0.0.0.0", "-p", "udp", "--sport", "68", "--dport", "67", "-j", "RETURN"]
        tables.append(mangle, "rpfilter", where, words)
    forged = ["-m", "rpfilter", "--validmark", "--invert", "-m", "conntrack", "--ctstate", "INVALID,NEW,RELATED"]
    end = "DROP"
    if level := folder.setting("RPFILTER_LOG_LEVEL"):
        end = "rplog"
        tables.chain(mangle, end, folder.home)
        tables.append(mangle, end, where, list(recorded(level, "rpfilter", "DROP")))
        tables.append(mangle, end, where, ["-j", "DROP"])
    tables.append(mangle, "rpfilter", where, [*forged, "-j", end])

"""Direct rules of firewalld: rules of iptables beside its zones (firewalld.direct(5))."""

from __future__ import annotations

import shlex

from aiguille.model import Rulebase, Span
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.firewalld.element import Element, parse
from aiguille.readers.firewalld.expressions import priority_of
from aiguille.readers.iptables.tables import BUILT_IN, Tables


def read_direct(file: ExportFile | None, ledger: LedgerBuilder, sets: frozenset[str] = frozenset()) -> list[Rulebase]:
    """Rules of iptables that stand beside the zones (firewalld.direct(5)); they have their say before them."""
    if file is None:
        return []
    root = parse(file, ledger)
    tables = {family: Tables(family, ledger, sets) for family in (4, 6)}
    rules = [one for one in root.children if one.tag == "rule"]
    for one in root.children:
        ledger.read(one.where)
        if one.get("ipv") not in ("ipv4", "ipv6"):
            ledger.set_aside(one.where, "not a rule of ipv4 or ipv6")
            continue
        family = 4 if one.get("ipv") == "ipv4" else 6
        if one.tag == "chain":
            _declare(tables[family], one.get("table", "filter"), one.get("chain"), one.where)
    for one in sorted(rules, key=priority_of):
        if one.get("ipv") in ("ipv4", "ipv6"):
            family = 4 if one.get("ipv") == "ipv4" else 6
            _append(tables[family], one.get("table", "filter"), one.get("chain"), one.where, one.text)
    for one in root.children:
        if one.tag == "passthrough" and one.get("ipv") in ("ipv4", "ipv6"):
            _passthrough(tables[4 if one.get("ipv") == "ipv4" else 6], one)
    return [rulebase for each in tables.values() for rulebase in each.finish()]


def _declare(tables: Tables, table: str, chain: str, where: Span) -> None:
    made = tables.table(table, where)
    for name in BUILT_IN.get(table, ()):
        if name not in made.chains:
            tables.chain(made, name, where, "ACCEPT")
    if chain not in made.chains:
        tables.chain(made, chain, where)


def _append(tables: Tables, table: str, chain: str, where: Span, text: str) -> None:
    _declare(tables, table, chain, where)
    try:
        tables.append(tables.table(table, where), chain, where, shlex.split(text))
    except ValueError as error:
        tables.ledger.unread(where, f"the rule cannot be split into words ({error})")


def _passthrough(tables: Tables, one: Element) -> None:
    words = one.text.split()
    table = words[words.index("-t") + 1] if "-t" in words[:-1] else "filter"
    if "-t" in words:
        at = words.index("-t")
        del words[at : at + 2]
    if len(words) > 2 and words[0] in ("-A", "--append"):
        _append(tables, table, words[1], one.where, " ".join(words[2:]))
    else:
        tables.ledger.unread(one.where, "only passthrough rules that append (-A) are followed")

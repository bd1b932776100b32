"""Dialect files on trial: their examples run, a sample's coverage counted, the paths told that never led anywhere."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from msgspec import Struct

from aiguille.model import (
    Addresses,
    AiguilleError,
    Device,
    Field,
    LedgerEntry,
    Log,
    Rule,
    Setting,
    Translate,
    UsageError,
)
from aiguille.model.facts import FACTS
from aiguille.model.spelling import spell_operand
from aiguille.readers.files import ExportFile, decode
from aiguille.readers.mapped.build import Reading, examine, with_tree
from aiguille.readers.mapped.logs import LogTrial, try_log
from aiguille.readers.mapped.paths import read_path
from aiguille.readers.mapped.spec import (
    Dialect,
    Example,
    RuleMap,
    SheetStructure,
    TextStructure,
    Value,
    Where,
    fields_of,
    paths_of,
)
from aiguille.readers.mapped.tree import Node

Data = dict[str, Any]


class Tried(Struct, frozen=True):
    """What came of an example: nothing wrong, or in words what differs."""

    name: str
    faults: tuple[str, ...]


class Coverage(Struct, frozen=True):
    """How much of a sample a dialect reads.

    rules, doubtful: how many rules there are, and how many of them have a part that was not understood
    uncertain: how many of them only may match, for that or another condition that is not computed
    rule_lines, rule_lines_read: lines that belong to rules, and those of them that were read
    words, words_settled: words of all statements, names included, and those that a mapping asked for or an `ignore` covers
    """

    path: str
    devices: tuple[Device, ...]
    lines: int
    read: int
    known: int
    unread_lines: int
    unread: tuple[LedgerEntry, ...]
    problems: tuple[LedgerEntry, ...]
    rules: int
    doubtful: int
    uncertain: int
    rule_lines: int
    rule_lines_read: int
    words: int
    words_settled: int


class Trial(Struct, frozen=True):
    """A dialect file tried.

    idle: paths that led nowhere, as key of the file and path
    barren: places of rules that led somewhere and gave no rule of the samples anything, as key and path
    empty_words: words the dialect says mean nothing, as key and words
    logs: how log lines were read
    """

    dialect: Dialect
    examples: tuple[Tried, ...]
    samples: tuple[Coverage, ...]
    idle: tuple[tuple[str, str], ...]
    barren: tuple[tuple[str, str], ...]
    empty_words: tuple[tuple[str, str], ...]
    logs: tuple[LogTrial, ...] = ()

    @property
    def passed(self) -> bool:
        return not any(one.faults for one in self.examples)


def try_out(dialect: Dialect, samples: Sequence[ExportFile], logs: Sequence[ExportFile] = ()) -> Trial:
    """Run a dialect's examples and read samples and log lines by it.

    Raises UsageError for log lines where the dialect does not describe any, and UnreadableError for a sample that cannot be read.
    Paths are reported as idle if they led nowhere in the samples or, where none are given, in the examples.
    """
    if logs and dialect.log is None:
        raise UsageError(
            f"the dialect {dialect.dialect} describes no log lines; add a section 'log', see docs/dialects.md"
        )
    found: set[str] = set()
    tried = []
    for one in dialect.examples:
        faults, used = _example(dialect, one)
        tried.append(Tried(one.name, faults))
        found |= used
    covered = []
    if samples:
        found = set()
    for sample in samples:
        reading, root, ignored = with_tree(dialect, [sample])
        found |= reading.found
        covered.append(_coverage(sample.path, reading, _words(root, ignored)))
    idle = tuple((key, path) for key, path in paths_of(dialect) if read_path(path).text not in found)
    known = {path for _, path in idle}
    barren = tuple((key, path) for key, path in _barren(dialect, covered) if path not in known) if samples else ()
    devices = [device for one in covered for device in one.devices]
    read = tuple(try_log(dialect, one, devices) for one in logs)
    return Trial(dialect, tuple(tried), tuple(covered), idle, barren, tuple(_empty_words(dialect)), read)


_SERVICE = (Field.SERVICE, Field.PROTOCOL, Field.SOURCE_PORT, Field.DESTINATION_PORT, Field.ICMP)
_SHOWN_BY: dict[str, tuple[Field, ...]] = {
    "in_interface": (Field.IN_INTERFACE, Field.OUT_INTERFACE),
    "out_interface": (Field.OUT_INTERFACE,),
    "in_zone": (Field.IN_ZONE, Field.OUT_ZONE),
    "out_zone": (Field.OUT_ZONE,),
    "source": (Field.SOURCE, Field.IN_ZONE),
    "destination": (Field.DESTINATION, Field.OUT_ZONE),
    "states": (Field.STATE,),
    "translated": (Field.TRANSLATED,),
    **dict.fromkeys(("service", "protocol", "source_ports", "destination_ports", "icmp"), _SERVICE),
}
"""The conditions that a field of a rule becomes."""
_PAPERS = ("requester", "ticket", "expires", "created_by", "created_at", "changed_by", "changed_at")


def _barren(dialect: Dialect, samples: Sequence[Coverage]) -> Iterator[tuple[str, str]]:
    """Fields of rules that have a place, while no rule of the samples has anything to show for it."""
    rules = [rule for one in samples for device in one.devices for base in device.rulebases for _, rule in base.rules()]
    held = {condition.field for rule in rules for condition in rule.match.conditions}
    shown: dict[str, bool] = {name: bool(held.intersection(fields)) for name, fields in _SHOWN_BY.items()}
    shown |= {
        "name": any(rule.name for rule in rules),
        "comment": any(rule.comment for rule in rules),
        "hits": any(rule.hits is not None for rule in rules),
        "last_hit": any(rule.last_hit for rule in rules),
        "schedule": any(rule.schedule for rule in rules),
        "target": any(rule.target for rule in rules),
        "log_prefix": any(isinstance(e, Log) and e.prefix for rule in rules for e in rule.effects),
        "to_address": any(isinstance(e, Translate) for rule in rules for e in rule.effects),
        **{name: any(getattr(rule.documentation, name) for rule in rules) for name in _PAPERS},
    }
    for number, base in enumerate(dialect.rulebases, 1):
        for one in base.all_lists():
            for info in fields_of(RuleMap):
                where = getattr(one.rule, info.name)
                if where is not None and shown.get(info.name) is False and (path := _path_of(where)):
                    yield f"rulebases/{number}/{base.name}/rule/{info.encode_name}", path


def _path_of(where: Where) -> str:
    """The path of a place; "" for a constant."""
    if isinstance(where, str):
        return where
    paths = (where.source,) if isinstance(where.source, str) else where.source or where.all_of or where.join
    return ", ".join(paths)


def _empty_words(dialect: Dialect) -> Iterator[tuple[str, str]]:
    """Words that a dialect passes over: whoever reads it must agree that they change nothing."""
    structure = dialect.structure
    if isinstance(structure, TextStructure):
        fillers = dict.fromkeys(word for one in structure.sentences for word in one.fillers)
        if fillers:
            yield "structure/sentences/fillers", " ".join(fillers)
    if isinstance(structure, SheetStructure):
        neutral = dict.fromkeys(word for table in structure.tables.values() for word in table.neutral)
        if neutral:
            yield "structure/tables/neutral", ", ".join(neutral)
    free: dict[str, None] = {}
    for base in dialect.rulebases:
        for one in base.all_lists():
            values = [getattr(one.rule, info.name) for info in fields_of(RuleMap)]
            free |= dict.fromkeys(word for where in values if isinstance(where, Value) for word in where.any)
            free |= dict.fromkeys(word for qualifier in one.rule.qualifiers for word in qualifier.any)
    if free:
        yield "any", ", ".join(free)


def _example(dialect: Dialect, example: Example) -> tuple[tuple[str, ...], frozenset[str]]:
    try:
        reading = examine(dialect, [decode(example.name, example.text.encode())])
    except AiguilleError as error:
        return (str(error),), frozenset()
    wanted = example.holds
    device = next((d for d in reading.devices if d.name == wanted.get("name")), reading.devices[0])
    faults = list(differences(wanted, parts_of(device)))
    ledger = device.ledger
    if ledger.unread_lines != example.unread:
        described = "; ".join(f"line {entry.where.first}: {entry.why}" for entry in ledger.unread)
        faults.append(
            f"{ledger.unread_lines} lines are not understood, {example.unread} expected ({described or 'none'})"
        )
    faults += [f"line {entry.where.first}: {entry.why}" for entry in ledger.problems]
    return tuple(faults), reading.found


def differences(wanted: Any, given: Any, place: str = "") -> Iterator[str]:
    """Where `given` does not hold what is wanted: tables key by key, lists item by item, the rest by equality."""
    if isinstance(wanted, dict) and isinstance(given, dict):
        for key, value in wanted.items():
            below = f"{place}/{key}" if place else str(key)
            if key not in given:
                yield f"{below}: there is no such part; known here are {', '.join(given)}"
            else:
                yield from differences(value, given[key], below)
    elif isinstance(wanted, list) and isinstance(given, list):
        if len(wanted) != len(given):
            yield f"{place}: {len(wanted)} expected, {len(given)} found"
        for number, (one, other) in enumerate(zip(wanted, given, strict=False), 1):
            yield from differences(one, other, f"{place}/{number}")
    elif wanted != given:
        yield f"{place}: {wanted!r} expected, {given!r} found"


_PART_NAMES = {"portal.enabled": "portal_enabled"}
_LISTS = ("logging.collectors", "time_sources")


def parts_of(device: Device) -> Data:
    """The parts of a device that examples may speak of, as plain data."""
    admin, logging = device.administration, device.logging
    settings: dict[str, Setting[Any]] = {
        "taken_at": device.taken_at,
        "counters_since": device.counters_since,
        **{_PART_NAMES.get(fact.path, fact.name): fact.of(device) for fact in FACTS if fact.path not in _LISTS},
    }
    return {
        "name": device.name,
        **{name: _value(setting) for name, setting in settings.items()},
        "defaults": sorted(name for name, setting in settings.items() if setting.standing == "default"),
        "collectors": list(logging.collectors.value) if logging.collectors.known else None,
        "interfaces": [
            {
                "name": i.name, "zone": i.zone, "enabled": i.enabled, "services": list(i.services), "comment": i.comment,
                "addresses": [spell_operand(a) for a in i.addresses], "networks": [spell_operand(a) for a in i.networks],
            }
            for i in device.interfaces
        ],
        "zones": [
            {"name": z.name, "side": z.side.value if z.side else None, "interfaces": list(z.interfaces)}
            for z in device.zones
        ],
        "addresses": [
            {
                "name": a.name, "members": [spell_operand(m) for m in a.members], "excluded": [spell_operand(m) for m in a.excluded],
                "unresolved": list(a.unresolved), "countries": list(a.countries), "comment": a.comment,
            }
            for a in device.addresses
        ],
        "services": [{"name": s.name, "members": [spell_operand(m) for m in s.members]} for s in device.services],
        "schedules": [{"name": s.name, "times": s.text} for s in device.schedules],
        "management": [
            {
                "name": s.name, "enabled": s.enabled, "cleartext": s.cleartext, "terms": [spell_operand(t) for t in s.terms],
                "sources": _sources(s.sources),
            }
            for s in admin.services
        ],
        "accounts": [
            {
                "name": a.name, "role": a.role, "enabled": a.enabled, "sources": _sources(a.sources),
                "second_factor": _value(a.second_factor), "last_used": _value(a.last_used),
            }
            for a in admin.accounts
        ],
        "portal_sources": _sources(device.portal.sources),
        "geo_filters": [
            {
                "name": g.name, "countries": list(g.countries), "allows": g.allows, "inward": g.inward, "outward": g.outward,
                "enabled": g.enabled, "exceptions": [spell_operand(e) for e in g.exceptions],
            }
            for g in device.geo_filters
        ],
        "chains": [
            {
                "name": chain.name, "rulebase": rulebase.name, "policy": chain.policy.value if chain.policy else None,
                "stage": chain.base.stage.value if chain.base else None,
                "default": chain.policy_is_default, "logged": chain.policy_logs,
            }
            for rulebase in device.rulebases
            for chain in rulebase.chains
        ],
        "rules": [
            _rule(device, chain.name, rule)
            for rulebase in device.rulebases
            for chain, rule in rulebase.rules()
            if not (rule.built_in and rule.unread)  # stands for what an excerpt leaves out
        ],
    }  # fmt: skip


def _rule(device: Device, chain: str, rule: Rule) -> Data:
    described = rule.documentation
    return {
        "chain": chain,
        "rule": rule.number,
        "line": rule.where.first,
        "text": "\n".join(device.text(rule.where)),
        "name": rule.name,
        "comment": rule.comment,
        "enabled": rule.enabled,
        "built_in": rule.built_in,
        "action": rule.action.value,
        "target": rule.target,
        "hits": rule.hits.packets if rule.hits else None,
        "last_hit": rule.last_hit,
        "logged": any(isinstance(effect, Log) for effect in rule.effects),
        "schedule": rule.schedule,
        "matches": {
            f"{'not ' if c.negated else ''}{c.field.value}": [spell_operand(o) for o in c.operands]
            for c in rule.match.conditions
        },
        "qualifiers": [q.name for q in rule.qualifiers],
        **{name: getattr(described, name) for name in described.__struct_fields__},
    }


def _value(setting: Setting[Any]) -> Any:
    return setting.value if setting.known else None


def _sources(setting: Setting[tuple[Addresses, ...]]) -> list[str] | None:
    return [spell_operand(a) for a in setting.value] if setting.known else None


def _coverage(path: str, reading: Reading, words: tuple[int, int]) -> Coverage:
    devices = reading.devices
    ledgers = [device.ledger for device in devices]
    # What one device of a file does not read may be about another; unread is what no device reads.
    unread = set(ledgers[0].unread).intersection(*(ledger.unread for ledger in ledgers))
    lines_unread = {(e.where.file, n) for e in unread for n in range(e.where.first, e.where.last + 1)}
    rules = [rule for device in devices for rulebase in device.rulebases for _, rule in rulebase.rules()]
    lines = {
        (rule.where.file, n)
        for rule in rules
        if not rule.built_in
        for n in range(rule.where.first, rule.where.last + 1)
    }
    return Coverage(
        path=path,
        devices=devices,
        lines=sum(reading.lines),
        read=reading.lines[0],
        known=reading.lines[1],
        unread_lines=reading.lines[2],
        unread=tuple(sorted(unread)),
        problems=tuple(sorted({p for ledger in ledgers for p in ledger.problems})),
        rules=len(rules),
        doubtful=sum(rule.unread for rule in rules),
        uncertain=sum(bool(rule.qualifiers) for rule in rules),
        rule_lines=len(lines),
        rule_lines_read=len(lines - lines_unread),
        words=words[0],
        words_settled=words[1],
    )


def _words(node: Node, ignored: frozenset[Node]) -> tuple[int, int]:
    """How many words the statements inside one have, their names included, and how many of them are settled."""
    words = settled = 0
    for child in node.children:
        if child.whole is not None:
            words, settled = words + 1 + child.whole.names, settled + 1 + child.whole.names
            continue
        below, settled_below = _words(child, ignored)
        own = 1 + len(child.words)
        words += own + below
        if child in ignored:
            settled += own + below
        else:
            settled += child.touched() + sum(word.used for word in child.words) + settled_below
    return words, settled

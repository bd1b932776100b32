"""The objects of an nft rule set, from either form, into rule bases and sets."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.model import (
    Action,
    Base,
    Chain,
    Field,
    Named,
    NotUnderstoodError,
    Rule,
    Rulebase,
    SetEntry,
    SetObject,
    Span,
    Stage,
    UnreadableError,
)
from aiguille.readers.calls import refuse_circles
from aiguille.readers.files import LedgerBuilder
from aiguille.readers.nftables.conditions import Conditions, bare, entry
from aiguille.readers.nftables.keys import SET_TYPES, Key, key_of, spell
from aiguille.readers.nftables.rule import StatementReader

_FAMILIES = {"ip": frozenset([4]), "ip6": frozenset([6]), "inet": frozenset([4, 6])}
_ASIDE = {
    "bridge": "frames that a bridge passes on are not followed; what it drops here never reaches the rules read",
    "netdev": "what arrives at one interface is not followed before routing; what it drops here never reaches the rules read",
    "arp": "address resolution is not followed",
}
_OBJECTS = {
    "counter": "a named counter; no check needs it",
    "quota": "a named quota; rules that use it are kept as ones that may match",
    "limit": "a named rate limit; rules that use it are kept as ones that may match",
    "ct helper": "a connection helper; no check needs it",
    "ct timeout": "a timeout of connections; no check needs it",
    "ct expectation": "an expected connection; no check needs it",
    "ct": "an object of connection tracking; no check needs it",
    "secmark": "a security label; no check needs it",
    "synproxy": "settings of a SYN proxy; no check needs them",
    "flowtable": "a fast path for connections that rules have let in",
}
_POLICIES = {"accept": Action.ACCEPT, "drop": Action.DROP}

Ref = tuple[str, str]
"""Family and name of a table."""


class _Chain(Struct):
    body: Mapping[str, Any]
    where: Span
    rules: list[tuple[Mapping[str, Any], Span]] = field(default_factory=list)


class _Table(Struct):
    family: str
    name: str
    where: Span | None
    dormant: bool = False
    chains: dict[str, _Chain] = field(default_factory=dict)
    sets: dict[str, tuple[dict[str, Any], Span]] = field(default_factory=dict)
    maps: dict[str, tuple[dict[str, Any], Span]] = field(default_factory=dict)
    objects: set[str] = field(default_factory=set)

    def filled(self) -> frozenset[str]:
        """The sets and maps to which rules add: what is listed is what they held at that moment.

        The JSON of nft 1.0.6 leaves out `flags dynamic`.
        """
        statements = [one for chain in self.chains.values() for body, _ in chain.rules for one in body["expr"]]
        return frozenset(
            one["set"]["set"].lstrip("@")
            for one in statements
            if isinstance(one, dict) and isinstance(one.get("set"), dict) and isinstance(one["set"].get("set"), str)
        )


class Builder:
    """Collects the objects of a rule set and joins them."""

    def __init__(self, path: str, ledger: LedgerBuilder) -> None:
        self.path = path
        self.ledger = ledger
        self.tables: dict[Ref, _Table] = {}

    def add(self, kind: str, body: Any, where: Span) -> None:
        """Take in one object; what is not known goes to the ledger as unread."""
        if kind == "metainfo":
            return
        if not isinstance(body, dict):
            self.ledger.unread(where, f"'{kind}' does not have the shape we know")
            return
        family = str(body.get("family", "ip"))
        if family in _ASIDE:
            self.ledger.set_aside(where, f"family {family}: {_ASIDE[family]}")
            return
        if family not in _FAMILIES:
            said = f"'{family}' is not a family of nft that we know"
            self.ledger.unread(where, said)
            if "expr" in body:
                self._anywhere(where, said)
            return
        if kind == "table":
            table = self._table(family, str(body.get("name", "")), where)
            # Version 1.0.6 of nft cuts the word short in its JSON.
            table.dormant = table.dormant or "dorm" in str(body.get("flags", ""))
            self.ledger.read(where)
            return
        table = self._table(family, str(body.get("table", "")), where)
        self._inside(table, kind, body, where)

    def _table(self, family: str, name: str, where: Span) -> _Table:
        return self.tables.setdefault((family, name), _Table(family, name, where))

    def _inside(self, table: _Table, kind: str, body: dict[str, Any], where: Span) -> None:
        name = str(body.get("name", ""))
        match kind:
            case "chain":
                if name in table.chains and "hook" not in body:
                    return
                table.chains[name] = _Chain(body, where, table.chains[name].rules if name in table.chains else [])
                self.ledger.read(where)
            case "rule":
                chain = table.chains.get(str(body.get("chain", "")))
                if chain is None or not isinstance(body.get("expr"), list):
                    said = f"the rule belongs to chain '{body.get('chain', '')}', which the table does not have"
                    self.ledger.unread(where, said)
                    self.ledger.problem(where, said)
                    self._anywhere(where, said)
                    return
                chain.rules.append((body, where))
            case "set" | "map" | "meter":
                if (wrong := _misshapen(body)) is not None:
                    kept = {key: value for key, value in body.items() if key not in _LISTS}
                    body = {**kept, "gap": f"'{wrong}' of '{name}' does not have the shape we know"}
                (table.maps if kind == "map" else table.sets)[name] = (dict(body), where)
                self.ledger.read(where)
                if "gap" in body:
                    self.ledger.unread(where, f"{body['gap']}; rules that use the set are kept as ones that may match")
            case "element":
                known = table.maps.get(name) or table.sets.get(name)
                if known is None:
                    self.ledger.unread(where, f"adds elements to '{name}', which the table does not have")
                    return
                if _misshapen(body) is not None or "elem" not in body:
                    known[0]["gap"] = f"elements of '{name}' do not have the shape we know"
                    self.ledger.unread(
                        where, f"{known[0]['gap']}; rules that use the set are kept as ones that may match"
                    )
                    return
                known[0]["elem"] = [*known[0].get("elem", []), *body["elem"]]
                self.ledger.read(where)
            case _ if kind in _OBJECTS:
                self.ledger.set_aside(where, _OBJECTS[kind])
            case _:
                said = f"'{kind}' is not an object of nft that we know"
                self.ledger.unread(where, said)
                if (chain := table.chains.get(str(body.get("chain", "")))) is not None:
                    chain.rules.append(({"expr": [], "gap": said, "open": True}, where))  # it may be a rule
                elif "chain" in body or "expr" in body:
                    self._anywhere(where, said)

    def _anywhere(self, where: Span, why: str) -> None:
        """A rule nobody knows the place of may stand at the end so far of every chain that packets meet."""
        for table in self.tables.values():
            for chain in table.chains.values():
                if "hook" in chain.body:
                    chain.rules.append(({"expr": [], "gap": why, "open": True}, where))

    def finish(self) -> tuple[tuple[Rulebase, ...], tuple[SetObject, ...]]:
        """The rule bases and sets; raises UnreadableError if there is no table or chains go in a circle."""
        if not self.tables:
            raise UnreadableError(
                f"{self.path}: no table of ip, ip6 or inet was found; is this the whole output of `nft list ruleset`?"
            )
        names = self._set_names()
        rulebases, sets = [], []
        for ref, table in self.tables.items():
            mine = {name: full for (owner, name), full in names.items() if owner == ref}
            filled = table.filled()
            sets += [self._set(mine[name], body, where, name in filled) for name, (body, where) in table.sets.items()]
            rulebases.append(self._rulebase(table, mine))
        return (*rulebases, *self._unfiltered()), tuple(sets)

    def _set_names(self) -> dict[tuple[Ref, str], str]:
        """Names of sets in the model: their own where only one table has it, else with the table's."""
        owners: dict[str, int] = {}
        for table in self.tables.values():
            for name in table.sets:
                owners[name] = owners.get(name, 0) + 1
        return {
            (ref, name): name if owners[name] == 1 else f"{table.family} {table.name} {name}"
            for ref, table in self.tables.items()
            for name in table.sets
        }

    def _set(self, name: str, body: Mapping[str, Any], where: Span, filled: bool) -> SetObject:
        keys = _set_keys(body)
        changing = filled or _changes(body)
        if keys is None or "gap" in body:
            return SetObject(name, ("other",), (), where, complete=False)
        entries: list[SetEntry] = []
        complete = not changing
        for given in body.get("elem", []):
            try:
                entries.append(entry(keys, bare(given)))
            except (NotUnderstoodError, KeyError, TypeError, ValueError) as error:
                complete = False
                self.ledger.unread(where, f"element '{spell(given)}' of set '{name}': {error}")
        return SetObject(name, tuple(key.dimension for key in keys), tuple(entries), where, complete)

    def _rulebase(self, table: _Table, sets: Mapping[str, str]) -> Rulebase:
        gaps: set[Span] = set()

        def report(where: Span, why: str) -> None:
            gaps.add(where)
            self.ledger.unread(where, f"{why}; the rule is kept as one that may match")

        filled = table.filled()
        maps: dict[str, list[tuple[Any, Any]] | None] = {
            name: None
            if name in filled or _changes(body) or "gap" in body
            else [(one[0], one[1]) for one in body.get("elem", []) if isinstance(one, list) and len(one) == 2]
            for name, (body, _) in table.maps.items()
        }
        families = _FAMILIES[table.family]
        reader = StatementReader(Conditions(sets), maps, report, family=min(families) if len(families) == 1 else None)
        chains = [self._chain(table, name, chain, reader) for name, chain in table.chains.items()]
        names = set(table.chains)
        for chain in chains:
            for rule in chain.rules:
                self._check_names(rule, names, set(sets.values()))
                if rule.where not in gaps:
                    self.ledger.read(rule.where)
        refuse_circles(chains)
        return Rulebase(f"{table.family} {table.name}", _FAMILIES[table.family], tuple(chains), table.where)

    def _chain(self, table: _Table, name: str, chain: _Chain, reader: StatementReader) -> Chain:
        rules = [
            rule for number, (body, where) in enumerate(chain.rules, 1) for rule in reader.read(body, number, where)
        ]
        names = set(table.chains)
        rules = [
            replace(rule, action=Action.UNKNOWN) if rule.target is not None and rule.target not in names else rule
            for rule in rules
        ]
        base = self._base(table, chain)
        if base is not None and base.stage is None:
            self.ledger.set_aside(chain.where, "what arrives at one interface is not followed before routing")
        if table.dormant or (base is not None and base.stage is None):
            # The kernel does not run it: its rules are as good as switched off.
            return Chain(name, tuple(replace(rule, enabled=False) for rule in rules), chain.where)
        if base is None:
            return Chain(name, tuple(rules), chain.where)
        stage, priority, kind = base.stage, base.priority, base.kind
        if stage is None:
            raise TypeError("a chain that hooks nowhere")
        stated = chain.body.get("policy")
        policy = _POLICIES.get(str(stated or "accept"), Action.UNKNOWN)
        return Chain(
            name,
            tuple(rules),
            chain.where,
            Base(stage, priority, kind, routed=stage is not Stage.PREROUTING),
            policy,
            chain.body.get("policy_where", chain.where),
            policy_is_default=stated is None,
        )

    def _base(self, table: _Table, chain: _Chain) -> _Hook | None:
        body = chain.body
        if "hook" not in body:
            return None
        priority = body.get("prio", 0)
        if not isinstance(priority, int):
            self.ledger.unread(chain.where, "the priority of the chain is not one we know; 0 is assumed")
            priority = 0
        hook = str(body["hook"])
        stage = Stage(hook) if hook in tuple(Stage) else None
        kind = str(body.get("type", "filter"))
        return _Hook(stage, priority, kind)

    def _check_names(self, rule: Rule, chains: set[str], sets: set[str]) -> None:
        if rule.target is not None and rule.target not in chains:
            self.ledger.problem(
                rule.where, f"jumps to chain '{rule.target}', which the table does not have; the rule may do anything"
            )
        for condition in rule.match.conditions:
            if condition.field is not Field.SET:
                continue
            for operand in condition.operands:
                if isinstance(operand, Named) and operand.name not in sets:
                    self.ledger.problem(
                        rule.where,
                        f"the rule looks into set '{operand.name}', which the export does not define; it counts as one "
                        "that may match",
                    )

    def _unfiltered(self) -> list[Rulebase]:
        """Where no chain filters at all the kernel lets everything through; that, too, is what the export says."""
        out = []
        for stage in (Stage.INPUT, Stage.FORWARD, Stage.OUTPUT):
            free = {4, 6}
            for table in self.tables.values():
                for chain in table.chains.values():
                    if chain.body.get("hook") == stage and chain.body.get("type") != "nat" and not table.dormant:
                        free -= _FAMILIES[table.family]
            if free:
                where = next(iter(self.tables.values())).where
                policy = Chain(stage, (), where, Base(stage), Action.ACCEPT, where, policy_is_default=True)
                out.append(Rulebase("no table", frozenset(free), (policy,), where))
        return out


class _Hook(Struct, frozen=True):
    """Where a base chain stands; `stage` is None at a hook that is not followed."""

    stage: Stage | None
    priority: int
    kind: str


_LISTS = {"elem": list, "flags": (list, str), "type": (list, str), "typeof": (list, str, dict)}
"""What a set or map has of more than one value, and the shapes in which nft writes it."""


def _misshapen(body: Mapping[str, Any]) -> str | None:
    """The first of a set's parts that has another shape than nft gives it."""
    return next((key for key, shape in _LISTS.items() if not isinstance(body.get(key, []), shape)), None)  # type: ignore[arg-type]


def _set_keys(body: Mapping[str, Any]) -> list[Key] | None:
    """What the values of a set are; None if any is of a type that is not modelled."""
    found: list[Key | None]
    if "typeof" in body:
        given = body["typeof"]
        if isinstance(given, dict):
            given = given.get("concat", [given])
        found = [key_of(one) for one in given]
    else:
        types = body.get("type", [])
        found = [SET_TYPES.get(str(one)) for one in ([types] if isinstance(types, str) else types)]
    known = [key for key in found if key is not None]
    return known if known and len(known) == len(found) else None


def _changes(body: Mapping[str, Any]) -> bool:
    """Whether the elements of a set or map come and go by themselves or by rules."""
    return "timeout" in body or any(flag in ("timeout", "dynamic") for flag in body.get("flags", []))

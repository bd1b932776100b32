"""Rule bases out of a tree: the lists and chains rules stand in, and their order."""

from __future__ import annotations

from bisect import bisect
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence

from msgspec.structs import replace

from aiguille.model import (
    FILTER_STAGE,
    NOT_UNDERSTOOD,
    Action,
    Base,
    Chain,
    Condition,
    Direction,
    Field,
    InterfaceName,
    Match,
    Named,
    NameKind,
    Operand,
    Qualifier,
    Rule,
    Rulebase,
    Span,
    Stage,
)
from aiguille.readers.mapped.direct import DirectReader, is_direct
from aiguille.readers.mapped.rule import MappedRuleReader, RuleContext
from aiguille.readers.mapped.spec import RulebaseMap, RuleList, RuleMap, SheetStructure, Unmatched, Where
from aiguille.readers.mapped.tree import Node
from aiguille.readers.mapped.values import read_count, read_text, spec

BOTH = frozenset({4, 6})

_BASES = {
    "to-device": Base(FILTER_STAGE[Direction.TO_DEVICE]),
    "through-device": Base(FILTER_STAGE[Direction.THROUGH_DEVICE]),
    "from-device": Base(FILTER_STAGE[Direction.FROM_DEVICE]),
    "arriving": Base(Stage.PREROUTING),
    "destination-translation": Base(Stage.PREROUTING, -100, "nat"),
    "source-translation": Base(Stage.POSTROUTING, 100, "nat"),
}
"""Where rules of each direction have their say. Translations stand where the kernel does them (nft(8), priorities)."""


_TO = (Field.OUT_ZONE, Field.OUT_INTERFACE, Field.DESTINATION)
_FROM = (Field.IN_ZONE, Field.IN_INTERFACE, Field.SOURCE)


def _without(rule: Rule, fields: tuple[Field, ...]) -> Rule:
    """A rule without its conditions on where a packet goes, or comes from, since its chain says so."""
    also = (*fields, Field.OUT_INTERFACE) if Field.OUT_ZONE in fields else (*fields, Field.IN_INTERFACE)
    return replace(rule, match=Match(tuple(c for c in rule.match.conditions if c.field not in also)))


def _turned(rule: Rule) -> Rule:
    """A rule for what leaves by the interface or zone it names, if it names but one."""
    if any(c.field in (Field.OUT_INTERFACE, Field.OUT_ZONE) for c in rule.match.conditions):
        return rule
    leaves = {Field.IN_INTERFACE: Field.OUT_INTERFACE, Field.IN_ZONE: Field.OUT_ZONE}
    return replace(
        rule, match=Match(tuple(replace(c, field=leaves.get(c.field, c.field)) for c in rule.match.conditions))
    )


def _unless_said(one: RuleList) -> object:
    """The chain of a rule that names none."""
    return spec(one.rule.chain).missing if one.rule.chain is not None else None


class Rules(RuleContext):
    """Rule bases of one device.

    zone_names: the zones the export lists as something else than the device
    own_zones: the zones it says are the device, in lower case
    interface_names: the interfaces it lists
    numbered: whether the list read last numbers its rules itself, so that people know them by these numbers
    sharing: where the rules of lists stand whose statements say other things too
    """

    zone_names: frozenset[str] = frozenset()
    own_zones: frozenset[str] = frozenset()
    interface_names: frozenset[str] = frozenset()
    numbered = False
    sharing: set[Span] = set()  # noqa: RUF012 - set once by the builder

    def rulebase(self, m: RulebaseMap) -> Rulebase:
        if m.chains:
            return self._chained(m)
        lists = m.all_lists()
        rules = [rule for one in lists for _, rule in self._listed(one, m.direction or "")]
        if m.decides == "last":
            rules.reverse()
        if m.decides == "last" or len(lists) > 1:
            rules = [replace(rule, number=number) for number, rule in enumerate(rules, 1)]
        chain = self._chain(m.name, rules, m.direction or "", m.unmatched)
        return Rulebase(m.name, BOTH, (chain,), chain.where)

    def _chained(self, m: RulebaseMap) -> Rulebase:
        """A rule base whose rules name their chain."""
        inside: dict[str, list[Rule]] = {one.name: [] for one in m.chains}
        listed = [(one, *pair) for one in m.all_lists() for pair in self._listed(one, "")]
        own = self.numbered and len(m.all_lists()) == 1

        def put(place: str, rule: Rule) -> None:
            """Add a copy: a rule is one by its identity, and may stand in several places."""
            rules = inside.setdefault(place, [])
            rules.append(replace(rule, number=rule.number if own else len(rules) + 1))

        named = [
            fields
            for fields in (_TO, _FROM)
            if any(self._of_itself(rule, f, m) is not False for *_, rule in listed for f in fields)
        ]
        shared = {word for c in m.chains for word in c.also}
        for one, name, rule in listed:
            places: tuple[str, ...] = (name,)
            if name in shared:
                for place, part in self._either_way(rule, name, m):
                    put(place, part)
                continue
            if named and name and _unless_said(one) == name:
                for place, part in self._by_ends(rule, name, m, named):
                    put(place, part)
                continue
            if not name:
                # Which chain it stands in was not understood, so it may decide packets in any of them.
                self.ledger.problem(rule.where, "its chain or direction is not understood; it may match in every one")
                doubt = Qualifier(NOT_UNDERSTOOD, "its chain or direction")
                rule = replace(rule, qualifiers=(*rule.qualifiers, doubt))
                places = tuple(one.name for one in m.chains)
            for place in places:
                put(place, rule)
        bases = {one.name: one for one in m.chains}
        chains = []
        for name, rules in inside.items():
            if name in bases:
                chains.append(self._chain(name, rules, bases[name].direction, bases[name].unmatched))
            else:
                chains.append(Chain(name, tuple(rules), rules[0].where))
        for rule in (rule for rules in inside.values() for rule in rules):
            if rule.action in (Action.JUMP, Action.GOTO) and rule.target not in inside:
                self.ledger.problem(
                    rule.where, f"the rule leads to chain '{rule.target}', which the export does not define"
                )
        return Rulebase(m.name, BOTH, tuple(chains), next((c.where for c in chains if c.where is not None), None))

    def _of_itself(self, rule: Rule, field: Field, m: RulebaseMap) -> bool | None:
        """Whether a condition is about the device; None if about it and others."""
        operands = [o for c in rule.match.conditions if c.field is field and not c.negated for o in c.operands]
        found = [self._is_itself(o, m) for o in operands]
        return None if any(found) and not all(found) else bool(found) and all(found)

    def _is_itself(self, operand: Operand, m: RulebaseMap) -> bool:
        """Whether an operand means the device, and nothing the export defines."""
        if isinstance(operand, InterfaceName):
            name = operand.name
            return not operand.prefix and name.lower() in m.itself and name not in self.interface_names
        if not isinstance(operand, Named) or not self._means_itself(operand, m):
            return False
        defined = {NameKind.ADDRESS: self.addresses.keys(), NameKind.ZONE: self.zone_names}
        return operand.name not in defined.get(operand.kind, ())

    def _by_ends(
        self, rule: Rule, through: str, m: RulebaseMap, named: Sequence[tuple[Field, ...]]
    ) -> Iterator[tuple[str, Rule]]:
        """A rule that names no chain, for each chain its source and destination put it in.

        named: the ends at which some rule names the device; where none does, nothing shows that rules for any end mean it
        """
        chains: dict[str, str] = {one.direction: one.name for one in m.chains}
        ends = {fields: [self._of_itself(rule, field, m) for field in fields] for fields in (_TO, _FROM)}
        for fields, other, direction in ((_TO, _FROM, "to-device"), (_FROM, _TO, "from-device")):
            name = chains.get(direction)
            free = (
                fields in named and not any(c.field in fields for c in rule.match.conditions) and not any(ends[other])
            )
            if name is not None and (free or any(one is not False for one in ends[fields])):
                yield name, _without(rule, fields)
        if any(ends[_TO]) or any(ends[_FROM]):
            return
        doubted = [field for field in _TO + _FROM if self._of_itself(rule, field, m) is None]
        kept = (self._but_itself(c, m) if c.field in doubted else c for c in rule.match.conditions)
        yield through, replace(rule, match=Match(tuple(kept)))

    def _either_way(self, rule: Rule, name: str, m: RulebaseMap) -> Iterator[tuple[str, Rule]]:
        """A rule for what comes in, or goes out, by an interface: in the chains of the device's own traffic and of that through it,
        or in one of them where its far end is the device, or somebody else."""
        if name in m.leaving:
            rule = _turned(rule)
        far = _FROM if name in m.leaving else _TO
        own = [self._of_itself(rule, field, m) for field in far]
        said = any(c.field in far for c in rule.match.conditions)
        for chain in m.chains:
            if name in chain.also:
                through = chain.direction == "through-device"
                if through and not (said and any(own)):
                    yield chain.name, rule
                elif not through and (not said or any(own)):
                    yield chain.name, _without(rule, far) if said else rule
                elif not through and self._names_nobody(rule, far):
                    yield chain.name, rule

    def _names_nobody(self, rule: Rule, fields: Sequence[Field]) -> bool:
        """Whether a condition names what the export does not define, which may be the device."""
        defined = {NameKind.ADDRESS: self.addresses.keys(), NameKind.ZONE: self.zone_names}
        return any(
            isinstance(o, Named) and o.kind in defined and o.name not in defined[o.kind]
            for c in rule.match.conditions
            if c.field in fields
            for o in c.operands
        )

    def _means_itself(self, named: Named, m: RulebaseMap) -> bool:
        name = named.name.lower()
        return name in m.itself or (named.kind is NameKind.ZONE and name in self.own_zones)

    def _but_itself(self, condition: Condition, m: RulebaseMap) -> Condition:
        others = (o for o in condition.operands if not self._is_itself(o, m))
        return replace(condition, operands=tuple(others))

    def _chain(self, name: str, rules: list[Rule], direction: str, unmatched: Unmatched | None) -> Chain:
        where = rules[0].where if rules else None
        if unmatched is None:
            return Chain(name, tuple(rules), where, _BASES[direction], Action.ACCEPT, policy_is_default=True)
        action = self.get.setting(self.root, unmatched.action, lambda v: Action(str(v)))
        logged = self.get.flag(self.root, unmatched.logged)
        place = (
            logged.where
            if action.standing != "stated" and logged.standing == "stated"
            else action.where or logged.where
        )
        if spec(unmatched.action).constant is not None and logged.standing != "stated" and rules:
            # Nothing in the export says what happens then; that nothing follows the last rule is what shows it.
            place = rules[-1].where
        return Chain(
            name=name,
            rules=tuple(rules),
            where=where,
            base=_BASES[direction],
            policy=action.value if action.known else Action.UNKNOWN,
            policy_where=place,
            policy_logs=logged.known and logged.value,
            policy_log_unknown=not logged.known,
            policy_is_default=action.standing == "default",
        )

    def _speaks_of_sides(self, nodes: list[Node], m: RuleMap) -> bool:
        """Whether words for sides stand where addresses would: only where the export says nothing of zones and interfaces, whose names
        these may be or not."""
        columns = [where for where in (m.in_zone, m.out_zone, m.in_interface, m.out_interface) if where is not None]
        return (
            self.dialect.behaviour.sides_as_addresses
            and not self.zone_names
            and not any(self.get.tokens(node, where) for node in nodes for where in columns)
        )

    def _are_names(self, nodes: list[Node], order: Where) -> bool:
        """Whether what stands in the column of numbers are names, "FW-001" for instance: the order of a sheet's rows counts then."""
        if not isinstance(self.dialect.structure, SheetStructure):
            return False
        words = [word.text for node in nodes if (word := self.get.word(node, order)) is not None]
        return bool(words) and not any(word.replace(" ", "").isdecimal() for word in words)

    def _listed(self, one: RuleList, direction: str) -> Iterator[tuple[str, Rule]]:
        """The rules of a list with the chain each names, in order of evaluation."""
        nodes = list(self.get.each(self.root, one.at))
        self.placed = self._speaks_of_sides(nodes, one.rule)
        unplaced: set[Node] = set()
        numbers: Iterable[int] = range(1, len(nodes) + 1)
        self.numbered = False
        if one.order is not None and not self._are_names(nodes, one.order):
            seats: dict[Node, float] = {}
            before = -1.0
            for node in nodes:
                unread = self.ledger.unread_entries
                seat = self.get.setting(node, one.order, read_count)
                if self.ledger.unread_entries > unread:
                    # It may stand anywhere, so it is put where it may take packets from all others.
                    unplaced.add(node)
                before = seat.value if seat.known else before
                seats[node] = -1.0 if node in unplaced else before
            nodes.sort(key=lambda n: seats[n])
            self.numbered = _are_numbers(seats[node] for node in nodes)
            if self.numbered:
                numbers = [int(seats[node]) for node in nodes]
        known: list[Rule | None] = [None] * len(nodes)
        if is_direct(one.rule) and not one.shares:
            known = DirectReader(self, one.rule, direction).read(nodes)
        for number, node, direct in zip(numbers, nodes, known, strict=True):
            if direct is not None:
                yield "", replace(direct, number=number) if self.numbered else direct
                continue
            chain = self.get.setting(node, one.rule.chain, read_text)
            rule = MappedRuleReader(self, node, one.rule, shares=one.shares).rule(number, direction)
            if one.shares:
                self.sharing.add(rule.where)
            if node in unplaced:
                rule = replace(rule, qualifiers=(*rule.qualifiers, Qualifier(NOT_UNDERSTOOD, "its place in the order")))
            yield chain.value if chain.known else "", rule


_STRAYS = 20
"""Unread statements of a block that are put among its rules one by one; of more the first stands for all, above every rule."""


def with_strays(base: Rulebase, strays: Sequence[Node], in_part: Sequence[Node], sharing: Collection[Span]) -> Rulebase:
    """The rule base, with what stands unread among its rules as rules that may do anything: nobody knows that they are none.

    in_part: statements with words that nothing asked for; sharing: rules whose statements say other things too
    """
    held: dict[Node, list[Node]] = {}
    for stray in strays:
        if stray.parent is not None:
            held.setdefault(stray.parent, []).append(stray)
    beside = {one.head: one.name for one in in_part if any(child.where == one.head for child in one.children)}
    beside |= {one.where: one.name for one in strays}
    beside = {where: name for where, name in beside.items() if where not in sharing}
    chains = []
    for chain in base.chains:
        chain = replace(chain, rules=tuple(_with_rest_of_line(rule, beside) for rule in chain.rules))
        more = [one for parent, group in held.items() for one in _among(chain.rules, parent, group)]
        if more:
            counted = [rule.number for rule in chain.rules] == list(range(1, len(chain.rules) + 1))
            parts = [*((at, 1, rule) for at, rule in enumerate(chain.rules)), *((at, 0, rule) for at, rule in more)]
            rules = [rule for _, _, rule in sorted(parts, key=lambda part: part[:2])]
            if counted:
                rules = [replace(rule, number=number) for number, rule in enumerate(rules, 1)]
            chain = replace(chain, rules=tuple(rules))
        chains.append(chain)
    return replace(base, chains=tuple(chains))


def with_unread_interfaces(base: Rulebase, perhaps: Mapping[str, Node]) -> Rulebase:
    """The rule base, with what may be interfaces that were not read: anything may become of packets that come or leave by them.

    perhaps: their lines, by name
    """
    chains = []
    for chain in base.chains:
        stage = chain.base.stage if chain.base is not None else None
        fields = [Field.IN_INTERFACE] if stage in (Stage.PREROUTING, Stage.INPUT, Stage.FORWARD) else []
        if stage in (Stage.FORWARD, Stage.OUTPUT):
            fields.append(Field.OUT_INTERFACE)
        number = chain.rules[0].number if chain.rules else 1
        rules = tuple(
            replace(_stray(node, number), match=Match((Condition(field, (InterfaceName(name),)),)))
            for name, node in perhaps.items()
            for field in fields
        )
        chains.append(replace(chain, rules=(*rules, *chain.rules)))
    return replace(base, chains=tuple(chains))


def with_doubt(base: Rulebase, places: Sequence[Span], why: str) -> Rulebase:
    """The rule base, its rules inside some places as ones that only may match."""
    chains = []
    for chain in base.chains:
        rules = tuple(
            replace(rule, qualifiers=(*rule.qualifiers, Qualifier(NOT_UNDERSTOOD, why)))
            if any(place.holds(rule.where) for place in places)
            else rule
            for rule in chain.rules
        )
        chains.append(replace(chain, rules=rules))
    return replace(base, chains=tuple(chains))


def _with_rest_of_line(rule: Rule, beside: Mapping[Span, str]) -> Rule:
    """A rule that only may match where the rest of its own line was not understood: that may be a condition of it."""
    name = beside.get(rule.where)
    if name is None or rule.built_in or rule.unread:
        return rule
    return replace(rule, qualifiers=(*rule.qualifiers, Qualifier(NOT_UNDERSTOOD, f"'{name}', on its line")))


def _among(rules: Sequence[Rule], parent: Node, group: Sequence[Node]) -> Iterator[tuple[int, Rule]]:
    """Unread statements of a block that rules of a chain stand in, each with the place of the rule it comes before."""
    # What a statement has of its own lines may be a rule itself, and is not beside what it holds.
    beside = {one.where for one in parent.children} - {one.where for one in group}
    if parent.parent is not None:
        beside -= {parent.head, parent.where}
    mine = [at for at, rule in enumerate(rules) if not rule.built_in and rule.where in beside]
    if not mine:
        return
    places = [_place(rules[at].where) for at in mine]
    if parent.parent is None:
        # At the top of an export stands all that is no rule, too.
        group = [one for one in group if min(places) < _place(one.where) < max(places)]
    if group and (places != sorted(places) or len(group) > _STRAYS):
        # Where an order is given apart from the lines, it may come before all others.
        yield 0, _stray(group[0], rules[0].number)
        return
    for stray in group:
        at = mine[bisect(places, _place(stray.where)) - 1] + 1 if _place(stray.where) > places[0] else mine[0]
        yield at, _stray(stray, rules[max(at - 1, 0)].number)


def _place(where: Span) -> tuple[str, int, int]:
    return where.file, where.first, where.start


def _stray(node: Node, number: int) -> Rule:
    return Rule(
        number=number,
        where=node.where,
        action=Action.UNKNOWN,
        match=Match(()),
        action_text=node.name,
        qualifiers=(Qualifier(NOT_UNDERSTOOD, f"what '{node.name}' is"),),
    )


def _are_numbers(seats: Iterable[float]) -> bool:
    """Whether places in an order are whole numbers from 1, each given once."""
    every = list(seats)
    return all(seat >= 1 and seat.is_integer() for seat in every) and len(set(every)) == len(every)

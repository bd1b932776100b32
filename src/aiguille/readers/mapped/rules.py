"""Rule bases out of a tree: the lists and chains rules stand in, and their order."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from aiguille.model import (
    FILTER_STAGE,
    Action,
    Base,
    Chain,
    Direction,
    Qualifier,
    Rule,
    Rulebase,
    Stage,
)
from aiguille.readers.mapped.direct import DirectReader, is_direct
from aiguille.readers.mapped.rule import RuleContext, RuleReader
from aiguille.readers.mapped.spec import RulebaseMap, RuleList, Unmatched
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


class Rules(RuleContext):
    """Rule bases of one device."""

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
        for one in m.all_lists():
            for name, rule in self._listed(one, ""):
                places: tuple[str, ...] = (name,)
                if not name:
                    # Which chain it stands in was not understood, so it may decide packets in any of them.
                    self.ledger.problem(
                        rule.where, "its chain or direction is not understood; it may match in every one"
                    )
                    doubt = Qualifier("not understood", "its chain or direction")
                    rule = replace(rule, qualifiers=(*rule.qualifiers, doubt))
                    places = tuple(one.name for one in m.chains)
                for place in places:
                    inside.setdefault(place, []).append(replace(rule, number=len(inside.get(place, ())) + 1))
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

    def _listed(self, one: RuleList, direction: str) -> Iterator[tuple[str, Rule]]:
        """The rules of a list with the chain each names, in order of evaluation."""
        nodes = list(self.get.each(self.root, one.at))
        unplaced: set[int] = set()
        if one.order is not None:
            seats: dict[int, float] = {}
            before = -1.0
            for node in nodes:
                unread = self.ledger.unread_entries
                seat = self.get.setting(node, one.order, read_count)
                if self.ledger.unread_entries > unread:
                    # It may stand anywhere, so it is put where it may take packets from all others.
                    unplaced.add(id(node))
                before = seat.value if seat.known else before
                seats[id(node)] = -1.0 if id(node) in unplaced else before
            nodes.sort(key=lambda n: seats[id(n)])
        known: list[Rule | None] = [None] * len(nodes)
        if is_direct(one.rule) and not one.shares:
            known = DirectReader(self, one.rule, direction).read(nodes)
        for number, (node, direct) in enumerate(zip(nodes, known, strict=True), 1):
            if direct is not None:
                yield "", direct
                continue
            chain = self.get.setting(node, one.rule.chain, read_text)
            rule = RuleReader(self, node, one.rule, shares=one.shares).rule(number, direction)
            if id(node) in unplaced:
                rule = replace(
                    rule, qualifiers=(*rule.qualifiers, Qualifier("not understood", "its place in the order"))
                )
            yield chain.value if chain.known else "", rule

"""Rules out of a tree, and the rule bases a make has built in."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from aiguille.model import (
    FILTER_STAGE,
    Action,
    Addresses,
    Administration,
    Base,
    Chain,
    Condition,
    Direction,
    Documentation,
    Effect,
    Field,
    Hits,
    Interface,
    InterfaceName,
    Log,
    Match,
    Named,
    NameKind,
    NotUnderstoodError,
    Operand,
    Qualifier,
    Rule,
    Rulebase,
    ServiceTerm,
)
from aiguille.readers.mapped.administering import known_terms
from aiguille.readers.mapped.part import Part, read_members
from aiguille.readers.mapped.spec import (
    RulebaseMap,
    RuleMap,
    Where,
)
from aiguille.readers.mapped.tree import Node, Token, select
from aiguille.readers.mapped.values import (
    read_count,
    read_flag,
)

_BOTH = frozenset({4, 6})


class Rules(Part):
    """Rule bases of one device.

    address_names: names of address objects, which a literal in a rule could also be
    ignored: statements the dialect sets aside, by identity
    """

    address_names: frozenset[str] = frozenset()
    ignored: frozenset[int] = frozenset()

    def rulebase(self, m: RulebaseMap) -> Rulebase:
        rules: list[Rule] = []
        for node in self.get.each(self.root, m.at):
            rules.append(self._rule(node, m.rule, len(rules) + 1))
        action = self.get.setting(self.root, m.unmatched.action, lambda v: Action(str(v)))
        logged = self.get.setting(self.root, m.unmatched.logged, read_flag)
        where = rules[0].where if rules else None
        return Rulebase(
            name=m.name,
            families=_BOTH,
            chains=(
                Chain(
                    name=m.name,
                    rules=tuple(rules),
                    where=where,
                    base=Base(FILTER_STAGE[Direction(m.direction)]),
                    policy=action.value if action.known else Action.UNKNOWN,
                    policy_where=action.where or logged.where,
                    policy_logs=logged.known and logged.value,
                    policy_is_default=action.standing == "default",
                ),
            ),
            where=where,
        )

    def _rule(self, node: Node, m: RuleMap, number: int) -> Rule:
        gaps: list[Qualifier] = []
        get = self.get
        unread_before = self.ledger.unread_entries

        def attempt(token: Token, read: Callable[[Token], Operand]) -> Operand | None:
            try:
                return read(token)
            except NotUnderstoodError as error:
                self.ledger.unread(token.where, f"{error.message}; the rule is kept as one that may match")
                gaps.append(Qualifier("not understood", token.text))
                return None

        def condition(field: Field, where: Where | None, read: Callable[[Token], Operand]) -> Condition | None:
            found = get.tokens(node, where)
            if found is None:
                return None
            operands = tuple(o for token in found if (o := attempt(token, read)) is not None)
            return Condition(field, operands) if operands else None

        conditions = (
            condition(Field.IN_ZONE, m.in_zone, lambda t: Named(NameKind.ZONE, t.text)),
            condition(Field.OUT_ZONE, m.out_zone, lambda t: Named(NameKind.ZONE, t.text)),
            condition(Field.SOURCE, m.source, self._address_or_name),
            condition(Field.DESTINATION, m.destination, self._address_or_name),
            condition(Field.SERVICE, m.service, lambda t: Named(NameKind.SERVICE, t.text)),
        )
        word = get.word(node, m.action)
        action = Action.UNKNOWN
        if word is None:
            self.ledger.unread(node.head, "the rule does not say what to do; it counts as one that may do anything")
        else:
            try:
                action = Action(str(get.translated(word, m.action)))
            except NotUnderstoodError as error:
                self.ledger.unread(word.where, f"{error.message}; the rule counts as one that may do anything")
        enabled = get.setting(node, m.enabled, read_flag)
        logged = get.setting(node, m.logged, read_flag)
        hits = get.setting(node, m.hits, read_count)
        schedule = get.text(node, m.schedule)
        if schedule:
            gaps.append(Qualifier("time of day", schedule))
        effects: tuple[Effect, ...] = (Log(),) if logged.known and logged.value else ()
        rule = Rule(
            number=number,
            where=node.where,
            action=action,
            match=Match(tuple(c for c in conditions if c is not None)),
            action_text=word.text if word is not None else "",
            name=get.text(node, m.name),
            comment=get.text(node, m.comment),
            enabled=enabled.value if enabled.known else True,
            effects=effects,
            hits=Hits(int(hits.value)) if hits.known else None,
            schedule=schedule or None,
            documentation=Documentation(
                get.text(node, m.requester), get.text(node, m.ticket), get.text(node, m.expires)
            ),
        )
        gaps += self._unknown_parts(node)
        if self.ledger.unread_entries > unread_before and not gaps:
            gaps.append(Qualifier("not understood", "a part of the rule"))
        return rule if not gaps else _qualified(rule, gaps)

    def _unknown_parts(self, node: Node) -> list[Qualifier]:
        """What a rule says that the dialect has no place for may be a condition, so the rule may match."""
        out = []
        if spare := self.get.spare(node):
            out.append(Qualifier("not understood", " ".join(word.text for word in spare)))
        for child in node.children:
            if id(child) in self.ignored:
                continue
            if id(child) not in self.get.taken:
                self.ledger.unread(
                    child.where, f"'{child.name}' is not known in a rule; the rule is kept as one that may match"
                )
                out.append(Qualifier("not understood", child.text()))
            elif spare := self.get.spare(child):
                out.append(Qualifier("not understood", " ".join(word.text for word in spare)))
        return out

    def _address_or_name(self, token: Token) -> Operand:
        if token.text in self.address_names or token.quoted:
            return Named(NameKind.ADDRESS, token.text)
        try:
            return read_members(token.text)
        except NotUnderstoodError:
            return Named(NameKind.ADDRESS, token.text)

    def guards(self, interfaces: tuple[Interface, ...], administration: Administration) -> list[Rulebase]:
        """The rule bases the make has built in: who may reach the device itself, and what it may send."""
        behaviour, out = self.dialect.behaviour, []
        if behaviour.to_device is not None:
            rules: list[Rule] = []
            if behaviour.to_device.services_on_interfaces:
                rules = self._interface_guards(interfaces, administration)
            name = "management access"
            logged = self.get.setting(self.root, behaviour.to_device.logged, read_flag)
            chain = Chain(
                name,
                tuple(rules),
                None,
                Base(FILTER_STAGE[Direction.TO_DEVICE]),
                Action(behaviour.to_device.action),
                policy_where=logged.where,
                policy_logs=logged.known and logged.value,
                policy_is_default=True,
            )
            out.append(Rulebase(name, _BOTH, (chain,)))
        if behaviour.from_device is not None:
            name = "own traffic"
            base = Base(FILTER_STAGE[Direction.FROM_DEVICE])
            chain = Chain(name, (), None, base, Action(behaviour.from_device), policy_is_default=True)
            out.append(Rulebase(name, _BOTH, (chain,)))
        return out

    def _interface_guards(self, interfaces: tuple[Interface, ...], administration: Administration) -> list[Rule]:
        m = self.dialect.interfaces
        if m is None:
            return []
        rules: list[Rule] = []
        by_name = {service.name: service for service in administration.services}
        sources = self._account_sources(administration)
        for node in select(self.root, tuple(m.at.split("/"))):
            name = self.get.text(node, m.name)
            for token in self.get.tokens(node, m.services) or ():
                service = by_name.get(token.text)
                known = self.dialect.management.known.get(token.text)
                if service is not None:
                    terms: tuple[ServiceTerm, ...] = service.terms if service.enabled else ()
                    if not service.enabled:
                        continue
                elif known is not None:
                    terms = known_terms(known, ())
                else:
                    self.ledger.unread(
                        token.where, f"'{token.text}' is no service of the device that the dialect knows"
                    )
                    continue
                conditions = [
                    Condition(Field.IN_INTERFACE, (InterfaceName(name),)),
                    Condition(Field.SERVICE, terms),
                ]
                managing = known is None or known.managing
                qualifiers: tuple[Qualifier, ...] = ()
                if (
                    managing
                    and self.dialect.behaviour.to_device
                    and self.dialect.behaviour.to_device.sources_from_accounts
                ):
                    if sources is None:
                        qualifiers = (Qualifier("allowed sources", "unknown for an account"),)
                    elif sources:
                        conditions.append(Condition(Field.SOURCE, sources))
                rules.append(
                    Rule(
                        number=len(rules) + 1,
                        where=token.where,
                        action=Action.ACCEPT,
                        match=Match(tuple(conditions)),
                        action_text=f"{token.text} on {name}",
                        name=f"{token.text} on {name}",
                        qualifiers=qualifiers,
                    )
                )
        return rules

    def _account_sources(self, administration: Administration) -> tuple[Addresses, ...] | None:
        """From where anybody may log in: empty for everywhere, None if an account does not tell."""
        out: list[Addresses] = []
        for account in administration.accounts:
            if not account.enabled:
                continue
            if not account.sources.known:
                return None
            if not account.sources.value:
                return ()
            out += account.sources.value
        return tuple(dict.fromkeys(out))


def _qualified(rule: Rule, gaps: list[Qualifier]) -> Rule:
    return replace(rule, qualifiers=(*rule.qualifiers, *gaps))

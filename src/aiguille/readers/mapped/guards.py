"""The rule bases a make has built in: who may reach the device itself, and what it may send."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from msgspec.structs import replace

from aiguille.model import (
    FILTER_STAGE,
    NOT_UNDERSTOOD,
    Action,
    Addresses,
    Administration,
    Base,
    Chain,
    Condition,
    Direction,
    Field,
    Interface,
    InterfaceName,
    Match,
    Qualifier,
    Rule,
    Rulebase,
    ServiceTerm,
    Span,
)
from aiguille.readers.mapped.administering import known_terms, narrowed
from aiguille.readers.mapped.part import Part
from aiguille.readers.mapped.rules import BOTH
from aiguille.readers.mapped.spec import InterfaceMap, many
from aiguille.readers.mapped.tree import Node

_INPUT = FILTER_STAGE[Direction.TO_DEVICE]


class Guards(Part):
    """Rule bases nobody wrote, from the dialect's `behaviour`."""

    def rulebases(self, interfaces: tuple[Interface, ...], administration: Administration) -> Iterator[Rulebase]:
        behaviour = self.dialect.behaviour
        if behaviour.to_device is not None:
            rules: list[Rule] = []
            if behaviour.to_device.services_on_interfaces:
                rules = self._answering(administration)
            logged = self.get.flag(self.root, behaviour.to_device.logged)
            chain = Chain(
                ACCESS,
                tuple(rules),
                None,
                Base(_INPUT),
                Action(behaviour.to_device.action),
                policy_where=logged.where,
                policy_logs=logged.known and logged.value,
                policy_log_unknown=not logged.known,
                policy_is_default=True,
            )
            yield Rulebase(chain.name, BOTH, (chain,))
        if behaviour.services_keep_sources:
            yield _kept(administration)
        if behaviour.from_device is not None:
            base = Base(FILTER_STAGE[Direction.FROM_DEVICE])
            chain = Chain("own traffic", (), None, base, Action(behaviour.from_device), policy_is_default=True)
            yield Rulebase(chain.name, BOTH, (chain,))

    def _answering(self, administration: Administration) -> list[Rule]:
        """A rule for each service that an interface names."""
        rules: list[Rule] = []
        for m in many(self.dialect.interfaces):
            for node in self.get.nodes(self.root, m.at):
                rules += self._on_interface(node, m, administration, len(rules))
        return rules

    def _on_interface(self, node: Node, m: InterfaceMap, administration: Administration, before: int) -> Iterator[Rule]:
        by_name = {service.name: service for service in administration.services}
        name = self.get.text(node, m.name)
        number = before
        for token in self.get.tokens(node, m.services) or ():
            service = by_name.get(token.text)
            known = self.dialect.management.known.get(token.text)
            if known is None:
                self.ledger.unread(token.where, f"'{token.text}' is no service of the device that the dialect knows")
                number += 1
                yield _answer(number, token.where, name, token.text, None, ())
                continue
            if service is not None and not service.enabled:
                continue
            terms = service.terms if service is not None else known_terms(known, ())
            number += 1
            sources: tuple[Addresses, ...] | None = ()
            if known.managing:
                sources = self._sources(administration)
            yield _answer(number, token.where, name, token.text, terms, sources)

    def _sources(self, administration: Administration) -> tuple[Addresses, ...] | None:
        """From where anybody may log in: empty for everywhere, None if an account does not show."""
        guard = self.dialect.behaviour.to_device
        if guard is None or not guard.sources_from_accounts:
            return ()
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


ACCESS = "management access"
"""The rule base and chain of what answers on interfaces that name their services."""


def answering_perhaps(base: Rulebase, silent: Mapping[str, tuple[Span, str]]) -> Rulebase:
    """The rule base of what answers, where nothing that was read says what answers on an interface or in a zone.

    silent: the lines of those, and what they are
    """
    if base.name != ACCESS:
        return base
    out = []
    for chain in base.chains:
        told = {o for rule in chain.rules for c in rule.match.conditions for o in c.operands}
        perhaps = [(name, *said) for name, said in silent.items() if InterfaceName(name) not in told]
        more = tuple(
            Rule(
                number=number,
                where=where,
                action=Action.ACCEPT,
                match=Match((Condition(Field.IN_INTERFACE, (InterfaceName(name),)),)),
                action_text=f"what answers on {name}",
                name=f"what answers on {name}",
                qualifiers=(Qualifier(NOT_UNDERSTOOD, f"what {what} answers"),),
                built_in=True,
            )
            for number, (name, where, what) in enumerate(perhaps, len(chain.rules) + 1)
        )
        out.append(replace(chain, rules=(*chain.rules, *more)))
    return replace(base, chains=tuple(out))


def _answer(
    number: int,
    where: Span,
    interface: str,
    service: str,
    terms: tuple[ServiceTerm, ...] | None,
    sources: tuple[Addresses, ...] | None,
) -> Rule:
    """terms, sources: None where what they are is not known"""
    conditions = [Condition(Field.IN_INTERFACE, (InterfaceName(interface),))]
    doubts = () if sources is not None else (Qualifier("allowed sources", "unknown for an account"),)
    if terms is None:
        doubts = (Qualifier("service", f"'{service}' is not known"), *doubts)
    else:
        conditions.append(Condition(Field.SERVICE, terms))
    if sources:
        conditions.append(Condition(Field.SOURCE, sources))
    return Rule(
        number=number,
        where=where,
        action=Action.ACCEPT,
        match=Match(tuple(conditions)),
        action_text=f"{service} on {interface}",
        name=f"{service} on {interface}",
        qualifiers=doubts,
        built_in=True,
    )


def _kept(administration: Administration) -> Rulebase:
    """Services that refuse what is not on their own list of sources, whatever the rules say."""
    rules: list[Rule] = []
    for service in administration.services:
        if service.enabled and narrowed(service.sources) and service.where is not None:
            conditions = (
                Condition(Field.SERVICE, service.terms),
                Condition(Field.SOURCE, service.sources.value, negated=True),
            )
            name = f"sources of {service.name}"
            rules.append(
                Rule(
                    len(rules) + 1,
                    service.sources.where or service.where,
                    Action.DROP,
                    Match(conditions),
                    name,
                    name,
                    built_in=True,
                )
            )
    chain = Chain("allowed sources", tuple(rules), None, Base(_INPUT, -10), Action.ACCEPT, policy_is_default=True)
    return Rulebase(chain.name, BOTH, (chain,))

"""One rule out of its statement: conditions, action, effects, and what in it was not understood."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import partial
from itertools import chain
from math import isinf
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from aiguille.model import (
    NOT_UNDERSTOOD,
    Action,
    Addresses,
    Condition,
    Documentation,
    Effect,
    Field,
    Hits,
    InterfaceName,
    Log,
    Match,
    Named,
    NameKind,
    NotUnderstoodError,
    Numbers,
    Operand,
    Qualifier,
    Rule,
    ServiceTerm,
    Setting,
    Span,
    Translate,
    TranslationKind,
)
from aiguille.readers.literals import read_icmp, read_protocol
from aiguille.readers.mapped.objects import PORTED
from aiguille.readers.mapped.part import (
    Part,
    read_member_or_name,
    read_members,
    read_port_range,
    read_service,
    read_state,
)
from aiguille.readers.mapped.spec import RuleMap, TextStructure, Value, Where
from aiguille.readers.mapped.spoken import spoken_address, spoken_service, spoken_side
from aiguille.readers.mapped.tree import Node, Token
from aiguille.readers.mapped.values import read_whole, spec

KINDS = {
    "destination-translation": TranslationKind.DESTINATION,
    "source-translation": TranslationKind.SOURCE,
}


JOINED = " ".join
"""What makes a text of its words."""


class RuleContext(Part):
    """What rules of one device refer to.

    service_names: names of services, which a literal in a rule could also be
    schedules: what the named times are
    placed: whether words for sides stand where addresses would, in the list at hand
    """

    service_names: frozenset[str] = frozenset()
    schedules: dict[str, str] = {}  # noqa: RUF012 - set once by the builder
    placed: bool = False


class _Doing(Struct, frozen=True):
    """What a rule does, and when."""

    action: Action
    word: str
    enabled: bool
    target: str | None
    effects: tuple[Effect, ...]
    schedule: str | None
    log_unknown: bool


class RulePart(Struct, frozen=True):
    """A part of a rule: the places it is made from, and nothing else, and the work that makes it.

    simply: makes the same of the words alone that stand at the first place, if it is the only one and has no options
    first_only: only the first word is used
    """

    wheres: tuple[Where | None, ...]
    work: Callable[[], Any]
    simply: Callable[[Sequence[str]], Any] | None = None
    first_only: bool = False


class MappedRuleReader:
    """Reads one rule."""

    def __init__(self, rules: RuleContext, node: Node, m: RuleMap, *, shares: bool) -> None:
        self.rules = rules
        self.get = rules.get
        self.ledger = rules.ledger
        self.node = node
        self.m = m
        self.shares = shares
        self.gaps: list[Qualifier] = []

    def rule(self, number: int, direction: str) -> Rule:
        unread_before = self.ledger.unread_entries
        made = [part.work() for part in self.parts(direction)]
        rule = self.rules_of([number], [self.node], [[one] for one in made])[0]
        if not self.shares:
            self._unknown_parts(rule.action)
        if self.ledger.unread_entries > unread_before and not self.gaps:
            self.gaps.append(Qualifier(NOT_UNDERSTOOD, "a part of the rule"))
        return rule if not self.gaps else replace(rule, qualifiers=tuple(self.gaps))

    def parts(self, direction: str) -> list[RulePart]:
        """What a rule is made of, in the order of `rules_of`."""
        m = self.m
        services = (m.service, m.protocol, m.source_ports, m.destination_ports, m.icmp)
        papers = (m.requester, m.ticket, m.expires, m.created_by, m.created_at, m.changed_by, m.changed_at)
        qualifiers = [one.source for one in m.qualifiers]
        doing = (
            m.action,
            m.target,
            m.enabled,
            m.logged,
            m.log_prefix,
            m.schedule,
            *qualifiers,
            m.to_address,
            m.to_ports,
        )
        fields = [
            RulePart((where,), partial(self._field, field, where, read), partial(_conditions, field, read))
            for field, where, read in self._fields()
            if where is not None
        ]
        if m.translated is not None:
            fields.append(RulePart((m.translated,), self._was_translated))
        return [
            *fields,
            RulePart(services, lambda: tuple(self._services())),
            RulePart(doing, partial(self._doing, direction)),
            RulePart((m.hits,), self._hits, _counted, first_only=True),
            RulePart((m.last_hit,), partial(self._text, m.last_hit), JOINED),
            RulePart((m.name,), partial(self._text, m.name), JOINED),
            RulePart((m.comment,), partial(self._text, m.comment), JOINED),
            RulePart(papers, lambda: Documentation(*map(self._text, papers))),
        ]

    def rules_of(self, numbers: Sequence[int], nodes: Sequence[Node], made: Sequence[Sequence[Any]]) -> list[Rule]:
        """Rules as far as they are understood; what is not is among `gaps`. made: their parts, one after the other for all"""
        *conditions, doing, hits, last_hits, names, comments, papers = made
        m = self.m
        built_in = isinstance(m.action, Value) and m.action.constant is not None
        heads = built_in or self.shares
        matches = map(Match, map(tuple, map(chain.from_iterable, zip(*conditions, strict=True))))
        if self.rules.placed:
            matches = map(self._placed, matches)
        return [
            Rule(
                number=number,
                where=node.head if heads else node.where,
                action=does.action,
                match=match,
                action_text=does.word,
                name=name,
                comment=comment,
                enabled=does.enabled,
                target=does.target,
                effects=does.effects,
                hits=met,
                last_hit=last_hit,
                schedule=does.schedule,
                documentation=documentation,
                built_in=built_in,
                log_unknown=does.log_unknown,
            )
            for number, node, match, does, met, last_hit, name, comment, documentation in zip(
                numbers, nodes, matches, doing, hits, last_hits, names, comments, papers, strict=True
            )
        ]

    def _placed(self, match: Match) -> Match:
        """A match in which a word for a side, where an address would stand, is the zone it names."""
        taken = {condition.field for condition in match.conditions}
        out = []
        for one in match.conditions:
            zone, interface = _PLACES.get(one.field, (None, None))
            free = zone is not None and zone not in taken and interface not in taken and not one.negated
            names = [o.name for o in one.operands if isinstance(o, Named) and o.name not in self.rules.addresses]
            sides = dict.fromkeys(side for name in names if (side := spoken_side(name)) is not None)
            if free and zone is not None and names and all(map(spoken_side, names)) and len(names) == len(one.operands):
                out.append(Condition(zone, tuple(Named(NameKind.ZONE, side) for side in sides)))
            else:
                out.append(one)
        return Match(tuple(out))

    def _text(self, where: Where | None) -> str:
        return self.get.text(self.node, where)

    def _hits(self) -> Hits | None:
        hits = self.get.setting(self.node, self.m.hits, read_whole)
        return Hits(int(hits.value)) if hits.known and not isinf(hits.value) else None

    def _doing(self, direction: str) -> _Doing:
        m, get, node = self.m, self.get, self.node
        action, word = self._action(direction)
        logged = get.flag(node, m.logged)
        schedule = self._text(m.schedule)
        if schedule:
            times = self.rules.schedules.get(schedule, "")
            self.gaps.append(Qualifier("time of day", f"{schedule}: {times}" if times else schedule))
        for one in m.qualifiers:
            found = get.tokens(node, Value(source=one.source, any=one.any))
            if found:
                self.gaps.append(Qualifier(one.name, " ".join(token.text for token in found)))
        leads_on = action in (Action.JUMP, Action.GOTO)
        return _Doing(
            action=action,
            word=word,
            enabled=get.is_on(node, m.enabled),
            target=self._text(m.target) or None if leads_on else None,
            effects=tuple(self._effects(direction, logged)),
            schedule=schedule or None,
            log_unknown=not logged.known,
        )

    def _action(self, direction: str) -> tuple[Action, str]:
        m = self.m
        if m.action is None:
            return Action.CONTINUE if direction in KINDS else Action.UNKNOWN, "translate"
        word = self.get.word(self.node, m.action)
        if word is None:
            missing = spec(m.action).missing
            if missing is not None:
                return Action(str(missing)), str(missing)
            self.ledger.unread(
                self.node.head, "the rule does not say what to do; it counts as one that may do anything"
            )
            return Action.UNKNOWN, ""
        try:
            return Action(str(self.get.translated(word, m.action))), word.text
        except (NotUnderstoodError, ValueError) as error:
            why = error.message if isinstance(error, NotUnderstoodError) else f"'{word.text}' is no action"
            self.ledger.unread(word.where, f"{why}; the rule counts as one that may do anything")
            return Action.UNKNOWN, word.text

    def _fields(self) -> tuple[tuple[Field, Where | None, Callable[[str], Operand]], ...]:
        """The conditions that stand for themselves: where each stands, and how a word of it is read."""
        m = self.m
        return (
            (Field.IN_INTERFACE, m.in_interface, InterfaceName),
            (Field.OUT_INTERFACE, m.out_interface, InterfaceName),
            (Field.IN_ZONE, m.in_zone, partial(Named, NameKind.ZONE)),
            (Field.OUT_ZONE, m.out_zone, partial(Named, NameKind.ZONE)),
            (Field.SOURCE, m.source, self._address_or_name),
            (Field.DESTINATION, m.destination, self._address_or_name),
            (Field.STATE, m.states, read_state),
        )

    def _field(self, field: Field, where: Where, read: Callable[[str], Operand]) -> tuple[Condition, ...]:
        """The conditions of a place; a gap where an exception is not understood, since the rule then may match less."""
        return tuple(one for found in self._with_exceptions(where) for one in self._condition(field, found, read))

    def _sides(self, where: Where) -> Iterator[tuple[tuple[Token, ...], bool]]:
        """The words of a condition and whether it is turned round; nothing for no restriction or what is not understood."""
        try:
            sides = list(self.get.conditions(self.node, where))
        except NotUnderstoodError as error:
            self._gap(error, error.where or self.node.head, "")
            return
        for found, negated in sides:
            said = [self._translated(token, where) for token in found or ()]
            words = tuple(word for word in said if word is not None)
            if isinstance(where, Value) and where.book is not None:
                words = self.get.booked(self.node, where, words, {*self.rules.addresses, *self.rules.service_names})
            # With a word missing, the rule may match more than the others say.
            if words and len(words) == len(said):
                yield words, negated

    def _translated(self, token: Token, where: Where) -> Token | None:
        """A word after its word table; None, and a gap, if that does not hold it."""
        try:
            text = str(self.get.translated(token, where))
        except NotUnderstoodError as error:
            self._gap(error, token.where, token.text)
            return None
        return token if text == token.text else replace(token, text=text)

    def _condition(
        self, field: Field, found: tuple[tuple[Token, ...], bool] | None, read: Callable[[str], Operand]
    ) -> Iterator[Condition]:
        if found is None:
            return
        tokens, negated = found
        operands = self._operands(tokens, read)
        # With a value missing, the rule may match more than the others say.
        if operands is not None:
            yield Condition(field, operands, negated)

    def _operands(self, tokens: tuple[Token, ...], read: Callable[[str], Operand]) -> tuple[Operand, ...] | None:
        out: list[Operand] = []
        understood = True
        for token in tokens:
            try:
                out.append(read(token.text))
            except NotUnderstoodError as error:
                understood = False
                self._gap(error, token.where, token.text)
        return tuple(out) if understood else None

    def _gap(self, error: NotUnderstoodError, where: Span, text: str) -> None:
        self.ledger.unread(where, f"{error.message}; the rule is kept as one that may match")
        self.gaps.append(Qualifier(NOT_UNDERSTOOD, text or error.message))

    def _services(self) -> Iterator[Condition]:
        m = self.m
        for tokens, negated in self._with_exceptions(m.service):
            terms = [self._service(token) for token in tokens]
            if all(term is not None for term in terms):
                yield Condition(Field.SERVICE, tuple(o for term in terms if term for o in term), negated)
        protocols: tuple[Numbers, ...] = ()
        for found in self._with_exceptions(m.protocol):
            for one in self._condition(Field.PROTOCOL, found, read_protocol):
                named = tuple(o for o in one.operands if isinstance(o, Numbers))
                protocols = protocols if one.negated else named
                if one.negated or any(o.last - o.first < 255 for o in named):
                    yield one
        for field, where in ((Field.SOURCE_PORT, m.source_ports), (Field.DESTINATION_PORT, m.destination_ports)):
            for found in self._with_exceptions(where):
                yield from self._ports(field, found, protocols)
        family = 6 if any(p.first == 58 for p in protocols) else 4
        for found in self._with_exceptions(m.icmp):
            yield from self._condition(Field.ICMP, found, lambda text: read_icmp(text, family))

    def _was_translated(self) -> tuple[Condition, ...]:
        """Whether the packet's destination must have been translated, or must not."""
        said = self.get.flag(self.node, self.m.translated)
        return (Condition(Field.TRANSLATED, (), not said.value),) if said.known else ()

    def _with_exceptions(self, where: Where | None) -> Iterator[tuple[tuple[Token, ...], bool]]:
        """The words of a condition, then those taken out of it again, each with whether the condition is turned round."""
        if where is not None:
            yield from self._sides(where)
        if isinstance(where, Value) and where.excluded is not None:
            taken = Value(source=where.excluded, split=where.split, words=where.words, book=where.book)
            yield from ((words, not negated) for words, negated in self._sides(taken))

    def _ports(
        self, field: Field, found: tuple[tuple[Token, ...], bool], protocols: tuple[Numbers, ...]
    ) -> Iterator[Condition]:
        """Ports, and names of port groups where they may stand."""
        tokens, negated = found
        named = [t for t in tokens if t.text in self.rules.service_names]
        if not named:
            terms = self._spoken_ports(tokens, protocols) if field is Field.DESTINATION_PORT else None
            if terms is None:
                yield from self._condition(field, found, read_port_range)
            else:
                yield Condition(Field.SERVICE, terms, negated)
            return
        if field is Field.SOURCE_PORT:
            for token in named:
                why = NotUnderstoodError("a port group among source ports is not understood")
                self._gap(why, token.where, token.text)
            return
        ports = self._operands(tuple(t for t in tokens if t not in named), read_port_range)
        if ports is None:
            return
        numbers = tuple(p for p in ports if isinstance(p, Numbers))
        terms = tuple(ServiceTerm(p, (), numbers) for p in protocols or PORTED) if numbers else ()
        names = tuple(Named(NameKind.SERVICE, t.text) for t in named)
        yield Condition(Field.SERVICE, (*names, *terms), negated)

    def _spoken_ports(
        self, tokens: tuple[Token, ...], protocols: tuple[Numbers, ...]
    ) -> tuple[ServiceTerm, ...] | None:
        """What cells for ports say that bring their protocol along, as "tcp/443"; None where they are ports alone, or other things."""
        if not self.rules.dialect.behaviour.well_known_services or all(t.text.isdecimal() for t in tokens):
            return None
        out: list[ServiceTerm] = []
        for token in tokens:
            terms = [t for t in spoken_service(token.text) or () if not protocols or t.protocol in protocols]
            if not terms:
                return None
            out += terms
        return tuple(out)

    def _service(self, token: Token) -> tuple[Operand, ...] | None:
        """A service by name, or as protocol and port, or by a well-known name where the make has those."""
        # Where a word need not be quoted, who quotes it means a name; in JSON and YAML every text is.
        quoted = token.quoted and isinstance(self.rules.dialect.structure, TextStructure)
        if token.text in self.rules.service_names or quoted:
            return (Named(NameKind.SERVICE, token.text),)
        speaks = self.rules.dialect.behaviour.well_known_services
        try:
            literal = read_service(token.text)
        except NotUnderstoodError as error:
            if speaks and (spoken := spoken_service(token.text)) is not None:
                return spoken
            self._gap(error, token.where, token.text)
            return None
        if literal is not None:
            return literal
        parts = [part.strip() for part in token.text.split(",")]
        if len(parts) > 1 and all(part in self.rules.service_names for part in parts):
            return tuple(Named(NameKind.SERVICE, part) for part in parts)
        if speaks and (spoken := spoken_service(token.text)) is not None:
            return spoken
        return (Named(NameKind.SERVICE, token.text),)

    def _address_or_name(self, text: str) -> Operand:
        found = Named(NameKind.ADDRESS, text) if text in self.rules.addresses else read_member_or_name(text)
        if (
            isinstance(found, Named)
            and text not in self.rules.addresses
            and self.rules.dialect.behaviour.labelled_addresses
        ):
            return spoken_address(text) or found
        return found

    def _effects(self, direction: str, logged: Setting[bool]) -> Iterator[Effect]:
        prefix = self.get.text(self.node, self.m.log_prefix)
        if logged.known and logged.value:
            yield Log(prefix)
        if direction in KINDS:
            yield self._translate(KINDS[direction])
            return
        for where in (self.m.to_address, self.m.to_ports):
            # Where rules filter nothing says when the address is changed: before they look at it or after.
            if (word := self._said(where)) is not None:
                why = f"'{word.text}' is where a translation leads, and this list of rules is none of translations"
                self._gap(NotUnderstoodError(why, word.where), word.where, word.text)

    def _said(self, where: Where | None) -> Token | None:
        """The word at a place, after its word table."""
        word = self.get.word(self.node, where)
        return None if word is None or where is None else self._translated(word, where)

    def _translate(self, kind: TranslationKind) -> Translate:
        """Where a translation leads; a name that is not one address makes it a condition that is not computed."""
        address, ports = None, None
        word = self._said(self.m.to_address)
        if word is not None:
            try:
                one = read_members(word.text)
                address = one if isinstance(one, Addresses) else None
            except NotUnderstoodError as error:
                address = self.rules.single(word.text)
                if address is None:
                    self._gap(error, word.where, word.text)
        port = self._said(self.m.to_ports)
        if port is not None:
            found = self._operands((port,), read_port_range)
            ports = found[0] if found and isinstance(found[0], Numbers) else None
        return Translate(kind, address, ports)

    def _unknown_parts(self, action: Action) -> None:
        """What a rule says that the dialect has no place for may be a condition, so the rule may match.

        So may what only objects were read from; a rule that goes on decides nothing by it, such as by the list it adds to.
        """
        # What was found unread for one device is so for the next that falls back on the same rule.
        if spare := [word for word in self.node.words if word.strange or not word.used]:
            text = " ".join(word.text for word in spare)
            self.ledger.unread(spare[0].where, f"'{text}' is more than the dialect reads of '{self.node.name}'")
            for word in spare:
                word.used = word.strange = True
            self.gaps.append(Qualifier(NOT_UNDERSTOOD, text))
        if action is not Action.CONTINUE:
            for child in self.node.children:
                child.strange |= child not in self.rules.ignored and child.touched() and child.is_lent()
        self._unknown_below(self.node)

    def _unknown_below(self, node: Node) -> None:
        for child in node.children:
            if child in self.rules.ignored:
                continue
            if child.strange or not child.touched():
                self.ledger.unread(
                    child.where, f"'{child.name}' is not known in a rule; the rule is kept as one that may match"
                )
                child.taken = child.strange = True
                for word in child.words:
                    word.used = True
                self.gaps.append(Qualifier(NOT_UNDERSTOOD, child.text()))
                continue
            if spare := self.get.spare(child):
                self.gaps.append(Qualifier(NOT_UNDERSTOOD, " ".join(word.text for word in spare)))
            self._unknown_below(child)


_PLACES = {
    Field.SOURCE: (Field.IN_ZONE, Field.IN_INTERFACE),
    Field.DESTINATION: (Field.OUT_ZONE, Field.OUT_INTERFACE),
}


def _conditions(field: Field, read: Callable[[str], Operand], words: Sequence[str]) -> tuple[Condition, ...]:
    return (Condition(field, tuple([read(word) for word in words])),) if words else ()


def _counted(words: Sequence[str]) -> Hits | None:
    return Hits(int(read_whole(words[0]))) if words else None

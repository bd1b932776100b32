"""Rules in neutral words: what they match, what they do, and the chains and rule bases they stand in."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from enum import StrEnum

from msgspec import Struct
from msgspec.structs import replace

from aiguille.model.objects import Addresses, Numbers, Operand
from aiguille.model.spans import Span


class Field(StrEnum):
    """What a condition looks at."""

    IN_INTERFACE = "interface in"
    OUT_INTERFACE = "interface out"
    IN_ZONE = "zone in"
    OUT_ZONE = "zone out"
    SOURCE = "source"
    DESTINATION = "destination"
    PROTOCOL = "protocol"
    SOURCE_PORT = "source port"
    DESTINATION_PORT = "destination port"
    EITHER_PORT = "either port"
    ICMP = "ICMP type"
    TCP_FLAGS = "TCP flags"
    STATE = "state"
    DESTINATION_TYPE = "destination type"
    SOURCE_TYPE = "source type"
    TRANSLATED = "destination translated"
    SENT_TO = "destination as sent"
    SENT_TO_PORT = "destination port as sent"
    SERVICE = "service"
    SET = "set"
    FAMILY = "address family"


class State(StrEnum):
    """Connection states as the tracking of the Linux kernel names them (iptables-extensions(8), conntrack)."""

    NEW = "new"
    ESTABLISHED = "established"
    RELATED = "related"
    INVALID = "invalid"
    UNTRACKED = "untracked"

    @property
    def number(self) -> int:
        return _STATES[self]


_STATES = {state: number for number, state in enumerate(State)}


class DestinationType(StrEnum):
    """Kinds of destination as routing sees them (iptables-extensions(8), addrtype)."""

    UNICAST = "unicast"
    LOCAL = "local"
    BROADCAST = "broadcast"
    MULTICAST = "multicast"
    OTHER = "other"

    @property
    def number(self) -> int:
        return _TYPES[self]


_TYPES = {kind: number for number, kind in enumerate(DestinationType)}


class Action(StrEnum):
    """What a rule does with the packets it matches."""

    ACCEPT = "accept"
    DROP = "drop"
    REJECT = "reject"
    RETURN = "return"
    JUMP = "jump"
    GOTO = "goto"
    CONTINUE = "continue"
    UNKNOWN = "unknown"

    @property
    def refuses(self) -> bool:
        return self in (Action.DROP, Action.REJECT)


class Condition(Struct, frozen=True):
    """The packet's `field` lies in the union of `operands`, or outside it when `negated`."""

    field: Field
    operands: tuple[Operand, ...]
    negated: bool = False


class Match(Struct, frozen=True):
    """A conjunction of conditions; none at all matches every packet."""

    conditions: tuple[Condition, ...] = ()


NOT_UNDERSTOOD = "not understood"
"""The name of a qualifier for what a reader could not read of a rule."""


class Qualifier(Struct, frozen=True):
    """A condition that is not modelled exactly: the rule matches some of its packets, we cannot say which.

    `name` is a short word for listings ("rate limit"), `text` what the export says.
    """

    name: str
    text: str


class TranslationKind(StrEnum):
    """Which end of a connection a translation changes, and to what."""

    DESTINATION = "destination"
    SOURCE = "source"
    TO_DEVICE = "destination to the device itself"


class Log(Struct, frozen=True):
    """The packet is recorded."""

    prefix: str = ""


class Translate(Struct, frozen=True):
    """Addresses or ports are rewritten; an empty field stays as it is."""

    kind: TranslationKind
    addresses: Addresses | None = None
    ports: Numbers | None = None
    netmap_bits: int | None = None


class SetMark(Struct, frozen=True):
    """The packet's mark becomes `(mark & ~mask) ^ value` (iptables-extensions(8), MARK --set-xmark)."""

    value: int
    mask: int


class NoTracking(Struct, frozen=True):
    """Connection tracking leaves the packet alone, where it has not seen it yet; its state is then untracked (Linux, nft_ct.c)."""


class NewTracking(Struct, frozen=True):
    """A packet of no connection, or one that tracking has not seen yet, gets the beginning of one: its state is then new.

    So do ``ct zone set`` and ``ct timeout set`` of nft (Linux, nft_ct.c).
    """


class LoseMark(Struct, frozen=True):
    """The packet's mark becomes something the rules themselves do not show: that of its connection, or out of a map."""


class FillSet(Struct, frozen=True):
    """Addresses or ports of the packet go into a set, or out of it (iptables-extensions(8), SET), which no export then shows whole."""

    name: str


class HandOver(Struct, frozen=True):
    """A program outside the rules decides over the packet; `bypass`: it is let through while none runs (nft(8), queue)."""

    bypass: bool = False


Effect = Log | Translate | SetMark | LoseMark | NoTracking | NewTracking | FillSet | HandOver


class MarkTest(Struct, frozen=True):
    """The packet's mark, masked by `mask`, equals `value`, or differs when `negated`."""

    value: int
    mask: int
    negated: bool = False


class Hits(Struct, frozen=True):
    """Counters of a rule or policy."""

    packets: int
    octets: int | None = None


class Documentation(Struct, frozen=True):
    """What the export states about a rule's reason, beside its comment."""

    requester: str = ""
    ticket: str = ""
    expires: str = ""
    created_by: str = ""
    created_at: str = ""
    changed_by: str = ""
    changed_at: str = ""


class Rule(Struct, frozen=True):
    """One rule. `number` is its position in the chain, from 1.

    `target` is the chain of a jump or goto; `reply` the answer a reject sends, as written; `action_text` the action as
    the export names it. `built_in`: nobody wrote it, the make has it by itself; `where` is then what makes it hold.
    `implied`: its lines are no statement about packets, but a switch or a zone that brings it along.
    `shipped`: a program put it there by itself, as it comes; nobody who is audited wrote it or asked for it.
    `made`: a program made it of a line in files of its own; its number means nothing to whoever wrote that line.
    `log_unknown`: nothing shows whether hits are recorded. `last_hit`: when it was last hit, as the export writes it.
    """

    number: int
    where: Span
    action: Action
    match: Match = Match()
    action_text: str = ""
    name: str = ""
    comment: str = ""
    enabled: bool = True
    target: str | None = None
    reply: str = ""
    effects: tuple[Effect, ...] = ()
    marks: tuple[MarkTest, ...] = ()
    qualifiers: tuple[Qualifier, ...] = ()
    hits: Hits | None = None
    last_hit: str = ""
    schedule: str | None = None
    documentation: Documentation = Documentation()
    built_in: bool = False
    log_unknown: bool = False
    implied: bool = False
    made: bool = False
    shipped: bool = False

    @property
    def logs(self) -> bool:
        return any(isinstance(effect, Log) for effect in self.effects)

    @property
    def unread(self) -> bool:
        """Whether something of the rule could not be read, which may be part of its conditions or of what it does."""
        return any(one.name == NOT_UNDERSTOOD for one in self.qualifiers)

    @property
    def may_do_more(self) -> bool:
        """Whether it may do more to a packet, which then goes on, than is told: mark it, or leave it untracked."""
        if self.action is Action.UNKNOWN:
            return not any(isinstance(one, HandOver) for one in self.effects)
        return self.action is Action.CONTINUE and self.unread


class Direction(StrEnum):
    """Where traffic goes, seen from the device."""

    TO_DEVICE = "to-device"
    THROUGH_DEVICE = "through-device"
    FROM_DEVICE = "from-device"


class Stage(StrEnum):
    """Points a packet passes; the names are those of the kernel's hooks (nft(8), "Address families")."""

    PREROUTING = "prerouting"
    INPUT = "input"
    FORWARD = "forward"
    OUTPUT = "output"
    POSTROUTING = "postrouting"


STAGES: dict[Direction, tuple[Stage, ...]] = {
    Direction.TO_DEVICE: (Stage.PREROUTING, Stage.INPUT),
    Direction.THROUGH_DEVICE: (Stage.PREROUTING, Stage.FORWARD, Stage.POSTROUTING),
    Direction.FROM_DEVICE: (Stage.OUTPUT, Stage.POSTROUTING),
}

FILTER_STAGE: dict[Direction, Stage] = {
    Direction.TO_DEVICE: Stage.INPUT,
    Direction.THROUGH_DEVICE: Stage.FORWARD,
    Direction.FROM_DEVICE: Stage.OUTPUT,
}


class Base(Struct, frozen=True):
    """Makes a chain a starting point: at which stage, in which order (lower first), for what kind of work.

    `kind` is "filter", "nat" (sees only the first packet of a connection) or "route". `routed` is False where it is open yet by
    which interface packets leave, so that conditions on that find none.
    """

    stage: Stage
    priority: int = 0
    kind: str = "filter"
    routed: bool = True

    @property
    def before_tracking(self) -> bool:
        """Whether it comes before connection tracking, which the kernel does at priority -200 (nft(8))."""
        return self.priority < -200 and self.stage in (Stage.PREROUTING, Stage.OUTPUT)


class Chain(Struct, frozen=True):
    """Rules in order of evaluation. `policy` is what happens at the end of a base chain, None for other chains;
    `policy_logs` says whether that is recorded, unless nothing shows."""

    name: str
    rules: tuple[Rule, ...]
    where: Span | None
    base: Base | None = None
    policy: Action | None = None
    policy_where: Span | None = None
    policy_logs: bool = False
    policy_log_unknown: bool = False
    policy_is_default: bool = False
    hits: Hits | None = None


class Rulebase(Struct, frozen=True):
    """A named set of chains for one or both address families."""

    name: str
    families: frozenset[int]
    chains: tuple[Chain, ...]
    where: Span | None = None

    def chain(self, name: str) -> Chain | None:
        return next((chain for chain in self.chains if chain.name == name), None)

    def rules(self) -> Iterator[tuple[Chain, Rule]]:
        """All rules with their chain, in the order of the export."""
        for chain in self.chains:
            for rule in chain.rules:
                yield chain, rule

    def with_each_rule(self, change: Callable[[Rule], Rule]) -> Rulebase:
        """The rule base with every rule as `change` makes it; itself, chains too, where that gives back the same."""
        chains = []
        for chain in self.chains:
            rules = tuple(map(change, chain.rules))
            same = all(one is other for one, other in zip(rules, chain.rules, strict=True))
            chains.append(chain if same else replace(chain, rules=rules))
        same = all(one is other for one, other in zip(chains, self.chains, strict=True))
        return self if same else replace(self, chains=tuple(chains))

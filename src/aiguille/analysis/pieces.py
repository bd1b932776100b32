"""What rules match where they stand: in chains that others call, before connections are tracked, before it is known where packets
leave, and of packets that rules have left untracked."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from aiguille.analysis.resolve import Piece, Resolver
from aiguille.model import Action, Chain, Direction, NoTracking, Rule, Rulebase, Stage, State, Translate
from aiguille.model.rules import TranslationKind
from aiguille.space import EVERYTHING, Axis, Box, IntervalSet, box, meets, overlap, subtract
from aiguille.space.effort import spend


def before_tracking(pieces: tuple[Piece, ...], *, begun: bool = False) -> tuple[Piece, ...]:
    """What pieces match in a chain that comes before connections are tracked: there every packet counts as invalid.

    begun: whether some packets may have got the beginning of a connection, and count as new
    """
    out = []
    for piece in pieces:
        states = piece.box[Axis.STATE]
        if states is None:
            out.append(piece)
        elif State.INVALID.number in states or (begun and State.NEW.number in states):
            out.append(Piece(_of_any_state(piece.box), piece.sure and not begun))
    return tuple(out)


def before_routing(pieces: tuple[Piece, ...]) -> tuple[Piece, ...]:
    """What pieces match in a chain that comes before it is known where packets leave: there none has an interface out."""
    return tuple(
        Piece((*piece.box[: Axis.OUT], None, *piece.box[Axis.OUT + 1 :]), piece.sure)
        for piece in pieces
        if (out := piece.box[Axis.OUT]) is None or 0 in out
    )


def conjunction(path: tuple[Piece, ...], pieces: tuple[Piece, ...]) -> tuple[Piece, ...]:
    """What both let in; surely only where both are sure."""
    if len(path) == 1 and path[0].box == EVERYTHING:
        return pieces if path[0].sure else tuple(Piece(p.box, False) for p in pieces)
    spend(len(path) * len(pieces) >> 2)
    return tuple(
        Piece(common, a.sure and b.sure) for a in path for b in pieces if (common := overlap(a.box, b.box)) is not None
    )


def untracked(resolver: Resolver, direction: Direction) -> Untracked:
    """The packets of a direction that rules leave untracked, before tracking (iptables-extensions(8), CT; nft(8), notrack):
    whatever their connection is, rules behind see them in state untracked.

    Those are not sure of which an earlier rule of such a chain may have taken some, and those of rules that were not understood.
    """
    stage = Stage.OUTPUT if direction is Direction.FROM_DEVICE else Stage.PREROUTING
    out: list[Piece] = []
    guessed = False
    for rulebase in resolver.device.rulebases:
        if resolver.space.family not in rulebase.families:
            continue
        for chain in rulebase.chains:
            if chain.base is not None and chain.base.before_tracking and chain.base.stage is stage:
                for piece, rule in _untracked_in(
                    resolver, rulebase, chain, chain.base.routed, (Piece(EVERYTHING, True),), ()
                ):
                    out.append(piece)
                    guessed = guessed or rule.may_do_more
    moved = bool(out) and any(_moves(rule) for base in resolver.device.rulebases for _, rule in base.rules())
    return Untracked(tuple(out), moved, guessed)


def _untracked_in(
    resolver: Resolver,
    rulebase: Rulebase,
    chain: Chain,
    routed: bool,
    path: tuple[Piece, ...],
    callers: tuple[str, ...],
) -> Iterator[tuple[Piece, Rule]]:
    """What rules of a chain leave untracked, or may, each with its rule."""
    all_come = True
    for rule in chain.rules:
        if not rule.enabled:
            continue
        told = any(isinstance(one, NoTracking) for one in rule.effects)
        effect = told or rule.may_do_more
        called = rulebase.chain(rule.target) if rule.target and rule.action in (Action.JUMP, Action.GOTO) else None
        if effect or called is not None:
            own = before_tracking(resolver.rule(rule))
            pieces = conjunction(path, own if routed else before_routing(own))
            pieces = tuple(Piece(one.box, one.sure and all_come and (told or not effect)) for one in pieces)
            if effect:
                yield from ((piece, rule) for piece in pieces)
            if called is not None and called.name not in callers:
                yield from _untracked_in(resolver, rulebase, called, routed, pieces, (*callers, chain.name))
        all_come = all_come and rule.action is not Action.RETURN and not _may_end(rulebase, rule)


def _may_end(rulebase: Rulebase, rule: Rule, callers: tuple[str, ...] = ()) -> bool:
    """Whether packets a rule matches may not get to the next one and be let through all the same."""
    if rule.action is Action.JUMP and rule.target is not None and rule.target not in callers:
        called = rulebase.chain(rule.target)
        rules = called.rules if called is not None else ()
        return any(_may_end(rulebase, one, (*callers, rule.target)) for one in rules if one.enabled)
    return rule.action in (Action.ACCEPT, Action.GOTO, Action.UNKNOWN)


class Untracked(Struct, frozen=True):
    """The packets that rules leave untracked, as if they were tracked.

    moved: whether rules change destinations, so that a packet seen later need not have been sent to where it goes
    guessed: whether some are so only if a rule that was not understood does that
    """

    packets: tuple[Piece, ...]
    moved: bool
    guessed: bool

    def seen_by(self, pieces: tuple[Piece, ...], tops: tuple[int, ...]) -> tuple[Piece, ...]:
        """What pieces of a rule behind match: of these packets all or none, whatever else their state would be."""
        out: list[Piece] = []
        for piece in pieces:
            states = piece.box[Axis.STATE]
            met = [] if states is None else [u for u in self.packets if meets(_of_any_state(piece.box), u.box)]
            if states is None or not met:
                out.append(piece)
                continue
            rest, unsure = [piece.box], [one.box for one in met if not self._surely(one)]
            for one in met:
                if self._surely(one):
                    rest = [part for each in rest for part in subtract(each, one.box, tops)]
            out += [Piece(part, piece.sure and not any(meets(part, one) for one in unsure)) for part in rest]
            if State.UNTRACKED.number in states:
                whatever = overlap(_of_any_state(piece.box), _ELSE_TRACKED)
                out += conjunction((Piece(whatever or EVERYTHING, piece.sure),), tuple(met))
        return tuple(out)

    def _surely(self, one: Piece) -> bool:
        """Whether no packet that is seen later within a box is tracked."""
        return one.sure and not (self.moved and (one.box[Axis.DST] is not None or one.box[Axis.B] is not None))


_ELSE_TRACKED = box([(Axis.STATE, IntervalSet.of(*(one.number for one in State if one is not State.UNTRACKED)))])


def _of_any_state(one: Box) -> Box:
    return (*one[: Axis.STATE], None, *one[Axis.STATE + 1 :])


def _moves(rule: Rule) -> bool:
    return any(isinstance(one, Translate) and one.kind is not TranslationKind.SOURCE for one in rule.effects)

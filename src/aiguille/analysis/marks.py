"""Which packets may carry a mark that rules of the export set (iptables-extensions(8), MARK; nft(8), meta mark)."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from aiguille.analysis.moves import moved, moves_of
from aiguille.model import (
    Action,
    Chain,
    Device,
    LoseMark,
    MarkTest,
    Match,
    Rule,
    Rulebase,
    SetMark,
    Stage,
    State,
    Translate,
)
from aiguille.space.boxes import overlap
from aiguille.space.fields import EVERYTHING, UDP, Axis, Box, box
from aiguille.space.intervals import IntervalSet

BOXES = 64
"""Boxes of marked packets that are told apart; beyond, where they go is left open."""

_NEW = IntervalSet.of(State.NEW.number)
_CARRIERS = IntervalSet.of(4, 41, 47, 50, 51)
"""IP in IP, IPv6 in IPv4, GRE, ESP and AH (IANA protocol numbers)."""
_CARRIER_PORTS = IntervalSet.of(1701, 4500, 4789)
"""Of UDP: L2TP, ESP (RFC 3948) and VXLAN (RFC 7348)."""


def marked(
    device: Device, family: int, tests: Sequence[MarkTest], match: Callable[[Match], Sequence[Box]], own: IntervalSet
) -> tuple[Box, ...] | None:
    """Boxes that hold every packet which rules marked so that it may pass some tests, or fail them where they are passed without a
    mark, as the filter sees it; what the device sends among them.

    match: the boxes of a match; own: the interfaces of what the device sends, the loopback among them: a program may mark that as it
    likes (socket(7), SO_MARK). None where no rule of the export sets such a mark, so that something else does, or where marks are
    set, kept or restored in ways that are not followed: what comes out of a tunnel keeps the mark of the packet that carried it.
    """
    if any(_filters_late(one) for one in device.rulebases if family in one.families):
        return None
    unmarked = passes_unmarked(tests)
    setting: list[Box] = []
    carried = False
    moves: list[tuple[Box, Translate]] = []
    for rulebase in device.rulebases:
        if family not in rulebase.families:
            continue
        ways = _Ways(rulebase, match)
        for chain, rule in rulebase.rules():
            if not rule.enabled:
                continue
            if rule.action is Action.UNKNOWN or any(isinstance(one, LoseMark) for one in rule.effects):
                return None
            if any(isinstance(one, SetMark) and (unmarked or _may_pass(one, tests)) for one in rule.effects):
                setting += [
                    common
                    for led in ways.to(chain)
                    for one in match(rule.match)
                    if (common := overlap(led, one)) is not None
                ]
            moves += [(one, change) for change in moves_of(rule) for one in match(rule.match)]
            carried |= rule.action is Action.ACCEPT and any(map(_names_carriers, match(rule.match)))
    if not setting or (carried and any(map(_may_carry, setting))):
        return None
    found = [box([(Axis.IN, own)])]
    for one in dict.fromkeys(setting):
        if len(found) + len(moves) > BOXES:
            found += _coarse(setting)
            break
        found += _as_seen(one, moves)
    return None if EVERYTHING in found else tuple(dict.fromkeys(found))


def _may_carry(one: Box) -> bool:
    """Whether packets of tunnels that the kernel opens by itself are among some."""
    protocols, ports = one[Axis.PROTO], one[Axis.B]
    over_udp = (protocols is None or UDP in protocols) and (ports is None or ports.overlaps(_CARRIER_PORTS))
    return protocols is None or protocols.overlaps(_CARRIERS) or over_udp


def _names_carriers(one: Box) -> bool:
    """Whether some packets are those of tunnels on purpose, since they are told by their protocol and few ports."""
    protocols, ports = one[Axis.PROTO], one[Axis.B]
    few = (
        protocols is not None
        and protocols.size <= _FEW
        and (UDP not in protocols or (ports is not None and ports.size <= _FEW))
    )
    return few and _may_carry(one)


_FEW = 16


def _filters_late(rulebase: Rulebase) -> bool:
    """Whether a rule base refuses what leaves, perhaps by a mark: marks are set for that, too, which no other chain sees."""
    late = [one.base for one in rulebase.chains if one.base is not None and one.base.stage is Stage.POSTROUTING]
    rules = [rule for _, rule in rulebase.rules() if rule.enabled] if any(one.kind == "filter" for one in late) else []
    return any(rule.marks for rule in rules) and any(rule.action.refuses for rule in rules)


class _Ways:
    """What may get to the chains of a rule base, by the rules that lead there."""

    def __init__(self, rulebase: Rulebase, match: Callable[[Match], Sequence[Box]]) -> None:
        self._match = match
        self._callers: dict[str, list[tuple[Chain, Rule]]] = {}
        self._known: dict[str, list[Box]] = {}
        for chain, rule in rulebase.rules():
            if rule.enabled and rule.target is not None and rule.action in (Action.JUMP, Action.GOTO):
                self._callers.setdefault(rule.target, []).append((chain, rule))

    def to(self, chain: Chain, above: tuple[str, ...] = ()) -> list[Box]:
        if chain.base is not None:
            return [] if chain.base.stage is Stage.POSTROUTING else [EVERYTHING]
        if chain.name in above or len(above) > _DEEP:
            return [EVERYTHING]
        if chain.name not in self._known:
            out: dict[Box, None] = {}
            for other, rule in self._callers.get(chain.name, ()):
                mine = self._match(rule.match)
                for led in self.to(other, (*above, chain.name)):
                    out |= {common: None for one in mine if (common := overlap(led, one)) is not None}
                if len(out) > BOXES:
                    out = {EVERYTHING: None}
                    break
            self._known[chain.name] = list(out)
        return self._known[chain.name]


_DEEP = 8
"""Jumps that are followed back from where a mark is set."""


def passes_unmarked(tests: Sequence[MarkTest]) -> bool:
    """Whether packets that nothing marked pass tests: their mark is 0."""
    return all((test.value == 0) is not test.negated for test in tests)


def _may_pass(effect: SetMark, tests: Sequence[MarkTest]) -> bool:
    """Whether a mark may pass after this was done to it: bits outside of the effect's mask are whatever they were."""
    return all(
        (effect.value ^ test.value) & effect.mask & test.mask == 0
        if not test.negated
        else test.mask & ~effect.mask != 0 or effect.value & test.mask != test.value
        for test in tests
    )


def _as_seen(one: Box, moves: Sequence[tuple[Box, Translate]]) -> Iterator[Box]:
    """What a rule marked, as later rules see it: translated or not, and as packets of a connection that was."""
    free = _without(one, Axis.TYPE)
    new = overlap(free, box([(Axis.STATE, _NEW)]))
    if new is not None:
        yield new
        for taken, change in moves:
            common = overlap(new, _without(taken, Axis.TYPE, Axis.OUT))
            if common is not None:
                yield moved(common, change)
    running = IntervalSet([(0, len(State) - 1)]) - _NEW
    others = overlap(_without(free, Axis.DST, Axis.B), box([(Axis.STATE, running)]))
    if others is not None:
        yield others


def _coarse(setting: Sequence[Box]) -> list[Box]:
    """The same where there is too much of it: wherever packets go to."""
    found = dict.fromkeys(_without(one, Axis.TYPE, Axis.DST, Axis.B) for one in setting)
    return list(found) if len(found) < BOXES else [EVERYTHING]


def _without(one: Box, *axes: Axis) -> Box:
    return tuple(None if axis in axes else values for axis, values in zip(Axis, one, strict=True))

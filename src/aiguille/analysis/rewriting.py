"""What translations make of whole regions of packets: which part each rule takes, in the order in which they are asked.

A connection is translated once at each of its ends (nft(8), "NAT statements"): of several chains for one place the first rule that
takes a packet decides.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from msgspec import Struct

from aiguille.analysis.program import Programs
from aiguille.model import Action, Chain, Rule, Rulebase, Stage, Translate, TranslationKind
from aiguille.space import Box, meets, overlap, subtract
from aiguille.space.effort import spend

_DEEP = 64
"""Chains called within one another beyond which nothing is sure."""


class Rewrite(Struct, frozen=True):
    """A part of a region, and what becomes of it there.

    change: the translation, None where the packets stay as they are
    sure: False where something else may become of some of them
    """

    box: Box
    change: Translate | None
    sure: bool


_Part = tuple[Box, bool]
"""Packets on their way through a chain, and whether it is sure that they get that far."""


def rewrites(programs: Programs, family: int, stage: Stage, region: Box) -> list[Rewrite]:
    """What the translations of a stage make of a region; parts that are sure are disjoint."""
    device = programs.device
    found = [
        (base, chain)
        for base in device.rulebases
        if family in base.families
        for chain in base.chains
        if chain.base is not None and chain.base.kind == "nat" and chain.base.stage is stage
    ]
    found.sort(key=lambda item: item[1].base.priority if item[1].base is not None else 0)
    left: list[_Part] = [(region, True)]
    out: list[Rewrite] = []
    for base, chain in found:
        walk = _Walk(programs, family, base, _CHANGES[stage])
        rest = walk.through(chain, left, 0)
        out += walk.taken
        left = [*rest, *walk.kept]
    return [*out, *(Rewrite(box, None, sure) for box, sure in left)]


_CHANGES = {
    Stage.PREROUTING: (TranslationKind.DESTINATION, TranslationKind.TO_DEVICE),
    Stage.OUTPUT: (TranslationKind.DESTINATION, TranslationKind.TO_DEVICE),
    Stage.POSTROUTING: (TranslationKind.SOURCE,),
}


class _Walk:
    """One way through a base chain and what it calls. taken: what was translated; kept: what was accepted as it is."""

    def __init__(self, programs: Programs, family: int, base: Rulebase, kinds: Sequence[TranslationKind]) -> None:
        self._programs = programs
        self._resolver = programs.resolver(family)
        self._base = base
        self._kinds = kinds
        self.taken: list[Rewrite] = []
        self.kept: list[_Part] = []

    def through(self, chain: Chain, parts: Iterable[_Part], depth: int) -> list[_Part]:
        """What comes out at the end of a chain, or returns from it."""
        left = list(parts)
        if depth > _DEEP:
            return [(box, False) for box, _ in left]
        back: list[_Part] = []
        for rule in chain.rules:
            if not left:
                break
            if not rule.enabled:
                continue
            hits, left = self._split(left, rule)
            if not hits:
                continue
            change = next((e for e in rule.effects if isinstance(e, Translate) and e.kind in self._kinds), None)
            target = self._base.chain(rule.target) if rule.target is not None else None
            if change is not None:
                self.taken += [Rewrite(box, change, sure) for box, sure in hits]
            elif rule.action is Action.ACCEPT:
                self.kept += hits
            elif rule.action is Action.RETURN:
                back += hits
            elif target is not None and rule.action is Action.JUMP:
                left += self.through(target, hits, depth + 1)
            elif target is not None and rule.action is Action.GOTO:
                back += self.through(target, hits, depth + 1)
            elif rule.action is Action.CONTINUE:
                left += hits
            else:
                left += [(box, False) for box, _ in hits]
        return [*left, *back]

    def _split(self, parts: Sequence[_Part], rule: Rule) -> tuple[list[_Part], list[_Part]]:
        """What a rule takes, and what goes on past it; where that is open a part does both, and neither is sure."""
        hits: list[_Part] = []
        left = list(parts)
        for piece in self._resolver.rule(rule):
            rest: list[_Part] = []
            for box, sure in left:
                if not meets(box, piece.box):
                    rest.append((box, sure))
                    continue
                common = overlap(box, piece.box)
                if common is None:
                    rest.append((box, sure))
                    continue
                hits.append((common, sure and piece.sure))
                rest += [(part, sure) for part in subtract(box, piece.box, self._resolver.space.tops)]
                if not piece.sure:
                    rest.append((common, False))
            spend(len(rest) + 1)
            left = rest
        return hits, left

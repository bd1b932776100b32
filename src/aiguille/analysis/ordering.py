"""How many rules a packet is compared with, and how many it would be in a better order that changes no verdict."""

from __future__ import annotations

from collections.abc import Sequence
from heapq import heapify, heappop, heappush

from msgspec import Struct

from aiguille.analysis.program import Program, Step
from aiguille.analysis.standing.words import fate
from aiguille.model import Action, Chain, Rule
from aiguille.model.identity import Same

RULES_LIMIT = 2_000
"""Rules of a chain beyond which no order is looked for."""


class Ordering(Struct, frozen=True):
    """Comparisons a hit takes on average, with the rules as they stand and in the best order found.

    order: numbers of the rules in that order
    moved: the rule that gains most by being moved up, with the number of places
    """

    chain: Chain
    now: float
    better: float
    order: tuple[int, ...]
    moved: tuple[Rule, int]


def best_order(programs: Sequence[Program], chain: Chain) -> Ordering | None:
    """The order found for one chain, None where nothing is counted or some rule's place cannot be judged.

    programs: those of every family the chain has a say in, all of one direction

    Two rules keep their order where they share a packet and would not decide it the same way, or where either records,
    jumps or marks. Among the rules free to come next the one with the most hits is taken; that is the best order where all
    are free, and a good one else (finding the best in general is NP-hard: E. L. Lawler, Annals of Discrete Mathematics 2, 1978).
    """
    rules = [rule for rule in chain.rules if rule.enabled]
    if len(rules) < 3 or len(rules) > RULES_LIMIT:
        return None
    if any(r.hits is None for r in rules) or not sum(r.hits.packets for r in rules if r.hits):
        return None
    weights = [r.hits.packets if r.hits else 0 for r in rules]
    after: list[set[int]] = [set() for _ in rules]
    for program in programs:
        by_rule = {Same(s.rule): at for at, s in enumerate(program.steps) if s.chain is chain and s.rule is not None}
        if any(Same(rule) not in by_rule for rule in rules):
            return None
        for mine, more in zip(after, _constraints(program, [by_rule[Same(rule)] for rule in rules]), strict=True):
            mine |= more
    order = greedy(weights, after)
    total = sum(weights)
    now = sum(w * (place + 1) for place, w in enumerate(weights)) / total
    better = sum(weights[number] * (place + 1) for place, number in enumerate(order)) / total
    gains = [(weights[number] * (number - place), number - place, number) for place, number in enumerate(order)]
    _, places, best = max(gains, key=lambda g: (g[0], -g[2]))
    return Ordering(chain, now, better, tuple(rules[n].number for n in order), (rules[best], places))


def _constraints(program: Program, numbers: Sequence[int]) -> list[set[int]]:
    """For each of some steps the places of those above it that must stay above."""
    steps = [program.steps[number] for number in numbers]
    place = {number: at for at, number in enumerate(numbers)}
    fates = [fate(step) if _is_plain(step) else None for step in steps]
    out: list[set[int]] = [set() for _ in steps]
    every, index = program.rows.every, program.rows.index
    for at, number in enumerate(numbers):
        for row in program.rows.of(number):
            for other in {place.get(every[one].step, at) for one in index.overlapping(row)}:
                if other < at and (fates[at] is None or fates[at] != fates[other]):
                    out[at].add(other)
    return out


def _is_plain(step: Step) -> bool:
    rule = step.rule
    return (
        rule is not None
        and not rule.logs
        and not rule.effects
        and rule.action in (Action.ACCEPT, Action.DROP, Action.REJECT)
    )


def greedy(weights: Sequence[int], after: Sequence[set[int]]) -> list[int]:
    """Numbers in an order in which each comes after those of its set in `after`, the heaviest that is free first."""
    left = [set(one) for one in after]
    followers: list[list[int]] = [[] for _ in weights]
    for number, above in enumerate(after):
        for other in above:
            followers[other].append(number)
    # A rule also counts for what it sets free, else a busy rule behind an idle one never comes up. That only ever grows.
    counts = list(weights)
    for number, above in enumerate(left):
        if len(above) == 1:
            (only,) = above
            counts[only] = max(counts[only], weights[number])
    free = [(-counts[number], number) for number, above in enumerate(left) if not above]
    heapify(free)
    taken = [False] * len(weights)
    order: list[int] = []
    while free:
        count, chosen = heappop(free)
        if taken[chosen] or -count != counts[chosen]:
            continue
        taken[chosen] = True
        order.append(chosen)
        for other in followers[chosen]:
            left[other].discard(chosen)
            if not left[other]:
                heappush(free, (-counts[other], other))
            elif len(left[other]) == 1:
                (only,) = left[other]
                if weights[other] > counts[only]:
                    counts[only] = weights[other]
                    if not left[only]:
                        heappush(free, (-counts[only], only))
    return order

"""Questions on rules answered by general tools. Hidden rules: which can no packet reach, all rules above having been served?

All take the rules as the same plain ranges. `hidden_by_bdd` keeps one binary decision diagram (CUDD, through `dd`) of everything
taken so far; `hidden_by_solver` asks the SMT solver `z3` for a packet of each rule outside all earlier ones. `standings_by_bdd` tells
with a few diagrams more what `rules` tells of each rule.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from socket import AF_INET6, inet_pton
from typing import Any

from benchmarks.generate import GeneratedRule

_BITS = {"i": 4, "o": 4, "p": 8, "t": 16, "s": 32, "d": 32}
"""Fields with their variables, one a bit, most significant first: interfaces, protocol, destination port, addresses."""

TUNED = "ioptsd"
"""Order of fields that keeps the diagrams smallest among those tried: the fields with few values on top."""

HEADER = "sdptio"
"""Order of fields as they stand in a packet."""


def ranges(rule: GeneratedRule) -> dict[str, tuple[tuple[int, int], ...]]:
    """The restricted fields of a rule. Zone numbers stand for interfaces, of which there are 16."""
    out: dict[str, tuple[tuple[int, int], ...]] = {}
    for name, zone in (("i", rule.zone_in), ("o", rule.zone_out)):
        if zone is not None:
            out[name] = ((zone, zone),)
    if rule.source:
        out["s"] = rule.source
    if rule.destination:
        out["d"] = rule.destination
    if rule.protocol is not None:
        out["p"] = ((rule.protocol, rule.protocol),)
        out["t"] = tuple((port, port) for port in rule.ports)
    return out


class _Diagrams:
    """Rules as binary decision diagrams (CUDD)."""

    def __init__(self, order: str) -> None:
        """order: of the fields, the top one first"""
        from dd import cudd

        self.bdd = cudd.BDD(memory_estimate=4 * 2**30)
        self.bdd.configure(reordering=False)
        self.bdd.declare(*(f"{field}{bit}" for field in order for bit in range(_BITS[field])))
        self._literals = {f"{f}{b}": self.bdd.var(f"{f}{b}") for f in order for b in range(_BITS[f])}
        self._known: dict[tuple[str, tuple[tuple[int, int], ...]], Any] = {}

    def rule(self, rule: GeneratedRule) -> Any:
        """The packets that a rule matches."""
        out = self.bdd.true
        for field, spans in ranges(rule).items():
            out &= self._union(field, _BITS[field], spans)
        return out

    def _union(self, field: str, bits: int, spans: tuple[tuple[int, int], ...]) -> Any:
        key = (field, spans)
        if key not in self._known:
            out = self.bdd.false
            for first, last in spans:
                out |= self._bound(field, bits, first, least=True) & self._bound(field, bits, last, least=False)
            self._known[key] = out
        return self._known[key]

    def _bound(self, field: str, bits: int, bound: int, *, least: bool) -> Any:
        """The values that are at least or at most the bound."""
        out = self.bdd.true
        for bit in range(bits - 1, -1, -1):
            variable = self._literals[f"{field}{bit}"]
            if least:
                out = variable & out if bound >> (bits - 1 - bit) & 1 else variable | out
            else:
                out = ~variable | out if bound >> (bits - 1 - bit) & 1 else ~variable & out
        return out


def hidden_by_bdd(rules: Sequence[GeneratedRule], order: str = TUNED) -> list[int]:
    """Indexes of hidden rules, by binary decision diagrams with the fields in the order named."""
    diagrams = _Diagrams(order)
    covered, hidden = diagrams.bdd.false, []
    for number, rule in enumerate(rules):
        one = diagrams.rule(rule)
        left = one & ~covered
        if left == diagrams.bdd.false:
            hidden.append(number)
        else:
            covered |= one
    return hidden


def standings_by_bdd(rules: Sequence[GeneratedRule], order: str = TUNED) -> list[str]:
    """The standing of each rule as `rules` tells it, by binary decision diagrams. What no rule matches is refused.

    As `rules` does, a packet is picked that reaches the rule, and the packets that do are counted; which rules hide one is not told.
    """
    diagrams = _Diagrams(order)
    bdd = diagrams.bdd
    covered = accepted = bdd.false  # by the first rule that matches
    matched = {True: bdd.false, False: bdd.false}  # by any rule that accepts, and by any that refuses
    found, ones, lefts = [], [], []
    for rule in rules:
        one = diagrams.rule(rule)
        left = one & ~covered
        if left == bdd.false:
            same = one & ~accepted if rule.accept else one & accepted
            found.append("redundant" if same == bdd.false else "shadowed")
        else:
            bdd.pick(left)
            left.count(len(bdd.vars))
            disputed = one & matched[not rule.accept] != bdd.false
            found.append("contradicted" if disputed else "live" if left == one else "partly hidden")
        covered |= one
        matched[rule.accept] |= one
        if rule.accept:
            accepted |= left
        ones.append(one)
        lefts.append(left)
    below = bdd.false  # what is accepted from here on
    for number in range(len(rules) - 1, -1, -1):
        one, left, accept = ones[number], lefts[number], rules[number].accept
        changed = left & ~below if accept else left & below
        if left != bdd.false and changed == bdd.false:
            found[number] = "redundant"
        below = below | one if accept else below & ~one
    return found


def hidden_by_solver(rules: Sequence[GeneratedRule], wanted: Iterable[int]) -> list[int]:
    """Indexes among `wanted` of hidden rules, by satisfiability over bit vectors."""
    import z3

    variables = {field: z3.BitVec(field, bits) for field, bits in _BITS.items()}

    def formula(rule: GeneratedRule) -> object:
        parts = []
        for field, spans in ranges(rule).items():
            variable = variables[field]
            parts.append(z3.Or(*(z3.And(z3.UGE(variable, a), z3.ULE(variable, b)) for a, b in spans)))
        return z3.And(*parts)

    formulas = [formula(rule) for rule in rules]
    hidden = []
    for number in wanted:
        solver = z3.Solver()
        solver.add(formulas[number], *(z3.Not(earlier) for earlier in formulas[:number]))
        if solver.check() == z3.unsat:
            hidden.append(number)
    return hidden


def first_match(rules: Sequence[GeneratedRule], row: Sequence[str]) -> int | str:
    """The rule that decides a packet, given as a row of a table, by a plain loop; "policy" if none does."""
    zone_in, zone_out = int(row[1][4:]), int(row[2][4:])
    source, destination = (_address(text) for text in row[3:5])
    protocol, port = 6 if row[5] == "tcp" else 17, int(row[7])
    for number, rule in enumerate(rules, 1):
        if rule.zone_in is not None and rule.zone_in != zone_in:
            continue
        if rule.zone_out is not None and rule.zone_out != zone_out:
            continue
        if rule.protocol is not None and (rule.protocol != protocol or port not in rule.ports):
            continue
        if rule.source and not any(first <= source <= last for first, last in rule.source):
            continue
        if rule.destination and not any(first <= destination <= last for first, last in rule.destination):
            continue
        return number
    return "policy"


def _address(text: str) -> int:
    if ":" in text:
        return int.from_bytes(inet_pton(AF_INET6, text))
    a, b, c, d = map(int, text.split("."))
    return a << 24 | b << 16 | c << 8 | d

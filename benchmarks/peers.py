"""The hidden-rule question answered by general tools: which rules can no packet reach, all rules above having been served?

Both take the rules as the same plain ranges. `hidden_by_bdd` keeps one binary decision diagram (CUDD, through `dd`) of everything
taken so far; `hidden_by_solver` asks the SMT solver `z3` for a packet of each rule outside all earlier ones.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from benchmarks.generate import GeneratedRule

_FIELDS = (("i", 4), ("o", 4), ("p", 8), ("t", 16), ("s", 32), ("d", 32))
"""Variables, one a bit, most significant first; small fields on top keep the diagrams small."""


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


def hidden_by_bdd(rules: Sequence[GeneratedRule]) -> list[int]:
    """Indexes of hidden rules, by binary decision diagrams."""
    from dd import cudd

    bdd = cudd.BDD(memory_estimate=4 * 2**30)
    bdd.configure(reordering=False)
    bdd.declare(*(f"{field}{bit}" for field, bits in _FIELDS for bit in range(bits)))
    literals = {f"{f}{b}": bdd.var(f"{f}{b}") for f, bits in _FIELDS for b in range(bits)}
    known: dict[tuple[str, tuple[tuple[int, int], ...]], object] = {}

    def at_least(field: str, bits: int, bound: int) -> object:
        out = bdd.true
        for bit in range(bits - 1, -1, -1):
            variable = literals[f"{field}{bit}"]
            one = bound >> (bits - 1 - bit) & 1
            out = variable & out if one else variable | out
        return out

    def at_most(field: str, bits: int, bound: int) -> object:
        out = bdd.true
        for bit in range(bits - 1, -1, -1):
            variable = literals[f"{field}{bit}"]
            one = bound >> (bits - 1 - bit) & 1
            out = ~variable | out if one else ~variable & out
        return out

    def union(field: str, bits: int, spans: tuple[tuple[int, int], ...]) -> object:
        key = (field, spans)
        if key not in known:
            out = bdd.false
            for first, last in spans:
                out |= at_least(field, bits, first) & at_most(field, bits, last)
            known[key] = out
        return known[key]

    sizes = dict(_FIELDS)
    covered, hidden = bdd.false, []
    for number, rule in enumerate(rules):
        one = bdd.true
        for field, spans in ranges(rule).items():
            one &= union(field, sizes[field], spans)
        left = one & ~covered
        if left == bdd.false:
            hidden.append(number)
        else:
            covered |= one
    known.clear()
    return hidden


def hidden_by_solver(rules: Sequence[GeneratedRule], wanted: Iterable[int]) -> list[int]:
    """Indexes among `wanted` of hidden rules, by satisfiability over bit vectors."""
    import z3

    variables = {field: z3.BitVec(field, bits) for field, bits in _FIELDS}

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

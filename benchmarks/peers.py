"""The hidden-rule question answered by general tools: which rules can no packet reach, all rules above having been served?

Both take the rules as the same plain ranges. `hidden_by_bdd` keeps one binary decision diagram (CUDD, through `dd`) of everything
taken so far; `hidden_by_solver` asks the SMT solver `z3` for a packet of each rule outside all earlier ones.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

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


def hidden_by_bdd(rules: Sequence[GeneratedRule], order: str = TUNED) -> list[int]:
    """Indexes of hidden rules, by binary decision diagrams with the fields in the order named."""
    from dd import cudd

    bdd = cudd.BDD(memory_estimate=4 * 2**30)
    bdd.configure(reordering=False)
    bdd.declare(*(f"{field}{bit}" for field in order for bit in range(_BITS[field])))
    literals = {f"{f}{b}": bdd.var(f"{f}{b}") for f in order for b in range(_BITS[f])}
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

    covered, hidden = bdd.false, []
    for number, rule in enumerate(rules):
        one = bdd.true
        for field, spans in ranges(rule).items():
            one &= union(field, _BITS[field], spans)
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
    a, b, c, d = map(int, text.split("."))
    return a << 24 | b << 16 | c << 8 | d

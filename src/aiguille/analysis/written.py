"""The rules that run and the files a program made them of, as one device: counters of the ones, statements of the others."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec.structs import replace

from aiguille.analysis.alignment import in_order, shape
from aiguille.analysis.compare import differences
from aiguille.model import Chain, Device, Rule, Rulebase

Place = tuple[str, frozenset[int]]


def as_written(device: Device) -> Device:
    """The device with the rules of its dump said as the program's files say them.

    Where what runs lets the same packets through as what the program makes of its files, the statements of the files are its
    rules, with the counters of the dump, and what others put beside them. Where it does not, its rules are those of the dump, and
    those the files hold as well are said as there; what differs is left to whoever compares `rulebases` with `saved`.
    """
    if not device.written:
        return device
    there = {_place(base): base for base in device.rulebases}
    held = {_place(base) for base in device.written}
    beside = tuple(base for place, base in there.items() if place not in held)
    stated = replace(device, rulebases=(*device.written, *beside), written=())
    if not differences(device, stated):
        counted = tuple(_counted(base, there.get(_place(base))) for base in device.written)
        why = "what runs lets the same packets through as they do, and lends its counters"
        return replace(stated, rulebases=(*counted, *beside), recognised=_because(device, why))
    sources = {_place(base): base for base in device.written}
    said = tuple(_said(base, sources.get(_place(base))) for base in device.rulebases)
    why = "what runs differs from them, so that the rules are those of the dump"
    return replace(device, rulebases=said, written=(), recognised=_because(device, why))


def _because(device: Device, why: str) -> str:
    return f"{device.recognised}; {why}" if device.recognised else why


def _place(base: Rulebase) -> Place:
    return base.name, base.families


def _counted(written: Rulebase, runs: Rulebase | None) -> Rulebase:
    """What is written, with the counters of what runs."""
    if runs is None:
        return written
    chains = {chain.name: chain for chain in runs.chains}

    def counted(chain: Chain) -> Chain:
        other = chains.get(chain.name)
        if other is None:
            return chain
        same = _same(chain.rules, other.rules)
        rules = tuple(
            replace(rule, hits=other.rules[same[at]].hits) if at in same else rule
            for at, rule in enumerate(chain.rules)
        )
        return replace(chain, rules=rules, hits=other.hits)

    return replace(written, chains=tuple(map(counted, written.chains)))


def _said(runs: Rulebase, written: Rulebase | None) -> Rulebase:
    """What runs, each rule as it is written where it is."""
    if written is None:
        return runs
    chains = {chain.name: chain for chain in written.chains}

    def said(chain: Chain) -> Chain:
        other = chains.get(chain.name)
        if other is None:
            return chain
        same = _same(chain.rules, other.rules)
        rules = tuple(
            replace(other.rules[same[at]], number=rule.number, hits=rule.hits) if at in same else rule
            for at, rule in enumerate(chain.rules)
        )
        where = other.policy_where if other.policy is chain.policy else chain.policy_where
        return replace(chain, rules=rules, policy_where=where)

    return replace(runs, chains=tuple(map(said, runs.chains)))


def _same(one: Iterable[Rule], other: Iterable[Rule]) -> dict[int, int]:
    return in_order([shape(rule) for rule in one], [shape(rule) for rule in other])

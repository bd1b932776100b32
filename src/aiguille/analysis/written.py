"""The rules that run and the files a program made them of, as one device: counters of the ones, statements of the others."""

from __future__ import annotations

from collections.abc import Callable

from msgspec.structs import replace

from aiguille.analysis.alignment import in_order, shape
from aiguille.analysis.compare import PAIR_EFFORT, differences
from aiguille.analysis.effects import effects_apart
from aiguille.model import Chain, Device, Rulebase, TooComplexError
from aiguille.space.effort import limited

Place = tuple[str, frozenset[int]]


def as_written(device: Device) -> Device:
    """The device with the rules of its dump said as the program's files say them.

    Where what runs lets the same packets through as what the program makes of its files, and sends on and records the same, the
    statements of the files are its rules, with the counters of the dump, and what others put beside them. Where it does not, its
    rules are those of the dump, and those the files hold as well are said as there; what differs is left to whoever compares
    `rulebases` with `saved`.
    """
    if not device.written:
        return device
    there = {_place(base): base for base in device.rulebases}
    held = {_place(base) for base in device.written}
    beside = tuple(base for place, base in there.items() if place not in held)
    stated = replace(device, rulebases=(*device.written, *beside), written=())
    sources = {_place(base): base for base in device.written}
    try:
        with limited(PAIR_EFFORT, apart=True):
            same = not differences(device, stated) and not effects_apart(device, stated)
        why = "what runs differs from them, so that the rules are those of the dump"
    except TooComplexError:
        same = False
        why = "whether what runs differs from them takes too long to say, so that the rules are those of the dump"
    if same:
        rulebases = (*(_each(base, there.get(_place(base)), _counted) for base in device.written), *beside)
        why = "what runs lets the same packets through as they do, and lends its counters"
    else:
        rulebases = tuple(_each(base, sources.get(_place(base)), _said) for base in device.rulebases)
    because = f"{device.recognised}; {why}" if device.recognised else why
    return replace(device, rulebases=rulebases, written=(), recognised=because)


def _place(base: Rulebase) -> Place:
    return base.name, base.families


def _each(base: Rulebase, other: Rulebase | None, change: Callable[[Chain, Chain, dict[int, int]], Chain]) -> Rulebase:
    """A rule base, each chain changed by its namesake and by which of its rules are the other's, place by place."""
    if other is None:
        return base
    named = {chain.name: chain for chain in other.chains}

    def changed(chain: Chain) -> Chain:
        same = named.get(chain.name)
        return (
            chain
            if same is None
            else change(chain, same, in_order(*(list(map(shape, c.rules)) for c in (chain, same))))
        )

    return replace(base, chains=tuple(map(changed, base.chains)))


def _counted(written: Chain, runs: Chain, same: dict[int, int]) -> Chain:
    """What is written, with the counters of what runs."""
    rules = [replace(r, hits=runs.rules[same[at]].hits) if at in same else r for at, r in enumerate(written.rules)]
    return replace(written, rules=tuple(rules), hits=runs.hits)


def _said(runs: Chain, written: Chain, same: dict[int, int]) -> Chain:
    """What runs, each rule as it is written where it is."""
    rules = [
        replace(written.rules[same[at]], number=r.number, hits=r.hits) if at in same else r
        for at, r in enumerate(runs.rules)
    ]
    where = written.policy_where if written.policy is runs.policy else runs.policy_where
    return replace(runs, rules=tuple(rules), policy_where=where)

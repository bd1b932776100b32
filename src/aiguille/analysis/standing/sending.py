"""Standings on their way from one process to another, which has the same device: rules go by their place in it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from msgspec.structs import astuple, replace

from aiguille.analysis.standing.words import Place, StandingReport
from aiguille.model import Device
from aiguille.model.identity import Same

Packed = tuple[tuple[Any, ...], ...]


def packed(device: Device, reports: Sequence[StandingReport]) -> Packed | None:
    """Reports with each rule as the numbers of its rule base, chain and place; None if one is of no rule of the device."""
    places: dict[Same, tuple[int, int, int]] = {}
    for b, base in enumerate(device.rulebases):
        for c, chain in enumerate(base.chains):
            places[Same(chain)] = (b, c, -1)
            places |= {Same(rule): (b, c, r) for r, rule in enumerate(chain.rules)}

    def at(place: Place) -> tuple[int, int, int]:
        _, chain, rule = place
        return places[Same(rule if rule is not None else chain)]

    try:
        return tuple(
            (
                places[Same(one.rule)],
                one.standing,
                tuple(map(at, one.because)),
                tuple(at(jump) if jump is not None else None for jump in one.jumps),
                *astuple(one)[5:-1],
            )
            for one in reports
        )
    except KeyError:
        return None


def unpacked(device: Device, sent: Packed) -> tuple[StandingReport, ...]:
    """The reports again, of the rules that this process holds."""

    def place(at: tuple[int, int, int]) -> Place:
        base = device.rulebases[at[0]]
        chain = base.chains[at[1]]
        return base, chain, chain.rules[at[2]] if at[2] >= 0 else None

    out = []
    for at, standing, because, jumps, *rest in sent:
        base, chain, rule = place(at)
        assert rule is not None
        led = tuple(place(one) if one is not None else None for one in jumps)
        out.append(replace(StandingReport(base, chain, rule, standing, tuple(map(place, because)), *rest), jumps=led))
    return tuple(out)

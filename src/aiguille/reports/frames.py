"""Flows, changes and claims as data frames, for notebooks; those of findings are `Audit.to_frame`. Needs pandas."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from aiguille.analysis.endtoend import EndToEnd
from aiguille.analysis.flows import Matrix
from aiguille.baseline.claims import Judged
from aiguille.baseline.comparing import Comparison
from aiguille.baseline.frames import pandas_or_refuse

if TYPE_CHECKING:
    from pandas import DataFrame


def flows_frame(found: Matrix | EndToEnd) -> DataFrame:
    """A row for each cell or pair and family: from, to, family, reach, perhaps, services, perhaps_services."""
    if isinstance(found, EndToEnd):
        rows = [
            (p.source.name, p.destination.name, p.family, p.reach.value, p.perhaps.value, p.services, p.may)
            for p in found.pairs
        ]
    else:
        rows = [
            (c.source, c.destination, c.family, c.reach.value, c.perhaps.value, c.services, c.may) for c in found.cells
        ]
    names = ["from", "to", "family", "reach", "perhaps", "services", "perhaps_services"]
    frame: DataFrame = pandas_or_refuse().DataFrame(rows, columns=names)
    return frame


def changes_frame(found: Comparison) -> DataFrame:
    """A row for each traffic that opens or closes: device, opens, certain, traffic, packet."""
    rows = [
        (pair.after.name, change.opens, change.certain, change.traffic.words(), change.traffic.packet.sentence())
        for pair in found.pairs
        for change in pair.changes or ()
    ]
    frame: DataFrame = pandas_or_refuse().DataFrame(rows, columns=["device", "opens", "certain", "traffic", "packet"])
    return frame


def claims_frame(found: Sequence[Judged]) -> DataFrame:
    """A row for each claim and device: claim, title, device, holds, packet, why."""
    rows = [
        (
            one.stated.claim.text,
            one.stated.entry.title,
            answer.device,
            answer.holds.value,
            answer.proof.packet.sentence() if answer.proof is not None else None,
            answer.why,
        )
        for one in found
        for answer in one.answers
    ]
    frame: DataFrame = pandas_or_refuse().DataFrame(
        rows, columns=["claim", "title", "device", "holds", "packet", "why"]
    )
    return frame

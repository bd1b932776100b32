"""What translations of destinations make of packets."""

from __future__ import annotations

from aiguille.model import Rule, Translate, TranslationKind
from aiguille.space.fields import Axis, Box
from aiguille.space.intervals import IntervalSet


def moves_of(rule: Rule) -> tuple[Translate, ...]:
    """What a rule does to where packets go."""
    return tuple(e for e in rule.effects if isinstance(e, Translate) and e.kind is not TranslationKind.SOURCE)


def moved(region: Box, change: Translate) -> Box:
    """What a region of packets looks like after a translation of their destination; anywhere, where it does not say where to."""
    out = list(region)
    if change.addresses is not None:
        out[Axis.DST] = IntervalSet([(change.addresses.first, change.addresses.last)])
    elif change.kind is TranslationKind.TO_DEVICE or change.ports is None:
        out[Axis.DST] = None
    if change.ports is not None:
        out[Axis.B] = IntervalSet([(change.ports.first, change.ports.last)])
    elif change.addresses is None and change.kind is not TranslationKind.TO_DEVICE:
        out[Axis.B] = None
    return tuple(out)

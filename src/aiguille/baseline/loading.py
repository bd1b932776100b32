"""Baselines by name or by file."""

from __future__ import annotations

from collections.abc import Sequence

from aiguille.baseline.catalogue import Check
from aiguille.baseline.tailoring import STANDARD, STANDARD_LAYER, Baseline


def load(name: str, catalogue: Sequence[Check]) -> Baseline:
    """A baseline by the name of a shipped one or by the path of a file.

    Raises UsageError with file, line and what is wrong.
    """
    if name == STANDARD:
        return Baseline((STANDARD_LAYER,), tuple(catalogue))
    from aiguille.baseline.files import read_baseline  # brings YAML with it

    return read_baseline(name, catalogue)

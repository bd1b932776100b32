"""Damaged exports go all the way without a fault; `python -m tests.damage` tries more of them."""

from __future__ import annotations

import pytest

from tests.damage import faults


@pytest.mark.parametrize("seed", range(2))
def test_no_damage_ends_in_a_fault(seed: int) -> None:
    found = [fault.what for fault in faults(120, 20261128 + seed)]
    assert not found, found[0]

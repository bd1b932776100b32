"""Sets in words: as short as people write them, and never saying more or less than the set."""

from __future__ import annotations

import pytest

from aiguille.model.spelling import spell_numbers, spell_spans

TOP = 0xFFFFFFFF
TEN = 10 << 24


@pytest.mark.parametrize(
    ("spans", "most", "words"),
    [
        ([(0, TOP)], 0, "any"),
        ([(TEN, TEN)], 0, "10.0.0.0"),
        ([(TEN, TEN + 255)], 0, "10.0.0.0/24"),
        ([(TEN + 1, TEN + 9)], 0, "10.0.0.1-10.0.0.9"),
        ([(0, TEN - 1), (TEN + 256, TOP)], 0, "any but 10.0.0.0/24"),
        ([(0, TEN - 1), (TEN + 1, TEN + 5), (TEN + 7, TOP)], 0, "any but 10.0.0.0, 10.0.0.6"),
        ([(TEN, TEN), (TEN + 2, TEN + 2), (TEN + 4, TEN + 4)], 2, "10.0.0.0, 10.0.0.2, 1 more"),
    ],
)
def test_addresses(spans: list[tuple[int, int]], most: int, words: str) -> None:
    assert spell_spans(4, spans, most) == words


@pytest.mark.parametrize(
    ("spans", "most", "words"),
    [
        ([(22, 22), (80, 81)], 0, "22,80-81"),
        ([(0, 21), (23, 65535)], 0, "but 22"),
        ([(0, 1023)], 0, "0-1023"),
        ([(1, 1), (3, 3), (5, 5), (7, 7)], 2, "1,3,2 more"),
    ],
)
def test_ports(spans: list[tuple[int, int]], most: int, words: str) -> None:
    assert spell_numbers(spans, 65535, most) == words

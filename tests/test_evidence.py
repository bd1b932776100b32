"""The lines a finding shows: those the span names, cut at its columns, with what is secret never among them."""

from __future__ import annotations

import json
import re
from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from aiguille.demo import files
from aiguille.model import Device, Secret, Source, Span
from aiguille.readers import decode, mapped
from tests.helpers import dialect, filter_table

LINE = "ABCDEFGHIJ"


def device(lines: tuple[str, ...], *secrets: Secret) -> Device:
    return replace(filter_table(), sources=(Source("x", "", 0, lines),), secrets=frozenset(secrets))


CUTS = st.tuples(st.integers(0, 9), st.integers(1, 9)).map(lambda cut: (cut[0], min(cut[0] + cut[1], 10)))


@given(CUTS, st.lists(CUTS, max_size=2))
def test_a_cut_line_shows_its_own_signs_and_no_secret(cut: tuple[int, int], hidden: list[tuple[int, int]]) -> None:
    hidden = [one for n, one in enumerate(sorted(hidden)) if not n or one[0] >= sorted(hidden)[n - 1][1]]
    start, stop = cut
    told = device((LINE, LINE), *(Secret("x", 1, first, last) for first, last in hidden))
    (shown,) = told.text(Span("x", 1, 1, start, stop))
    secret = {n for first, last in hidden for n in range(first, last)}
    assert [sign for sign in shown if sign.isupper()] == [LINE[n] for n in range(start, stop) if n not in secret]
    assert set(re.sub("[A-Z]", "", shown)) <= set("[secret]")
    whole = told.text(Span("x", 1, 2))
    assert whole[1] == LINE
    assert whole[0].replace("[secret]", "") == "".join(LINE[n] for n in range(10) if n not in secret)


def test_exports_on_one_line_are_quoted_by_columns() -> None:
    """A place of a file without line breaks is told by columns, and what is quoted is the statement alone."""
    data = files()
    exports = {
        "castrevo": json.dumps(json.loads(data["exports/huts.json"])),
        "ormelune": re.sub(r"\s*\n\s*", " ", data["exports/midway-perimeter.xml"].decode()),
    }
    for name, text in exports.items():
        before = mapped.read(
            dialect(name),
            [decode("x", data["exports/huts.json" if name == "castrevo" else "exports/midway-perimeter.xml"])],
            "",
        )
        after = mapped.read(dialect(name), [decode("x", text.encode())], "")
        for one, other in zip(before, after, strict=True):
            assert one.rulebases[0].chains[0].policy == other.rulebases[0].chains[0].policy
            rules = [[rule for base in d.rulebases for _, rule in base.rules()] for d in (one, other)]
            assert [rule.name for rule in rules[0]] == [rule.name for rule in rules[1]]
            for rule in rules[1]:
                (quoted,) = other.text(rule.where)
                assert rule.built_in or (rule.where.column is not None and rule.name in quoted and len(quoted) < 600)
            assert not other.ledger.unread
            told = json.dumps([other.text(entry.where) for entry in other.ledger.set_aside])
            assert "cv-9a81" not in told
            assert "V2hhdGV2ZXI" not in told

"""The lines a finding shows: those the span names, cut at its columns, with what is secret never among them."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from aiguille.demo import files
from aiguille.model import Device, Secret, Source, Span
from aiguille.readers import decode, mapped
from tests.helpers import dialect, filter_table, run

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


HIDDEN = """
dialect: hidden
make: Hidden box
language: 1
recognise: {%s}
structure: %s
secrets: ["**/key"]
ignore: [{at: "*", why: nothing is wanted}]
"""


@pytest.mark.parametrize(
    ("recognise", "structure", "text"),
    [
        ("first-lines: a", "{family: xml}", "<a key='h&amp;nter&lt;2' b='x'/>"),
        ("first-lines: a", "{family: xml}", "<a\n key = \"hunter\n2\" b='key'/>"),
        ("first-lines: a", "{family: xml}", "<a><key>hunter&amp;2</key></a>"),
        ("first-lines: a", "{family: xml}", "<a><key> hunter\n2&gt; </key></a>"),
        ("first-lines: a", "{family: xml}", "<a><key><![CDATA[hunter<2>]]></key></a>"),
        ("first-lines: a", "{family: json}", '{"a": {"key": "hun\\u0074er\\"2"}}'),
        ("first-lines: a", "{family: yaml}", "a:\n  key: |\n    hunter\n    2\n  b: x\n"),
        ("first-lines: a", "{family: ini}", "[a]\nkey = hunter\n  2\n"),
        ("columns: [key]", "{family: sheet, tables: {a: {columns: {key: [], b: []}}}}", 'key,b\n"hunter ""2""",x\n'),
        ("columns: [key]", "{family: sheet, tables: {a: {columns: {key: [], b: []}}}}", 'key,b\n"hunter\n2",x\n'),
        (
            "first-lines: a",
            "{family: text, pairs: '=', block: {opens: '{', closes: '}'}}",
            'a { b key="hunter\\"\n2" }\n',
        ),
    ],
)
def test_what_is_secret_is_hidden_however_it_is_written(recognise: str, structure: str, text: str) -> None:
    made = mapped.load("hidden", HIDDEN % (recognise, structure))
    (device,) = mapped.read(made, [decode("a", text.encode())], "")
    assert device.secrets
    shown = "\n".join(device.text(Span("a", 1, len(text.splitlines()))))
    assert "[secret]" in shown
    for part in ("hun", "nter", "ter", "2", "amp", "lt;", "gt;"):
        assert part not in shown, shown


def test_half_a_pair_of_surrogates_can_be_shown(tmp_path: Path) -> None:
    """JSON may escape what no text can hold; every output still can be written, and whole pairs stay."""
    place = {"label": "NAME", "mould": "m", "line": {"gate": "192.0.2.1/30"}, "lanes": []}
    sites = json.dumps({"castrevo": {}, "moulds": [{"key": "m"}], "places": [place]})
    sites = sites.replace("NAME", "a\\ud800b\\ud83d\\ude00c\\\\ud800")
    rules = '{"nftables": [{"metainfo": {"version": "1.0"}}, {"table": {"family": "ip", "name": "a\\udc00"}}]}'
    (tmp_path / "sites.json").write_text(sites)
    (tmp_path / "rules.json").write_text(rules)
    for command in ("read", "audit", "rules"):
        for more in ((), ("--json",)):
            done = run(command, "sites.json", "rules.json", *more, cwd=tmp_path)
            assert "Traceback" not in done.stderr
            assert done.returncode in (0, 1)
    name = json.loads(run("read", "sites.json", "--json", cwd=tmp_path).stdout)["devices"][0]["name"]
    assert name == "a\ufffdb\U0001f600c\\ud800"

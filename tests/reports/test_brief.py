"""The one page of an audit: never longer than it says, never wider than the terminal, and nothing grave left out."""

from __future__ import annotations

import io
import re
from datetime import date

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace
from rich.console import Console

import aiguille
from aiguille.baseline import Audit
from aiguille.model import Estate
from aiguille.reports.brief import LINES, show_brief
from tests.baseline.devices import SSH, WEB, zoned
from tests.helpers import filter_table

AS_OF = date(2026, 11, 30)
RULES = (
    f"-A INPUT -i eth0 {SSH} -j ACCEPT",
    f"-A INPUT -i eth1 {SSH} -j ACCEPT",
    f"-A FORWARD -i eth0 -o eth1 {WEB} -j ACCEPT",
    "-A FORWARD -i eth1 -o eth0 -j ACCEPT",
    "-A INPUT -i eth0 -p tcp -m tcp --dport 5432 -j ACCEPT",
    "-A INPUT -i eth0 -p tcp -m tcp --sport 53 -j ACCEPT",
    f"-A INPUT -s 203.0.113.0/24 {SSH} -j DROP",
    "-A FORWARD -j ACCEPT",
)


def page(audit: Audit, width: int = 100, top: int = 10) -> list[str]:
    out = io.StringIO()
    show_brief(Console(file=out, width=width, color_system=None, force_terminal=False), audit, top=top)
    return out.getvalue().splitlines()


def audited(devices: int, rules: list[str]) -> Audit:
    one = zoned("\n".join(rules))
    names = [f"gw-{n}" if n % 3 else f"gateway-of-a-place-with-a-long-name-{n}" for n in range(devices)]
    return aiguille.audit(Estate(tuple(replace(one, name=name) for name in names), AS_OF))


@settings(max_examples=25, deadline=None)
@given(
    st.integers(1, 40),
    st.lists(st.sampled_from(RULES), max_size=6, unique=True),
    st.integers(60, 140),
    st.integers(1, 10),
)
def test_the_page_is_a_page(devices: int, rules: list[str], width: int, top: int) -> None:
    audit = audited(min(devices, 4), rules)
    if devices > 4:
        # The page only counts devices, so the same ones under other names do.
        more = tuple(replace(audit.estate.devices[0], name=f"d{n}") for n in range(devices))
        audit = replace(audit, estate=replace(audit.estate, devices=more))
    lines = page(audit, width, top)
    assert len(lines) <= LINES
    assert all(len(line) <= width for line in lines)
    numbered = [line for line in lines if re.match(r"F-\d+ ", line)]
    gravest = list({one.cause: one for one in reversed(audit.findings)}.values())[::-1]
    expected = sorted(gravest, key=lambda one: one.number) if len(gravest) > 1 else audit.findings
    assert [line.split()[:2] for line in numbered] == [
        [f"F-{one.number}", one.severity.value.upper()] for one in expected[:top]
    ]
    behind = sum(int(n) for n in re.findall(r"^F-\d+ +[A-Z]+ +.*?\+(\d+)  ", "\n".join(numbered), re.M))
    if top >= len(expected):
        assert len(expected) + behind == sum(1 + len(one.consequences) for one in audit.findings)


def test_a_finding_is_told_whole_while_there_is_room() -> None:
    audit = audited(1, [RULES[0], RULES[4], RULES[6]])
    text = " ".join(" ".join(page(audit)).split())
    assert audit.findings[0].detail.removesuffix(".").split(" through ")[0] in text
    narrow = page(audit, 60)
    assert any(line.startswith(" " * 15) and line.strip() for line in narrow)


@pytest.mark.parametrize(
    ("rules", "said"),
    [
        ("", "but the exports leave most open"),
        (f"-A INPUT -i eth0 {SSH} -j ACCEPT", "does not meet the baseline"),
    ],
)
def test_the_verdict_says_no_more_than_is_known(rules: str, said: str) -> None:
    device = filter_table(rules, policies="DDD") if not rules else zoned(rules)
    lines = page(aiguille.audit(Estate((device,), AS_OF)))
    assert said in lines[1], lines[1]

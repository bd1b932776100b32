"""Dates, units and widths: the small things that checks rest on."""

from __future__ import annotations

from datetime import date

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from aiguille.analysis.decide import surely_accepted
from aiguille.analysis.program import Programs
from aiguille.analysis.study import Study, strangers
from aiguille.baseline.asking import common
from aiguille.baseline.catalogue import Of, Param
from aiguille.baseline.dates import read_date, seen_at, until
from aiguille.baseline.values import WrongValueError, read_value
from aiguille.baseline.wording import counted, listed
from aiguille.model import Direction, Estate, stated
from aiguille.space import Axis, IntervalSet, box
from tests.baseline.devices import SSH, WEB, three, zoned


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("2026-11-30", date(2026, 11, 30)),
        ("2026-11-30T05:00:00Z", date(2026, 11, 30)),
        ("seen 2026-11-30, again 2026-12-01", date(2026, 11, 30)),
        ("Mon Nov  2 08:00:00 2026", date(2026, 11, 2)),
        ("Wed Nov 25 01:55:39 UTC 2026", date(2026, 11, 25)),
        ("2026-13-01", None),
        ("2026-02-30", None),
        ("12026-11-300", None),
        ("yesterday", None),
        ("", None),
    ],
)
def test_dates_as_exports_write_them(text: str, expected: date | None) -> None:
    assert read_date(text) == expected


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("until 2026-03-31", date(2026, 3, 31)),
        ("workdays, until 2026-06-30", date(2026, 6, 30)),
        ("Expires on: 2026-06-30", date(2026, 6, 30)),
        ("to be removed by 2026-06-30", date(2026, 6, 30)),
        ("valid to 2026-06-30", date(2026, 6, 30)),
        ("until 01.03.2025", date(2025, 3, 1)),
        ("valid until 3/4/2025", date(2025, 4, 3)),
        ("remove after 31/12/2024", date(2024, 12, 31)),
        ("till March 5, 2025", date(2025, 3, 5)),
        ("until the end of March 2025", date(2025, 3, 31)),
        ("ends 2025", date(2025, 12, 31)),
        ("until 10.1.2.3/24", None),
        ("ends 31.2.2025", None),
        ("opened 2026-06-30", None),
        ("until the new till works", None),
        ("untilled 2026-06-30", None),
    ],
)
def test_ends_as_people_write_them(text: str, expected: date | None) -> None:
    assert until(text) == expected


def test_an_export_shows_the_day_it_was_taken() -> None:
    device = zoned("")
    assert device.taken_at.known
    where = device.rulebases[0].chains[0].where
    assert where is not None
    assert seen_at(device, date(2026, 11, 30)) == date(2026, 11, 2)
    assert seen_at(replace(device, taken_at=stated("long ago", where)), date(2026, 11, 30)) == date(2026, 11, 30)
    assert seen_at(replace(device, taken_at=stated("2027-01-01", where)), date(2026, 11, 30)) == date(2026, 11, 30)


def param(kind: type, unit: str, of: Of = Of.WORD) -> Param:
    return Param("p", kind, kind(), unit, "why", of)


@pytest.mark.parametrize(
    ("one", "given_value", "expected"),
    [
        (param(int, "seconds"), 90, 90),
        (param(int, "seconds"), "2 minutes", 120),
        (param(int, "seconds"), "1 hour", 3600),
        (param(float, "days"), "2 weeks", 14.0),
        (param(float, "days"), "12 hours", 0.5),
        (param(float, "days of counting"), "1 week", 7.0),
        (param(int, "failed logins"), 3, 3),
        (param(float, "days"), 7, 7.0),
        (param(tuple, "x", Of.COUNTRY), ["FR", "Italy", "aut"], ("FR", "IT", "AT")),
        (param(tuple, "x", Of.SERVICE), ["tcp/22", "udp/137-138", "icmp"], ("tcp/22", "udp/137-138", "icmp")),
        (param(tuple, "x", Of.NETWORK), ["10.0.0.0/8", "2001:db8::1"], ("10.0.0.0/8", "2001:db8::1")),
        (param(tuple, "x"), [1, "a"], ("1", "a")),
        (param(str, "pattern", Of.PATTERN), "VL-[0-9]+", "VL-[0-9]+"),
        (param(bool, "true or false"), True, True),
    ],
)
def test_values_of_parameters(one: Param, given_value: object, expected: object) -> None:
    found = read_value(one, given_value)
    assert (found, type(found)) == (expected, type(expected))


@pytest.mark.parametrize(
    ("one", "given_value", "words"),
    [
        (param(int, "seconds"), True, "is a number of seconds"),
        (param(int, "seconds"), "1.5 seconds", "whole number"),
        (param(int, "failed logins"), "3 minutes", "counts failed logins"),
        (param(float, "of all hits"), "many", "number of of all hits"),
        (param(str, "text"), 1, "is a text"),
        (param(bool, "true or false"), "yes", "true or false"),
        (param(tuple, "x"), {"a": 1}, "is a list"),
        (param(tuple, "x"), [""], "is not one of words"),
    ],
)
def test_values_that_do_not_fit(one: Param, given_value: object, words: str) -> None:
    with pytest.raises(WrongValueError, match=words):
        read_value(one, given_value)


def test_lists_and_counts_in_sentences() -> None:
    assert [listed(names, 3) for names in (["a"], ["a", "b"], ["a", "b", "a"], list("abcd"))] == [
        "a",
        "a and b",
        "a and b",
        "a, b, c and 1 more",
    ]
    assert (counted(1, "rule"), counted(65536, "port"), counted(2, "address", "addresses")) == (
        "1 rule",
        "65 536 ports",
        "2 addresses",
    )


ranges = st.lists(
    st.tuples(st.integers(1, 40), st.integers(0, 8), st.sampled_from(["ACCEPT", "DROP"])), min_size=1, max_size=6
)


@given(ranges)
def test_open_ports_are_those_first_match_opens(made: list[tuple[int, int, str]]) -> None:
    text = "\n".join(
        f"-A FORWARD -i eth0 -o eth1 -p tcp -m tcp --dport {a}:{a + n} -j {action}" for a, n, action in made
    )
    device = zoned(text)
    study = Study(device, Estate((device,), date(2026, 11, 30)), Programs(device))
    (program,) = study.programs.all(Direction.THROUGH_DEVICE)
    symbols = program.space.symbols
    ways = [(Axis.IN, IntervalSet.of(symbols.number("eth0"))), (Axis.OUT, IntervalSet.of(symbols.number("eth1")))]
    region = common(box(ways))
    assert region is not None
    found = study.open_ports(program, region, 6)
    for port in range(60):
        first = next((action for a, n, action in made if a <= port <= a + n), "DROP")
        assert (port in found) is (first == "ACCEPT")


def test_strangers_are_sources_no_rule_names() -> None:
    device = zoned(f"-A INPUT -s 198.51.100.0/24 {SSH} -j ACCEPT\n-A INPUT -s 128.0.0.0/1 {WEB} -j ACCEPT")
    (program,) = Programs(device).all(Direction.TO_DEVICE)
    found = strangers(program)
    assert (
        int.from_bytes(bytes([198, 51, 100, 9]), "big") in found,
        int.from_bytes(bytes([203, 0, 113, 9]), "big") in found,
    ) == (False, True)


def test_admissions_are_rules_that_let_new_connections_in() -> None:
    rules = (
        "-A FORWARD -m conntrack --ctstate ESTABLISHED -j ACCEPT\n-A FORWARD -i eth1 -p tcp -j DROP\n"
        f"-A FORWARD -i eth1 {WEB} -j ACCEPT\n-A FORWARD -i eth2 {WEB} -m mac --mac-source 00:11:22:33:44:55 -j ACCEPT\n"
        f"-A FORWARD -i eth2 {SSH} -m limit --limit 1/sec -j ACCEPT\n-A FORWARD -i lo -j ACCEPT"
    )
    device = three(rules)
    study = Study(device, Estate((device,), date(2026, 11, 30)), Programs(device))
    found = [(one.rule.number, one.condition) for one in study.admissions(Direction.THROUGH_DEVICE)]
    assert found == [(4, "hardware address"), (5, "")]
    assert all(one.proof.ends for one in study.admissions(Direction.THROUGH_DEVICE))
    assert not study.admissions(Direction.TO_DEVICE)
    decider = study.decider(next(study.programs.all(Direction.THROUGH_DEVICE)))
    assert decider.find(study.admissions(Direction.THROUGH_DEVICE)[1].regions[0], surely_accepted) is None

"""Rules that hold at hours of the week, decided for a moment."""

from __future__ import annotations

from pathlib import Path

import pytest

import aiguille
from aiguille.analysis.hours import holds, read_moment
from aiguille.model import UsageError

LINUX = "-m time --timestart 08:00:00 --timestop 18:00:00 --weekdays Mon,Tue,Wed,Thu,Fri"
CASES = [
    (LINUX, "Mon 08:00", True),
    (LINUX, "Mon 18:00", True),
    (LINUX, "Mon 18:01", False),
    (LINUX, "Sat 09:00", False),
    ("-m time --timestart 22:00:00 --timestop 06:00:00 --weekdays Fri", "Sat 03:00", False),  # each day by itself
    ("-m time --timestart 22:00:00 --timestop 06:00:00 --weekdays Fri", "Fri 03:00", True),
    ("-m time --timestart 22:00:00 --timestop 06:00:00 --weekdays Fri --contiguous", "Fri 23:00", None),
    ("-m time ! --weekdays Sat,Sun", "Sat 10:00", False),
    ("-m time ! --weekdays Sat,Sun", "Mon 10:00", True),
    ("-m time --timestart 08:00:00 --datestart 2026-01-01T00:00:00", "Sat 10:00", None),
    ('meta hour "08:00"-"18:00"', "Sun 12:00", True),
    ('meta hour "08:00"-"18:00"', "Sun 19:00", False),
    ('meta hour != "08:00"-"18:00"', "Sun 12:00", None),
    ("meta day { Monday, Tuesday }", "Tue 1:00", True),
    ("meta day Saturday", "Tuesday 1:00", False),
    ("timestart=8:00&timestop=18:00&weekdays=Mon,Tue", "Mon 9:00", True),
    ("workdays: mon-fri 07:00-18:00", "Fri 12:00", True),
    ("workdays: mon-fri 07:00-18:00", "Sun 12:00", False),
    ("opening hours: every day 07:00 to 19:00", "Sun 12:00", True),
    ("night: 22-6", "Mon 12:00", False),
    ("night: 22-6", "Mon 5:00", True),
    ("sat-mon", "Sun 1:00", True),
    ("Mon-Fri 8:00-12:00, 13:00-17:00", "Mon 12:30", False),
    ("Fri 22:00-06:00", "Sat 3:00", None),  # the night that begins on Friday, or Friday's own small hours
    ("08:00-18:00", "Mon 18:00", None),  # whether the end still belongs to it nobody says
    ("until 2026-12-31", "Mon 1:00", None),
    ("office", "Mon 1:00", None),
]


@pytest.mark.parametrize(("text", "moment", "expected"), CASES)
def test_hours_hold_or_do_not_or_are_left_open(text: str, moment: str, expected: bool | None) -> None:
    assert holds(text, read_moment(moment)) is expected


@pytest.mark.parametrize("text", ["noon", "Sat", "23:30", "Sat 24:00", "Sat Sun 1:00", "Sat 9:60"])
def test_what_is_no_moment_is_told(text: str) -> None:
    with pytest.raises(UsageError, match="no moment of the week"):
        read_moment(text)


def test_a_packet_at_a_moment_is_decided(tmp_path: Path) -> None:
    dump = tmp_path / "h.v4"
    dump.write_text(f"*filter\n:INPUT DROP [0:0]\n-A INPUT -p tcp -m tcp --dport 22 {LINUX} -j ACCEPT\nCOMMIT\n")
    estate = aiguille.read(dump)
    packet = "tcp from 203.0.113.9:4000 to 192.0.2.1:22 entering eth0"
    assert not aiguille.probe(estate, packet).certain
    for moment, expected in (("Mon 9:00", "accept"), ("Sat 23:30", "drop")):
        answer = aiguille.probe(estate, f"{packet} at {moment}")
        assert (answer.certain, answer.verdicts[0].verdict.value) == (True, expected)

"""Which countries reach what faces the outside, and by which rule."""

from __future__ import annotations

from datetime import date

from aiguille.analysis.countries import located
from aiguille.baseline.reaching import reach_of, spell_sources
from aiguille.model import Device, Direction, Estate, Locations
from aiguille.space import IntervalSet
from tests.baseline.devices import SSH, WEB, bare, entry, gate, perimeter, zoned
from tests.readers.test_locations import locations

DATA = locations({4: [("198.51.100.0/25", "FR"), ("198.51.100.128/25", "CH"), ("203.0.113.0/24", "AQ")]})


def told(device: Device, data: Locations = DATA) -> list[tuple[str, str, dict[str, float]]]:
    device = located(device, data)
    found = reach_of(Estate((device,), date(2026, 11, 30), locations=data))
    return [(one.what, one.place, {c.code: c.share for c in one.countries}) for one in found]


def test_the_sources_of_a_rule_are_laid_against_the_data() -> None:
    device = zoned(f"-A INPUT -i eth0 -s 198.51.100.64/26 {SSH} -j ACCEPT\n-A FORWARD -i eth0 -o eth1 {WEB} -j ACCEPT")
    assert told(device) == [
        ("tcp/22", "rule 1 of chain INPUT", {"FR": 0.5}),
        ("tcp/443", "rule 1 of chain FORWARD", {"AQ": 1.0, "CH": 1.0, "FR": 1.0}),
    ]


def test_what_is_refused_above_is_left_out() -> None:
    device = zoned(
        f"-A FORWARD -s 203.0.113.0/25 -j DROP\n-A FORWARD -s 198.51.100.0/24 -j DROP\n-A FORWARD -i eth0 {WEB} -j ACCEPT"
    )
    assert told(device) == [("tcp/443", "rule 3 of chain FORWARD", {"AQ": 0.5})]


def test_filters_by_country_are_in_the_computation() -> None:
    lands = "<lands><rule title='x' attitude='%s'><land>AQ</land>%s</rule></lands>"
    pages = entry("pages", "10.0.4.9", "443")
    for attitude, exception, expected in (
        ("never", "", {"CH": 1.0, "FR": 1.0}),
        ("only", "", {"AQ": 1.0}),
        ("never", "<still>203.0.113.0/26</still>", {"AQ": 0.25, "CH": 1.0, "FR": 1.0}),
    ):
        ((what, _, countries),) = told(perimeter(lands % (attitude, exception), pages))
        assert (what, countries) == ("tcp/443", expected)


def test_services_a_make_opens_by_itself_are_told_too() -> None:
    device = gate("doors { door web { at 443 }\nkeeper k { comes-from [ 203.0.113.0/25 ] } }")
    ((what, place, countries),) = told(device)
    assert (what, countries) == ("web", {"AQ": 0.5})
    assert "web on w" in place


def test_rules_from_inside_and_conditional_ones_are_not_ways_in() -> None:
    mac = f"-A FORWARD -i eth0 {WEB} -m mac --mac-source 00:11:22:33:44:55 -j ACCEPT"
    assert told(zoned(f"-A FORWARD -i eth1 {WEB} -j ACCEPT\n{mac}")) == []
    assert told(bare()) == []
    limited = zoned(f"-A FORWARD -i eth0 {WEB} -m limit --limit 1/sec -j ACCEPT")
    assert [what for what, *_ in told(limited)] == ["tcp/443"]


def test_the_family_and_what_no_file_places_are_told() -> None:
    device = located(zoned(f"-A INPUT -i eth0 {SSH} -j ACCEPT"), DATA)
    (one,) = reach_of(Estate((device,), date(2026, 11, 30), locations=DATA))
    assert (one.family, one.direction, one.sources.size) == (4, Direction.TO_DEVICE, 2**32)
    assert one.outside_data == 2**32 - 512
    assert one.rule.rule == 1
    assert spell_sources(IntervalSet([(10 << 24, (11 << 24) - 1)]), 4) == "10.0.0.0/8"
    assert spell_sources(IntervalSet([(1, 1), (3, 3), (5, 5)]), 4) == "3 ranges"

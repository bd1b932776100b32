"""Countries as sets of packets: objects and filters of a device, with location data and without."""

from __future__ import annotations

from ipaddress import ip_address
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from aiguille.analysis.countries import RULEBASE, blocked, located, shares
from aiguille.analysis.program import Programs
from aiguille.model import Device, Direction, Locations, Ranges, joined
from aiguille.model.countries import claimed_country, country_code, country_name, nearest_country
from aiguille.packets.sentences import read_sentence
from aiguille.space import IntervalSet
from aiguille.space.fields import LAST_ADDRESS
from tests.baseline.devices import entry, gate, perimeter
from tests.readers.test_locations import locations

DATA = locations(
    {
        4: [("198.51.100.0/25", "FR"), ("198.51.100.128/25", "CH"), ("203.0.113.0/24", "AQ")],
        6: [("2001:db8::/32", "FR")],
    }
)
PAGES = entry("pages", "10.0.4.9", "443")
LANDS = "<lands><rule title='x' attitude='%s'>%s<land>%s</land></rule></lands>"


def accepted(
    device: Device, source: str, *, direction: Direction = Direction.THROUGH_DEVICE, to: str = "10.0.4.9"
) -> set[bool]:
    """What may become of a packet to the pages behind the appliance."""
    family = ip_address(source).version
    program = Programs(device).get(family, direction)
    assert program is not None
    sentence = f"tcp from {source}:40000 to {to}:443 entering street leaving ops"
    region = read_sentence(sentence).region(program.space)
    from aiguille.analysis.decide import Decider

    found: set[bool] = set()
    decider = Decider(program)
    for wanted in (True, False):
        if decider.find(region, lambda ends, wanted=wanted: any(end.accepts is wanted for end in ends)) is not None:
            found.add(wanted)
    return found


@pytest.mark.parametrize(
    ("lands", "source", "expected"),
    [
        ("", "203.0.113.7", {True}),
        (LANDS % ("never", "", "AQ"), "203.0.113.7", {False}),
        (LANDS % ("never", "", "Antarctica"), "203.0.113.7", {False}),
        (LANDS % ("never", "", "AQ"), "198.51.100.7", {True}),
        (LANDS % ("never", "<still>203.0.113.7</still>", "AQ"), "203.0.113.7", {True}),
        (LANDS % ("never", "<still>203.0.113.7</still>", "AQ"), "203.0.113.8", {False}),
        (LANDS % ("only", "", "FR"), "198.51.100.7", {True}),
        (LANDS % ("only", "", "FR"), "198.51.100.200", {False}),
        (LANDS % ("only", "", "FR"), "192.0.2.200", {False}),  # in no country at all
        ("<lands><rule title='x' after-entries='yes'><land>AQ</land></rule></lands>", "203.0.113.7", {True}),
        ("<lands><rule title='x' resting='yes'><land>AQ</land></rule></lands>", "203.0.113.7", {True}),
        (LANDS % ("never", "", "Nowhere"), "203.0.113.7", {True}),
        # The data knows no address of this country, so the filter may keep out anything it names and nothing is sure.
        (LANDS % ("only", "", "BV"), "203.0.113.7", {True, False}),
    ],
)
def test_filters_decide_by_source(lands: str, source: str, expected: set[bool]) -> None:
    assert accepted(located(perimeter(lands, PAGES), DATA), source) == expected


def test_without_data_a_filter_lets_everything_through() -> None:
    device = perimeter(LANDS % ("never", "", "AQ"), PAGES)
    assert located(device, Locations()) is device
    assert accepted(device, "203.0.113.7") == {True}


def test_filters_look_both_ways_where_they_say_so() -> None:
    for says, chains in (("", 1), ("<both-ways>yes</both-ways>", 3)):
        device = located(perimeter(LANDS % ("never", says, "AQ")), DATA)
        made = [base for base in device.rulebases if base.name == RULEBASE]
        assert {len(base.chains) for base in made} == {chains}
        assert [set(base.families) for base in made] == [{4}]  # the data places nothing of this country in IPv6
        assert all(
            rule.built_in and rule.where == device.geo_filters[0].where for base in made for _, rule in base.rules()
        )


def test_objects_of_countries_become_addresses() -> None:
    device = gate("lands far { are [ AQ BV ] }\npassages { passage p { sender [ far ], then let } }")
    (before,) = (one for one in device.addresses if one.name == "far")
    (after,) = (one for one in located(device, DATA).addresses if one.name == "far")
    assert (before.members, set(before.unresolved)) == ((), {"AQ", "BV"})
    assert [(a.first, a.last) for a in after.members] == [
        (int(ip_address("203.0.113.0")), int(ip_address("203.0.113.255")))
    ]  # type: ignore[union-attr]
    assert after.unresolved == ("BV",)  # what the data does not know stays open


@given(st.data(), st.sampled_from([0, (1 << 128) - 400]))
def test_shares_are_those_of_a_count_one_by_one(data: st.DataObject, offset: int) -> None:
    family = 6 if offset else 4
    cuts = sorted(data.draw(st.sets(st.integers(0, 399), min_size=2, max_size=30)))
    codes = data.draw(st.lists(st.sampled_from(["", "CH", "FR", "IT"]), min_size=len(cuts), max_size=len(cuts)))
    ends = [(offset + first, offset + last - 1) for first, last in pairwise(cuts)]
    blocks = joined((first, last, code) for (first, last), code in zip(ends, codes, strict=False) if code)
    some = data.draw(st.lists(st.tuples(st.integers(0, 399), st.integers(0, 399)), max_size=9))
    values = IntervalSet((offset + min(pair), offset + max(pair)) for pair in some)
    if data.draw(st.booleans()):
        values = values.complement(LAST_ADDRESS[family])
    expected = []
    for name in {code for _, _, code in blocks}:
        whole = [one for first, last, code in blocks if code == name for one in range(first, last + 1)]
        if held := sum(one in values for one in whole):
            expected.append((name, held, held / len(whole)))
    found = shares(values, Locations({family: Ranges.of(family, blocks)}), family)
    assert [(s.code, s.addresses, s.share) for s in found] == sorted(expected, key=lambda one: (-one[2], one[0]))


def test_shares_and_blocked_countries() -> None:
    half = IntervalSet([(int(ip_address("198.51.100.64")), int(ip_address("198.51.100.255")))])
    assert [(s.code, s.addresses, s.share) for s in shares(half, DATA, 4)] == [
        ("CH", 128, 1.0),
        ("FR", 64, 0.5),
    ]
    deny, only = (perimeter(LANDS % (attitude, "", "FR")).geo_filters[0] for attitude in ("never", "only"))
    assert (blocked(deny, DATA), blocked(only, DATA)) == (("FR",), ("AQ", "CH"))


@pytest.mark.parametrize(
    ("text", "code"),
    [("fr", "FR"), ("France", "FR"), ("FRA", "FR"), ("Bolivia", "BO"), ("XX", None), ("", None), ("Frankreich", None)],
)
def test_countries_by_code_or_name(text: str, code: str | None) -> None:
    assert country_code(text) == code


def test_names_that_stand_for_countries() -> None:
    said = {
        name: claimed_country(name)
        for name in ("land-CH", "geo_fr", "Country Italy", "France", "FR", "land-use", "island-ch", "office")
    }
    assert said == {"land-CH": "CH", "geo_fr": "FR", "Country Italy": "IT", "France": "FR", "FR": None, "land-use": None,
                    "island-ch": None, "office": None}  # fmt: skip
    assert (country_name("CH"), country_name("EU")) == ("Switzerland", "EU")
    assert nearest_country("Swizerland") == "CH (Switzerland)"

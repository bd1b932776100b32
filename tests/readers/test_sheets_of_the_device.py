"""Sheets that speak of the firewall itself, and zones nobody lists."""

from __future__ import annotations

from itertools import product

import pytest
from hypothesis import given
from hypothesis import strategies as st

from aiguille.analysis.decide import Decider, surely_accepted, surely_refused
from aiguille.analysis.program import Programs
from aiguille.model import Device, Direction
from aiguille.space import Axis, IntervalSet, box
from aiguille.space.fields import TCP
from tests.baseline.devices import sheet

HEAD = "from zone,to zone,src,dst,service,action"
WAYS = (Direction.TO_DEVICE, Direction.THROUGH_DEVICE, Direction.FROM_DEVICE)


def answers(device: Device, port: int, direction: Direction) -> str:
    """What certainly happens to new connections of TCP to a port, of any source and destination: accept, refuse or neither."""
    program = Programs(device).get(4, direction)
    assert program is not None
    region = box([(Axis.PROTO, IntervalSet.of(TCP)), (Axis.B, IntervalSet.of(port))])
    decider = Decider(program)
    accepted, refused = decider.find(region, surely_accepted), decider.find(region, surely_refused)
    if accepted is not None and refused is None:
        return "accept"
    return "refuse" if refused is not None and accepted is None else "neither"


@pytest.mark.parametrize("word", ["self", "Firewall", "fw", "this device", "ITSELF"])
@pytest.mark.parametrize("place", ["zone", "address", "both"])
def test_a_destination_that_is_the_device_puts_a_rule_among_those_to_it(word: str, place: str) -> None:
    zone = word if place != "address" else "any"
    address = word if place != "zone" else "any"
    device = sheet(HEAD, f"wan,{zone},any,{address},tcp/8443,allow", "any,any,any,any,any,deny")
    assert not device.ledger.problems
    chains = {chain.name: [rule.where.first for rule in chain.rules] for chain in device.rulebases[0].chains}
    assert chains == {"to device": [3, 4], "through": [4], "from device": []}
    (condition,) = (c for c in device.rulebases[0].chains[1].rules[0].match.conditions if c.field.value == "zone in")
    assert [o.name for o in condition.operands] == ["wan"]  # type: ignore[union-attr]


def test_a_source_that_is_the_device_and_mixed_destinations() -> None:
    device = sheet(
        HEAD,
        "self,any,any,any,tcp/25,allow",
        "lan,any,any,firewall;192.0.2.9,tcp/22,allow",
        "any,any,any,any,any,deny",
    )
    chains = {chain.name: [rule.where.first for rule in chain.rules] for chain in device.rulebases[0].chains}
    assert chains == {"from device": [3, 5], "to device": [4, 5], "through": [4, 5]}
    through = next(chain for chain in device.rulebases[0].chains if chain.name == "through")
    destinations = [c for c in through.rules[0].match.conditions if c.field.value == "destination"]
    assert len(destinations[0].operands) == 1
    assert answers(device, 25, Direction.FROM_DEVICE) == "accept"
    assert answers(device, 80, Direction.FROM_DEVICE) == "refuse"


def test_a_defined_object_of_that_name_is_what_it_is_defined_as() -> None:
    rows = [
        "any,any,any,firewall,tcp/22,allow",
        "any,any,any,any,any,deny",
        "objects",
        "name,value",
        "firewall,192.0.2.77",
    ]
    device = sheet(HEAD, *rows)
    assert {c.name: len(c.rules) for c in device.rulebases[0].chains} == {
        "through": 2,
        "to device": 0,
        "from device": 0,
    }


def test_zones_are_what_rules_name_unless_they_are_listed() -> None:
    free = sheet(HEAD, "wan,dmz,any,any,tcp/443,allow")
    assert (sorted(zone.name for zone in free.zones), free.ledger.problems) == (["dmz", "wan"], ())
    listed = sheet(HEAD, "wan,dmz,any,any,tcp/443,allow", "zones", "zone,side", "wan,outside")
    assert [zone.name for zone in listed.zones] == ["wan"]
    assert any("zone 'dmz'" in entry.why for entry in listed.ledger.problems)


ROWS = st.lists(
    st.tuples(
        st.sampled_from(["to", "through", "from"]), st.sampled_from([22, 80, 443]), st.sampled_from(["allow", "deny"])
    ),
    min_size=1,
    max_size=6,
)


@given(ROWS)
def test_the_device_by_name_is_the_direction_in_words(rows: list[tuple[str, int, str]]) -> None:
    """A row for the device itself does what it does where a column of directions says so."""
    ends = {"to": ("any", "self"), "through": ("lan", "wan"), "from": ("self", "any")}
    words = {"to": "to device", "through": "through", "from": "from device"}
    named = sheet(HEAD, *(f"{ends[way][0]},{ends[way][1]},any,any,tcp/{port},{do}" for way, port, do in rows))
    zones = {"to": ("any", "any"), "through": ("lan", "wan"), "from": ("any", "any")}
    directed = sheet(
        "direction," + HEAD,
        *(f"{words[way]},{zones[way][0]},{zones[way][1]},any,any,tcp/{port},{do}" for way, port, do in rows),
    )
    for port, direction in product((22, 80, 443), WAYS):
        assert answers(named, port, direction) == answers(directed, port, direction)

"""Sheets that hold the rules of several firewalls, tables that are no rule tables, and blocks that hold nothing."""

from __future__ import annotations

import pytest

from aiguille.model import Device, UnreadableError
from aiguille.readers import named
from aiguille.readers.files import decode


def devices(text: str) -> tuple[Device, ...]:
    return named("sheet").read([decode("rules.csv", text.encode())], "")


def lines(device: Device) -> list[int]:
    return [rule.where.first for base in device.rulebases for _, rule in base.rules()]


@pytest.mark.parametrize("heading", ["Device", "firewall", "FIREWALL NAME", "gateway"])
def test_each_has_its_rows(heading: str) -> None:
    text = f"""{heading},src,dst,service,action
north,any,10.0.0.1,tcp/22,allow
south,any,10.0.0.2,tcp/22,allow
north,any,any,any,deny
"""
    north, south = devices(text)
    assert (north.name, south.name) == ("north", "south")
    assert (lines(north), lines(south)) == ([2, 4], [3])
    for one in (north, south):
        assert not one.ledger.unread
        assert one.ledger.lines == 4 == one.ledger.read + one.ledger.known


def test_objects_and_settings_are_for_all_of_them() -> None:
    text = """device,src,dst,service,action
north,till,any,tcp/22,allow
south,till,any,tcp/23,allow

objects
name,value
till,10.0.0.7

settings
setting,value
firmware,7.2
"""
    found = devices(text)
    assert [one.name for one in found] == ["north", "south"]
    assert [[o.name for o in one.addresses] for one in found] == [["till"], ["till"]]
    assert [one.firmware.value for one in found] == ["7.2", "7.2"]
    assert not [p for one in found for p in one.ledger.problems]


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("device,src,dst,action\nnorth,any,any,allow\n,any,any,deny\n", [("north", [2, 3])]),
        ("device,src,dst,action\n,any,any,allow\n", [("", [2])]),
        ("src,dst,action\nany,any,allow\n", [("", [2])]),
        ("device,src,dst,action\na,any,any,allow\nb,any,any,deny\n,any,any,deny\n", [("a", [2]), ("b", [3, 4])]),
        ("device,src,dst,action\na,any,any,allow\n,any,any,deny\na,10.0.0.1,any,allow\n", [("a", [2, 3, 4])]),
        ("device,src,dst,action\n,any,any,deny\na,any,any,allow\n", [("a", [2, 3])]),
        ("src,dst,action\n\nsettings\nsetting,value\ndevice name,front\n", [("front", [])]),
        ("#;src;dst;action\n1;any;any;allow\n# a remark\n2;any;any;deny\n", [("", [2, 4])]),
    ],
)
def test_rows_that_name_nobody(text: str, expected: list[tuple[str, list[int]]]) -> None:
    assert [(one.name, lines(one)) for one in devices(text)] == expected


def test_a_table_without_actions_is_refused_with_its_line() -> None:
    with pytest.raises(
        UnreadableError, match=r"rules.csv:1: no heading of table 'rules' is 'action'; known are device, number"
    ):
        devices("note,src,dst\nold,any,any\n")


@pytest.mark.parametrize(
    ("inside", "unread"),
    [
        ("<arrivals/>", []),
        ("<arrivals>\n</arrivals>", []),
        ("<arrivals/><curtains/>", ["the dialect has no place for 'curtains' in 'face'"]),
        ("<arrivals>wide open</arrivals>", ["the dialect has no place for 'arrivals' in 'face'"]),
    ],
)
def test_an_empty_block_of_a_tree_says_nothing(inside: str, unread: list[str]) -> None:
    face = f'<face key="a" port="e0" toward="street">\n{inside}</face>'
    text = f'<?xml version="1.0"?>\n<ormelune edition="3"><faces>{face}</faces></ormelune>\n'
    (device,) = named("ormelune").read([decode("o.xml", text.encode())], "")
    assert [one.why for one in device.ledger.unread] == unread

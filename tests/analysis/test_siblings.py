"""Which devices were meant to be alike, and what sets one apart."""

from __future__ import annotations

from datetime import date

import pytest
from msgspec.structs import replace

from aiguille.analysis.outlines import surroundings
from aiguille.analysis.siblings import Oddity, features, likeness, oddities
from aiguille.model import Device, Estate
from tests.baseline.devices import gate, perimeter

BASE = """about { build %s }
doors { misses-before-lock %s, keeper ann { rank all } }
passages {
    passage web { says "pages", then let }
    passage rest { then %s, note yes }
}
"""


def site(name: str, build: str = "5.1", misses: str = "3", rest: str = "swallow", *tags: str) -> Device:
    return replace(gate(BASE % (build, misses, rest)), name=name, tags=tags or ("hut",), sources=())


def estate(*devices: Device) -> Estate:
    return Estate(devices, date(2026, 11, 30))


def odd_ones(device: Device, devices: tuple[Device, ...]) -> list[Oddity]:
    return oddities(device, surroundings(estate(*devices)).siblings[device.name])


def test_siblings_share_a_tag_and_a_make() -> None:
    one, two, three = site("a", "5.1", "3", "swallow", "hut", "old"), site("b"), site("c", "5.1", "3", "swallow", "old")
    other = replace(perimeter(""), name="p", tags=("hut",), sources=())
    groups = surroundings(estate(one, two, three, other)).siblings
    assert {name: (group.words, group.size) for name, group in groups.items()} == {
        "a": ("tagged 'hut'", 2), "b": ("tagged 'hut'", 2), "c": ("tagged 'old'", 2),
    }  # fmt: skip
    # The larger group is taken; devices of one export are a group too.
    whole = estate(*(replace(d, sources=gate("").sources) for d in (one, two, three)))
    group = surroundings(whole).siblings["b"]
    assert (group.words, group.size) == ("of export", 3)
    alone = replace(one, tags=(), sources=())
    assert not surroundings(estate(alone)).siblings


@pytest.mark.parametrize(
    ("odd", "told"),
    [
        (("5.0", "3", "swallow"), [("release", "5.1", "5.0")]),
        (("5.1", "9", "swallow"), [("failed logins until lockout", "3.0", "9.0")]),
        (("5.1", "3", "answer-no"), [("rule 'rest' of passages", "drop", "reject")]),
        (("5.1", "3", "swallow"), []),
    ],
)
def test_what_all_others_agree_on_sets_one_apart(odd: tuple[str, str, str], told: list[tuple[str, str, str]]) -> None:
    devices = (site("a"), site("b"), site("c"), site("odd", *odd))
    found = odd_ones(devices[3], devices)
    assert [(o.what, o.theirs, o.mine) for o in found] == told
    assert all(o.where is not None for o in found)
    assert odd_ones(devices[0], devices) == []


def test_nothing_is_odd_where_others_disagree_or_are_too_few() -> None:
    devices = (site("a", "5.1"), site("b", "5.2"), site("c", "5.3"))
    assert odd_ones(devices[0], devices) == []
    assert odd_ones(devices[0], devices[:2]) == []


def test_a_rule_that_is_missing_is_told() -> None:
    bare = replace(
        gate("about { build 5.1 }\ndoors { misses-before-lock 3, keeper ann { rank all } }\n"),
        name="bare",
        tags=("hut",),
    )
    found = {o.what: (o.theirs, o.mine) for o in odd_ones(bare, (site("a"), site("b"), bare))}
    assert found["rule 'web' of passages"] == ("accept", "")
    assert found["rule 'rest' of passages"] == ("drop", "")


def test_likeness_counts_named_rules() -> None:
    same = [site("a"), site("b"), site("c")]
    assert likeness(same) == 1.0
    own = [replace(gate(f"passages {{\npassage p{n} {{ then let }}\n}}"), name=str(n)) for n in range(3)]
    assert likeness(own) == 0.0
    assert likeness(same[:1]) == 0.0
    assert likeness([*same, own[0]]) == 1.0  # one odd device among them does not count


def test_features_are_told_with_their_lines() -> None:
    told = features(site("a"))
    assert told["release"][0] == "5.1"
    assert told["account ann"][0] == "all"
    assert told["services on w"][0] == "ping, web"
    assert told["default of passages"][0] == "drop"
    lines = {name: where.first for name, (_, where) in told.items() if where is not None}
    assert lines["release"] < lines["rule 'web' of passages"] < lines["rule 'rest' of passages"]

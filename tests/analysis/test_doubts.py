"""What a condition is worth that a packet does not settle, and how wide a rule is in words."""

from __future__ import annotations

import pytest

from aiguille.analysis.decide import Decider
from aiguille.analysis.doubts import Doubt
from aiguille.analysis.exposure import rated
from aiguille.analysis.program import Program, Programs
from aiguille.analysis.study import lets_in
from aiguille.analysis.traffic import extent
from aiguille.model import Device, Direction
from aiguille.space import Axis, IntervalSet, box
from aiguille.space.fields import SYN
from tests.helpers import filter_table

CONDITIONS = [
    ("", Doubt.NONE),
    ("-m limit --limit 5/sec", Doubt.NONE),
    ("-m hashlimit --hashlimit-upto 3/min --hashlimit-mode srcip --hashlimit-name x", Doubt.NONE),
    ("-m recent --set --name x", Doubt.NONE),
    ("-m recent --rcheck --name x", Doubt.BARS),
    ("-m recent ! --rcheck --name x", Doubt.NONE),
    ("-m time --timestart 08:00 --timestop 18:00", Doubt.HOURS),
    ("-m time --datestop 2020-01-01", Doubt.BARS),
    ("-m limit --limit 5/sec -m time --timestart 08:00", Doubt.HOURS),
    ("-m mac --mac-source 02:00:5e:10:00:01", Doubt.BARS),
    ("-m mark --mark 0x1", Doubt.BARS),
    ("-m set --match-set friends src", Doubt.BARS),
    ("-m set ! --match-set blocked src", Doubt.NONE),
    ("-m set --match-set friends src -m limit --limit 5/sec", Doubt.BARS),
]


def program(device: Device) -> Program:
    found = Programs(device).get(4, Direction.TO_DEVICE)
    assert found is not None
    return found


@pytest.mark.parametrize(("condition", "doubt"), CONDITIONS, ids=[text or "none" for text, _ in CONDITIONS])
@pytest.mark.parametrize("through", ["rule", "jump", "goto"])
def test_a_condition_on_the_way_is_worth_what_it_keeps_away(condition: str, doubt: Doubt, through: str) -> None:
    """On the accepting rule itself, and on a jump or goto to it, it has one and the same weight."""
    ssh = "-p tcp -m tcp --dport 22"
    if through == "rule":
        device = filter_table(f"-A INPUT {condition} {ssh} -j ACCEPT")
    else:
        letter = {"jump": "j", "goto": "g"}[through]
        device = filter_table(f"-A INPUT {condition} -{letter} OPEN\n-A OPEN {ssh} -j ACCEPT", chains=("OPEN",))
    here = program(device)
    region = box([(Axis.B, IntervalSet.of(22)), (Axis.PROTO, IntervalSet.of(6)), (Axis.STATE, IntervalSet.of(0)),
                  (Axis.FLAGS, IntervalSet.of(SYN)), (Axis.TYPE, IntervalSet.of(1))])  # fmt: skip
    proof = Decider(here).find(region, lambda ends: any(end.accepts for end in ends))
    if condition == "-m mark --mark 0x1":
        assert proof is None or not lets_in(here)(proof.ends)  # no rule sets the mark
        return
    assert proof is not None
    worst = next(level for level in Doubt if rated(here, proof.ends, level))
    assert worst is doubt
    assert lets_in(here)(proof.ends) is (doubt is not Doubt.BARS)


REFUSALS = [
    ("-m set --match-set blocked src", Doubt.NONE),
    ("-m set ! --match-set friends src", Doubt.BARS),
    ("-m recent --update --seconds 60 --hitcount 4 --name x", Doubt.NONE),
    ("-m mac ! --mac-source 02:00:5e:10:00:01", Doubt.BARS),
]


@pytest.mark.parametrize(("condition", "doubt"), REFUSALS, ids=[text for text, _ in REFUSALS])
@pytest.mark.parametrize("through", ["rule", "jump"])
def test_refusals_keep_few_away_by_a_list_of_the_blocked_and_all_by_a_list_of_friends(
    condition: str, doubt: Doubt, through: str
) -> None:
    tail = "-j DROP" if through == "rule" else "-j REFUSE\n-A REFUSE -j LOG\n-A REFUSE -j DROP"
    chains = () if through == "rule" else ("REFUSE",)
    here = program(
        filter_table(f"-A INPUT {condition} {tail}\n-A INPUT -p tcp -m tcp --dport 22 -j ACCEPT", chains=chains)
    )
    region = box([(Axis.B, IntervalSet.of(22)), (Axis.PROTO, IntervalSet.of(6)), (Axis.STATE, IntervalSet.of(0))])
    proof = Decider(here).find(region, lambda ends: any(end.accepts for end in ends))
    assert proof is not None
    assert lets_in(here)(proof.ends) is (doubt is Doubt.NONE)


@pytest.mark.parametrize(
    ("rule", "words"),
    [
        ("-p tcp -m tcp --dport 443", "any source to any destination on tcp 443"),
        ("-s 198.51.100.0/24 -p tcp -m multiport --dports 80,443", "198.51.100.0/24 to any destination on tcp 80,443"),
        ("-d 192.0.2.5 -p udp -m udp --dport 5000:5100", "any source to 192.0.2.5 on udp 5000-5100"),
        ("-s 198.51.100.9 -p icmp -m icmp --icmp-type 8", "198.51.100.9 to any destination on icmp type 8"),
        ("-d 192.0.2.0/31 -p tcp -m tcp --sport 53", "any source to 192.0.2.0/31 on tcp from port 53"),
        ("-p esp", "any source to any destination on esp"),
        ("", "any source to any destination on any service"),
        ("! -s 10.0.0.0/8 -p tcp -m tcp --dport 22", "any but 10.0.0.0/8 to any destination on tcp 22"),
    ],
)
def test_how_wide_a_rule_is_in_words(rule: str, words: str) -> None:
    here = program(filter_table(f"-A INPUT {rule} -j ACCEPT"))
    assert extent(here, [piece.box for piece in here.steps[0].pieces]) == words

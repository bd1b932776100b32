"""`ipset save` beside a dump: what sets hold, and what of them is not known for certain."""

from __future__ import annotations

import itertools

import pytest

from aiguille.analysis.resolve import Resolver, symbols_of
from aiguille.model import Device, UnreadableError
from aiguille.readers import iptables
from aiguille.readers.files import decode
from aiguille.space import IntervalSet, Space
from tests.kernel.wire import address

SETS = """create hosts hash:ip family inet hashsize 1024 maxelem 65536
create nets hash:net family inet
create pairs hash:net,port family inet
create ports bitmap:port range 0-1000
create both list:set size 8
create leases hash:ip family inet timeout 60
create cards hash:mac
create wires hash:net,iface family inet
add hosts 10.0.0.1
add hosts 10.0.0.9
add nets 10.1.0.0/16
add nets 10.1.2.0/24 nomatch
add nets 10.1.2.128/25
add pairs 10.2.0.0/16,tcp:80-90
add pairs 10.2.3.0/24,udp:53
add pairs 10.2.3.0/24,icmp:echo-request
add ports 22
add ports 80-90
add both hosts
add both nets
add leases 10.3.0.1 timeout 12
add wires 10.4.0.0/16,eth0
"""


def device(rule: str, sets: str = SETS) -> Device:
    dump = f"*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n-A INPUT {rule} -j ACCEPT\nCOMMIT\n"
    return iptables.read([decode("dump", dump.encode()), decode("sets", sets.encode())], "test")


def matched(
    rule: str, source: str, destination: str, protocol: int, sport: int, dport: int, interface: str = "eth0"
) -> bool | None:
    """Whether the rule matches; None if it may."""
    made = device(rule)
    space = Space(4, symbols_of(made))
    (_, only), *_ = made.rulebases[0].rules()
    inward = space.symbols.number(interface)
    point = (inward, 0, address(source), address(destination), protocol, sport, dport, 2 if protocol == 6 else 0, 0, 1)
    answer: bool | None = False
    for piece in Resolver(made, space).rule(only):
        if all(values is None or value in values for value, values in zip(point, piece.box, strict=True)):
            if piece.sure:
                return True
            answer = None
    return answer


CASES = [
    ("hosts src", "10.0.0.9", "10.9.9.9", 6, 5, 5, True),
    ("hosts src", "10.0.0.8", "10.0.0.9", 6, 5, 5, False),
    ("hosts dst", "10.0.0.8", "10.0.0.9", 6, 5, 5, True),
    ("nets src", "10.1.1.1", "1.1.1.1", 47, 0, 0, True),
    ("nets src", "10.1.2.1", "1.1.1.1", 47, 0, 0, False),
    ("nets src", "10.1.2.200", "1.1.1.1", 47, 0, 0, True),
    ("pairs src,dst", "10.2.9.9", "1.1.1.1", 6, 1, 85, True),
    ("pairs src,dst", "10.2.9.9", "1.1.1.1", 6, 85, 1, False),
    ("pairs src,src", "10.2.9.9", "1.1.1.1", 6, 85, 1, True),
    ("pairs dst,dst", "1.1.1.1", "10.2.3.4", 17, 1, 53, True),
    ("pairs dst,dst", "1.1.1.1", "10.2.3.4", 1, 8, 0, True),
    ("pairs dst,dst", "1.1.1.1", "10.2.3.4", 1, 0, 0, False),
    ("ports dst", "1.1.1.1", "1.1.1.2", 17, 1, 88, True),
    ("ports dst", "1.1.1.1", "1.1.1.2", 47, 0, 0, False),
    ("both src", "10.0.0.1", "1.1.1.1", 6, 1, 1, True),
    ("both src", "10.1.2.1", "1.1.1.1", 6, 1, 1, False),
    ("wires src,src", "10.4.1.1", "1.1.1.1", 6, 1, 1, True),
    ("leases src", "10.3.0.1", "1.1.1.1", 6, 1, 1, None),
    ("cards src", "10.3.0.1", "1.1.1.1", 6, 1, 1, None),
]


@pytest.mark.parametrize(("look", "source", "destination", "protocol", "sport", "dport", "expected"), CASES)
def test_membership_and_its_negation(
    look: str, source: str, destination: str, protocol: int, sport: int, dport: int, expected: bool | None
) -> None:
    packet = (source, destination, protocol, sport, dport)
    assert matched(f"-m set --match-set {look}", *packet) is expected
    negation = None if expected is None else not expected
    assert matched(f"-m set ! --match-set {look}", *packet) is negation


def test_the_other_interface_is_not_in_the_set() -> None:
    assert matched("-i eth1 -m set --match-set wires src,src", "10.4.1.1", "1.1.1.1", 6, 1, 1, "eth1") is False


def test_what_is_not_understood_makes_a_set_uncertain_and_is_shown() -> None:
    made = device(
        "-m set --match-set hosts src", SETS + "add hosts 10.0.0.999\nadd nowhere 1.1.1.1\nadd pairs 10.0.0.1\n"
    )
    assert [entry.where.first for entry in made.ledger.unread] == [23, 24, 25]
    assert not next(one for one in made.sets if one.name == "hosts").complete
    ledger = made.ledger
    assert ledger.lines == ledger.read + ledger.known + ledger.unread_lines
    with pytest.raises(UnreadableError, match="without rules"):
        iptables.read([decode("sets", SETS.encode())], "test")


def test_long_sets_stay_few_boxes() -> None:
    many = "create big hash:ip family inet\n" + "".join(
        f"add big 10.{a}.{b}.1\n" for a, b in itertools.product(range(40), range(40))
    )
    made = device("-m set --match-set big src", many)
    (_, rule), *_ = made.rulebases[0].rules()
    (piece,) = Resolver(made, Space(4, symbols_of(made))).rule(rule)
    assert isinstance(piece.box[2], IntervalSet)
    assert piece.box[2].size == 1600

"""One small policy written for two makes lets the same packets through, as sets."""

from __future__ import annotations

import random

import pytest

from aiguille.analysis import Decider, Programs, surely_accepted
from aiguille.analysis.probe import Prober
from aiguille.model import Device, Direction, Side, State
from aiguille.space import Axis, IntervalSet, Packet, box, overlap
from tests.helpers import filter_table, veskara, with_zones

IPTABLES = """
-A FORWARD -s 10.0.1.0/24 -d 10.0.2.5/32 -i a -o b -p tcp -m multiport --dports 80,443,8000:8010 -j ACCEPT
-A FORWARD -s 10.0.1.66/32 -i a -j DROP
-A FORWARD -s 10.0.1.64/26 -i a -o b -p udp -m udp --dport 53 -j ACCEPT
-A FORWARD -d 10.0.2.0/25 -o b -p icmp -m icmp --icmp-type 8 -j ACCEPT
-A FORWARD -i b -o a -j REJECT
"""

VESKARA = """
socket a { holds 10.0.1.1/24, in left }
socket b { holds 10.0.2.1/24, in right }
area left { faces inside }
area right { faces outside }
place left-net { is 10.0.1.0/24 }
place server { is 10.0.2.5 }
place noisy { is 10.0.1.66 }
place upper { is 10.0.1.64/26 }
place lower { is 10.0.2.0-10.0.2.127 }
talk web { over tcp, to-port [ 80 443 8000-8010 ] }
talk names { over udp, to-port 53 }
talk echo { over icmp, kind echo-request }
talks some { are [ names ] }
passages {
 passage one { out-of left, into right, sender [ left-net ], receiver [ server ], talking [ web ], then let }
 passage two { out-of left, sender [ noisy ], then swallow }
 passage three { out-of left, into right, sender [ upper ], talking [ some ], then let }
 passage four { into right, receiver [ lower ], talking [ echo ], then let }
 passage five { out-of right, into left, then answer-no }
 otherwise { then swallow }
}
"""


@pytest.fixture(scope="module")
def pair() -> tuple[Device, Device]:
    first = with_zones(filter_table(IPTABLES), left=("a", Side.INSIDE), right=("b", Side.OUTSIDE))
    second = veskara(VESKARA)
    assert not second.ledger.unread
    assert not second.ledger.problems
    return first, second


def test_accepted_sets_are_equal_on_every_axis(pair: tuple[Device, Device]) -> None:
    deciders = []
    for device in pair:
        program = Programs(device).get(4, Direction.THROUGH_DEVICE)
        assert program is not None
        deciders.append(Decider(program))
    new = box([(Axis.STATE, IntervalSet.of(State.NEW.number))])
    for inward, outward in (("a", "b"), ("b", "a")):
        projections = []
        for decider in deciders:
            symbols = decider.program.space.symbols
            way = box(
                [(Axis.IN, IntervalSet.of(symbols.number(inward))), (Axis.OUT, IntervalSet.of(symbols.number(outward)))]
            )
            region = overlap(new, way)
            assert region is not None
            projections.append(
                [decider.project(region, axis, surely_accepted) for axis in (Axis.SRC, Axis.DST, Axis.PROTO, Axis.B)]
            )
        assert projections[0] == projections[1], (inward, outward)


def test_packets_fare_alike(pair: tuple[Device, Device]) -> None:
    probers = [Prober(Programs(device)) for device in pair]
    rnd = random.Random(3)
    verdicts = set()
    for _ in range(400):
        inward, outward = rnd.choice((("a", "b"), ("b", "a")))
        protocol = rnd.choice((6, 17, 1))
        packet = Packet(
            4, inward, outward, 0x0A000100 + rnd.choice((5, 64, 66, 90, 200)), 0x0A000200 + rnd.choice((5, 6, 127, 128)), protocol,
            sport=4000 if protocol != 1 else None, dport=rnd.choice((53, 80, 443, 8005, 8011)) if protocol != 1 else None,
            icmp_type=rnd.choice((0, 8)) if protocol == 1 else None, icmp_code=0 if protocol == 1 else None,
            flags=2 if protocol == 6 else None,
        )  # fmt: skip
        one, other = (prober.probe(packet) for prober in probers)
        assert one.verdict == other.verdict, packet.sentence()
        assert one.certain
        assert other.certain
        verdicts.add(one.verdict.value)
    assert verdicts == {"accept", "drop", "reject"}

"""One small policy written for every make lets the same packets through, as sets."""

from __future__ import annotations

import random

import pytest

from aiguille.analysis.compare import difference, in_one_space
from aiguille.analysis.program import Programs
from aiguille.analysis.walk.probe import Prober
from aiguille.model import Device, Direction, Side, State
from aiguille.packets import Packet
from aiguille.readers import mapped
from aiguille.readers.files import decode
from aiguille.space import Axis, IntervalSet, box
from tests.helpers import dialect, filter_table, with_zones

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


ORMELUNE = """<ormelune edition="3">
<faces>
 <face key="a" toward="house"><holds>10.0.1.1/24</holds><arrivals>
  <entry title="one"><verdict>welcome</verdict><of>left net</of><to>server</to><carrying over="tcp" to-port="web"/></entry>
  <entry title="two"><verdict>ignore</verdict><of>10.0.1.66</of></entry>
  <entry title="three"><verdict>welcome</verdict><of>10.0.1.64/26</of><to>right net</to><carrying over="udp" to-port="53"/></entry>
  <entry title="four"><verdict>welcome</verdict><to>10.0.2.0/25</to><carrying over="icmp"><kind>echo-request</kind></carrying></entry>
 </arrivals></face>
 <face key="b" toward="street"><holds>10.0.2.1/24</holds><arrivals>
  <entry title="five"><verdict>decline</verdict></entry>
 </arrivals></face>
</faces>
<care><never-lock-me-out>no</never-lock-me-out></care>
<nicknames>
 <nickname for="networks" name="left net"><one>10.0.1.0/24</one></nickname>
 <nickname for="networks" name="right net"><one>0.0.0.0/0</one></nickname>
 <nickname for="hosts" name="server"><one>10.0.2.5</one></nickname>
 <nickname for="ports" name="web"><one>80</one><one>443</one><one>8000-8010</one></nickname>
</nicknames>
</ormelune>
"""

TINDREL = """;; Tindrel router
== sockets ==
socket a holds=10.0.1.1/24
socket b holds=10.0.2.1/24
== bundles ==
bundle left socket=a toward=house
bundle right socket=b toward=street
== rolls ==
line roll=left-net holds=10.0.1.0/24
line roll=server holds=10.0.2.5
== sorting ==
slip lane=across do=visit lane-visited=from-left by-bundle=left
slip lane=from-left do=pass of-roll=left-net to-roll=server toward=b talk=tcp port=80,443,8000-8010
slip lane=from-left do=discard of=10.0.1.66
slip lane=from-left do=pass of=10.0.1.64/26 toward-bundle=right talk=udp port=53
slip lane=across do=pass toward=b to=10.0.2.0-10.0.2.127 talk=icmp kind=echo-request
slip lane=across do=refuse by=b toward=a
slip lane=across do=discard
"""

CASTREVO = """{"castrevo": {"edition": "1"},
 "shared": {"doors": [{"label": "web", "ports": ["80", "443", "8000-8010"]}],
  "crews": [{"label": "server", "members": ["10.0.2.5"]}]},
 "moulds": [{"key": "m", "between": [
  {"label": "one", "say": "permit", "from": {"lane": "a", "range": "10.0.1.0/24"},
   "to": {"lane": "b", "crew": "server"}, "talk": "tcp", "doors": ["web"]},
  {"label": "two", "say": "forbid", "from": {"lane": "a", "range": "10.0.1.66"}},
  {"label": "three", "say": "permit", "from": {"lane": "a", "range": "10.0.1.64/26"},
   "to": {"lane": "b"}, "talk": "udp", "ports": ["53"]},
  {"label": "four", "say": "permit", "to": {"lane": "b", "range": "10.0.2.0/25"}, "talk": "icmp", "kind": "echo-request"},
  {"label": "five", "say": "turn-back", "from": {"lane": "b"}, "to": {"lane": "a"}},
  {"label": "six", "say": "forbid"}]}],
 "places": [{"label": "p", "mould": "m", "line": {"gate": "192.0.2.1/30"}, "lanes": [
  {"label": "a", "gate": "10.0.1.1/24", "for": "work"}, {"label": "b", "gate": "10.0.2.1/24", "for": "things"}]}]}
"""

SHEET = """rules
No,In interface,Out interface,Source,Destination,Service,Action
1,a,b,10.0.1.0/24,server,tcp/80; tcp/443; tcp/8000-8010,allow
2,a,any,10.0.1.66,any,any,deny
3,a,b,10.0.1.64/26,any,udp/53,allow
4,any,b,any,10.0.2.0/25,icmp/8,allow
5,b,a,any,any,any,reject
6,any,any,any,any,any,deny
objects
Name,Value
server,10.0.2.5
interfaces
Name,Zone,IP
a,left,10.0.1.1/24
b,right,10.0.2.1/24
zones
Zone,Side
left,lan
right,wan
"""

MAKES = {
    "veskara": f"~~ Veskara zone gateway\n{VESKARA}",
    "ormelune": ORMELUNE,
    "tindrel": TINDREL,
    "castrevo": CASTREVO,
    "sheet": SHEET,
}


def described(make: str) -> Device:
    (device,) = mapped.read(dialect(make), [decode(make, MAKES[make].encode())], "test")
    assert not device.ledger.unread
    assert not device.ledger.problems
    return device


@pytest.fixture(scope="module")
def reference() -> Device:
    return with_zones(filter_table(IPTABLES), left=("a", Side.INSIDE), right=("b", Side.OUTSIDE))


@pytest.fixture(scope="module", params=MAKES)
def pair(request: pytest.FixtureRequest, reference: Device) -> tuple[Device, Device]:
    return reference, described(request.param)


def test_the_same_packets_are_let_through(pair: tuple[Device, Device]) -> None:
    """Every new packet from one side to the other, as a set; a packet that shows it where they differ."""
    one, other = (programs.get(4, Direction.THROUGH_DEVICE) for programs in in_one_space(*pair))
    assert one is not None
    assert other is not None
    symbols = one.space.symbols
    for inward, outward in (("a", "b"), ("b", "a")):
        way = [(Axis.IN, symbols.number(inward)), (Axis.OUT, symbols.number(outward)), (Axis.STATE, State.NEW.number)]
        found = difference(one, other, box([(axis, IntervalSet.of(value)) for axis, value in way]))
        assert found is None, found.packet.sentence()


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

"""Claims are proved exactly where no packet speaks against them; what an end is called does not matter."""

from __future__ import annotations

import random
from datetime import date

import pytest
from msgspec.structs import replace

from aiguille.analysis.claims import Holds, judge, read_claim
from aiguille.analysis.program import Programs
from aiguille.analysis.study import Study
from aiguille.model import (
    Addresses,
    AddressObject,
    Device,
    Estate,
    NotUnderstoodError,
    Side,
    Span,
    State,
    UsageError,
    Zone,
)
from aiguille.readers.literals import read_network
from tests.analysis.test_compare import made, packets, through
from tests.helpers import filter_table

ZONES = (("outside", "eth0", Side.OUTSIDE, ()), ("lan", "eth1", Side.INSIDE, ("10.0.0.0/8",)))


def study(rules: str, chains: tuple[str, ...] = ()) -> Study:
    device = filter_table(rules, chains=chains)
    zones = tuple(
        Zone(name, (interface,), side, networks=tuple(network(text) for text in networks))
        for name, interface, side, networks in ZONES
    )
    keepers = AddressObject("keepers", (network("10.0.0.8/29"),), Span("gw", 1, 1))
    device = replace(device, zones=zones, addresses=(keepers,))
    return Study(device, Estate((device,), as_of=date(2026, 11, 28)), Programs(device))


def network(text: str) -> Addresses:
    found = read_network(text)
    if not isinstance(found, Addresses):
        raise NotUnderstoodError(text)
    return found


def holds(rules: str, claim: str) -> Holds | None:
    answer = judge(study(rules), read_claim(claim))
    return answer.holds if answer is not None else None


OPEN_TO_KEEPERS = "-A INPUT -s 10.0.0.8/29 -i eth1 -p tcp --dport 22 -j ACCEPT"
PROVED, REFUTED, OPEN = Holds.PROVED, Holds.REFUTED, Holds.CANNOT_TELL


@pytest.mark.parametrize(
    ("rules", "claim", "expected"),
    [
        ("", "never outside to device", PROVED),
        (OPEN_TO_KEEPERS, "never outside to device", PROVED),
        (OPEN_TO_KEEPERS, "never lan to device", REFUTED),
        (OPEN_TO_KEEPERS, "never lan to device on udp/22", PROVED),
        (OPEN_TO_KEEPERS, "never eth1 to device on tcp/20-25", REFUTED),
        (OPEN_TO_KEEPERS, "only keepers to device on tcp/22", PROVED),
        (OPEN_TO_KEEPERS, "only 10.0.0.8 to device on tcp/22", REFUTED),
        (OPEN_TO_KEEPERS, "only lan to device", PROVED),
        (OPEN_TO_KEEPERS, "always keepers to device on tcp/22", PROVED),
        (OPEN_TO_KEEPERS, "always lan to device on tcp/22", REFUTED),
        (OPEN_TO_KEEPERS, "always inside to device on tcp/22", REFUTED),
        (OPEN_TO_KEEPERS, "never anybody to device on tcp/22", REFUTED),
        (OPEN_TO_KEEPERS, "never outside to device on icmp over IPv4", PROVED),
        ("-A INPUT -m set --match-set friends src -p tcp --dport 22 -j ACCEPT", "never outside to device", OPEN),
        ("-A INPUT -m set --match-set friends src -p tcp --dport 22 -j ACCEPT", "always outside to device on tcp/22", OPEN),
        ("-A INPUT -m limit --limit 5/min -p tcp --dport 22 -j ACCEPT", "never outside to device on tcp/22", REFUTED),
        ("-A FORWARD -i eth1 -o eth0 -j ACCEPT", "always lan to outside on tcp/443", PROVED),
        ("-A FORWARD -i eth1 -o eth0 -j ACCEPT", "never outside to lan", PROVED),
        ("-A FORWARD -i eth1 -o eth0 -j ACCEPT", "never 10.0.0.0/8 to outside", REFUTED),
        ("-A FORWARD -d 10.0.0.9 -p tcp --dport 443 -j ACCEPT", "never outside to 10.0.0.0/29", PROVED),
        ("-A FORWARD -d 10.0.0.9 -p tcp --dport 443 -j ACCEPT", "never outside to 10.0.0.8/29", REFUTED),
        (OPEN_TO_KEEPERS, "never lan to device but on tcp/22", PROVED),
        (OPEN_TO_KEEPERS, "never lan to device but on tcp/23, udp/22", REFUTED),
        (OPEN_TO_KEEPERS, "never lan to device but on tcp", PROVED),
        ("-A INPUT -i eth1 -p icmp -j ACCEPT", "never lan to device but on tcp/22, udp/53", REFUTED),
        ("-A INPUT -i eth1 -p icmp -j ACCEPT", "never lan to device but on tcp/22, icmp", PROVED),
        ("", "never guests to lan", None),
    ],
)  # fmt: skip
def test_claims(rules: str, claim: str, expected: Holds | None) -> None:
    assert holds(rules, claim) is expected


@pytest.mark.parametrize("seed", range(25))
def test_a_claim_holds_exactly_where_no_packet_speaks_against_it(seed: int) -> None:
    rules = made(random.Random(seed))
    one = study(rules, ("c0", "c1"))
    device: Device = one.device
    for service, name in (("tcp/22", "tcp"), ("udp/22", "udp"), ("tcp/80", "tcp")):
        port = int(service.partition("/")[2])
        number = {"tcp": 6, "udp": 17}[name]
        arriving = [p for p in packets() if (p.in_interface, p.out_interface, p.state) == ("eth0", "", State.NEW)]
        fitting = [p for p in arriving if (p.protocol, p.dport) == (number, port)]
        never, always = (
            judge(one, read_claim(f"{verb} outside to device on {service}")) for verb in ("never", "always")
        )
        assert never is not None
        assert always is not None
        for packet in fitting:
            verdicts = through(device, packet)
            if never.holds is Holds.PROVED:
                assert verdicts == {False}, packet.sentence()
            if always.holds is Holds.PROVED:
                assert verdicts == {True}, packet.sentence()
        for answer, wrong in ((never, True), (always, False)):
            if answer.holds is Holds.REFUTED:
                assert answer.proof is not None
                assert through(device, answer.proof.packet) == {wrong}, answer.proof.packet.sentence()


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("guests never to lan", "is no claim"),
        ("never guests", "FROM to TO"),
        ("never guests to lan on tcp/99999", "no port"),
        ("only guests to lan but on tcp/22", "goes with never alone"),
    ],
)
def test_what_is_no_claim(text: str, said: str) -> None:
    with pytest.raises(UsageError, match=said):
        read_claim(text)

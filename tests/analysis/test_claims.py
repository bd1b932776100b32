"""Claims are proved exactly where no packet speaks against them; what an end is called does not matter."""

from __future__ import annotations

import random
from datetime import date

import pytest
from msgspec.structs import replace

from aiguille.analysis.claims import Holds, judge, judge_across, read_claim
from aiguille.analysis.program import Programs
from aiguille.analysis.reach import Reaches
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
from tests.analysis.test_paths import STATES, pair
from tests.analysis.test_reach import WEB
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


BLOCKED = "-A INPUT -m set --match-set bad src -j DROP"
AT_WORK = (
    "-A FORWARD -i eth1 -o eth0 -m time --timestart 08:00 --timestop 18:00 --weekdays Mon,Tue,Wed,Thu,Fri -j ACCEPT"
)
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
        ("-A FORWARD -i eth1 -o eth0 -p tcp --dport 443 -j ACCEPT", "never lan to outside but on https", PROVED),
        ("-A FORWARD -i eth1 -o eth0 -p tcp --dport 443 -j ACCEPT", "never lan to outside but on dns, ntp", REFUTED),
        (AT_WORK, "never lan to outside at Sat 23:30", PROVED),
        (AT_WORK, "never lan to outside at Tue 09:00", REFUTED),
        (AT_WORK, "always lan to outside on tcp/443 during mon-fri 08:00-17:30", PROVED),
        (AT_WORK, "always lan to outside on tcp/443 during mon-sat 08:00-17:30", REFUTED),
        (AT_WORK, "never lan to outside during mon-fri 19:00-07:00", PROVED),
        (AT_WORK, "never lan to outside during mon-fri 17:00-23:00", REFUTED),
        (OPEN_TO_KEEPERS, "10.0.0.8 to device on ssh decided by rule 1 of INPUT", PROVED),
        (OPEN_TO_KEEPERS, "lan to device on ssh decided by rule 1 of INPUT", REFUTED),
        (OPEN_TO_KEEPERS, "outside to device decided by the default of INPUT", PROVED),
        (OPEN_TO_KEEPERS, "lan to device on tcp/22 decided by default of INPUT", REFUTED),
        (f"{BLOCKED}\n{OPEN_TO_KEEPERS}", "keepers to device on ssh decided by rule 2 of INPUT", OPEN),
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
        ("never guests to lan during the season", "are no hours"),
        ("never guests to lan on htps", "did you mean https"),
        ("never guests to lan decided by rule 1 of INPUT", "is no claim"),
    ],
)
def test_what_is_no_claim(text: str, said: str) -> None:
    with pytest.raises(UsageError, match=said):
        read_claim(text)


@pytest.mark.parametrize(
    ("devices", "claim", "expected"),
    [
        (pair(), "never near/a to far/b", REFUTED),
        (pair(rules=STATES), "never near/a to far/b", PROVED),
        (pair(rules=STATES + WEB), "never near/a to far/b but on http", PROVED),
        (pair(rules=STATES + WEB), "always near/a to far/b on tcp/80", PROVED),
        (pair(rules=STATES + WEB), "always near/a to far/b on tcp/80, tcp/443", REFUTED),
        (pair(routes=[]), "never near/a to far/b", OPEN),
        (pair(rules=STATES), "only near/device to far/b", REFUTED),
        (pair(), "only near/device to far/b", REFUTED),
        (pair(rules=f"{STATES}-A FORWARD -m set --match-set friends src -j ACCEPT\n"), "never near/a to far/b", OPEN),
    ],
)  # fmt: skip
def test_claims_between_devices(devices: list[Device], claim: str, expected: Holds) -> None:
    reaches = Reaches(Estate(tuple(devices), as_of=date(2026, 11, 28)), detailed=True)
    answer = judge_across(reaches, read_claim(claim))
    assert answer.holds is expected, answer.why
    assert (answer.row is not None) == (expected is REFUTED or "friends" in str(devices[0].rulebases))

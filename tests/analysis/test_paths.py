"""Packets over several devices: which way, what stops them, what is assumed. The kernel's own word is in tests/kernel/test_paths.py."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from datetime import date
from ipaddress import ip_interface

import pytest
from msgspec.structs import replace

from aiguille.analysis.network import Network
from aiguille.analysis.paths import Follower, Journey, Path, is_certain
from aiguille.model import Action, Device, Estate, UsageError
from aiguille.packets import read_sentence
from aiguille.packets.unplaced import complete
from aiguille.readers import host
from aiguille.readers.files import decode

STATES = "-A FORWARD -m conntrack --ctstate ESTABLISHED,RELATED -j ACCEPT\n"
OPEN = f"{STATES}-A FORWARD -j ACCEPT\n"

Route = tuple[str, str]
"""A destination, and the router or interface that leads there; "" for one that refuses."""


def router(
    name: str,
    interfaces: Mapping[str, str],
    routes: Sequence[Route] = (),
    rules: str = OPEN,
    nat: str = "",
    kernel: str = "",
    family: int = 4,
) -> Device:
    addresses = [
        {
            "ifname": one,
            "flags": ["UP"],
            "addr_info": [{"local": text.split("/")[0], "prefixlen": int(text.split("/")[1])}],
        }
        for one, text in interfaces.items()
    ]
    told = []
    for target, way in routes:
        if not way:
            told.append({"dst": target, "type": "blackhole"})
        elif way in interfaces:
            told.append({"dst": target, "dev": way})
        else:
            leaves = next(n for n, text in interfaces.items() if ip_interface(way).ip in ip_interface(text).network)
            told.append({"dst": target, "gateway": way, "dev": leaves})
    tables = f"*nat\n:PREROUTING ACCEPT [0:0]\n:POSTROUTING ACCEPT [0:0]\n{nat}COMMIT\n" if nat else ""
    dump = f"{tables}*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n{rules}COMMIT\n"
    bundle = [
        decode(f"rules.v{family}", dump.encode()),
        decode("ip-addr.json", json.dumps(addresses).encode()),
        decode("ip-route.json", json.dumps(told).encode()),
    ]
    if kernel:
        bundle.append(replace(decode("sysctl.txt", kernel.encode()), place="collected/sysctl.txt"))
    return host.read(bundle, name)


def path(devices: Sequence[Device], text: str) -> Path:
    return Follower(Network(Estate(tuple(devices), as_of=date(2026, 11, 28)))).path(
        complete(read_sentence(text, placed=False))
    )


def told(journeys: Sequence[Journey]) -> str:
    """Who was passed, and how it ended."""
    first = journeys[0]
    hops = " ".join(hop.device.name for hop in first.hops)
    why = first.hops[-1].why if first.hops else ""
    return f"{hops}: {first.verdict.value}{'' if is_certain(journeys) else '?'}{f', {why}' if why else ''}"


def pair(**near: object) -> list[Device]:
    """Two routers between 10.1.0.0/24 and 10.3.0.0/24; what differs is given for the first."""
    first: dict[str, object] = {"routes": [("10.3.0.0/24", "10.2.0.2"), ("default", "10.2.0.254")], **near}
    return [
        router("near", {"a": "10.1.0.1/24", "b": "10.2.0.1/24"}, **first),  # type: ignore[arg-type]
        router(
            "far", {"a": "10.2.0.2/24", "b": "10.3.0.1/24"}, [("10.1.0.0/24", "10.2.0.1"), ("default", "10.2.0.254")]
        ),
    ]


WEB = "tcp from 10.1.0.9 to 10.3.0.9:80"


@pytest.mark.parametrize(
    ("devices", "text", "there", "back"),
    [
        (pair(), WEB, "near far: accept", "far near: accept"),
        (pair(), "tcp from 10.1.0.9 to 10.1.0.7:80", ": accept", ": accept"),
        (pair(), "tcp from 10.1.0.9 to 10.2.0.2:80", "near far: drop", ""),
        (pair(), "tcp from 10.2.0.2 to 10.1.0.9:80", "far near: accept", "near far: drop"),
        (pair(), "tcp from 10.1.0.9 to 198.51.100.7:443", "near: accept", "near: accept"),
        (pair(rules="-A FORWARD -p udp -j ACCEPT\n"), WEB, "near: drop", ""),
        (pair(rules="-A FORWARD -i a -j ACCEPT\n"), WEB, "near far: accept", "far near: drop"),
        (pair(routes=[("10.3.0.0/24", "")]), WEB, "near: drop, a route refuses or swallows what goes to 10.3.0.9", ""),
        (pair(routes=[("10.9.0.0/24", "10.2.0.2")]), WEB, "near: drop, there is no route to 10.3.0.9", ""),
        (pair(routes=[]), WEB, "near: drop?, nothing shows a route to 10.3.0.9", ""),
        (pair(kernel="net.ipv4.ip_forward = 0\n"), WEB, "near: drop, net.ipv4.ip_forward is 0: nothing is passed on", ""),
        (
            pair(nat="-A POSTROUTING -o b -j MASQUERADE\n"),
            WEB, "near far: accept", "far near: accept",
        ),
        (
            pair(nat="-A PREROUTING -d 10.2.0.1 -p tcp --dport 8080 -j DNAT --to-destination 10.3.0.9:80\n"),
            "tcp from 10.1.0.9 to 10.2.0.1:8080", "near far: accept", "far near: accept",
        ),
        (
            pair(rules=f"{STATES}-A FORWARD -m set --match-set friends src -j ACCEPT\n"),
            WEB, "near: drop?", "",
        ),
    ],
)  # fmt: skip
def test_ways(devices: list[Device], text: str, there: str, back: str) -> None:
    found = path(devices, text)
    assert told(found.journeys) == there
    assert (told(found.answers) if found.answers else "") == back


def test_translation_is_undone_on_the_way_back() -> None:
    found = path(pair(nat="-A POSTROUTING -o b -j MASQUERADE\n"), WEB)
    last, first_back = found.journeys[0].hops[-1], found.answers[0].hops
    assert last.went.sentence().startswith("tcp from 10.2.0.1:40000 to 10.3.0.9:80")
    assert first_back[0].came.sentence().startswith("tcp from 10.3.0.9:80 to 10.2.0.1:40000")
    assert first_back[-1].went.sentence().startswith("tcp from 10.3.0.9:80 to 10.1.0.9:40000")


def test_routes_that_lead_in_a_circle_end() -> None:
    one = router("one", {"a": "10.1.0.1/24", "b": "10.2.0.1/24"}, [("10.3.0.0/24", "10.2.0.2")])
    two = router("two", {"b": "10.2.0.2/24"}, [("10.3.0.0/24", "10.2.0.1")])
    assert told(path([one, two], WEB).journeys).endswith("drop, the routes lead in a circle")


def test_an_answer_that_comes_by_another_way() -> None:
    """The way out is by `one`, the way back by `two`, which has not seen the connection; rp_filter refuses it at the end."""
    ends = {"a": "10.1.0.1/24", "b": "10.2.0.1/24", "c": "10.4.0.1/24"}
    far = router("far", {"a": "10.2.0.2/24", "b": "10.3.0.1/24", "c": "10.4.0.2/24"}, [("10.1.0.0/24", "10.4.0.3")])
    two = router("two", {"a": "10.4.0.3/24"}, [("10.1.0.0/24", "10.4.0.1")])
    near = router("near", ends, [("10.3.0.0/24", "10.2.0.2")])
    found = path([near, far, two], WEB)
    assert told(found.journeys) == "near far: accept"
    assert told(found.answers) == "far two near: accept"
    picky = router("two", {"a": "10.4.0.3/24"}, [("10.1.0.0/24", "10.4.0.1")], rules=STATES)
    assert told(path([near, far, picky], WEB).answers) == "far two: drop"
    strict = router("near", ends, [("10.3.0.0/24", "10.2.0.2")], kernel="net.ipv4.conf.all.rp_filter = 1\n")
    answers = path([strict, far, two], WEB).answers
    assert told(answers) == "far two near: drop, the way back to its source does not lead through c (rp_filter)"
    loose = router("near", ends, [("10.3.0.0/24", "10.2.0.2")], kernel="net.ipv4.conf.all.rp_filter = 2\n")
    assert told(path([loose, far, two], WEB).answers) == "far two near: accept"


def test_two_gateways_in_the_senders_network_leave_it_open_unless_they_agree() -> None:
    one, other = (
        router(name, {"a": f"10.1.0.{n}/24", "b": f"10.3.0.{n}/24"}, rules=rules)
        for name, n, rules in (("one", 1, OPEN), ("other", 2, "-A FORWARD -j DROP\n"))
    )
    found = path([one, other], WEB)
    assert {journey.verdict for journey in found.journeys} == {Action.ACCEPT, Action.DROP}
    assert not found.certain
    assert "the sender's gateway may be one or other" in found.journeys[0].assumed


def test_the_other_family_goes_its_own_way() -> None:
    near = router(
        "near", {"a": "2001:db8:1::1/64", "b": "2001:db8:2::1/64"}, [("2001:db8:3::/64", "2001:db8:2::2")], family=6
    )
    far = router(
        "far", {"a": "2001:db8:2::2/64", "b": "2001:db8:3::1/64"}, [("2001:db8:1::/64", "2001:db8:2::1")], family=6
    )
    found = path([near, far], "tcp from 2001:db8:1::9 to [2001:db8:3::9]:80")
    assert told(found.journeys) == "near far: accept"
    assert told(found.answers) == "far near: accept"
    # Rules for IPv4 alone say nothing of it.
    silent = router("near", {"a": "2001:db8:1::1/64", "b": "2001:db8:2::1/64"}, [("2001:db8:3::/64", "2001:db8:2::2")])
    found = path([silent, far], "tcp from 2001:db8:1::9 to [2001:db8:3::9]:80")
    assert "holds no rules for IPv6" in " ".join(found.journeys[0].assumed)


def test_a_source_that_is_nowhere() -> None:
    alone = router("alone", {"a": "10.1.0.1/24"}, [("10.9.0.0/24", "a")])
    with pytest.raises(UsageError, match=r"nothing shows where 172\.16\.0\.9 is"):
        path([alone], "tcp from 172.16.0.9 to 10.1.0.9:80")
    with pytest.raises(UsageError, match="leaves its protocol, an address or the destination port open"):
        path([alone], "tcp from 10.1.0.9 to 10.9.0.1")

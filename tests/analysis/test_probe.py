"""Single packets: translations, marks, tracking, doubtful rules; and tables of packets against single ones."""

from __future__ import annotations

import json
import random
from ipaddress import IPv4Address, IPv6Address

import pytest
from benchmarks.generate import as_dump, as_ipv6, generate, widened
from hypothesis import given
from hypothesis import strategies as st

from aiguille.analysis.lookup import find_rule
from aiguille.analysis.program import Programs
from aiguille.analysis.walk import bulk
from aiguille.analysis.walk.answers import Answer, answer
from aiguille.analysis.walk.bulk import TableProber
from aiguille.analysis.walk.probe import Prober
from aiguille.model import Device, State, UsageError
from aiguille.packets import COLUMNS, read_sentence
from aiguille.packets import table as tables
from aiguille.packets.table import TableFile
from aiguille.readers import iptables, nftables
from aiguille.readers.files import decode
from aiguille.reports.probe import TableWriter
from aiguille.reports.text import visible
from tests.analysis.test_decide import devices, packets
from tests.helpers import filter_table
from tests.oracle import base_chain, ends

NAT = (
    "*nat\n:PREROUTING ACCEPT [0:0]\n:POSTROUTING ACCEPT [0:0]\n"
    "-A PREROUTING -i eth0 -d 192.0.2.1/32 -p tcp -m tcp --dport 443 -j DNAT --to-destination 10.0.0.5:8443\n"
    "-A PREROUTING -i eth0 -p tcp -m tcp --dport 80 -j REDIRECT --to-ports 8080\n"
    "-A PREROUTING -i eth0 -p udp -m udp --dport 53 -j DNAT --to-destination 10.0.0.7-10.0.0.9\nCOMMIT\n"
    "*mangle\n:PREROUTING ACCEPT [0:0]\n-A PREROUTING -s 203.0.113.0/24 -j MARK --set-xmark 0x1/0xffffffff\nCOMMIT\n"
    "*raw\n:PREROUTING ACCEPT [0:0]\n-A PREROUTING -p udp -m udp --dport 123 -j CT --notrack\nCOMMIT\n"
)
RULES = """
-A INPUT -p tcp -m tcp --dport 8080 -j ACCEPT
-A INPUT -m mark --mark 0x1 -j REJECT
-A INPUT -m conntrack --ctstate UNTRACKED -j ACCEPT
-A INPUT -s 10.0.0.0/8 -j NFQUEUE --queue-num 1
-A FORWARD -d 10.0.0.5/32 -p tcp -m tcp --dport 8443 -j ACCEPT
-A FORWARD -d 10.0.0.7/32 -p udp -m udp --dport 53 -j ACCEPT
-A FORWARD -d 192.0.2.1/32 -j REJECT
"""
DEVICE = filter_table(RULES, nat=NAT)

CASES = [
    # packet, verdict, certain, deciding chain and rule
    ("tcp from 198.51.100.1:1 to 192.0.2.1:443 entering eth0 leaving eth1", "accept", True, "FORWARD", 1),
    ("tcp from 198.51.100.1:1 to 192.0.2.1:443 entering eth2 leaving eth1", "reject", True, "FORWARD", 3),
    ("tcp from 198.51.100.1:1 to 192.0.2.1:443 entering eth0 leaving eth1 state invalid", "reject", True, "FORWARD", 3),
    ("tcp from 198.51.100.1:1 to 192.0.2.9:80 entering eth0 leaving eth1", "accept", True, "INPUT", 1),
    ("tcp from 198.51.100.1:1 to 192.0.2.1:81 entering eth0", "drop", True, "INPUT", "policy"),
    ("tcp from 203.0.113.1:1 to 192.0.2.1:81 entering eth0", "reject", True, "INPUT", 2),
    ("udp from 198.51.100.1:1 to 192.0.2.1:123 entering eth0", "accept", True, "INPUT", 3),
    ("tcp from 10.0.0.1:1 to 192.0.2.1:81 entering eth0", "drop", False, "INPUT", "policy"),
    ("udp from 198.51.100.1:1 to 192.0.2.9:53 entering eth0 leaving eth1", "accept", False, "FORWARD", 2),
    ("tcp from 192.0.2.1:1 to 198.51.100.1:81 leaving eth0", "accept", True, "OUTPUT", "policy"),
]


@pytest.mark.parametrize(("packet", "verdict", "certain", "chain", "rule"), CASES)
def test_packets(packet: str, verdict: str, certain: bool, chain: str, rule: int | str) -> None:
    (found,) = answer(Prober(Programs(DEVICE)), read_sentence(packet)).verdicts
    decided = found.decided_by
    number = decided.rule.number if decided.rule else "policy"
    assert (found.verdict, found.certain, decided.chain.name, number) == (verdict, certain, chain, rule)
    assert found.ways[0].visits[-1] is decided or found.verdict == "accept"


def test_a_sketch_has_every_verdict_that_occurs() -> None:
    prober = Prober(Programs(DEVICE))
    found = answer(prober, read_sentence("tcp to 192.0.2.1:443 entering eth0 leaving any"))
    assert {v.verdict.value for v in found.verdicts} == {"accept"}
    anything = answer(prober, read_sentence("any entering any leaving any"))
    assert {v.verdict.value for v in anything.verdicts} == {"accept", "drop", "reject"}
    assert not anything.certain
    for verdict in anything.verdicts:
        assert prober.probe(verdict.packet).verdict == verdict.verdict


def test_a_rule_can_be_thought_away() -> None:
    packet = read_sentence("tcp from 198.51.100.1:1 to 192.0.2.1:443 entering eth0 leaving eth1")
    rule = find_rule(DEVICE, "FORWARD/1")
    assert find_rule(DEVICE, f"dump:{rule.where.first}") is rule
    (found,) = answer(Prober(Programs(DEVICE), [rule]), packet).verdicts
    assert found.verdict == "drop"
    for name in ("FORWARD/99", "nowhere:1", "PREROUTING/1"):
        with pytest.raises(UsageError):
            find_rule(DEVICE, name)
    with pytest.raises(UsageError, match="IPv6"):
        answer(Prober(Programs(DEVICE)), read_sentence("tcp from [2001:db8::1]:1 to [2001:db8::2]:2 entering eth0"))


@given(devices(), st.integers(0, 2**32))
def test_probing_agrees_with_a_plain_walk(device: Device, seed: int) -> None:
    rulebase, chain = base_chain(device, "filter", "INPUT")
    prober = Prober(Programs(device))
    for packet in packets(seed, 10):
        found = prober.probe(packet)
        said = {
            (
                way.verdict.value,
                way.decided_by.chain.name,
                way.decided_by.rule.number if way.decided_by.rule else "policy",
            )
            for way in found.ways
        }
        assert said == ends(rulebase, chain, packet)


@pytest.mark.parametrize(
    "extra",
    ["", "-A FORWARD -m limit --limit 1/sec -j ACCEPT\n", "-A FORWARD -j more\n-A more -s NET -j RETURN\n"],
)
@pytest.mark.parametrize("slab", [bulk.SLAB, 7])
@pytest.mark.parametrize("family", [4, 6])
def test_many_packets_at_once_fare_as_one_by_one(
    extra: str, slab: int, family: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(bulk, "SLAB", slab)
    monkeypatch.setattr(bulk, "SLABS", slab)
    made = generate(150) if family == 4 else as_ipv6(generate(150))
    extra = extra.replace("NET", "10.1.0.0/16" if family == 4 else "2001:db8:a01::/48")
    dump = as_dump(made).replace(":OUTPUT ACCEPT [0:0]\n", f":OUTPUT ACCEPT [0:0]\n:more - [0:0]\n{extra}")
    prober = Prober(Programs(iptables.read([decode("dump", dump.encode())], "t")))
    rnd = random.Random(5)
    lines = [",".join(COLUMNS)]
    for number in range(400):
        protocol = rnd.choice(("tcp", "udp", "icmp" if family == 4 else "ipv6-icmp", "47"))
        ports = f"{rnd.randrange(65536)},{rnd.randrange(10000)}" if protocol in ("tcp", "udp") else ","
        icmp = "128,0" if "icmp" in protocol else ","
        ends_ = [f"10.{rnd.randrange(8)}.{rnd.randrange(48)}.{rnd.randrange(256)}" for _ in range(2)]
        if family == 6:
            ends_ = [str(IPv6Address(widened(int(IPv4Address(one)), rnd.choice((0, 1 << 40, 7))))) for one in ends_]
            ends_[1] = rnd.choice((ends_[1], ends_[1], ends_[1], "ff02::1", "::"))
        state = rnd.choice(("", "established", "invalid"))
        lines.append(
            f"p{number},zone{rnd.randrange(8)},zone{rnd.randrange(8)},{','.join(ends_)},{protocol},{ports},{icmp},,{state}"
        )
    lines.append(f"open,zone1,,,{'10.2.0.1' if family == 4 else '2001:db8::1'},tcp,,443,,,,")
    file = TableFile("\n".join(lines).encode())
    (part,) = file.parts
    fast, slow = (TableProber(prober, file, walks).probe(part) for walks in (0, 1000))
    assert not fast.faults
    settled = 0
    for one, other in zip(fast.each(), slow.each(), strict=True):
        assert isinstance(other, Answer)
        if isinstance(one, Answer):
            assert [v.verdict for v in one.verdicts] == [v.verdict for v in other.verdicts]
            continue
        settled += 1
        step = one[0].steps[one[1]]
        decided = other.verdicts[0].decided_by
        assert other.certain
        assert (step.chain, step.rule) == (decided.chain, decided.rule)
    assert settled >= (0 if "limit" in extra else 300)


def test_a_row_the_export_says_nothing_on_is_left_out() -> None:
    prober = Prober(Programs(filter_table("-A INPUT -p tcp -j ACCEPT")))
    rows = [
        "four,eth0,,10.0.0.1,10.0.0.2,tcp,1,2,,,,",
        "six,eth0,,2001:db8::1,2001:db8::2,tcp,1,2,,,,",
        "open,eth0,,,,udp,,53,,,,",
    ]
    file = TableFile("\n".join([",".join(COLUMNS), *rows]).encode())
    for walks in (0, 10):
        found = TableProber(prober, file, walks).probe(file.parts[0])
        assert list(found.ids) == ["four", "open"]
        assert [(fault.line, fault.id) for fault in found.faults] == [(3, "six")]
        assert "no rules for" in found.faults[0].why


@pytest.mark.parametrize("odd", ["", "größer", "a\x1b[31m", "two\u2028lines"])
@pytest.mark.parametrize("walks", [0, 10_000])
def test_lines_and_json_of_a_table_say_the_same(odd: str, walks: int, monkeypatch: pytest.MonkeyPatch) -> None:
    """Parts whose ids are of different width included."""
    monkeypatch.setattr(tables, "PART", 4000)
    device = filter_table("-A INPUT -p tcp -s 10.0.0.0/9 -j ACCEPT\n-A INPUT -m limit --limit 1/sec -j ACCEPT")
    ids = [str(number) for number in range(85, 485)]
    ids[150] = odd or ids[150]
    rows = [f"{name},eth0,,10.{at % 256}.0.1,10.0.0.2,tcp,1,{at},,,," for at, name in enumerate(ids)]
    file = TableFile("\n".join([",".join(COLUMNS), *rows, "short,row"]).encode())
    assert len(file.parts) > 3

    def writer() -> TableWriter:
        return TableWriter(device, TableProber(Prober(Programs(device)), file, walks), jobs=2)

    told = writer()
    packets = json.loads(b"".join(told.json()))["packets"]
    assert [one["id"] for one in packets] == ids
    lines = b"".join(writer().lines(str.upper)).decode().splitlines()
    width = max(len(visible(name)) for name in ids)
    for one, line in zip(packets, lines, strict=True):
        at = one["decided_by"]
        rule = "policy" if at["rule"] == "policy" else f"rule {at['rule']}"
        open_ = "  " if one["certain"] else " ?"
        where = f"{at['file']}:{at['line']}".upper()
        assert line == f"{visible(one['id']):<{width}}  {one['verdict']:<7}{open_}  filter INPUT {rule}  {where}"
    assert [(fault.line, fault.id) for fault in told.faults] == [(len(rows) + 2, "short")]


@pytest.mark.parametrize("names", [["a", "b"], ["größer"], [""] * 9, []])
def test_parts_of_a_table_without_an_answer(names: list[str], monkeypatch: pytest.MonkeyPatch) -> None:
    """Rows that are wrong before, between and behind those that are right, each in a part of its own."""
    monkeypatch.setattr(tables, "PART", 8)
    device = filter_table("-A INPUT -p tcp -j ACCEPT")
    rows = ["short", *(line for name in names for line in (f"{name},eth0,,10.0.0.1,10.0.0.2,tcp,1,2,,,,", "x,y"))]
    file = TableFile("\n".join([",".join(COLUMNS), *rows]).encode())
    for walks in (0, 1000):
        writer = TableWriter(device, TableProber(Prober(Programs(device)), file, walks), jobs=1)
        data = json.loads(b"".join(writer.json()))
        assert [one["id"] for one in data["packets"]] == names
        assert [one["line"] for one in data["faults"]] == [2, *range(4, 4 + 2 * len(names), 2)]
        lines = b"".join(writer.lines(str)).decode().splitlines()
        assert [line.split("  accept")[0].strip() for line in lines] == names


@pytest.mark.parametrize(
    ("text", "word"),
    [
        ("", "empty"),
        ("tpc from 10.0.0.1 entering eth0", "'tpc'"),
        ("tcp form 10.0.0.1 entering eth0", "'form'"),
        ("tcp from 10.0.0.256 entering eth0", "'10.0.0.256'"),
        ("tcp from 10.0.0.1:99999 entering eth0", "'99999'"),
        ("tcp from 10.0.0.1 to [2001:db8::1]:2 entering eth0", "families"),
        ("tcp from 10.0.0.1 to", "'to'"),
        ("tcp from 10.0.0.1", "neither enters nor leaves"),
        ("tcp entering eth0 state fresh", "'fresh'"),
        ("tcp entering eth0 flags SYN,FOO", "'FOO'"),
        ("gre from 10.0.0.1:5 entering eth0", "no ports"),
        ("ipv6-icmp from 10.0.0.1 entering eth0", "families"),
    ],
)
def test_sentences_that_are_wrong_point_at_the_word(text: str, word: str) -> None:
    with pytest.raises(UsageError) as caught:
        read_sentence(text)
    assert word in str(caught.value)


def test_sentences_read_what_packets_say() -> None:
    for text, *_ in CASES:
        packet = read_sentence(text).packet()
        assert packet is not None
        assert read_sentence(packet.sentence()).packet() == packet
    six = read_sentence("icmp type 128 code 0 from 2001:db8::1 to 2001:db8::2 leaving eth0 state related").packet()
    assert six is not None
    assert (six.protocol, six.state) == (58, State.RELATED)
    assert read_sentence(six.sentence()).packet() == six


HOOKED = """table inet a {
\tchain early { type filter hook input priority -10; policy accept; tcp dport 22 accept; }
\tchain late { type filter hook input priority 10; policy accept; tcp dport 23 counter;
\t\ttcp dport 24 accept; tcp dport 25 drop; }
}
table ip mangle {
\tchain INPUT { type filter hook input priority -150; policy accept; tcp dport 26 accept; }
}
"""


@pytest.mark.parametrize(
    ("port", "decided"), [(22, "early 1"), (23, "late policy"), (24, "late 2"), (25, "late 3"), (26, "late policy")]
)
def test_of_several_chains_on_one_hook_the_last_that_accepted_by_a_rule_decided(port: int, decided: str) -> None:
    device = nftables.read([decode("ruleset", HOOKED.encode())], "box")
    way = (
        answer(Prober(Programs(device)), read_sentence(f"tcp from 198.51.100.7 to 192.0.2.1:{port} entering eth0"))
        .verdicts[0]
        .ways[0]
    )
    by = way.decided_by
    assert f"{by.chain.name} {'policy' if by.rule is None else by.rule.number}" == decided
    assert {visit.chain.name for visit in way.visits} >= {"early", decided.split()[0]}


def test_packets_keep_the_interfaces_they_were_asked_by() -> None:
    """Interfaces no rule names are one class; in an example of another sketch the ways in and out have names of their own."""
    prober = Prober(
        Programs(nftables.read([decode("ruleset", HOOKED.replace("hook input", "hook forward").encode())], "box"))
    )
    said = "tcp from 198.51.100.7 to 192.0.2.1:23"
    assert "entering eth0 leaving eth1" in asked(prober, f"{said} entering eth0 leaving eth1")
    assert "entering eth0 leaving other1" in asked(prober, f"{said} entering eth0 leaving any")
    assert "entering other0 leaving other1" in asked(prober, f"{said} entering any leaving any")


def asked(prober: Prober, sentence: str) -> str:
    return answer(prober, read_sentence(sentence)).verdicts[0].packet.sentence()

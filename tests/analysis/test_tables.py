"""Several tables and families at once: order of the hooks, tracking, and what may be said of each."""

from __future__ import annotations

from datetime import date

import pytest
from benchmarks import peers
from benchmarks.generate import as_dump, generate
from msgspec.structs import replace

from aiguille.analysis.decide import Decider, maybe_accepted, surely_refused
from aiguille.analysis.listing import Selection, read_touching, select
from aiguille.analysis.lookup import find_rule, one_device
from aiguille.analysis.program import Programs, families
from aiguille.analysis.standing import Standing, hidden_rules, hidden_steps, standings
from aiguille.analysis.walk.probe import Prober
from aiguille.model import Device, Direction, Estate, State, UnreadableError, UsageError
from aiguille.packets import Packet
from aiguille.readers import iptables
from aiguille.readers.files import decode
from aiguille.space import EVERYTHING, Axis, IntervalSet, box
from tests.helpers import filter_table

SYN = Packet(4, "eth0", "", 0x0A000001, 0xC0000201, 6, 4000, 22, flags=2)


def tables(**content: str) -> Device:
    """raw="...", mangle="...", filter="...", security="...": the rules of each table, with its usual chains."""
    chains = {
        "raw": "PREROUTING OUTPUT", "mangle": "PREROUTING INPUT FORWARD OUTPUT POSTROUTING",
        "filter": "INPUT FORWARD OUTPUT", "security": "INPUT FORWARD OUTPUT",
    }  # fmt: skip
    text = ""
    for table, rules in content.items():
        head = "".join(f":{chain} ACCEPT [0:0]\n" for chain in chains[table].split())
        text += f"*{table}\n{head}{rules}\nCOMMIT\n"
    return iptables.read([decode("dump", text.encode())], "t")


# tables, the table that decides about SYN to port 22, the verdict
ORDER = [
    ({"raw": "-A PREROUTING -j DROP", "filter": "-A INPUT -j REJECT"}, "raw", "drop"),
    ({"mangle": "-A INPUT -j DROP", "filter": "-A INPUT -j REJECT"}, "mangle", "drop"),
    ({"filter": "-A INPUT -j REJECT", "security": "-A INPUT -j DROP"}, "filter", "reject"),
    ({"filter": "-A INPUT -j ACCEPT", "security": "-A INPUT -j DROP"}, "security", "drop"),
    ({"mangle": "-A INPUT -j ACCEPT\n-A INPUT -j DROP", "filter": "-A INPUT -j ACCEPT"}, "filter", "accept"),
    ({"filter": "-A INPUT -j ACCEPT", "security": "-A INPUT -s 11.0.0.0/8 -j DROP"}, "filter", "accept"),
    ({"mangle": "-A FORWARD -j DROP", "filter": "-A INPUT -j ACCEPT"}, "filter", "accept"),
    ({"raw": "-A PREROUTING -m conntrack --ctstate NEW -j DROP", "filter": "-A INPUT -j ACCEPT"}, "filter", "accept"),
    ({"raw": "-A PREROUTING -m conntrack --ctstate INVALID -j DROP", "filter": "-A INPUT -j ACCEPT"}, "raw", "drop"),
    ({"mangle": "-A PREROUTING -m conntrack --ctstate NEW -j DROP", "filter": "-A INPUT -j ACCEPT"}, "mangle", "drop"),
    (
        {"raw": "-A PREROUTING -j CT --notrack", "filter": "-A INPUT -m state --state UNTRACKED -j DROP"},
        "filter",
        "drop",
    ),
    ({"mangle": "-A POSTROUTING -j DROP", "filter": "-A INPUT -j ACCEPT"}, "filter", "accept"),
]


@pytest.mark.parametrize(("content", "table", "verdict"), ORDER)
def test_every_table_has_its_say_in_order(content: dict[str, str], table: str, verdict: str) -> None:
    device = tables(**content)
    programs = Programs(device)
    found = Prober(programs).probe(SYN)
    assert (found.decided_by.rulebase.name, found.verdict, found.certain) == (table, verdict, True)
    if "--notrack" in content.get("raw", ""):
        return  # sets of packets are judged with the state they have when the filter sees them
    program = programs.get(4, Direction.TO_DEVICE)
    assert program is not None
    ends = Decider(program).ends(SYN.point(program.space))
    assert {end.accepts for end in ends} == {verdict == "accept"}


def test_a_rule_behind_another_tables_refusal_is_hidden_by_it() -> None:
    device = tables(
        mangle="-A INPUT -p tcp -j DROP",
        filter="-A INPUT -p tcp -m tcp --dport 22 -j ACCEPT\n-A INPUT -p udp -j ACCEPT",
    )
    reports = {(r.rulebase.name, r.rule.number): r for r in standings(Programs(device))}
    assert reports["filter", 1].standing is Standing.SHADOWED
    assert [(rulebase.name, rule.number) for rulebase, _, rule in reports["filter", 1].because if rule] == [
        ("mangle", 1)
    ]
    assert reports["filter", 2].witness is not None


def test_raw_rules_see_no_states() -> None:
    device = tables(raw="-A PREROUTING -m conntrack --ctstate NEW -j DROP", filter="-A INPUT -j DROP")
    report, *_ = standings(Programs(device))
    assert report.standing is Standing.IMPOSSIBLE


def test_families_are_kept_apart() -> None:
    four, six = filter_table("-A INPUT -p tcp -j ACCEPT"), filter_table("-A INPUT -p udp -j ACCEPT", family=6)
    both = replace(four, rulebases=four.rulebases + six.rulebases)
    assert families(both) == (4, 6)
    for family, protocol in ((4, 6), (6, 17)):
        program = Programs(both).get(family, Direction.TO_DEVICE)
        assert program is not None
        assert Decider(program).project(EVERYTHING, Axis.PROTO, maybe_accepted) == IntervalSet.of(protocol)
    assert Programs(four).get(6, Direction.TO_DEVICE) is None
    # A chain that only lets pass has no say, so there is nothing to judge.
    assert Programs(tables(mangle="-A INPUT -j DROP")).get(4, Direction.FROM_DEVICE) is None


def test_no_answer_rests_on_packets_that_cannot_exist() -> None:
    # Together these take every ICMP message there is, though not every number its fields could hold.
    rules = "-A INPUT -p icmp -m icmp --icmp-type any -j DROP\n-A INPUT -p icmp -j ACCEPT"
    program = Programs(filter_table(rules)).get(4, Direction.TO_DEVICE)
    assert program is not None
    icmp = box([(Axis.PROTO, IntervalSet.of(1))])
    assert Decider(program).find(icmp, maybe_accepted) is None
    assert [r.standing for r in standings(Programs(filter_table(rules)))][1] is Standing.SHADOWED
    # Nor has a packet to the device an interface it leaves by.
    leaving = filter_table("-A INPUT -j one\n-A one -o eth0 -j ACCEPT\n-A one ! -o eth0 -j DROP", chains=("one",))
    assert [r.standing.value for r in standings(Programs(leaving))][1:2] == ["impossible"]
    program = Programs(leaving).get(4, Direction.TO_DEVICE)
    assert program is not None
    assert Decider(program).find(EVERYTHING, surely_refused) is not None


def test_listings_are_chosen_by_what_rules_touch() -> None:
    device = filter_table(
        "-A INPUT -s 10.0.0.0/8 -p tcp -m tcp --dport 22 -j ACCEPT\n"
        "-A INPUT -d 10.0.0.5/32 -p udp -m udp --dport 53 -j ACCEPT\n-A INPUT -j DROP"
    )
    programs = Programs(device)
    reports = standings(programs)

    def numbers(text: str) -> list[int]:
        return [r.rule.number for r in select(programs, reports, Selection(touching=read_touching(text)))]

    assert numbers("10.0.0.5") == [1, 2, 3]
    assert numbers("10.0.0.6") == [1, 2, 3], "anybody may be the source of rule 2"
    assert numbers("10.0.0.5/53") == [2, 3]
    assert numbers("/ssh") == [1, 3]
    assert numbers("2001:db8::1") == []
    for text in ("", "/", "x", "10.0.0.1/99999", "10.0.0.1/x"):
        with pytest.raises(UsageError):
            read_touching(text)


def test_names_of_devices_and_rules() -> None:
    device = filter_table("-A INPUT -j ACCEPT", nat="*nat\n:INPUT ACCEPT [0:0]\n-A INPUT -j ACCEPT\nCOMMIT\n")
    with pytest.raises(UsageError, match="several rules"):
        find_rule(device, "INPUT/1")
    assert find_rule(device, "filter/INPUT/1") is not find_rule(device, "nat/INPUT/1")
    day = date(2026, 11, 30)
    assert one_device(Estate((device,), day), None) is device
    with pytest.raises(UnreadableError):
        one_device(Estate((), day), None)


def test_large_rule_sets_are_judged_as_one_by_one() -> None:
    """The generated rule sets of the benchmarks: hidden rules by sampling, first match by a plain loop."""
    made = generate(400, seed=7)
    device = iptables.read([decode("dump", as_dump(made).encode())], "t")
    assert not device.ledger.unread
    program = Programs(device).get(4, Direction.THROUGH_DEVICE)
    assert program is not None
    reports = standings(Programs(device))
    hidden = {r.rule.number for r in reports if r.witness is None}
    assert hidden == {number + 1 for number in hidden_steps(program)}
    assert standings(Programs(device), jobs=2) == reports
    alone = tuple(r for r in reports if r.witness is None)
    assert hidden_rules(Programs(device)) == hidden_rules(Programs(device), jobs=2) == alone
    prober = Prober(Programs(device))
    reached = set()
    for report in reports:
        packet = report.witness
        if packet is None:
            continue
        reached.add(report.rule.number)
        row = [
            "",
            packet.in_interface,
            packet.out_interface,
            *map(str, (packet.to_dict()["src"], packet.to_dict()["dst"])),
        ]
        if (
            not all(name.startswith("zone") for name in row[1:3])
            or packet.state is not State.NEW
            or packet.protocol not in (6, 17)
        ):
            continue
        first = peers.first_match(made, [*row, "tcp" if packet.protocol == 6 else "udp", "", str(packet.dport)])
        assert first == report.rule.number
        decided = prober.probe(packet).decided_by.rule
        assert decided is not None
        assert decided.number == first
    assert not reached & hidden

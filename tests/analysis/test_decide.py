"""Whole regions decided at once, compared with a plain walk over the rules, packet by packet."""

from __future__ import annotations

import random
from itertools import product

from hypothesis import given
from hypothesis import strategies as st

from aiguille.analysis.decide import Decider, maybe_accepted, surely_accepted, surely_refused
from aiguille.analysis.program import Kind, Programs
from aiguille.analysis.walk.probe import Prober
from aiguille.model import Action, Device, Direction, State
from aiguille.packets import Packet
from aiguille.packets.sentences import read_sentence
from aiguille.readers import iptables
from aiguille.readers.files import decode
from aiguille.space import EVERYTHING, Axis, IntervalSet, box
from tests.helpers import filter_table
from tests.oracle import base_chain, ends

# Few values, so that rules collide and hide one another.
MATCHES = (
    "",
    "-s 10.0.0.0/30",
    "-s 10.0.0.2/31",
    "! -s 10.0.0.1/32",
    "-i eth0",
    "! -i eth+",
    "-p tcp",
    "-p tcp -m tcp --dport 22:80",
    "-p tcp -m tcp ! --dport 22",
    "-p udp -m multiport --ports 53,80",
    "-p icmp -m icmp --icmp-type 8",
    "-m conntrack --ctstate NEW",
    "-m conntrack ! --ctstate NEW,ESTABLISHED",
    "-d 192.0.2.0/31",
    "-m limit --limit 1/sec",
    "-p tcp -m tcp --tcp-flags SYN,ACK SYN",
)
CHAINS = ("INPUT", "one", "two")


@st.composite
def devices(draw: st.DrawFn) -> Device:
    """A filter table with two user chains that only call chains after them, so that no circle can arise."""
    lines = []
    for at, chain in enumerate(CHAINS):
        later = [f"-j {c}" for c in CHAINS[at + 1 :]] + [f"-g {c}" for c in CHAINS[at + 1 :]]
        actions = ["-j ACCEPT", "-j DROP", "-j REJECT", "-j RETURN", "-j LOG", "", *later, *later]
        for _ in range(draw(st.integers(0, 4))):
            lines.append(f"-A {chain} {draw(st.sampled_from(MATCHES))} {draw(st.sampled_from(actions))}")
    policy = draw(st.sampled_from(["ACCEPT", "DROP"]))
    text = f"*filter\n:INPUT {policy} [0:0]\n:one - [0:0]\n:two - [0:0]\n" + "\n".join(lines) + "\nCOMMIT\n"
    return iptables.read([decode("dump", text.encode())], "test")


def packets(seed: int, count: int) -> list[Packet]:
    rnd = random.Random(seed)
    out = []
    for _ in range(count):
        protocol = rnd.choice([1, 6, 17, 47])
        ported = protocol in (6, 17)
        out.append(
            Packet(
                family=4,
                in_interface=rnd.choice(["eth0", "eth1", "ppp0"]),
                out_interface="",
                source=0x0A000000 + rnd.randrange(5),
                destination=0xC0000200 + rnd.randrange(3),
                protocol=protocol,
                sport=rnd.choice([53, 80, 4000]) if ported else None,
                dport=rnd.choice([22, 53, 80, 443]) if ported else None,
                icmp_type=rnd.choice([0, 8]) if protocol == 1 else None,
                icmp_code=0 if protocol == 1 else None,
                flags=rnd.choice([2, 16, 18]) if protocol == 6 else None,
                state=rnd.choice(tuple(State)),
            )
        )
    return out


@given(devices(), st.integers(0, 2**32))
def test_verdict_and_deciding_rule_are_those_of_a_plain_walk(device: Device, seed: int) -> None:
    program = Programs(device).get(4, Direction.TO_DEVICE)
    assert program is not None
    rulebase, chain = base_chain(device, "filter", "INPUT")
    decider = Decider(program)
    for packet in packets(seed, 12):
        expected = ends(rulebase, chain, packet)
        found = set()
        for end in decider.ends(packet.point(program.space)):
            step = program.steps[end.step]
            assert end.accepts == (step.kind is Kind.ACCEPT)
            found.add((step.action.value, step.chain.name, step.rule.number if step.rule else "policy"))
        assert found == expected, packet.sentence()


@given(devices())
def test_what_is_found_is_true_and_what_is_not_found_is_not_there(device: Device) -> None:
    program = Programs(device).get(4, Direction.TO_DEVICE)
    assert program is not None
    rulebase, chain = base_chain(device, "filter", "INPUT")
    decider = Decider(program)
    sample = packets(7, 60)
    verdicts = [{verdict for verdict, _, _ in ends(rulebase, chain, packet)} for packet in sample]
    for wanted, holds in (
        (surely_accepted, lambda v: v == {"accept"}),
        (surely_refused, lambda v: "accept" not in v),
        (maybe_accepted, lambda v: "accept" in v),
    ):
        proof = decider.find(EVERYTHING, wanted)
        if proof is None:
            assert not any(holds(v) for v in verdicts)
        else:
            assert holds({verdict for verdict, _, _ in ends(rulebase, chain, proof.packet)}), proof.packet.sentence()
        sources = decider.project(EVERYTHING, Axis.SRC, wanted)
        assert all(p.source in sources for p, v in zip(sample, verdicts, strict=True) if holds(v))
        for first, _ in sources.spans[:3]:
            narrowed = box([(Axis.SRC, IntervalSet.of(first))])
            assert decider.find(narrowed, wanted) is not None


def test_an_accept_in_an_early_table_leaves_the_decision_to_the_later_ones() -> None:
    text = (
        "*mangle\n:INPUT ACCEPT [0:0]\n-A INPUT -p tcp -m tcp --dport 22 -j ACCEPT\n-A INPUT -p tcp -j DROP\nCOMMIT\n"
        "*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -p tcp -m tcp --dport 22 -s 10.0.0.0/8 -j DROP\nCOMMIT\n"
    )
    program = Programs(iptables.read([decode("dump", text.encode())], "t")).get(4, Direction.TO_DEVICE)
    assert program is not None
    decider = Decider(program)
    tcp = [(Axis.PROTO, IntervalSet.of(6))]
    dropped = decider.project(box([*tcp, (Axis.B, IntervalSet.of(22))]), Axis.SRC, surely_refused)
    assert dropped == IntervalSet([(0x0A000000, 0x0AFFFFFF)])
    assert decider.find(box([*tcp, (Axis.B, IntervalSet.of(23))]), maybe_accepted) is None


EARLY = (
    "-p udp -m udp --dport 53 -j CT --notrack",
    "-i eth0 -p tcp -m tcp --dport 22 -j CT --notrack",
    "-s 10.0.0.0/31 -j CT --notrack",
    "-p tcp -j EARLY",
)
LEAVING = ("-s 10.0.0.2/31 -j ACCEPT", "-p udp -j RETURN")
ASKING = (
    "-m conntrack --ctstate UNTRACKED",
    "-p tcp -m tcp --dport 22 -m conntrack --ctstate NEW,UNTRACKED",
    "-m conntrack --ctstate NEW,ESTABLISHED",
    "-m conntrack ! --ctstate UNTRACKED",
    "-p udp",
)


@given(
    st.lists(st.sampled_from(EARLY + LEAVING), max_size=4),
    st.lists(st.tuples(st.sampled_from(ASKING), st.sampled_from(["ACCEPT", "DROP"])), max_size=4),
)
def test_rules_behind_see_what_was_left_untracked(early: list[str], rules: list[tuple[str, str]]) -> None:
    raw = "*raw\n:PREROUTING ACCEPT [0:0]\n:EARLY - [0:0]\n" + "".join(f"-A PREROUTING {one}\n" for one in early)
    raw += "-A EARLY -d 192.0.2.1/32 -j CT --notrack\nCOMMIT\n"
    device = filter_table("\n".join(f"-A INPUT {match} -j {target}" for match, target in rules), nat=raw)
    programs = Programs(device)
    program = programs.get(4, Direction.TO_DEVICE)
    assert program is not None
    decider, prober = Decider(program), Prober(programs)
    for source, port, protocol in product(range(4), (22, 53), ("tcp", "udp")):
        for entering, to in (("eth0", "192.0.2.1"), ("eth1", "192.0.2.2")):
            packet = read_sentence(f"{protocol} from 10.0.0.{source}:4000 to {to}:{port} entering {entering}").packet()
            assert packet is not None
            told = prober.probe(packet)
            accepts = {end.accepts for end in decider.ends(packet.point(program.space))}
            assert (told.verdict is Action.ACCEPT) in accepts, packet.sentence()
            if not set(early) & set(LEAVING):
                assert (len(accepts), told.certain) == (1, True), packet.sentence()

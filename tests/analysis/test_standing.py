"""Standings compared with brute force: every packet of a small universe, every way its walk can go."""

from __future__ import annotations

import itertools
from collections.abc import Iterator

import pytest
from hypothesis import given, settings
from msgspec.structs import replace

from aiguille.analysis.program import Programs
from aiguille.analysis.standing import Standing, StandingReport, hidden_rules, standings
from aiguille.model import Action, Chain, Device, Rule, Rulebase, State
from aiguille.packets import Packet
from tests.analysis.test_decide import CHAINS, MATCHES, devices
from tests.helpers import filter_table
from tests.oracle import base_chain, ends, matches

TERMINAL = (Action.ACCEPT, Action.DROP, Action.REJECT)


def universe() -> list[Packet]:
    """Packets that tell all of `MATCHES` apart."""
    transports = [
        *(
            (6, sport, dport, None, flags)
            for sport, dport, flags in itertools.product((80, 4000), (22, 80, 443), (2, 18))
        ),
        *((17, sport, dport, None, None) for sport, dport in itertools.product((53, 4000), (53, 80, 443))),
        *((1, None, None, kind, None) for kind in (0, 8)),
        (47, None, None, None, None),
    ]
    out = []
    for inward, source, destination, state in itertools.product(
        ("eth0", "eth1", "ppp0"), (0, 1, 2, 4), (0, 2), (State.NEW, State.ESTABLISHED, State.INVALID)
    ):
        for protocol, sport, dport, kind, flags in transports:
            out.append(
                Packet(
                    family=4, in_interface=inward, out_interface="", source=0x0A000000 + source,
                    destination=0xC0000200 + destination, protocol=protocol, sport=sport, dport=dport,
                    icmp_type=kind, icmp_code=None if kind is None else 0, flags=flags, state=state,
                )
            )  # fmt: skip
    return out


UNIVERSE = universe()


def stops(rulebase: Rulebase, chain: Chain, packet: Packet, target: Rule, at: int = 0) -> Iterator[Rule | str]:
    """Where walks surely stop, rules that only may match being passed over: a rule, "here" at the target, or "end"."""
    for number in range(at, len(chain.rules)):
        rule = chain.rules[number]
        matched = matches(rule, packet)
        if matched is False:
            continue
        if rule is target:
            yield "here"
            return
        if rule.action in TERMINAL and matched:
            yield rule
            return
        if rule.action is Action.RETURN:
            yield "end"
            if matched:
                return
        if rule.action in (Action.JUMP, Action.GOTO):
            called = rulebase.chain(rule.target or "")
            assert called is not None
            fell_out = matched is None
            for stop in stops(rulebase, called, packet, target):
                if stop != "end":
                    yield stop
                elif rule.action is Action.GOTO:
                    yield "end"
                else:
                    fell_out = True
            if not fell_out:
                return
    yield "end"


def may_match(rulebase: Rulebase, chain: Chain, packet: Packet, target: Rule) -> bool:
    """Whether a packet could match a rule if no rule above took it."""
    for rule in chain.rules:
        if matches(rule, packet) is False:
            continue
        if rule is target:
            return True
        if rule.action in (Action.JUMP, Action.GOTO):
            called = rulebase.chain(rule.target or "")
            assert called is not None
            if may_match(rulebase, called, packet, target):
                return True
    return False


def without(rulebase: Rulebase, target: Rule) -> Rulebase:
    chains = tuple(replace(c, rules=tuple(r for r in c.rules if r is not target)) for c in rulebase.chains)
    return replace(rulebase, chains=chains)


def verdicts(rulebase: Rulebase, packet: Packet) -> set[str]:
    chain = rulebase.chain("INPUT")
    assert chain is not None
    return {verdict for verdict, _, _ in ends(rulebase, chain, packet)}


def calls(rulebase: Rulebase, name: str) -> int:
    """How often a chain is entered if every jump is taken."""
    if name == "INPUT":
        return 1
    return sum(calls(rulebase, chain.name) for chain, rule in rulebase.rules() if rule.target == name)


@given(devices())
@settings(max_examples=60)
def test_standings_are_those_of_brute_force(device: Device) -> None:
    rulebase, chain = base_chain(device, "filter", "INPUT")
    reports = standings(Programs(device))
    found = {id(report.rule): report for report in reports}
    alone = [r for r in reports if r.witness is None and r.standing not in (Standing.PARTLY_HIDDEN, Standing.LIVE)]
    assert [*hidden_rules(Programs(device))] == alone
    for own_chain, rule in rulebase.rules():
        report = found[id(rule)]
        matching = [p for p in UNIVERSE if may_match(rulebase, chain, p, rule)]
        if not matching:
            assert report.standing is Standing.IMPOSSIBLE, (own_chain.name, rule.number)
            continue
        ways = {packet: set(stops(rulebase, chain, packet, rule)) for packet in matching}
        reached = [packet for packet, stopped in ways.items() if "here" in stopped]
        hidden = report.standing is Standing.SHADOWED or (
            report.standing is Standing.REDUNDANT and report.witness is None
        )
        assert hidden == (not reached), (own_chain.name, rule.number, report.standing)
        if report.witness is not None:
            assert "here" in set(stops(rulebase, chain, report.witness, rule))
            assert matches(rule, report.witness) is not False
        once = calls(rulebase, own_chain.name) == 1
        if not reached:
            if rule.action in TERMINAL and once:
                takers = {
                    s.action if isinstance(s, Rule) else chain.policy for stopped in ways.values() for s in stopped
                }
                others = takers - {rule.action}
                alike = [one for _, one in rulebase.rules() if one is not rule and one.action is rule.action]
                done = any(all(may_match(rulebase, chain, p, one) for p in matching) for one in alike)
                assert report.standing is (Standing.SHADOWED if others else Standing.REDUNDANT) or (
                    report.standing is Standing.REDUNDANT and done
                )
            if once and report.shortest:
                explain_checked(rulebase, chain, rule, report, matching)
            continue
        if rule.action in (*TERMINAL, Action.RETURN):
            less = without(rulebase, rule)
            changed = any(verdicts(rulebase, p) != verdicts(less, p) for p in UNIVERSE)
            # A universe of few packets may miss a difference that the exact answer sees, never the other way round.
            assert report.standing is not Standing.REDUNDANT or not changed, (own_chain.name, rule.number)
        if own_chain.name == "INPUT" and rule.action in TERMINAL:
            check_dispute(rulebase, chain, rule, report, matching)


def explain_checked(
    rulebase: Rulebase, chain: Chain, rule: Rule, report: StandingReport, matching: list[Packet]
) -> None:
    """The rules named cover the rule, and none of them can be left out."""
    named = [r for _, _, r in report.because if r is not None]
    assert named
    for skipped in [None, *named]:
        kept = [r for r in named if r is not skipped]
        covered = all(any(matches(r, p) is True and may_match(rulebase, chain, p, r) for r in kept) for p in matching)
        if skipped is None:
            assert covered
        elif covered:
            # Left out without a gap among the packets of this universe: then a packet outside it must need the rule.
            assert len(named) > 1


def check_dispute(rulebase: Rulebase, chain: Chain, rule: Rule, report: StandingReport, matching: list[Packet]) -> None:
    """Contradicted and partly hidden, for rules of the base chain against rules of the base chain."""
    if report.standing not in (Standing.LIVE, Standing.PARTLY_HIDDEN, Standing.CONTRADICTED):
        return
    judged = [p for p in matching if p.state is State.NEW] or matching
    above = [r for r in chain.rules[: rule.number - 1] if r.action in TERMINAL]
    overlapping = [r for r in above if any(matches(r, p) for p in judged)]
    against = [r for r in overlapping if (r.action is Action.ACCEPT) != (rule.action is Action.ACCEPT)]
    if against:
        assert report.standing is Standing.CONTRADICTED
    elif overlapping:
        assert report.standing is not Standing.LIVE


TABLE = [
    # rules, the rule asked about, standing, numbers of the rules named
    ("-A INPUT -s 10.0.0.0/8 -j DROP\n-A INPUT -s 10.1.0.0/16 -j ACCEPT", 2, "shadowed", [1]),
    ("-A INPUT -s 10.0.0.0/8 -j ACCEPT\n-A INPUT -s 10.1.0.0/16 -j ACCEPT", 2, "redundant", [1]),
    ("-A INPUT -s 10.0.0.0/9 -j ACCEPT\n-A INPUT -s 10.128.0.0/9 -j DROP\n-A INPUT -s 10.0.0.0/8 -j ACCEPT", 3, "shadowed", [1, 2]),
    ("-A INPUT -s 10.0.0.0/9 -j DROP\n-A INPUT -s 10.0.0.0/8 -j DROP\n-A INPUT -s 10.2.0.0/16 -j ACCEPT", 3, "shadowed", [1]),
    ("-A INPUT -p tcp -j ACCEPT\n-A INPUT -j ACCEPT", 1, "redundant", [2]),
    ("-A INPUT -p tcp -j DROP", 1, "redundant", []),
    ("-A INPUT -p tcp -j REJECT", 1, "live", []),
    ("-A INPUT -p tcp -j DROP\n-A INPUT -s 10.0.0.0/8 -j ACCEPT", 2, "contradicted", [1]),
    ("-A INPUT -p tcp -j ACCEPT\n-A INPUT -s 10.0.0.0/8 -j ACCEPT", 2, "partly hidden", [1]),
    ("-A INPUT -m state --state ESTABLISHED -j ACCEPT\n-A INPUT -m state --state INVALID -j DROP\n-A INPUT -p tcp -j ACCEPT",
     3, "live", []),
    ("-A INPUT -m limit --limit 1/sec -j DROP\n-A INPUT -p tcp -j ACCEPT", 2, "live", []),
    ("-A INPUT -m limit --limit 1/sec -j ACCEPT\n-A INPUT -j ACCEPT\n-A INPUT -m limit --limit 1/sec -j DROP", 3, "shadowed", [2]),
    ("-A INPUT ! -s 0.0.0.0/0 -j ACCEPT", 1, "impossible", []),
    ("-A lost -j ACCEPT", 1, "impossible", []),
    ("-A INPUT -j DROP\n-A INPUT -j LOG", 2, "shadowed", [1]),
    ("-A INPUT -s 10.0.0.0/8 -j lost\n-A INPUT -j DROP\n-A lost -s 11.0.0.0/8 -j ACCEPT", 3, "impossible", []),
]  # fmt: skip


@pytest.mark.parametrize(("rules", "number", "standing", "because"), TABLE, ids=range(len(TABLE)))
def test_standings_by_example(rules: str, number: int, standing: str, because: list[int]) -> None:
    device = filter_table(rules, chains=("lost",))
    report = standings(Programs(device))[number - 1]
    assert report.standing == standing
    assert [rule.number if rule else "policy" for _, _, rule in report.because] == because or because == []
    assert (report.witness is None) == (
        standing in ("shadowed", "impossible") or (standing == "redundant" and number > 1)
    )
    if standing == "impossible":
        assert report.why


def test_openness_counts_what_is_left_over() -> None:
    device = filter_table(
        "-A INPUT -s 10.0.0.0/25 -d 192.0.2.1/32 -p tcp -m tcp --sport 1000 --dport 22 -j DROP\n"
        "-A INPUT -s 10.0.0.0/24 -d 192.0.2.1/32 -p tcp -m tcp --sport 1000 --dport 22 -j ACCEPT\n"
        "-A INPUT -d 192.0.2.1/32 -s 10.0.0.9/32 -p icmp -j ACCEPT\n"
        "-A INPUT -d 192.0.2.1/32 -s 10.0.0.9/32 -p gre -j ACCEPT\n"
        "-A INPUT -d 192.0.2.1/32 -s 10.0.0.8/32 -p udp -m multiport --ports 53 -j ACCEPT"
    )
    sizes = [(report.openness.low, report.openness.high) for report in standings(Programs(device))]
    assert sizes == [(128, 128), (128, 128), (65536, 65536), (1, 1), (2 * 65536 - 1, 2 * 65536 - 1)]


def test_a_whole_list_of_matches_is_live_one_by_one() -> None:
    for match in MATCHES:
        (report,) = standings(Programs(filter_table(f"-A INPUT {match} -j ACCEPT", policies="DDD")))
        assert report.standing is Standing.LIVE, match
    assert CHAINS[0] == "INPUT"

"""nft rule sets, text and JSON: what statements mean, and what happens to exports that are not whole."""

from __future__ import annotations

import json

import pytest
from msgspec.structs import replace

from aiguille.analysis.program import Programs
from aiguille.analysis.walk.probe import Prober
from aiguille.model import Action, Device, HandOver, Hits, Log, Rule, SetMark, UnreadableError
from aiguille.packets import Packet, read_sentence
from aiguille.readers import nftables, recognise
from aiguille.readers.files import decode

HEAD = """table inet filter {
	set known { type ipv4_addr; flags interval; elements = { 203.0.113.0/24, 198.51.100.7 comment "bad" }; }
	set pairs { type ipv4_addr . inet_service; flags interval; elements = { 10.0.0.1 . 22, 10.1.0.0/24 . 80-90 }; }
	set seen { type ipv4_addr; flags dynamic,timeout; timeout 1h; }
	map doors { type inet_service : verdict; elements = { 25 : drop, 26 : accept, * : jump side }; }
	chain side { return; }
	chain input {
		type filter hook input priority filter; policy drop;
"""


def device(*rules: str, after: str = "") -> Device:
    text = HEAD + "".join(f"\t\t{rule}\n" for rule in rules) + "\t}\n}\n" + after
    return nftables.read([decode("rules.nft", text.encode())], "test")


def written(*rules: str) -> list[Rule]:
    found = device(*rules)
    assert not found.ledger.unread, found.ledger.unread
    chain = found.rulebases[0].chain("input")
    assert chain is not None
    return list(chain.rules)


def packet(text: str) -> Packet:
    found = read_sentence(text).packet()
    assert found is not None, text
    return found


TCP = "tcp from 192.0.2.9:40000 to 192.0.2.1:{port} entering eth0"
MATCHES = [
    ("tcp dport 22", TCP.format(port=22), TCP.format(port=23)),
    ("tcp dport { 22, 80-90 }", TCP.format(port=85), TCP.format(port=91)),
    ("tcp dport != 22", TCP.format(port=23), "udp from 192.0.2.9:5 to 192.0.2.1:23 entering eth0"),
    ("tcp dport >= 1024", TCP.format(port=1024), TCP.format(port=1023)),
    ("tcp dport ssh", TCP.format(port=22), TCP.format(port=23)),
    ("ip saddr 192.0.2.0/28", TCP.format(port=1), "tcp from 192.0.2.16:1 to 192.0.2.1:1 entering eth0"),
    ("ip saddr != 10.0.0.0/8", TCP.format(port=1), "tcp from [2001:db8::9]:1 to [2001:db8::1]:1 entering eth0"),
    ("ip saddr 192.0.2.5-192.0.2.9", TCP.format(port=1), "tcp from 192.0.2.10:1 to 192.0.2.1:1 entering eth0"),
    ("ip daddr & 255.255.255.3 == 192.0.2.1", TCP.format(port=1), "tcp from 192.0.2.9:1 to 192.0.2.2:1 entering eth0"),
    ("ip saddr @known", "tcp from 203.0.113.8:1 to 192.0.2.1:1 entering eth0", TCP.format(port=1)),
    ("ip saddr . tcp dport @pairs", "tcp from 10.1.0.7:1 to 192.0.2.1:85 entering eth0",
     "tcp from 10.1.0.7:1 to 192.0.2.1:91 entering eth0"),
    ("ip saddr . tcp dport { 192.0.2.9 . 22 }", TCP.format(port=22), TCP.format(port=23)),
    ('iifname "eth*"', TCP.format(port=1), "tcp from 192.0.2.9:1 to 192.0.2.1:1 entering wlan0"),
    ('iifname . meta l4proto { "eth0" . tcp }', TCP.format(port=1), "udp from 192.0.2.9:1 to 192.0.2.1:1 entering eth0"),
    ("tcp flags & (fin|syn|rst|ack) == syn", TCP.format(port=1), TCP.format(port=1) + " flags SYN,ACK"),
    ("tcp flags syn / fin,syn,rst,ack", TCP.format(port=1), TCP.format(port=1) + " flags SYN,ACK"),
    ("tcp flags syn,ack", TCP.format(port=1) + " flags ACK", TCP.format(port=1) + " flags FIN"),
    ("tcp flags == syn|ack", TCP.format(port=1) + " flags SYN,ACK", TCP.format(port=1)),
    ("ct state new,related", TCP.format(port=1), TCP.format(port=1) + " state established"),
    ("ct state != established,related", TCP.format(port=1) + " state established", ""),
    ("ct state ! established,related", TCP.format(port=1), TCP.format(port=1) + " state established"),
    ("icmp type echo-request", "icmp type 8 code 0 from 192.0.2.9 to 192.0.2.1 entering eth0",
     "icmp type 0 code 0 from 192.0.2.9 to 192.0.2.1 entering eth0"),
    ("icmpv6 type . icmpv6 code { destination-unreachable . no-route }",
     "icmpv6 type 1 code 0 from 2001:db8::9 to 2001:db8::1 entering eth0",
     "icmpv6 type 1 code 3 from 2001:db8::9 to 2001:db8::1 entering eth0"),
    ("meta nfproto ipv6", "tcp from [2001:db8::9]:1 to [2001:db8::1]:1 entering eth0", TCP.format(port=1)),
    ("meta l4proto { tcp, udp } th dport 53", TCP.format(port=53), TCP.format(port=54)),
    ("fib daddr type local", "tcp from 192.0.2.9:1 to 127.0.0.1:1 entering eth0", "tcp from 192.0.2.9:1 to 224.0.0.1:1 entering eth0"),
    ("tcp dport vmap { 22 : accept, 23 : drop }", TCP.format(port=22), TCP.format(port=23)),
    ("tcp dport vmap @doors", TCP.format(port=26), TCP.format(port=27)),
]  # fmt: skip


@pytest.mark.parametrize(("match", "inside", "outside"), MATCHES, ids=[m[0] for m in MATCHES])
def test_statements_match_as_the_manual_says(match: str, inside: str, outside: str) -> None:
    found = device(match if "vmap" in match else f"{match} accept")
    assert (found.ledger.unread, found.ledger.problems) == ((), ())
    prober = Prober(Programs(found))
    for sentence, wanted in ((inside, Action.ACCEPT), (outside, Action.DROP)):
        if sentence:
            verdict = prober.probe(packet(sentence))
            assert (verdict.verdict, verdict.certain) == (wanted, True), sentence


@pytest.mark.parametrize(
    ("statement", "name"),
    [
        ("limit rate over 5/minute burst 3 packets", "rate limit"),
        ("quota over 10 mbytes", "quota"),
        ("ct count over 5", "number of connections"),
        ("add @seen { ip saddr limit rate 3/second }", "rate limit"),
        ("meta skuid 1000", "local user"),
        ("meta pkttype broadcast", "link-layer type"),
        ("ether saddr 00:11:22:33:44:55", "hardware address"),
        ("fib saddr . iif oif missing", "reverse path"),
        ("ip frag-off & 0x1fff != 0", "IP header"),
        ("tcp option maxseg exists", "TCP option"),
        ("ct status assured", "connection detail"),
        ('meta hour "10:00"-"12:00"', "time of day"),
        ("numgen random mod 2 0", "random share"),
        ("@th,16,16 0x35", "payload"),
        ("no such words", "not understood"),
    ],
)
def test_what_a_packet_does_not_tell_makes_a_rule_doubtful(statement: str, name: str) -> None:
    found = device(f"tcp dport 22 {statement} accept")
    (rule,) = found.rulebases[0].chain("input").rules  # type: ignore[union-attr]
    assert [q.name for q in rule.qualifiers] == [name]
    assert rule.action is Action.ACCEPT
    assert bool(found.ledger.unread) == (name == "not understood")


XT = [
    ("xt match comment counter drop", (Action.DROP, [])),
    ("xt match string counter packets 0 bytes 0 drop", (Action.DROP, ["text in the packet"])),
    ("xt match gizmo accept", (Action.ACCEPT, ["extension gizmo"])),
    ("counter xt target REJECT", (Action.REJECT, [])),
    ("xt target LOG", (Action.CONTINUE, [])),
    ('xt target "TCPMSS"', (Action.CONTINUE, [])),
    ("xt target GIZMO", (Action.UNKNOWN, [])),
]


@pytest.mark.parametrize(("statement", "expected"), XT)
def test_extensions_of_which_only_the_name_is_shown(statement: str, expected: tuple[Action, list[str]]) -> None:
    *_, rule = written(statement)
    assert (rule.action, [qualifier.name for qualifier in rule.qualifiers]) == expected


def test_a_translation_that_is_not_understood_may_do_anything() -> None:
    found = device("tcp dport 80 dnat to ip saddr map @nowhere")
    unsure = [rule for base in found.rulebases for _, rule in base.rules() if rule.qualifiers]
    assert [rule.action for rule in unsure] == [Action.UNKNOWN]


def test_an_element_of_a_map_that_is_not_understood_makes_the_others_unsure() -> None:
    found = device("ct state vmap { invalid : drop, odd : accept, related : accept }")
    unsure = [rule for base in found.rulebases for _, rule in base.rules() if rule.qualifiers]
    assert [rule.action for rule in unsure] == [Action.DROP, Action.UNKNOWN, Action.ACCEPT]
    assert {qualifier.name for rule in unsure for qualifier in rule.qualifiers} == {"not understood"}
    assert "'odd'" in found.ledger.unread[0].why


@pytest.mark.parametrize(
    ("body", "bypass"),
    [(None, False), ({"num": 1}, False), ({"num": 1, "flags": "bypass"}, True), ({"flags": ["bypass", "fanout"]}, True),
     ("flags bypass,fanout to 1-3", True), (7, False)],
)  # fmt: skip
def test_what_is_handed_to_a_program_is_open_in_whatever_form(body: object, bypass: bool) -> None:
    rule = {"family": "inet", "table": "t", "chain": "c", "expr": [{"queue": body}]}
    chain = {
        "family": "inet",
        "table": "t",
        "name": "c",
        "type": "filter",
        "hook": "input",
        "prio": 0,
        "policy": "drop",
    }
    listing = {"nftables": [{"table": {"family": "inet", "name": "t"}}, {"chain": chain}, {"rule": rule}]}
    (made,) = [
        r
        for b in nftables.read([decode("q.json", json.dumps(listing).encode())], "q").rulebases
        for _, r in b.rules()
        if r.where
    ]
    assert (made.action, made.effects) == (Action.UNKNOWN, (HandOver(bypass),))


def test_statements_take_effect_in_their_order() -> None:
    logged, accepted = written('log prefix "seen: " tcp dport 22 counter packets 3 bytes 9 accept comment "why"')
    assert (logged.action, logged.effects, logged.match.conditions) == (Action.CONTINUE, (Log("seen: "),), ())
    assert (accepted.number, accepted.action, accepted.effects, accepted.comment) == (1, Action.ACCEPT, (), "why")
    assert accepted.hits == Hits(3, 9)
    (marked,) = written("meta mark set meta mark or 0x10")
    assert marked.effects == (SetMark(0x10, 0x10),)
    (early,) = written("counter packets 5 bytes 5 tcp dport 22 accept")
    assert early.hits is None  # it counts more than the rule's own packets


def test_what_no_chain_filters_is_let_through() -> None:
    prober = Prober(Programs(device("accept")))
    verdict = prober.probe(packet("tcp from 192.0.2.9:1 to 198.51.100.1:80 entering eth0 leaving eth1"))
    assert (verdict.verdict, verdict.decided_by.rulebase.name) == (Action.ACCEPT, "no table")


def test_tables_that_do_nothing_here_are_shown_and_set_aside() -> None:
    found = device(
        "accept",
        after="table bridge b {\n\tchain f {\n\t\ttype filter hook forward priority 0; policy drop;\n\t\tdrop\n\t}\n}\n"
        "table ip d {\n\tflags dormant\n\tchain i {\n\t\ttype filter hook input priority -1; policy drop;\n\t\tdrop\n\t}\n}\n",
    )
    assert {entry.why.split(":")[0] for entry in found.ledger.set_aside} == {"family bridge"}
    dormant = next(r for r in found.rulebases if r.name == "ip d")
    assert [rule.enabled for _, rule in dormant.rules()] == [False]
    assert Prober(Programs(found)).probe(packet(TCP.format(port=1))).verdict is Action.ACCEPT


JSON = [
    {"metainfo": {"version": "1.0.6", "json_schema_version": 1}},
    {"table": {"family": "ip", "name": "t", "handle": 1}},
    {
        "chain": {
            "family": "ip",
            "table": "t",
            "name": "i",
            "type": "filter",
            "hook": "input",
            "prio": 0,
            "policy": "drop",
        }
    },
    {"rule": {"family": "ip", "table": "t", "chain": "i", "expr": [{"accept": None}]}},
    {"surprise": {"family": "ip", "table": "t"}},
]


@pytest.mark.parametrize("indent", [None, 1])
def test_objects_of_json_have_their_places(indent: int | None) -> None:
    text = json.dumps({"nftables": JSON}, indent=indent)
    file = decode("rules.json", text.encode())
    assert recognise(file)[0].name == "nftables"
    found = nftables.read([file], "test")
    assert (found.ledger.lines, found.ledger.read, found.ledger.unread_lines) == (5, 4, 1)
    rule = found.rulebases[0].chains[0].rules[0]
    assert json.loads("\n".join(found.text(rule.where)).rstrip(",")) == JSON[3]
    assert str(rule.where).count(":") == (2 if indent is None else 1)


BAD = [
    ("truncated JSON", json.dumps({"nftables": JSON})[:-30], "breaks off"),
    ("broken JSON", '{"nftables": [{"table": {"family": "ip", "name" "t"}}]}', "not valid JSON"),
    ("cut text", HEAD + "\t\ttcp dport { 22, 80", "cut off"),
    ("open quote", HEAD + '\t\tlog prefix "x\n\t}\n}\n', "never closed"),
    ("no table", "#!/usr/sbin/nft -f\nflush ruleset\n", "no table"),
    (
        "circle",
        "table ip t {\n\tchain i { type filter hook input priority 0; jump a; }\n\tchain a { jump b; }\n\tchain b { jump a; }\n}\n",
        "circle",
    ),
]


@pytest.mark.parametrize(("name", "text", "says"), BAD, ids=[b[0] for b in BAD])
def test_exports_that_are_not_whole_are_refused(name: str, text: str, says: str) -> None:
    with pytest.raises(UnreadableError, match=says) as caught:
        nftables.read([decode("rules.nft", text.encode())], "test")
    assert str(caught.value).startswith("rules.nft:"), name


def test_names_that_nothing_defines() -> None:
    found = device("ip saddr @nobody accept", "jump nowhere", "tcp dport vmap @nomap")
    said = [entry.why for entry in (*found.ledger.problems, *found.ledger.unread)]
    assert [next(name for name in ("nobody", "nowhere", "nomap") if name in why) for why in said] == [
        "nobody", "nowhere", "nomap",
    ]  # fmt: skip
    verdict = Prober(Programs(found)).probe(packet(TCP.format(port=1)))
    assert not verdict.certain


def test_a_file_made_by_hand() -> None:
    text = (
        "#!/usr/sbin/nft -f\nflush ruleset\ndefine inner = { 10.0.0.0/8, 192.168.0.0/16 }\n"
        "add table ip t\nadd chain ip t i { type filter hook input priority 0; policy drop; }\n"
        "add rule ip t i ip saddr $inner tcp dport 22 accept\nadd rule ip t i drop\n"
    )
    found = nftables.read([decode("by-hand.nft", text.encode())], "test")
    assert not found.ledger.unread
    chain = found.rulebases[0].chains[0]
    assert [replace(r, match=chain.rules[1].match, where=chain.rules[1].where).action for r in chain.rules] == [
        Action.ACCEPT, Action.DROP,
    ]  # fmt: skip
    assert len(chain.rules[0].match.conditions[1].operands) == 2

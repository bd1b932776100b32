"""What each key of the dialect language does: a mapping, a piece of an export, the parts of the model that come of it."""

from __future__ import annotations

from typing import Any

import pytest
import yaml
from msgspec.structs import replace

from aiguille.analysis.objects import objects_of
from aiguille.analysis.program import Programs
from aiguille.analysis.walk.probe import Prober
from aiguille.model import Device, Span
from aiguille.packets import read_sentence
from aiguille.readers import mapped
from aiguille.readers.files import decode

HERE = Span("x", 1, 1)
BASE = """
dialect: trial
make: Trial box
language: 1
recognise: {first-lines: '^trial'}
structure: {family: text, block: {opens: "{", closes: "}"}, list: {opens: "[", closes: "]"}, pairs: "="}
words: {does: {ok: accept, nope: drop, go: jump, up: return, note: continue}, flag: {yea: true, nay: false}}
"""
RULES = """
rulebases:
  - name: all
    direction: through-device
    at: rule
    unmatched: {action: {is: drop}}
    rule: {action: {from: do, words: does, missing: accept}, name: "@1", %s}
"""


def read(mapping: str, text: str) -> Device:
    dialect = mapped.load("trial.dialect.yaml", yaml.safe_dump({**yaml.safe_load(BASE), **yaml.safe_load(mapping)}))
    return mapped.read(dialect, [decode("x", text.encode())], "")[0]


def rule(fields: str, text: str, **holds: Any) -> tuple[str, str, dict[str, Any]]:
    return RULES % fields, f"rule r {{ {text} }}", {"rules": [holds]}


CASES: dict[str, tuple[str, str, dict[str, Any]]] = {
    "a name and a literal": rule("source: of", "of [ 10.0.0.0/8 10.0.0.1-10.0.0.9 2001:db8::/32 ]",
        matches={"source": ["10.0.0.0/8", "10.0.0.1-10.0.0.9", "2001:db8::/32"]}),
    "address and mask joined": rule("source: {join: [a, m]}", "a 10.1.0.0\nm 255.255.0.0", matches={"source": ["10.1.0.0/16"]}),
    "address alone where a mask may follow": rule("source: {join: [a, m]}", "a 10.1.0.1", matches={"source": ["10.1.0.1"]}),
    "a range joined": rule('source: {join: [a, b], between: "-"}', "a 10.1.0.1\nb 10.1.0.9", matches={"source": ["10.1.0.1-10.1.0.9"]}),
    "a mask joined to no address": rule("source: {join: [a, m]}", "m 255.255.0.0", matches={}, qualifiers=["not understood"]),
    "one of several places joined alone": rule('service: {join: [".[@2=on]@3", ".[@3=on]@4"], between: ","}', "", matches={}, qualifiers=[]),
    "more words than are joined": rule('source: {join: [a, b], between: "/"}', "a 10.1.0.0 10.2.0.0\nb 16", matches={}, qualifiers=["not understood"]),
    "a quoted sign is a name": rule("source: \"'*'\"", "* 10.0.0.1\nb 10.0.0.2", matches={"source": ["10.0.0.1"]}),
    "a name over a line's end": rule("source: a", 'a "some\nhost"', matches={}, qualifiers=["not understood"]),
    "a word that must be there": rule('source: "a[@2]@1"', "a 10.0.0.1\na 10.0.0.2 x", matches={"source": ["10.0.0.2"]}),
    "a word that must not be there": rule('source: "a[!@2]@1"', "a 10.0.0.1", matches={"source": ["10.0.0.1"]}),
    "a new address in a list that filters": rule("to-address: t", "t 10.0.0.1", matches={}, qualifiers=["not understood"]),
    "a free-bit mask": rule("source: {from: a, wildcard: true}", "a 10.1.0.0/0.0.0.255", matches={"source": ["10.1.0.0/24"]}),
    "several in a word": rule('source: {from: a, split: ","}', "a 10.0.0.1,10.0.0.2", matches={"source": ["10.0.0.1", "10.0.0.2"]}),
    "several signs apart": rule('source: {from: a, split: [";", ","]}', "a 10.0.0.1,10.0.0.2;10.0.0.3",
        matches={"source": ["10.0.0.1", "10.0.0.2", "10.0.0.3"]}),
    "services with commas": rule("service: s", "s tcp/80,443,udp/53,443/tcp",
        matches={"service": ["tcp/80", "tcp/443", "udp/53", "tcp/443"]}),
    "cut out by a pattern": rule('source: {from: a, pattern: "<(.+)>"}', "a x<10.0.0.1>y", matches={"source": ["10.0.0.1"]}),
    "a pattern that does without its group": rule('source: {from: a, pattern: "^x(?:<(.+)>)?$"}', "a x x<10.0.0.1>", matches={"source": ["10.0.0.1"]}, qualifiers=[]),
    "the first place that is there": rule("source: {from: [a, b]}", "b 10.0.0.2", matches={"source": ["10.0.0.2"]}),
    "no restriction by a word": rule("source: {from: a, any: [all]}", "a all", matches={}),
    "no restriction by absence": rule("source: a", "", matches={}),
    "turned round by a word": rule('source: {from: a, negated-by: "not"}', "a not 10.0.0.1", matches={"not source": ["10.0.0.1"]}),
    "turned round by a sign": rule('source: {from: a, negated-by: "!"}', "a !10.0.0.1", matches={"not source": ["10.0.0.1"]}),
    "some turned round, each by itself": rule('source: {from: a, negated-by: "!", negated-each: true}', "a 10.0.0.0/8 !10.0.0.1 !10.0.0.2",
        matches={"source": ["10.0.0.0/8"], "not source": ["10.0.0.1", "10.0.0.2"]}, qualifiers=[]),
    "anything but some": rule('source: {from: a, negated-by: "!", negated-each: true, any: [all]}', "a all !10.0.0.1",
        matches={"not source": ["10.0.0.1"]}, qualifiers=[]),
    "anything turned round": rule('source: {from: a, negated-by: "!", negated-each: true, any: [all]}', "a 10.0.0.1 !all",
        matches={}, qualifiers=["not understood"]),
    "services but some": rule("service: {from: s, except: but}", "s tcp/1-1000\nbut tcp/22",
        matches={"service": ["tcp/1-1000"], "not service": ["tcp/22"]}, qualifiers=[]),
    "ports but some": rule("protocol: p, destination-ports: {from: d, except: but}", "p tcp\nd 1-1000\nbut 22",
        matches={"protocol": ["6"], "destination port": ["1-1000"], "not destination port": ["22"]}, qualifiers=[]),
    "an exception that is not understood": rule("destination-ports: {from: d, except: but}", "d 80\nbut odd",
        matches={"destination port": ["80"]}, qualifiers=["not understood"]),
    "was translated": rule("translated: {from: fwd, words: flag}", "fwd yea", matches={"destination translated": []}, qualifiers=[]),
    "was not translated": rule("translated: {from: fwd, words: flag}", "fwd nay", matches={"not destination translated": []}, qualifiers=[]),
    "perhaps translated": rule("translated: {from: fwd, words: flag}", "fwd maybe", matches={}, qualifiers=["not understood"]),
    "statements of two names in their order": (RULES.replace("at: rule", 'at: "allow|deny"').replace("from: do", 'from: "@0"').replace(
        "words: does", "words: verbs") % "source: of" + "words: {verbs: {allow: accept, deny: drop}}",
        "allow a { of 10.0.0.1 }\nnote { of 10.0.0.4 }\ndeny b { of 10.0.0.2 }\nallow c { of 10.0.0.3 }",
        {"rules": [{"name": "a", "action": "accept"}, {"action": "unknown"}, {"name": "b", "action": "drop"}, {"name": "c", "action": "accept"}]}),
    "ways in, several a statement and by several kinds of statement": (
        "management: {known: {shell: {protocol: tcp, port: 22}, web: {protocol: tcp, port: 443}, remote desktop: {protocol: tcp, port: 3389}},"
        " services: [{at: admit, name: by}, {at: door, name: '@1-', ports: port}]}",
        "admit { by [ shell web ] }\ndoor remote desktop { port 3390 }",
        {"management": [{"name": "shell"}, {"name": "web"}, {"name": "remote desktop", "terms": ["tcp/3390"]}]}),
    "hits counted since the device runs": ("device: {taken-at: now, running-for: {from: up, unit: days}}", "now 2026-11-30T08:00:00\nup 30",
        {"counters_since": "2026-10-31T08:00:00"}),
    "since when hits are counted where it is said": ("device: {taken-at: now, running-for: up, counters-since: since}",
        "now 2026-11-30\nup 90000\nsince 2026-11-01", {"counters_since": "2026-11-01"}),
    "hits counted since nobody knows": ("device: {taken-at: now, running-for: up}", "now lately\nup 90000", {"counters_since": None}),
    "turned round by a place": rule("source: {from: a, negated-if: n}", "a 10.0.0.1\nn yes", matches={"not source": ["10.0.0.1"]}),
    "not turned round": rule("source: {from: a, negated-if: n}", "a 10.0.0.1\nn no", matches={"source": ["10.0.0.1"]}),
    "interfaces and zones": rule("in-interface: i, out-interface: o, in-zone: z", "i e0\no e1\nz left",
        matches={"interface in": ["e0"], "interface out": ["e1"], "zone in": ["left"]}),
    "protocol with ports": rule("protocol: p, destination-ports: d, source-ports: s", "p tcp\nd [ 80 8000-8010 ]\ns 1024-65535",
        matches={"protocol": ["6"], "destination port": ["80", "8000-8010"], "source port": ["1024-65535"]}),
    "any protocol": rule("protocol: p", "p any", matches={}),
    "messages": rule("protocol: p, icmp: k", "p ipv6-icmp\nk [ echo-request 135 ]", matches={"protocol": ["58"], "ICMP type": ["128", "135"]}),
    "services in a word": rule("service: s", "s [ tcp/443 53/udp icmp/8 esp ]", matches={"service": ["tcp/443", "udp/53", "icmp 8", "esp"]}),
    "states by a table": rule("states: {from: s, words: st}", "s [ n ]", matches={"state": ["0"]}),
    "logged with a prefix": rule("logged: {from: l, words: flag}, log-prefix: x", "l yea\nx seen", logged=True),
    "switched off": rule("enabled: {from: l, words: flag, missing: true}", "l nay", enabled=False),
    "counted": rule("hits: h, last-hit: t", "h 12\nt 2026-01-02", hits=12, last_hit="2026-01-02"),
    "documented": rule("comment: c, requester: q, ticket: t, expires: e, created-by: cb, created-at: ca, changed-by: hb, changed-at: ha",
        "c why\nq who\nt T-1\ne 2026-12-31\ncb a\nca 2025\nhb b\nha 2026",
        comment="why", requester="who", ticket="T-1", expires="2026-12-31", created_by="a", created_at="2025", changed_by="b", changed_at="2026"),
    "not computed": rule("qualifiers: [{name: user, from: u, any: [all]}, {name: rate limit, from: r}]", "u all\nr 5/s", qualifiers=["rate limit"]),
    "dates": rule('expires: {from: e, date: "%d.%m.%Y"}', "e 31.12.2026", expires="2026-12-31"),
    "words of the statement": (RULES % 'comment: "@2-"', "rule r some words { do nope }", {"rules": [{"comment": "some words", "action": "drop"}]}),
    "looked up": (RULES % "source: {from: a, lookup: {in: thing, by: id, take: ip}}",
        "thing { id=7 ip=10.0.0.7 }\nrule r { a [ 7 10.0.0.1 ] }", {"rules": [{"matches": {"source": ["10.0.0.7", "10.0.0.1"]}}]}),
    "objects": (
        "addresses:\n - {at: net, name: '@1', members: is, excluded: but, comment: says}\n - {at: many, name: '@1', members: are, kind: group}\n"
        " - {at: land, name: '@1', members: is, kind: country}\n - {at: box, name: '@1', members: is, kind: hardware}\n",
        "net a { is 10.0.0.0/8\nbut 10.9.0.0/16\nsays big }\nmany g { are [ a 10.1.0.1 02:00:5e:10:00:01 ] }\nland l { is FR }\n"
        "box h { is 02:00:5e:10:00:02 }\nmany g { are [ 10.1.0.2 ] }",
        {"addresses": [
            {"name": "a", "members": ["10.0.0.0/8"], "excluded": ["10.9.0.0/16"], "comment": "big"},
            {"name": "g", "members": ["a", "10.1.0.1", "10.1.0.2"], "unresolved": ["02:00:5e:10:00:01"]},
            {"name": "l", "members": [], "countries": ["FR"], "unresolved": ["FR"]}, {"name": "h", "unresolved": ["02:00:5e:10:00:02"]},
        ]}),
    "services and groups": (
        "services:\n - {at: svc, name: '@1', protocol: p, destination-ports: d, source-ports: s, icmp: k}\n - {at: grp, name: '@1', members: are}\n",
        "svc w { p tcp\nd [ 80 443 ] }\nsvc n { d 53 }\nsvc e { p icmp\nk 8 }\nsvc f { p tcp\ns 20 }\ngrp g { are [ w n ] }",
        {"services": [
            {"name": "w", "members": ["tcp/80,443"]}, {"name": "n", "members": ["tcp/53", "udp/53"]}, {"name": "e", "members": ["icmp 8"]},
            {"name": "f", "members": ["tcp from 20"]}, {"name": "g", "members": ["w", "n"]},
        ]}),
    "interfaces and zones of them": (
        "interfaces: {at: port, name: '@1', addresses: ip, zone: in, enabled: {from: live, words: flag, missing: true}, services: answers}\n"
        "zones: [{at: area, name: '@1', side: {from: faces, words: faces}, interfaces: has, networks: nets}]\n"
        "words: {flag: {yea: true, nay: false}, faces: {out: outside}}\n",
        "port a { ip [ 10.0.0.1/24 2001:db8::1/64 ]\nin lan }\nport b { live nay\nanswers [ web ] }\narea lan { nets 10.8.0.0/16 }\narea wan { faces out\nhas b }",
        {"interfaces": [{"name": "a", "addresses": ["10.0.0.1", "2001:db8::1"], "networks": ["10.0.0.0/24", "2001:db8::/64"]},
                        {"name": "b", "enabled": False, "services": ["web"]}],
         "zones": [{"name": "lan", "side": None, "interfaces": ["a"]}, {"name": "wan", "side": "outside", "interfaces": ["b"]}]}),
    "settings, stated": (
        "device: {firmware: fw, flood-protection: {from: flood, words: flag}}\n"
        "management: {lockout-attempts: tries, lockout-seconds: for, idle-minutes: {from: idle, unit: minutes, never: [never]},"
        " password-length: len, redirects: {from: re, words: flag}, link-layer: {from: ll, words: flag}}\n"
        "logging: {device-days: keep, collectors: to, collector-days: there}\n",
        "fw 1.2\nflood nay\ntries 3\nfor 5m\nidle never\nlen 12\nre yea\nll nay\nkeep 2w\nto [ 10.0.0.1 10.0.0.2 ]\nthere 30",
        {"firmware": "1.2", "flood_protection": False, "lockout_attempts": 3, "lockout_seconds": 300, "idle_minutes": float("inf"),
         "password_length": 12, "redirects": True, "link_layer": False, "device_days": 14, "collector_days": 30,
         "collectors": ["10.0.0.1", "10.0.0.2"], "defaults": []}),
    "settings, by default or unknown": (
        "management: {lockout-attempts: {from: tries, missing: 5}, idle-minutes: {from: idle, missing: 600}, lockout-seconds: for}\n"
        "logging: {device-days: {from: keep, missing: 7}, collectors: {from: to, missing: nobody}}\n", "x y",
        {"lockout_attempts": 5, "idle_minutes": 10, "lockout_seconds": None, "device_days": 7, "collectors": [],
         "defaults": ["device_days", "idle_minutes", "lockout_attempts"]}),
    "no collector by a word": ("logging: {collectors: {from: to, any: [nobody]}}", "to nobody", {"collectors": []}),
    "accounts, portal, countries": (
        "management: {accounts: [{at: user, name: '@1', role: may, sources: {from: from, missing: any, any: [all]},"
        " second-factor: {from: mfa, words: flag, missing: false}, last-used: seen}]}\n"
        "portal: {at: gate, enabled: {from: live, words: flag}, sources: {from: from, missing: any}}\n"
        "addresses: [{at: net, name: '@1', members: is}]\n"
        "geo: [{at: geo, name: '@1', countries: lands, allows: {from: only, words: flag}, outward: {from: both, words: flag, missing: false}, exceptions: but}]\n",
        "net desk { is 10.0.5.0/29 }\nuser a { may all\nfrom [ desk 10.0.6.1 ]\nmfa yea\nseen 2026-01-01 }\nuser b { from all }\nuser c { }\n"
        "gate { live yea\nfrom 198.51.100.7 }\ngeo g { lands [ FR CH ]\nonly yea\nbut 203.0.113.9 }",
        {"accounts": [{"name": "a", "role": "all", "sources": ["10.0.5.0/29", "10.0.6.1"], "second_factor": True, "last_used": "2026-01-01"},
                      {"name": "b", "sources": [], "second_factor": False}, {"name": "c", "sources": []}],
         "portal_enabled": True, "portal_sources": ["198.51.100.7"],
         "geo_filters": [{"name": "g", "countries": ["FR", "CH"], "allows": True, "outward": False, "exceptions": ["203.0.113.9"]}]}),
    "chains and jumps": (
        "rulebases: [{name: all, at: rule, rule: {action: {from: do, words: does}, chain: in, target: to, name: '@1'},"
        " chains: [{name: a, direction: to-device, unmatched: {action: {is: accept}}}, {name: b, direction: from-device, unmatched: {action: {is: drop}}}]}]",
        "rule one { in=a do=go to=c }\nrule two { in=c do=up }\nrule three { in=a do=nope }",
        {"chains": [{"name": "a", "stage": "input", "policy": "accept"}, {"name": "b", "stage": "output", "policy": "drop"}, {"name": "c", "stage": None}],
         "rules": [{"chain": "a", "rule": 1, "target": "c"}, {"chain": "a", "rule": 2, "name": "three"}, {"chain": "c", "action": "return"}]}),
    "lists, their order, and rules nobody wrote": (
        "rulebases: [{name: all, direction: arriving, unmatched: {action: {from: rest, words: does, missing: drop}}, lists: ["
        "{at: '.', shares: true, rule: {action: {is: accept}, states: {is: [established]}, name: {is: replies}}},"
        "{at: rule, order: seat, rule: {action: {from: do, words: does}, name: '@1'}},"
        "{at: [pair, twin], shares: true, rule: {action: {from: else, words: does}, in-zone: of, out-zone: to}}]}]",
        "rule late { seat=20 do=nope }\nrule early { seat=3 do=ok }\npair { of=left to=right else=ok\nrule { } }\ntwin { of=a to=b else=nope }",
        {"rules": [{"name": "replies", "built_in": True}, {"name": "early", "rule": 2}, {"name": "late"},
                   {"action": "accept", "matches": {"zone in": ["left"], "zone out": ["right"]}, "qualifiers": []}, {"action": "drop"}],
         "chains": [{"stage": "prerouting", "policy": "drop", "default": True}]}),
}  # fmt: skip


@pytest.mark.parametrize("name", CASES)
def test_the_parts_that_come_of_a_mapping(name: str) -> None:
    mapping, text, holds = CASES[name]
    given = yaml.safe_load(mapping)
    given.setdefault("words", {**yaml.safe_load(BASE)["words"], "st": {"n": "new"}})
    parts = mapped.parts_of(read(yaml.safe_dump(given), text))
    assert list(mapped.trial.differences(holds, parts)) == []


@pytest.mark.parametrize(
    ("fields", "text", "why"),
    [
        ("source: {from: a, pattern: '^ip:(.+)$'}", "a 10.0.0.1", "does not look like"),
        ("source: {from: a, negated-by: '!'}", "a [ !10.0.0.1 10.0.0.2 ]", "only some of these are turned round"),
        ("source: {from: a, any: [all], negated-by: 'not'}", "a not all", "names nothing, or everything"),
        ("source: {from: a, negated-if: n}", "n yes", "names nothing, or everything"),
        ("protocol: p", "p tcpp", "not a protocol"),
        ("destination-ports: d", "d 70000", "not a port"),
        ("icmp: k", "k ping-pong", "not an ICMP type"),
        ("states: s", "s fresh", "no state of a connection"),
        ("service: s", "s tcp/http-ish", "not a port"),
        ("hits: h", "h lots", "not a whole number"),
        ("logged: l", "l perhaps", "not yes or no"),
        ("expires: {from: e, date: '%d.%m.%Y'}", "e tomorrow", "not a date"),
        ("comment: c", "c a\nodd b", "'odd' is not known in a rule"),
        ("comment: c", "c a {\nodd b\n}", "'odd' is not known in a rule"),
        ("comment: '@2'", "", ""),
    ],
)
def test_a_part_that_is_not_understood_makes_the_rule_doubtful(fields: str, text: str, why: str) -> None:
    device = read(RULES % fields, f"rule r {{\ndo nope\n{text}\n}}")
    ((_, found),) = device.rulebases[0].rules()
    assert bool(found.qualifiers) is bool(why)
    assert any(why in entry.why for entry in device.ledger.unread) is bool(why), device.ledger.unread
    pieces = Programs(device).resolver(4).rule(found)
    assert all(piece.sure for piece in pieces) is not bool(why)
    if why in ("not a port", "not a protocol", "does not look like"):
        # What the part could not say is open: any packet may be meant.
        assert any(all(values is None for values in piece.box) for piece in pieces)


GUARDED = """
interfaces: {at: port, name: '@1', addresses: ip, services: answers, zone: '@1'}
zones: {at: port, name: '@1'}
management:
  known: {web: {protocol: tcp, port: 443}, ping: {protocol: icmp, icmp: echo-request, managing: false}}
  services: {at: door, name: '@1', ports: port, sources: {from: from, missing: any}}
  accounts: {at: user, name: '@1', sources: {from: from, missing: any}}
"""
BOX = "port e0 { ip 192.0.2.1/24\nanswers [ web ping ] }\nport e1 { ip 10.0.0.1/24 }\ndoor web { port 8443%s }\nuser a { from 10.0.0.0/29 }\n"


@pytest.mark.parametrize(
    ("behaviour", "more", "packet", "verdict"),
    [
        ("{to-device: {action: drop, services-on-interfaces: true}}", "", "tcp from 10.9.9.9:9 to 192.0.2.1:8443 entering e0", "accept"),
        ("{to-device: {action: drop, services-on-interfaces: true}}", "", "tcp from 10.9.9.9:9 to 192.0.2.1:443 entering e0", "drop"),
        ("{to-device: {action: drop, services-on-interfaces: true}}", "", "tcp from 10.9.9.9:9 to 10.0.0.1:8443 entering e1", "drop"),
        ("{to-device: {action: reject, services-on-interfaces: true, sources-from-accounts: true}}", "",
         "tcp from 10.9.9.9:9 to 192.0.2.1:8443 entering e0", "reject"),
        ("{to-device: {action: drop, services-on-interfaces: true, sources-from-accounts: true}}", "",
         "tcp from 10.0.0.3:9 to 192.0.2.1:8443 entering e0", "accept"),
        ("{to-device: {action: drop, services-on-interfaces: true, sources-from-accounts: true}}", "",
         "icmp from 10.9.9.9 to 192.0.2.1 type 8 code 0 entering e0", "accept"),
        ("{to-device: {action: accept}, services-keep-sources: true}", "\nfrom 10.0.0.8/30",
         "tcp from 10.9.9.9:9 to 192.0.2.1:8443 entering e0", "drop"),
        ("{to-device: {action: accept}, services-keep-sources: true}", "\nfrom 10.0.0.8/30",
         "tcp from 10.0.0.9:9 to 192.0.2.1:8443 entering e0", "accept"),
        ("{to-device: {action: accept}, services-keep-sources: true}", "", "tcp from 10.9.9.9:9 to 192.0.2.1:8443 entering e0", "accept"),
        ("{from-device: drop}", "", "tcp from 192.0.2.1:9 to 10.9.9.9:80 leaving e0", "drop"),
    ],
)  # fmt: skip
def test_what_a_make_does_by_itself(behaviour: str, more: str, packet: str, verdict: str) -> None:
    device = read(f"{GUARDED}behaviour: {behaviour}\n", BOX % more)
    assert not device.ledger.unread
    asked = read_sentence(packet).packet()
    assert asked is not None
    found = Prober(Programs(device)).probe(asked)
    assert (found.verdict.value, found.certain) == (verdict, True)


@pytest.mark.parametrize(
    ("ours", "said"),
    [
        ("{from: %s}", ("80", "web", "8080")),
        ("{from: %s, words: ours}", ("front", "shop", "back")),
        ("{from: %s, words: ours}", ("front", "shop", "rear")),
    ],
)
def test_arriving_rules_and_port_forwards_decide_as_one(ours: str, said: tuple[str, str, str]) -> None:
    """With words of the make's own for ports and addresses too; one that its table lacks is told."""
    front, shop, back = said
    device = read(
        'words: {ours: {front: "80", shop: web, back: "8080"}}\n'
        "interfaces: {at: port, name: '@1', addresses: ip}\naddresses: [{at: host, name: '@1', members: is}]\n"
        "rulebases:\n"
        " - {name: in, direction: arriving, at: rule, unmatched: {action: {is: drop}},\n"
        "    rule: {action: {is: accept}, in-interface: by, destination: to, protocol: p, destination-ports: d}}\n"
        " - {name: forwards, direction: destination-translation, at: forward,\n"
        f"    rule: {{in-interface: by, destination: at, protocol: p, destination-ports: {ours % 'd'},\n"
        f"      to-address: {ours % 'to'}, to-ports: {ours % 'port'}}}}}\n",
        "port e0 { ip 192.0.2.1/24 }\nport e1 { ip 10.0.0.1/24 }\nhost web { is 10.0.0.7 }\n"
        "rule { by=e0 to=10.0.0.7 p=tcp d=8080 }\n"
        f"forward {{ by=e0 at=192.0.2.9 p=tcp d={front} to={shop} port={back} }}\n",
    )
    if back == "rear":
        assert "'rear' is not in the word table 'ours'" in device.ledger.unread[0].why
        return
    assert not device.ledger.unread
    prober = Prober(Programs(device))
    for words, verdict in (
        ("tcp from 198.51.100.7:9 to 192.0.2.9:80 entering e0 leaving e1", "accept"),
        ("tcp from 198.51.100.7:9 to 192.0.2.9:81 entering e0 leaving e1", "drop"),
        ("tcp from 10.0.0.9:9 to 10.0.0.7:8080 entering e1 leaving e0", "drop"),
    ):
        packet = read_sentence(words).packet()
        assert packet is not None
        assert prober.probe(packet).verdict.value == verdict, words


DEVICES = """
devices: {at: site, template: like, templates: /mould, by: "@1"}
device: {name: "@1", firmware: runs}
secrets: [key]
ignore: [{at: key, why: a key}]
rulebases:
  - name: all
    direction: through-device
    at: %s
    unmatched: {action: {is: drop}}
    rule: {action: {from: do, words: does}, name: "@1"}
"""
SITES = "mould m {\nruns 7\nkey hunter2\nrule a { do ok }\n}\nsite s {\nlike m\nruns 8\nrule b { do nope }\n}\nsite t { like m }\nsite u { key other }\n"


@pytest.mark.parametrize(
    ("at", "names"),
    [
        ("rule", {"s": ["b"], "t": ["a"], "u": []}),
        ("[rule, ^/rule]", {"s": ["b", "a"], "t": ["a", "a"], "u": []}),
        ("^/rule", {"s": ["a"], "t": ["a"], "u": []}),
        ("/site/rule", {"s": ["b"], "t": ["b"], "u": ["b"]}),
    ],
)
def test_devices_fall_back_on_their_template(at: str, names: dict[str, list[str]]) -> None:
    data = {**yaml.safe_load(BASE), **yaml.safe_load(DEVICES % at)}
    devices = mapped.read(mapped.load("t", yaml.safe_dump(data)), [decode("x", SITES.encode())], "")
    assert {d.name: [r.name for b in d.rulebases for _, r in b.rules()] for d in devices} == names
    assert [d.firmware.value if d.firmware.known else None for d in devices] == ["8", "7", None]
    for device in devices:
        told = "".join(
            line for number in range(1, 15) for line in device.text(replace(HERE, first=number, last=number))
        )
        assert "[secret]" in told
        assert "hunter2" not in told
        assert "other" not in told
        assert device.ledger.lines == device.ledger.read + device.ledger.known + device.ledger.unread_lines


def test_what_is_left_out_makes_nothing_narrower() -> None:
    """An object, a restriction or an interface of which a part is not understood is not taken for the rest of it."""
    device = read(
        "addresses: [{at: net, name: '@1', members: {from: is, pattern: '^ip:(.+)$'}}]\n"
        "services: [{at: svc, name: '@1', protocol: p, destination-ports: d}]\n"
        "interfaces: {at: port, name: '@1', addresses: ip}\n"
        "management: {accounts: {at: user, name: '@1', sources: from}}\n",
        "net a { is [ ip:10.0.0.1 10.0.0.2 ] }\nsvc s { p tcp\nd [ 80 many ] }\nport e { ip [ 192.0.2.1/24 dhcp ] }\n"
        "user u { from [ 10.0.0.0/29 home ] }\nuser v { from 10.0.0.0/29\nodd x }\n",
    )
    parts = mapped.parts_of(device)
    assert parts["addresses"][0]["members"] == ["10.0.0.1"]
    assert parts["addresses"][0]["unresolved"]
    assert not device.services[0].complete
    assert parts["interfaces"][0]["addresses"] == []
    assert [one["sources"] for one in parts["accounts"]] == [None, None]
    assert len(device.ledger.unread) == 5


def test_what_a_mapping_makes_up_is_no_object_of_the_export() -> None:
    mapping = (
        "addresses:\n - {at: net, name: '@1', members: is}\n - {at: lane, name: '@1', members: is, derived: true}\n"
    )
    device = read(mapping, "net a { is 10.0.0.0/24 }\nlane l { is 10.0.0.0/24 }\nlane a { is 10.0.1.0/24 }")
    assert [(one.name, one.derived) for one in device.addresses] == [("a", False), ("l", True)]
    assert [one.name for one in objects_of(device)] == ["a"]


def test_what_is_left_of_a_rules_own_line_may_be_a_condition_of_it() -> None:
    mapping = """structure: {family: text, numbered: rule, sentences: [{of: [rule], keywords: {via: {}, from: {}}}]}
rulebases: [{name: all, at: %s, direction: through-device, rule: {action: {is: accept}, name: "@1", %s}, unmatched: {action: {is: drop}}}]"""
    text = "10) via e0 from 10.0.0.1\n20) via e1\n"
    whole = read(mapping % ("rule", "in-interface: via, source: from"), text)
    assert [(r.name, r.qualifiers) for base in whole.rulebases for _, r in base.rules()] == [("10", ()), ("20", ())]
    mapping = mapping.replace("is: accept", "from: '@1', words: does")
    for line in ("10) via ok from 10.0.0.1", "10) never via ok"):
        part = read(mapping % ("rule/via", "in-zone: '@2'"), f"{line}\n20) via ok\n")
        (doubts, *_) = [rule.qualifiers for base in part.rulebases for _, rule in base.rules()]
        assert [doubt.name for doubt in doubts] == ["not understood"], line
    shared = mapping.replace(
        "at: %s, direction: through-device, rule:", "direction: through-device, lists: [{at: rule, shares: true, rule:"
    )
    shared = shared.replace("'@1', words", "via, words").replace("}, unmatched", "}}], unmatched")
    (chain,) = read(shared % "in-zone: '@9'", "1) via ok from x\n2) via ok\n").rulebases[0].chains
    assert chain.rules[0].qualifiers == (), "what else such a statement holds is no condition"

"""First dialects out of small samples of every family: what is recognised, what is guessed, what is left in doubt."""

from __future__ import annotations

from typing import Any

import pytest

from aiguille.readers import decode, mapped
from aiguille.readers.mapped.spec import (
    IniStructure,
    JsonStructure,
    SheetStructure,
    TextStructure,
    XmlStructure,
    YamlStructure,
)
from aiguille.readers.mapped.starting import start
from aiguille.readers.mapped.starting.content import split_sign
from aiguille.readers.mapped.starting.family import guess

YAML = """
box: yard
hosts:
  - {name: till, address: 10.0.0.7}
  - {name: office, address: 10.0.1.0/24}
rules:
  - name: pay
    source: office
    destination: till
    protocol: tcp
    port: 443
    decision: permit
    hits: 12
    enabled: true
  - {name: rest, source: any, decision: deny, enabled: false, until: 2026-12-31}
"""
INI = """# yard box
[host till]
address = 10.0.0.7
[rule pay]
src = 10.0.1.0/24
dst = till
proto = tcp
dport = 80, 443
action = accept
[rule rest]
src = any
action = drop
"""
PHRASES = """; yard box
define host till
  address 10.0.0.7
finish
begin rule pay
  from 10.0.1.0/24
  to till
  service tcp/443
  act allow
  log yes
finish
begin rule rest
  from 10.0.9.0/24
  act refuse
finish
"""
LINES = """// yard box
rule allow from=10.0.1.0/24 to=10.0.0.7 proto=tcp port=443 note="pay here"
rule deny from=10.0.9.0/24 to=10.0.0.8
rule jump from=10.0.9.0/24 to=10.0.0.8
"""
CHAINS = """lane step=1 in=arrive do=visit next=shop from=10.0.1.0/24
lane step=2 in=arrive do=drop from=10.0.9.0/24
lane step=3 in=shop do=accept from=10.0.1.7 state=new
lane step=4 in=output do=accept from=10.0.1.9
"""
NESTED = """gate outer {
    zone street;
    pass web { source 10.0.1.0/24, target 192.0.2.7, verdict accept };
    pass rest { source 10.0.2.0/24, verdict drop };
}
gate inner {
    zone yard;
    pass all { source 10.0.3.0/24, verdict accept };
}
"""
TABS = (
    "Name\tSource\tDestination\tPorts\tVerdict\tPassword\n"
    "pay\t10.0.1.0/24\t10.0.0.7\t443; 8443\tallow\tx\nrest\tany\tany\t\tdeny\ty\n"
)
XML = """<yard><rule on="no"><src>10.0.1.0/24</src><dst not="1">10.0.0.7</dst><do>block</do></rule>
<rule><src>10.0.2.0/24</src><do>allow</do></rule></yard>"""
JSON = """{"rules": [{"from": "10.0.1.0/24", "to": ["10.0.0.7", "10.0.0.8"], "then": "pass"},
{"from": "10.0.2.0/24", "then": "block"}]}"""

QUILL = """# Quillgate 4 -- full listing
iface up0 carries 203.0.113.2/30 in zone beyond
iface dn0 carries 10.7.0.1/24 in zone works
iface dn1 carries 10.8.0.1/24 in zone stores
set tills is 10.8.0.10, 10.8.0.11, 10.8.0.12
set stores-net is 10.8.0.0/24
set works-net is 10.7.0.0/24
set suppliers is 198.51.100.0/25 except 198.51.100.7
set everyone-here is works-net, stores-net
trade webby means tcp 80, 443
trade mail means tcp 25
rule 10: permit coming in dn0 going out up0 sender works-net service webby marked "browsing the web" counted 8812
rule 20: permit going out dn1 sender suppliers target tills service mail counted 2 logged
rule 30: deny sender any but not tills target 10.7.0.0/24
rule 40: permit service [webby mail] sender stores-net counted 17
rule 50: permit sender not works-net target tills service mail, webby
rule 60: deny logged counted 991
"""
VERBS = """; Orlop wall, shown in full
adapter ext is 192.0.2.1/29
adapter lan is 10.20.0.1/24
list printers 10.20.0.50 10.20.0.51
list branch 198.51.100.64/26
allow tcp from 10.20.0.0/24 to any port 80,443 on lan
allow tcp from branch to printers port 9100 on ext "branch prints"
deny from any to printers
allow udp from 10.20.0.0/24 to 203.0.113.53 port 53
deny from 203.0.113.66 to any on ext noted
"""
RUNNING = """%% Fenland lock, running words
door d1 on cable c0 address 203.0.113.6/30 faces town
door d2 on cable c1 address 10.9.0.1/24 faces yard
people clerks: 10.9.0.20 and 10.9.0.21
people cameras: 10.9.0.100-10.9.0.120
word 1 let clerks reach anything in town using web or ssl
     + because "clerks browse"
     + written down
word 2 let town reach cameras using tcp/554 except 203.0.113.99
word 3 forbid cameras reach anything in town written down
word 4 let anybody reach 10.9.0.20 using tcp/25 but not from 203.0.113.0/24
"""
RELAY = """== Tarn relay listing ==
port west has 203.0.113.18/28
port east has 10.30.0.1/16
port north has 10.31.0.1/16
name staff as 10.30.0.0/16
name archive as 10.31.4.4
name feeds as 198.51.100.20 198.51.100.21
when arriving west, from feeds to archive with tcp 873, let pass and note
when arriving east, from staff to anywhere with tcp 443, let pass
when arriving east, from staff to archive with udp 53, let pass
when arriving west, to archive, turn away and note
otherwise turn away
"""

FENCE = """# Bracken fence: what holds now
leg a addr 203.0.113.34/29
leg b addr 10.60.0.1/24
folk desk = 10.60.0.32/27
folk plc = 10.60.0.200
on leg a pass tcp from 198.51.100.8 to plc port 502 without log
on leg b pass tcp from desk to any port 443
on leg b pass udp from desk to 9.9.9.9 port 53
on leg a block ip from any to plc
on leg a block ip from any to desk with log
"""
NUMBERED = """// Sorrel list
12. office -> dmz : web-1 : https : ALLOW (log)
13. office -> street : any : https,dns : ALLOW
14. street -> dmz : web-1 : https : ALLOW
15. street -> office : any : any : DENY (log)
host web-1 10.2.0.8
zone office if eth1
zone dmz if eth2
zone street if eth0
"""
EXCEPTING = """{"box": "q", "groups": [
 {"name": "lab", "holds": ["10.0.0.0/24"], "without": ["10.0.0.9"]},
 {"name": "site", "holds": ["lab", "shop"]},
 {"name": "shop", "holds": ["10.1.0.0/24"]},
 {"name": "all-sites", "holds": ["site", "branches"]},
 {"name": "branches", "holds": ["203.0.113.0/26"]}],
 "policy": [
 {"label": "a", "source": "all-sites", "source_except": "10.1.0.4", "target": "203.0.113.9", "service": "tcp/443",
  "decision": "permit"},
 {"label": "b", "source": {"any_of": ["lab"], "but": ["10.0.0.8"]}, "target": "203.0.113.9", "service": "tcp/22", "decision": "permit"},
 {"label": "c", "source": "any", "target": "203.0.113.9", "decision": "deny"}]}
"""

CASES: dict[str, tuple[str, type, list[dict[str, Any]]]] = {
    "YAML": (YAML, YamlStructure, [
        {"name": "pay", "action": "accept", "hits": 12, "enabled": True, "qualifiers": [],
         "matches": {"source": ["office"], "destination": ["till"], "protocol": ["6"], "destination port": ["443"]}},
        {"name": "rest", "action": "drop", "enabled": False, "expires": "2026-12-31", "matches": {}},
    ]),
    "INI": (INI, IniStructure, [
        {"name": "pay", "action": "accept", "matches": {"destination": ["till"], "destination port": ["80", "443"]}},
        {"name": "rest", "action": "drop"},
    ]),
    "phrases": (PHRASES, TextStructure, [{"action": "accept", "logged": True}, {"action": "reject"}]),
    # "but not" and "not" never become their inverse; what was seen of neither stays open.
    "sentences": (QUILL, TextStructure, [
        {"name": "10", "action": "accept", "hits": 8812, "comment": "browsing the web", "qualifiers": [], "matches": {
            "interface in": ["dn0"], "interface out": ["up0"], "source": ["works-net"], "service": ["webby"]}},
        {"name": "20", "logged": True, "matches": {
            "interface out": ["dn1"], "source": ["suppliers"], "destination": ["tills"], "service": ["mail"]}},
        {"name": "30", "action": "drop", "qualifiers": [], "matches": {"not source": ["tills"], "destination": ["10.7.0.0/24"]}},
        {"name": "40", "matches": {"source": ["stores-net"], "service": ["webby", "mail"]}},
        {"name": "50", "matches": {"not source": ["works-net"], "destination": ["tills"], "service": ["mail", "webby"]}},
        {"name": "60", "action": "drop", "matches": {}, "logged": True, "hits": 991},
    ]),
    "sentences that begin with the verdict": (VERBS, TextStructure, [
        {"action": "accept", "matches": {"source": ["10.20.0.0/24"], "protocol": ["6"], "interface in": ["lan"]}},
        {"matches": {"source": ["branch"], "protocol": ["6"], "destination port": ["9100"], "interface in": ["ext", "branch prints"]}},
        {"action": "drop", "matches": {"destination": ["printers"]}},
        {"matches": {"destination": ["203.0.113.53"], "protocol": ["17"], "destination port": ["53"]}},
        {"action": "drop", "matches": {"source": ["203.0.113.66"], "interface in": ["ext"]}, "logged": True},
    ]),
    "sentences over several lines": (RUNNING, TextStructure, [
        {"comment": "clerks browse written down", "qualifiers": ["in", "using"], "matches": {"source": ["clerks"]}},
        {"action": "accept", "qualifiers": ["using", "except"], "matches": {"source": ["town"], "destination": ["cameras"]}},
        {"action": "drop", "qualifiers": ["in"], "matches": {"source": ["cameras"]}},
        {"action": "accept", "qualifiers": ["using", "but-not-from"], "matches": {"destination": ["10.9.0.20"]}},
    ]),
    "sentences that end with the verdict": (RELAY, TextStructure, [
        {"action": "accept", "logged": True, "matches": {"interface in": ["west"], "source": ["feeds"], "destination": ["archive"],
                                                         "protocol": ["6"], "destination port": ["873"]}},
        {"action": "accept", "matches": {"interface in": ["east"], "protocol": ["6"], "destination port": ["443"]}},
        {"action": "accept", "matches": {"destination": ["archive"], "protocol": ["17"], "destination port": ["53"]}},
        # Its verdict is in words nobody has seen before.
        {"action": "unknown", "logged": True, "matches": {"interface in": ["west"], "destination": ["archive", "turn", "away"]}},
    ]),
    "sentences with the verdict in the middle": (FENCE, TextStructure, [
        {"action": "accept", "qualifiers": ["without-log"], "matches": {
            "interface in": ["a"], "source": ["198.51.100.8"], "destination": ["plc"], "protocol": ["6"], "destination port": ["502"]}},
        {"action": "accept", "matches": {"interface in": ["b"], "source": ["desk"], "protocol": ["6"], "destination port": ["443"]}},
        {"action": "accept", "qualifiers": [], "logged": False},
        {"action": "drop", "matches": {"interface in": ["a"], "destination": ["plc"]}},
        {"action": "drop", "matches": {"interface in": ["a"], "destination": ["desk"]}, "logged": True},
    ]),
    # Whether the one address is source or destination, nothing shows.
    "a numbered list with signs between columns": (NUMBERED, TextStructure, [
        {"name": "12", "logged": True, "matches": {"zone in": ["office"], "zone out": ["dmz"]}, "qualifiers": ["word", "word"]},
        {"name": "13", "action": "accept"}, {"name": "14", "logged": False}, {"name": "15", "action": "drop", "logged": True},
    ]),
    "what is taken back is no record of it": (
        ("# box\nrule 1 permit from 10.0.1.1 to 10.0.2.1 log\nrule 2 permit from 10.0.1.2 to 10.0.2.2 no log\n"
         "rule 3 deny from 10.0.1.3 never log\n"),
        TextStructure, [{"logged": True, "qualifiers": []},
                        {"logged": False, "qualifiers": ["no-log"], "matches": {"destination": ["10.0.2.2"]}},
                        {"logged": False, "qualifiers": ["never-log"]}]),
    "a sign that may turn round stays a word": (
        "# box\nrule 1 permit ! 10.0.1.1 : 10.0.2.1\nrule 2 deny ! 10.0.1.2 : 10.0.2.2\n", TextStructure,
        [{"qualifiers": ["word", "word"]}, {"qualifiers": ["word", "word"]}]),
    "two addresses that only their places tell apart": (
        "# box\nway 1 pass 10.0.1.1 10.0.2.1\nway 2 block 10.0.1.2 10.0.2.2\n", TextStructure,
        [{"matches": {"source": ["10.0.1.1"], "destination": ["10.0.2.1"]}},
         {"matches": {"source": ["10.0.1.2"], "destination": ["10.0.2.2"]}}]),
    "a line a rule": (LINES, TextStructure, [
        {"action": "accept", "comment": "pay here",
         "matches": {"source": ["10.0.1.0/24"], "destination": ["10.0.0.7"], "destination port": ["443"]}},
        {"action": "drop"}, {"action": "jump"},
    ]),
    "chains": (CHAINS, TextStructure, [
        {"chain": "arrive", "action": "jump", "target": "shop"}, {"chain": "arrive", "action": "drop"},
        {"chain": "output", "action": "accept"}, {"chain": "shop", "action": "accept"},
    ]),
    "nested blocks": (NESTED, TextStructure, [
        {"name": "web", "qualifiers": ["the block it stands in"]}, {"name": "rest", "qualifiers": ["the block it stands in"]},
        {"name": "all", "qualifiers": ["the block it stands in"]},
    ]),
    "tabs": (TABS, SheetStructure, [
        {"name": "pay", "matches": {"source": ["10.0.1.0/24"], "destination": ["10.0.0.7"], "destination port": ["443", "8443"]}},
        {"name": "rest", "matches": {}, "action": "drop"},
    ]),
    "XML": (XML, XmlStructure, [{"action": "drop", "qualifiers": ["not"]}, {"action": "accept", "qualifiers": []}]),
    "exceptions, and groups of groups": (EXCEPTING, JsonStructure, [
        {"name": "a", "matches": {"source": ["all-sites"], "not source": ["10.1.0.4"], "service": ["tcp/443"]}},
        {"name": "b", "matches": {"source": ["lab"], "service": ["tcp/22"]}, "qualifiers": ["but"]},
        {"name": "c", "matches": {}, "action": "drop"},
    ]),
    "JSON": (JSON, JsonStructure, [{"action": "accept", "matches": {"destination": ["10.0.0.7", "10.0.0.8"]}}, {"action": "drop"}]),
}  # fmt: skip


@pytest.mark.parametrize("name", CASES)
def test_rules_are_found_by_what_stands_in_them(name: str) -> None:
    text, family, rules = CASES[name]
    made = start(decode("yard.txt", text.encode()))
    assert isinstance(made.dialect.structure, family)
    (device,) = mapped.read(made.dialect, [decode("yard.txt", text.encode())], "")
    assert list(mapped.trial.differences(rules, mapped.parts_of(device)["rules"])) == [], made.text
    assert {chain["policy"] for chain in mapped.parts_of(device)["chains"] if chain["stage"]} == {"unknown"}
    assert "rules found" in made.described()


def test_what_looks_secret_is_never_shown_and_odd_words_are_asked_about() -> None:
    text = TABS.replace("deny", "quarantine").replace("allow\t", "allow\t") + "more\t10.0.4.0/24\tany\t1\tallow\tz\n"
    made = start(decode("yard.tsv", text.encode()))
    assert "secrets: [rules/row/password]" in made.text
    assert "# what does 'quarantine' do?" in made.text
    (device,) = mapped.read(made.dialect, [decode("yard.tsv", text.encode())], "")
    assert device.secrets
    assert [rule.qualifiers for base in device.rulebases for _, rule in base.rules() if rule.name == "pay"] == [()]
    assert any("'quarantine' is not in the word table" in entry.why for entry in device.ledger.unread)
    assert [rule.action.value for base in device.rulebases for _, rule in base.rules()] == [
        "accept",
        "unknown",
        "accept",
    ]


@pytest.mark.parametrize(
    "text",
    [
        "Dear auditor,\nnothing here.\n",
        '{"a": 1}',
        "<a><b>text</b></a>",
        "a,b,c\n1,2,3\n4,5,6\n",
        "a: [1, 2]\nb: {c: d}\n",
    ],
)
def test_what_holds_no_rules_is_written_as_far_as_it_goes_and_said(text: str) -> None:
    made = start(decode("x", text.encode()))
    assert not made.dialect.rulebases
    assert "# rulebases:" in made.text
    assert "no statements look like rules" in made.described()


@pytest.mark.parametrize(
    ("text", "holds"),
    [
        ("## a\nx {\n  y 1\n}\nz {\n  y 2\n}\n", {"comments": ("##",), "indentation": False}),
        ("a\n  b\n  c\nd\n  e\n", {"indentation": True, "block": None}),
        ("== a ==\n== b ==\nx k=1 l=2\ny k=3 &\n  l=4\n", {"pairs": "=", "continuation": "&"}),
        ("a << x\ny\n>>\n'q r' s\n", {"quotes": ("'",)}),
    ],
)
def test_traits_of_text(text: str, holds: dict[str, Any]) -> None:
    structure = guess(decode("x", text.encode())).structure
    assert isinstance(structure, TextStructure)
    assert {key: getattr(structure, key) for key in holds} == holds


def test_the_sign_between_values_is_the_one_that_makes_them_readable() -> None:
    from aiguille.readers.mapped.starting.content import is_address, is_ports

    assert split_sign(["10.0.0.1, 10.0.0.2", "10.0.0.3"], is_address) == ","
    assert split_sign(["10.0.0.1; 10.0.0.2"], is_address) == ";"
    assert split_sign(["head office", "the till"], is_address) == ""
    assert split_sign(["80 443"], is_ports) == " "

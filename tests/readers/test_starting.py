"""First dialects out of small samples of every family: what is recognised, what is guessed, what is left in doubt."""

from __future__ import annotations

from typing import Any

import pytest

from aiguille.model import AiguilleError
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
def test_what_holds_no_rules_is_refused_in_a_sentence(text: str) -> None:
    with pytest.raises(AiguilleError, match="no statements look like rules"):
        start(decode("x", text.encode()))


@pytest.mark.parametrize(
    ("text", "holds"),
    [
        ("## a\nx {\n  y 1\n}\nz {\n  y 2\n}\n", {"comments": ("##",), "indentation": False}),
        ("a\n  b\n  c\nd\n  e\n", {"indentation": True, "block": None}),
        ("== a ==\nx k=1 l=2\ny k=3 &\n  l=4\n", {"pairs": "=", "continuation": "&"}),
        ("a << x\ny\n>>\n'q r' s\n", {"quotes": ("'",)}),
    ],
)
def test_traits_of_text(text: str, holds: dict[str, Any]) -> None:
    structure, _ = guess(decode("x", text.encode()))
    assert isinstance(structure, TextStructure)
    assert {key: getattr(structure, key) for key in holds} == holds


def test_the_sign_between_values_is_the_one_that_makes_them_readable() -> None:
    from aiguille.readers.mapped.starting.content import is_address, is_ports

    assert split_sign(["10.0.0.1, 10.0.0.2", "10.0.0.3"], is_address) == ","
    assert split_sign(["10.0.0.1; 10.0.0.2"], is_address) == ";"
    assert split_sign(["head office", "the till"], is_address) == ""
    assert split_sign(["80 443"], is_ports) == " "

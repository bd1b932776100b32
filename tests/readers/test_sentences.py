"""Rules that are sentences: their parts in any order, lists, continued lines, exceptions; decided as their writer meant."""

from __future__ import annotations

import random
from ipaddress import ip_address, ip_network

import pytest
from msgspec import Struct

from aiguille.model import Device, Field, Named, UnreadableError, UsageError
from aiguille.readers import mapped
from aiguille.readers.files import decode
from aiguille.readers.mapped.loading import load
from aiguille.readers.mapped.spec import Block, Keyword, Sentence, TextStructure
from tests.readers.test_firewall_files import deciders, verdicts
from tests.readers.test_structures import read as tree_of

HOLLIN = r"""
dialect: hollin
make: Hollin border box
language: 1
recognise: {first-lines: "^# Hollin border box"}
structure:
  family: text
  comments: ["#"]
  continues: "\\"
  list: {opens: "{", closes: "}"}
  sentences:
    - of: [let]
      fillers: [",", and]
      keywords:
        out-of: {said: [out of], takes: words}
        into: {takes: words}
        from: {takes: words}
        towards: {takes: words}
        from-but: {said: [but not from], takes: words}
        towards-but: {said: [but not towards], takes: words}
        for: {takes: words}
        remark: {takes: word}
        seen: {takes: word}
        noted: {takes: none}
        resting: {takes: none}
    - of: [port]
      keywords: {at: {takes: word}, side: {takes: word}}
    - of: [crowd, matter]
      fillers: [","]
      keywords: {holds: {said: ["="], takes: words}, over: {takes: word}, ports: {takes: words}}
words:
  verdict: {pass: accept, stop: drop, refuse: reject}
  side: {street: outside, offices: inside, plant: inside}
  said: {noted: true, resting: false}
interfaces: {at: port, name: "@1", addresses: at, zone: side}
zones: {at: port, name: side, interfaces: "@1", side: {from: side, words: side}}
addresses:
  - {at: crowd, name: "@1", members: holds, kind: group}
services:
  - {at: matter, name: "@1", protocol: over, destination-ports: ports}
rulebases:
  - name: lets
    at: let
    order: "@1"
    direction: through-device
    rule:
      action: {from: "@2", words: verdict}
      in-zone: {from: out-of, any: [anywhere]}
      out-zone: {from: into, any: [anywhere]}
      source: {from: from, any: [anyone], except: from-but}
      destination: {from: towards, any: [anyone], except: towards-but}
      service: {from: for, any: [anything]}
      comment: remark
      hits: seen
      logged: {from: noted, words: said, missing: false}
      enabled: {from: resting, words: said, missing: true}
    unmatched: {action: {is: drop}, logged: {is: false}}
"""
HEAD = """# Hollin border box, exported 2026-11-02
port w0 at 203.0.113.9/29 side street
port a0 at 10.8.1.1/24 side offices
port b0 at 10.8.2.1/24 side plant
crowd from-here = 10.8.1.50, 10.8.1.51
crowd shop = 10.8.2.20
crowd office-net = 10.8.1.0/24
matter web over tcp ports 80, 443
matter steering over tcp ports 502
"""
CROWDS = {
    "from-here": ["10.8.1.50", "10.8.1.51"],
    "shop": ["10.8.2.20"],
    "office-net": ["10.8.1.0/24"],
    "anyone": ["0.0.0.0/0"],
}
MATTERS = {"web": [("tcp", 80), ("tcp", 443)], "steering": [("tcp", 502)], "udp/53": [("udp", 53)], "anything": []}
PORTS = {"street": "w0", "offices": "a0", "plant": "b0"}


class Let(Struct):
    """A rule as its writer meant it."""

    number: int
    passes: bool
    resting: bool
    way_in: str
    sources: list[str]
    source_but: list[str]
    ends: list[str]
    end_but: list[str]
    matters: list[str]

    def text(self, chance: random.Random) -> str:
        def listed(words: list[str]) -> str:
            joined = chance.choice([", ", " and ", " "]).join(words)
            return f"{{ {joined} }}" if chance.random() < 0.5 else joined

        parts = [
            f"from {listed(self.sources)}" + (f" but not from {listed(self.source_but)}" if self.source_but else "")
        ]
        parts.append(
            f"towards {listed(self.ends)}" + (f" but not towards {listed(self.end_but)}" if self.end_but else "")
        )
        parts.append(f"for {listed(self.matters)}")
        parts += [f"out of {self.way_in}"] if self.way_in else []
        parts += ["resting"] if self.resting else []
        parts += ["noted"] if chance.random() < 0.3 else []
        parts += ['remark "for from, towards and out of"'] if chance.random() < 0.5 else []
        parts += [f"seen {chance.randrange(9)}"] if chance.random() < 0.5 else []
        chance.shuffle(parts)
        gap = chance.choice([" ", ", ", "\n   \\ "])
        return f"let {self.number} {'pass' if self.passes else 'stop'} {gap.join(parts)}"

    def takes(self, way_in: str, source: str, end: str, protocol: str, port: int) -> bool:
        def among(address: str, crowds: list[str]) -> bool:
            return any(ip_address(address) in ip_network(net) for crowd in crowds for net in CROWDS.get(crowd, [crowd]))

        return (
            not self.resting
            and self.way_in in ("", way_in)
            and among(source, self.sources) and not among(source, self.source_but)
            and among(end, self.ends) and not among(end, self.end_but)
            and any(not MATTERS[m] or (protocol, port) in MATTERS[m] for m in self.matters)
        )  # fmt: skip


def made(chance: random.Random, number: int) -> Let:
    few = [*list(CROWDS)[:3], "10.8.2.21"]
    return Let(
        number, chance.random() < 0.6, chance.random() < 0.1, chance.choice(["", *PORTS]),
        chance.choice([["anyone"], chance.sample(few, 2)]), chance.choice([[], chance.sample(few, 1)]),
        chance.choice([["anyone"], chance.sample(few, 2)]), chance.choice([[], chance.sample(few, 1)]),
        chance.choice([["anything"], chance.sample(list(MATTERS)[:3], chance.randint(1, 2))]),
    )  # fmt: skip


def hollin(text: str) -> Device:
    return mapped.read(load("hollin.dialect.yaml", HOLLIN), [decode("gate.txt", text.encode())], "gate")[0]


@pytest.mark.parametrize("seed", range(4))
def test_sentences_decide_as_they_were_meant(seed: int) -> None:
    chance = random.Random(seed)
    lets = [made(chance, 10 * n) for n in range(1, 9)]
    shown = [one.text(chance) for one in lets]
    chance.shuffle(shown)
    device = hollin(HEAD + "\n".join(shown) + "\n")
    assert not device.ledger.unread, [entry.why for entry in device.ledger.unread]
    packets, meant, rules = [], "", []
    for _ in range(60):
        zone = chance.choice(list(PORTS))
        source, end = chance.sample(["10.8.1.50", "10.8.1.51", "10.8.1.9", "10.8.2.20", "10.8.2.21", "198.51.100.7"], 2)
        protocol, port = chance.choice([("tcp", 80), ("tcp", 443), ("tcp", 502), ("udp", 53), ("tcp", 22)])
        out = chance.choice([name for name in PORTS.values() if name != PORTS[zone]])
        packets.append(f"{protocol} from {source}:40000 to {end}:{port} entering {PORTS[zone]} leaving {out}")
        taking = next((one for one in lets if one.takes(zone, source, end, protocol, port)), None)
        meant += "A" if taking is not None and taking.passes else "D"
        rules.append("" if taking is None else f"let {taking.number}")
    assert verdicts(device, *packets) == meant, shown
    assert [" ".join(line.split()[:2]) for line in deciders(device, *packets)] == rules, shown


def test_what_keywords_take() -> None:
    kinds = {
        "to": Keyword(takes="word"),
        "for": Keyword(),
        "all of it": Keyword(takes="rest"),
        "quiet": Keyword(takes="none"),
    }
    text = TextStructure(
        sentences=(Sentence(keywords=kinds, fillers=(",", "and")),), list=Block("{", "}"), quotes=('"',)
    )
    found = tree_of(text, 'say a for b, "for" and { to, c } to for quiet d for e all of it for to\n').children[0]
    assert [w.text for w in found.words] == ["a", "d"]
    assert [(c.name, [w.text for w in c.words]) for c in found.children] == [
        ("for", ["b", "for", "to", "c"]),
        ("to", ["for"]),
        ("quiet", ["quiet"]),
        ("for", ["e"]),
        ("all of it", ["for", "to"]),
    ]


@pytest.mark.parametrize(
    ("changed", "to", "said"),
    [
        (
            "resting: {takes: none}",
            "noted2: {said: [noted], takes: none}",
            "'noted' is keyword 'noted' and keyword 'noted2' at once",
        ),
        ("into: {takes: words}", 'into: {said: [" "], takes: words}', "keyword 'into' is said by nothing"),
        ('fillers: [",", and]', 'fillers: [",", for]', "'for' is a filler and keyword 'for' at once"),
        ("of: [port]", "of: [let]", "two sentences are for statements that begin with 'let'"),
        ("keywords: {at: {takes: word}, side: {takes: word}}", "keywords: {}", "a sentence needs 'keywords'"),
        ("takes: none", "takes: some", "takes"),
        (
            "source: {from: from, any",
            "source: {from: from, all-of: [from, towards], any",
            "exactly one of 'from', 'all-of'",
        ),
    ],
)
def test_a_grammar_that_is_no_good_is_refused_with_its_line(changed: str, to: str, said: str) -> None:
    with pytest.raises(UsageError) as caught:
        load("hollin.dialect.yaml", HOLLIN.replace(changed, to, 1))
    assert str(caught.value).startswith("hollin.dialect.yaml:")
    assert said in str(caught.value)


def test_several_places_count_together() -> None:
    text = HOLLIN.replace("source: {from: from,", "source: {all-of: [from, out-of],")
    dialect = load("hollin.dialect.yaml", text.replace("      in-zone: {from: out-of, any: [anywhere]}\n", ""))
    lines = HEAD + "let 10 pass from shop out of office-net for web\n"
    (device,) = mapped.read(dialect, [decode("gate.txt", lines.encode())], "")
    (rule,) = [rule for base in device.rulebases for _, rule in base.rules()]
    sources = [o for c in rule.match.conditions if c.field is Field.SOURCE for o in c.operands]
    assert [one.name for one in sources if isinstance(one, Named)] == ["shop", "office-net"]


def test_an_open_list_is_refused() -> None:
    with pytest.raises(UnreadableError, match="list opened in line 10 is not closed"):
        hollin(HEAD + "let 10 pass from { shop\n")

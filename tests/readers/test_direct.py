"""Rules read from decoded objects are those read from nodes, ledger and paths included."""

from __future__ import annotations

import json
import re
from typing import Any

import pytest
import yaml
from hypothesis import example, given
from hypothesis import strategies as st

from aiguille.model import Hits, Named, NameKind, Numbers
from aiguille.readers import mapped
from aiguille.readers.files import decode
from aiguille.readers.mapped import build, direct
from aiguille.readers.mapped.rule import MappedRuleReader

DIALECT = """
dialect: trial
make: Trial cloud
language: 1
recognise: {first-lines: '"trial"'}
structure: {family: json}
words:
  does: {ok: accept, nope: drop}
  flag: {"true": true, "false": false, "yes": true}
  proto: {t: tcp, u: udp}
  areas: {lan: inner}
  doors: {web: 80-81}
addresses:
  - {at: groups, name: called, members: hosts}
services:
  - {at: doors, name: called, destination-ports: ports}
schedules:
  - {at: hours, name: called, times: from}
rulebases:
  - name: all
    direction: through-device
    at: rules
    unmatched: {action: {is: drop}}
    rule:
      action: {from: do, words: does, missing: accept}
      name: label
      comment: note
      enabled: {from: "on", words: flag, missing: true}
      in-zone: {from: [from/zone, from/area], any: [all]}
      out-zone: {from: to/zone, words: areas}
      source: {from: [from/net, from/host], split: ","}
      destination: {from: to/net, negated-by: "!", negated-if: to/not}
      in-interface: {from: port, pattern: "^<(.+)>$"}
      service: {from: service, lookup: {in: kinds, by: number, take: called}}
      protocol: {from: proto, words: proto, any: [any]}
      destination-ports: {from: ports, split: ","}
      source-ports: {from: from/ports, words: doors}
      logged: {from: log, words: flag, missing: false}
      hits: met
      last-hit: last
      schedule: when
      ticket: papers/ticket
      created-by: papers/who
      qualifiers: [{name: user, from: user, any: [anyone]}]
ignore:
  - {at: trial, why: the head}
  - {at: kinds, why: numbers of services}
"""
TRIAL = mapped.load("trial.dialect.yaml", yaml.safe_dump(yaml.safe_load(DIALECT)))
REST = {
    "trial": 1,
    "groups": [{"called": "web", "hosts": ["10.0.0.1", "10.0.0.2"]}],
    "doors": [{"called": "doors", "ports": [80, "443"]}],
    "hours": [{"called": "night", "from": "22-6"}],
    "kinds": [{"number": 7, "called": "doors"}],
}


def read_both(text: str) -> tuple[build.Reading, build.Reading, int]:
    """What comes of it with rules read directly and from nodes, and how many rules were left to their nodes the first time."""
    nodes = 0
    once = MappedRuleReader.rule

    def counted(self: MappedRuleReader, number: int, direction: str) -> Any:
        nonlocal nodes
        nodes += 1
        return once(self, number, direction)

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(MappedRuleReader, "rule", counted)
        quick = build.examine(TRIAL, [decode("x", text.encode())])
        left = nodes
        patch.setattr(direct.DirectReader, "read", lambda _, nodes: [None] * len(nodes))
        return quick, build.examine(TRIAL, [decode("x", text.encode())]), left


def laid_out(rules: Any, shape: str) -> str:
    """The export in one of several layouts."""
    data = {**REST, "rules": rules}
    if shape == "line":
        return json.dumps(data)
    text = json.dumps(data, indent={"spread": 1, "wide": 7}.get(shape, 2), ensure_ascii=shape == "wide")
    if shape == "dropped":  # brackets of arrays on lines of their own, and closing ones together
        return re.sub(r"\]\s*\}", "] }", re.sub(r": \[", ":\n  [", text))
    if shape == "joined":  # what follows an array begins on the line it ends on
        return re.sub(r"\],\s*", "], ", text)
    return text


SCALARS = st.sampled_from(
    ("ok", "nope", "maybe", "web", "10.0.0.0/8", "10.0.0.1", "10.0.0.9,10.0.0.7", "!10.1.0.0/16", "!", "300.1.1.1", "all", "lan",
     "<eth0>", "eth0", "doors", "7", "t", "any", "tcp", "80", "80-90", "x", "", "true", "false", "yes", "no", "night", "anyone",
     "größer", 'a "b" {[,:]}', True, False, None, 7, 80, 0, 12.5, 10**400)
)  # fmt: skip
VALUES = SCALARS | st.lists(SCALARS, max_size=3)
PLACES = {
    "from": ("zone", "area", "net", "host", "ports"), "to": ("net", "not", "zone"), "papers": ("ticket", "who"),
    **dict.fromkeys(("do", "label", "note", "on", "port", "service", "proto", "ports", "log", "met", "last", "when", "user"), ()),
    "odd": (),
}  # fmt: skip


@st.composite
def rules(draw: st.DrawFn) -> dict[str, Any]:
    out: dict[str, Any] = {}
    for name in draw(st.lists(st.sampled_from(sorted(PLACES)), max_size=6, unique=True)):
        inner = PLACES[name]
        out[name] = (
            draw(st.dictionaries(st.sampled_from((*inner, "odd")), VALUES, max_size=2)) if inner else draw(VALUES)
        )
    if draw(st.booleans()):
        out["from"] = [out.get("from", {}), {"zone": "lan"}]
    return out


LAYOUTS = ("", "line", "spread", "wide", "dropped", "joined")
EMPTY: dict[str, Any] = {"from": {"zone": {}}}
PLAIN = {
    "label": "r",
    "do": "ok",
    "from": {"zone": "lan", "net": "10.0.0.1"},
    "ports": ["80", "90-99"],
    "met": 5,
    "log": True,
}


@given(st.lists(rules(), max_size=5), st.sampled_from(LAYOUTS))
@example([PLAIN, {**PLAIN, "to": {"net": ["!10.0.0.0/8"], "not": False}}, {**PLAIN, "when": "night", "user": "me"}], "")
@example([{**PLAIN, "from": {"zone": ["lan"], "net": ["10.0.0.1"], "ports": ["web"]}, "to": {"zone": "lan"}}], "joined")
@example([{**PLAIN, "to": {"zone": "wan"}}, {**PLAIN, "from": {"ports": ["web", "ftp"]}}], "")
@example([{**PLAIN, "ports": [], "note": None}, {"from": [[1]]}, {**PLAIN, "met": 0, "odd": [{}]}], "dropped")
def test_rules_read_directly_are_those_read_from_nodes(found: list[dict[str, Any]], shape: str) -> None:
    quick, slow, _ = read_both(laid_out(found, shape))
    assert quick == slow


def test_rules_that_look_alike_need_no_nodes(monkeypatch: pytest.MonkeyPatch) -> None:
    alike = [{**PLAIN, "label": f"r{n}", "from": {"zone": "lan", "net": f"10.0.{n}.1"}, "met": n} for n in range(40)]
    plans = {
        **PLAIN,
        "to": {"net": "!web", "not": "yes"},
        "service": 7,
        "when": "night",
        "papers": {"who": "n", "ticket": 4},
    }
    for shape in LAYOUTS:
        if shape == "line":  # where places need columns, nodes have them
            continue
        quick, _, left = read_both(laid_out(alike, shape))
        assert (quick.devices[0].ledger.unread, left) == ((), 0)
    for kept in (0, 3, 1000):
        monkeypatch.setattr(direct, "FORMS", kept)
        monkeypatch.setattr(direct, "KEPT", kept)
        monkeypatch.setattr(direct, "BATCH", kept or 7)
        quick, slow, left = read_both(laid_out([*alike, plans, plans], ""))
        assert quick == slow
        assert left == 0
    # What nobody reads, and what is not understood, is for the nodes to tell with its lines.
    for wrong in (
        {"odd": 1},
        {"do": "maybe"},
        {"met": "many"},
        EMPTY,
        {"from": {"net": "10.0.0.1", "odd": 2}},
    ):
        quick, slow, left = read_both(laid_out([*alike, {**PLAIN, **wrong}], ""))
        assert quick == slow
        assert left == 1
        assert quick.devices[0].ledger.unread or wrong == EMPTY


def test_names_that_repeat_are_all_read_and_words_are_translated() -> None:
    first = json.dumps(
        {**PLAIN, "met": 2**53 + 1, "from": {"net": "10.0.0.1", "ports": ["web"]}, "to": {"zone": "lan"}}, indent=1
    )
    again = first.replace('"do": "ok"', '"note": "a", "note": "b",\n "do": "ok"').replace(
        '"net":', '"host": "10.0.0.7", "host":'
    )
    tail = '"trial": 1, "rules": [], "rules": [' + first + ",\n" + again + "]"
    for text in ("{" + tail + "}", '{"rules": [' + again + "],\n" + tail + "}"):
        quick, slow, left = read_both(text)
        assert quick == slow
        assert left == text.count('"note": "b"')
        rules = [rule for _, rule in quick.devices[0].rulebases[0].rules()]
        fields = [{c.field.value: c.operands for c in rule.match.conditions} for rule in rules]
        assert [rule.comment for rule in rules[-2:]] == ["", "a b"]
        assert rules[-1].hits == rules[-2].hits == Hits(2**53 + 1)
        assert [len(found["source"]) for found in fields[-2:]] == [1, 2]
        assert fields[-1]["zone out"] == (Named(NameKind.ZONE, "inner"),)
        assert fields[-1]["source port"] == (Numbers(80, 81),)

"""The engine on a made-up dialect that only this test knows: other marks, other words, another shape of rules."""

from __future__ import annotations

import math

import pytest

from aiguille.analysis.program import Programs
from aiguille.analysis.standing import standings
from aiguille.analysis.walk.probe import Prober
from aiguille.model import Action, Device, NotUnderstoodError, UsageError
from aiguille.packets import read_sentence
from aiguille.readers import mapped
from aiguille.readers.files import decode
from aiguille.readers.mapped.paths import read_path
from aiguille.readers.mapped.structure import parse
from aiguille.readers.mapped.values import read_count, read_flag, read_seconds

DIALECT = """
dialect: pebble
make: Pebble box
language: 1
recognise: {first-lines: '^% pebble'}
structure:
  family: text
  comments: ["%", "note:"]
  quotes: ["'", '"']
  block: {opens: "(", closes: ")"}
  separator: ";"
words:
  does: {pass: accept, stop: drop, say-no: reject}
  state: {"1": true, "0": false}
device: {name: box/title}
interfaces: {at: box/plug, name: "@1", addresses: "@2", zone: side}
zones: {at: box/side, name: "@1"}
rulebases:
  - name: gate
    direction: to-device
    at: "**/line"
    rule:
      action: {from: "@1", words: does}
      name: "@2"
      source: {from: who, any: [all]}
      enabled: {from: lit, words: state, missing: true}
    unmatched: {action: {from: box/else, words: does, missing: accept}}
management:
  lockout-attempts: {from: box/tries, never: [endless]}
  idle-minutes: box/idle
behaviour: {from-device: drop}
ignore:
  - {at: box/colour, why: paint}
"""

EXPORT = """% pebble box, saved
box (
  title 'Box "7"' ; colour red ; tries endless ; idle 90s
  plug p0 192.0.2.1/24 ( side wide )
  side wide ( )
  group a (
    line stop first ( who 10.0.0.0/8 )          note: trailing
    group b ( line pass second ( who 10.1.0.0/16 ) )
  )
  line say-no third ( who 10.2.0.1-10.2.0.9 ; lit 0 )
  else stop
)
"""


def read(export: str) -> Device:
    return mapped.read(mapped.load("pebble.dialect.yaml", DIALECT), [decode("export", export.encode())], "")[0]


def test_everything_is_read() -> None:
    device = read(EXPORT)
    assert device.name == 'Box "7"'
    assert not device.ledger.problems
    assert [entry.why for entry in device.ledger.unread if "group" not in entry.why] == []
    rules = [rule for rulebase in device.rulebases for _, rule in rulebase.rules()]
    assert [(r.name, r.action, r.enabled) for r in rules] == [
        ("first", Action.DROP, True),
        ("second", Action.ACCEPT, True),
        ("third", Action.REJECT, False),
    ]
    assert math.isinf(device.administration.lockout_attempts.value)
    assert device.administration.idle_minutes.value == 1.5
    assert [report.standing.value for report in standings(Programs(device))] == ["live", "shadowed", "off"]
    packet = read_sentence("tcp from 10.1.2.3:5 to 192.0.2.1:22 entering p0").packet()
    assert packet is not None
    assert Prober(Programs(device)).probe(packet).decided_by.rule is rules[0]


def test_the_make_says_what_the_export_leaves_out() -> None:
    (gate, own) = read("% pebble\nbox ( title x )\n").rulebases
    assert (gate.chains[0].policy, gate.chains[0].policy_is_default) == (Action.ACCEPT, True)
    assert (own.chains[0].policy, own.chains[0].policy_is_default) == (Action.DROP, True)


def test_words_that_yaml_takes_for_truth_values_are_explained() -> None:
    with pytest.raises(UsageError, match="unless they stand in quotes"):
        mapped.load("d", DIALECT.replace("  state: {", "  on: {"))


def test_paths() -> None:
    device = mapped.load("d", DIALECT)
    file = decode("export", EXPORT.encode())
    root = parse([file], device.structure).root
    names = {
        path: [node.words[1].text for node in read_path(path).nodes(root)]
        for path in ("**/line", "box/line", "box/*/line")
    }
    assert names == {"**/line": ["first", "second", "third"], "box/line": ["third"], "box/*/line": ["first"]}
    assert [node.name for node in read_path("*/*").nodes(root)].count("group") == 1


@pytest.mark.parametrize(
    ("read_value", "good", "bad"),
    [
        (
            read_seconds,
            {"90": 90, "90s": 90, "15m": 900, "2h": 7200, "7d": 604800, "1.5 minutes": 90},
            ["", "x", "5y", "-1", "m"],
        ),
        (read_count, {"3": 3, "0": 0}, ["three", "-1", "3.5", ""]),
    ],
)
def test_values(read_value: object, good: dict[str, float], bad: list[str]) -> None:
    assert {text: read_value(text) for text in good} == good  # type: ignore[operator]
    for text in bad:
        with pytest.raises(NotUnderstoodError):
            read_value(text)  # type: ignore[operator]
    assert read_flag(True) is True
    with pytest.raises(NotUnderstoodError):
        read_flag("yes")

"""The dialect engine: structure, mapping, what is left over, and dialect files that are wrong."""

from __future__ import annotations

from importlib import resources

import pytest

from aiguille.model import Action, Device, Field, Known, UnreadableError, UsageError
from aiguille.readers import mapped
from tests.helpers import veskara

VESKARA = (resources.files("aiguille.dialects") / "veskara.dialect.yaml").read_text()


def rules(device: Device) -> list[object]:
    return [rule for rulebase in device.rulebases if rulebase.name == "passages" for _, rule in rulebase.rules()]


def test_a_whole_rule() -> None:
    device = veskara(
        "area in { faces inside }\nplace host { is 10.0.0.1 }\nplaces all { are [ host\n 10.1.0.0/16 ] }\n"
        "talk web { over tcp, to-port [ 80 8000-8080 ] }\n"
        'passages { passage "a, \\"b\\" {" {\n says "why { not"\n out-of in\n sender all ~~ trailing remark\n talking web\n'
        " then answer-no\n note yes\n met 12\n ticket VL-1\n live no } }"
    )
    assert not device.ledger.unread
    assert not device.ledger.problems
    (rule,) = rules(device)
    assert (rule.name, rule.comment, rule.action, rule.enabled) == ('a, "b" {', "why { not", Action.REJECT, False)
    assert rule.logs
    assert rule.hits.packets == 12
    assert rule.documentation.ticket == "VL-1"
    assert [c.field for c in rule.match.conditions] == [Field.IN_ZONE, Field.SOURCE, Field.SERVICE]
    assert not rule.qualifiers
    assert (rule.where.first, rule.where.last) == (7, 16)


@pytest.mark.parametrize(
    ("inside", "why"),
    [
        ("then let\n mystery 7", "'mystery' is not known in a rule"),
        ("then let away", "'away' is more than the dialect reads of 'then'"),
        ("then perhaps", "'perhaps' is not in the word table 'verdict'"),
        ("note yes", "does not say what to do"),
    ],
)
def test_a_rule_read_in_part_may_match(inside: str, why: str) -> None:
    device = veskara(f'passages {{ passage "x" {{\n {inside}\n}} }}')
    assert any(why in entry.why for entry in device.ledger.unread), device.ledger.unread
    (rule,) = rules(device)
    assert rule.qualifiers or rule.action is Action.UNKNOWN
    ledger = device.ledger
    assert ledger.lines == ledger.read + ledger.known + ledger.unread_lines


@pytest.mark.parametrize(
    ("body", "why"),
    [
        ('passages { passage "x" {\n out-of moon\n then let } }', "zone 'moon'"),
        ('passages { passage "x" {\n sender moon\n then let } }', "address object 'moon'"),
        ('passages { passage "x" {\n talking moon\n then let } }', "service 'moon'"),
        (
            "places a { are [ b ] }\nplaces b { are [ c ] }\nplaces c { are [ a ] }",
            "contains itself (a -> b -> c -> a)",
        ),
        ("talks a { are [ a ] }", "contains itself (a -> a)"),
        ("socket s { in moon }", "zone 'moon'"),
    ],
)
def test_names_that_nothing_defines_and_circles_are_problems(body: str, why: str) -> None:
    device = veskara(body)
    assert [why in entry.why for entry in device.ledger.problems] == [True], device.ledger.problems


@pytest.mark.parametrize(
    ("body", "line", "why"),
    [
        ("area x {", 2, "cut off: block 'area', opened in line 2"),
        ("places x { are [ a", 2, "cut off: the list"),
        ("}", 2, "closes a block that was never opened"),
        ("{ }", 2, "without a name"),
        ('area "x { }', 2, "quote"),
        ("places x { are [ a } ]", 2, "is not closed by ']'"),
        ("a { " * 200, 2, "nested deeper"),
    ],
)
def test_broken_structure_is_refused(body: str, line: int, why: str) -> None:
    with pytest.raises(UnreadableError) as caught:
        veskara(body)
    assert str(caught.value).startswith(f"export:{line}:")
    assert why in str(caught.value)


def test_settings_say_how_they_are_known_and_secrets_stay_hidden() -> None:
    device = veskara('doors { keeper k { proof "k2$hash", rank all }\n locked-for 2m\n}')
    administration = device.administration
    assert (administration.lockout_seconds.value, administration.lockout_seconds.standing) == (120, Known.STATED)
    assert (administration.lockout_attempts.value, administration.lockout_attempts.standing) == (5, Known.DEFAULT)
    assert administration.lockout_attempts.where is not None
    assert device.logging.collectors.standing is Known.DEFAULT
    assert device.logging.collector_days.standing is Known.UNKNOWN
    with pytest.raises(LookupError):
        _ = device.logging.collector_days.value
    shown = "\n".join(device.text(administration.accounts[0].where))
    assert "k2$hash" not in shown
    assert "[secret]" in shown


@pytest.mark.parametrize(
    ("old", "new", "line_of", "why"),
    [
        ("comment: says", "coment: says", "coment", "did you mean 'comment'?"),
        ("words: verdict}", "words: verdikt}", "verdikt", "did you mean 'verdict'?"),
        ("language: 1", "language: 2", "language", "language"),
        ("family: text", "family: tome", "family", "family"),
        ("action: drop", "action: [", "services-on-interfaces", "not valid YAML"),
        ("dialect: veskara", "dialect: Ve skara", "dialect:", "dialect"),
    ],
)
def test_a_wrong_dialect_file_is_explained(old: str, new: str, line_of: str, why: str) -> None:
    text = VESKARA.replace(old, new, 1)
    line = next(n for n, content in enumerate(text.splitlines(), 1) if line_of in content)
    with pytest.raises(UsageError) as caught:
        mapped.load("d.yaml", text)
    assert why in str(caught.value)
    found = int(str(caught.value).split(":")[1])
    assert abs(found - line) <= 1, str(caught.value)

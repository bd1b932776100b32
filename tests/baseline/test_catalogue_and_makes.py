"""What the catalogue promises of every check, and what makes add to it."""

from __future__ import annotations

import re
from datetime import date

import pytest

from aiguille.baseline import CATALOGUE, Area, Severity, load, run
from aiguille.baseline.files import shipped_files
from aiguille.model import Device, Estate
from aiguille.model.facts import FACTS
from aiguille.readers import mapped
from aiguille.reports.baselines import fix_of
from tests.baseline.devices import SSH, WEB, gate, host, zoned
from tests.helpers import DUMP, linux

AS_OF = date(2026, 11, 30)
FAMILIES = {"AC", "AU", "CM", "CP", "IA", "RA", "SC", "SI"}
"""Families of NIST SP 800-53 Rev. 5 that speak of what a firewall can be asked."""


def test_ids_are_areas_and_plain_words() -> None:
    for one in CATALOGUE:
        area, _, slug = one.id.partition(".")
        assert area in tuple(Area)
        assert re.fullmatch(r"[a-z]+[a-z0-9]*(-[a-z0-9]+)*", slug)
    areas = [one.area for one in CATALOGUE]
    assert areas == sorted(areas, key=tuple(Area).index)
    assert set(areas) == set(Area)


def test_controls_are_of_known_families() -> None:
    for one in CATALOGUE:
        assert {control[:2] for control in one.controls} <= FAMILIES, one.id
        assert len(set(one.controls)) == len(one.controls), one.id


def test_sentences_are_whole_and_titles_unlike() -> None:
    assert len({one.title for one in CATALOGUE}) == len(CATALOGUE)
    for one in CATALOGUE:
        assert not one.title.endswith(".")
        assert all(
            text[0].isupper() or text.startswith("net.") or "_" in text.split()[0]
            for text in (one.title, one.why, fix_of(one))
        )
        assert len(one.how) > 10


def test_facts_are_told_in_words() -> None:
    assert {name for one in CATALOGUE for name in one.needs} == {fact.path for fact in FACTS if fact.asked}
    assert all(fact.shown or fact.compared for fact in FACTS)
    empty = host()
    for outcome in run(Estate((empty,), AS_OF), [one for one in CATALOGUE if one.needs]).outcomes:
        assert "_" not in outcome.because


def test_makes_give_advice_on_checks_that_exist() -> None:
    ids = {one.id for one in CATALOGUE}
    given = {dialect.dialect: set(dialect.advice) for dialect in mapped.shipped()}
    assert all(advice <= ids for advice in given.values()), {name: advice - ids for name, advice in given.items()}
    assert sum(map(bool, given.values())) >= 4


def test_shipped_baselines_name_only_what_exists() -> None:
    for name, text in shipped_files().items():
        baseline = load(name, CATALOGUE)
        assert baseline.name == name
        for check in re.findall(r"^  (?:- )?([a-z]+\.[a-z0-9-]+)", text, re.MULTILINE):
            assert check in {one.id for one in CATALOGUE}


@pytest.mark.parametrize("severity", list(Severity))
def test_a_severity_of_the_baseline_takes_the_place_of_all_others(severity: Severity) -> None:
    from aiguille.baseline import Baseline

    (one,) = (c for c in CATALOGUE if c.id == "access.cleartext")
    device = zoned("-A INPUT -p tcp -m tcp --dport 23 -j ACCEPT")
    found = run(Estate((device,), AS_OF), Baseline.of([one], {one.id: {"severity": severity.value}})).findings
    assert {f.severity for f in found} == {severity}


def unsaved(device: Device) -> list[tuple[str, str | None]]:
    (one,) = (c for c in CATALOGUE if c.id == "system.unsaved")
    found = run(Estate((device,), AS_OF), [one], raise_crashes=True).findings
    return [(f.detail, f.proof.packet.sentence() if f.proof is not None else None) for f in found]


def test_stored_rules_are_compared_as_sets_with_a_packet() -> None:
    running = DUMP.replace("COMMIT", f"-A INPUT {SSH} -j ACCEPT\n-A INPUT {WEB} -j ACCEPT\nCOMMIT")
    reordered = DUMP.replace("COMMIT", f"-A INPUT {WEB} -j ACCEPT\n-A INPUT {SSH} -j ACCEPT\nCOMMIT")
    ranged = DUMP.replace("COMMIT", "-A INPUT -p tcp -m multiport --dports 22,443 -j ACCEPT\nCOMMIT")
    for same in (reordered, ranged):
        assert unsaved(linux({"etc/iptables/rules.v4": same}, running)) == []
    fewer = DUMP.replace("COMMIT", f"-A INPUT {SSH} -j ACCEPT\nCOMMIT")
    ((detail, packet),) = unsaved(linux({"etc/iptables/rules.v4": fewer}, running))
    assert packet is not None
    assert ":443 " in packet
    assert f"'{packet}' is accepted now and refused after the next start" in detail


def test_a_gate_without_a_word_of_something_leaves_it_open() -> None:
    """What a make is known to do by itself is a default that findings name as such; all else stays open."""
    outcomes = {o.check: o.outcome.value for o in run(Estate((gate(""),), AS_OF), CATALOGUE).outcomes}
    assert outcomes["logging.device-days"] == outcomes["logging.collector-days"] == "cannot tell"
    assert outcomes["access.recovery-account"] == outcomes["logging.collector"] == "fail"

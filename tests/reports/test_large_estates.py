"""What reports do where there is too much to show: they cut at a stated limit, say so, and lose no count."""

from __future__ import annotations

import io
import re
from datetime import date
from pathlib import Path

import openpyxl
import pytest
from lxml import html
from msgspec.structs import replace

import aiguille
from aiguille.baseline import Outcome
from aiguille.cli import audit as audit_command
from aiguille.cli import figure as figure_command
from aiguille.model import Estate, Ledger, LedgerEntry, Span
from aiguille.reports import charts, figures, workbook
from aiguille.reports.dossier import Dossier
from aiguille.reports.outputs import OUTPUTS
from aiguille.reports.page import as_html, sections
from tests.helpers import filter_table, with_zones

AS_OF = date(2026, 11, 30)


def many(count: int) -> Estate:
    """Devices that differ in their name, and in what they open."""
    devices = []
    for number in range(count):
        text = f"[{number}:0] -A INPUT -s 10.{number}.0.0/16 -p tcp -m tcp --dport 22 -j ACCEPT\n[0:0] -A INPUT -j DROP"
        devices.append(replace(filter_table(text), name=f"gw{number:03}"))
    return Estate(tuple(devices), AS_OF)


@pytest.fixture(scope="module")
def dossier() -> Dossier:
    return Dossier(aiguille.audit(many(60)))


def test_what_is_told_of_each_device_is_all_there_is(dossier: Dossier) -> None:
    audit = dossier.audit
    names = [device.name for device in audit.estate.devices]
    assert sorted(f.fingerprint for n in names for f in audit.reported_on(n)) == sorted(
        f.fingerprint for f in audit.findings
    )
    assert all(n in (f.device, *f.also_on) for n in names for f in audit.findings_on(n))
    assert sum(len(audit.outcomes_on(n)) for n in names) == len(audit.outcomes)
    for name in names:
        asked = {o.check: o.because for o in audit.outcomes if o.device == name and o.outcome is Outcome.CANNOT_TELL}
        assert {check: why for why, checks in audit.open_questions(name).items() for check in checks} == asked
    assert audit.findings_on("nobody") == ()


def words(figure: figures.Figure | None) -> str:
    assert figure is not None
    return " ".join(re.findall(r">([^<]+)</text>", figures.svg(figure)))


def test_figures_show_the_worst_and_say_of_how_many(dossier: Dossier) -> None:
    shown = words(figures.findings(dossier))
    assert "the 30 worst of 60" in shown
    assert len(re.findall(r"gw\d+", shown)) == 30
    assert len(re.findall(r"gw\d+", words(figures.openness(dossier)))) == 30
    assert "the 30 widest of 60" in words(figures.openness(dossier))
    hits = words(figures.hits(dossier))
    assert re.findall(r"gw(\d+)", hits)[:2] == ["059", "058"]
    assert "of 120 rules with a counter take 80 % of the hits; 61 were never hit" in hits


@pytest.mark.filterwarnings("error")
@pytest.mark.parametrize("kind", ["findings", "hits", "openness"])
def test_figures_of_a_single_row_are_drawn_without_complaint(kind: str) -> None:
    (finding, *_) = aiguille.audit(many(1)).findings
    dossier = Dossier(replace(aiguille.audit(many(1)), findings=(finding,), outcomes=(), baseline=None))
    (row, *_) = dossier.rules["gw000"]
    dossier.__dict__["rules"] = {"gw000": [{**row, "hits": 5}]}
    assert "gw000" in words(figures.KINDS[kind].draw(dossier))


def test_sentences_of_usage() -> None:
    def told(*hits: int) -> str:
        return charts.usage_sentence([{"hits": one} for one in sorted(hits, reverse=True)])

    assert told(100, 1, 0) == "1 of 3 rules with a counter takes 80 % of the hits; 1 were never hit"
    assert told(1, 1, 1, 1, 1) == "4 of 5 rules with a counter take 80 % of the hits; 0 were never hit"


def test_names_mean_nothing_to_the_figures_own_markup() -> None:
    rules = "[5:0] -A INPUT -i $x^2$ -j ACCEPT\n[1:0] -A INPUT -j ACCEPT"
    device = replace(filter_table(rules), name="$\\frac{1}{2}$<b>&")
    shown = words(figures.hits(Dossier(aiguille.audit(Estate((device,), AS_OF)))))
    assert "$\\frac{1}{2}$&lt;b&gt;&amp;" in shown


def test_the_page_cuts_rules_and_unread_lines_and_says_so(monkeypatch: pytest.MonkeyPatch, dossier: Dossier) -> None:
    monkeypatch.setattr(sections, "RULES_SHOWN", 100)
    monkeypatch.setattr(sections, "UNREAD_SHOWN", 2)
    entries = tuple(LedgerEntry(Span("dump", n, n), f"odd {n}") for n in range(1, 4))
    devices = (replace(dossier.devices[0], ledger=Ledger(9, 6, 0, 3, (), entries)), *dossier.devices[1:])
    cut = Dossier(replace(dossier.audit, estate=replace(dossier.audit.estate, devices=devices)))
    page = html.fromstring(as_html(cut))
    rows = page.xpath("//details[@class='rules']//tbody/tr")
    live = sum(one["standing"] == "live" for rules in cut.rules.values() for one in rules)
    assert len(rows) == sum(map(len, cut.rules.values())) - live < 120
    text = " ".join(page.text_content().split())
    assert "Rules that are simply live are left out here" in text
    assert "There are 1 more; the workbook and the JSON have them all." in text
    assert "odd 2" in text
    assert "odd 3" not in text
    whole = openpyxl.load_workbook(io.BytesIO(workbook.as_workbook(cut)))
    assert [row[6].value for row in whole["unread"].iter_rows(min_row=2)] == ["odd 1", "odd 2", "odd 3"]
    assert whole["rules"].max_row == 121


def test_devices_with_one_reason_share_a_row_and_none_is_lost(dossier: Dossier) -> None:
    page = html.fromstring(as_html(dossier))
    for check in {one.check for one in dossier.audit.outcomes}:
        (element,) = page.xpath(f"//*[@id='check-{check}']")
        named = [cell for row in element.xpath(".//tbody/tr") for cell in row.xpath("string(td[2])").split(", ")]
        assert sorted(named) == sorted(device.name for device in dossier.devices)
        badges = element.xpath("./summary/span[contains(@class, 'outcome')]/text()")
        kinds = [one.outcome for one in dossier.audit.outcomes if one.check == check]
        assert sorted(badges) == sorted(f"{kinds.count(kind)} {kind.value}" for kind in set(kinds))


def test_a_sheet_that_would_overflow_says_so(monkeypatch: pytest.MonkeyPatch, dossier: Dossier) -> None:
    monkeypatch.setattr(workbook, "ROW_LIMIT", 50)
    book = openpyxl.load_workbook(io.BytesIO(workbook.as_workbook(dossier)))
    assert book["rules"].max_row == 50
    assert "more rows than a sheet can hold" in str(book["rules"].cell(50, 1).value)


def test_what_the_command_line_lists_is_what_there_is() -> None:
    assert set(re.findall(r"\.[a-z.]+", audit_command.ENDINGS)) == {*OUTPUTS, ".txt"}
    assert tuple(figures.KINDS) == figure_command.KINDS


def test_zones_of_an_estate_without_an_outside_leave_the_reach_out(tmp_path: Path) -> None:
    estate = Estate((with_zones(filter_table("-A INPUT -j ACCEPT")),), AS_OF)
    page = html.fromstring(as_html(Dossier(aiguille.audit(estate))))
    assert "Reach by country" not in page.xpath("//nav//a/text()")
    assert not page.xpath("//*[@id='geo']")
    assert "Usage" not in page.xpath("//h2/text()"), "no counters, no section on usage"

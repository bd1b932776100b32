"""The HTML report as its readers meet it: in a browser, with a keyboard, on paper, in the dark."""

from __future__ import annotations

import re
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest

import aiguille
from aiguille.demo import write_estate
from aiguille.reports import charts
from aiguille.reports.dossier import Dossier
from aiguille.reports.page import as_html
from tests.needs import needed, node_file

if TYPE_CHECKING:
    from playwright.sync_api import Browser, Page

FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-quic", "--disable-background-networking", "--no-first-run"]


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    from playwright.sync_api import sync_playwright

    program = needed(shutil.which("chromium"), "Chromium is not installed")
    with sync_playwright() as driver:
        started = driver.chromium.launch(executable_path=program, args=FLAGS)
        yield started
        started.close()


@pytest.fixture(scope="module")
def dossier(tmp_path_factory: pytest.TempPathFactory) -> Dossier:
    folder = tmp_path_factory.mktemp("demo") / "valdrane"
    write_estate(folder)
    return Dossier(aiguille.audit(aiguille.read([folder])))


@pytest.fixture(scope="module")
def report(dossier: Dossier, tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("report") / "report.html"
    path.write_text(as_html(dossier), encoding="utf-8")
    return path


@pytest.fixture
def page(browser: Browser, report: Path) -> Iterator[Page]:
    """The report, opened; what goes wrong meanwhile, and every request, fails the test."""
    opened = browser.new_page(viewport={"width": 1280, "height": 800})
    wrong: list[str] = []
    opened.on("console", lambda message: wrong.append(message.text))
    opened.on("pageerror", lambda error: wrong.append(str(error)))
    opened.on("request", lambda request: wrong.append(request.url) if not request.url.startswith("file:") else None)
    opened.goto(report.as_uri())
    yield opened
    opened.close()
    assert wrong == []


def shown(page: Page) -> list[str]:
    """Fingerprints of the findings that can be seen, in their order on the page."""
    found: list[str] = page.eval_on_selector_all(
        ".finding", "all => all.filter(one => one.checkVisibility()).map(one => one.id.slice(2))"
    )
    return found


def test_the_filter_shows_what_is_asked_for(page: Page, dossier: Dossier) -> None:
    findings = dossier.audit.findings
    assert sorted(shown(page)) == sorted(f.fingerprint for f in findings)
    page.select_option("[name=device]", label="valley-gw")
    assert set(shown(page)) == {f.fingerprint for f in findings if f.device == "valley-gw"}
    page.select_option("[name=device]", label="hut-pine")
    assert set(shown(page)) == {f.fingerprint for f in findings if "hut-pine" in (f.device, *f.also_on)}
    page.select_option("[name=device]", label="valley-gw")
    for severity in ("medium", "low", "info"):
        page.uncheck(f"[value={severity}]")
    wanted = {f.fingerprint for f in findings if f.device == "valley-gw" and f.severity.rank >= 3}
    assert set(shown(page)) == wanted
    assert page.inner_text(".count") == f"{len(wanted)} of {len(findings)} findings"
    assert page.locator("section.device:visible h3").count() == 1
    page.select_option("[name=device]", "")
    page.select_option("[name=area]", "deny")
    assert set(shown(page)) == {f.fingerprint for f in findings if f.area == "deny" and f.severity.rank >= 3}
    page.select_option("[name=area]", "")
    page.fill("[name=text]", "REMOTE-HELP access.reachable")
    found = [f for f in findings if f.severity.rank >= 3 and f.fingerprint in shown(page)]
    assert found
    assert all(f.check == "access.reachable-from-outside" for f in found)
    assert all(any("remote-help" in line for e in f.evidence for line in e.text) for f in found)
    page.fill("[name=text]", "no such words anywhere")
    assert shown(page) == []
    assert page.inner_text(".count") == f"0 of {len(findings)} findings"


def test_the_order_is_by_severity_where_asked_and_back(page: Page, dossier: Dossier) -> None:
    before = shown(page)
    ranks = {f.fingerprint: f.severity.rank for f in dossier.audit.findings}
    checks = {f.fingerprint: f.check for f in dossier.audit.findings}
    page.select_option("[name=order]", "severity")
    after = shown(page)
    assert sorted(after) == sorted(before)
    assert [ranks[one] for one in after] == sorted((ranks[one] for one in after), reverse=True)
    assert page.locator("#flat .on:visible").count() > 0, "away from its device a finding says whose it is"
    page.select_option("[name=order]", "check")
    assert [checks[one] for one in shown(page)] == sorted(checks.values())
    page.select_option("[name=order]", "device")
    assert shown(page) == before


def test_links_open_what_is_folded_away(page: Page) -> None:
    link = page.locator(".group a[href^='#check-']").first
    target = link.get_attribute("href")
    assert target is not None
    check = page.locator(f"[id='{target[1:]}']")
    assert not check.evaluate("one => one.open")
    link.click()
    page.wait_for_function("id => document.getElementById(id).open", arg=target[1:])
    assert check.is_visible()


def test_a_keyboard_gets_everywhere(page: Page) -> None:
    page.keyboard.press("Tab")
    assert page.evaluate("document.activeElement.className") == "skip"
    page.keyboard.press("Enter")
    assert page.evaluate("location.hash") == "#main"
    page.locator("details.rules summary").first.focus()
    page.keyboard.press("Enter")
    assert page.locator("details.rules").first.evaluate("one => one.open")


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_axe_finds_no_violation(browser: Browser, report: Path, scheme: Any) -> None:
    # Rows and sections of one kind are alike: the first of each are looked at, as all of them would take minutes.
    axe = node_file("axe-core/axe.min.js").read_text()
    context = browser.new_context(color_scheme=scheme, bypass_csp=True)
    page = context.new_page()
    page.goto(report.as_uri())
    page.evaluate(
        """() => {
          const cut = (what, keep, around = document) =>
            around.querySelectorAll(what).forEach((one, n) => { if (n >= keep) one.remove(); });
          cut('section.device', 2);
          cut('details.check', 6);
          cut('details.rules', 2);
          document.querySelectorAll('tbody').forEach(one => [...one.rows].slice(6).forEach(row => row.remove()));
          document.querySelectorAll('figure svg').forEach(one => cut('g g g', 40, one));
          document.querySelectorAll('details').forEach(one => { one.open = true; });
        }"""
    )
    page.evaluate(axe)
    found = page.evaluate("axe.run({resultTypes: ['violations']})")
    told = [
        f"{one['impact']} {one['id']}: {one['help']} {[n['target'] for n in one['nodes'][:3]]}"
        for one in found["violations"]
    ]
    assert [line for line in told if re.match("serious|critical|moderate", line)] == []
    assert found["passes"]
    context.close()


def test_it_is_read_without_script(browser: Browser, report: Path, dossier: Dossier) -> None:
    context = browser.new_context(java_script_enabled=False)
    page = context.new_page()
    page.goto(report.as_uri())
    assert page.locator(".finding").count() == len(dossier.audit.findings)
    assert not page.locator("form.filter").is_visible()
    page.locator("details.check summary").first.click()
    assert page.locator("details.check table").first.is_visible()
    context.close()


def test_paper_is_a4_and_holds_what_was_folded(browser: Browser, report: Path, tmp_path: Path) -> None:
    page = browser.new_page()
    page.goto(report.as_uri())
    content = page.pdf(prefer_css_page_size=True)
    assert content.startswith(b"%PDF")
    assert (
        len(re.findall(rb"/Type\s*/Page\b", content)) <= 40
    )  # what people hand in; the appendix is printed where it is asked for
    width, height = map(float, re.findall(rb"/MediaBox\s*\[\s*0\s+0\s+([0-9.]+)\s+([0-9.]+)", content)[0])
    assert (round(width), round(height)) == (595, 842)
    page.emulate_media(media="print")
    page.evaluate("dispatchEvent(new Event('beforeprint'))")
    assert page.locator(".on-paper").is_visible()
    assert not page.locator("details.check table").first.is_visible()
    page.evaluate("document.getElementById('print-appendix').checked = true")
    assert page.locator("details.check table").first.is_visible()
    assert not page.locator(".on-paper").is_visible()
    assert not page.locator("nav").is_visible()
    assert page.evaluate("document.documentElement.scrollWidth <= document.documentElement.clientWidth")
    page.close()


def test_bars_are_as_wide_as_their_numbers_say(page: Page, dossier: Dossier) -> None:
    rows = page.locator("#verdict .bars tbody tr").evaluate_all(
        "rows => rows.map(row => [...row.querySelectorAll('span')].map(one => [one.className, +one.textContent, "
        "one.getBoundingClientRect().width]).concat([['total', +row.lastElementChild.textContent, 0]]))"
    )
    shown = charts.findings(dossier)
    assert [[(name, count) for name, count, _ in row] for row in rows] == [
        [*((severity.value, count) for severity, count in row.counts.items()), ("total", row.total)]
        for stacks in shown
        for row in stacks.rows
    ]
    assert sum(row.total for row in shown[0].rows) == len(dossier.audit.findings)
    places = iter(rows)
    for stacks in shown:
        bars = [(count, width) for _ in stacks.rows for _, count, width in next(places)[:-1]]
        assert max(abs(width * bars[0][0] - bars[0][1] * count) / count for count, width in bars) < 2 * bars[0][0]


def test_narrow_screens_scroll_tables_not_the_page(browser: Browser, report: Path) -> None:
    page = browser.new_page(viewport={"width": 420, "height": 800})
    page.goto(report.as_uri())
    assert page.evaluate("document.documentElement.scrollWidth <= document.documentElement.clientWidth")
    page.close()

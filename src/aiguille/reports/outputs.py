"""The files an audit can be written to: the ending of the name shows the format. A new report adds a module and a line here."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path

from aiguille.baseline import Audit
from aiguille.reports.dossier import Dossier
from aiguille.reports.files import Content, Writer, ending_of, refuse_existing, write_whole


def _json(dossier: Dossier) -> Iterator[str]:
    from aiguille.reports.data import audit_text

    return audit_text(dossier.audit)


def _html(dossier: Dossier) -> str:
    from aiguille.reports.page import as_html

    return as_html(dossier)


def _workbook(dossier: Dossier) -> bytes:
    from aiguille.reports.workbook import as_workbook

    return as_workbook(dossier)


def _csv(dossier: Dossier) -> Iterator[str]:
    from aiguille.reports import csvfile, tables

    return csvfile.csv_text(tables.FINDINGS, tables.FINDINGS.rows(dossier))


def _rules_csv(dossier: Dossier) -> Iterator[str]:
    from aiguille.reports import csvfile, tables

    return csvfile.csv_text(tables.RULES, tables.RULES.rows(dossier))


def _database(dossier: Dossier) -> Iterator[bytes]:
    from aiguille.reports.database import as_database

    return as_database(dossier)


def _sarif(dossier: Dossier) -> str:
    from aiguille.reports.data import dump
    from aiguille.reports.sarif import as_sarif

    return dump(as_sarif(dossier))


def _oscal(dossier: Dossier) -> str:
    from aiguille.reports.data import dump
    from aiguille.reports.oscal import as_oscal

    return dump(as_oscal(dossier))


def _junit(dossier: Dossier) -> bytes:
    from aiguille.reports.junit import as_junit

    return as_junit(dossier)


def _markdown(dossier: Dossier) -> str:
    from aiguille.reports.markdown import as_markdown

    return as_markdown(dossier)


OUTPUTS: dict[str, tuple[str, Callable[[Dossier], Content]]] = {
    ".html": ("report to hand in, one file", _html),
    ".xlsx": ("workbook with columns for the auditee's answers", _workbook),
    ".csv": ("the findings, a row each", _csv),
    ".rules.csv": ("the rules, a row each", _rules_csv),
    ".sqlite": ("a database of the findings, causes, outcomes and devices", _database),
    ".md": ("a summary of at most 200 lines, for a ticket or wiki", _markdown),
    ".json": ("everything, by its published schema", _json),
    ".sarif": ("SARIF 2.1.0", _sarif),
    ".oscal.json": ("OSCAL assessment results", _oscal),
    ".xml": ("JUnit XML", _junit),
}
"""Ending of the file's name, what it is, and what makes it. Of two endings that fit, the longer one counts."""


def prepare(paths: Iterable[Path]) -> None:
    """Load what takes long to load for files that are to be written."""
    if any(path.name.lower().endswith(".html") for path in paths):
        from aiguille.reports import page

        page.environment()
    if any(path.name.lower().endswith(".xlsx") for path in paths):
        import xlsxwriter

        _ = xlsxwriter


def compute_shared(dossier: Dossier, paths: Sequence[Path]) -> None:
    """Compute what several of the files show before each of them is made in a process of its own."""
    if sum(path.name.lower().endswith((".html", ".xlsx", ".rules.csv")) for path in paths) > 1:
        _ = dossier.rules, dossier.reach


def write(audit: Audit, path: Path, *, force: bool = False, jobs: int = 1) -> None:
    """Write one report whole. Raises UsageError for an unknown ending and for a file that exists or cannot be written."""
    _, make = OUTPUTS[ending_of(path, OUTPUTS)]
    refuse_existing(path, force=force)
    write_whole(path, make(Dossier(audit, jobs)), force=force)


def writers(dossier: Callable[[], Dossier]) -> dict[str, Writer]:
    """What makes each of those files of the audit that `dossier` returns when it is done."""

    def bound(make: Callable[[Dossier], Content]) -> Writer:
        return lambda: make(dossier())

    return {ending: bound(make) for ending, (_, make) in OUTPUTS.items()}

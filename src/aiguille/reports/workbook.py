"""The audit as a workbook (XLSX): a sheet for each table, with filters, and a column for the auditee's answer."""

from __future__ import annotations

import io
from collections.abc import Sequence
from datetime import date, datetime
from typing import TYPE_CHECKING, Any

from aiguille._version import __version__
from aiguille.baseline import Finding
from aiguille.baseline.findings import Status
from aiguille.model import Estate
from aiguille.reports.dossier import Dossier
from aiguille.reports.tables import CAUSES, FINDINGS, OBJECTS, OUTCOMES, RULES, SUMMARY, UNREAD, Cell, Table
from aiguille.reports.text import visible, visible_lines

if TYPE_CHECKING:
    from xlsxwriter import Workbook
    from xlsxwriter.format import Format
    from xlsxwriter.worksheet import Worksheet

SHEETS = (SUMMARY, CAUSES, FINDINGS, RULES, OUTCOMES, OBJECTS, UNREAD)
ANSWERS = ("status", "owner", "due", "remark")
"""Columns of the findings that the auditee fills in; `aiguille answers` reads them back."""

LAYOUT, VERSION = "aiguille layout", "1"
ENGAGEMENT = "aiguille engagement"
"""Properties of the file that show a workbook that is handed in from another one."""

CELL_LIMIT = 32_767
"""Characters a cell may hold; longer text is cut, and says so."""

ROW_LIMIT = 1_048_576
"""Rows a sheet may hold (ECMA-376); what would lie beyond is reported in the last one."""

_COLOURS = {
    "critical": ("#8f1d14", "#ffffff"),
    "high": ("#c8442c", "#ffffff"),
    "medium": ("#f0b35a", "#1d2328"),
    "low": ("#bcd9ec", "#1d2328"),
    "info": ("#e3e5e6", "#1d2328"),
    "fail": ("#f3c9c0", "#1d2328"),
    "cannot tell": ("#f7e6bf", "#1d2328"),
    "pass": ("#d5e8d8", "#1d2328"),
    "shadowed": ("#f3c9c0", "#1d2328"),
    "impossible": ("#f7e6bf", "#1d2328"),
    "redundant": ("#f7e6bf", "#1d2328"),
    "contradicted": ("#d5e5f0", "#1d2328"),
    "partly hidden": ("#d5e5f0", "#1d2328"),
}
_LINE = 13.5
_MOST_LINES = 10
_PRINTED = 230
"""Height of a line in points, lines of a row that are shown at most, characters in the width of a printed page."""

_COLOURED = {"severity", "outcome", "standing"}


def engagement_of(estate: Estate) -> str:
    """What the engagement is called, or its devices where it has no title."""
    return (_clean(estate.title) or ", ".join(_clean(one.name) for one in estate.devices))[:250]


def as_workbook(dossier: Dossier) -> bytes:
    """The bytes of the file; the same for the same audit."""
    from xlsxwriter import Workbook

    out = io.BytesIO()
    # Text stays text: nothing a stranger wrote may become a formula, a link or a number.
    book = Workbook(
        out,
        {"strings_to_formulas": False, "strings_to_urls": False, "strings_to_numbers": False, "in_memory": True},
    )
    estate = dossier.audit.estate
    day = datetime(estate.as_of.year, estate.as_of.month, estate.as_of.day)  # noqa: DTZ001 - a file's stamp has no zone
    book.set_properties(
        {"title": _clean(estate.title or "Audit"), "comments": f"Aiguille {__version__}", "created": day, "author": ""}
    )
    book.set_custom_property(LAYOUT, VERSION, "text")
    book.set_custom_property(ENGAGEMENT, engagement_of(estate), "text")
    look = _Look(book)
    for table in SHEETS:
        _sheet(book, look, table, dossier)
    book.close()
    return out.getvalue()


class _Look:
    """The formats of cells."""

    def __init__(self, book: Workbook) -> None:
        base = {"font_name": "Calibri", "font_size": 10, "valign": "top"}
        self.title = book.add_format({**base, "bold": True, "font_size": 14})
        self.note = book.add_format({**base, "font_color": "#5b656d"})
        self.head = book.add_format(
            {**base, "bold": True, "bg_color": "#e8e6df", "bottom": 1, "text_wrap": True, "indent": 1}
        )
        self.text = book.add_format({**base, "text_wrap": True, "indent": 1})
        self.whole = book.add_format({**base, "num_format": "#,##0"})
        self.real = book.add_format({**base, "num_format": "0.0"})
        self.answer = book.add_format({**base, "text_wrap": True, "bg_color": "#fffdf0", "locked": False})
        self.day = book.add_format(
            {**base, "num_format": "yyyy-mm-dd", "bg_color": "#fffdf0", "locked": False, "align": "left"}
        )
        self.colours = {
            word: book.add_format({"bg_color": ground, "font_color": ink}) for word, (ground, ink) in _COLOURS.items()
        }

    def of(self, kind: type) -> Format:
        return self.whole if kind is int else self.real if kind is float else self.text


def _sheet(book: Workbook, look: _Look, table: Table, dossier: Dossier) -> None:
    sheet = book.add_worksheet(table.name)
    top = _head(sheet, look, dossier) if table is SUMMARY else 0
    answers = ANSWERS if table is FINDINGS else ()
    for number, column in enumerate(table.columns):
        sheet.set_column(number, number, column.width)
        sheet.write_string(top, number, column.heading, look.head)
    sheet.set_row(top, 2 * _LINE)
    width = len(table.columns)
    total = sum(column.width for column in table.columns) + 30 * len(answers)
    for number, heading in enumerate(answers, width):
        sheet.set_column(number, number, 30)
        sheet.write_string(top, number, heading, look.head)
    last = top
    for row in table.rows(dossier):
        last += 1
        if last == ROW_LIMIT - 1:
            sheet.write_string(last, 0, "there are more rows than a sheet can hold; see the JSON", look.text)
            break
        for number, (column, value) in enumerate(zip(table.columns, row, strict=True)):
            _write(sheet, last, number, value, look.of(column.type))
        for number in range(width, width + len(answers)):
            sheet.write_blank(last, number, None, look.answer)
        if answers:
            _answer(sheet, look, last, width, dossier.audit.findings[last - top - 1 : last - top])
        sheet.set_row(last, _LINE * _lines(table, row))
    if answers and last > top:
        _validated(sheet, top + 1, last, width)
    sheet.freeze_panes(top + 1, 1)
    sheet.autofilter(top, 0, max(last, top), width + len(answers) - 1)
    _colour(sheet, look, table, top + 1, last)
    sheet.set_landscape()
    sheet.set_paper(9)  # A4
    sheet.fit_to_pages(-(-total // _PRINTED), 0)
    sheet.repeat_rows(top)


def _answer(sheet: Worksheet, look: _Look, row: int, width: int, findings: Sequence[Finding]) -> None:
    """What the auditee has said already, where they would write it."""
    for one in findings:
        if one.answer is not None:
            described = one.answer
            for at, text in enumerate(
                (described.status.value, described.owner, described.due, described.remark), width
            ):
                if isinstance(text, date):
                    sheet.write_datetime(row, at, text, look.day)
                elif text:
                    sheet.write_string(row, at, _clean(text), look.answer)


def _validated(sheet: Worksheet, first: int, last: int, width: int) -> None:
    status, due = width + ANSWERS.index("status"), width + ANSWERS.index("due")
    sheet.data_validation(
        first, status, last, status,
        {"validate": "list", "source": [one.value for one in Status], "error_title": "status",
         "error_message": f"one of {', '.join(Status)}"},
    )  # fmt: skip
    sheet.data_validation(
        first, due, last, due,
        {"validate": "date", "criteria": ">=", "value": date(2000, 1, 1), "error_title": "due",
         "error_message": "a day; for what is accepted its last one"},
    )  # fmt: skip


def _head(sheet: Worksheet, look: _Look, dossier: Dossier) -> int:
    """What the workbook is of, above the summary; returns the row the table begins in."""
    estate = dossier.audit.estate
    baseline = dossier.audit.baseline.name if dossier.audit.baseline else "none"
    sheet.set_row(0, 1.6 * _LINE)
    sheet.write_string(0, 0, _clean(estate.title or "Audit"), look.title)
    described = [
        f"as of {estate.as_of.isoformat()}, against baseline '{baseline}', by Aiguille {__version__}",
        *(f"for {estate.about.client}" for _ in [0] if estate.about.client),
        *(f"by {estate.about.auditor}" for _ in [0] if estate.about.auditor),
        *(f"scope: {estate.about.scope}" for _ in [0] if estate.about.scope),
    ]
    for row, line in enumerate(described, 1):
        sheet.write_string(row, 0, _clean(line), look.note)
    return len(described) + 2


def _colour(sheet: Worksheet, look: _Look, table: Table, first: int, last: int) -> None:
    if last < first:
        return
    for number, column in enumerate(table.columns):
        if column.heading in _COLOURED:
            for word, made in look.colours.items():
                rule: dict[str, Any] = {"type": "cell", "criteria": "==", "value": f'"{word}"', "format": made}
                sheet.conditional_format(first, number, last, number, rule)
        if table is SUMMARY and column.heading in ("critical", "high", "medium", "not understood"):
            made = look.colours["high" if column.heading == "critical" else "fail"]
            sheet.conditional_format(
                first, number, last, number, {"type": "cell", "criteria": ">", "value": 0, "format": made}
            )


def _lines(table: Table, row: tuple[Cell, ...]) -> int:
    """Lines a row needs so that its text can be read, up to a limit: programs do not find out by themselves."""
    most = 1
    for column, value in zip(table.columns, row, strict=True):
        if isinstance(value, str) and len(value) > column.width:
            most = max(most, sum(1 + len(line) // column.width for line in value.split("\n")))
    return min(most, _MOST_LINES)


def _write(sheet: Worksheet, row: int, number: int, value: Cell, made: Format) -> None:
    if value is None:
        sheet.write_blank(row, number, None, made)
    elif isinstance(value, str):
        sheet.write_string(row, number, _clean(value), made)
    elif abs(value) >= 1 << 53:
        # Spreadsheets keep 53 bits of a number; what is longer stays exact as text.
        sheet.write_string(row, number, str(value), made)
    else:
        sheet.write_number(row, number, value, made)


def _clean(text: str) -> str:
    shown = visible_lines(text) if "\n" in text else visible(text)
    return shown if len(shown) <= CELL_LIMIT else shown[: CELL_LIMIT - 16] + " … (cut short)"

"""A workbook of an audit that the auditee filled in, read back: the answers, and what of it was not taken, by cell."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterator, Mapping, Sequence
from datetime import date, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from aiguille.baseline import Audit
from aiguille.baseline.findings import Reply, Status
from aiguille.model import UsageError
from aiguille.reports.tables import FINDINGS
from aiguille.reports.workbook import ANSWERS, ENGAGEMENT, LAYOUT, VERSION, engagement_of

if TYPE_CHECKING:
    from openpyxl.cell import Cell, MergedCell
    from openpyxl.worksheet.worksheet import Worksheet

_HEADINGS = 20
"""Rows among which the headings may stand, where somebody put lines above them."""

_UNPACKED = 256 * 1024 * 1024
_TEXT = 4_000
"""Characters of a remark."""


class Fault(Struct, frozen=True):
    """A cell whose row was not taken, and why."""

    cell: str
    why: str


class Returned(Struct, frozen=True):
    """answers: what was read, a finding each; faults: rows that were not taken; missing: findings of the audit without a row"""

    answers: tuple[Reply, ...]
    faults: tuple[Fault, ...]
    missing: int


def read(path: Path, audit: Audit) -> Returned:
    """Read a filled-in workbook against the audit it is about.

    Raises UsageError for a file that is no such workbook: damaged, with macros, of another engagement or another layout.
    """
    sheet = _sheet(path, audit)
    top, columns = _columns(path, sheet)
    known = {one.fingerprint for one in audit.findings} | {one.finding for one in audit.answers}
    known |= {one.fingerprint for one, _ in audit.accepted}
    rows: dict[str, list[tuple[str, Reply | None]]] = {}
    faults: list[Fault] = []
    for row in sheet.iter_rows(min_row=top + 1):
        cells = {name: row[at] for name, at in columns.items() if at < len(row)}
        if all(cell.value is None for cell in cells.values()):
            continue
        finding = str(cells["fingerprint"].value or "").strip().lower()
        where = cells["fingerprint"].coordinate
        if finding not in known:
            if any(cells[name].value is not None for name in ANSWERS if name in cells):
                faults.append(Fault(where, f"'{finding[:40]}' is no finding of this audit or of its answers"))
            continue
        answer, wrong = _answer(finding, cells)
        faults += wrong
        rows.setdefault(finding, []).append((where, answer if not wrong else None))
    answers = []
    for finding, described in rows.items():
        given = {answer for _, answer in described if answer is not None}
        if len(given) > 1:
            places = " and ".join(where for where, _ in described)
            faults.append(Fault(described[1][0], f"finding {finding} stands in {places} with different answers"))
        answers += list(given) if len(given) == 1 else []
    missing = sum(one.fingerprint not in rows for one in audit.findings)
    return Returned(tuple(answers), tuple(faults), missing)


def _sheet(path: Path, audit: Audit) -> Worksheet:
    from openpyxl import load_workbook

    try:
        data = path.read_bytes()
    except OSError as error:
        raise UsageError(f"{path}: cannot be read ({error.strerror})") from error
    book = None
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as packed:
            macros = any(one.filename.lower().endswith("vbaproject.bin") for one in packed.infolist())
            size = sum(one.file_size for one in packed.infolist())
        if not macros and size <= _UNPACKED:
            book = load_workbook(io.BytesIO(data))
    except Exception as error:  # openpyxl raises whatever its parsers raise
        raise UsageError(f"{path}: this is no workbook, or a damaged one ({error}); save it again as .xlsx") from error
    if macros:
        raise UsageError(f"{path}: this workbook holds macros; save it as .xlsx without them and hand that in")
    if book is None:
        raise UsageError(f"{path}: unpacks to more than a workbook of findings can have")
    said = {one.name: str(one.value) for one in book.custom_doc_props.props}  # type: ignore[attr-defined]
    if LAYOUT in said and said[LAYOUT] != VERSION:
        raise UsageError(
            f"{path}: this workbook has layout {said[LAYOUT]}, and this version reads {VERSION}; write a new one"
        )
    if ENGAGEMENT in said and said[ENGAGEMENT] != engagement_of(audit.estate):
        raise UsageError(
            f"{path}: this workbook is of '{said[ENGAGEMENT]}', and PATH is '{engagement_of(audit.estate)}'"
        )
    if FINDINGS.name not in book.sheetnames:
        raise UsageError(
            f"{path}: there is no sheet '{FINDINGS.name}'; hand in the workbook that `aiguille audit --out` wrote"
        )
    sheet: Worksheet = book[FINDINGS.name]
    return sheet


def _columns(path: Path, sheet: Worksheet) -> tuple[int, Mapping[str, int]]:
    """The row of the headings, from 1, and the place of each column that is needed, from 0."""
    wanted = ("fingerprint", *ANSWERS)
    for number, row in enumerate(sheet.iter_rows(max_row=_HEADINGS, values_only=True), 1):
        found = {str(value).strip().lower(): at for at, value in reversed(list(enumerate(row))) if value is not None}
        if "fingerprint" in found:
            if missing := [name for name in wanted if name not in found]:
                raise UsageError(
                    f"{path}: row {number} of '{sheet.title}' has no column '{missing[0]}'; put its heading back"
                )
            return number, {name: found[name] for name in wanted}
    raise UsageError(
        f"{path}: '{sheet.title}' has no column 'fingerprint' in its first {_HEADINGS} rows; put its heading back"
    )


def _answer(finding: str, cells: Mapping[str, Cell | MergedCell]) -> tuple[Reply | None, Sequence[Fault]]:
    """What a row says, None if it says nothing."""
    faults = list(_formulas(cells))
    if faults:
        return None, faults
    said = str(cells["status"].value or "").strip().lower()
    owner, remark = (str(cells[name].value or "").strip()[:_TEXT] for name in ("owner", "remark"))
    due, wrong = _day(cells["due"])
    faults += wrong
    if not (said or owner or remark or due):
        return None, faults
    if said and said not in {*Status}:
        faults.append(
            Fault(cells["status"].coordinate, f"'{said[:40]}' is no status; it is one of {', '.join(Status)}")
        )
    status = Status(said) if said in {*Status} else Status.OPEN
    if status is Status.ACCEPTED and not faults and (due is None or not owner):
        where = cells["due" if due is None else "owner"].coordinate
        faults.append(Fault(where, "what is accepted needs an owner and a last day ('due')"))
    return Reply(finding, status, owner=owner, due=due, remark=remark), faults


def _formulas(cells: Mapping[str, Cell | MergedCell]) -> Iterator[Fault]:
    for name in ANSWERS:
        if name in cells and cells[name].data_type == "f":
            yield Fault(cells[name].coordinate, "holds a formula, which is never worked out; write the answer itself")


def _day(cell: Cell | MergedCell) -> tuple[date | None, list[Fault]]:
    value: Any = cell.value
    if isinstance(value, datetime):
        return value.date(), []
    if isinstance(value, date):
        return value, []
    text = str(value or "").strip()
    if not text:
        return None, []
    try:
        return date.fromisoformat(text), []
    except ValueError:
        return None, [Fault(cell.coordinate, f"'{text[:40]}' is no day; write it as 2026-12-31")]

"""Workbooks as exports: cells as people read them, and books made to do harm."""

from __future__ import annotations

import io
import zipfile
from datetime import date, datetime
from pathlib import Path
from typing import Any

import pytest
from openpyxl import Workbook

from aiguille.estate import read
from aiguille.model import UnreadableError
from aiguille.readers import decode, workbook
from tests.helpers import run


def book(**sheets: list[list[Any]]) -> bytes:
    made = Workbook()
    made.remove(made.active)  # type: ignore[arg-type]
    for name, rows in sheets.items():
        sheet = made.create_sheet(name)
        for row in rows:
            sheet.append(row)
    out = io.BytesIO()
    made.save(out)
    return out.getvalue()


RULES = [["Src", "Dst", "Action"], ["10.0.0.1", "any", "allow"]]


MIDNIGHT = datetime(2026, 1, 2)  # noqa: DTZ001 - a sheet's cells know no zone


@pytest.mark.parametrize(
    ("cell", "text"),
    [
        ("plain", "plain"), (7, "7"), (7.0, "7"), (7.5, "7.5"), (True, "yes"), (False, "no"), (None, ""),
        (date(2026, 1, 2), "2026-01-02"), (MIDNIGHT, "2026-01-02"), (MIDNIGHT.replace(hour=3, minute=4), "2026-01-02 03:04:00"),
        (" two\n lines \n", "two; lines"), ('a "b", c', '"a ""b"", c"'),
    ],
)  # fmt: skip
def test_cells_become_what_a_person_reads(cell: object, text: str) -> None:
    ((title, lines),) = workbook.sheets("x", book(one=[["head", "more"], [cell, "end"]]))
    assert (title, lines) == ("one", ("head,more", f"{text},end"))


def test_a_book_is_one_file_a_sheet_and_a_row_a_line(tmp_path: Path) -> None:
    data = book(
        Rules=[*RULES, [], ["", "", ""], ["any", "any", "deny"]], empty=[], Notes=[["note", "by"], ["buy milk", "me"]]
    )
    file = decode("b.xlsx", data)
    assert [(one.path, one.table, len(one.lines)) for one in file.sheets] == [
        ("b.xlsx[Rules]", "Rules", 5),
        ("b.xlsx[Notes]", "Notes", 2),
    ]
    assert {one.source.sha256 for one in file.sheets} == {file.source.sha256}
    (tmp_path / "in").mkdir()
    (tmp_path / "in" / "b.xlsx").write_bytes(data)
    with zipfile.ZipFile(tmp_path / "sent.zip", "w") as packed:
        packed.writestr("b.xlsx", data)
    for path in ("in/b.xlsx", "in", "sent.zip"):
        (device,) = read([tmp_path / path]).devices
        assert [rule.where.first for base in device.rulebases for _, rule in base.rules()] == [2, 5]
        assert [(e.where.file.rpartition("/")[2], e.where.first) for e in device.ledger.unread] == [
            ("b.xlsx[Notes]", 1)
        ]


def bomb(name: str, size: int) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as packed:
        packed.writestr("[Content_Types].xml", "<Types/>")
        packed.writestr(name, b"0" * size)
    return out.getvalue()


@pytest.mark.parametrize(
    ("data", "why"),
    [
        (book(Rules=RULES)[:2000], "damaged"),
        (bomb("xl/workbook.xml", 100), "damaged"),
        (bomb("xl/worksheets/sheet1.xml", workbook.UNPACKED_LIMIT + 1), "unpacks to more"),
    ],
)
def test_a_book_that_is_none_is_refused(data: bytes, why: str) -> None:
    with pytest.raises(UnreadableError, match=why):
        decode("b.xlsx", data)


def test_too_many_cells_are_refused(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(workbook, "CELL_LIMIT", 4)
    with pytest.raises(UnreadableError, match="more than 4 cells"):
        decode("b.xlsx", book(Rules=RULES))


def test_an_ordinary_archive_is_no_workbook_and_markup_in_cells_stays_text(tmp_path: Path) -> None:
    with zipfile.ZipFile(tmp_path / "sent.zip", "w") as packed:
        packed.writestr("notes.txt", "nothing")
    assert not workbook.is_workbook((tmp_path / "sent.zip").read_bytes())
    rows = [["Name", "Src", "Dst", "Action", "Remark"], ["\x1b[31mred", "10.0.0.1", "any", "allow", "=HYPERLINK(1)"]]
    (tmp_path / "b.csv").write_text("\n".join(",".join(row) for row in rows))
    done = run("rules", "b.csv", "--details", cwd=tmp_path)
    assert "\x1b" not in done.stdout
    assert "=HYPERLINK(1)" in done.stdout

"""Workbooks (Office Open XML, ECMA-376) as lines of text: a sheet a file, a row a line, cells set apart as in CSV."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from datetime import date, datetime
from typing import TYPE_CHECKING, Any

from aiguille.model import UnreadableError

if TYPE_CHECKING:
    from openpyxl import Workbook

ROW_LIMIT = 1_048_576
COLUMN_LIMIT = 200
CELL_LIMIT = 5_000_000
"""Cells of all sheets together; a rule sheet has some thousands."""
UNPACKED_LIMIT = 256 * 1024 * 1024


def is_workbook(data: bytes) -> bool:
    """Whether bytes are a workbook: a zip whose first entry is one of those ECMA-376 part 2 asks for.

    A zip's first entry begins with its header: its name's length at byte 26, the name at byte 30 (APPNOTE 4.3.7).
    """
    if data[:4] != b"PK\x03\x04":
        return False
    name = data[30 : 30 + int.from_bytes(data[26:28], "little")]
    return name.startswith((b"[Content_Types].xml", b"_rels/", b"docProps/", b"xl/"))


def sheets(name: str, data: bytes) -> Iterator[tuple[str, tuple[str, ...]]]:
    """Name and lines of each sheet; formulas as the values they had when the book was saved.

    Raises UnreadableError for a book that is damaged or unpacks to too much.
    """
    from openpyxl import load_workbook  # slow to import, and needed for workbooks only

    try:
        import zipfile

        with zipfile.ZipFile(io.BytesIO(data)) as packed:
            unpacked = sum(one.file_size for one in packed.infolist())
        book = None if unpacked > UNPACKED_LIMIT else load_workbook(io.BytesIO(data), read_only=True, data_only=True)
    except Exception as error:  # openpyxl raises whatever its parsers raise
        raise UnreadableError(f"{name}: this workbook is damaged ({error}); save it again, or as CSV") from error
    if book is None:
        raise UnreadableError(f"{name}: unpacks to more than a rule sheet can have; is this the right file?")
    try:
        yield from list(_sheets(name, book))
    except UnreadableError:
        raise
    except Exception as error:
        raise UnreadableError(f"{name}: this workbook is damaged ({error}); save it again, or as CSV") from error
    finally:
        book.close()


def _sheets(name: str, book: Workbook) -> Iterator[tuple[str, tuple[str, ...]]]:
    cells = 0
    for one in book.worksheets:
        lines: list[str] = []
        for row in one.iter_rows(values_only=True, max_row=ROW_LIMIT, max_col=COLUMN_LIMIT):
            cells += len(row)
            if cells > CELL_LIMIT:
                raise UnreadableError(f"{name}: holds more than {CELL_LIMIT} cells; is this the right file?")
            lines.append(_line(row))
        while lines and not lines[-1]:
            lines.pop()
        if lines:
            yield one.title, tuple(lines)


def _line(row: tuple[Any, ...]) -> str:
    out = io.StringIO()
    cells = [_text(value) for value in row]
    while cells and not cells[-1]:
        cells.pop()
    csv.writer(out, lineterminator="").writerow(cells)
    return out.getvalue()


def _text(value: Any) -> str:
    """A cell as a person reads it; a break within it becomes a semicolon, so that a row stays a line."""
    match value:
        case None:
            return ""
        case bool():
            return "yes" if value else "no"
        case float() if value.is_integer():
            return str(int(value))
        case datetime():
            return value.date().isoformat() if value.time() == value.time().min else value.isoformat(sep=" ")
        case date():
            return value.isoformat()
        case _:
            return "; ".join(part.strip() for part in str(value).splitlines() if part.strip())

"""Empty rule sheets with explanations, as CSV or as a workbook."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence

from aiguille.readers.mapped.template import SheetTable

WIDTH = 18


def as_csv(tables: Sequence[SheetTable]) -> str:
    """All tables in one file, each below a row with its name; explanations are comments."""
    out = io.StringIO()
    out.write("# One row a rule. Tables that are not needed may be deleted; rows that begin with # are comments.\n")
    writer = csv.writer(out, lineterminator="\n")
    for table in tables:
        out.write("#\n")
        for line in _explained(table):
            out.write(f"# {line}\n")
        writer.writerow([table.name, *[""] * (len(table.columns) - 1)])
        writer.writerow([column.heading for column in table.columns])
        for cell, _ in table.first_cells:
            writer.writerow([cell, *[""] * (len(table.columns) - 1)])
    return out.getvalue()


def as_workbook(tables: Sequence[SheetTable]) -> bytes:
    """A sheet for each table, and one that explains them."""
    from openpyxl import Workbook
    from openpyxl.styles import Font
    from openpyxl.utils import get_column_letter

    book = Workbook()
    first = book.active
    if first is not None:
        book.remove(first)
    for table in tables:
        sheet = book.create_sheet(table.name)
        sheet.append([column.heading for column in table.columns])
        for cell, _ in table.first_cells:
            sheet.append([cell])
        for number in range(1, len(table.columns) + 1):
            sheet.cell(1, number).font = Font(bold=True)
            sheet.column_dimensions[get_column_letter(number)].width = WIDTH
        if table.first_cells:
            sheet.column_dimensions["A"].width = 2.5 * WIDTH
        sheet.freeze_panes = "A2"
    described = book.create_sheet("explanations")
    described.column_dimensions["A"].width = 8 * WIDTH
    for table in tables:
        for line in _explained(table):
            described.append([f"# {line}"])
        described.append([])
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def _explained(table: SheetTable) -> list[str]:
    called = f" (or {', '.join(table.others)})" if table.others else ""
    lines = [f"Table {table.name}{called}:"]
    for column in table.columns:
        others = f" (or {', '.join(column.others)})" if column.others else ""
        lines.append(f"  {column.heading}{others}" + (f": {column.means}" if column.means else ""))
    for cell, means in table.first_cells:
        lines.append(f"  {cell}" + (f": {means}" if means else ""))
    return lines

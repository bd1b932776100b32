"""What `answers` says: which were taken, which rows were not, and where they are kept; JSON by `schemas/answers.schema.json`."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec import Struct
from rich.console import Console
from rich.text import Text

from aiguille.baseline.answers import AnswerChange
from aiguille.baseline.findings import Reply
from aiguille.reports.data import Data
from aiguille.reports.returned import Fault
from aiguille.reports.text import counted, visible


class Taken(Struct, frozen=True):
    """What became of a workbook.

    changes: answers that are new or differ; numbers: what findings are called
    faults: rows that were not taken; missing: findings without a row; kept: all answers there are now
    """

    changes: Sequence[AnswerChange]
    numbers: Mapping[str, int]
    faults: Sequence[Fault]
    missing: int
    file: str
    kept: int


def answers_data(described: Taken) -> Data:
    """What was merged; `schemas/answers.schema.json`."""
    return {
        "file": described.file,
        "answers": described.kept,
        "without_row": described.missing,
        "changes": [
            {"number": _number(described, one), "finding": one.after.finding,
             "before": _data(one.before), "after": _data(one.after)}
            for one in described.changes
        ],
        "not_taken": [{"cell": one.cell, "why": one.why} for one in described.faults],
    }  # fmt: skip


def _number(described: Taken, one: AnswerChange) -> str | None:
    number = described.numbers.get(one.after.finding)
    return f"F-{number}" if number else None


def _data(one: Reply | None) -> Data | None:
    if one is None:
        return None
    due = one.due.isoformat() if one.due is not None else None
    return {"status": one.status.value, "owner": one.owner, "due": due, "remark": one.remark}


def show_answers(console: Console, described: Taken) -> None:
    for one in described.changes:
        line = Text(
            f"{_number(described, one) or one.after.finding:<6} {visible(one.after.device)}  {visible(one.after.says())}"
        )
        if one.before is not None:
            line.append(f"  (it was: {visible(one.before.says())})", "dim")
        console.print(line)
    for fault in described.faults:
        console.print(Text(f"{fault.cell}: {visible(fault.why)}; the row was not taken", "bold"))
    if described.missing:
        console.print(
            Text(
                f"{counted(described.missing, 'finding')} without a row in this workbook; what is known of them stays.",
                "dim",
            )
        )
    if described.changes:
        console.print(
            Text(
                f"{counted(len(described.changes), 'answer')} taken, {described.kept} in {visible(described.file)}.",
                "bold",
            )
        )
    else:
        console.print(Text("Nothing new: no answer differs from what is known.", "bold"))

"""Packets with what somebody expects of them: a column ``expect`` in a table, and where the answers differ."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator

import msgspec
from msgspec import Struct

from aiguille.model import UsageError
from aiguille.reports.data import Data
from aiguille.reports.text import counted, visible

COLUMN = "expect"
_MEANS = {
    "accept": ("accept",),
    "drop": ("drop",),
    "reject": ("reject",),
    "refuse": ("drop", "reject"),
}
"""What may stand in the column, and the verdicts it allows."""


class Expectation(Struct, frozen=True):
    """A row's line, what is expected, and the verdicts that fulfil it."""

    line: int
    word: str
    verdicts: tuple[str, ...]


def split(data: bytes) -> tuple[bytes, tuple[Expectation, ...]]:
    """A table without its column of expectations, and these; the table itself and nothing where it has none.

    A row that expects nothing may be anything. Raises UsageError for a word that is no verdict, naming the line.
    """
    head = data.split(b"\n", 1)[0].decode("utf-8-sig", "replace")
    names = [cell.strip().strip('"').lower() for cell in head.split(",")]
    if COLUMN not in names:
        return data, ()
    at = names.index(COLUMN)
    rows = csv.reader(io.StringIO(data.decode("utf-8-sig"), newline=""))
    out = io.StringIO()
    written = csv.writer(out, lineterminator="\n")
    found = []
    for cells in rows:
        word = cells[at].strip().lower() if at < len(cells) else ""
        written.writerow(cells[:at] + cells[at + 1 :])
        if not cells or rows.line_num == 1:
            continue
        if word and word not in _MEANS:
            raise UsageError(
                f"line {rows.line_num}: '{word}' is nothing to expect of a packet; write {', '.join(_MEANS)}"
            )
        found.append(Expectation(rows.line_num, word, _MEANS.get(word, ("accept", "drop", "reject"))))
    return out.getvalue().encode(), tuple(found)


class Held:
    """Answers held against what was expected of them.

    told: the JSON of `probe` on the packets; expectations: those of its rows, in the same order
    """

    def __init__(self, described: Iterable[bytes], expectations: Iterable[Expectation]) -> None:
        self.data: Data = msgspec.json.decode(b"".join(described))
        left_out = {fault["line"] for fault in self.data["faults"]}
        self._rows = [
            (one, packet)
            for one, packet in zip(
                (e for e in expectations if e.line not in left_out), self.data["packets"], strict=True
            )
        ]
        for one, packet in self._rows:
            packet["expected"], packet["as_expected"] = one.word, _fulfilled(one, packet)

    @property
    def different(self) -> int:
        """Packets that surely become of what nobody expected."""
        return sum(packet["as_expected"] is False for _, packet in self._rows)

    def json(self) -> Iterator[bytes]:
        outcomes = [packet["as_expected"] for _, packet in self._rows]
        self.data["as_expected"] = {
            "yes": outcomes.count(True),
            "no": outcomes.count(False),
            "undetermined": outcomes.count(None),
        }
        yield msgspec.json.format(msgspec.json.encode(self.data), indent=1) + b"\n"

    def lines(self) -> Iterator[bytes]:
        """A line for each packet that differs or cannot be determined, and how many are as expected."""
        for one, packet in self._rows:
            if packet["as_expected"] is True:
                continue
            by = packet.get("decided_by") or {}
            place = f"{by.get('chain', '')} {by.get('rule', '')}".strip()
            where = f" ({by['file']}:{by['line']})" if by.get("file") else ""
            verb = "is" if packet["certain"] else "may be"
            why = "" if packet["certain"] else "; what the exports show does not settle it"
            text = f"line {one.line}: {packet['id']}: expected {one.word}, {verb} {packet['verdict']} by {place}{where}{why}"
            yield f"{visible(text)}\n".encode()
        fine = sum(packet["as_expected"] is True for _, packet in self._rows)
        yield f"{fine} of {counted(len(self._rows), 'packet')} as expected\n".encode()


def _fulfilled(one: Expectation, packet: Data) -> bool | None:
    """Whether an answer is what was expected; None where it may be."""
    if not one.word or packet["certain"]:
        return packet["verdict"] in one.verdicts
    if "possible" not in packet:
        return None  # of a packet followed over devices one way alone is reported
    verdicts = {way["verdict"] for way in packet["possible"]}
    return True if verdicts <= {*one.verdicts} else None if verdicts & {*one.verdicts} else False

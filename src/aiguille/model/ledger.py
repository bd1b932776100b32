"""What became of every line of an export."""

from __future__ import annotations

from msgspec import Struct

from aiguille.model.spans import Span


class LedgerEntry(Struct, frozen=True, order=True):
    """One stretch of lines that was set aside or not understood, with the reason in words.

    matters: for problems, whether what rules do depends on it
    """

    where: Span
    why: str
    matters: bool = True


class Ledger(Struct, frozen=True):
    """Counts of lines, and the entries behind them.

    lines: all lines of all files of the device, empty ones included; of a JSON export its objects
    read: lines whose content went into the model
    known: lines understood and set aside (comments, empty lines, settings no check needs), for a stated reason
    unread: lines not understood, or understood in part only; `len(unread)` may be below their number as one entry can
        span several lines. read + known + unread_lines == lines
    problems: statements that contradict the rest of the export, such as a name that nothing defines; commands say each, and
        end with exit code 3 if one of them `matters` to what rules do
    """

    lines: int = 0
    read: int = 0
    known: int = 0
    unread_lines: int = 0
    set_aside: tuple[LedgerEntry, ...] = ()
    unread: tuple[LedgerEntry, ...] = ()
    problems: tuple[LedgerEntry, ...] = ()

"""How long files of records are kept: logrotate.conf and logrotate.d (logrotate(8))."""

from __future__ import annotations

from collections.abc import Iterator
from fnmatch import fnmatchcase

from msgspec import Struct
from msgspec.structs import replace

from aiguille.model import Span
from aiguille.readers.bundle import Bundle
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.literals import is_whole

_TURNS = {"hourly": 1 / 24, "daily": 1.0, "weekly": 7.0, "monthly": 30.44, "yearly": 365.25}
_BY_SIZE = ("size", "maxsize")


class Rotation(Struct, frozen=True):
    """What is done with some files.

    days: how long what they hold is kept; None where that follows from its size or is not stated
    """

    paths: tuple[str, ...]
    days: float | None
    where: Span

    def concerns(self, path: str) -> bool:
        return any(fnmatchcase(path, one) for one in self.paths)


class _Terms(Struct, frozen=True):
    """What holds at a place: how often a file is turned, how many old ones are kept, and for how long at the most."""

    turn: float | None = None
    count: int | None = None
    at_most: float | None = None
    by_size: bool = False
    where: Span | None = None

    @property
    def days(self) -> float | None:
        if self.by_size or self.turn is None:
            return None
        days = self.turn * max(self.count or 0, 1)
        return days if self.at_most is None else min(days, self.at_most)


def lines_of(file: ExportFile, ledger: LedgerBuilder) -> Iterator[tuple[str, Span]]:
    """The lines of a file that say something, without those that are comments."""
    for number, line in enumerate(file.lines, 1):
        text, where = line.strip(), file.span(number)
        if not text:
            continue
        if text[0] in "#;":
            ledger.set_aside(where, "comment")
        else:
            yield text, where


def rotations(bundle: Bundle, ledger: LedgerBuilder) -> tuple[Rotation, ...]:
    """What is rotated, in the order of the files."""
    main = bundle.get("etc/logrotate.conf")
    everywhere, out = _Terms(), []
    for file in [*filter(None, [main]), *bundle.under("etc/logrotate.d/")]:
        held, paths, begun = everywhere, [], None
        for text, where in lines_of(file, ledger):
            ledger.set_aside(where, "no check needs this setting of logrotate")
            words = text.split()
            if begun is None and (text.startswith(("/", '"/')) or text == "{"):
                paths += [word.strip('"') for word in words if word != "{"]
                if text.endswith("{"):
                    begun, held = where, everywhere
            elif text == "}" and begun is not None:
                ledger.read(held.where or begun)
                out.append(Rotation(tuple(paths), held.days, held.where or begun))
                begun, paths = None, []
            elif (changed := _changed(held, words, where)) is not None:
                ledger.read(where)
                held = changed
                if begun is None:
                    everywhere = replace(changed, where=None)
    return tuple(out)


def _changed(terms: _Terms, words: list[str], where: Span) -> _Terms | None:
    """What holds after a directive; None if it is none of those that say how long."""
    name, value = words[0], words[1] if len(words) > 1 else ""
    if name in _TURNS:
        return replace(terms, turn=_TURNS[name], by_size=False, where=terms.where or where)
    if name in _BY_SIZE:
        return replace(terms, by_size=True, where=where)
    if name == "rotate" and is_whole(value):
        return replace(terms, count=int(value), where=where)
    if name == "maxage" and is_whole(value):
        return replace(terms, at_most=float(value), where=terms.where or where)
    return None

"""Text laid out in lines of a width: the same lines on a terminal, with colours, as in a pipe or file, without."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import zip_longest

from rich.cells import cell_len
from rich.console import Console
from rich.segment import Segment, Segments
from rich.text import Text

_LABEL = 8
"""Columns of a label."""


class LabelledRows:
    """Rows of a label and text beside it, two columns in from the left."""

    def __init__(self, width: int = _LABEL) -> None:
        self._width = width
        self._rows: list[tuple[str, Text]] = []

    def add(self, label: str, text: Text | str) -> None:
        self._rows.append((label, text if isinstance(text, Text) else Text(text)))

    def show(self, console: Console) -> None:
        show(console, self.lines(console.width))

    def lines(self, width: int) -> Iterator[Line]:
        """The rows in lines of at most `width` columns."""
        before = 2 + self._width + 1
        for label, text in self._rows:
            yield from hanging(Text(f"{label:>{before - 1}} ", "dim"), text, width)


Line = tuple[Text, ...]
"""Pieces of a line, in order."""


def show(console: Console, lines: Iterable[Line]) -> None:
    """Write lines that are laid out already."""
    if console.is_terminal:
        for line in lines:
            console.print(Text.assemble(*line), soft_wrap=True)
    else:
        # Nobody looks at colours here, and long reports take long to colour.
        text = "".join("".join(piece.plain for piece in line).rstrip() + "\n" for line in lines)
        console.print(Segments([Segment(text)]), crop=False)


def hanging(margin: Text, text: Text, width: int) -> Iterator[Line]:
    """A text whose first line stands after a margin, and the others clear of it."""
    before = cell_len(margin.plain)
    clear = Text(" " * before)
    for number, line in enumerate(pieces(text, width - before)):
        yield clear if number else margin, line


def beside(one: Text, other: Text, first: int, width: int) -> Iterator[Line]:
    """Two texts in columns, two columns in from the left; first: columns of the first."""
    gap = Text("  ")
    nothing = Text("")
    for left, right in zip_longest(pieces(one, first), pieces(other, width - first - 4), fillvalue=nothing):
        yield gap, left, Text(" " * (first - cell_len(left.plain))), gap, right


def pieces(text: Text, width: int) -> list[Text]:
    """The lines of a text as `wrapped` breaks it, each with its styles."""
    plain = text.plain
    out, at = [], 0
    for line in wrapped(plain, width):
        start = max(plain.find(line, at), at)
        at = start + len(line)
        # Most text has one style or none.
        out.append(text[start:at] if text.spans else Text(line, text.style))
    return out


def wrapped(text: str, width: int) -> list[str]:
    """The lines of a text broken at blanks, and within words longer than a line; one column at the least."""
    width = max(1, width)
    out: list[str] = []
    for line in text.split("\n"):
        if len(line) <= width and line.isascii():
            out.append(line)
        elif cell_len(line) == len(line):
            out += broken(line.expandtabs(), width)
        else:
            out += [one.plain.rstrip() for one in Text(line).wrap(Console(width=width), width, overflow="fold")]
    return out


def broken(line: str, width: int) -> Iterator[str]:
    """A line broken at blanks as `textwrap` does, several times as fast. A word longer than a line fills up the line it begins on."""
    start, end = 0, len(line.rstrip())
    while end - start > width:
        stop = start + width
        blank = line.rfind(" ", start, stop + 1)
        word_end = line.find(" ", stop)
        if (end if word_end < 0 else min(word_end, end)) - (
            blank + 1 if blank >= 0 else start
        ) > width and blank < stop:
            yield line[start:stop]
            start = stop
            continue
        if line[start:blank].strip():
            yield line[start:blank].rstrip()
        start = blank
        while line[start] == " ":
            start += 1
    yield line[start:end]

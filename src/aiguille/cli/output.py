"""What commands write: views, messages, files. Views lose the trailing blanks that tables leave, so that files and diffs stay clean."""

from __future__ import annotations

import io
import logging
import os
import re
import sys
from argparse import Namespace
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from typing import TYPE_CHECKING, TextIO

if TYPE_CHECKING:
    from pathlib import Path

    from rich.console import Console

    from aiguille.reports.data import Data
    from aiguille.reports.files import Writer

WIDTH = 100
"""Columns of terminal views that are not written to a terminal."""

WIDEST = 140
"""Columns of a terminal beyond which lines would get too long to read."""

log = logging.getLogger("aiguille")

ENDINGS = (".json", ".txt")
"""Of the files that every report can be written to."""

_TRAILING = re.compile(r"[ \t]+$", re.MULTILINE)


@contextmanager
def reader_may_leave() -> Iterator[None]:
    """Go on where the reader of our output has gone away."""
    try:
        yield
        sys.stdout.flush()
    except BrokenPipeError:
        stop_writing()


def show(arguments: Namespace, view: Callable[[Console], None]) -> None:
    """Write a view to standard output."""
    target = console(arguments)
    if target.is_terminal:
        view(target)
        return
    with target.capture() as captured:
        view(target)
    sys.stdout.write(_TRAILING.sub("", captured.get()))


def write(pieces: Iterable[bytes]) -> None:
    """Write long text in UTF-8 to standard output as it comes."""
    if (sys.stdout.encoding or "").lower().replace("-", "") == "utf8":
        sys.stdout.flush()
        sys.stdout.buffer.writelines(pieces)
    else:
        sys.stdout.writelines(piece.decode() for piece in pieces)


def dimmed(arguments: Namespace) -> Callable[[str], str]:
    """What makes the less important part of a line dim on a terminal, and leaves it as it is elsewhere."""
    if not sys.stdout.isatty():
        return str
    from rich.text import Text

    target = console(arguments)

    def dim(text: str) -> str:
        with target.capture() as captured:
            target.print(Text(text, "dim"), soft_wrap=True, end="")
        return captured.get()

    return dim


def as_text(arguments: Namespace, view: Callable[[Console], None]) -> str:
    """The view as plain text."""
    out = io.StringIO()
    view(console(arguments, out))
    return _TRAILING.sub("", out.getvalue())


def report(arguments: Namespace, data: Callable[[], Data], view: Callable[[Console], None]) -> None:
    """Show a view or its data, and write it to the files asked for."""

    def text() -> str:
        from aiguille.reports.data import dump

        return dump(data())

    writers: dict[str, Writer] = {".json": text, ".txt": lambda: as_text(arguments, view)}
    check_outputs(arguments, writers)
    if arguments.json:
        sys.stdout.write(text())
    else:
        show(arguments, view)
    write_outputs(arguments, writers)


@contextmanager
def progress(arguments: Namespace, what: str, done: str) -> Iterator[Callable[[int, int], None]]:
    """A bar on standard error while something long runs; on a terminal only. What is done so far is noted in any case."""
    with stages(arguments, {what: done}) as told:
        yield lambda number, total: told(what, number, total)


_DONE = {"exports": "read", "devices": "checked"}


@contextmanager
def stages(arguments: Namespace, done: Mapping[str, str] = _DONE) -> Iterator[Callable[[str, int, int], None]]:
    """The same for one stage after the other, with how many are done in a second and how long the rest will take.

    done: of each stage, what becomes of its things
    """

    def note(what: str, number: int, total: int) -> None:
        did(arguments, what, f"{number} of {total} {what} {done[what]}")

    if arguments.quiet or not sys.stderr.isatty():
        yield note
        return
    from rich.console import Console
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

    target = Console(stderr=True, no_color=arguments.no_color or None)
    rate = TextColumn("{task.fields[rate]}")
    columns = (TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), rate, TimeRemainingColumn())
    with Progress(*columns, console=target, transient=True) as bar:
        task, stage = bar.add_task(next(iter(done), ""), total=None, rate=""), ""

        def show(what: str, number: int, total: int) -> None:
            nonlocal stage
            note(what, number, total)
            if what != stage:
                stage = what
                bar.reset(task, description=what)
            speed = bar.tasks[0].speed
            bar.update(task, completed=number, total=total, rate=f"{speed:.1f}/s" if speed else "")

        yield show


@contextmanager
def working(arguments: Namespace, what: str) -> Iterator[None]:
    """A turning sign on standard error while something runs whose end cannot be determined; on a terminal only."""
    if arguments.quiet or not sys.stderr.isatty():
        yield
        return
    from rich.console import Console

    with Console(stderr=True, no_color=arguments.no_color or None).status(what):
        yield


def console(arguments: Namespace, file: TextIO | None = None) -> Console:
    """A console for standard output, or for `file`: coloured on a terminal, plain and `WIDTH` wide elsewhere."""
    from rich.console import Console

    stream = sys.stdout if file is None else file
    width = None if stream.isatty() or (file is None and "COLUMNS" in os.environ) else WIDTH
    plain = arguments.no_color or file is not None
    made = Console(file=stream, width=width, no_color=plain or None, highlight=False, emoji=False, markup=False)
    if made.width > WIDEST:
        made.width = WIDEST
    return made


def start_messages(arguments: Namespace) -> None:
    """Send messages of the one logger to standard error, as loud as asked."""
    handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(logging.Formatter("aiguille: %(message)s"))
    log.handlers[:] = [handler]
    log.propagate = False
    level = logging.ERROR if arguments.quiet else logging.INFO if arguments.verbose else logging.WARNING
    log.setLevel(level)


def did(arguments: Namespace, stage: str, what: str) -> None:
    """Note what is done so far, for whoever interrupts."""
    vars(arguments).setdefault("done", {})[stage] = what


def stop_writing() -> None:
    """Drop what is still written: the reader of our output went away, as `head` does, and Python must not complain of it."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def check_outputs(arguments: Namespace, writers: Iterable[str]) -> None:
    """Refuse impossible output files before any work is done."""
    from aiguille.reports.files import ending_of, refuse_existing

    for path in arguments.out:
        ending_of(path, writers)
        refuse_existing(path, force=arguments.force)


def write_outputs(arguments: Namespace, writers: dict[str, Writer], *, shared: bool = True) -> None:
    """Write every file of ``--out``, each whole.

    shared: whether several are made at once, each in memory; else one after the other, piece by piece
    """
    from aiguille.analysis.sharing import share
    from aiguille.reports.files import Content, as_bytes, ending_of, write_whole

    def made(path: Path) -> Content:
        return writers[ending_of(path, writers)]()

    def whole(path: Path) -> Content:
        return as_bytes(made(path))

    paths = arguments.out
    contents = share(whole, paths, min(os.cpu_count() or 1, len(paths))) if shared else map(made, paths)
    for path in paths:
        with working(arguments, f"writing {path.name}"):
            write_whole(path, next(contents), force=arguments.force)
        did(arguments, f"file {path}", f"{path} is written")
        log.info("written: %s", path)

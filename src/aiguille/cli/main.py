"""Running a command: its words read, what it ends with, and what is said where it fails."""

from __future__ import annotations

import errno
import os
import signal
import sys
from collections.abc import Sequence

from aiguille._version import __version__

EXIT_INTERRUPTED = 130
EXIT_TERMINATED = 143
"""128 and the number of the signal, as shells have it."""

EXIT_FAULT = 4
"""The program itself failed."""


def main(argv: Sequence[str] | None = None) -> int:
    """Run the command; returns its exit code. The console script's entry point."""
    _open_what_is_closed()
    words = list(sys.argv[1:] if argv is None else argv)
    try:
        if words not in (["--version"], ["-V"]):
            return _run(words)
        print(f"aiguille {__version__}", flush=True)
    except OSError as error:
        return _cut_short(error)
    return 0


def _run(words: list[str]) -> int:
    from aiguille.cli.output import start_messages
    from aiguille.cli.parser import build
    from aiguille.model import AiguilleError

    arguments = build(words[0] if words else None).parse_args(words)
    start_messages(arguments)
    ended = _Ended()
    try:
        code: int = arguments.run(arguments)
        sys.stdout.flush()
    except AiguilleError as error:
        from aiguille.reports.text import visible

        print(f"aiguille: {visible(str(error))}", file=sys.stderr)
        return error.exit_code
    except BrokenPipeError:
        from aiguille.cli.output import stop_writing

        stop_writing()
        return 0
    except KeyboardInterrupt:
        done = ", ".join(getattr(arguments, "done", {}).values()) or "nothing"
        how = "ended by a signal" if ended.by_signal else "interrupted"
        kept = getattr(arguments, "resume", None)
        again = f"; the same command goes on from there, by {kept}" if kept is not None else ""
        print(f"aiguille: {how}; done so far: {done}; no file was left half written{again}", file=sys.stderr)
        return EXIT_TERMINATED if ended.by_signal else EXIT_INTERRUPTED
    except OSError as error:
        return _cut_short(error)
    except Exception as error:
        return _failed(error)
    return code


class _Ended:
    """Takes a signal that asks to end as an interrupt, so that what was begun is cleared away; a second one changes nothing."""

    def __init__(self) -> None:
        self.by_signal = False
        for number in (signal.SIGINT, signal.SIGTERM):
            try:
                signal.signal(number, self)
            except ValueError:
                return  # only the main thread may ask for that; whoever calls from another ends it in their own way

    def __call__(self, number: int, _: object) -> None:
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        signal.signal(signal.SIGTERM, signal.SIG_IGN)
        self.by_signal = number == signal.SIGTERM
        raise KeyboardInterrupt


def _cut_short(error: OSError) -> int:
    """Say that standard output takes no more; other faults of the system are the program's own."""
    from aiguille.model import EXIT_USAGE

    if error.errno not in _FULL or error.filename is not None:
        return _failed(error)
    from aiguille.cli.output import stop_writing

    stop_writing()
    why = f"({error.strerror}); what was to be said is cut short there"
    print(f"aiguille: standard output cannot be written {why}", file=sys.stderr)
    return EXIT_USAGE


def _failed(error: Exception) -> int:
    """Say that the program itself is at fault, and where."""
    if os.environ.get("AIGUILLE_RAISE_FAULTS"):
        raise error
    place = error.__traceback__
    while place is not None and place.tb_next is not None:
        place = place.tb_next
    where = f" at line {place.tb_lineno} of {os.path.basename(place.tb_frame.f_code.co_filename)}" if place else ""
    print(
        f"aiguille: the program itself failed ({type(error).__name__}: {str(error)[:200]}{where}); please report this "
        "with the command and, if you may, the export",
        file=sys.stderr,
    )
    return EXIT_FAULT


_FULL = (errno.ENOSPC, errno.EIO, errno.EBADF, errno.EFBIG, errno.EDQUOT)
"""Why a disk or a terminal takes no more."""


def _open_what_is_closed() -> None:
    """Write to nowhere where the standard streams are closed, as some who start programs leave them."""
    for name in ("stdout", "stderr"):
        if getattr(sys, name) is None:
            setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))  # noqa: SIM115  lives as long as the program

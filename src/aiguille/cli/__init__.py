"""The command line: reads options, calls the library, prints. Nothing is computed here."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence

from aiguille._version import __version__

COMMANDS = (
    "read",
    "audit",
    "rules",
    "probe",
    "explain",
    "questions",
    "answers",
    "flows",
    "claims",
    "compare",
    "figure",
    "baseline",
    "dialect",
    "geo",
    "demo",
)
"""Commands in the order help lists them; each is a module of this package with NAME, HELP, EXAMPLES, add and run."""

EXIT_INTERRUPTED = 130

EXIT_FAULT = 4
"""The program itself failed."""


def main(argv: Sequence[str] | None = None) -> int:
    """Run the command; returns its exit code. The console script's entry point."""
    words = list(sys.argv[1:] if argv is None else argv)
    if words in (["--version"], ["-V"]):
        print(f"aiguille {__version__}")
        return 0
    return _run(words)


def _run(words: list[str]) -> int:
    from aiguille.cli.options import start_messages
    from aiguille.cli.parser import build
    from aiguille.model import AiguilleError

    arguments = build(words[0] if words else None).parse_args(words)
    start_messages(arguments)
    try:
        code: int = arguments.run(arguments)
        sys.stdout.flush()
    except AiguilleError as error:
        from aiguille.reports.text import visible

        print(f"aiguille: {visible(str(error))}", file=sys.stderr)
        return error.exit_code
    except BrokenPipeError:
        stop_writing()
        return 0
    except KeyboardInterrupt:
        done = ", ".join(getattr(arguments, "done", {}).values()) or "nothing"
        print(f"aiguille: interrupted; done so far: {done}; no file was left half written", file=sys.stderr)
        return EXIT_INTERRUPTED
    except Exception as error:
        if os.environ.get("AIGUILLE_RAISE_FAULTS"):
            raise
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
    return code


def stop_writing() -> None:
    """Drop what is still written: the reader of our output went away, as `head` does, and Python must not complain of it."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())

"""Writing terminal views: without the trailing blanks that tables leave, so that files and diffs stay clean."""

from __future__ import annotations

import io
import re
import sys
from argparse import Namespace
from collections.abc import Callable
from typing import TYPE_CHECKING

from aiguille.cli.options import console

if TYPE_CHECKING:
    from rich.console import Console

_TRAILING = re.compile(r"[ \t]+$", re.MULTILINE)


def show(arguments: Namespace, view: Callable[[Console], None]) -> None:
    """Write a view to standard output."""
    target = console(arguments)
    if target.is_terminal:
        view(target)
        return
    with target.capture() as captured:
        view(target)
    sys.stdout.write(_TRAILING.sub("", captured.get()))


def as_text(arguments: Namespace, view: Callable[[Console], None]) -> str:
    """The view as plain text."""
    out = io.StringIO()
    view(console(arguments, out))
    return _TRAILING.sub("", out.getvalue())

"""What the shell proposes where a name is typed (argcomplete). Each takes what argcomplete hands over and returns names."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any


def checks(prefix: str, **_: Any) -> Iterable[str]:
    """Ids of the checks."""
    from aiguille.baseline import CATALOGUE

    return [one.id for one in CATALOGUE if one.id.startswith(prefix)]


def baselines(prefix: str, **_: Any) -> Iterable[str]:
    """Baselines that ship with the program, and files that may hold one."""
    from aiguille.baseline.files import shipped

    return [*(name for name in shipped() if name.startswith(prefix)), *_files(prefix, (".yaml", ".yml"))]


def dialects(prefix: str, **_: Any) -> Iterable[str]:
    """Dialects that ship with the program, and files that may describe one."""
    from aiguille.readers import mapped

    names = (one.dialect for one in mapped.shipped() if one.dialect.startswith(prefix))
    return [*names, *_files(prefix, (".yaml", ".yml"))]


def formats(prefix: str, **_: Any) -> Iterable[str]:
    """Formats that ``--format`` knows."""
    from aiguille.readers import formats as known

    return [one.name for one in known() if one.name.startswith(prefix)]


def _files(prefix: str, endings: tuple[str, ...]) -> list[str]:
    from argcomplete.completers import FilesCompleter

    return [one for one in FilesCompleter(endings)(prefix) if one.endswith((*endings, "/"))]

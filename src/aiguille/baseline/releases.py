"""When releases of systems get no more updates, out of `releases.toml`."""

from __future__ import annotations

import re
from datetime import date
from functools import cache
from importlib.resources import files

from msgspec import Struct, convert


class Release(Struct, frozen=True, forbid_unknown_fields=True):
    """A release: how exports spell it (a regular expression), the last day of its free support, and who says so."""

    name: str
    pattern: str
    ends: date
    source: str


@cache
def _table() -> tuple[Release, ...]:
    import tomllib  # only hosts that state their release need it

    data = tomllib.loads((files("aiguille.baseline") / "releases.toml").read_text(encoding="utf-8"))
    return tuple(convert(data["release"], list[Release]))


def of(text: str) -> Release | None:
    """The release a text names, None if the table does not know it."""
    return next((one for one in _table() if re.search(one.pattern, text)), None)

"""Programs and packages that some tests ask for: absent, the test is skipped with a reason; in `.ci/run` that is a failure."""

from __future__ import annotations

from pathlib import Path
from typing import TypeVar

import pytest

T = TypeVar("T")

NODE = Path(__file__).parent / "node" / "node_modules"


def needed(found: T | None, why: str) -> T:
    """What was found; skips the test if that is nothing."""
    if not found:
        pytest.skip(why)
    return found


def node_file(name: str) -> Path:
    """A file of a package from the npm registry."""
    path = NODE / name
    needed(path.exists(), f"{name} is not installed: npm install --prefix tests/node")
    return path

"""The parts of the documents that are made from the program, and the schemas of the files a user writes.

`python -m tests.pages` writes them anew, and with them what the guide shows of the program; tests compare them with what is committed.
"""

from __future__ import annotations

import json
import tempfile
import tomllib
from collections.abc import Callable
from functools import partial
from pathlib import Path

import aiguille
from aiguille.cli.manual import manual
from aiguille.cli.parser import build
from aiguille.demo import write_estate
from aiguille.reports import reference
from tests import walks

ROOT = Path(__file__).parent.parent
MARK = "differ -->\n\n"
"""Ends the comment after which a page is made from the program, to its end."""


def checks() -> str:
    with tempfile.TemporaryDirectory() as folder:
        write_estate(Path(folder))
        key = tomllib.loads((Path(folder) / "answer-key.toml").read_text())["fault"]
        return reference.checks_markdown(aiguille.audit(aiguille.read([folder])), key)


def _schema(name: str) -> str:
    return json.dumps(reference.file_schemas()[name], indent=1, ensure_ascii=False) + "\n"


WHOLE: dict[str, Callable[[], str]] = {
    "docs/checks.md": checks,
    "docs/aiguille.1": lambda: manual(build()),
    **{f"src/aiguille/reports/schemas/{name}.schema.json": partial(_schema, name) for name in reference.file_schemas()},
}
PARTS: dict[str, Callable[[], str]] = {
    "docs/baselines.md": reference.baseline_keys_markdown,
    "docs/dialects.md": reference.dialect_keys_markdown,
    "docs/formats.md": reference.formats_markdown,
    "docs/guide.md": reference.engagement_keys_markdown,
    "docs/reports.md": reference.outputs_markdown,
}


def wanted(name: str) -> str:
    """The page as it should be."""
    if name in WHOLE:
        return WHOLE[name]()
    head, mark, _ = (ROOT / name).read_text().partition(MARK)
    assert mark, f"{name} has no place for what is made from the program"
    return head + mark + PARTS[name]().rstrip() + "\n"


def _walked(name: str) -> str:
    with tempfile.TemporaryDirectory() as folder:
        return WALKED[name]((ROOT / name).read_text(), Path(folder))


WALKED: dict[str, Callable[[str, Path], str]] = {
    "docs/guide.md": walks.guide,
    "docs/library.md": lambda page, folder: walks.library(page, folder)[0],
}
"""Pages that show what came out. Their tests, which look at more than the text, are in tests/test_docs.py."""

if __name__ == "__main__":
    for name in WALKED:
        (ROOT / name).write_text(_walked(name))
    for name in (*WHOLE, *PARTS):
        (ROOT / name).write_text(wanted(name))

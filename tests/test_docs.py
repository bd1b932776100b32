"""What the documents say is what the program does."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from aiguille.reports.reference import checks_markdown

ROOT = Path(__file__).parent.parent


def test_the_check_reference_is_current() -> None:
    assert (ROOT / "docs" / "checks.md").read_text() == checks_markdown()


@pytest.mark.parametrize("document", ["README.md", *(str(p.relative_to(ROOT)) for p in (ROOT / "docs").glob("*.md"))])
def test_links_lead_somewhere(document: str) -> None:
    path = ROOT / document
    for target in re.findall(r"\]\(([^)#]+)\)", path.read_text()):
        assert (path.parent / target).exists(), f"{document}: {target}"

"""What the audit says of every opinion's export, kept as text: `python -m tests.judgement.said` writes it anew, to be read as a diff.

A line a finding: severity, check, what was found, the lines it rests on, whether a packet proves it for certain.
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from pathlib import Path

from aiguille.baseline import Audit
from tests.judgement.opinions import Case, audit_of, cases

CASES = Path(__file__).parent / "cases"
NAME = "export"
"""What the folder of every export is called: devices without a name of their own are called after it."""
KEPT = Path(__file__).parent / "said.txt"


def kept_cases() -> Iterator[Case]:
    """The cases; of those that differ in one word the first."""
    seen = set()
    for case in cases(CASES):
        shape = case.title[:30], tuple(len(text.splitlines()) for text in case.files.values())
        if shape not in seen:
            seen.add(shape)
            yield case


def said(audit: Audit, folder: Path) -> str:
    """The findings of an audit, a line each."""
    out = []
    for one in audit.findings:
        places = ", ".join(f"{e.where.file.removeprefix(f'{folder}/')}:{e.where.first}" for e in one.evidence)
        proof = "" if one.proof is None else " proved" if one.proof.certain else " perhaps"
        who = f" [{one.who}]" if one.who is not None else ""
        out.append(f"  {one.severity.value} {one.check}: {one.detail} ({places}){who}{proof}")
    return "\n".join(sorted(out))


def kept() -> dict[str, str]:
    """What is kept, by the title of the case."""
    blocks = KEPT.read_text(encoding="utf-8").rstrip("\n").split("\n\n")
    return dict(block.partition("\n")[::2] for block in blocks)  # type: ignore[arg-type]


def whole() -> str:
    parts = []
    for case in kept_cases():
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / NAME
            parts.append("\n".join(filter(None, (case.title, said(audit_of(case, place), place)))))
    return "\n\n".join(parts) + "\n"


if __name__ == "__main__":
    KEPT.write_text(whole(), encoding="utf-8")

"""What the audit says of small exports is what a competent auditor would say."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.judgement.opinions import Case, audit_of, cases, wrong
from tests.judgement.said import NAME, kept, said

CASES = tuple(cases(Path(__file__).parent / "cases"))
KEPT = kept()


@pytest.mark.parametrize("case", CASES, ids=[case.title for case in CASES])
def test_the_audit_says_what_an_auditor_would(case: Case, tmp_path: Path) -> None:
    place = tmp_path / NAME
    audit = audit_of(case, place)
    assert not audit.estate.failures, audit.estate.failures
    if case.title in KEPT:
        assert said(audit, place) == KEPT[case.title], (
            "write it anew with `python -m tests.judgement.said`, and read the diff"
        )
    against = [f"{line}: {why}" for line in case.expected if (why := wrong(audit, line))]
    assert not against, "\n".join(against)


def test_there_are_opinions_enough() -> None:
    assert len(CASES) >= 150
    assert sum(len(case.expected) for case in CASES) >= 400

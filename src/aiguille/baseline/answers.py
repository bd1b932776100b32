"""What the auditee says of findings: open, fixed, disputed or accepted, who sees to it, and until when.

Answers are kept in `answers.toml` beside the engagement, by fingerprint, and change nothing of what the audit finds: what is said to be
fixed and is still there is reported as just that. The file also keeps the short numbers of all findings, answered or not.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from itertools import count
from typing import Any

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from aiguille.baseline.audit import Audit
from aiguille.baseline.causes import with_causes
from aiguille.baseline.findings import Finding, Reply, Status
from aiguille.model import UsageError

FILE_NAME = "answers.toml"
_FINGERPRINT = re.compile(r"[0-9a-f]{16}")


class _Header(Struct, frozen=True, forbid_unknown_fields=True):
    title: str = ""


class _File(Struct, frozen=True, forbid_unknown_fields=True):
    engagement: _Header = _Header()
    answer: tuple[Reply, ...] = ()
    numbers: dict[str, int] = {}


class Kept(Struct, frozen=True):
    """A file of answers: what was said, and the number of each finding by its fingerprint, 12 for F-12."""

    replies: tuple[Reply, ...] = ()
    numbers: Mapping[str, int] = {}


def load(name: str, title: str) -> Kept:
    """Read a file of answers; `title` is that of the engagement it should belong to.

    Raises UsageError with what is wrong and where.
    """
    import tomllib

    from aiguille.readers.whole import whole_text

    text = whole_text(name)
    try:
        raw = msgspec.convert(tomllib.loads(text), _File)
    except tomllib.TOMLDecodeError as error:
        raise UsageError(f"{name}: this is not valid TOML: {error}") from error
    except RecursionError as error:
        raise UsageError(f"{name}: values are nested deeper than any answers need") from error
    except msgspec.ValidationError as error:
        raise UsageError(f"{name}: {_place(text, str(error))}") from error
    if raw.engagement.title != title:
        raise UsageError(
            f"{name}: these are answers of the engagement '{raw.engagement.title}', and this one is '{title}'"
        )
    seen: set[str] = set()
    for one in raw.answer:
        if not _FINGERPRINT.fullmatch(one.finding):
            raise UsageError(
                f"{name}: '{one.finding}' is no fingerprint: 16 digits 0-9 and a-f, as the audit prints them"
            )
        if one.finding in seen:
            raise UsageError(f"{name}: finding {one.finding} is answered twice; keep one of the two")
        seen.add(one.finding)
    if len(set(raw.numbers.values())) < len(raw.numbers) or any(n < 1 for n in raw.numbers.values()):
        raise UsageError(f"{name}: two findings have the same number, or one has none; take the table 'numbers' out")
    return Kept(raw.answer, raw.numbers)


def _place(text: str, error: str) -> str:
    found = re.search(r"\$\.answer\[(\d+)\]", error)
    starts = [n for n, line in enumerate(text.splitlines(), 1) if line.strip() == "[[answer]]"]
    if found is None or int(found[1]) >= len(starts):
        return error
    return f"the answer at line {starts[int(found[1])]}: {error}"


def dump(kept: Kept, title: str) -> str:
    """The text of a file of answers, in the order of the numbers."""
    import tomli_w

    entries: list[dict[str, Any]] = []
    for one in sorted(kept.replies, key=lambda reply: (kept.numbers.get(reply.finding, 1 << 30), reply.finding)):
        described = {name: getattr(one, name) for name in Reply.__struct_fields__}
        entries.append(
            {k: v.value if isinstance(v, Status) else v for k, v in described.items() if v not in ("", None)}
        )
    numbers = dict(sorted(kept.numbers.items(), key=lambda item: item[1]))
    head = "# What the auditee says of the findings; `aiguille answers WORKBOOK PATH` merges a workbook into it.\n\n"
    return head + tomli_w.dumps({"engagement": {"title": title}, "answer": entries, "numbers": numbers})


def apply(audit: Audit, kept: Kept) -> Audit:
    """The audit with the answers beside its findings, each numbered as it was before and new ones after all of them."""
    by_finding = {one.finding: one for one in kept.replies}
    free = count(max(kept.numbers.values(), default=0) + 1)
    numbered = [
        replace(one, number=kept.numbers.get(one.fingerprint) or next(free), answer=by_finding.get(one.fingerprint))
        for one in audit.findings
    ]
    return replace(audit, findings=with_causes(numbered), answers=kept.replies)


class AnswerChange(Struct, frozen=True):
    """What a merge makes of one finding's answer; before: None where there was none."""

    before: Reply | None
    after: Reply


def merge(audit: Audit, kept: Kept, given: Sequence[Reply]) -> tuple[Kept, tuple[AnswerChange, ...]]:
    """What is to be kept with the answers given in their place, and what changed by it."""
    found = {one.fingerprint: one for one in audit.findings}
    out = {one.finding: one for one in kept.replies}
    changes = []
    for one in given:
        before = out.get(one.finding)
        here: Finding | Reply | None = found.get(one.finding) or before
        device, check = (here.device, here.check) if here is not None else ("", "")
        whole = replace(one, device=device, check=check, said=audit.estate.as_of)
        if before is None or replace(before, said=whole.said) != whole:
            out[one.finding] = whole
            changes.append(AnswerChange(before, whole))
    numbers = {**kept.numbers, **{one.fingerprint: one.number for one in audit.findings}}
    return Kept(tuple(out.values()), numbers), tuple(changes)


class Tally(Struct, frozen=True):
    """How the findings of an audit are answered.

    still: said to be fixed and found again; overdue: not fixed by the day that was named; ended: accepted until a day that is past
    gone: answered and no longer found
    """

    answered: int
    still: tuple[Finding, ...]
    overdue: tuple[Finding, ...]
    ended: tuple[Finding, ...]
    disputed: tuple[Finding, ...]
    gone: tuple[Reply, ...]


def tally(audit: Audit) -> Tally:
    as_of = audit.estate.as_of
    described = [(one, one.answer) for one in audit.findings if one.answer is not None]
    here = {one.fingerprint for one in (*audit.findings, *(f for f, _ in audit.accepted))}

    def those(status: Status, late: bool | None = None) -> tuple[Finding, ...]:
        return tuple(f for f, a in described if a.status is status and (late is None or a.is_overdue(as_of) is late))

    return Tally(
        len(described),
        those(Status.FIXED),
        those(Status.OPEN, True),
        those(Status.ACCEPTED, True),
        those(Status.DISPUTED),
        tuple(one for one in audit.answers if one.finding not in here),
    )

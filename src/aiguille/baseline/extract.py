"""The part of an audit that the owner of some devices is handed: theirs, and nothing of the others'."""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Sequence

from msgspec.structs import replace

from aiguille.analysis.outlines import Outline, outlines
from aiguille.baseline.audit import Audit
from aiguille.baseline.findings import Evidence, Finding
from aiguille.model import UsageError


def extract(audit: Audit, owned: Sequence[str]) -> Audit:
    """The audit of the devices of these names or tags, as their owner may see it.

    Findings keep their numbers, and what is said of other devices goes: that they share a finding, their lines, notes and failures.
    Which accepted risks and answers are theirs follows from the findings.

    Raises UsageError, with the nearest ones, for a name that is neither a device nor a tag.
    """
    devices = outlines(audit.estate)
    tags = {tag for device in devices for tag in device.tags}
    known = sorted({device.name for device in devices} | tags)
    for name in owned:
        if name not in known:
            near = difflib.get_close_matches(name, known, n=2) or known[:8]
            raise UsageError(f"there is no device or tag '{name}'; did you mean {' or '.join(near)}?")
    kept = [device for device in devices if device.name in owned or not {*device.tags}.isdisjoint(owned)]
    mine = audit.narrowed(device=[device.name for device in kept])
    theirs = _paths(device for device in devices if device not in kept) - _paths(kept)
    names = {device.name for device in kept}
    numbers = {finding.fingerprint for finding in mine.findings}
    return replace(
        mine,
        estate=replace(
            mine.estate,
            failures=(),
            notes=tuple(note for note in mine.estate.notes if _is_of(note, kept)),
        ),
        findings=tuple(_owned(one, names, theirs) for one in mine.findings),
        accepted=tuple((_owned(one, names, theirs), why) for one, why in mine.accepted),
        notes=tuple(note for note in mine.notes if _is_of(note, kept)),
        answers=tuple(one for one in mine.answers if one.finding in numbers),
    )


def _paths(devices: Iterable[Outline]) -> set[str]:
    return {source.path for device in devices for source in device.sources}


def _is_of(note: str, devices: Sequence[Outline]) -> bool:
    """Whether a note begins with the name of one of some devices, or with a file of theirs."""
    return any(note.startswith((f"{one.name}:", *(source.path for source in one.sources))) for one in devices)


def _owned(finding: Finding, names: set[str], theirs: set[str]) -> Finding:
    """A finding without what it has of other devices; where it stood with one of them, it stands with the first of these."""
    on = [name for name in (finding.device, *finding.also_on) if name in names]
    return replace(
        finding,
        device=on[0],
        also_on=tuple(on[1:]),
        hits=tuple(one for one in finding.hits if one[0] in names),
        evidence=_without(finding.evidence, theirs),
        consequences=tuple(replace(one, evidence=_without(one.evidence, theirs)) for one in finding.consequences),
    )


def _without(evidence: tuple[Evidence, ...], theirs: set[str]) -> tuple[Evidence, ...]:
    return tuple(one for one in evidence if one.where.file not in theirs)

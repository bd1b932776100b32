"""The full story of one finding: what it rests on, the walk of the packet that proves it, where else it occurs."""

from __future__ import annotations

import re
from collections.abc import Iterable
from datetime import date, timedelta

from msgspec import Struct

from aiguille.analysis.outlines import outlines
from aiguille.analysis.program import Programs
from aiguille.analysis.walk.answers import Answer
from aiguille.analysis.walk.probe import Prober
from aiguille.baseline.audit import Audit
from aiguille.baseline.findings import Acceptance, Finding
from aiguille.baseline.folding import OPENING
from aiguille.baseline.mending import Mended, if_mended
from aiguille.baseline.tailoring import Chosen
from aiguille.model import Device, Span, UsageError
from aiguille.model.masking import mask_secrets

SHORTEST = 4
"""Digits of a fingerprint that are enough to name a finding, if no other begins so."""

AROUND = 3
"""Lines shown before and after those a finding rests on."""

ACCEPTED_FOR = timedelta(days=90)
"""How long a proposed acceptance lasts: until the next review, if those are quarterly."""


class StoryLine(Struct, frozen=True):
    """A line of an export: its number, its text with secrets masked, and whether the finding rests on it."""

    number: int
    text: str
    meant: bool


class Excerpt(Struct, frozen=True):
    """Lines of one file around those a finding rests on."""

    where: Span
    lines: tuple[StoryLine, ...]


class Story(Struct, frozen=True):
    """One finding with what there is to know of it.

    chosen: the check as it ran on this device
    walk: what the proving packet meets on its way; None for findings without one
    elsewhere: findings of the same check on other devices, by device
    until: the day a proposed acceptance ends
    mended: what would become of the device without the rule, or with a refusing default; None where neither is behind it
    """

    finding: Finding
    device: Device
    chosen: Chosen | None
    excerpts: tuple[Excerpt, ...]
    walk: Answer | None
    accepted: Acceptance | None
    elsewhere: tuple[tuple[str, int], ...]
    until: date
    mended: Mended | None = None


def describe(audit: Audit, fingerprint: str, others: Iterable[tuple[str, str]] = ()) -> Story:
    """The story of the finding whose fingerprint is, or begins with, the one given.

    others: check and device of findings on devices that were not audited

    Raises UsageError if none does, or several do.
    """
    return story_of(audit, *_named(audit, fingerprint), others)


def story_of(
    audit: Audit, finding: Finding, accepted: Acceptance | None = None, others: Iterable[tuple[str, str]] = ()
) -> Story:
    """The story of one of an audit's findings, with what became of it if it is accepted.

    others: as for `describe`
    """
    device = next(one for one in audit.estate.devices if one.name == finding.device)
    chosen = audit.baseline.for_device(device) if audit.baseline else ()
    walk = None
    if finding.proof is not None:
        walk = Answer((Prober(Programs(device)).probe(finding.proof.packet),))
    counts: dict[str, int] = {}
    for check, name in (*((one.check, one.device) for one in audit.findings), *others):
        if check == finding.check and name != finding.device:
            counts[name] = counts.get(name, 0) + 1
    order = {one.name: at for at, one in enumerate(outlines(audit.estate))}
    return Story(
        finding,
        device,
        next((one for one in chosen if one.check.id == finding.check), None),
        tuple(_excerpt(device, evidence.where) for evidence in finding.evidence),
        walk,
        accepted,
        tuple(sorted(counts.items(), key=lambda held: order[held[0]])),
        audit.estate.as_of + ACCEPTED_FOR,
        if_mended(audit, finding, finding.device) if finding.check in OPENING else None,
    )


_NUMBER = re.compile(r"f-?([0-9]{1,5})")


def _named(audit: Audit, fingerprint: str) -> tuple[Finding, Acceptance | None]:
    wanted = fingerprint.lower()
    if numbered := _NUMBER.fullmatch(wanted):
        number = int(numbered[1])
        one = next((one for one in audit.findings if one.number == number), None)
        if one is None:
            raise UsageError(f"there is no finding F-{number}; this audit has {len(audit.findings)}")
        return one, None
    if len(wanted) < SHORTEST or any(sign not in "0123456789abcdef" for sign in wanted):
        raise UsageError(
            f"'{fingerprint}' is no fingerprint: at least {SHORTEST} of its 16 digits 0-9 and a-f, as the audit prints them"
        )
    described: list[tuple[Finding, Acceptance | None]] = [*((one, None) for one in audit.findings), *audit.accepted]
    found = [one for one in described if one[0].fingerprint.startswith(wanted)]
    if not found:
        # A consequence stands with what it follows from.
        found = [one for one in described if any(c.fingerprint.startswith(wanted) for c in one[0].consequences)]
    if not found:
        raise UsageError(
            f"no finding of these exports has a fingerprint that begins with '{wanted}'; it may be mended, or the baseline is another"
        )
    if len(found) > 1:
        names = ", ".join(f"{one.fingerprint} ({one.check} on {one.device})" for one, _ in found[:6])
        raise UsageError(f"'{wanted}' begins the fingerprints of {len(found)} findings: {names}; give more digits")
    return found[0]


def _excerpt(device: Device, where: Span) -> Excerpt:
    source = next((one for one in device.sources if one.path == where.file), None)
    if source is None:
        return Excerpt(where, ())
    first, last = max(1, where.first - AROUND), min(len(source.lines), where.last + AROUND)
    texts = device.text(Span(where.file, first, last))
    # What stands around is there by chance, so what looks like a secret in it is masked.
    lines = (
        StoryLine(number, text, True)
        if where.first <= number <= where.last
        else StoryLine(number, mask_secrets(text), False)
        for number, text in enumerate(texts, first)
    )
    return Excerpt(where, tuple(lines))

"""Files of claims: what must hold, why, whose it is, how bad it is if it does not."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterator, Sequence
from pathlib import Path

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.analysis.claims import Answer, Claim, Holds, judge, knows, names_of, read_claim
from aiguille.analysis.program import Programs
from aiguille.analysis.study import Study
from aiguille.baseline.catalogue import Answer as Described
from aiguille.baseline.catalogue import (
    Area,
    CannotTell,
    Check,
    NotApplicable,
    Passed,
    Severity,
    Subject,
    finding_from,
    speak,
)
from aiguille.baseline.folding import CLAIM
from aiguille.baseline.tailoring import Baseline
from aiguille.baseline.wording import capital
from aiguille.model import Device, Estate, TooComplexError, UnreadableError, UsageError
from aiguille.model.spelling import spell_operand
from aiguille.space.effort import limited

FILE_NAME = "claims.yaml"
"""What a file of claims beside an engagement is called."""

CLAIM_EFFORT = 3_000_000
"""Steps of work that one claim may take on one device; see `space.effort`."""


class ClaimEntry(Struct, forbid_unknown_fields=True, frozen=True):
    """A statement that must hold.

    claim: the statement, as "never guests to lifts"
    title: what to call it
    reason: why it must hold
    owner: who answers for it
    severity: that of the finding where it does not hold
    devices: those it speaks of, all that have such ends if none is named
    """

    claim: str
    title: str = ""
    reason: str = ""
    owner: str = ""
    severity: Severity = Severity.HIGH
    devices: tuple[str, ...] = ()


class ClaimsFile(Struct, forbid_unknown_fields=True, frozen=True):
    """A file of claims.

    claims: the statements
    """

    claims: tuple[ClaimEntry, ...] = field(default_factory=tuple)


class Stated(Struct, frozen=True):
    """A claim with its place."""

    entry: ClaimEntry
    claim: Claim
    file: str
    line: int


class Judged(Struct, frozen=True):
    """A claim with what became of it on each device that has such ends."""

    stated: Stated
    answers: tuple[Answer, ...]

    @property
    def holds(self) -> Holds:
        """Refuted if it is on one device, else open if it is on one."""
        found = {one.holds for one in self.answers}
        return next(one for one in (Holds.REFUTED, Holds.CANNOT_TELL, Holds.PROVED) if one in found)


def load(name: str) -> tuple[Stated, ...]:
    """Read a file of claims; raises UsageError with file, line and what is wrong, claims that contradict one another included."""
    from aiguille.readers import yamlfile
    from aiguille.readers.whole import whole_text

    if name.lower().endswith((".csv", ".tsv", ".xlsx")):
        return _matrix(name)
    text = whole_text(name)
    file = yamlfile.load(name, text, "a file of claims", "claims:")
    known = ("claims", "claim", "title", "reason", "owner", "severity", "devices")
    raw = yamlfile.convert(file, ClaimsFile, known, "a file of claims")
    out: list[Stated] = []
    for number, entry in enumerate(raw.claims):
        try:
            claim = read_claim(entry.claim)
        except UsageError as error:
            raise file.fault(error.message, "claims", number, "claim") from error
        out.append(Stated(entry, claim, name, file.line("claims", number)))
    for stated in out:
        for other in out:
            if _contradict(stated, other):
                raise UsageError(
                    f"{name}:{other.line}: '{other.claim.text}' contradicts '{stated.claim.text}' in line {stated.line}; one of them "
                    "must go"
                )
    return tuple(out)


_NOTHING = ("no", "none", "nothing", "never", "deny", "denied", "-", "0", "✗")
_ANYTHING = ("yes", "any", "all", "anything", "everything", "allow", "allowed", "*", "1", "✓")


def _matrix(name: str) -> tuple[Stated, ...]:
    """A sheet of who may reach whom: zones down the side and along the top, what may pass in the cells.

    A cell that says nothing may pass, or names services, is a claim; one that is empty or says that anything may pass is none.
    Raises UsageError, with the cell, for what is no service.
    """
    import csv

    from aiguille.readers import load as load_file
    from aiguille.readers.mapped.spoken import spoken_service

    try:
        file = load_file(Path(name))
        sheet = file.sheets[0] if file.sheets else file
        first = sheet.lines[0] if sheet.lines else ""
        sign = "," if file.sheets else max(",;\t", key=first.count)
        rows = list(csv.reader((f"{line}\n" for line in sheet.lines), delimiter=sign))
    except (UnreadableError, csv.Error) as error:
        raise UsageError(str(error)) from error
    heads = [cell.strip() for cell in rows[0][1:]] if rows else []
    out: list[Stated] = []
    for line, row in enumerate(rows[1:], 2):
        source = row[0].strip() if row else ""
        for column, (destination, cell) in enumerate(zip(heads, row[1:], strict=False)):
            said = " ".join(cell.lower().split())
            if not (source and destination and said) or source == destination or said in _ANYTHING:
                continue
            services = () if said in _NOTHING else spoken_service(cell)
            place = f"{chr(ord('B') + column)}{line}" if column < _LETTERS else f"column {column + 2} of row {line}"
            if services is None:
                raise UsageError(
                    f"{name}:{line}: '{cell.strip()}' in {place} names no services; write 'https, tcp/8443', 'none' or 'any', say"
                )
            if any(one.icmp for one in services):
                # A claim speaks of ICMP as a whole; to take the cell for that would prove more than it says.
                raise UsageError(
                    f"{name}:{line}: '{cell.strip()}' in {place} names one type of ICMP, which claims do not distinguish from "
                    "the others; write 'icmp, icmpv6' if all of them may pass"
                )
            described = ", ".join(dict.fromkeys(spell_operand(one) for one in services))
            text = f"never {source} to {destination}" + (f" but on {described}" if described else "")
            try:
                claim = read_claim(text)
            except UsageError as error:
                raise UsageError(f"{name}:{line}: {error.message}") from error
            out.append(Stated(ClaimEntry(text), claim, name, line))
    if not out:
        raise UsageError(f"{name}:1: no cell says what may pass; write zones down the side and along the top")
    return tuple(out)


_LETTERS = 25


def _contradict(one: Stated, other: Stated) -> bool:
    """Whether two claims on the same ends and services can never both hold."""
    a, b = one.claim, other.claim
    alike = (a.source, a.destination, a.services) == (b.source, b.destination, b.services)
    families = a.family is None or b.family is None or a.family == b.family
    devices = (
        not one.entry.devices or not other.entry.devices or not {*one.entry.devices}.isdisjoint(other.entry.devices)
    )
    return (a.verb, b.verb) == ("never", "always") and alike and families and devices


def judged(estate: Estate, claims: Sequence[Stated]) -> tuple[Judged, ...]:
    """Every claim decided on every device it speaks of.

    Raises UsageError, with the line and the nearest names, for a claim whose ends or devices are nowhere.
    """
    studies = [Study(device, estate, Programs(device)) for device in estate.devices]
    out = []
    for stated in claims:
        home = {device.name for device in _at_home(estate, stated)}
        mine = [study for study in studies if study.device.name in home]
        # An address is the business of those who have a way to it, where anybody has.
        mine = [study for study in mine if knows(study.device, stated.claim)] or mine
        answers = []
        for study in mine:
            answer = _judge(study, stated.claim)
            if answer is not None:
                answers.append(answer)
        if not answers:
            known = names_of(mine)
            missing = [n for n in (stated.claim.source, stated.claim.destination) if n not in known]
            word = missing[0] if missing else stated.claim.source
            near = difflib.get_close_matches(word, known, n=3) or known[:8]
            raise UsageError(
                f"{stated.file}:{stated.line}: no device has both ends of '{stated.claim.text}'; there is {', '.join(near)}"
            )
        out.append(Judged(stated, tuple(answers)))
    return tuple(out)


def with_claims(baseline: Baseline, claims: Sequence[Stated]) -> Baseline:
    """The baseline with a check for each claim, which fails where the claim is refuted."""
    checks: list[Check] = []
    for stated in claims:
        slug = re.sub(r"[^a-z0-9]+", "-", (stated.entry.title or stated.claim.text).lower()).strip("-")[:60].strip("-")
        taken = {one.id for one in checks}
        names = (f"{CLAIM}{slug}", *(f"{CLAIM}{slug}-{number}" for number in range(2, len(claims) + 2)))
        checks.append(_as_check(next(name for name in names if name not in taken), stated))
    order = list(Area)
    catalogue = sorted((*baseline.catalogue, *checks), key=lambda one: order.index(one.area))
    last = baseline.layers[-1]
    return Baseline((*baseline.layers[:-1], replace(last, own=(*last.own, *checks))), tuple(catalogue))


def _as_check(name: str, stated: Stated) -> Check:
    entry, claim = stated.entry, stated.claim

    def run(subject: Subject) -> Iterator[Described]:
        device = subject.device
        if entry.devices and device.name not in entry.devices:
            yield NotApplicable("the claim speaks of other devices")
            return
        if not knows(device, claim) and any(
            knows(one, claim) for one in subject.study.estate.devices if not entry.devices or one.name in entry.devices
        ):
            yield NotApplicable("the claim is about what other devices have a way to")
            return
        answer = _judge(subject.study, claim)
        if answer is None:
            yield NotApplicable("the device does not have both ends of the claim")
        elif answer.holds is Holds.PROVED:
            yield Passed(f"it holds that '{claim.text}'")
        elif answer.holds is Holds.CANNOT_TELL or answer.proof is None:
            why = answer.why or "a packet may refute it, under a condition the export does not settle"
            yield CannotTell(f"whether '{claim.text}' holds: {why}")
        else:
            last = answer.proof.steps[-1]
            by = f"{capital(speak(last.chain, last.rule))} speaks against it"
            yield finding_from(answer.proof, f"'{claim.text}' does not hold. {by}.", subject=claim.text)

    return Check(
        id=name,
        title=f"Refuted: {entry.title or claim.text}",
        severity=entry.severity,
        controls=(),
        why=entry.reason or f"{stated.file} says that it must hold" + (f" ({entry.owner})." if entry.owner else "."),
        how=f"The claim '{claim.text}' of {stated.file}:{stated.line} is proved, or refuted with a packet.",
        fix="Change the rule that speaks against it, or the claim if it is no longer meant.",
        run=run,
    )


def homeless(estate: Estate, claims: Sequence[Stated]) -> tuple[str, ...]:
    """What there is to say of claims that speak of devices the estate does not have."""
    out = []
    for stated in claims:
        try:
            _at_home(estate, stated)
        except UsageError as error:
            out.append(error.message)
    return tuple(out)


def _at_home(estate: Estate, stated: Stated) -> list[Device]:
    """The devices a claim speaks of; raises UsageError, with the nearest names, for one there is not."""
    names = [device.name for device in estate.devices]
    for name in stated.entry.devices:
        if name not in names:
            near = difflib.get_close_matches(name, names, n=2) or names[:6]
            raise UsageError(f"{stated.file}:{stated.line}: there is no device '{name}'; there is {', '.join(near)}")
    return [device for device in estate.devices if not stated.entry.devices or device.name in stated.entry.devices]


def _judge(study: Study, claim: Claim) -> Answer | None:
    try:
        with limited(CLAIM_EFFORT, apart=True):
            return judge(study, claim)
    except TooComplexError as error:
        return Answer(study.device.name, Holds.CANNOT_TELL, why=error.message)
    except UsageError as error:
        return Answer(study.device.name, Holds.CANNOT_TELL, why=error.message)

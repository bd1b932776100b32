"""Files of claims: what must hold, why, whose it is, how bad it is if it does not."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterator, Sequence
from pathlib import Path

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.analysis.claims import (
    Answer,
    Claim,
    Holds,
    begins_at,
    has_ends,
    has_rule,
    judge,
    judge_across,
    knows,
    names_of,
    read_claim,
    refuted_across,
)
from aiguille.analysis.claims.words import DECIDED
from aiguille.analysis.decide import Proof
from aiguille.analysis.endtoend import Row
from aiguille.analysis.outlines import Outline, outlines
from aiguille.analysis.program import Programs
from aiguille.analysis.reach import Reaches
from aiguille.analysis.study import Study
from aiguille.baseline.catalogue import Answer as Described
from aiguille.baseline.catalogue import (
    Area,
    CannotTell,
    Check,
    Found,
    NotApplicable,
    Passed,
    Severity,
    Subject,
    finding_from,
    refer,
    speak,
)
from aiguille.baseline.folding import CLAIM
from aiguille.baseline.tailoring import Baseline
from aiguille.baseline.wording import capital
from aiguille.model import Device, Direction, Estate, TooComplexError, UnreadableError, UsageError
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
    devices, tags: those it speaks of, by name and by tag; all that have such ends if none is named
    """

    claim: str
    title: str = ""
    reason: str = ""
    owner: str = ""
    severity: Severity = Severity.HIGH
    devices: tuple[str, ...] = ()
    tags: tuple[str, ...] = ()


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
    known = ("claims", "claim", "title", "reason", "owner", "severity", "devices", "tags")
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
    whens = [(claim.hours, claim.moment) for claim in (a, b) if claim.hours or claim.moment is not None]
    return (a.verb, b.verb) == ("never", "always") and alike and families and devices and len(set(whens)) < 2


def judged(estate: Estate, claims: Sequence[Stated]) -> tuple[Judged, ...]:
    """Every claim decided on every device it speaks of.

    Raises UsageError, with the line and the nearest names, for a claim whose ends or devices are nowhere.
    """
    studies = [Study(device, estate, Programs(device)) for device in estate.devices]
    reaches = Reaches(estate, detailed=True, studies={one.device.name: one for one in studies})
    out = []
    for stated in claims:
        home = _at_home(estate, stated)
        mine = [study for study in studies if study.device.name in home]
        # An address is the business of those who have a way to it, where anybody has.
        mine = [study for study in mine if knows(study.device, stated.claim)] or mine
        answers = [answer for study in mine if (answer := _judge(study, stated.claim)) is not None]
        if not answers:
            answers = [_across(reaches, mine, stated, home)]
        elif len(home) > 1 and (beside := refuted_across(reaches, stated.claim, home)) is not None:
            answers.append(beside)
        out.append(Judged(stated, tuple(answers)))
    return tuple(out)


def _across(reaches: Reaches, mine: Sequence[Study], stated: Stated, home: Sequence[str]) -> Answer:
    """A claim of which no device has both ends, decided between devices.

    Raises UsageError, with the line and the nearest names, where an end or a rule is nowhere.
    """
    claim = stated.claim
    both = [study for study in mine if has_ends(study, claim)]
    if both:
        what = claim.rule or claim.default_of
        chains = dict.fromkeys(str(c.name) for one in both for base in one.device.rulebases for c in base.chains)
        near = difflib.get_close_matches(what.partition("/")[0], list(chains), n=2) or list(chains)[:6]
        raise UsageError(
            f"{stated.file}:{stated.line}: {both[0].device.name} has no rule or default '{what}' to decide '{claim.text}'; "
            f"its chains are {', '.join(near)}"
        )
    try:
        return judge_across(reaches, claim, home)
    except UsageError as error:
        known = [*names_of(mine), *(name for place in reaches.places for name in place.names)]
        missing = [n for n in (claim.source, claim.destination) if n not in known]
        word = missing[0] if missing else claim.source
        near = difflib.get_close_matches(word, known, n=3) or known[:8]
        raise UsageError(
            f"{stated.file}:{stated.line}: no device has both ends of '{claim.text}'; there is {', '.join(near)}"
        ) from error


def with_claims(baseline: Baseline, claims: Sequence[Stated]) -> Baseline:
    """The baseline with a check for each claim, which fails where the claim is refuted."""
    checks: list[Check] = []
    between = _Between()
    for stated in claims:
        slug = re.sub(r"[^a-z0-9]+", "-", (stated.entry.title or stated.claim.text).lower()).strip("-")[:60].strip("-")
        taken = {one.id for one in checks}
        names = (f"{CLAIM}{slug}", *(f"{CLAIM}{slug}-{number}" for number in range(2, len(claims) + 2)))
        checks.append(_as_check(next(name for name in names if name not in taken), stated, between))
    order = list(Area)
    catalogue = sorted((*baseline.catalogue, *checks), key=lambda one: order.index(one.area))
    last = baseline.layers[-1]
    return Baseline((*baseline.layers[:-1], replace(last, own=(*last.own, *checks))), tuple(catalogue))


def _as_check(name: str, stated: Stated, between: _Between) -> Check:
    entry, claim = stated.entry, stated.claim

    def run(subject: Subject) -> Iterator[Described]:
        device = subject.device
        if not _speaks_of(entry, device):
            yield NotApplicable("the claim speaks of other devices")
            return
        if not knows(device, claim) and any(
            knows(one, claim) for one in subject.study.estate.devices if _speaks_of(entry, one)
        ):
            yield NotApplicable("the claim is about what other devices have a way to")
            return
        found = _judge(subject.study, claim)
        across = between.told_at(subject.study, entry, claim)
        if across is not None and across.row is not None and across.holds is Holds.REFUTED:
            yield _found_across(subject.study, claim, across.row)
            if found is None or found.holds is not Holds.REFUTED:
                return
        elif across is not None and (found is None or found.holds is Holds.PROVED):
            found = across
        answer = found
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


def _speaks_of(entry: ClaimEntry, device: Device | Outline) -> bool:
    named = not entry.devices or device.name in entry.devices
    return named and (not entry.tags or not {*entry.tags}.isdisjoint(device.tags))


class _Between:
    """What becomes of claims between devices, in the estate that was looked at last; all claims look at it once."""

    def __init__(self) -> None:
        self._estate: Estate | None = None
        self._studies: list[Study] = []

    def told_at(self, study: Study, entry: ClaimEntry, claim: Claim) -> Answer | None:
        """What there is to say at a device, which is the first of those a claim begins at; None elsewhere, and of nothing."""
        homes = [one.name for one in outlines(study.estate) if _speaks_of(entry, one)]
        if claim.verb == DECIDED or len(homes) < 2:
            return None
        if self._estate is not study.estate:
            self._estate = study.estate
            self._studies = [Study(one, study.estate, Programs(one)) for one in study.estate.devices]
        reaches = Reaches(study.estate, detailed=True, studies={one.device.name: one for one in self._studies})
        try:
            if begins_at(reaches, claim, homes).name != study.device.name:
                return None
            if any(has_ends(one, claim) for one in self._studies if one.device.name in homes):
                return refuted_across(reaches, claim, homes)
            return judge_across(reaches, claim, homes)
        except UsageError as error:
            nowhere = not any(has_ends(one, claim) for one in self._studies)
            here = study.device.name == homes[0] and nowhere
            return Answer(study.device.name, Holds.CANNOT_TELL, why=error.message) if here else None


def _found_across(study: Study, claim: Claim, row: Row) -> Described:
    """A finding for what refutes a claim between devices, with the packet where it begins."""
    way = [
        f"{stop.device.name} ({speak(step.chain, step.rule)}, {step.where or 'by default'})"
        for stop in row.stops
        for step in stop.deciders[-1:]
    ]
    detail = f"'{claim.text}' does not hold: {row.traffic.words()}, over {', then '.join(way)}."
    here = [step for stop in row.stops if stop.device is study.device for step in stop.deciders]
    return Found(
        detail=detail,
        subject=claim.text,
        where=tuple(dict.fromkeys(step.where for step in here if step.where is not None)),
        rules=tuple(refer(step.rulebase, step.chain, step.rule) for step in here),
        proof=_proof(study, row),
        severity=None,
        family=row.traffic.family,
        name=claim.text,
    )


def _proof(study: Study, row: Row) -> Proof | None:
    first = row.stops[0]
    direction = Direction.THROUGH_DEVICE if first.enters else Direction.FROM_DEVICE
    program = study.programs.get(row.traffic.family, direction) if first.device is study.device else None
    if program is None:
        return None
    return Proof(row.traffic.packet, study.decider(program).ends(row.traffic.packet.point(program.space)), program)


def homeless(estate: Estate, claims: Sequence[Stated]) -> tuple[str, ...]:
    """What there is to say of claims that speak of devices the estate does not have."""
    out = []
    for stated in claims:
        try:
            _at_home(estate, stated)
        except UsageError as error:
            out.append(error.message)
    return tuple(out)


def _at_home(estate: Estate, stated: Stated) -> list[str]:
    """The names of the devices a claim speaks of; raises UsageError, with the nearest names, for one there is not."""
    every = outlines(estate)
    names = [device.name for device in every]
    for name in stated.entry.devices:
        if name not in names:
            near = difflib.get_close_matches(name, names, n=2) or names[:6]
            raise UsageError(f"{stated.file}:{stated.line}: there is no device '{name}'; there is {', '.join(near)}")
    tags = {tag for device in every for tag in device.tags}
    for tag in stated.entry.tags:
        if tag not in tags:
            near = difflib.get_close_matches(tag, tags, n=2) or sorted(tags)[:6]
            known = f"; there is {', '.join(near)}" if near else ": no device has tags"
            raise UsageError(f"{stated.file}:{stated.line}: no device has the tag '{tag}'{known}")
    return [device.name for device in every if _speaks_of(stated.entry, device)]


def _judge(study: Study, claim: Claim) -> Answer | None:
    if not has_rule(study.device, claim):
        return None
    try:
        with limited(CLAIM_EFFORT, apart=True):
            return judge(study, claim)
    except TooComplexError as error:
        return Answer(study.device.name, Holds.CANNOT_TELL, why=error.message)
    except UsageError as error:
        return Answer(study.device.name, Holds.CANNOT_TELL, why=error.message)

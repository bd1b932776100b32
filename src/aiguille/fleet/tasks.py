"""What one export, and one device, takes of an audit of many: the same here, in another process and on another machine."""

from __future__ import annotations

from datetime import date

from msgspec import Struct
from msgspec.structs import replace

from aiguille.analysis.outlines import Outline, Surroundings, outline, set_surroundings
from aiguille.analysis.program import Programs
from aiguille.analysis.study import Study
from aiguille.baseline import accepted
from aiguille.baseline.asked import Asked
from aiguille.baseline.catalogue import Check
from aiguille.baseline.findings import Acceptance, CheckOutcome, Finding
from aiguille.baseline.folding import folded, is_claim
from aiguille.baseline.running import check_device
from aiguille.baseline.tailoring import Baseline
from aiguille.estate.finding import Gathered, Job
from aiguille.estate.reading import Knowledge, day_of, failure_of, notes_on, packed, read_job
from aiguille.model import Device, Estate, Failure, UnreadableError
from aiguille.readers.whole import whole_text
from aiguille.space.effort import set_effort


class Terms(Struct, frozen=True):
    """What every device of an audit is held to.

    effort: times the usual work a question may take
    whole: whether nothing is added to what a worker finds, so that it may set accepted findings aside and fold the rest
    """

    known: Knowledge
    baseline: Baseline
    acceptances: tuple[Acceptance, ...]
    as_of: date
    effort: int = 1
    whole: bool = True


class Order(Struct, frozen=True):
    """An audit as it is asked for, everything but the devices at hand."""

    gathered: Gathered
    terms: Terms
    asked: Asked

    def dialects(self) -> list[tuple[str, str]]:
        """The dialect files beside those that come with the package, those that are tried first at the front: name and text."""
        return [(str(path), whole_text(path)) for path in self.gathered.dialects]


def ordered(gathered: Gathered, known: Knowledge, asked: Asked, as_of: date | None = None, effort: int = 1) -> Order:
    """An audit of what was gathered; parameters as for `estate.read` and `Terms`."""
    day = day_of(gathered, as_of)
    terms = Terms(known, asked.baseline, asked.acceptances, day, effort, whole=not asked.stated)
    return Order(gathered, terms, asked)


class Read(Struct, frozen=True):
    """What an export held: its devices as outlines, the notes on each; or why it could not be read."""

    outlines: tuple[Outline, ...] = ()
    notes: tuple[tuple[str, ...], ...] = ()
    failure: Failure | None = None


class Checked(Struct, frozen=True):
    """What the baseline says of one device.

    accepted: findings set aside, each with the place of its entry on the list
    used: places of the entries that cover something
    """

    findings: tuple[Finding, ...]
    outcomes: tuple[CheckOutcome, ...]
    accepted: tuple[tuple[Finding, int], ...] = ()
    used: tuple[int, ...] = ()


def read(job: Job, known: Knowledge) -> tuple[Read, bytes]:
    """What an export holds, and its devices as `unpacked` takes them."""
    try:
        devices = read_job(job, known)
    except UnreadableError as error:
        return Read(failure=failure_of(job, error)), b""
    notes = tuple(tuple(notes_on(device, known.locations)) for device in devices)
    return Read(tuple(map(outline, devices)), notes), packed(devices)


def check(device: Device, around: Surroundings, terms: Terms) -> Checked:
    """A device held to the baseline, but for claims.

    around: what its checks ask of the other devices
    """
    set_effort(terms.effort)
    estate = Estate((device,), terms.as_of, locations=terms.known.locations)
    set_surroundings(estate, around)
    study = Study(device, estate, Programs(device))
    outcomes, findings = check_device(study, terms.baseline, only=_no_claim)
    done = Checked(tuple(findings), tuple(outcomes))
    return settled(done, terms) if terms.whole else done


def _no_claim(check: Check) -> bool:
    return not is_claim(check)


def settled(done: Checked, terms: Terms) -> Checked:
    """What is left of a device's findings when accepted ones are set aside, one for each cause."""
    found = accepted.settle(done.findings, done.outcomes, terms.acceptances, terms.as_of)
    return replace(
        done,
        findings=tuple(folded(found.findings)),
        outcomes=found.outcomes,
        accepted=found.accepted,
        used=tuple(sorted(found.used)),
    )

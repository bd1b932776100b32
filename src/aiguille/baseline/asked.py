"""What an audit is to hold devices to: a baseline, claims, accepted risks, answers, as given or as the engagement names them."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from typing import Protocol

from msgspec import Struct
from msgspec.structs import replace

from aiguille.baseline import accepted as risks
from aiguille.baseline import answers as replies
from aiguille.baseline import claims as claimed
from aiguille.baseline.audit import Audit
from aiguille.baseline.catalogue import Check
from aiguille.baseline.findings import Acceptance
from aiguille.baseline.folding import is_claim
from aiguille.baseline.loading import load
from aiguille.baseline.running import run
from aiguille.baseline.tailoring import STANDARD, Baseline
from aiguille.model import Estate


class Names(Protocol):
    """Files an engagement names or has beside it, empty if there is none: an estate, or what was gathered for one."""

    @property
    def title(self) -> str: ...
    @property
    def baseline(self) -> str: ...
    @property
    def accepted(self) -> str: ...
    @property
    def answers(self) -> str: ...
    @property
    def claims(self) -> str: ...


class Asked(Struct, frozen=True):
    """What devices are held to. baseline: with a check for each claim stated"""

    baseline: Baseline
    stated: tuple[claimed.Stated, ...]
    acceptances: tuple[Acceptance, ...]
    kept: replies.Kept


def asked(
    names: Names,
    catalogue: Sequence[Check],
    baseline: Baseline | str | None = None,
    *,
    accepted: str | None = None,
    answers: str | None = None,
    claims: str | None = None,
) -> Asked:
    """Load what is asked for; parameters and errors as for `aiguille.audit`."""
    if baseline is None or isinstance(baseline, str):
        baseline = load(baseline or names.baseline or STANDARD, catalogue)
    every: tuple[claimed.Stated, ...] = ()
    if (stated := claims or names.claims) and not any(map(is_claim, baseline.catalogue)):
        every = tuple(claimed.load(stated))
        baseline = claimed.with_claims(baseline, every)
    path = accepted or names.accepted
    entries = risks.load(path, baseline.catalogue) if path else ()
    file = answers or names.answers
    kept = replies.load(file, names.title) if file else replies.Kept()
    return Asked(baseline, every, tuple(entries), kept)


def audited(
    estate: Estate,
    meant: Asked,
    *,
    jobs: int = 1,
    progress: Callable[[int, int], None] | None = None,
    devices: Collection[str] | None = None,
) -> Audit:
    """An estate held to it: findings folded and numbered, with accepted ones set aside and answers beside.

    jobs, progress, devices: see `running.run`
    """
    notes = claimed.homeless(estate, meant.stated) if meant.stated else ()
    found = run(estate, meant.baseline, jobs=jobs, progress=progress, devices=devices)
    return replies.apply(risks.apply(replace(found, notes=notes), meant.acceptances).folded(), meant.kept)

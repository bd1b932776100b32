"""The check catalogue and what comes of running it."""

from aiguille.baseline import accepted
from aiguille.baseline.audit import Audit
from aiguille.baseline.catalogue import Area, Check, Of, Outcome, Param, RuleRef, Severity, Subject
from aiguille.baseline.checks import geo, objects, system, usage
from aiguille.baseline.checks.access import login, reach
from aiguille.baseline.checks.deny import basics, between, defaults
from aiguille.baseline.checks.logging import records, refusals
from aiguille.baseline.checks.rules import any_to_any, documentation, members, mistakes, order, restrictions, width
from aiguille.baseline.findings import Acceptance, CheckOutcome, Evidence, Finding, Witness, fingerprint
from aiguille.baseline.loading import load
from aiguille.baseline.running import run
from aiguille.baseline.tailoring import STANDARD, Baseline, Chosen, Layer

_MODULES = (
    reach,
    login,
    defaults,
    between,
    basics,
    refusals,
    records,
    geo,
    any_to_any,
    width,
    order,
    restrictions,
    members,
    mistakes,
    documentation,
    objects,
    usage,
    system,
)

CATALOGUE: tuple[Check, ...] = tuple(
    sorted((one for module in _MODULES for one in module.CHECKS), key=lambda one: tuple(Area).index(one.area))
)
"""Every check there is, by area."""

__all__ = [
    "CATALOGUE",
    "STANDARD",
    "Acceptance",
    "Area",
    "Audit",
    "Baseline",
    "Check",
    "CheckOutcome",
    "Chosen",
    "Evidence",
    "Finding",
    "Layer",
    "Of",
    "Outcome",
    "Param",
    "RuleRef",
    "Severity",
    "Subject",
    "Witness",
    "accepted",
    "fingerprint",
    "load",
    "run",
]

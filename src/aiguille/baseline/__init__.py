"""The check catalogue and what comes of running it."""

from aiguille.baseline import accepted
from aiguille.baseline.accepted import Acceptance
from aiguille.baseline.audit import Audit, CheckOutcome, Evidence, Finding, Witness, fingerprint, run
from aiguille.baseline.catalogue import Area, Check, Of, Outcome, Param, RuleRef, Severity, Subject
from aiguille.baseline.checks import (
    access,
    between,
    deny,
    geo,
    logging,
    login,
    members,
    mistakes,
    objects,
    order,
    papers,
    records,
    restrictions,
    rules,
    stateful,
    system,
    usage,
    width,
)
from aiguille.baseline.tailoring import STANDARD, Baseline, Chosen, Layer, load

_MODULES = (
    access,
    login,
    deny,
    between,
    stateful,
    logging,
    records,
    geo,
    rules,
    width,
    order,
    restrictions,
    members,
    mistakes,
    papers,
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

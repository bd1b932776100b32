"""The check catalogue and what comes of running it."""

from aiguille.baseline.audit import Audit, CheckOutcome, Evidence, Finding, fingerprint, run
from aiguille.baseline.catalogue import Area, Check, Outcome, Param, RuleRef, Severity, Subject
from aiguille.baseline.checks import access, deny, logging, rules

CATALOGUE: tuple[Check, ...] = (*access.CHECKS, *deny.CHECKS, *logging.CHECKS, *rules.CHECKS)
"""Every check there is, by area."""

__all__ = [
    "CATALOGUE",
    "Area",
    "Audit",
    "Check",
    "CheckOutcome",
    "Evidence",
    "Finding",
    "Outcome",
    "Param",
    "RuleRef",
    "Severity",
    "Subject",
    "fingerprint",
    "run",
]

"""Claims: statements on traffic that must hold, proved or refuted with a packet; see `words` for the language."""

from aiguille.analysis.claims.across import begins_at, judge_across, refuted_across
from aiguille.analysis.claims.judge import Answer, Holds, draft, has_ends, has_rule, judge, knows, names_of
from aiguille.analysis.claims.words import ANYBODY, Claim, read_claim

__all__ = [
    "ANYBODY",
    "Answer",
    "Claim",
    "Holds",
    "begins_at",
    "draft",
    "has_ends",
    "has_rule",
    "judge",
    "judge_across",
    "knows",
    "names_of",
    "read_claim",
    "refuted_across",
]

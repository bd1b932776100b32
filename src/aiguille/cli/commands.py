"""The commands there are."""

COMMANDS = (
    "read",
    "audit",
    "rules",
    "probe",
    "explain",
    "questions",
    "answers",
    "flows",
    "claims",
    "compare",
    "figure",
    "baseline",
    "dialect",
    "geo",
    "demo",
)
"""Commands in the order help lists them; each is a module of this package with NAME, HELP, EXAMPLES, add and run."""

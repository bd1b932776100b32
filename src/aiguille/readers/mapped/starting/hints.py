"""Words that people use in the names of fields, by what such a field usually holds."""

from __future__ import annotations

from collections.abc import Sequence

IN = ("out-of", "from", "in", "by", "incoming", "src", "source", "of", "arriving", "entering")
OUT = ("into", "to", "toward", "out", "outgoing", "dst", "dest", "destination", "leaving")
SOURCE = ("src", "source", "from", "of", "sender", "origin")
DESTINATION = ("dst", "dest", "destination", "to", "receiver", "target", "reach", "reaches")
COUNTS = ("hits", "hit", "count", "counter", "packets", "met", "seen", "matches", "used")
LOGS = ("log", "logged", "logging", "note", "noted", "record", "recorded", "told", "journal")
SWITCH_ON = ("enabled", "enable", "active", "live", "on", "state", "status")
SWITCH_OFF = ("disabled", "disable", "off", "resting", "inactive", "paused")
TEXTS = {
    "comment": (
        "comment",
        "comments",
        "description",
        "says",
        "why",
        "because",
        "marked",
        "titled",
        "remark",
        "remarks",
        "notes",
        "note",
        "purpose",
    ),
    "requester": ("requester", "owner", "asked", "requested", "contact"),
    "ticket": ("ticket", "change", "case"),
    "schedule": ("schedule", "during", "hours", "time", "times"),
}
DATES = {
    "last-hit": ("last", "seen"),
    "expires": ("expires", "expiry", "until", "valid"),
    "created-at": ("created", "made", "since"),
    "changed-at": ("changed", "touched", "modified", "updated"),
}
WAYS = ("direction", "way", "chain", "stage")
PEOPLE = ("who", "by", "changed", "made", "touched", "created", "asked", "owner")
ZONES = ("zone", "area", "side", "lane", "segment", "network", "bundle")
ORDER = ("no", "nr", "number", "seq", "position", "order", "seat")
SECRET = ("password", "passwd", "secret", "proof", "hash", "token", "passphrase", "psk")
EXCEPT = ("except", "excepting", "excluding", "exclude", "excluded", "but", "not", "without", "save", "minus", "unless")
DENYING = ("no", "never")
"""Words that turn the one behind them round, but say nothing alone: a column "No" holds numbers."""
PREPOSITIONS = (
    *("from", "to", "toward", "towards", "into", "out", "of", "in", "on", "at", "by", "via", "through", "over", "for", "with"),
    *("using", "when", "while", "during", "until", "under", "as", "is", "are", "means", "holds", "has", "then", "do"),
)  # fmt: skip
"""Words that lead to the next part of a sentence."""


def takes_back(words: Sequence[str]) -> bool:
    """Whether words in a row take something out, or back: "but not from", "no log"."""
    low = [word.lower() for word in words]
    return any(word in EXCEPT for word in low) or (len(low) > 1 and low[0] in DENYING)


MOVING = (
    "coming",
    "going",
    "arriving",
    "leaving",
    "entering",
    "bound",
    "headed",
    "sent",
    "destined",
    "addressed",
    "meant",
)
"""Words that people put before such a word."""
WHAT = (
    "service",
    "services",
    "port",
    "ports",
    "protocol",
    "proto",
    "address",
    "addresses",
    "interface",
    "because",
    "action",
)
ACTIONS = {
    **dict.fromkeys(
        ["accept", "allow", "allowed", "permit", "pass", "let", "welcome", "grant", "admit", "open", "let-in", "let-through"],
        "accept",
    ),
    **dict.fromkeys(
        ["drop", "deny", "denied", "block", "discard", "swallow", "ignore", "forbid", "silence", "stop", "shut"], "drop"
    ),
    **dict.fromkeys(["reject", "refuse", "decline", "answer-no", "turn-back", "say-no"], "reject"),
    **dict.fromkeys(["jump", "visit", "call"], "jump"),
    **dict.fromkeys(["return", "back"], "return"),
    **dict.fromkeys(["continue", "count", "log", "jot", "tally", "mark"], "continue"),
}  # fmt: skip
"""Common words for what a rule does."""

FLAGS = {
    **dict.fromkeys(["yes", "true", "on", "enabled", "active", "1"], True),
    **dict.fromkeys(["no", "false", "off", "disabled", "inactive", "0"], False),
}
STATES = {
    **dict.fromkeys(["new", "fresh"], "new"),
    **dict.fromkeys(["established", "running"], "established"),
    **dict.fromkeys(["related", "kin"], "related"),
    **dict.fromkeys(["invalid", "broken"], "invalid"),
}
ANY = frozenset(
    {"any", "all", "*", "anyone", "anybody", "anywhere", "anything", "everybody", "everywhere", "everything", "always"}
)
DECIDING = ("accept", "drop", "reject")
"""What a rule may do that ends the matter."""

"""Words that people use in the names of fields, by what such a field usually holds."""

from __future__ import annotations

IN = ("out-of", "from", "in", "by", "incoming", "src", "source", "of", "arriving", "entering")
OUT = ("into", "to", "toward", "out", "outgoing", "dst", "dest", "destination", "leaving")
SOURCE = ("src", "source", "from", "of", "sender", "origin")
DESTINATION = ("dst", "dest", "destination", "to", "receiver", "target")
COUNTS = ("hits", "hit", "count", "counter", "packets", "met", "seen", "matches", "used")
LOGS = ("log", "logged", "logging", "note", "noted", "record", "recorded", "told", "journal")
SWITCH_ON = ("enabled", "enable", "active", "live", "on", "state", "status")
SWITCH_OFF = ("disabled", "disable", "off", "resting", "inactive", "paused")
TEXTS = {
    "comment": ("comment", "comments", "description", "says", "why", "remark", "remarks", "notes", "note", "purpose"),
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

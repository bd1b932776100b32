"""The layout of baseline files and of files of accepted risks. Docstrings give the meaning of each key."""

from __future__ import annotations

from datetime import date
from typing import Any, Literal

from msgspec import Struct

from aiguille.baseline.catalogue import Severity
from aiguille.model import Side


class FileEntry(Struct, forbid_unknown_fields=True, frozen=True, rename="kebab"):
    """A table of the file."""


class Devices(FileEntry, frozen=True):
    """Which devices a scope is about; a device must fit every key that is given.

    names: device names; * stands for anything
    tags: tags of the engagement file, one of them
    dialects: dialects
    sides: the device has a zone on one of these sides
    """

    names: tuple[str, ...] = ()
    tags: tuple[str, ...] = ()
    dialects: tuple[str, ...] = ()
    sides: tuple[Side, ...] = ()


class Scope(FileEntry, frozen=True):
    """What is different for some devices.

    devices: for which
    omit: checks or areas left out there
    settings: parameters and severities there
    """

    devices: Devices
    omit: tuple[str, ...] = ()
    settings: dict[str, dict[str, Any]] = {}


class AddressTest(FileEntry, frozen=True):
    """What the addresses of a rule must be.

    within: all of them lie in these networks
    covers: all of these networks lie in them
    """

    within: tuple[str, ...] = ()
    covers: tuple[str, ...] = ()


class RuleTest(Struct, forbid_unknown_fields=True, frozen=True, rename=lambda name: name.rstrip("_").replace("_", "-")):
    """What a rule must be to count; it must fit every key that is given.

    action: accept, drop or reject
    from: sides or zones its packets may come from
    to: sides or zones they may go to; device for the device itself
    source: its source addresses
    destination: its destination addresses
    service: services it lets through or refuses, one of them, such as tcp/23
    openness-above: it decides more packets than two to this power
    logged: whether it records
    hits-at-most: it was hit at most as often
    hits-at-least: it was hit at least as often
    comment-matches: a pattern (RE2) its name or description fits
    comment-lacks: a pattern its name and description do not fit
    """

    action: tuple[Literal["accept", "drop", "reject"], ...] = ("accept",)
    from_: tuple[str, ...] = ()
    to: tuple[str, ...] = ()
    source: AddressTest | None = None
    destination: AddressTest | None = None
    service: tuple[str, ...] = ()
    openness_above: float | None = None
    logged: bool | None = None
    hits_at_most: int | None = None
    hits_at_least: int | None = None
    comment_matches: str | None = None
    comment_lacks: str | None = None


class OwnCheck(FileEntry, frozen=True):
    """A check of one's own: every rule that fits is a finding.

    id: area.name, with an area of the catalogue
    title: what is wrong, in a few words
    severity: critical, high, medium, low or info
    why: why it matters
    advice: what to do
    controls: control numbers, of whatever catalogue is used
    rules: which rules are findings
    unless: rules that are none all the same
    """

    id: str
    title: str
    rules: RuleTest
    advice: str
    severity: Severity = Severity.MEDIUM
    why: str = "The organisation's own baseline asks for it."
    controls: tuple[str, ...] = ()
    unless: RuleTest | None = None


class BaselineFile(FileEntry, frozen=True):
    """A baseline.

    baseline: its name
    about: what it is for
    extends: a baseline it builds on: standard, strict, host, or a file beside this one
    checks: the checks or areas to run; without it those of what it extends, or all
    omit: checks or areas left out
    settings: by check: its parameters, and severity
    scopes: what is different for some devices, later ones winning
    own-checks: checks of one's own
    """

    baseline: str
    about: str = ""
    extends: str = ""
    checks: tuple[str, ...] | None = None
    omit: tuple[str, ...] = ()
    settings: dict[str, dict[str, Any]] = {}
    scopes: tuple[Scope, ...] = ()
    own_checks: tuple[OwnCheck, ...] = ()


class AcceptedRisk(FileEntry, frozen=True):
    """Findings that somebody answers for, for a while.

    finding: the fingerprint of one finding; or, instead:
    check: a check
    device: on which device, * standing for anything
    rule: words of a line the finding rests on
    reason: why it is accepted
    owner: who answers for it
    until: the last day it is accepted
    """

    reason: str
    owner: str
    until: date
    finding: str = ""
    check: str = ""
    device: str = ""
    rule: str = ""


class AcceptedFile(FileEntry, frozen=True):
    """A file of accepted risks.

    accepted: the risks
    """

    accepted: tuple[AcceptedRisk, ...]


TABLES: tuple[type[Struct], ...] = (
    BaselineFile, Scope, Devices, OwnCheck, RuleTest, AddressTest, AcceptedFile, AcceptedRisk,
)  # fmt: skip
"""All tables, as documentation lists them."""

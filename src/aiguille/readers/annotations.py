"""What people wrote beside a rule, behind a ``#``, where the rule has no comment of its own.

Files that people keep by hand (`nftables.conf`, scripts, `rules` of Shorewall) say there what a rule is for, until when, and for whom.
A comment at the end of the rule's line is its own; one on the lines above is, where no other rule follows before the next gap.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from functools import partial
from pathlib import PurePath

from msgspec.structs import replace

from aiguille.model import Device, Rule
from aiguille.readers.shell import without_comment

_BY_HAND = frozenset(["iptables-save", "nftables", "linux-host"])
_SHIPPED = frozenset(["before.rules", "before6.rules", "after.rules", "after6.rules", "user.rules", "user6.rules"])
"""Files of ufw, whose comments are not the auditee's, or stand in the rules themselves."""

_OF_PROGRAMS = re.compile(r"#!|###|(Generated|Completed) (by|on)\b|handle \d+\s*$", re.IGNORECASE)
_SWITCHED_OFF = re.compile(
    r"(-[AIP] |\$?\{?\w*(iptables|ip6tables|IPT\w*|nft)\}? |(tcp|udp|ip6?|meta|ct|iifname|iif|oifname|icmp\w*) \S+ "
    r"|.*\b(accept|drop|reject)\s*;?$|.* -j \w+|(ACCEPT|DROP|REJECT|DNAT|REDIRECT)\b|[\w./-]+=\S*$|[-=*#~\s]*$)",
    re.IGNORECASE,
)
"""A rule that was taken out, or a line drawn."""


def with_annotations(device: Device) -> Device:
    """The device, its rules without a comment given what stands beside them."""
    if device.dialect not in _BY_HAND:
        return device
    files = {
        one.path: one.lines
        for one in device.sources
        if PurePath(one.path).name not in _SHIPPED and _holds_any(one.lines)
    }
    if not files:
        return device
    lines = {
        (rule.where.file, number)
        for base in device.rulebases
        for _, rule in base.rules()
        for number in range(rule.where.first, rule.where.last + 1)
    }
    bases = tuple(base.with_each_rule(partial(_rule, files=files, rules=lines)) for base in device.rulebases)
    return device if bases == device.rulebases else replace(device, rulebases=bases)


def _holds_any(lines: Sequence[str]) -> bool:
    return any("#" in line for line in lines) and not any(line.lstrip().startswith("<?xml") for line in lines[:3])


def _rule(rule: Rule, files: Mapping[str, Sequence[str]], rules: set[tuple[str, int]]) -> Rule:
    where = rule.where
    lines = files.get(where.file)
    if (
        lines is None
        or rule.comment
        or rule.built_in
        or rule.shipped
        or rule.implied
        or where.stop
        or not where.last <= len(lines)
    ):
        return rule
    last = lines[where.last - 1]
    said = _meant(last[len(without_comment(last)) :])
    if not said and (where.file, where.last + 1) not in rules:
        above = list(_above(lines, where.first))
        said = " ".join(reversed(above))
    return replace(rule, comment=said) if said else rule


def _above(lines: Sequence[str], first: int) -> Iterator[str]:
    """The lines of comment right above a line, the nearest first."""
    for number in range(first - 1, max(0, first - 4), -1):
        line = lines[number - 1].strip()
        if not line.startswith("#") or not (said := _meant(line)):
            return
        yield said


def _meant(text: str) -> str:
    """What a comment says to people; nothing where a program wrote it, or it is a rule that was taken out."""
    if _OF_PROGRAMS.match(text) or _OF_PROGRAMS.match(text.lstrip("# ")):
        return ""
    said = text.lstrip("# ").strip()
    return "" if not said or _SWITCHED_OFF.match(said) else said

"""What people wrote beside a rule, behind a ``#``, where the rule has no comment of its own.

Files that people keep by hand (`nftables.conf`, scripts, `rules` of Shorewall) say there what a rule is for, until when, and for whom.
A comment at the end of the rule's line is its own; one above is that of the few lines of rules that follow it without a gap.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from functools import partial
from pathlib import PurePath

from msgspec.structs import replace

from aiguille.model import Action, Device, Rule, Span
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
        or rule.action is Action.CONTINUE
        or rule.built_in
        or rule.shipped
        or rule.implied
        or where.stop
        or not where.last <= len(lines)
    ):
        return rule
    last = lines[where.last - 1]
    said = _meant(last[len(without_comment(last)) :])
    if not said and (first := _headed(where, lines, rules)):
        said = " ".join(reversed(list(_above(lines, first))))
    return replace(rule, comment=said) if said else rule


_FEW = 3
"""Lines of rules that one comment above them is taken to speak of; what stands above more is a heading."""


def _headed(where: Span, lines: Sequence[str], rules: set[tuple[str, int]]) -> int:
    """The first line of the run of rules without words of their own in which a rule stands; 0 where the run is long."""

    def bare(number: int) -> bool:
        if (where.file, number) not in rules:
            return False
        line = lines[number - 1]
        return len(without_comment(line)) == len(line) and "comment" not in line

    first, last = where.first, where.last
    while bare(first - 1) and last - first < _FEW:
        first -= 1
    while bare(last + 1) and last - first < _FEW:
        last += 1
    alone = (first, last) == (where.first, where.last)
    tops_the_file = all(line.lstrip().startswith("#") for line in lines[: first - 1])
    return first if alone or (last - first < _FEW and not tops_the_file) else 0


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

"""What one change would mend: a rule, a default, a setting, with the findings it stands behind; and exactly what goes if it goes.

Whether a finding goes is not guessed: the device is audited as if the rule were not there, or the default refused.
"""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum

from msgspec import Struct
from msgspec.structs import replace

from aiguille.baseline.catalogue import RuleRef, Severity
from aiguille.baseline.findings import Finding
from aiguille.model import Span
from aiguille.model.spelling import grouped


class CauseKind(StrEnum):
    """What a cause is."""

    RULE = "rule"
    DEFAULT = "default"
    SETTING = "setting"
    DEVICE = "device"


class Cause(Struct, frozen=True):
    """What one change would mend. number: that of the gravest finding it is behind, 3 for C-3; findings: all of them, gravest first."""

    number: int
    kind: CauseKind
    words: str
    devices: tuple[str, ...]
    where: Span | None
    findings: tuple[Finding, ...]

    @property
    def severity(self) -> Severity:
        return self.findings[0].severity

    @property
    def clears(self) -> int:
        """Findings and consequences it stands behind."""
        return sum(1 + len(one.consequences) for one in self.findings)


def effort(cause: Cause) -> str:
    """How much work mending it is, and what to ask first, in a few words: of rules, whether anything still uses them."""
    places = len(cause.devices)
    where = f" on each of {places} devices" if places > 1 else ""
    if cause.kind is CauseKind.SETTING:
        return f"one line{where}"
    if cause.kind is CauseKind.DEVICE:
        return f"work on the device{where}"
    if cause.kind is CauseKind.DEFAULT:
        return f"a default{where}: rules for what must pass come first"
    first = cause.findings[0].rules[0]
    # Devices of one export share a rule; each counts for itself.
    hits = {name: count for one in cause.findings if one.rules[:1] == (first,) for name, count in one.hits}
    if not hits:
        return f"one rule{where}; no counter says whether it is in use"
    count = sum(hits.values())
    return f"one rule{where}, " + ("never hit" if not count else f"hit {grouped(count)} times: ask who needs it first")


def causes(findings: Iterable[Finding]) -> tuple[Cause, ...]:
    """The causes of findings, in the order of the gravest finding of each."""
    groups: dict[object, list[Finding]] = {}
    for finding in findings:
        groups.setdefault(finding.cause or key_of(finding), []).append(finding)
    return tuple(cause_of(tuple(found)) for found in groups.values())


def with_causes(findings: Iterable[Finding]) -> tuple[Finding, ...]:
    """The findings, each with the number of its cause, which is that of the first finding behind it."""
    numbers: dict[object, int] = {}
    return tuple(replace(one, cause=numbers.setdefault(key_of(one), one.number)) for one in findings)


def key_of(finding: Finding) -> object:
    """What findings of one cause have in common."""
    if finding.rules:
        first = finding.rules[0]
        return finding.device, first.rulebase, first.chain, first.rule
    if finding.evidence:
        return finding.device, finding.evidence[0].where
    return finding.device, finding.check


def cause_of(found: tuple[Finding, ...]) -> Cause:
    """The cause of some findings that one change would mend, gravest first."""
    first = found[0]
    devices = tuple(dict.fromkeys(name for one in found for name in (one.device, *one.also_on)))
    where = first.evidence[0].where if first.evidence else None
    if first.rules:
        kind = CauseKind.DEFAULT if first.rules[0].rule == "policy" else CauseKind.RULE
        words = speak_of(first.rules[0])
    elif first.evidence:
        kind = CauseKind.SETTING
        words = " ".join(" ".join(first.evidence[0].text).split())[:120] or str(where)
    else:
        kind, words = CauseKind.DEVICE, first.title
    return Cause(first.cause or first.number, kind, words, devices, where, found)


def speak_of(rule: RuleRef) -> str:
    return f"the policy of chain {rule.chain}" if rule.rule == "policy" else f"rule {rule.rule} of chain {rule.chain}"

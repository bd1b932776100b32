"""One cause, one finding: what follows from the same rule, default or setting stands under the gravest of its findings.

A rule from anywhere to anywhere is also open on every port, lets mail out, leaves no trace and takes most of all packets; whoever
narrows it has done with all of that at once.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from msgspec import Struct
from msgspec.structs import replace

from aiguille.baseline.catalogue import Check, RuleRef, Severity
from aiguille.baseline.findings import Consequence, Evidence, Finding

OPENING = frozenset(
    [
        "access.reachable-from-outside",
        "access.exposed-service",
        "access.no-source-restriction",
        "access.cleartext",
        "access.too-many-sources",
        "access.needless-service",
        "access.default-port",
        "deny.no-rules",
        "system.start-up",
        "deny.to-device",
        "deny.through-device",
        "deny.from-device",
        "deny.between-inside",
        "deny.guests-inside",
        "deny.forwarding",
        "deny.egress",
        "deny.wider-ipv6",
        "deny.bogons",
        "deny.invalid",
        "geo.unrestricted",
        "geo.countries",
        "geo.only-restriction",
        "rules.any-to-any",
        "rules.any-source",
        "rules.any-service",
        "rules.wide-ports",
        "rules.openness",
        "rules.dangerous-service",
        "rules.outgoing-mail",
        "rules.published-service",
        "rules.source-port",
        "rules.needless-return",
        "rules.no-effect",
        "logging.permissive",
        "logging.sensitive",
        "logging.management",
        "rules.expired",
        "rules.temporary",
    ]
)
"""Checks on what a rule or default lets through: whatever mends one of them mends the others."""

CLAIM = "rules.claim-"
"""How the ids of checks begin that claims are made into; what mends a rule they are refuted by mends them."""


def is_claim(check: Check) -> bool:
    """Whether a check is a statement of the auditor's, which may speak of several devices at once."""
    return check.id.startswith(CLAIM)


_RANKED = (
    "rules.source-port", "deny.no-rules",
    "rules.any-to-any", "deny.to-device", "deny.through-device", "rules.any-service", "access.exposed-service",
    "access.reachable-from-outside", "rules.any-source", "deny.guests-inside", "deny.between-inside", "rules.dangerous-service",
    "access.no-source-restriction", "rules.outgoing-mail", "access.cleartext", "deny.egress", "rules.expired",
)  # fmt: skip
"""Of findings of one severity on a rule, which one says most of what is wrong with it."""

_EVERYWHERE = ("deny.bogons", "deny.invalid")
"""Checks that show what the whole device lacks by the example of a rule: they say least of what is wrong with that."""

_GROUPS = """
rules.undocumented rules.incomplete-documentation rules.copied-description rules.one-of-group rules.near-duplicate
    rules.redundant rules.disabled rules.temporary rules.impossible usage.rule-order usage.never-hit
    usage.long-idle
objects.unused objects.duplicate objects.empty objects.deep objects.shared-widths objects.undescribed
logging.management logging.permissive logging.sensitive logging.rate logging.noise logging.refusals
geo.unrestricted geo.countries geo.one-way
system.redirects system.source-routing system.spoofing system.helpers
access.shared-account access.root-login access.default-account access.password-policy system.backup
deny.from-device deny.no-final-refusal deny.answers-outside deny.invalid deny.established deny.loopback
access.needless-service access.default-port access.too-many-sources
access.cleartext usage.closed-service
"""
_HYGIENE = tuple(frozenset(group.split()) for group in _GROUPS.replace("\n    ", " ").split("\n") if group)
"""Checks whose light findings are mended in one go; on a device they stand together."""


Place = tuple[str, str]

_CONDITIONS = 2
"""Rules of a finding that speaks of one rule: itself, and another that stands in the way under a condition."""


class _Head(Struct):
    finding: Finding
    rules: set[Place]
    under: list[Finding]


def folded(findings: Iterable[Finding]) -> list[Finding]:
    """The findings on one device, in their order, consequences under the gravest finding on the same rules."""
    every = list(findings)
    heads: dict[str, _Head] = {}
    by_rule: dict[Place, _Head] = {}
    for finding in sorted(every, key=_gravity):
        about = [_place(rule) for rule in finding.rules]
        opens = finding.check in OPENING or finding.check.startswith(CLAIM)
        head = by_rule.get(about[0]) if about and opens else None
        if head is not None and (len(about) <= _CONDITIONS or set(about) <= head.rules):
            head.under.append(finding)
            continue
        mine = heads[finding.fingerprint] = _Head(finding, set(about), [])
        if opens:
            for rule in about:
                by_rule.setdefault(rule, mine)
    for group in _HYGIENE:
        light = [one for one in heads.values() if one.finding.check in group and _is_light(one.finding)]
        for other in light[1:]:
            light[0].under += [other.finding, *other.under]
            del heads[other.finding.fingerprint]
    out = []
    for finding in every:
        head = heads.get(finding.fingerprint)
        if head is not None:
            out.append(replace(finding, consequences=tuple(_consequences(head))))
    return out


def _consequences(head: _Head) -> Iterator[Consequence]:
    """What goes with a finding, said once: rules a program makes of one line have the same consequences."""
    said = set()
    for one in head.under:
        if (one.check, one.detail) not in said:
            said.add((one.check, one.detail))
            yield _consequence(one)


def _place(rule: RuleRef) -> Place:
    """What somebody would change: the line a rule comes from, however many rules a program makes of it."""
    where = rule.where
    return (
        (rule.rulebase, f"{rule.chain} {rule.rule}") if where is None else (where.file, f"{where.first} {where.column}")
    )


def _is_light(finding: Finding) -> bool:
    return finding.severity.rank < Severity.MEDIUM.rank


def _gravity(finding: Finding) -> tuple[int, int]:
    if finding.check in _RANKED:
        return -finding.severity.rank, _RANKED.index(finding.check)
    return -finding.severity.rank, len(_RANKED) + (finding.check in _EVERYWHERE)


def _consequence(finding: Finding) -> Consequence:
    return Consequence(
        finding.fingerprint, finding.check, finding.severity, finding.title, finding.detail, finding.evidence
    )


def with_siblings(findings: Iterable[Finding], group: Mapping[str, str]) -> list[Finding]:
    """The findings of an estate, those that several devices share joined to one: on the same lines of one export, or saying the
    same of siblings, each with its lines.

    group: what makes a device one of several siblings, in words, by its name; none for a device that has none
    """
    return joined_alike(joined_by_lines(findings), group)


def lines_of(finding: Finding) -> tuple[object, ...] | None:
    """What findings of several devices on the same lines have in common; None for one that rests on no line."""
    places = tuple(one.where for one in finding.evidence)
    return (finding.check, finding.severity, places) if places else None


def joined_by_lines(findings: Iterable[Finding]) -> list[Finding]:
    """The findings, those on the same lines of one export joined to one."""
    out: dict[object, Finding] = {}
    for finding in findings:
        key = lines_of(finding) or finding.fingerprint
        known = out.get(key)
        if known is None or finding.device in (known.device, *known.also_on):
            out[key if known is None else finding.fingerprint] = finding
        else:
            out[key] = replace(known, also_on=(*known.also_on, finding.device), hits=known.hits + finding.hits)
    return list(out.values())


def words_of(finding: Finding, group: Mapping[str, str]) -> tuple[object, ...] | None:
    """What findings that say the same of siblings have in common; None for one on a device that has none."""
    goes = frozenset((one.check, one.detail) for one in finding.consequences)
    siblings = group.get(finding.device, "")
    return (finding.check, finding.severity, finding.detail, goes, siblings) if siblings else None


def joined_alike(findings: Iterable[Finding], group: Mapping[str, str]) -> list[Finding]:
    """The findings, those that say the same of siblings joined to one, each with its lines."""
    alike: dict[object, Finding] = {}
    for finding in findings:
        same = words_of(finding, group) or finding.fingerprint
        known = alike.get(same)
        if known is None or finding.device in (known.device, *known.also_on):
            alike[same if known is None else finding.fingerprint] = finding
        else:
            theirs = {(one.check, one.detail): one.evidence for one in finding.consequences}
            alike[same] = replace(
                known,
                also_on=tuple(dict.fromkeys((*known.also_on, finding.device, *finding.also_on))),
                hits=known.hits + finding.hits,
                evidence=_both(known.evidence, finding.evidence),
                consequences=tuple(
                    replace(one, evidence=_both(one.evidence, theirs[one.check, one.detail]))
                    for one in known.consequences
                ),
            )
    return list(alike.values())


def _both(mine: tuple[Evidence, ...], theirs: tuple[Evidence, ...]) -> tuple[Evidence, ...]:
    return (*mine, *(one for one in theirs if one not in mine))

"""What becomes of a device if what a finding speaks of goes: exactly, by auditing it as if it were so."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import Struct
from msgspec.structs import replace

from aiguille.analysis.compare import Change, changes
from aiguille.baseline.audit import Audit
from aiguille.baseline.catalogue import RuleRef
from aiguille.baseline.causes import speak_of
from aiguille.baseline.findings import Consequence, Finding
from aiguille.baseline.running import audit_one
from aiguille.model import Action, Chain, Device, Hits, Rulebase, TooComplexError
from aiguille.space.effort import limited

TRAFFIC_EFFORT = 1_000_000
"""Steps of work that comparing the traffic of one what-if may take; see `space.effort`."""


class Mended(Struct, frozen=True):
    """What becomes of a device as if the rule of a finding were not there, or its default refused.

    change: what is changed, in words
    gone, new: findings of every kind on the device, consequences among them
    opens, closes: new connections that fare differently then; None where that is too entangled to tell
    hits: how often the rule or default was hit, as far as the export counts
    """

    change: str
    gone: tuple[Finding, ...]
    new: tuple[Finding, ...]
    opens: tuple[Change, ...] | None
    closes: tuple[Change, ...] | None
    hits: Hits | None


def if_mended(audit: Audit, finding: Finding | Consequence, device: str) -> Mended | None:
    """What would become of the device; None for a finding that no rule or accepting default is behind.

    Statements that a program turns into several rules go with all of them.
    """
    rules = finding.rules if isinstance(finding, Finding) else ()
    before = next(one for one in audit.estate.devices if one.name == device)
    made = _without(before, rules[0]) if rules and audit.baseline is not None else None
    if made is None or audit.baseline is None:
        return None
    change, after, hits = made
    estate = audit.estate
    changed = replace(estate, devices=tuple(after if one.name == device else one for one in estate.devices))
    first = {one.fingerprint: one for one in audit_one(estate, audit.baseline, device)}
    last = {one.fingerprint: one for one in audit_one(changed, audit.baseline, device)}
    try:
        with limited(TRAFFIC_EFFORT, apart=True):
            rows: list[Change] | None = changes(before, after)
    except TooComplexError:
        rows = None
    gone = [one for key, one in first.items() if key not in last]
    new = []
    for one in (one for key, one in last.items() if key not in first):
        same = next((old for old in gone if _is_one(old, one)), None)
        if same is None:
            new.append(one)
        else:
            gone.remove(same)
    return Mended(
        change,
        tuple(gone),
        tuple(new),
        None if rows is None else tuple(one for one in rows if one.opens),
        None if rows is None else tuple(one for one in rows if not one.opens),
        hits,
    )


def _is_one(old: Finding, new: Finding) -> bool:
    """Whether two findings are one in other words: what it gathers is fewer or more by what was changed."""
    places = {one.where for one in old.evidence} & {one.where for one in new.evidence}
    return old.check == new.check and old.severity is new.severity and bool(places or not old.evidence)


def _without(device: Device, ref: RuleRef) -> tuple[str, Device, Hits | None] | None:
    """The device without what a finding speaks of, with the change in words and the hits; None where there is nothing to take away."""
    base = next((one for one in device.rulebases if one.name == ref.rulebase), None)
    chain = base.chain(ref.chain) if base is not None else None
    if base is None or chain is None:
        return None
    if ref.rule == "policy":
        if chain.policy is not Action.ACCEPT:
            return None
        refusing = replace(chain, policy=Action.DROP, policy_is_default=False)
        return f"the policy of chain {chain.name} refused", _with(device, base, [(chain, refusing)]), chain.hits
    rule = next((one for one in chain.rules if one.number == ref.rule and one.where == ref.where), None)
    if rule is None or rule.built_in:
        return None
    others = [(c, replace(c, rules=tuple(r for r in c.rules if r.where != rule.where))) for c in base.chains]
    return f"{speak_of(ref)} were not there", _with(device, base, others), rule.hits


def _with(device: Device, base: Rulebase, changed: Iterable[tuple[Chain, Chain]]) -> Device:
    by_name = {before.name: after for before, after in changed}
    other = replace(base, chains=tuple(by_name.get(one.name, one) for one in base.chains))
    return replace(device, rulebases=tuple(other if one is base else one for one in device.rulebases))

"""From the answers of a check on a device to its outcome and findings."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from itertools import chain
from typing import Any

from msgspec.structs import replace

from aiguille.analysis.decide import Proof, maybe_accepted
from aiguille.analysis.diversions import as_sent, diversions
from aiguille.analysis.services import GENERAL_HOSTS
from aiguille.analysis.sides import is_private
from aiguille.analysis.study import Study, doubt
from aiguille.analysis.walk.probe import Prober
from aiguille.baseline.catalogue import (
    Answer,
    CannotTell,
    Check,
    Found,
    NotApplicable,
    Outcome,
    Passed,
    RuleRef,
    Severity,
    Subject,
    refer,
)
from aiguille.baseline.findings import CheckOutcome, Evidence, Finding, Witness, fingerprint
from aiguille.baseline.keepers import switched_off, where_to_change
from aiguille.baseline.tailoring import Chosen
from aiguille.model import AiguilleError, Device, Side, TooComplexError
from aiguille.model.facts import FACT_AT
from aiguille.packets import Packet


def answers_of(one: Check, subject: Subject, *, raise_crashes: bool) -> list[Answer]:
    missing = [fact for fact in map(FACT_AT.__getitem__, one.needs) if not fact.of(subject.device).known]
    strange = [fact for fact in missing if fact.of_appliances]
    if strange and subject.device.dialect in GENERAL_HOSTS:
        what = " and ".join(sorted(fact.asked.removeprefix("whether ") for fact in strange))
        return [NotApplicable(f"no system of this kind has a setting for it ({what})")]
    if missing:
        words = " and ".join(fact.asked for fact in missing)
        return [CannotTell(f"the export does not state {words}; add the configuration that states it, or ask for it")]
    try:
        if (
            lacking := next((said for need in one.asks if (said := need.missing(subject)) is not None), None)
        ) is not None:
            return [lacking]
        return [_with_evidence(one, answer) for answer in one.run(subject)]
    except TooComplexError as error:
        return [CannotTell(f"{error}{_most_entangled(subject.device) if error.where is None else ''}")]
    except AiguilleError as error:
        return [CannotTell(str(error))]
    except Exception as error:
        # A fault of ours must neither end the audit nor pass as an answer.
        if raise_crashes:
            raise
        return [CannotTell(f"the check itself failed ({type(error).__name__}: {error}); please report this")]


def _most_entangled(device: Device) -> str:
    """The rule that asks for most at once, as a place to look at when rules are too entangled."""
    rules = [rule for base in device.rulebases for _, rule in base.rules() if rule.match.conditions]
    if not rules:
        return ""
    most = max(rules, key=lambda rule: sum(len(c.operands) * (1 + 4 * c.negated) for c in rule.match.conditions))
    return f" (the rule that asks for most at once is {most.where})"


def _with_evidence(one: Check, answer: Answer) -> Answer:
    """The answer, unless it is a grave finding without a line to show: that would lose every argument."""
    if not isinstance(answer, Found) or answer.where:
        return answer
    if (answer.severity or one.severity).rank < Severity.HIGH.rank:
        return answer
    return CannotTell(
        f"{answer.detail} Nothing in the export states it; ask for the part that does".replace("{family}", "IP")
    )


def outcome_of(one: Check, device: Device, answers: Sequence[Answer], found: Sequence[Found]) -> CheckOutcome:
    """Fail if anything was found, else cannot tell if anything is open, else pass; the reasons of that kind are given.

    found: the findings among the answers, as `found_by` gives them
    """
    given = [*found, *(a for a in answers if not isinstance(a, Found))]
    order: tuple[tuple[type, Outcome], ...] = (
        (Found, Outcome.FAIL),
        (CannotTell, Outcome.CANNOT_TELL),
        (Passed, Outcome.PASS),
        (NotApplicable, Outcome.NOT_APPLICABLE),
    )
    for kind, outcome in order:
        mine = [a for a in given if isinstance(a, kind)]
        if mine:
            reasons = dict.fromkeys(a.detail if isinstance(a, Found) else a.because for a in mine)
            between = " " if all(reason.endswith(".") for reason in reasons) else "; "
            return CheckOutcome(one.id, device.name, outcome, between.join(reasons))
    return CheckOutcome(one.id, device.name, Outcome.CANNOT_TELL, "the check gave no answer; please report this")


def found_by(check: Check, answers: Sequence[Answer]) -> list[Found]:
    """The findings of a check as they are told: those of both families, and those that are one statement, joined."""
    return gathered(check, merged(answers))


def findings_of(one: Chosen, study: Study, found: Sequence[Found]) -> Iterator[Finding]:
    """found: as `found_by` gives them"""
    device = study.device
    repeats: dict[str, int] = {}
    check = one.check
    fix = check.fix.format(**{name: _spelled(value) for name, value in one.params.items()})
    own = dict(device.advice).get(check.id)
    for answer in found:
        # Two rules alike to the letter are two findings all the same.
        repeat = repeats[answer.subject] = repeats.get(answer.subject, 0) + 1
        yield Finding(
            fingerprint=fingerprint(check.id, device.name, answer.subject, repeat),
            check=check.id,
            area=check.area,
            severity=one.severity or answer.severity or check.severity,
            device=device.name,
            title=check.title,
            detail=answer.detail,
            why=check.why,
            fix=switched_off(device, answer.rules)
            or " ".join(
                filter(None, (fix, f"On this make: {own}" if own else "", where_to_change(answer.rules, check.id)))
            ),
            controls=check.controls,
            evidence=tuple(Evidence(where, device.text(where)) for where in answer.where),
            rules=answer.rules,
            proof=_witness(study, answer),
            who=answer.who,
            hits=_hits(study, answer.rules),
        )


def _hits(study: Study, rules: Sequence[RuleRef]) -> tuple[tuple[str, int], ...]:
    """How often the first of some rules was hit, if the export counts; of a default, nothing."""
    counted: dict[RuleRef, int] = study.once("hits", lambda: _counted(study.device))
    count = counted.get(rules[0]) if rules else None
    return () if count is None else ((study.device.name, count),)


def _counted(device: Device) -> dict[RuleRef, int]:
    out: dict[RuleRef, int] = {}
    for base in device.rulebases:
        for mine, rule in base.rules():
            if rule.hits is not None:
                ref = refer(base, mine, rule)
                out[ref] = out.get(ref, 0) + rule.hits.packets
    return out


def _witness(study: Study, answer: Found) -> Witness | None:
    """The packet that proves a finding, as it is sent, so that whoever probes it gets what the finding says."""
    proof = _proof(answer)
    if proof is None:
        return Witness(answer.packet, certain=True) if answer.packet is not None else None
    program = proof.program
    known = study.once(("diversions", program), lambda: diversions(program))
    point = proof.packet.point(program.space)
    if known and proof.certain and _is_unroutable(study, proof.packet):
        # Nobody outside can send to a private address: what is sent is what a translation leads there.
        sent = (one for one in as_sent(program, known, proof.packet) if not is_private(one.family, one.destination))
        for packet in sent:
            if _fares_so(study, packet, accepted=maybe_accepted(proof.ends)):
                return Witness(packet, certain=True)
    if not proof.certain or any(one.takes(point) for one in known):
        for packet in chain([proof.packet], as_sent(program, known, proof.packet)):
            if _fares_so(study, packet, accepted=maybe_accepted(proof.ends)):
                return Witness(packet, certain=True)
    return Witness(proof.packet, proof.certain, doubt(proof))


def _proof(answer: Found) -> Proof | None:
    if not callable(answer.proof):
        return answer.proof
    try:
        return answer.proof()
    except TooComplexError:
        return None


def _is_unroutable(study: Study, packet: Packet) -> bool:
    """Whether a packet comes from outside and goes to a private address."""
    outer = {name for zone in study.device.zones if zone.side is Side.OUTSIDE for name in zone.interfaces}
    return packet.in_interface in outer and is_private(packet.family, packet.destination)


def _fares_so(study: Study, packet: Packet, *, accepted: bool) -> bool:
    """Whether a packet is certainly let in, or refused."""
    prober: Prober = study.once("prober", lambda: Prober(study.programs))
    try:
        verdict = prober.probe(packet)
    except AiguilleError:
        return False
    return verdict.complete and all(way.verdict.refuses is not accepted for way in verdict.ways)


def _spelled(value: Any) -> Any:
    """A parameter as advice names it."""
    return ", ".join(map(str, value)) if isinstance(value, tuple) else value


def merged(answers: Iterable[Answer]) -> list[Found]:
    """The findings among `answers`, those of one severity in both address families joined; ``{family}`` is filled in."""
    groups: dict[str, list[list[Found]]] = {}
    for answer in answers:
        if isinstance(answer, Found):
            alike = groups.setdefault(answer.subject, [])
            if not alike:
                alike.append([answer])
                continue
            free = [g for g in alike if answer.family and all(f.family not in (None, answer.family) for f in g)]
            # What is said of the other family in the same words comes first; what is graver or lighter is another statement.
            same = [g for g in free if g[0].detail == answer.detail] or [
                g for g in free if g[0].severity == answer.severity
            ]
            other = same[0] if same else None
            if other is None:
                alike.append([answer])
            else:
                other.append(answer)
    out = []
    for group in (g for alike in groups.values() for g in alike):
        if len(group) == 1:
            one = group[0]
            where, rules = tuple(dict.fromkeys(one.where)), tuple(dict.fromkeys(one.rules))
            out.append(replace(one, detail=_over(one, group), where=where, rules=rules))
            continue
        worst = min(group, key=lambda f: 0 if f.severity is None else -f.severity.rank)
        # What lets anybody in over one family is told before what lets some in over the other.
        lead = max(group, key=lambda f: -1 if f.who is None else f.who.rank)
        others = [f for f in group if f.who != lead.who and f.detail != lead.detail]
        out.append(
            replace(
                lead,
                detail=" ".join(
                    [
                        _over(lead, [f for f in group if f not in others]),
                        *(f"Over IPv{f.family}: {_over(f, [f])}" for f in others),
                    ]
                ),
                where=tuple(dict.fromkeys(where for found in (lead, *group) for where in found.where)),
                rules=tuple(dict.fromkeys(rule for found in (lead, *group) for rule in found.rules)),
                severity=worst.severity,
            )
        )
    return out


def _over(one: Found, alike: Sequence[Found]) -> str:
    """What a finding says, of the families of those that say the same."""
    return one.detail.replace("{family}", " and ".join(f"IPv{found.family}" for found in alike if found.family))


_TOGETHER = "together"
"""What such a statement is about: it stays the same when another thing joins those it counts."""

_NAMED = 3
"""Of things that are counted together, how many are named."""


def gathered(check: Check, found: list[Found]) -> list[Found]:
    """The findings of a check, those that are one statement on a device joined to it: they are counted, and some named."""
    if not check.together or not found:
        return found
    if len(found) == 1:
        return [replace(found[0], subject=_TOGETHER)]
    # Rules of both families, or all that a program makes of one line, are one statement.
    names = list(dict.fromkeys(one.name or one.detail.removesuffix(".") for one in found))
    if len(names) == 1:
        return [replace(found[0], subject=_TOGETHER, family=None)]
    more = f" and {len(names) - _NAMED} more" if len(names) > _NAMED else ""
    of = f" of {found[0].of}" if found[0].of else ""
    worst = max(found, key=lambda one: (one.severity or check.severity).rank)
    first = (
        next(one for one in found if one.proof is not None) if any(one.proof is not None for one in found) else found[0]
    )
    return [
        replace(
            first,
            detail=f"{len(names)}{of} {check.together}: {', '.join(names[:_NAMED])}{more}.",
            subject=_TOGETHER,
            where=tuple(dict.fromkeys(where for one in found for where in one.where)),
            rules=tuple(dict.fromkeys(rule for one in found for rule in one.rules)),
            severity=worst.severity,
            family=None,
        )
    ]

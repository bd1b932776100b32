"""What checks of several areas ask of a device in the same way, and findings they put alike."""

from __future__ import annotations

from functools import lru_cache

from aiguille.analysis.resolve import term_boxes
from aiguille.analysis.study import NEW, Admission
from aiguille.baseline.catalogue import (
    Answer,
    CannotTell,
    Found,
    Severity,
    Subject,
    lines_of,
    refer,
    rule_subject,
    speak,
)
from aiguille.baseline.wording import NO_INWARD_RULES, capital
from aiguille.model import Direction, Fact, ServiceTerm
from aiguille.readers.literals import read_ports, read_protocol
from aiguille.space import Box, overlap

INWARD = (Direction.TO_DEVICE, Direction.THROUGH_DEVICE)


def fact(subject: Subject, name: str) -> Fact | None:
    """A setting of the system, None where the export does not tell it."""
    return next((one for one in subject.device.system if one.name == name and one.setting.known), None)


def nothing_inward(subject: Subject) -> Answer | None:
    """What a check on rules that let in says of an export without any; None where there are some."""
    if any(True for d in INWARD for _ in subject.programs.all(d)):
        return None
    return CannotTell(NO_INWARD_RULES)


def common(*boxes: Box) -> Box | None:
    """What several boxes have in common."""
    out: Box | None = NEW
    for one in boxes:
        out = overlap(out, one) if out is not None else None
    return out


@lru_cache(maxsize=256)
def service_boxes(texts: tuple[str, ...], family: int) -> tuple[tuple[str, Box], ...]:
    """Packets of services written as ``tcp/22`` or ``udp/137-138``."""
    out: list[tuple[str, Box]] = []
    for text in texts:
        protocol, _, ports = text.partition("/")
        term = ServiceTerm(read_protocol(protocol), (), (read_ports(ports, "-"),) if ports else ())
        out += [(text, one) for one in term_boxes(family, term)]
    return tuple(out)


def about(one: Admission, detail: str, severity: Severity | None = None) -> Found:
    """A finding about a rule that lets connections in, with the packet that proves it does."""
    step = one.step
    return Found(
        detail=detail + (f" (under a condition: {one.condition})" if one.condition else "") + ".",
        subject=rule_subject(step.chain, step.rule),
        where=lines_of(step),
        rules=(refer(step.rulebase, step.chain, step.rule),),
        proof=one.proof,
        severity=severity,
        family=one.program.family,
        name=speak(step.chain, step.rule),
    )


def name_of(one: Admission) -> str:
    return capital(speak(one.step.chain, one.step.rule))

"""What checks of several areas ask of a device in the same way, and findings they put alike."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache

from aiguille.analysis.objects import Object, objects_of
from aiguille.analysis.program import Kind, Program
from aiguille.analysis.resolve import term_boxes
from aiguille.analysis.sides import outside_known
from aiguille.analysis.study import NEW, Admission
from aiguille.baseline.catalogue import (
    Answer,
    CannotTell,
    Found,
    Need,
    NotApplicable,
    Severity,
    Subject,
    lines_of,
    refer,
    rule_subject,
    speak,
)
from aiguille.baseline.wording import NO_DATA, NO_FILTER, NO_INWARD_RULES, NO_RULES, NO_THROUGH, SETTLE_OUTSIDE, capital
from aiguille.model import Device, Direction, Fact, GeoFilter, ServiceTerm
from aiguille.readers.literals import read_ports, read_protocol
from aiguille.space import Box, overlap

NO_OBJECTS = "the export defines no objects"
INWARD = (Direction.TO_DEVICE, Direction.THROUGH_DEVICE)


def fact(subject: Subject, name: str) -> Fact | None:
    """A setting of the system, None where the export does not state it."""
    return next((one for one in subject.device.system if one.name == name and one.setting.known), None)


def _rules(*directions: Direction, else_: str) -> Callable[[Subject], Answer | None]:
    def missing(subject: Subject) -> Answer | None:
        there = any(_says_something(program) for d in directions for program in subject.programs.all(d))
        return None if there else CannotTell(else_)

    return missing


def _says_something(program: Program) -> bool:
    """Whether an export says anything of traffic, and it is not left to a make's own refusal for want of rules and interfaces."""
    device = program.device
    default = program.default
    left_out = default is not None and default.kind is Kind.REFUSE and not (device.interfaces or device.zones)
    return not left_out or any(
        not chain.policy_is_default or not all(rule.built_in for rule in chain.rules) for _, chain in program.bases
    )


def _outside(subject: Subject) -> Answer | None:
    if outside_known(subject.device):
        return None
    return CannotTell(f"no interface is known to face the outside; {SETTLE_OUTSIDE}")


def _locations(subject: Subject) -> Answer | None:
    return None if subject.study.estate.locations else CannotTell(NO_DATA)


def _filter(subject: Subject) -> Answer | None:
    return None if filters_of(subject.device) else NotApplicable(NO_FILTER)


def _inward_filter(subject: Subject) -> Answer | None:
    return None if any(one.inward for one in filters_of(subject.device)) else NotApplicable(NO_FILTER)


def _objects(subject: Subject) -> Answer | None:
    return None if every_object(subject) else NotApplicable(NO_OBJECTS)


RULES_TO_DEVICE = Need("rules for traffic to the device", _rules(Direction.TO_DEVICE, else_=NO_RULES))
RULES_THROUGH = Need("rules for traffic through the device", _rules(Direction.THROUGH_DEVICE, else_=NO_THROUGH))
RULES_INWARD = Need("rules for traffic to or through the device", _rules(*INWARD, else_=NO_INWARD_RULES))
OUTSIDE = Need("an interface known to face the outside", _outside)
LOCATIONS = Need("location data", _locations)
FILTER = Need("a filter by country", _filter)
INWARD_FILTER = Need("a filter by country of what comes in", _inward_filter)
OBJECTS = Need("objects", _objects)


def every_object(subject: Subject) -> tuple[Object, ...]:
    """Every object of the device, in the order of the export."""
    found: tuple[Object, ...] = subject.study.once("objects", lambda: objects_of(subject.device))
    return found


def filters_of(device: Device) -> list[GeoFilter]:
    """The filters by country that are switched on."""
    return [one for one in device.geo_filters if one.enabled]


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
        proof=lambda: one.proof,
        severity=severity,
        family=one.program.family,
        name=speak(step.chain, step.rule),
    )


def name_of(one: Admission) -> str:
    return capital(speak(one.step.chain, one.step.rule))

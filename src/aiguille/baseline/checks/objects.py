"""The named addresses, services and sets behind the rules."""

from __future__ import annotations

import re
from collections.abc import Iterator
from ipaddress import ip_address

from aiguille.analysis.breadth import breadth
from aiguille.analysis.objects import (
    Object,
    cycle_from,
    depth_of,
    kind_of,
    members_of,
    reached,
    uses,
)
from aiguille.analysis.outlines import surroundings
from aiguille.analysis.services import GENERAL_HOSTS
from aiguille.analysis.standing import StandingReport
from aiguille.baseline.asking import NO_OBJECTS, OBJECTS, every_object
from aiguille.baseline.catalogue import (
    Answer,
    CannotTell,
    Check,
    Found,
    NotApplicable,
    Param,
    Passed,
    Severity,
    Subject,
    check,
    refer,
    rule_subject,
    speak,
)
from aiguille.baseline.wording import capital, counted, lines, listed
from aiguille.model import AddressObject, Device, Field, Named, NameKind, ServiceObject, SetObject, Side
from aiguille.model.identity import Same
from aiguille.model.spelling import spell_operand
from aiguille.space import IntervalSet


def _name(one: Object) -> str:
    return f"{capital(kind_of(one).value)} '{one.name}'"


def _values(subject: Subject, one: Object) -> tuple[IntervalSet | None, IntervalSet | None] | None:
    resolvers = [subject.programs.resolver(family) for family in (4, 6)]
    if isinstance(one, AddressObject):
        four, six = (each.exactly(one.name) for each in resolvers)
    elif isinstance(one, SetObject):
        four, six = (each.exactly_in_set(one.name) for each in resolvers)
    else:
        return None
    return four, six


@check(
    id="objects.unused",
    together="objects are used by no rule",
    title="An object is used by no rule",
    severity=Severity.LOW,
    controls=("CM-6", "CM-7"),
    why="Leftovers hide what counts, and their names get used again for something else.",
    how="Objects that no rule names, by itself or through groups; those the make derives from interfaces are left out.",
    fix="Make sure that nothing else uses the object (accounts, other sites, programs that fill it); it can go then.",
    asks=(OBJECTS,),
)
def unused(subject: Subject) -> Iterator[Answer]:
    objects = every_object(subject)
    if not subject.device.rulebases:
        yield CannotTell("the export holds no rules that could use the objects")
        return
    used = reached(subject.device)
    idle = [one for one in objects if (kind_of(one), one.name) not in used]
    for one in idle:
        yield Found(
            f"{_name(one)} is used by no rule.",
            f"{kind_of(one)} {one.name}",
            lines(one.where),
            name=f"'{one.name}'",
            of=len(objects),
        )
    if not idle:
        yield Passed(f"all of {counted(len(objects), 'object')} are used")


@check(
    id="objects.duplicate",
    together="objects stand for the same as another",
    title="Two objects stand for the same",
    severity=Severity.INFO,
    controls=("CM-6",),
    why="When one of them is changed the other is forgotten.",
    how="Address objects with the same addresses in both families, and services with the same members.",
    fix="Keep one of them and use it everywhere.",
    asks=(OBJECTS,),
)
def duplicate(subject: Subject) -> Iterator[Answer]:
    objects = every_object(subject)
    known: dict[object, Object] = {}
    found = False
    for one in objects:
        if isinstance(one, SetObject):
            key: object = ("set", one.dimensions, frozenset(one.entries)) if one.entries and one.complete else None
        elif isinstance(one, ServiceObject):
            key = ("service", frozenset(one.members)) if one.members and one.complete else None
        else:
            values = _values(subject, one)
            key = ("address", values) if values is not None and None not in values and any(values) else None
        if key is None:
            continue
        first = known.setdefault(key, one)
        if first is not one:
            found = True
            text = f"{_name(one)} stands for the same as '{first.name}'."
            yield Found(text, f"{kind_of(one)} {one.name} {first.name}", lines(one.where, first.where))
    if not found:
        yield Passed(f"no two of {counted(len(objects), 'object')} stand for the same")


@check(
    id="objects.undescribed",
    together="objects say nothing of what they are for",
    title="Nothing says what an object is for",
    severity=Severity.INFO,
    controls=("CM-2", "CM-6"),
    why="A name alone tells nobody whether an address is still in use, or who to ask.",
    how="Addresses and services without a description, on makes of which some device of the estate gives one to an object.",
    fix="Say in a few words what the object is and whose it is.",
)
def undescribed(subject: Subject) -> Iterator[Answer]:
    objects = [one for one in every_object(subject) if not isinstance(one, SetObject)]
    if subject.device.dialect not in surroundings(subject.study.estate).describing:
        yield NotApplicable("no object of this make has a description")
        return
    bare = [one for one in objects if not one.comment]
    for one in bare:
        yield Found(
            f"{_name(one)} has no description.",
            f"{kind_of(one)} {one.name}",
            lines(one.where),
            name=f"'{one.name}'",
            of=len(objects),
        )
    if objects and not bare:
        yield Passed(f"each of {counted(len(objects), 'object')} has a description")
    elif not objects:
        yield NotApplicable(NO_OBJECTS)


@check(
    id="objects.empty",
    together="objects stand for nothing",
    title="An object stands for nothing",
    severity=Severity.LOW,
    controls=("CM-6",),
    why="A rule that names it never works, or on some makes works for everything.",
    how="Objects without any member; sets that rules fill, or whose members would only be refused, are left out.",
    fix="Fill the object, or delete it and what names it.",
    asks=(OBJECTS,),
)
def empty(subject: Subject) -> Iterator[Answer]:
    objects = every_object(subject)
    # Whoever is banned while a program runs is in no file.
    waiting = _refused_alone(subject.device)
    bare = [one for one in objects if _is_empty(one) and not (isinstance(one, SetObject) and one.name in waiting)]
    for one in bare:
        yield Found(f"{_name(one)} has no member.", f"{kind_of(one)} {one.name}", lines(one.where))
    if not bare:
        yield Passed(f"none of {counted(len(objects), 'object')} is empty")


def _refused_alone(device: Device) -> set[str]:
    """The sets that rules look into, and all of these refuse their members."""
    refused: set[str] = set()
    let_in: set[str] = set()
    for base in device.rulebases:
        for _, rule in base.rules():
            for condition in rule.match.conditions:
                names = {o.name for o in condition.operands if isinstance(o, Named)}
                (refused if rule.action.refuses and not condition.negated else let_in).update(names)
    return refused - let_in


def _is_empty(one: Object) -> bool:
    if isinstance(one, SetObject):
        return one.complete and not one.entries
    if isinstance(one, AddressObject):
        return not one.members and not one.unresolved
    return one.complete and not one.members


@check(
    id="objects.dangling",
    title="Something names an object that does not exist",
    severity=Severity.MEDIUM,
    controls=("CM-6",),
    why="What a rule or group then covers is anybody's guess, and it changes when somebody creates the object.",
    how="Names in rules and groups that no object of the export has.",
    fix="Create the object, or take its name out.",
)
def dangling(subject: Subject) -> Iterator[Answer]:
    device = subject.device
    every: list[Object] = [*device.addresses, *device.services, *device.sets]
    names = {(kind_of(one), one.name) for one in every} | {(NameKind.ZONE, zone.name) for zone in device.zones}
    looked, found = 0, False
    kept_apart: list[str] = []
    for one in every:
        for member in members_of(one):
            looked += 1
            if (member.kind, member.name) not in names:
                found = True
                text = f"{_name(one)} names '{member.name}', which does not exist."
                yield Found(text, f"{kind_of(one)} {one.name}: {member.name}", lines(one.where))
    for (kind, name), places in uses(device).items():
        looked += 1
        if (kind, name) not in names and kind is NameKind.SET and device.dialect in GENERAL_HOSTS:
            kept_apart.append(name)  # the kernel loads no rule whose set is not there; it is saved apart
        elif (kind, name) not in names:
            found = True
            rule = places[0].rule
            chain = next(c for c in places[0].rulebase.chains if any(r is rule for r in c.rules))
            text = f"{capital(speak(chain, rule))} names {kind.value} '{name}', which does not exist."
            yield Found(
                text,
                f"{kind} {name}",
                lines(*(p.rule.where for p in places)),
                (refer(places[0].rulebase, chain, rule),),
            )
    if kept_apart:
        sets = listed(dict.fromkeys(kept_apart), 4)
        yield CannotTell(f"the export does not hold the sets {sets}, which rules look into; ask for `ipset save`")
    if not looked:
        yield NotApplicable("nothing in the export names an object")
    elif not found:
        yield Passed(f"all of {counted(looked, 'name')} lead to an object")


@check(
    id="objects.cyclic",
    title="A group contains itself",
    severity=Severity.MEDIUM,
    controls=("CM-6",),
    why="What it covers depends on how the device gives up.",
    how="Follows the members of groups; the way back to the group is named.",
    fix="Take the group out of its own members.",
)
def cyclic(subject: Subject) -> Iterator[Answer]:
    groups = [one for one in every_object(subject) if members_of(one)]
    if not groups:
        yield NotApplicable("no object names another")
        return
    described: set[frozenset[str]] = set()
    for one in groups:
        path = cycle_from(subject.device, one)
        if path and frozenset(path) not in described:
            described.add(frozenset(path))
            yield Found(
                f"{_name(one)} contains itself: {' > '.join([*path, one.name])}.",
                f"{kind_of(one)} {one.name}",
                lines(one.where),
            )
    if not described:
        yield Passed(f"none of {counted(len(groups), 'group')} contains itself")


@check(
    id="objects.deep",
    together="groups are nested too deeply",
    title="Groups are nested too deeply",
    severity=Severity.INFO,
    controls=("CM-6",),
    params=(Param("at_most", int, 3, "levels", "what a reader can keep in mind"),),
    why="To know what the group covers, each level has to be opened.",
    how="Counts the levels of groups below an object.",
    fix="Put the members into at most {at_most} levels.",
)
def deep(subject: Subject) -> Iterator[Answer]:
    groups = [one for one in every_object(subject) if members_of(one)]
    if not groups:
        yield NotApplicable("no object names another")
        return
    found = False
    for one in groups:
        depth = depth_of(subject.device, one)
        if depth > subject.params["at_most"] and not cycle_from(subject.device, one):
            found = True
            yield Found(
                f"{_name(one)} is nested {counted(depth, 'level')} deep.",
                f"{kind_of(one)} {one.name}",
                lines(one.where),
            )
    if not found:
        yield Passed(f"no group is nested deeper than {subject.params['at_most']} levels")


@check(
    id="objects.everything",
    together="objects stand for almost everything",
    title="An object stands for almost everything",
    severity=Severity.MEDIUM,
    controls=("AC-4", "CM-6"),
    params=(
        Param("ipv4", int, 2**31, "IPv4 addresses", "half of all there are"),
        Param("ports", int, 60_000, "ports", "all but a few"),
    ),
    why="A rule that names it looks narrow in a listing and is wide open.",
    how="Counts the addresses of address objects and sets, and the ports of services; two halves make a whole. What rules name only to "
    "refuse it, or to say whom they do not mean, may be as wide as it likes.",
    fix="Say any in the rule if any is meant; else name what is.",
    asks=(OBJECTS,),
)
def everything(subject: Subject) -> Iterator[Answer]:
    objects = every_object(subject)
    used = uses(subject.device)
    found = False
    for one in objects:
        places = used.get((kind_of(one), one.name), ())
        if places and all(use.negated or use.rule.action.refuses for use in places):
            continue
        what = ""
        values = _values(subject, one)
        if values is not None:
            four, six = values
            if four is not None and four.size >= subject.params["ipv4"]:
                what = (
                    counted(four.size, "IPv4 address", "IPv4 addresses") if four.size < 2**32 else "every IPv4 address"
                )
            elif six is not None and six.size >= 2**127:
                what = "half of all IPv6 addresses or more"
        elif isinstance(one, ServiceObject):
            ports = IntervalSet(
                (p.first, p.last) for t in one.members if not isinstance(t, Named) for p in t.destination_ports
            )
            what = counted(ports.size, "port") if ports.size >= subject.params["ports"] else ""
        if what:
            found = True
            yield Found(f"{_name(one)} stands for {what}.", f"{kind_of(one)} {one.name}", lines(one.where))
    if not found:
        yield Passed(f"none of {counted(len(objects), 'object')} stands for almost everything")


_ADDRESS = re.compile(r"(?<![\d.])(\d{1,3}(?:[._-]\d{1,3}){3})(?:[/_](\d{1,2}))?(?![\d.])")
_PORT = re.compile(r"(?i)(?:^|[^a-z])(?:tcp|udp|port)[-_ ]?(\d{1,5})(?!\d)")


@check(
    id="objects.misnamed",
    title="An object's name promises another value than it has",
    severity=Severity.MEDIUM,
    controls=("CM-6",),
    why="Whoever reads the rule believes the name.",
    how="An IPv4 address in the name of an address object, or a port in that of a service, that is not among its values.",
    fix="Rename the object, or correct its value.",
)
def misnamed(subject: Subject) -> Iterator[Answer]:
    looked, found = 0, False
    for one in every_object(subject):
        said = ""
        if isinstance(one, AddressObject) and (match := _ADDRESS.search(one.name)):
            values = subject.programs.resolver(4).exactly(one.name)
            try:
                value = int(ip_address(re.sub("[_-]", ".", match[1])))
            except ValueError:
                continue
            looked += 1
            said = match[1] if values is not None and value not in values else ""
        elif isinstance(one, ServiceObject) and one.complete and (match := _PORT.search(one.name)):
            ports = IntervalSet(
                (p.first, p.last) for t in one.members if not isinstance(t, Named) for p in t.destination_ports
            )
            looked += 1
            said = f"port {match[1]}" if ports and int(match[1]) not in ports else ""
        if said:
            found = True
            has = listed((spell_operand(m) for m in one.members), 3) if not isinstance(one, SetObject) else ""
            yield Found(f"{_name(one)} is {has}, not {said}.", f"{kind_of(one)} {one.name}", lines(one.where))
    if not looked:
        yield NotApplicable("no object has an address or a port in its name")
    elif not found:
        yield Passed(
            f"{counted(looked, 'name')} with an address or port {'tells' if looked == 1 else 'tell'} the truth"
        )


@check(
    id="objects.other-zone",
    title="An object used for one zone lies in another",
    severity=Severity.MEDIUM,
    controls=("CM-6", "AC-4"),
    why="The rule does not do what it says; the host has moved, or its name was picked by mistake.",
    how="Destination objects of rules that name the zone or interface out: none of their addresses lies "
    "in the networks behind it, and all of "
    "them in those of another zone. Sources are the matter of rules.wrong-side.",
    fix="Correct the zone or the object.",
)
def other_zone(subject: Subject) -> Iterator[Answer]:
    objects = {one.name: one for one in subject.device.addresses}
    nets = {
        z.name: IntervalSet((n.first, n.last) for n in subject.study.networks(z.name) if n.family == 4)
        for z in subject.device.zones
        if z.side is not Side.OUTSIDE
    }
    zone_of = {name: z.name for z in subject.device.zones for name in z.interfaces}
    looked, found = 0, False
    for rulebase in subject.device.rulebases:
        for chain, rule in rulebase.rules():
            into = [
                c for c in rule.match.conditions if c.field in (Field.OUT_ZONE, Field.OUT_INTERFACE) and not c.negated
            ]
            names = [
                o for c in rule.match.conditions if c.field is Field.DESTINATION and not c.negated for o in c.operands
            ]
            zones = {zone_of.get(n, n) for c in into for o in c.operands if (n := getattr(o, "name", ""))}
            if not rule.enabled or not zones or not all(nets.get(z) for z in zones):
                continue
            for name in (o.name for o in names if isinstance(o, Named) and o.name in objects):
                values = subject.programs.resolver(4).exactly(name)
                if not values:
                    continue
                looked += 1
                here = any(values.overlaps(nets[z]) for z in zones)
                other = next((z for z, mine in nets.items() if z not in zones and values.issubset(mine)), None)
                if not here and other is not None:
                    found = True
                    text = f"{capital(speak(chain, rule))} sends '{name}' to {listed(sorted(zones))}, and it lies in {other}."
                    where = lines(rule.where, objects[name].where)
                    yield Found(
                        text,
                        f"{rulebase.name} {rule_subject(chain, rule)} {name}",
                        where,
                        (refer(rulebase, chain, rule),),
                    )
    if not looked:
        yield NotApplicable("no rule names both a destination object and a zone whose networks are known")
    elif not found:
        yield Passed(
            f"{counted(looked, 'destination object')} {'lies' if looked == 1 else 'lie'} in the zone the rule names"
        )


@check(
    id="objects.shared-widths",
    together="groups serve narrow rules and wide ones",
    title="A group serves narrow rules and wide ones",
    severity=Severity.INFO,
    controls=("CM-3", "AC-6"),
    params=(
        Param("bits", float, 24.0, "bits between the widest and the narrowest", "a thousand times a thousand and more"),
    ),
    why="Whoever adds a member for the narrow rule opens the wide one too.",
    how="Groups of several members that rules of very different openness name; openness counts the packets a rule decides.",
    fix="Give the wide rule a group of its own.",
)
def shared_widths(subject: Subject) -> Iterator[Answer]:
    groups = {
        (kind_of(o), o.name): o for o in every_object(subject) if isinstance(o, AddressObject) and len(o.members) > 1
    }
    looked, found = 0, False
    for key, places in uses(subject.device).items():
        if key not in groups:
            continue
        reports = [
            r
            for p in places
            if (r := subject.study.standing_of.get(Same(p.rule))) is not None and r.openness.bits is not None
        ]
        if len({Same(r.rule) for r in reports}) < 2:
            continue
        looked += 1
        reports.sort(key=lambda r: (r.openness.bits or 0.0, r.rule.number))
        low, high = reports[0], reports[-1]
        if (high.openness.bits or 0) - (low.openness.bits or 0) > subject.params["bits"]:
            found = True
            one = groups[key]
            text = (
                f"{_name(one)} is named by {speak(low.chain, low.rule)}{_wide(subject, low)} "
                f"and {speak(high.chain, high.rule)}{_wide(subject, high)}."
            )
            yield Found(text, f"{key[0]} {one.name}", lines(one.where, low.rule.where, high.rule.where))
    if not looked:
        yield NotApplicable("no group is named by more than one rule")
    elif not found:
        yield Passed(f"{counted(looked, 'shared group')} {'serves' if looked == 1 else 'serve'} rules of like width")


def _wide(subject: Subject, report: StandingReport) -> str:
    words = breadth(subject.study.programs, report.rulebase, report.chain, report.rule).words
    return f" ({words})" if words else ""


CHECKS: tuple[Check, ...] = (
    unused,
    duplicate,
    empty,
    undescribed,
    dangling,
    cyclic,
    deep,
    everything,
    misnamed,
    other_zone,
    shared_widths,
)

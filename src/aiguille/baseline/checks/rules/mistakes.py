"""Rules that do something else than whoever wrote them believes."""

from __future__ import annotations

import re
from collections.abc import Iterator

from msgspec.structs import replace

from aiguille.analysis.outlines import surroundings
from aiguille.analysis.program import Program, Step, own_addresses
from aiguille.analysis.sides import PRIVATE
from aiguille.analysis.study import NEW, Admission, is_wide
from aiguille.analysis.ways import all_ways_known
from aiguille.baseline.asking import INWARD, RULES_INWARD, about, name_of
from aiguille.baseline.catalogue import (
    Answer,
    Check,
    Found,
    NotApplicable,
    Passed,
    Severity,
    Subject,
    Who,
    check,
    refer,
    rule_subject,
    speak,
)
from aiguille.baseline.values import networks as private_networks
from aiguille.baseline.wording import capital, counted, listed
from aiguille.model import (
    Action,
    Addresses,
    Direction,
    Field,
    HandOver,
    Numbers,
    Rule,
    Rulebase,
    Side,
    Span,
    Translate,
    TranslationKind,
)
from aiguille.model.identity import Same
from aiguille.model.spelling import spell_operand, spell_spans
from aiguille.space import Axis, Box, IntervalSet, box, meets
from aiguille.space.fields import TCP, UDP


def _admissions(subject: Subject) -> list[Admission]:
    return [one for direction in (*INWARD, Direction.FROM_DEVICE) for one in subject.study.admissions(direction)]


def _by_source_port(region: Box) -> bool:
    """Whether a region is told by the port packets come from, and not by the one they go to."""
    protocols = region[Axis.PROTO]
    ported = protocols is None or TCP in protocols or UDP in protocols
    own = region[Axis.A]
    return ported and own is not None and own.size <= 1024 and region[Axis.B] is None


@check(
    id="rules.source-port",
    title="A source port stands where a destination port was meant",
    severity=Severity.MEDIUM,
    controls=("AC-4", "CM-6", "SC-7"),
    why="Whoever sends from that port reaches every port; the service that was meant is not let in at all.",
    how="Accepting rules for TCP or UDP that restrict the source port and leave the destination port free; rules that only mirror "
    "another one are the matter of rules.needless-return.",
    fix="Move the port into the destination field, and leave the source port free.",
    asks=(RULES_INWARD,),
)
def source_port(subject: Subject) -> Iterator[Answer]:
    admissions = _admissions(subject)
    mirrored = {Same(one.rule) for one, _ in _mirrors(subject)}
    found = False
    for one in admissions:
        if any(_by_source_port(region) for region in one.regions) and Same(one.rule) not in mirrored:
            found = True
            answer = about(
                one, f"{name_of(one)} lets {{family}} packets pass by the port they come from, to every port"
            )
            if severity := _for_strangers(subject, one):
                answer = replace(answer, severity=severity, who=Who.ANYBODY)
            yield answer
    if not found:
        yield Passed(f"none of {counted(len(admissions), 'accepting rule')} goes by the source port alone")


def _for_strangers(subject: Subject, one: Admission) -> Severity | None:
    """How grave it is that anybody, who chooses the source port, gets to every port of TCP or UDP by a rule; None where only some
    do, or those inside."""
    to_device = one.program.direction is Direction.TO_DEVICE
    outer = subject.study.on(Side.OUTSIDE)
    known = bool(outer)
    if not known and to_device:
        outer = IntervalSet([span for e in subject.study.entrances if e.side is None for span in e.interfaces.spans])
    if not outer or one.program.direction is Direction.FROM_DEVICE:
        return None
    reached = {
        protocol
        for r in one.regions
        if _by_source_port(r) and is_wide(r, Axis.SRC, one.program)
        for protocol in (TCP, UDP)
        if meets(r, box([(Axis.IN, outer), (Axis.PROTO, IntervalSet.of(protocol))]))
    }
    if TCP in reached:
        return Severity.CRITICAL if to_device and known else Severity.HIGH
    return Severity.HIGH if UDP in reached and to_device else None


_SAME_PORTS = (53, 67, 68, 123, 500, 520, 521, 546, 547, 1812, 1813, 4500, 5353)
"""Services whose programs send from a port of their own: names between servers, DHCP, time, keys of tunnels, routes."""


@check(
    id="rules.both-ports",
    title="A rule asks for a source port beside the destination port",
    severity=Severity.MEDIUM,
    controls=("CM-6", "AC-4"),
    why="Programs connect from whatever port is free, so the rule hardly ever matches, and whoever needs it opens another.",
    how="Accepting rules that name few source ports and the destination port as well, but for services that use one port at both ends.",
    fix="Leave the source port free.",
    asks=(RULES_INWARD,),
)
def both_ports(subject: Subject) -> Iterator[Answer]:
    admissions = _admissions(subject)
    found = False
    for one in admissions:
        for region in one.regions:
            protocols, own, to = region[Axis.PROTO], region[Axis.A], region[Axis.B]
            ported = protocols is not None and (TCP in protocols or UDP in protocols)
            if not ported or own is None or to is None or own.size > 64 or to.size > 64 or one.rule.implied:
                continue
            if any(port in own or port in to for port in _SAME_PORTS):
                continue
            found = True
            yield about(one, f"{name_of(one)} lets {{family}} packets in only from port {own.first} to port {to.first}")
            break
    if not found:
        yield Passed(
            f"none of {counted(len(admissions), 'accepting rule')} asks for a source port beside the destination port"
        )


def _mirrors(subject: Subject) -> Iterator[tuple[Admission, Admission]]:
    """Rules for replies: from the port and to the place another rule opens the other way."""
    forth = [a for a in _admissions(subject) if not any(_by_source_port(r) for r in a.regions)]
    for back in _admissions(subject):
        for region in back.regions:
            if not _by_source_port(region):
                continue
            twin = next(
                (
                    one
                    for one in forth
                    if one.program.family == back.program.family
                    for other in one.regions
                    if other[Axis.B] == region[Axis.A]
                    and other[Axis.SRC] == region[Axis.DST]
                    and other[Axis.DST] == region[Axis.SRC]
                ),
                None,
            )
            if twin is not None:
                yield back, twin
                break


@check(
    id="rules.needless-return",
    title="A rule for replies stands beside state tracking",
    severity=Severity.MEDIUM,
    controls=("AC-4", "CM-7", "SC-7"),
    why="Replies are let in already; the rule lets in whoever sends from that port, without being asked.",
    how="Accepting rules by source port whose source and destination mirror those of another accepting rule, on a device whose rules "
    "accept established connections or whose make does so.",
    fix="Accept established connections first; then the rule can go, and not before.",
    asks=(RULES_INWARD,),
)
def needless_return(subject: Subject) -> Iterator[Answer]:
    found = False
    for back, twin in _mirrors(subject):
        found = True
        where = speak(twin.step.chain, twin.rule)
        yield about(back, f"{name_of(back)} mirrors {where}, whose replies state tracking lets in by itself")
    if not found:
        yield Passed("no rule is there for replies alone")


@check(
    id="rules.wrong-side",
    title="A rule's source cannot arrive where the rule looks",
    severity=Severity.MEDIUM,
    controls=("CM-6", "AC-4", "SC-7"),
    why="The rule never works, or only for forged packets; the traffic that was meant is decided elsewhere.",
    how="Rules that name interfaces or zones and a source: no address of the source lies in the networks behind them. The outside may "
    "bring any address but those of inside networks. Only where the networks behind are known.",
    fix="Put the rule on the side its source lives on, or correct the source.",
)
def wrong_side(subject: Subject) -> Iterator[Answer]:
    looked, found = 0, False
    symbols = subject.programs.resolver(4).space.symbols
    behind: dict[int, tuple[str, Side | None]] = {}
    for zone in subject.device.zones:
        for name in zone.interfaces:
            behind[symbols.number(name)] = (zone.name, zone.side)
    known = {z.name: subject.study.networks(z.name) for z in subject.device.zones}
    inside = [n for z in subject.device.zones if z.side is not Side.OUTSIDE for n in known[z.name]]
    for rulebase in subject.device.rulebases:
        for chain, rule in rulebase.rules():
            if not rule.enabled or rule.built_in or rule.action not in (Action.ACCEPT, Action.DROP, Action.REJECT):
                continue
            fields = {c.field for c in rule.match.conditions if not c.negated}
            if Field.SOURCE not in fields or not fields & {Field.IN_INTERFACE, Field.IN_ZONE}:
                continue
            said = _cannot_arrive(subject, rulebase, rule, behind, known, inside)
            looked += said is not None
            if said:
                found = True
                sources = ", ".join(
                    spell_operand(o) for c in rule.match.conditions if c.field is Field.SOURCE for o in c.operands
                )
                yield Found(
                    f"{capital(speak(chain, rule))} looks for {sources} coming in by {said}, where it does not live.",
                    f"{rulebase.name} {rule_subject(chain, rule)}",
                    (rule.where,),
                    (refer(rulebase, chain, rule),),
                    severity=None if rule.action is Action.ACCEPT else Severity.INFO,
                )
    if not looked:
        yield NotApplicable("no rule names both a source and where it comes in, or the networks there are not known")
    elif not found:
        yield Passed(f"the sources of {counted(looked, 'rule')} live where the rules look for them")


def _cannot_arrive(
    subject: Subject,
    rulebase: Rulebase,
    rule: Rule,
    behind: dict[int, tuple[str, Side | None]],
    known: dict[str, tuple[Addresses, ...]],
    inside: list[Addresses],
) -> str | None:
    """The zones a rule looks into in vain, "" if its source may come from there, None if nothing shows."""
    named: set[str] = set()
    for family in sorted(rulebase.families):
        for piece in subject.programs.resolver(family).rule(rule):
            into, sources = piece.box[Axis.IN], piece.box[Axis.SRC]
            if into is None or sources is None or into.size > 8:
                continue
            for number in into:
                zone, side = behind.get(number, ("", None))
                nets = [n for n in known.get(zone, ()) if n.family == family]
                if side is Side.OUTSIDE:
                    mine = IntervalSet((n.first, n.last) for n in inside if n.family == family)
                    if not mine:
                        return None
                    arrives = not sources.issubset(mine) or sources.overlaps(
                        IntervalSet((n.first, n.last) for n in nets)
                    )
                elif nets:
                    arrives = sources.overlaps(IntervalSet((n.first, n.last) for n in nets))
                else:
                    return None
                if arrives:
                    return ""
                named.add(zone)
    return " and ".join(sorted(named)) if named else None


@check(
    id="rules.wrong-list",
    title="A rule stands where its packets never come",
    severity=Severity.MEDIUM,
    controls=("CM-6", "AC-4"),
    why="Packets for the device's own address are not sent on, and packets sent on do not stay: the rule does nothing.",
    how="Where the export lists every address of the device: rules in the list for traffic through it whose destination is the device "
    "itself, and rules in the list for traffic to it whose destinations all lie outside the networks it is in. Destinations are those "
    "after translation.",
    fix="Move the rule into the other list, if it is still wanted.",
)
def wrong_list(subject: Subject) -> Iterator[Answer]:
    looked, found = 0, False
    seen = [
        {step.rule.where for program in subject.programs.all(one) for step in program.steps if step.rule is not None}
        for one in INWARD
    ]
    # A list or chain both kinds of traffic pass is the right one for either.
    described: set[Span] = seen[0] & seen[1]
    for direction, going in ((Direction.THROUGH_DEVICE, "through"), (Direction.TO_DEVICE, "to")):
        for program in subject.programs.all(direction):
            own = own_addresses(subject.device, program.family)
            if own is None:
                continue
            # Addresses that move between devices, and those for all in a network, lie in the networks the device is in.
            near = IntervalSet(
                (n.first, n.last) for i in subject.device.interfaces for n in i.networks if n.family == program.family
            )
            everybody = own | near | IntervalSet(_FOR_MANY[program.family])
            for step in program.steps:
                rule = step.rule
                if rule is None or rule.built_in or rule.implied or rule.made or rule.shipped or rule.target:
                    continue
                places = [piece.box[Axis.DST] for piece in step.pieces]
                if not places or any(place is None for place in places):
                    continue
                looked += 1
                mine = [place.issubset(own) for place in places if place is not None]
                far = [not place.overlaps(everybody) for place in places if place is not None]
                if rule.where in described or not (all(mine) if direction is Direction.THROUGH_DEVICE else all(far)):
                    continue
                described.add(rule.where)
                found = True
                where = "its own address" if direction is Direction.THROUGH_DEVICE else "addresses of others alone"
                yield Found(
                    f"{capital(speak(step.chain, rule))} is for {where}, in the list for traffic {going} the device.",
                    f"{step.rulebase.name} {rule_subject(step.chain, rule)}",
                    (rule.where,),
                    (refer(step.rulebase, step.chain, rule),),
                    severity=None if rule.action is Action.ACCEPT else Severity.LOW,
                )
    if not looked:
        yield NotApplicable("the addresses of the device are not all known, or no rule names a destination")
    elif not found:
        yield Passed(f"the destinations of {counted(looked, 'rule')} lie where their list sends packets")


@check(
    id="rules.unknown-network",
    title="A rule names an address that lies in no known network",
    severity=Severity.LOW,
    controls=("CM-3", "CM-6", "AC-4"),
    why="Networks are renumbered and hosts moved; whoever gets such an address next inherits what the rule allows.",
    how="Where a device with several interfaces lists its routes and addresses: accepting rules and translations whose private "
    "destination, or private source where the rule names no way in, lies in no network of the device or of another of the estate. "
    "What leaves by the default route goes outside, where no private address lives.",
    fix="Ask whether a tunnel that was down leads there; else correct the address, or remove the rule.",
)
def unknown_network(subject: Subject) -> Iterator[Answer]:
    known = {
        family: IntervalSet(surroundings(subject.study.estate).ways[family])
        for family in (4, 6)
        if all_ways_known(subject.device, family)
    }
    looked, found = 0, False
    described: set[Span] = set()
    for program, step in _placed(subject):
        rule, networks = step.rule, known.get(program.family)
        if rule is None or networks is None or rule.where in described or rule.built_in or rule.implied or rule.shipped:
            continue
        private = private_networks(PRIVATE, program.family)
        for places in _private_places(rule, step, program.family):
            if places is None or not places.issubset(private):
                continue
            looked += 1
            if places.overlaps(networks):
                continue
            found = True
            described.add(rule.where)
            yield Found(
                f"{capital(speak(step.chain, rule))} names {spell_spans(program.family, places.spans, 2)}, which lies in no network "
                "the device or another of the estate leads to.",
                f"{step.rulebase.name} {rule_subject(step.chain, rule)}",
                (rule.where,),
                (refer(step.rulebase, step.chain, rule),),
            )
            break
    if not looked:
        yield NotApplicable("the networks of the device are not all known, or no rule names a private address")
    elif not found:
        yield Passed(f"the private addresses of {counted(looked, 'condition')} lie in networks of the device")


@check(
    id="rules.fail-open",
    title="Packets pass unchecked while the program that should look at them is not running",
    severity=Severity.MEDIUM,
    controls=("SC-7(18)", "SC-7", "SI-17"),
    why="Who brings the program down, or waits until it is started anew, is let through by the rule that was to stop him.",
    how="Rules that hand new connections to a program outside the rules and say that they are accepted while none runs; a light "
    "finding where only what comes from inside is handed over.",
    fix="Leave the bypass out where a pause is better than a way in; else hand over only what may pass unchecked, and have the "
    "program watched.",
)
def fail_open(subject: Subject) -> Iterator[Answer]:
    asked, outer = 0, subject.study.on(Side.OUTSIDE)
    found: dict[Span, Found] = {}
    for program, step in _placed(subject):
        rule = step.rule
        given = next((one for one in rule.effects if isinstance(one, HandOver)), None) if rule is not None else None
        new = [piece.box for piece in step.pieces if meets(piece.box, NEW) and meets(piece.box, program.region)]
        if rule is None or given is None or not new:
            continue
        asked += 1
        if not given.bypass:
            continue
        strange = program.direction is not Direction.FROM_DEVICE and (
            not outer or any(meets(one, box([(Axis.IN, outer)])) for one in new)
        )
        severity = None if strange else Severity.LOW
        known = found.get(rule.where)
        if known is None or known.severity is Severity.LOW:
            found[rule.where] = Found(
                f"{capital(speak(step.chain, rule))} hands new connections to a program, and accepts them all while none runs.",
                f"{step.rulebase.name} {rule_subject(step.chain, rule)}",
                (rule.where,),
                (refer(step.rulebase, step.chain, rule),),
                severity=severity,
            )
    yield from found.values()
    if not asked:
        yield NotApplicable("no rule hands packets to a program")
    elif not found:
        yield Passed("what is handed to a program is refused while none runs")


def _placed(subject: Subject) -> Iterator[tuple[Program, Step]]:
    for direction in Direction:
        for program in subject.programs.all(direction):
            yield from ((program, step) for step in program.steps)


def _private_places(rule: Rule, step: Step, family: int) -> Iterator[IntervalSet | None]:
    """The addresses a rule lets packets go to or come from, and those it sends them to; all of its parts together."""
    sent = [e.addresses for e in rule.effects if isinstance(e, Translate) and e.kind is TranslationKind.DESTINATION]
    yield from (IntervalSet([(to.first, to.last)]) for to in sent if to is not None and to.family == family)
    if rule.action is not Action.ACCEPT:
        return
    for axis in (Axis.DST, Axis.SRC):
        parts = [piece.box[axis] for piece in step.pieces]
        free = axis is Axis.SRC and any(piece.box[Axis.IN] is not None for piece in step.pieces)
        if parts and not free and all(one is not None for one in parts):
            yield IntervalSet(span for one in parts if one is not None for span in one.spans)


_FOR_MANY = {
    4: [(127 << 24, (128 << 24) - 1), (224 << 24, (1 << 32) - 1)],
    6: [(1, 1), (0xFF << 120, (1 << 128) - 1)],
}
"""The loopback, multicast and broadcast: where packets to the device go beside its own addresses (RFC 6890)."""

_SAID_PORT = re.compile(
    r"(?i)\b(?:(?:ports?|tcp|udp)\s*[:/ -]?\s*|(?:on|at) (?=[3-9]\d{3}\b|\d{5}\b))(\d{2,5})"
    r"(?!\.\d|\s*(?:minutes|hours|days|users|hosts|sites))\b"
)
"""A port in words: "port 443", "tcp/8443", and "on 8443", which no year is."""


@check(
    id="rules.other-port",
    title="A description names another port than the rule opens",
    severity=Severity.LOW,
    controls=("CM-3", "CM-6"),
    why="Either the rule opens what nobody asked for, or whoever reads the description is misled.",
    how="A port named in the description or name of an accepting rule (port 443, tcp/8443) that is none of the rule's ports, where the "
    "rule names few. Ports of translations are left out, since a description may mean the port before or after.",
    fix="Ask what was meant, and correct the rule or its description.",
    asks=(RULES_INWARD,),
)
def other_port(subject: Subject) -> Iterator[Answer]:
    admissions = _admissions(subject)
    translated = _translated_ports(subject)
    looked, found = 0, False
    for one in admissions:
        said = [int(port) for port in _SAID_PORT.findall(f"{one.rule.name} {one.rule.comment}")]
        opened = [ports for r in one.regions for axis in (Axis.A, Axis.B) if (ports := r[axis]) is not None]
        if not said or not opened or sum(ports.size for ports in opened) > _FEW_PORTS * 2:
            continue
        looked += 1
        other = [port for port in said if port not in translated and not any(port in ports for ports in opened)]
        if other and len(other) == len(said):
            found = True
            opens = listed(dict.fromkeys(_spell_ports(r[Axis.B] or r[Axis.A]) for r in one.regions))
            yield about(one, f"{name_of(one)} is said to be for port {other[0]}, and opens {opens}")
    if not looked:
        yield NotApplicable("no description names a port")
    elif not found:
        yield Passed(f"the {counted(looked, 'description')} that name a port name one of the rule's")


_FEW_PORTS = 64


def _spell_ports(ports: IntervalSet | None) -> str:
    if ports is None:
        return "every port"
    return " and ".join(f"port {a}" if a == b else f"ports {a} to {b}" for a, b in ports.spans[:3])


def _translated_ports(subject: Subject) -> set[int]:
    """Ports that a translation takes or gives."""
    out: set[int] = set()
    for base in subject.device.rulebases:
        for _, rule in base.rules():
            given = [e.ports for e in rule.effects if isinstance(e, Translate) and e.ports is not None]
            if any(isinstance(e, Translate) for e in rule.effects):
                taken = [
                    o
                    for c in rule.match.conditions
                    if c.field is Field.DESTINATION_PORT
                    for o in c.operands
                    if isinstance(o, Numbers)
                ]
                out |= {
                    port
                    for n in (*given, *taken)
                    if n.last - n.first < _FEW_PORTS
                    for port in range(n.first, n.last + 1)
                }
    return out


@check(
    id="rules.link-network",
    title="A rule names the line to the outside where everybody may be meant",
    severity=Severity.LOW,
    controls=("CM-6", "AC-4"),
    why="The network of the outside interface holds the carrier's router and a few neighbours; what lies behind it is another matter.",
    how="Accepting rules for services of the public (mail, names, web) whose source, or destination beyond the device, is exactly the "
    "public network of an interface that faces outside.",
    fix="If everybody outside was meant, name the interface and no network; else name the neighbour.",
    asks=(RULES_INWARD,),
)
def link_network(subject: Subject) -> Iterator[Answer]:
    outer = subject.study.on(Side.OUTSIDE)
    links = [
        (network, IntervalSet([(network.first, network.last)]))
        for zone in subject.device.zones
        if zone.side is Side.OUTSIDE
        for interface in subject.device.interfaces
        if interface.name in zone.interfaces
        for network in interface.networks
        if network.last - network.first > 1
        and not IntervalSet([(network.first, network.last)]).overlaps(private_networks(PRIVATE, network.family))
    ]
    if not links:
        yield NotApplicable("no public network of an outside interface is known")
        return
    found = False
    for one in _admissions(subject):
        for network, held in links:
            said = [words for piece in one.step.pieces if (words := _names_link(piece.box, held, outer))]
            if network.family == one.program.family and said:
                found = True
                text = f"{name_of(one)} is for what {said[0]} {spell_operand(network)}, the line to the outside alone"
                yield about(one, text)
                break
    if not found:
        yield Passed("no rule for services of the public names the line to the outside for all that is behind it")


_OF_THE_PUBLIC = IntervalSet.of(25, 53, 80, 443)


def _names_link(region: Box, link: IntervalSet, outer: IntervalSet) -> str:
    """Which end of what a rule asks for is exactly the network of an outside line, in words; empty if none is."""
    ports, enters = region[Axis.B], region[Axis.IN]
    if ports is None or not ports.issubset(_OF_THE_PUBLIC):
        return ""
    if region[Axis.SRC] == link and (enters is None or enters.overlaps(outer)):
        return "comes from"
    leaves = region[Axis.OUT]
    away = leaves is None or 0 not in leaves
    return "goes to" if region[Axis.DST] == link and away and (enters is None or not enters.issubset(outer)) else ""


CHECKS: tuple[Check, ...] = (
    source_port,
    both_ports,
    needless_return,
    wrong_side,
    wrong_list,
    unknown_network,
    other_port,
    link_network,
    fail_open,
)

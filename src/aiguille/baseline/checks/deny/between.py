"""What is let through from one side to another without anybody having named it, and what only looks like a refusal."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator

from msgspec import Struct
from msgspec.structs import replace

from aiguille.analysis.decide import Ends, Proof, accepting_steps, surely_refused
from aiguille.analysis.program import Kind, Program, ipv6_is_off
from aiguille.analysis.refusals import drops_forged
from aiguille.analysis.services import known_services
from aiguille.analysis.sides import PRIVATE, Entrance
from aiguille.analysis.study import OPENING, Wanted, lets_in, may_let_in
from aiguille.baseline.asking import OUTSIDE, RULES_INWARD, RULES_THROUGH, common
from aiguille.baseline.catalogue import (
    Answer,
    CannotTell,
    Check,
    Found,
    NotApplicable,
    Of,
    Param,
    Passed,
    RuleRef,
    Severity,
    Subject,
    Who,
    check,
    finding_from,
    refer,
    speak,
)
from aiguille.baseline.values import networks
from aiguille.baseline.wording import (
    NO_INWARD_RULES,
    SETTLE_OUTSIDE,
    UNSETTLED,
    capital,
    counted,
    listed,
    spell_ports,
)
from aiguille.model import Action, Direction, Side
from aiguille.readers.literals import read_ports, read_protocol
from aiguille.space import Axis, Box, IntervalSet, box
from aiguille.space.fields import TCP, UDP

_PORTS = Param("ports", int, 1024, "TCP ports", "a few services are named; a thousand are not meant one by one")


class Pair(Struct, frozen=True):
    """Two sides of the device: where packets come in, and where they go, in words and as a region."""

    source: Entrance
    to: str
    side: Side | None
    region: Box


class Opening(Struct, frozen=True):
    """A way from one side to another that is open on many ports."""

    pair: Pair
    program: Program
    ports: int
    proof: Proof


def _wide(subject: Subject, pairs: Iterable[Pair], wanted: Callable[[Program], Wanted] = lets_in) -> Iterator[Opening]:
    """Ways by which more ports than the parameter allows can be reached."""
    every = list(pairs)
    for program in subject.programs.all(Direction.THROUGH_DEVICE):
        for pair in every:
            here = common(subject.study.arriving(pair.source, program.family), pair.region)
            ports = subject.study.open_ports(program, here, TCP, wanted(program))
            if ports.size > subject.params["ports"]:
                proof = _by_the_widest(subject, program, common(here, OPENING[TCP]) if here else None, ports, wanted)
                if proof is not None:
                    yield Opening(pair, program, ports.size, proof)


def _by_the_widest(
    subject: Subject, program: Program, region: Box | None, ports: IntervalSet, wanted: Callable[[Program], Wanted]
) -> Proof | None:
    """A packet that a rule lets through which opens many ports, where there is one beside those for single services."""
    narrow = IntervalSet(
        span
        for step in program.steps
        if step.kind is Kind.ACCEPT
        for piece in step.pieces
        if (own := piece.box[Axis.B]) is not None and own.size <= subject.params["ports"]
        for span in own.spans
    )
    rest = ports - narrow
    wide = common(region, box([(Axis.B, rest)])) if region is not None and rest else None
    found = subject.study.find(program, wide, wanted(program)) if wide is not None else None
    return found or subject.study.find(program, region, wanted(program))


_CAREFUL = (Side.GUEST, Side.DMZ)
"""Sides whose machines strangers use, or may have taken over."""

_WORTHY = (Side.INSIDE, Side.MANAGEMENT)


def _by_rule(found: Iterable[Opening]) -> Iterator[Found]:
    groups: dict[tuple[int, tuple[RuleRef, ...]], list[Opening]] = {}
    for one in found:
        refs = tuple(refer(s.rulebase, s.chain, s.rule) for s in one.proof.steps)
        groups.setdefault((one.program.family, refs), []).append(one)
    for group in groups.values():
        group.sort(key=lambda o: o.pair.source.side not in _CAREFUL or o.pair.side not in _WORTHY)
        targets: dict[str, list[str]] = {}
        for one in group:
            targets.setdefault(one.pair.source.label, []).append(one.pair.to)
        together: dict[tuple[str, ...], list[str]] = {}
        for source, to in targets.items():
            together.setdefault(tuple(dict.fromkeys(to)), []).append(source)
        ways = listed((f"{listed(sources)} reach {listed(to)}" for to, sources in together.items()), 6)
        first, most = group[0], max(one.ports for one in group)
        last = first.proof.steps[-1]
        ports = "every TCP port" if most > first.program.space.tops[Axis.B] else counted(most, "TCP port")
        grave = first.pair.source.side in _CAREFUL and first.pair.side in _WORTHY
        described = finding_from(
            first.proof,
            f"{capital(speak(last.chain, last.rule))} lets {ways} on {ports} over {{family}}.",
            severity=Severity.HIGH if grave else None,
        )
        yield replace(described, who=_SIDES.get(first.pair.source.side or Side.INSIDE, Who.INSIDE))


_SIDES = {Side.OUTSIDE: Who.ANYBODY, Side.GUEST: Who.GUESTS, Side.DMZ: Who.DMZ, Side.INSIDE: Who.INSIDE,
          Side.MANAGEMENT: Who.ADMINISTRATORS}  # fmt: skip


def _in_doubt(found: Iterable[Opening]) -> Iterator[Answer]:
    for one in found:
        last = one.proof.steps[-1]
        yield CannotTell(
            f"{one.pair.source.label} may reach {one.pair.to} by {speak(last.chain, last.rule)}, {UNSETTLED}"
        )
        return


def _pairs(sources: Iterable[Entrance], targets: Iterable[Entrance]) -> Iterator[Pair]:
    every = list(targets)
    for a in sources:
        for b in every:
            if a.label != b.label and not a.interfaces.overlaps(b.interfaces):
                yield Pair(a, b.label, b.side, box([(Axis.OUT, b.interfaces)]))


@check(
    id="deny.between-inside",
    title="Inside networks reach one another on almost every port",
    severity=Severity.MEDIUM,
    controls=("SC-7", "SC-7(21)", "AC-4"),
    params=(_PORTS,),
    why="What takes over one machine, a guest's or a camera, spreads to the rest without meeting a firewall.",
    how="For each pair of zones that are not outside, the TCP ports some host of one reaches in the other are computed; more than the "
    "parameter allows is a finding, reported for each rule or default that lets them through: high from guests or a dmz to inside "
    "or management, else medium.",
    fix="Refuse traffic between inside networks at the end, and allow above it what is needed: this "
    "source, that destination, this port.",
    asks=(RULES_THROUGH,),
)
def between_inside(subject: Subject) -> Iterator[Answer]:
    inner = subject.study.inside
    pairs = list(_pairs(inner, inner))
    if not pairs:
        yield NotApplicable("fewer than two inside networks are known")
        return
    found = list(_by_rule(_wide(subject, pairs)))
    yield from found
    yield from _in_doubt(_wide(subject, pairs, may_let_in))
    if not found:
        yield Passed(
            f"none of {counted(len(pairs), 'pair')} of inside networks is open on more than {subject.params['ports']} ports"
        )


@check(
    id="deny.guests-inside",
    title="Guests reach an inside network",
    severity=Severity.MEDIUM,
    controls=("SC-7", "AC-4", "AC-3"),
    params=(
        Param("ports", int, 1024, "ports", "those of more are counted, not named"),
        Param(
            "printers",
            bool,
            True,
            "true or false",
            "a printer for guests is small; set it to false to hear of printers too",
        ),
    ),
    why="Nobody knows who the guests are; what they reach inside they can attack.",
    how="The ports that guest networks reach in inside and management zones are computed: high where a service of the table of "
    "well-known ones is among them that gives a login, data or control, or there are more than the parameter says, else medium. "
    "Printers alone are a low finding.",
    fix="Refuse guests everything but the outside; give them what they need from a network of its own.",
    asks=(RULES_THROUGH,),
)
def guests_inside(subject: Subject) -> Iterator[Answer]:
    guests = [one for one in subject.study.inside if one.side is Side.GUEST]
    if not guests:
        yield NotApplicable("no network of guests is known")
        return
    pairs = list(_pairs(guests, [one for one in subject.study.inside if one.side in _WORTHY]))
    found = False
    for program in subject.programs.all(Direction.THROUGH_DEVICE):
        groups: dict[tuple[RuleRef, ...], list[tuple[Pair, str, Proof, Severity]]] = {}
        for pair in pairs:
            for answer in _reached(subject, program, pair):
                refs = tuple(refer(s.rulebase, s.chain, s.rule) for s in answer[2].steps)
                groups.setdefault(refs, []).append(answer)
        for group in groups.values():
            found = True
            group.sort(key=lambda one: -one[3].rank)
            targets = listed(dict.fromkeys(f"{pair.source.label} to {pair.to}" for pair, *_ in group))
            words = listed(dict.fromkeys(words for _, words, _, _ in group))
            last = group[0][2].steps[-1]
            text = f"{capital(speak(last.chain, last.rule))} lets {words} over {{family}} pass from {targets}."
            yield replace(finding_from(group[0][2], text, severity=group[0][3]), who=Who.GUESTS)
    if not found:
        yield Passed(f"guests reach no port of {counted(len(pairs), 'inside network')}")


def _reached(subject: Subject, program: Program, pair: Pair) -> Iterator[tuple[Pair, str, Proof, Severity]]:
    """What guests reach of an inside zone on few ports, rule by rule, with how bad that is."""
    here = common(subject.study.arriving(pair.source, program.family), pair.region)
    for protocol, name in ((TCP, "TCP"), (UDP, "UDP")):
        ports = subject.study.open_ports(program, here, protocol)
        if not ports or here is None:
            continue
        if ports.size > subject.params["ports"]:
            proof = subject.study.find(program, common(here, OPENING[protocol]), lets_in(program))
            if proof is not None:
                every = ports.size > program.space.tops[Axis.B]
                yield pair, f"every {name} port" if every else counted(ports.size, f"{name} port"), proof, Severity.HIGH
            continue
        left = ports
        while left:
            region = common(here, OPENING[protocol], box([(Axis.B, left)]))
            proof = subject.study.find(program, region, lets_in(program))
            if proof is None:
                break
            mine = frozenset(accepting_steps(program, proof.ends))

            def by_these(ends: Ends, program: Program = program, mine: frozenset[int] = mine) -> bool:
                return lets_in(program)(ends) and accepting_steps(program, ends) == mine

            held = subject.study.project(program, region, Axis.B, by_these)
            left = left - (held or IntervalSet.of(proof.packet.dport or 0))
            known = [one for one in known_services() if any(t.protocol.first == protocol and
                     any(p.first in held or p.last in held for p in t.destination_ports) for t in one.terms)]  # fmt: skip
            spelled = spell_ports(held)
            words = f"{name} {'port' if held.size == 1 else 'ports'} {spelled}"
            if known:
                words += f" ({listed(one.name for one in known)})"
            grave = any(one.gives in ("login", "data", "control") and not one.printer for one in known)
            printing = bool(known) and all(one.printer for one in known) and held.size <= 4
            small = printing and subject.params["printers"]
            yield pair, words, proof, Severity.LOW if small else Severity.HIGH if grave else Severity.MEDIUM


@check(
    id="deny.egress",
    title="Inside networks reach the outside on almost every port",
    severity=Severity.LOW,
    controls=("SC-7(5)", "SC-7", "AC-4"),
    params=(_PORTS,),
    why="Malware calls home, and data leaves, on whatever port is open.",
    how="As between inside networks, from each of them to the zones on the outside.",
    fix="Refuse outgoing traffic by default and allow names, time, the mail relay and the web, from those who need them.",
    asks=(
        RULES_THROUGH,
        OUTSIDE,
    ),
)
def egress(subject: Subject) -> Iterator[Answer]:
    outer = subject.study.on(Side.OUTSIDE)
    inner = subject.study.inside
    if not inner:
        yield NotApplicable("no inside network is known")
        return
    ways = [Pair(one, "the outside", Side.OUTSIDE, box([(Axis.OUT, outer)])) for one in inner]
    found = list(_by_rule(_wide(subject, ways)))
    yield from found
    yield from _in_doubt(_wide(subject, ways, may_let_in))
    if not found:
        yield Passed(
            f"none of {counted(len(inner), 'inside network')} reaches the outside on more than {subject.params['ports']} ports"
        )


@check(
    id="deny.answers-outside",
    together="rules or defaults answer what they refuse on the outside",
    title="Refusals are answered on the outside",
    severity=Severity.LOW,
    controls=("SC-7", "SC-5"),
    why="An answer tells a stranger that somebody is there; silence costs them time.",
    how="Looks for packets from the outside that a rule or policy rejects, which sends an answer, rather than drops.",
    fix="Drop what comes from the outside; keep answers for inside networks, where they save everybody time.",
    asks=(
        RULES_INWARD,
        OUTSIDE,
    ),
)
def answers_outside(subject: Subject) -> Iterator[Answer]:
    outer = subject.study.on(Side.OUTSIDE)
    programs = [p for d in (Direction.TO_DEVICE, Direction.THROUGH_DEVICE) for p in subject.programs.all(d)]
    found = False
    for program in programs:
        last = program.default.rule if program.default is not None else None
        # What a program refuses of itself is no matter of these rules, but as the end of them.
        mine = [
            r is None or r is last or not (r.shipped or (r.made and r.implied)) for r in (s.rule for s in program.steps)
        ]

        def answered(ends: Ends, program: Program = program, mine: list[bool] = mine) -> bool:
            answers = all(program.steps[end.step].action is Action.REJECT and mine[end.step] for end in ends)
            return answers and surely_refused(ends)

        here = common(box([(Axis.IN, outer), (Axis.SRC, subject.study.strangers(program))]))

        def perhaps(ends: Ends, program: Program = program, mine: list[bool] = mine) -> bool:
            return any(
                not end.accepts and mine[end.step] and program.steps[end.step].action is Action.REJECT for end in ends
            )

        decider = subject.study.decider(program)
        proof = decider.find(here, answered) if here is not None else None
        if proof is None and here is not None and decider.find(here, perhaps) is not None:
            yield CannotTell(f"what is refused from the outside may be answered, {UNSETTLED}")
        if proof is not None:
            found = True
            by = proof.steps[-1]
            going = program.direction.value.replace("-", " the ")
            yield finding_from(
                proof, f"{capital(speak(by.chain, by.rule))} answers {{family}} packets {going} from outside."
            )
    if not found:
        yield Passed("what is refused from the outside is dropped in silence")


@check(
    id="deny.wider-ipv6",
    title="IPv6 lets in what IPv4 refuses",
    severity=Severity.HIGH,
    controls=("SC-7", "AC-4", "CM-6"),
    params=(
        Param(
            "only",
            tuple,
            ("udp/546-547",),
            "services",
            "DHCPv6 (RFC 8415) has no counterpart on the same ports",
            Of.SERVICE,
        ),
    ),
    why="Rules are often written for IPv4 alone; the same host then stands open by its other address.",
    how="For TCP and UDP the ports that a source nobody names reaches from the outside are computed for both families; ports open over "
    "IPv6 alone are a finding, with a packet. Where the export holds no IPv6 rules the outcome is open, unless IPv6 is off.",
    fix="Write the same rules for IPv6 as for IPv4, down to the sources and the default.",
)
def wider_ipv6(subject: Subject) -> Iterator[Answer]:
    outer = subject.study.on(Side.OUTSIDE)
    if ipv6_is_off(subject.device):
        yield NotApplicable("IPv6 is switched off")
        return
    pairs = [(d, [subject.programs.get(f, d) for f in (4, 6)]) for d in (Direction.TO_DEVICE, Direction.THROUGH_DEVICE)]
    if any(four is not None and six is None for _, (four, six) in pairs):
        yield CannotTell("the export holds no rules for IPv6; export those too, or state that IPv6 is switched off")
    if not outer:
        yield CannotTell(f"no interface is known to face the outside; {SETTLE_OUTSIDE}")
        return
    compared, found = 0, False
    for direction, (four, six) in pairs:
        if four is None or six is None:
            continue
        compared += 1
        both = (four, six)
        regions = [common(box([(Axis.IN, outer), (Axis.SRC, subject.study.strangers(p))])) for p in both]
        proof = None
        words = []
        for protocol, name in ((TCP, "TCP"), (UDP, "UDP")):
            sure, perhaps = (
                [
                    subject.study.open_ports(p, r, protocol, wanted(p)) if r else IntervalSet()
                    for p, r in zip(both, regions, strict=True)
                ]
                for wanted in (lets_in, may_let_in)
            )
            own = [term for text in subject.params["only"] for term in _ports_of(text, protocol)]
            more = sure[1] - sure[0] - perhaps[0] - IntervalSet(own)
            if (sure[1] | perhaps[1]) - sure[0] - more - IntervalSet(own):
                yield CannotTell(f"{name} ports may be open over IPv6 that are not over IPv4, {UNSETTLED}")
            if not more or regions[1] is None:
                continue
            here = common(regions[1], OPENING[protocol], box([(Axis.B, more)]))
            proof = proof or subject.study.find(six, here, lets_in(six))
            words.append(f"{name} port {more.first}" if more.size == 1 else counted(more.size, f"{name} port"))
        if proof is not None:
            found = True
            reached = "on the device" if direction is Direction.TO_DEVICE else "behind the device"
            text = f"Over IPv6 anybody outside reaches {listed(words)} {reached} that IPv4 keeps shut."
            yield finding_from(proof, text, f"{direction} wider")
    if compared and not found:
        yield Passed("nothing is open to everybody outside over IPv6 that is not over IPv4")
    if not compared and subject.programs.get(4, Direction.TO_DEVICE) is None:
        yield CannotTell(NO_INWARD_RULES)


def _ports_of(text: str, protocol: int) -> list[tuple[int, int]]:
    """The ports of a service such as ``udp/546-547``, if it is of a protocol."""
    name, _, ports = text.partition("/")
    if read_protocol(name).first != protocol or not ports:
        return []
    found = read_ports(ports, "-")
    return [(found.first, found.last)]


UNASSIGNED = ("169.254.0.0/16", "240.0.0.0/4", "100::/64")


def checked_paths(subject: Subject) -> bool:
    """Whether the kernel surely checks on the outside that the way back leads there (ip-sysctl, rp_filter)."""
    facts = {one.name: one.setting.value for one in subject.device.system if one.setting.known}
    names = [n for z in subject.device.zones if z.side is Side.OUTSIDE for n in z.interfaces]
    everywhere = facts.get("net.ipv4.conf.all.rp_filter", "")
    stated = [max(everywhere, facts.get(f"net.ipv4.conf.{name}.rp_filter", "")) for name in names]
    return bool(stated) and all(value == "1" for value in stated) and not any(True for _ in _six(subject))


def _six(subject: Subject) -> Iterator[Program]:
    """The programs for IPv6, whose sources the kernel does not check."""
    return (
        p for d in (Direction.TO_DEVICE, Direction.THROUGH_DEVICE) for p in subject.programs.all(d) if p.family == 6
    )


@check(
    id="deny.bogons",
    title="Sources that cannot be genuine are accepted from outside",
    severity=Severity.MEDIUM,
    controls=("SC-7", "SC-7(11)", "SI-10"),
    params=(
        Param(
            "private",
            tuple,
            PRIVATE,
            "networks",
            "RFC 1918 and RFC 4193: nobody on the internet has such an address",
            Of.NETWORK,
        ),
        Param(
            "unassigned",
            tuple,
            UNASSIGNED,
            "networks",
            "RFC 6890: never the source of a packet from afar; systems drop 0/8 and 127/8 by themselves",
            Of.NETWORK,
        ),
    ),
    why="Rules that trust inside addresses can then be fooled by a forged source.",
    how="Looks for new connections from such sources that are accepted from the outside: medium behind the device, low at a device "
    "that has nothing behind it, or where nothing shows that it forwards. Ranges that the outside zone itself uses are left out. "
    "Where the kernel checks the path back (rp_filter) on the way in, or a rule does, such packets are dropped.",
    fix="Drop private and unassigned sources on the outside before any rule that accepts.",
    asks=(OUTSIDE,),
)
def bogons(subject: Subject) -> Iterator[Answer]:
    outer = subject.study.on(Side.OUTSIDE)
    if checked_paths(subject):
        yield Passed("the kernel drops packets whose source lies elsewhere before any rule sees them (rp_filter)")
        return
    own = subject.study.outside_networks
    looked = 0
    ways: dict[str, Proof] = {}
    kinds: dict[str, dict[str, None]] = {}
    for kind in ("private", "unassigned"):
        for program in (p for d in (Direction.TO_DEVICE, Direction.THROUGH_DEVICE) for p in subject.programs.all(d)):
            sources = networks(subject.params[kind], program.family)
            if drops_forged(program, outer) is not None:
                looked += 1
                continue
            if any(n.family == program.family and IntervalSet([(n.first, n.last)]).overlaps(sources) for n in own):
                continue
            looked += 1
            through = program.direction is Direction.THROUGH_DEVICE
            if through and subject.study.forwards is False:
                continue
            out = program.space.symbols.present - outer if through else IntervalSet.of(0)
            here = common(box([(Axis.IN, outer), (Axis.OUT, out), (Axis.SRC, sources)])) if sources and out else None
            proof = subject.study.find(program, here, _asked_for(program))
            if proof is None and subject.study.find(program, here, may_let_in(program)) is not None:
                yield CannotTell(f"{kind} sources from outside may be accepted, {UNSETTLED}")
            if proof is not None:
                last = proof.steps[-1]
                going = "behind the device" if through else "the device"
                way = f"{going} by {speak(last.chain, last.rule)}"
                ways.setdefault(way, proof)
                kinds.setdefault(way, {})[kind] = None
    if ways:
        # Where nothing shows that the host forwards, only a rule (no default) is a statement on what lies behind it.
        behind = [
            p
            for p in ways.values()
            if p.program.direction is Direction.THROUGH_DEVICE
            and (subject.study.forwards or p.steps[-1].rule is not None)
        ]
        first = (behind or list(ways.values()))[0]
        # On a host by itself no other rule trusts an inside address, and a forged source gets no answer.
        severity = None if behind else Severity.LOW
        who = listed(dict.fromkeys(kind for described in kinds.values() for kind in described))
        text = f"{capital(who)} sources from outside reach {listed(ways, 4)}."
        found = finding_from(first, text, "forged sources", severity)
        # Whoever forges a source hears no answer, so this comes behind what opens a way in.
        yield replace(found, family=None)
    elif not looked:
        yield NotApplicable("the outside itself uses such addresses, or the export holds no rules for what comes in")
    else:
        yield Passed("no new connection from such a source is accepted from outside")


def _asked_for(program: Program) -> Wanted:
    """Whether packets are let in, by something that a program did not put there by itself."""
    accepted = lets_in(program)
    mine = [step.rule is None or not step.rule.shipped for step in program.steps]
    return lambda ends: accepted(ends) and any(mine[end.step] for end in ends)


CHECKS: tuple[Check, ...] = (between_inside, guests_inside, egress, answers_outside, wider_ipv6, bogons)

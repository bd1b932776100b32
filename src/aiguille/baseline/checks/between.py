"""What is let through from one side to another without anybody having named it, and what only looks like a refusal."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator

from aiguille.analysis import Decider, Ends, Entrance, Program, Proof, surely_refused
from aiguille.analysis.exposure import RATES
from aiguille.analysis.study import NEW, Wanted, lets_in, may_let_in
from aiguille.baseline.catalogue import (
    Answer,
    CannotTell,
    Check,
    Found,
    NotApplicable,
    Of,
    Param,
    Passed,
    Severity,
    Subject,
    check,
    lines_of,
    refer,
    rule_subject,
    speak,
)
from aiguille.baseline.checks.access import SETTLE_OUTSIDE
from aiguille.baseline.checks.login import fact
from aiguille.baseline.wording import NO_INWARD_RULES, counted, listed
from aiguille.model import Action, Direction, MaskedAddress, Side
from aiguille.readers.literals import read_network, read_ports, read_protocol
from aiguille.space import Axis, Box, IntervalSet, box, overlap
from aiguille.space.fields import SYN, TCP, UDP

_OPENING = {
    TCP: box([(Axis.PROTO, IntervalSet.of(TCP)), (Axis.FLAGS, IntervalSet.of(SYN))]),
    UDP: box([(Axis.PROTO, IntervalSet.of(UDP))]),
}
NO_THROUGH = "the export holds no rules for traffic through the device"
_PORTS = Param("ports", int, 1024, "TCP ports", "a few services are named; a thousand are not meant one by one")


def common(*boxes: Box) -> Box | None:
    """What several boxes have in common."""
    out: Box | None = NEW
    for one in boxes:
        out = overlap(out, one) if out is not None else None
    return out


def open_ports(
    decider: Decider, region: Box, protocol: int, wanted: Callable[[Program], Wanted] = lets_in
) -> IntervalSet:
    """Ports of a protocol that some packet of a region gets to, or with `may_let_in` may get to."""
    here = common(region, _OPENING[protocol])
    return decider.project(here, Axis.B, wanted(decider.program)) if here is not None else IntervalSet()


UNSETTLED = "under a condition the export does not settle (a time of day, a set that was not exported, a mark)"


def told_by(proof: Proof, detail: str, subject: str = "", severity: Severity | None = None) -> Found:
    """A finding that rests on the steps which decide a packet; what is in braces stays for the families."""
    last = proof.steps[-1]
    if not proof.certain and any(q.name in RATES for step in proof.steps if step.rule for q in step.rule.qualifiers):
        detail = detail.removesuffix(".") + ", within a rate limit."
    return Found(
        detail=detail,
        subject=subject or rule_subject(last.chain, last.rule),
        where=tuple(dict.fromkeys(where for step in proof.steps for where in lines_of(step))),
        rules=tuple(refer(s.rulebase, s.chain, s.rule) for s in proof.steps),
        proof=proof,
        severity=severity,
        family=proof.program.family,
    )


def _wide(
    subject: Subject, ways: Iterable[tuple[Entrance, str, Box]], wanted: Callable[[Program], Wanted] = lets_in
) -> Iterator[tuple[Program, Entrance, str, int, Proof]]:
    """Ways by which more ports than the parameter allows can be reached."""
    listed_ways = list(ways)
    for program in subject.programs.all(Direction.THROUGH_DEVICE):
        decider = subject.study.decider(program)
        for one, to, region in listed_ways:
            here = common(subject.study.arriving(one, program.family), region)
            if here is None:
                continue
            ports = open_ports(decider, here, TCP, wanted)
            if ports.size > subject.params["ports"]:
                odd = overlap(here, _OPENING[TCP])
                proof = decider.find(odd, wanted(program)) if odd is not None else None
                if proof is not None:
                    yield program, one, to, ports.size, proof


def _by_rule(found: Iterable[tuple[Program, Entrance, str, int, Proof]], verb: str) -> Iterator[Found]:
    groups: dict[tuple[int, tuple[int, ...]], list[tuple[Program, Entrance, str, int, Proof]]] = {}
    for one in found:
        key = (one[0].family, tuple(id(step.rule or step.chain) for step in one[4].steps))
        groups.setdefault(key, []).append(one)
    for group in groups.values():
        targets: dict[str, list[str]] = {}
        for _, entrance, to, _, _ in group:
            targets.setdefault(entrance.label, []).append(to)
        ways = listed((f"{source} {verb} {listed(to)}" for source, to in targets.items()), 6)
        most = max(count for *_, count, _ in group)
        last = group[0][4].steps[-1]
        yield told_by(
            group[0][4], f"By {speak(last.chain, last.rule)} {ways} on {counted(most, 'TCP port')} over {{family}}."
        )


def _in_doubt(found: Iterable[tuple[Program, Entrance, str, int, Proof]]) -> Iterator[Answer]:
    for _, one, to, _, proof in found:
        last = proof.steps[-1]
        yield CannotTell(f"{one.label} may reach {to} by {speak(last.chain, last.rule)}, {UNSETTLED}")
        return


@check(
    id="deny.between-inside",
    title="Inside networks reach one another on almost every port",
    severity=Severity.MEDIUM,
    controls=("SC-7", "SC-7(21)", "AC-4"),
    params=(_PORTS,),
    why="What takes over one machine, a guest's or a camera, spreads to the rest without meeting a firewall.",
    how="For each pair of zones that are not outside, the TCP ports some host of one reaches in the other are computed; more than the "
    "parameter allows is a finding, told for each rule or default that lets them through.",
    fix="Refuse traffic between inside networks at the end, and allow above it what is needed: this "
    "source, that destination, this port.",
)
def between_inside(subject: Subject) -> Iterator[Answer]:
    inner = subject.study.inside
    pairs = [(a, f"{b.label}", box([(Axis.OUT, b.interfaces)])) for a in inner for b in inner
             if a.label != b.label and not a.interfaces.overlaps(b.interfaces)]  # fmt: skip
    if not any(True for _ in subject.programs.all(Direction.THROUGH_DEVICE)):
        yield CannotTell(NO_THROUGH)
        return
    if not pairs:
        yield NotApplicable("fewer than two inside networks are known")
        return
    found = list(_by_rule(_wide(subject, pairs), "reaches"))
    yield from found
    yield from _in_doubt(_wide(subject, pairs, may_let_in))
    if not found:
        yield Passed(
            f"none of {counted(len(pairs), 'pair')} of inside networks is open on more than {subject.params['ports']} ports"
        )


@check(
    id="deny.egress",
    title="Inside networks reach the outside on almost every port",
    severity=Severity.LOW,
    controls=("SC-7(5)", "SC-7", "AC-4"),
    params=(_PORTS,),
    why="Malware calls home, and data leaves, on whatever port is open.",
    how="As between inside networks, from each of them to the zones on the outside.",
    fix="Refuse outgoing traffic by default and allow names, time, the mail relay and the web, from those who need them.",
)
def egress(subject: Subject) -> Iterator[Answer]:
    if not any(True for _ in subject.programs.all(Direction.THROUGH_DEVICE)):
        yield CannotTell(NO_THROUGH)
        return
    outer = subject.study.on(Side.OUTSIDE)
    if not outer:
        yield CannotTell(f"no interface is known to face the outside; {SETTLE_OUTSIDE}")
        return
    inner = subject.study.inside
    if not inner:
        yield NotApplicable("no inside network is known")
        return
    ways = [(one, "the outside", box([(Axis.OUT, outer)])) for one in inner]
    found = list(_by_rule(_wide(subject, ways), "reaches"))
    yield from found
    yield from _in_doubt(_wide(subject, ways, may_let_in))
    if not found:
        yield Passed(
            f"none of {counted(len(inner), 'inside network')} reaches the outside on more than {subject.params['ports']} ports"
        )


@check(
    id="deny.answers-outside",
    title="Refusals are answered on the outside",
    severity=Severity.LOW,
    controls=("SC-7", "SC-5"),
    why="An answer tells a stranger that somebody is there; silence costs them time.",
    how="Looks for packets from the outside that a rule or policy rejects, which sends an answer, rather than drops.",
    fix="Drop what comes from the outside; keep answers for inside networks, where they save everybody time.",
)
def answers_outside(subject: Subject) -> Iterator[Answer]:
    outer = subject.study.on(Side.OUTSIDE)
    programs = [p for d in (Direction.TO_DEVICE, Direction.THROUGH_DEVICE) for p in subject.programs.all(d)]
    if not programs:
        yield CannotTell(NO_INWARD_RULES)
        return
    if not outer:
        yield CannotTell(f"no interface is known to face the outside; {SETTLE_OUTSIDE}")
        return
    found = 0
    for program in programs:

        def answered(ends: Ends, program: Program = program) -> bool:
            return surely_refused(ends) and all(program.steps[end.step].action is Action.REJECT for end in ends)

        here = common(box([(Axis.IN, outer), (Axis.SRC, subject.study.strangers(program))]))

        def perhaps(ends: Ends, program: Program = program) -> bool:
            return any(not end.accepts and program.steps[end.step].action is Action.REJECT for end in ends)

        decider = subject.study.decider(program)
        proof = decider.find(here, answered) if here is not None else None
        if proof is None and here is not None and decider.find(here, perhaps) is not None:
            yield CannotTell(f"what is refused from the outside may be answered, {UNSETTLED}")
        if proof is not None:
            found += 1
            last = proof.steps[-1]
            going = program.direction.value.replace("-", " the ")
            yield told_by(
                proof, f"{speak(last.chain, last.rule).capitalize()} answers {{family}} packets {going} from outside."
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
    off = fact(subject, "net.ipv6.conf.all.disable_ipv6")
    if off is not None and off.setting.value == "1":
        yield NotApplicable("IPv6 is switched off")
        return
    if not outer:
        yield CannotTell(f"no interface is known to face the outside; {SETTLE_OUTSIDE}")
        return
    compared = found = 0
    for direction in (Direction.TO_DEVICE, Direction.THROUGH_DEVICE):
        four, six = (subject.programs.get(family, direction) for family in (4, 6))
        if four is None:
            continue
        if six is None:
            yield CannotTell("the export holds no rules for IPv6; export those too, or state that IPv6 is switched off")
            continue
        compared += 1
        regions = [common(box([(Axis.IN, outer), (Axis.SRC, subject.study.strangers(p))])) for p in (four, six)]
        deciders = [subject.study.decider(p) for p in (four, six)]
        proof = None
        words = []
        for protocol, name in ((TCP, "TCP"), (UDP, "UDP")):
            sure, perhaps = (
                [
                    open_ports(d, r, protocol, wanted) if r else IntervalSet()
                    for d, r in zip(deciders, regions, strict=True)
                ]
                for wanted in (lets_in, may_let_in)
            )
            own = [term for text in subject.params["only"] for term in _ports_of(text, protocol)]
            more = sure[1] - sure[0] - perhaps[0] - IntervalSet(own)
            if (sure[1] | perhaps[1]) - sure[0] - more - IntervalSet(own):
                yield CannotTell(f"{name} ports may be open over IPv6 that are not over IPv4, {UNSETTLED}")
            if not more or regions[1] is None:
                continue
            here = common(regions[1], _OPENING[protocol], box([(Axis.B, more)]))
            proof = proof or (deciders[1].find(here, lets_in(six)) if here is not None else None)
            words.append(f"{name} port {more.first}" if more.size == 1 else counted(more.size, f"{name} port"))
        if proof is not None:
            found += 1
            reached = "on the device" if direction is Direction.TO_DEVICE else "behind the device"
            text = f"Over IPv6 anybody outside reaches {listed(words)} {reached} that IPv4 keeps shut."
            yield told_by(proof, text, f"{direction} wider")
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


PRIVATE = ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "fc00::/7")
UNASSIGNED = ("169.254.0.0/16", "240.0.0.0/4", "100::/64")


def networks(texts: Iterable[str], family: int) -> IntervalSet:
    """The addresses of one family among networks written as people do."""
    found = [read_network(text) for text in texts]
    return IntervalSet((n.first, n.last) for n in found if not isinstance(n, MaskedAddress) and n.family == family)


@check(
    id="deny.bogons",
    title="Sources that cannot be genuine are accepted from outside",
    severity=Severity.LOW,
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
    how="Looks for new connections from such sources that are accepted from the outside, at the device or behind it. Ranges that the "
    "outside zone itself uses are left out; a reverse path check the export states is taken into account by its own check.",
    fix="Drop private and unassigned sources on the outside before any rule that accepts.",
)
def bogons(subject: Subject) -> Iterator[Answer]:
    outer = subject.study.on(Side.OUTSIDE)
    if not outer:
        yield CannotTell(f"no interface is known to face the outside; {SETTLE_OUTSIDE}")
        return
    own = [n for z in subject.device.zones if z.side is Side.OUTSIDE for n in z.networks]
    names = {n for z in subject.device.zones if z.side is Side.OUTSIDE for n in z.interfaces}
    own += [n for i in subject.device.interfaces if i.name in names for n in i.networks]
    looked = found = 0
    for kind in ("private", "unassigned"):
        for program in (p for d in (Direction.TO_DEVICE, Direction.THROUGH_DEVICE) for p in subject.programs.all(d)):
            sources = networks(subject.params[kind], program.family)
            if any(n.family == program.family and IntervalSet([(n.first, n.last)]).overlaps(sources) for n in own):
                continue
            looked += 1
            through = program.direction is Direction.THROUGH_DEVICE
            out = program.space.symbols.present - outer if through else IntervalSet.of(0)
            here = common(box([(Axis.IN, outer), (Axis.OUT, out), (Axis.SRC, sources)])) if sources and out else None
            decider = subject.study.decider(program)
            proof = decider.find(here, lets_in(program)) if here is not None else None
            if proof is None and here is not None and decider.find(here, may_let_in(program)) is not None:
                yield CannotTell(f"{kind} sources from outside may be accepted, {UNSETTLED}")
            if proof is not None:
                found += 1
                going = program.direction.value.replace("-", " the ")
                last = proof.steps[-1]
                text = f"{kind.capitalize()} {{family}} sources from outside get {going} by {speak(last.chain, last.rule)}."
                yield told_by(proof, text, f"{kind} {program.direction}")
    if not looked:
        yield NotApplicable("the outside itself uses such addresses, or the export holds no rules for what comes in")
    elif not found:
        yield Passed("no new connection from such a source is accepted from outside")


CHECKS: tuple[Check, ...] = (between_inside, egress, answers_outside, wider_ipv6, bogons)

"""The basics every rule set stands on: that there is one, connection states, the loopback, floods, forwarding."""

from __future__ import annotations

import re
from collections.abc import Iterator

from msgspec.structs import replace

from aiguille.analysis.decide import Ends, surely_accepted, surely_refused
from aiguille.analysis.doubts import GENUINE
from aiguille.analysis.loopback import LOOPBACK
from aiguille.analysis.program import Kind, Program, Step
from aiguille.analysis.services import GENERAL_HOSTS
from aiguille.analysis.sides import existing
from aiguille.baseline.asking import INWARD, RULES_INWARD, RULES_TO_DEVICE, fact
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
    finding_from,
    lines_of,
    refer,
    speak,
)
from aiguille.baseline.wording import GUESSED, NO_INWARD_RULES, UNSETTLED, by_default, capital, counted, lines, listed
from aiguille.model import Action, Direction, Field, State
from aiguille.model.facts import FORWARDING
from aiguille.space import Axis, Box, IntervalSet, PacketSet, box, overlap
from aiguille.space.fields import TCP

_POINT_TO_POINT = ("wg", "tun", "ppp", "sit", "gre")
"""Interfaces with one neighbour at most, who needs no discovery."""
IMPLICIT = "no rule of this export looks at connection states; the make is taken to let replies through by itself"


def _programs(subject: Subject) -> list[Program]:
    return [program for direction in INWARD for program in subject.programs.all(direction)]


def _states_written(subject: Subject) -> bool:
    """Whether rules look at connection states, or the system is one whose rules have to."""
    if subject.device.dialect in GENERAL_HOSTS:
        return True
    return any(
        condition.field is Field.STATE
        for base in subject.device.rulebases
        for _, rule in base.rules()
        for condition in rule.match.conditions
    )


@check(
    id="deny.no-rules",
    title="No rules are in force",
    severity=Severity.HIGH,
    controls=("SC-7", "CM-6"),
    why="A firewall without rules is a router.",
    how="Counts enabled rules that somebody wrote and that are loaded; where all is refused anyhow, their absence is a low finding.",
    fix="Write the rules, or check that the export is whole.",
)
def no_rules(subject: Subject) -> Iterator[Answer]:
    written = sum(rule.enabled and not rule.built_in for base in subject.device.rulebases for _, rule in base.rules())
    programs = _programs(subject)
    if written:
        yield Passed(f"{counted(written, 'enabled rule')} {'is' if written == 1 else 'are'} written")
    elif not subject.device.rulebases:
        yield CannotTell("the export holds no rule base; export the rules too")
    else:
        shut = bool(programs) and all(p.default is not None and p.default.kind is Kind.REFUSE for p in programs)
        chains = [(base, c) for base in subject.device.rulebases for c in base.chains]
        where = lines(*(c.policy_where or c.where for _, c in chains))[:4]
        what = "and everything is refused" if shut else "and not everything is refused"
        text = f"No enabled rule is written, {what}."
        if subject.device.waiting:
            text = f"The firewall is switched off: none of the rules written for it is in force, {what}."
        rules = tuple(refer(base, c, None) for base, c in chains if c.base is not None)
        yield Found(text, "no rules", where, () if shut else rules, severity=Severity.LOW if shut else None)


@check(
    id="deny.no-final-refusal",
    together="final refusals are left to the make",
    title="The final refusal is left to the make",
    severity=Severity.INFO,
    controls=("SC-7(5)", "CM-6"),
    why="A default nobody wrote changes with a release, and cannot be seen in the rules.",
    how="Where what no rule matches is refused, the refusal must stand in the export: as a rule or as a stated policy.",
    fix="End each rule base with a refusal of everything that is written down, and record it.",
)
def no_final_refusal(subject: Subject) -> Iterator[Answer]:
    programs = _programs(subject)
    if not programs:
        yield CannotTell(NO_INWARD_RULES)
    for program in programs:
        default = program.default
        going = program.direction.value.replace("-", " the ")
        if default is None or default.kind is not Kind.REFUSE:
            yield NotApplicable(f"IPv{program.family} traffic {going} is not refused by default")
        elif (default.rule is None and default.chain.policy_is_default) or (
            default.rule is not None and default.rule.built_in
        ):
            yield Found(
                f"What no rule matches of {{family}} traffic {going} is refused only because the make does so.",
                f"{program.direction} default",
                lines(default.where, default.chain.where),
                (refer(default.rulebase, default.chain, default.rule),),
                family=program.family,
            )
        else:
            yield Passed(f"IPv{program.family} traffic {going} ends at {speak(default.chain, default.rule)}")


def _running(subject: Subject, program: Program, state: State) -> list[Box]:
    """Packets of a state that can come by each interface there is, the loopback apart."""
    symbols = program.space.symbols
    real = existing(program.device, symbols)
    if LOOPBACK in symbols.names:
        real = real - IntervalSet.of(symbols.number(LOOPBACK))
    regions = []
    for one in subject.study.entrances:
        for number in one.interfaces & real:
            fields = [(Axis.IN, IntervalSet.of(number)), (Axis.STATE, IntervalSet.of(state.number))]
            if program.direction is Direction.THROUGH_DEVICE:
                fields.append((Axis.OUT, real - IntervalSet.of(number)))
            here = overlap(box(fields), subject.study.arriving(one, program.family))
            regions += program.tracked(here) if here is not None else []
    return regions


def _accepting(
    subject: Subject, program: Program, state: State, *, perhaps: bool = False
) -> tuple[list[int], PacketSet]:
    """The steps that accept running connections as such, and what they leave over of those that can come.

    perhaps: those too that may accept, and may not
    """
    left = PacketSet.of(program.space.tops, _running(subject, program, state))
    steps = []
    default = program.default
    for number, step in enumerate(program.steps):
        if (
            step is default
            and step.kind is Kind.REFUSE
            and any(p.sure and p.box[Axis.STATE] is None for p in step.pieces)
        ):
            break  # a refusal of everything that is left: what stands below accepts nothing
        if step.kind is not Kind.ACCEPT and not (step.kind is Kind.SKIP and step.settles):
            continue
        for piece in step.pieces:
            states = piece.box[Axis.STATE]
            plain = all(
                piece.box[axis] is None for axis in Axis if axis not in (Axis.STATE, Axis.IN, Axis.OUT, Axis.SRC)
            )
            if (
                (piece.sure or perhaps)
                and (plain or program.untracked)
                and (states is None or State.NEW.number not in states)
            ):
                left = left - PacketSet.of(program.space.tops, [piece.box])
                steps.append(number)
    return steps, left


@check(
    id="deny.established",
    title="Running connections are not accepted first",
    severity=Severity.LOW,
    controls=("SC-7", "CM-3"),
    params=(Param("at_most", int, 10, "rules before it", "room for what must come first, and no more"),),
    why="Without it replies need rules of their own, which open more than intended; and a change from "
    "afar cuts off the one who makes it.",
    how="Looks for a rule that accepts every packet of an established connection, and how many rules a packet meets before it; related "
    "connections must be accepted there too.",
    fix="Accept established and related packets within the first {at_most} rules.",
    asks=(RULES_INWARD,),
)
def established(subject: Subject) -> Iterator[Answer]:
    programs = _programs(subject)
    if not _states_written(subject):
        yield NotApplicable(IMPLICIT)
        return
    for program in programs:
        yield from _established(subject, program)


def _asks_state(step: Step) -> bool:
    return step.rule is not None and any(c.field is Field.STATE for c in step.rule.match.conditions)


def _established(subject: Subject, program: Program) -> Iterator[Answer]:
    going = program.direction.value.replace("-", " the ")
    if any(rule.made for _, chain in program.bases for rule in chain.rules):
        yield NotApplicable(f"the program that makes the rules accepts what belongs to running connections ({going})")
        return
    if all(rule.built_in for _, chain in program.bases for rule in chain.rules):
        yield NotApplicable(f"nobody wrote rules for traffic {going}; the make lets its own replies through")
        return
    if program.default is not None and program.default.kind is Kind.ACCEPT:
        yield NotApplicable(f"IPv{program.family} traffic {going} is accepted by default")
        return
    if not any(one.program.family == program.family for one in subject.study.admissions(program.direction)):
        yield NotApplicable(f"nothing new is let in of IPv{program.family} traffic {going}")
        return
    steps, left = _accepting(subject, program, State.ESTABLISHED)
    if left and not _accepting(subject, program, State.ESTABLISHED, perhaps=True)[1]:
        why = GUESSED if program.guessed else f"some may be accepted first, {UNSETTLED}"
        yield CannotTell(f"established connections of IPv{program.family} traffic {going}: {why}")
        return
    if left:
        where = lines(*(chain.where for _, chain in program.bases))
        text = f"No rule accepts all established connections of {{family}} traffic {going}."
        yield Found(text, f"{program.direction} none", where, family=program.family)
        return
    if not steps:
        yield NotApplicable(f"nothing shows of two interfaces between which IPv{program.family} traffic goes {going}")
        return
    first = next((one for at in steps if _asks_state(one := program.steps[at])), program.steps[steps[0]])
    before = [r for r in first.chain.rules if r.enabled and first.rule is not None and r.number < first.rule.number]
    if len(before) > subject.params["at_most"]:
        text = (
            f"{capital(speak(first.chain, first.rule))} accepts established {{family}} connections "
            f"{going} only after {len(before)} others."
        )
        yield Found(text, f"{program.direction} late", lines_of(first), family=program.family)
    elif _accepting(subject, program, State.RELATED)[1]:
        text = (
            f"{capital(speak(first.chain, first.rule))} accepts established {{family}} connections "
            f"{going}, and no rule related ones."
        )
        yield Found(text, f"{program.direction} related", lines_of(first), family=program.family)
    else:
        yield Passed(
            f"IPv{program.family} {going}: {speak(first.chain, first.rule)} accepts established packets, and related ones are too"
        )


@check(
    id="deny.invalid",
    together="chains accept packets in state invalid",
    title="Packets that belong to no connection are accepted",
    severity=Severity.LOW,
    controls=("SC-7", "SI-10"),
    why="Such packets probe for what answers oddly, and slip past rules on new connections.",
    how="Looks for a packet in state invalid that a rule somebody wrote surely accepts, from anywhere but the loopback. What a default "
    "accepts is the matter of the checks on defaults.",
    fix="Drop invalid packets right after accepting established ones.",
    asks=(RULES_INWARD,),
)
def invalid(subject: Subject) -> Iterator[Answer]:
    programs = _programs(subject)
    if not _states_written(subject):
        yield NotApplicable(IMPLICIT)
        return
    found = False
    for program in programs:
        symbols = program.space.symbols
        lo = IntervalSet.of(symbols.number(LOOPBACK)) if LOOPBACK in symbols.names else IntervalSet()
        tcp = [
            (Axis.STATE, IntervalSet.of(State.INVALID.number)),
            (Axis.PROTO, IntervalSet.of(TCP)),
            (Axis.IN, symbols.present - lo),
        ]

        written = [s.rule is not None and not (s.rule.built_in or s.rule.shipped) for s in program.steps]

        def by_rule(ends: Ends, written: list[bool] = written) -> bool:
            return surely_accepted(ends) and all(written[end.step] for end in ends)

        def perhaps(ends: Ends, written: list[bool] = written) -> bool:
            return any(end.accepts and written[end.step] for end in ends)

        decider = subject.study.decider(program)
        odd = program.tracked(box(tcp))
        proof = next((one for part in odd if (one := decider.find(part, by_rule)) is not None), None)
        if proof is None and any(decider.find(part, perhaps) is not None for part in odd):
            yield CannotTell(f"invalid packets may be accepted, {UNSETTLED}")
        if proof is not None:
            found = True
            going = program.direction.value.replace("-", " the ")
            last = proof.steps[-1]
            text = f"{capital(speak(last.chain, last.rule))} accepts invalid {{family}} packets {going}."
            yield finding_from(proof, text, f"{program.direction} invalid")
    if not found:
        yield Passed("no rule accepts a packet in state invalid")


@check(
    id="deny.loopback",
    title="The device cannot talk to itself",
    severity=Severity.LOW,
    controls=("CM-6", "SC-7"),
    why="Programs on the device talk over the loopback; without it names, logs or the page fail in odd "
    "ways, and rules get opened at a guess.",
    how="Looks for a new connection on the loopback that is refused; on makes without a "
    "loopback there is nothing to see.",
    fix="Accept everything on the loopback interface first.",
    asks=(RULES_TO_DEVICE,),
)
def loopback(subject: Subject) -> Iterator[Answer]:
    programs = list(subject.programs.all(Direction.TO_DEVICE))
    own = any(
        base.name in ("filter", "raw") or "inet" in base.name or "ip " in base.name for base in subject.device.rulebases
    )
    named = LOOPBACK in subject.programs.resolver(4).space.symbols.names
    if not (own or named):
        yield NotApplicable("this make's rules do not see the loopback")
        return
    found = False
    for program in programs:
        number = program.space.symbols.number(LOOPBACK)
        mine = IntervalSet([(0x7F000001, 0x7F000001)]) if program.family == 4 else IntervalSet.of(1)
        here = box(
            [
                (Axis.IN, IntervalSet.of(number)),
                (Axis.SRC, mine),
                (Axis.DST, mine),
                (Axis.STATE, IntervalSet.of(State.NEW.number)),
            ]
        )
        decider = subject.study.decider(program)
        proof = decider.find(here, surely_refused)

        def perhaps(ends: Ends, program: Program = program) -> bool:
            # The way back to the loopback is always known.
            refusing = [program.steps[end.step].rule for end in ends if not end.accepts]
            return any(r is None or not {q.name for q in r.qualifiers} & GENUINE for r in refusing)

        if proof is None and decider.find(here, perhaps) is not None:
            yield CannotTell(f"connections on the loopback may be refused, {UNSETTLED}")
        if proof is not None:
            found = True
            last = proof.steps[-1]
            text = f"{capital(speak(last.chain, last.rule))} refuses new {{family}} connections on the loopback."
            yield finding_from(proof, text, "loopback")
    if not found:
        yield Passed("new connections on the loopback are accepted")


@check(
    id="deny.neighbour-discovery",
    title="IPv6 cannot find its neighbours",
    severity=Severity.MEDIUM,
    controls=("CM-6", "SC-7"),
    why="Without neighbour discovery IPv6 stops working within minutes (RFC 4890, 4.4.1); whoever looks for the fault opens more.",
    how="Where rules let new connections in over IPv6, neighbour solicitations and advertisements to the device must not be refused.",
    fix="Accept the ICMPv6 types 133 to 136 with hop limit 255 from the link.",
)
def neighbour_discovery(subject: Subject) -> Iterator[Answer]:
    program = subject.programs.get(6, Direction.TO_DEVICE)
    if subject.device.dialect not in GENERAL_HOSTS:
        yield NotApplicable("such makes let neighbours find one another by themselves")
        return
    if program is None or not any(one.program.family == 6 for one in subject.study.admissions(Direction.TO_DEVICE)):
        yield NotApplicable("nothing is let in over IPv6")
        return
    symbols = program.space.symbols
    real = existing(program.device, symbols)
    lo = IntervalSet.of(symbols.number(LOOPBACK)) if LOOPBACK in symbols.names else IntervalSet()
    decider = subject.study.decider(program)

    def message(kind: int, ways: IntervalSet) -> Box:
        return box(
            [
                (Axis.IN, ways),
                (Axis.SRC, IntervalSet([(0xFE80 << 112, (0xFEC0 << 112) - 1)])),
                (Axis.PROTO, IntervalSet.of(58)),
                (Axis.A, IntervalSet.of(kind)),
                (Axis.B, IntervalSet.of(0)),
                (Axis.STATE, IntervalSet.of(State.NEW.number, State.UNTRACKED.number)),
            ]
        )

    for kind, name in ((135, "solicitations"), (136, "advertisements")):
        proof = decider.find(message(kind, real - lo), surely_refused)
        if proof is None:
            continue
        last = proof.steps[-1]
        heard = decider.project(message(kind, real - lo), Axis.IN, surely_accepted)
        if not heard:
            yield finding_from(
                proof, f"{capital(speak(last.chain, last.rule))} refuses neighbour {name}.", "neighbours"
            )
            return
        deaf = (
            decider.project(message(kind, real - lo - heard), Axis.IN, surely_refused) if real - lo - heard else heard
        )
        names = [
            symbols.name(n)
            for n in range(1, len(symbols.names))
            if n in deaf and not symbols.name(n).startswith(_POINT_TO_POINT)
        ]
        if names and any(n in heard for n in range(1, len(symbols.names))):
            found = finding_from(
                decider.find(message(kind, deaf), surely_refused) or proof,
                f"{capital(speak(last.chain, last.rule))} refuses neighbour {name} by {listed(names)}, and IPv6 works by no "
                "interface that does not answer them.",
                "neighbours",
            )
            yield replace(found, severity=Severity.LOW)
            return
    yield Passed("neighbour solicitations and advertisements are not refused")


@check(
    id="deny.icmp-errors",
    title="Errors about running connections are refused",
    severity=Severity.LOW,
    controls=("SC-5", "CM-6"),
    why="Senders do not learn that a packet was too large or its target is gone: connections hang half way, and nobody sees why "
    "(RFC 4890, 4.3.1; RFC 2923, 2.1).",
    how="Looks for a rule about ICMP that surely refuses the message that a packet was too big although it belongs to a running "
    "connection. Over IPv6, where nothing on the way may cut packets, the finding is medium.",
    fix="Accept related packets above the rule that refuses ICMP, or leave ICMP type 3 (ICMPv6 type 2) out of it.",
    asks=(RULES_INWARD,),
)
def icmp_errors(subject: Subject) -> Iterator[Answer]:
    programs = _programs(subject)
    if not _states_written(subject):
        yield NotApplicable(IMPLICIT)
        return
    found = False
    for program in programs:
        protocol, kind, code = (1, 3, 4) if program.family == 4 else (58, 2, 0)
        error = [(Axis.PROTO, IntervalSet.of(protocol)), (Axis.A, IntervalSet.of(kind)), (Axis.B, IntervalSet.of(code))]

        def by_kind(ends: Ends, program: Program = program) -> bool:
            steps = [program.steps[end.step] for end in ends]
            return surely_refused(ends) and all(_is_about_kinds(one) for one in steps)

        decider = subject.study.decider(program)
        errors = [r for one in _running(subject, program, State.RELATED) if (r := overlap(one, box(error))) is not None]
        refused = (
            decider.find(common, by_kind, number)
            for number, step in enumerate(program.steps)
            if step.kind is Kind.REFUSE and _is_about_kinds(step)
            for piece in step.pieces
            for region in errors
            if (common := overlap(region, piece.box)) is not None
        )
        proof = next((one for one in refused if one is not None), None)
        if proof is not None:
            found = True
            last = proof.steps[-1]
            going = program.direction.value.replace("-", " the ")
            text = (
                f"{capital(speak(last.chain, last.rule))} refuses {{family}} errors about running connections {going}."
            )
            severity = Severity.MEDIUM if program.family == 6 else None
            yield replace(finding_from(proof, text, f"{program.direction} errors"), severity=severity)
    if not found:
        yield Passed("no rule refuses the message that a packet was too big")


def _is_about_kinds(step: Step) -> bool:
    """Whether it is a rule about kinds of packets, and not about who sends them or what is left over."""
    protocols = [piece.box[Axis.PROTO] for piece in step.pieces] if step.rule is not None else []
    return bool(protocols) and all(one is not None and TCP not in one for one in protocols)


@check(
    id="deny.half-open",
    title="Half-open connections are not limited",
    severity=Severity.MEDIUM,
    controls=("SC-5",),
    why="A flood of connection attempts fills the tables, and nobody else gets in (RFC 4987).",
    how="Asks the make's setting, or net.ipv4.tcp_syncookies of the kernel.",
    fix="Switch the protection on; on Linux set net.ipv4.tcp_syncookies to 1.",
)
def half_open(subject: Subject) -> Iterator[Answer]:
    guard = subject.device.flood_protection
    cookies = fact(subject, "net.ipv4.tcp_syncookies")
    if guard.known and not guard.value:
        yield Found(f"Half-open connections are not limited{by_default(guard)}.", "half-open", lines(guard.where))
    elif cookies is not None and cookies.setting.value == "0":
        yield Found("SYN cookies are switched off.", "half-open", lines(cookies.setting.where))
    elif guard.known or cookies is not None:
        yield Passed("half-open connections are limited")
    else:
        yield CannotTell(
            "the export does not state whether half-open connections are limited; ask for the setting, or `sysctl -a`"
        )


@check(
    id="deny.forwarding",
    title="The device forwards traffic that no rule looks at",
    severity=Severity.HIGH,
    controls=("SC-7", "CM-7"),
    why="Every network it is in is joined to every other.",
    how="Where forwarding is on (net.ipv4.ip_forward, net.ipv6.conf.all.forwarding), rules for traffic "
    "through the device must be in the "
    "export and not be empty before an accepting default.",
    fix="Switch forwarding off where the host is no router, or write rules for what goes through.",
)
def forwarding(subject: Subject) -> Iterator[Answer]:
    for family, name in FORWARDING.items():
        one = fact(subject, name)
        program = subject.programs.get(family, Direction.THROUGH_DEVICE)
        rules = (
            [s for s in program.steps if s.rule is not None and s.kind is not Kind.PASS] if program is not None else []
        )
        accepts = program is None or (program.default is not None and program.default.kind is Kind.ACCEPT)
        if one is not None and one.setting.value == "0":
            yield Passed(f"IPv{family} is not forwarded")
        elif one is not None and accepts and not rules:
            text = f"IPv{family} is forwarded ({name} is {one.setting.value}) and no rule looks at it."
            # Where there is a chain that accepts all, its default is to blame, and this goes with it.
            default = None if program is None else program.default
            blamed = () if default is None else (refer(default.rulebase, default.chain, default.rule),)
            yield Found(text, name, lines(one.setting.where), blamed)
        elif program is not None and (rules or not accepts):
            yield Passed(f"what goes through over IPv{family} meets rules")
        elif family == 4 or program is not None:
            yield CannotTell(f"the export does not state whether IPv{family} is forwarded; ask for `sysctl {name}`")


_ON_REQUEST = re.compile(r"upnp(?!client)|nat-?pmp", re.IGNORECASE)
"""How chains and tables are called that a daemon fills as machines ask it to (UPnP IGD; NAT-PMP, RFC 6886), and Shorewall's words
for letting it (shorewall-interfaces(5), upnp)."""


@check(
    id="deny.opened-on-request",
    title="Machines inside open ports to themselves",
    severity=Severity.MEDIUM,
    controls=("SC-7", "CM-7", "AC-4"),
    why="Any program inside, an intruder's too, then lets the outside in by asking (UPnP, NAT-PMP), and nobody decides or records it.",
    how="Looks for rules that lead to chains and tables a daemon for such requests keeps, and for lines that set one up; what it has "
    "opened now is judged as any other rule.",
    fix="Switch the daemon off, and forward by hand what is needed; or let it serve the machines alone that need it.",
    asks=(RULES_INWARD,),
)
def opened_on_request(subject: Subject) -> Iterator[Answer]:
    device = subject.device
    if device.dialect not in GENERAL_HOSTS:
        yield NotApplicable("no program of this make opens ports as machines ask it to")
        return
    leading, opened = [], 0
    for base in device.rulebases:
        for chain, rule in base.rules():
            kept = _ON_REQUEST.search(f"{base.name} {chain.name}") is not None
            if rule.enabled and not kept and _ON_REQUEST.search(rule.target or ""):
                leading.append((base, chain, rule))
            opened += kept and not rule.target and (rule.action is Action.ACCEPT or bool(rule.effects))
    stated = [one.where for one in device.ledger.unread if _ON_REQUEST.search(" ".join(device.text(one.where)))]
    if leading or stated or opened:
        now = (
            f"; {counted(opened, 'rule')} of such requests {'stands' if opened == 1 else 'stand'} there now"
            if opened
            else ""
        )
        yield Found(
            f"A daemon opens what machines inside ask it to{now}.",
            "requests",
            lines(*(rule.where for _, _, rule in leading), *stated),
            tuple(refer(*one) for one in leading[:1]),
        )
    elif not subject.study.forwards:
        yield NotApplicable("nothing is forwarded")
    else:
        yield Passed("no rule leads packets to what a daemon fills as machines ask it to")


CHECKS: tuple[Check, ...] = (
    no_rules,
    opened_on_request,
    no_final_refusal,
    established,
    invalid,
    loopback,
    neighbour_discovery,
    icmp_errors,
    half_open,
    forwarding,
)

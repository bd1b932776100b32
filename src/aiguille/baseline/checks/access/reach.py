"""Who can reach the device's own login, from where, and over what."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.analysis.decide import Proof, surely_accepted, surely_refused
from aiguille.analysis.doubts import RATES
from aiguille.analysis.exposure import Exposure, exposures, hours_of, networks_in, opening
from aiguille.analysis.program import Kind, Programs
from aiguille.analysis.refusals import blocked_lists
from aiguille.analysis.services import WELL_KNOWN, is_voice, known_services, odd_requests, ping, usual_name
from aiguille.analysis.sides import PRIVATE, TUNNELS, Entrance, each_interface, outside_known
from aiguille.analysis.study import is_wide
from aiguille.baseline.asking import OUTSIDE, RULES_TO_DEVICE, about, name_of
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
    Who,
    check,
    decisive_steps,
    finding_from,
    lines_of,
    refer,
    rule_subject,
    speak,
)
from aiguille.baseline.values import networks
from aiguille.baseline.wording import GUESSED, UNDESCRIBED, UNREAD, UNSAID, capital, counted, lines, listed
from aiguille.model import (
    NOT_UNDERSTOOD,
    Addresses,
    Direction,
    Field,
    HandOver,
    Listener,
    ManagementService,
    Named,
    Numbers,
    ServiceTerm,
    Side,
    Span,
    State,
)
from aiguille.model.identity import Same
from aiguille.model.spelling import grouped, spell_operand
from aiguille.space import Axis, IntervalSet, box, overlap
from aiguille.space.fields import TCP, UDP

_SOURCES = Param(
    "at_most_sources",
    int,
    64,
    "addresses (IPv6: networks of 64 bits)",
    "a handful of named hosts or a small management network, not a whole client network",
)

_NAMED = 8
"""Services that are named; a default that accepts all of them is behind many."""


class _Group(Struct):
    """Exposures that one rule causes in one family, on every entrance of a kind."""

    exposures: list[Exposure] = field(default_factory=list)

    @property
    def worst(self) -> Exposure:
        return max(self.exposures, key=lambda e: e.networks)

    def services(self) -> str:
        return listed(dict.fromkeys(e.service.name for e in self.exposures), _NAMED)

    def entrances(self) -> str:
        ways = dict.fromkeys(e.entrance for e in self.exposures)
        zoned = [w.label for w in ways if w.side is not None]
        other = [w.label for w in ways if w.side is None]
        described = [f"zone{'s' if len(zoned) > 1 else ''} {listed(zoned)}"] if zoned else []
        return f"through {' and '.join(described + other)}"


def _grouped(found: Iterable[Exposure]) -> list[_Group]:
    groups: dict[tuple[object, ...], _Group] = {}
    for exposure in found:
        rules = tuple(Same(s.rule) for s in exposure.proof.steps)
        groups.setdefault((exposure.proof.program.family, exposure.certain, rules), _Group()).exposures.append(exposure)
    return list(groups.values())


def _sources(exposure: Exposure) -> str:
    program = exposure.proof.program
    # A guard against private, unassigned and multicast sources still leaves in whoever wants in; half the addresses are a number.
    if exposure.sources.size > program.space.tops[Axis.SRC] // 4 * 3:
        return "any {family} address"
    unit = "address" if program.family == 4 else "network of 64 bits"
    if exposure.networks == 1:
        return f"1 {unit}"
    several = "addresses" if program.family == 4 else "networks of 64 bits"
    return f"{grouped(exposure.networks)} {several}"


def _describe(group: _Group, how: str = "") -> Found:
    worst = group.worst
    steps, decisive = worst.proof.steps, decisive_steps(worst.proof)
    spans = [where for step in reversed(decisive) for where in lines_of(step)]
    spans += [e.service.where for e in group.exposures if e.service.where is not None]
    limited = " within the rule's rate limit" if worst.rated else ""
    limited += "".join(f" at its hours ({text})" for text in hours_of(worst.proof)[:1])
    if lists := dict.fromkeys(name for step in steps for name in blocked_lists(step)):
        limited += f" but those on {listed(lists)}"
    verb = "answers" if len({e.service.name for e in group.exposures}) == 1 else "answer"
    last = steps[-1]
    return Found(
        detail=f"{group.services()} {verb} {how}{group.entrances()} to {_sources(worst)}{limited}.",
        subject=rule_subject(last.chain, last.rule),
        where=tuple(dict.fromkeys(spans)),
        rules=tuple(refer(s.rulebase, s.chain, s.rule) for s in reversed(decisive)),
        proof=worst.proof,
        family=worst.proof.program.family,
        who=_who(group),
        name=f"{group.services()} {group.entrances()} ({speak(last.chain, last.rule)})",
    )


_NAMED_NETWORK = 1 << 16
"""Sources that still are somebody's own: a network of 65 536 addresses, or as many IPv6 networks of 64 bits."""


def _who(group: _Group) -> Who | None:
    sides = {e.entrance.side for e in group.exposures}
    if Side.OUTSIDE in sides or sides == {None}:
        return Who.ANYBODY if group.worst.networks > _NAMED_NETWORK else Who.PARTNER
    for side, who in ((Side.GUEST, Who.GUESTS), (Side.DMZ, Who.DMZ), (Side.INSIDE, Who.INSIDE)):
        if side in sides:
            return who
    return Who.ADMINISTRATORS


def _doubt(group: _Group) -> CannotTell:
    step = group.worst.proof.steps[0]
    if step.rule is None and step.kind is Kind.OPEN:
        return CannotTell(f"{group.services()} may be reachable {group.entrances()}: {UNSAID} to the device itself")
    if step.rule is not None and any(isinstance(effect, HandOver) for effect in step.rule.effects):
        return CannotTell(
            f"{group.services()} may be reachable {group.entrances()}: {speak(step.chain, step.rule)} ({step.where}) leaves that to a "
            "program outside the rules; ask what it lets in"
        )
    proof = group.worst.proof
    for one in (*proof.steps, *(proof.program.steps[end.step] for end in proof.ends)):
        if one.rule is not None and one.rule.unread:
            said = next(q.text for q in one.rule.qualifiers if q.name == NOT_UNDERSTOOD)
            why = f"{UNDESCRIBED} {said}; have what describes the interfaces exported too"
            if not one.rule.built_in:  # what it says may be a secret
                why = f"{speak(one.chain, one.rule)} ({one.where}) {UNREAD}"
            return CannotTell(f"{group.services()} may be reachable {group.entrances()}: {why}")
    if proof.program.guessed:
        return CannotTell(f"{group.services()} may be reachable {group.entrances()}: {GUESSED}")
    return CannotTell(
        f"{group.services()} may be reachable {group.entrances()}: whether {speak(step.chain, step.rule)} "
        f"({step.where or 'built in'}) takes a packet depends on a condition the export does not settle; have its sets, "
        "lists or names exported too"
    )


def _exposed(subject: Subject, wanted: Sequence[Entrance], services: Sequence[ManagementService]) -> list[Exposure]:
    known = {one.name for one in services}
    if all(one in subject.study.services for one in services) and all(e in subject.study.entrances for e in wanted):
        found = [e for one in wanted for e in subject.study.exposures if e.entrance == one and e.service.name in known]
    else:
        found = [e for entrance in wanted for e in exposures(subject.programs, entrance, services)]
    return [one for one in found if _comes_from_there(subject, one)]


def _comes_from_there(subject: Subject, one: Exposure) -> bool:
    """Whether some of the sources live behind the entrance, as far as its networks are known: others would be forged."""
    home = subject.study.arriving(one.entrance, one.proof.program.family)[Axis.SRC]
    return home is None or home.overlaps(one.sources)


def _to_device(programs: Programs) -> bool:
    return any(True for _ in programs.all(Direction.TO_DEVICE))


def _shipped(exposure: Exposure) -> bool:
    """Whether a rule lets it in that came with a program, and nobody wrote."""
    rule = exposure.proof.steps[-1].rule
    return rule is not None and rule.shipped


@check(
    id="access.reachable-from-outside",
    title="Management answers on the outside",
    severity=Severity.HIGH,
    controls=("AC-17", "SC-7", "CM-7"),
    params=(_SOURCES,),
    why="Whoever can reach a login can try passwords and use its next flaw; on the outside that is everybody.",
    how="For each way of managing the device the sources that get in from the outside are computed, all rules together; more than "
    "the parameter allows is a finding, reported for each rule that lets them in.",
    fix="Allow management from the outside only from named addresses (at most {at_most_sources}), or better through a VPN to "
    "an inside address, and refuse it to all others.",
    asks=(RULES_TO_DEVICE,),
)
def reachable_from_outside(subject: Subject) -> Iterator[Answer]:
    services = subject.study.services
    certain, doubtful = _open_outside(subject, services)
    yield from _outside_answers(subject, certain, doubtful)
    if not certain and not doubtful:
        none = "none of the sockets that listen beyond the loopback is for managing the device"
        some = f"none of {len(services)} management services answers on the outside beyond named sources"
        yield Passed(some if services else none)


def _open_outside(
    subject: Subject, services: Sequence[ManagementService]
) -> tuple[Sequence[Exposure], Sequence[Exposure]]:
    """What answers outside beyond named sources, certainly; and what may, or does by an interface that may face the outside."""
    if outside_known(subject.device):
        ways = tuple(e for e in subject.study.entrances if e.side is Side.OUTSIDE)
        open_to = _wide(subject, ways, services)
        return [e for e in open_to if e.certain], [e for e in open_to if not e.certain]
    ways = each_interface(subject.programs)
    return _whichever(ways, _wide(subject, ways, services))


def _outside_answers(subject: Subject, certain: Sequence[Exposure], doubtful: Sequence[Exposure]) -> Iterator[Answer]:
    """Findings on what answers outside; what does so only if an interface of unknown side faces it says that."""
    # Private hosts are whom such a rule means, whichever way that interface faces.
    private = [e for e in (*certain, *(one for one in doubtful if one.certain)) if _private_only(e)]
    for group in _grouped(private):
        answer = _describe(group)
        genuine = _is_private_outside(subject, group.worst.proof.program.family)
        reason = (
            "they come from beside the device, not from the internet"
            if genuine
            else "from outside only forged packets bring such a source"
        )
        severity = Severity.MEDIUM if genuine else Severity.LOW
        yield replace(
            answer, detail=f"{answer.detail} All of them are private: {reason}.", severity=severity, who=Who.INSIDE
        )
    for group in _grouped(e for e in certain if not _private_only(e)):
        answer = _describe(group)
        readable = [e for e in group.exposures if _readable_login(subject, e.service) and _meant(e)]
        if readable and answer.who is Who.ANYBODY and any(e.entrance.side is Side.OUTSIDE for e in group.exposures):
            answer = replace(answer, severity=Severity.CRITICAL)
        yield answer
    for group in _grouped(e for e in doubtful if e.certain and not _private_only(e)):
        answer = _describe(group)
        names = listed(dict.fromkeys(e.entrance.label for e in group.exposures))
        verb = "faces" if len({e.entrance.label for e in group.exposures}) == 1 else "face"
        detail = f"If {names} {verb} the outside: {answer.detail} State its side with --side {group.exposures[0].entrance.label}=SIDE."
        yield replace(answer, detail=detail)
    for group in _grouped(e for e in doubtful if not e.certain):
        countries = _countries(group)
        if countries:
            # Whoever lives in a country is named in no rule, even where nobody knows their addresses.
            described = _describe(group)
            verb = "answers" if len({e.service.name for e in group.exposures}) == 1 else "answer"
            text = f"{group.services()} {verb} {group.entrances()} to a whole country ({countries})."
            yield replace(described, detail=text, severity=Severity.MEDIUM)
        else:
            yield _doubt(group)


def _countries(group: _Group) -> str:
    """The countries a rule lets in, where nothing else makes it doubtful than that no data shows their addresses."""
    steps, device = group.worst.proof.steps, group.worst.proof.program.device
    accepting = [step for step in steps if step.kind is Kind.ACCEPT]
    others = [step for step in steps if step.kind is not Kind.ACCEPT and step.rule is not None]
    rule = accepting[0].rule if len(accepting) == 1 else None
    if rule is None or any(not piece.sure for step in others for piece in step.pieces):
        return ""
    open_ones = [one for one in rule.qualifiers if one.name not in RATES]
    lands = {one.name: one for one in device.addresses if one.countries}
    named = [o.name for c in rule.match.conditions if c.field is Field.SOURCE and not c.negated for o in c.operands
             if isinstance(o, Named) and o.name in lands and lands[o.name].unresolved]  # fmt: skip
    if named and not open_ones:
        return listed(named)
    if not open_ones or any(one.name != "country" or "!" in one.text or "source" not in one.text for one in open_ones):
        return ""
    return listed(one.text.split()[-1] for one in open_ones)


def _meant(exposure: Exposure) -> bool:
    """Whether somebody lets a service in, or says that it runs; a default that accepts everything is a finding of its own."""
    return exposure.service.where is not None or exposure.proof.steps[-1].rule is not None


_READABLE_LOGINS = ("telnet", "remote shell", "screen sharing", "http")
"""Logins whose password anybody on the way can read."""


def _readable_login(subject: Subject, service: ManagementService) -> bool:
    """Whether a password typed there goes over the wire as it is: on the usual ports, or because the export says so."""
    name = usual_name(service)
    redirects = subject.device.administration.redirects
    if name == "http" and redirects.known and redirects.value:
        return False  # the page only sends visitors on
    stated = (
        service.where is not None and service.cleartext and any(t.protocol == Numbers(TCP, TCP) for t in service.terms)
    )
    return name in _READABLE_LOGINS or stated


def _private_only(exposure: Exposure) -> bool:
    """Whether only private sources get in, none of which comes from the internet."""
    return exposure.sources.issubset(networks(PRIVATE, exposure.proof.program.family))


def _is_private_outside(subject: Subject, family: int) -> bool:
    """Whether the outside is a private network itself, behind another device: such sources are as real there as any."""
    used = IntervalSet((n.first, n.last) for n in subject.study.outside_networks if n.family == family)
    return used.overlaps(networks(PRIVATE, family))


@check(
    id="access.exposed-service",
    title="A service that is not for strangers answers them",
    severity=Severity.HIGH,
    controls=("SC-7", "CM-7", "AC-3"),
    params=(_SOURCES,),
    why="Databases, shared files, consoles and machines are what intruders look for first; many ask for no password by default.",
    how="For each service of the table of well-known ones the sources that get in from the outside are computed; of those that hand "
    "over the machine to whoever connects, from inside networks as well. A "
    "service that gives no login, data or control is a medium finding, and so are one that does where guests reach it, and a "
    "protocol of bare tunnels (GRE, IP in IP, IPv6 in IPv4, EtherIP) from anybody. Where the export "
    "lists the sockets that listen, only these count.",
    fix="Refuse the service from the outside and from guests; let named sources in, or bring it behind a VPN.",
    asks=(RULES_TO_DEVICE,),
)
def exposed_service(subject: Subject) -> Iterator[Answer]:
    services = _exposed_services(subject)
    certain, doubtful = _open_outside(subject, services)
    slight = {one.name for one in known_services() if one.light}
    handed = {one.name for one in known_services() if one.hands_over}
    for answer in _outside_answers(subject, certain, doubtful):
        if isinstance(answer, Found):
            mine = [e for e in (*certain, *doubtful) if rule_of(e) == answer.subject]
            bare = any(e.service.name in handed and _is_told(subject, e) for e in mine)
            light = (answer.who is Who.PARTNER and not bare) or {e.service.name for e in mine} <= slight
            answer = replace(answer, severity=Severity.MEDIUM) if light and answer.severity is None else answer
            if bare and answer.who is Who.INSIDE:
                detail = f"{_describe(_grouped(mine)[0]).detail} All of them are private, and none is asked who it is."
                answer = replace(answer, severity=Severity.HIGH, detail=detail)
            if mine and all(is_voice(piece.box) for e in mine for piece in e.proof.steps[-1].pieces):
                detail = f"{answer.detail[:-1]}, among a range of ports such as voice needs."
                answer = replace(answer, severity=Severity.LOW, detail=detail)
        yield answer
    # A printer guests may well be meant to use.
    small = slight | {one.name for one in known_services() if one.printer}
    grave = [one for one in services if one.name not in small]
    to_guests = [e for e in _wide(subject, _guests(subject), grave) if e.certain]
    yield from (replace(_describe(group), severity=Severity.MEDIUM) for group in _grouped(to_guests))
    # Of what asks nobody who they are a whole network inside is far too many.
    bare_ones = [one for one in services if one.name in handed]
    within = [e for e in subject.study.entrances if e.side in (Side.INSIDE, Side.DMZ)]
    inside = _wide(subject, (*within, *subject.study.strays), bare_ones)
    inside = [e for e in inside if e.certain and _is_told(subject, e)]
    yield from (replace(_describe(group), severity=Severity.HIGH) for group in _grouped(inside))
    tunnels = list(_bare_tunnels(subject))
    yield from tunnels
    if not certain and not doubtful and not to_guests and not inside and not tunnels:
        yield Passed("no service of the table answers strangers")


_FEW_PORTS = 64
"""Ports of a rule that still speaks of services, and not of everything."""


def _is_told(subject: Subject, exposure: Exposure) -> bool:
    """Whether anything speaks for a service that rules could let in: a socket that listens, or a rule about few ports."""
    pieces = exposure.proof.steps[-1].pieces
    few = all((ports := piece.box[Axis.B]) is not None and ports.size <= _FEW_PORTS for piece in pieces)
    return few or bool(subject.device.listed)


def _bare_tunnels(subject: Subject) -> Iterator[Found]:
    """Rules that take packets of a tunnel which neither encrypts nor asks who comes, from anybody outside."""
    outer = subject.study.on(Side.OUTSIDE)
    for one in subject.study.admissions(Direction.TO_DEVICE):
        for region in one.regions:
            enters = region[Axis.IN]
            wide = is_wide(region, Axis.SRC, one.program) and (not outer or enters is None or enters.overlaps(outer))
            name = next((n for number, n in _BARE.items() if region[Axis.PROTO] == IntervalSet.of(number)), "")
            if wide and name and not one.condition:
                text = f"{name_of(one)} takes {name} from any {{family}} source: a tunnel that neither encrypts nor asks who comes"
                yield replace(about(one, text, Severity.MEDIUM), who=Who.ANYBODY)
                break


_BARE = {4: "IP in IP", 41: "IPv6 in IPv4", 47: "GRE", 97: "EtherIP"}
"""RFC 2003, RFC 4213, RFC 2784 (packets of PPTP are of this protocol as well), RFC 3378; those over UDP are services of the table."""


def _guests(subject: Subject) -> tuple[Entrance, ...]:
    return tuple(one for one in subject.study.entrances if one.side is Side.GUEST)


def rule_of(exposure: Exposure) -> str:
    last = exposure.proof.steps[-1]
    return rule_subject(last.chain, last.rule)


def _exposed_services(subject: Subject) -> tuple[ManagementService, ...]:
    """Services of the table that may run here and are no way of managing the device that another check looks at."""
    held = {(t.protocol, p) for one in subject.study.services for t in one.terms for p in t.destination_ports}
    listening = subject.device.listeners
    listed_ones = subject.device.listed
    stated = subject.device.administration.services if not listed_ones else ()
    elsewhere = {one.name for one in stated if one.where is not None}
    open_to = {p: subject.study.open_ports_anywhere(p) for p in (TCP, UDP)}
    out = []
    for one in known_services():
        if (one.routers and not subject.study.forwards) or one.manages in elsewhere:
            continue
        terms = tuple(
            t
            for t in one.terms
            if (t.protocol, t.destination_ports[0]) not in held
            and open_to[t.protocol.first].overlaps(_ports_of(t))
            and (t.protocol.first not in listed_ones or any(_listens(t, one) for one in listening))
        )
        if terms:
            out.append(ManagementService(one.name, terms, one.cleartext, None))
    return tuple(out)


def _ports_of(term: ServiceTerm) -> IntervalSet:
    return IntervalSet((p.first, p.last) for p in term.destination_ports)


def _listens(term: ServiceTerm, one: Listener) -> bool:
    return term.protocol.first == one.protocol and any(p.first <= one.port <= p.last for p in term.destination_ports)


def _wide(subject: Subject, ways: Sequence[Entrance], services: Sequence[ManagementService]) -> list[Exposure]:
    """What can be reached from more sources than the baseline allows, all rules together; the rules that are too wide
    by themselves if there are such, else all that add up to it."""
    limit = subject.params["at_most_sources"]
    together: dict[tuple[object, ...], list[Exposure]] = {}
    for exposure in _exposed(subject, ways, services):
        key = (exposure.proof.program.family, exposure.entrance.label, exposure.service.name, exposure.certain)
        together.setdefault(key, []).append(exposure)
    out: list[Exposure] = []
    for alike in together.values():
        everybody = IntervalSet(span for exposure in alike for span in exposure.sources.spans)
        if networks_in(everybody, alike[0].proof.program.family) > limit:
            wide = [e for e in alike if e.networks > limit]
            out += wide or alike
    return out


def _whichever(ways: Sequence[Entrance], found: Sequence[Exposure]) -> tuple[list[Exposure], list[Exposure]]:
    """With the outside unknown: what can be reached by every interface, and so by that one; and the rest.

    Of the first, one exposure stands for all interfaces.
    """
    open_by: dict[tuple[int, str], list[Exposure]] = {}
    for exposure in found:
        open_by.setdefault((exposure.proof.program.family, exposure.service.name), []).append(exposure)
    everywhere: list[Exposure] = []
    rest: list[Exposure] = []
    for alike in open_by.values():
        certain = [e for e in alike if e.certain]
        if len({e.entrance.label for e in certain}) == len(ways):
            last = [e for e in certain if e.entrance == ways[-1]]
            everywhere += [replace(e, entrance=replace(e.entrance, label="any interface")) for e in last]
        else:
            rest += alike
    return everywhere, rest


@check(
    id="access.no-source-restriction",
    title="Management is open to ordinary inside hosts",
    severity=Severity.MEDIUM,
    controls=("AC-3", "AC-17", "SC-7"),
    params=(_SOURCES,),
    why="One infected workstation or visitor inside is enough to attack the device's login.",
    how="As for the outside, on every interface whose zone is neither outside nor for management, tunnels of unknown side apart.",
    fix="Restrict management to the administrators' addresses (at most {at_most_sources}) or a management network.",
    asks=(RULES_TO_DEVICE,),
)
def no_source_restriction(subject: Subject) -> Iterator[Answer]:
    services = subject.study.services
    skipped = (Side.OUTSIDE, Side.MANAGEMENT, None)
    ways = [e for e in subject.study.entrances if e.side not in skipped]
    # Whatever side those lie on, everybody there is too many; but who comes by a tunnel was asked who they are.
    strays = [e for e in subject.study.strays if not e.label.startswith(TUNNELS)]
    if not ways and not strays:
        yield CannotTell(
            "the export does not say which interfaces face inside networks; state zones in engagement.toml"
        )
        return
    open_to = _wide(subject, ways, services)
    open_to += [e for e in _wide(subject, strays, services) if e.networks > _NAMED_NETWORK]
    for group in _grouped(e for e in open_to if e.certain):
        answer = _describe(group)
        cleartext = any(e.service.cleartext and e.entrance.side is Side.GUEST for e in group.exposures)
        yield replace(answer, severity=Severity.HIGH) if cleartext else answer
    for group in _grouped(e for e in open_to if not e.certain):
        yield _doubt(group)
    if not open_to:
        labels = ", ".join(e.label for e in ways)
        yield Passed(f"management answers only named sources in {labels}")


_MONITORS = 8
"""Machines that ask a device for its figures."""


@check(
    id="access.cleartext",
    title="A cleartext protocol can be used to manage the device",
    severity=Severity.MEDIUM,
    controls=("SC-8", "AC-17", "IA-5"),
    why="Passwords and session cookies cross the network readable; anyone on the path can take them.",
    how="Cleartext ways of managing the device that some source can reach are findings, on the outside high; one that is merely "
    "switched on and let in by no rule is a low one, and so is SNMP for a few machines inside.",
    fix="Switch the cleartext service off and refuse its port; use SSH, HTTPS or SNMP version 3 instead.",
    asks=(RULES_TO_DEVICE,),
)
def cleartext(subject: Subject) -> Iterator[Answer]:
    services = [s for s in subject.study.services if s.cleartext]
    if not services:
        yield Passed("no cleartext management service is configured")
        return
    found = _exposed(subject, subject.study.entrances, services)
    forged = [e for e in found if e.certain and e.entrance.side is Side.OUTSIDE and _private_only(e)]
    yield from _outside_answers(subject, forged, ())
    for group in _grouped(e for e in found if e.certain and e not in forged):
        answer = _describe(group, "in cleartext ")
        outside = any(e.entrance.side is Side.OUTSIDE for e in group.exposures)
        if outside and group.worst.networks > _SOURCES.default:
            answer = replace(answer, severity=Severity.HIGH)
        elif not outside and all(usual_name(e.service) == "snmp" and e.networks <= _MONITORS for e in group.exposures):
            # Figures for a few that monitor, and no password that people type.
            answer = replace(answer, severity=Severity.LOW)
        yield answer
    for group in _grouped(e for e in found if not e.certain):
        yield _doubt(group)
    for service in services:
        if service.where is not None and not any(e.service.name == service.name for e in found):
            yield Found(
                f"{capital(service.name)} is switched on, though no rule lets it in today.",
                f"enabled {service.name}",
                lines(service.where),
                severity=Severity.LOW,
            )
    if not found:
        yield Passed(f"none of {len(services)} cleartext services is let in")


@check(
    id="access.too-many-sources",
    title="Named management sources are too many",
    severity=Severity.LOW,
    controls=("AC-3", "AC-6", "AC-17"),
    params=(
        Param("at_most", int, 24, "addresses", "administrators, their deputies and a maker's help desk fit in"),
        Param("at_most_inside", int, 256, "addresses on a management network", "the whole of one such network"),
    ),
    why="Every allowed address is a way in for whoever takes it over; a list that only grows ends up as no restriction.",
    how="Counts the addresses that may log in, all rules together, for each service and zone. What is open to more than named sources "
    "is the matter of access.reachable-from-outside and access.no-source-restriction and not reported again.",
    fix="Cut the allowed sources down to the administrators' own addresses, {at_most} at most.",
    asks=(RULES_TO_DEVICE,),
)
def too_many_sources(subject: Subject) -> Iterator[Answer]:
    together: dict[tuple[object, ...], list[Exposure]] = {}
    for exposure in subject.study.exposures:
        if exposure.certain:
            key = (exposure.proof.program.family, exposure.entrance.label, exposure.service.name)
            together.setdefault(key, []).append(exposure)
    wide: list[Exposure] = []
    for alike in together.values():
        managing = alike[0].entrance.side is Side.MANAGEMENT
        everybody = IntervalSet(span for e in alike for span in e.sources.spans)
        count = networks_in(everybody, alike[0].proof.program.family)
        if managing:
            wide += alike if count > subject.params["at_most_inside"] else []
        elif subject.params["at_most"] < count <= _SOURCES.default:
            wide += alike
    for group in _grouped(wide):
        yield _describe(group)
    doubtful = [e for e in subject.study.exposures if not e.certain and e.networks > subject.params["at_most"]]
    for group in _grouped(doubtful):
        yield _doubt(group)
    if not wide:
        yield Passed(f"nowhere more than {subject.params['at_most']} named addresses may log in")


@check(
    id="access.needless-service",
    together="rules answer where nobody needs it",
    title="The device answers where nobody needs it to",
    severity=Severity.LOW,
    controls=("CM-7", "SC-7"),
    params=(
        Param(
            "sides",
            tuple,
            ("outside", "guest", "dmz"),
            "sides",
            "who sits there has no business with the device",
            Of.SIDE,
        ),
    ),
    why="Whatever answers tells a stranger that the device is there, and what it is.",
    how="Computes whether an echo request (ping) from zones of the sides named is answered, or kinds of ICMP "
    "are accepted over IPv4 that no host needs from strangers (redirects, timestamps); where an export lists services by "
    "interface, the ways of managing the device listed on guest and dmz interfaces count too.",
    fix="Switch off on interfaces facing {sides} what is not needed there; allow ping from named monitoring hosts only.",
    asks=(RULES_TO_DEVICE,),
)
def needless_service(subject: Subject) -> Iterator[Answer]:
    wanted = [e for e in subject.study.entrances if e.side is not None and e.side.value in subject.params["sides"]]
    if not wanted:
        yield CannotTell(
            f"no interface is known to face {listed(subject.params['sides'])}; state zones in engagement.toml"
        )
        return
    found = [
        e
        for e in _exposed(subject, wanted, [ping(), *odd_requests()])
        if networks_in(e.sources, e.proof.program.family) > 64 and not _shipped(e)
    ]
    for group in _grouped(e for e in found if e.certain):
        yield _describe(group)
    for group in _grouped(e for e in found if not e.certain):
        yield _doubt(group)
    steering = list(_steering(subject, wanted))
    yield from steering
    names = {one.name for one in subject.device.administration.services}
    sides = {zone.name: zone.side for zone in subject.device.zones}
    for one in subject.device.interfaces:
        side = sides.get(one.zone or "")
        needless = [name for name in one.services if name in names]
        if side in (Side.GUEST, Side.DMZ) and side.value in subject.params["sides"] and needless:
            yield Found(
                f"{capital(listed(needless))} answers on {one.name}, towards {side.value}s.",
                f"{one.name}: {needless}",
                lines(one.where),
            )
    if not found and not steering:
        yield Passed(f"ping is not answered towards {listed(e.label for e in wanted)}")


_STEERING = {4: "source quench", 5: "redirects", 9: "router advertisements", 10: "router solicitations"}
"""Messages of ICMP that change how a host sends, and belong to no connection (RFC 6633, RFC 1812, RFC 1256)."""


def _steering(subject: Subject, wanted: Sequence[Entrance]) -> Iterator[Found]:
    """Rules that accept such messages from strangers. Connection tracking knows none of them, so their state is invalid."""
    program = subject.programs.get(4, Direction.TO_DEVICE)
    by_rule: dict[Span, tuple[Proof, list[str]]] = {}
    if program is None:
        return
    for kind, name in _STEERING.items():
        message = box([(Axis.PROTO, IntervalSet.of(1)), (Axis.A, IntervalSet.of(kind)), (Axis.B, IntervalSet.of(0)),
                       (Axis.STATE, IntervalSet.of(State.INVALID.number))])  # fmt: skip
        for one in wanted:
            region = overlap(message, subject.study.arriving(one, 4))
            proof = subject.study.decider(program).find(region, surely_accepted) if region is not None else None
            rule = proof.steps[-1].rule if proof is not None else None
            if proof is not None and rule is not None and not (rule.built_in or rule.shipped or rule.implied):
                by_rule.setdefault(rule.where, (proof, []))[1].append(f"ICMP {name}")
    for proof, names in by_rule.values():
        last = proof.steps[-1]
        text = f"{capital(speak(last.chain, last.rule))} accepts {listed(names)} from strangers."
        name = f"{listed(names)} ({speak(last.chain, last.rule)})"
        yield replace(finding_from(proof, text), who=Who.ANYBODY, name=name)


@check(
    id="access.default-port",
    together="services answer outside on the usual port",
    title="A service answers outside on the port everybody tries first",
    severity=Severity.INFO,
    controls=("CM-7", "SC-7"),
    why="Another port keeps nobody out, but it keeps the log free of those who try every address of the internet.",
    how="Ways of managing the device that some outside source reaches on their usual port.",
    fix="Where the service must answer outside at all, move it to another port.",
    asks=(
        RULES_TO_DEVICE,
        OUTSIDE,
    ),
)
def default_port(subject: Subject) -> Iterator[Answer]:
    usual = {term for one in WELL_KNOWN for term in one.terms}
    ports = {(t.protocol, p) for t in usual for p in t.destination_ports}
    found = [e for e in subject.study.exposures if e.entrance.side is Side.OUTSIDE]
    plain = [e for e in found if any((t.protocol, p) in ports for t in e.service.terms for p in t.destination_ports)]
    for group in _grouped(e for e in plain if e.certain):
        yield _describe(group, "on the usual port ")
    for group in _grouped(e for e in plain if not e.certain):
        yield _doubt(group)
    if not plain:
        yield Passed("nothing that manages the device answers outside on its usual port")


@check(
    id="access.keeper-refused",
    title="An allowed administrator would not get in",
    severity=Severity.MEDIUM,
    controls=("AC-17", "CM-3"),
    why="A restriction that leaves out the administrator's own address locks them out, most likely from afar and at night.",
    how="Every source an account is restricted to, and every administrator's address of the engagement file, must reach some way of "
    "managing the device through some interface. Sources nobody stated cannot be judged.",
    fix="Let the address in by a rule above the refusal before the next change is applied, or take it off the list if it is old.",
    asks=(RULES_TO_DEVICE,),
)
def keeper_refused(subject: Subject) -> Iterator[Answer]:
    accounts = [a for a in subject.device.administration.accounts if a.enabled and a.sources.known]
    wanted: list[tuple[str, Addresses, Span | None]] = []
    wanted += [(f"account {a.name}", one, a.where) for a in accounts for one in a.sources.value]
    wanted += [("the auditor's list of administrators", one, None) for one in subject.device.administrators]
    if not wanted:
        yield NotApplicable("neither the export nor the engagement file names addresses of administrators")
        return
    reached = {4: IntervalSet(), 6: IntervalSet()}
    for exposure in subject.study.exposures:
        family = exposure.proof.program.family
        home = subject.study.arriving(exposure.entrance, family)[Axis.SRC]
        reached[family] = reached[family] | (exposure.sources if home is None else exposure.sources & home)
    shut = 0
    for whose, addresses, where in wanted:
        mine = IntervalSet([(addresses.first, addresses.last)])
        left = mine - reached[addresses.family]
        if left == mine and subject.programs.get(addresses.family, Direction.TO_DEVICE) is not None:
            shut += 1
            yield Found(
                f"{spell_operand(addresses)} ({whose}) reaches no way of managing the device.",
                f"{whose}: {spell_operand(addresses)}",
                lines(where) or _refusing(subject, addresses),
            )
    if not shut:
        yield Passed(f"all of {counted(len(wanted), 'named source')} reach a way of managing the device")


def _refusing(subject: Subject, addresses: Addresses) -> tuple[Span, ...]:
    """The lines that refuse a source at the first way of managing the device it might have come by."""
    program = subject.programs.get(addresses.family, Direction.TO_DEVICE)
    if program is None:
        return ()
    source = box([(Axis.SRC, IntervalSet([(addresses.first, addresses.last)]))])
    for entrance in sorted(subject.study.entrances, key=lambda e: e.side is not Side.OUTSIDE):
        for service in subject.study.services:
            for opened in opening(program.family, service):
                here = overlap(opened, source)
                here = overlap(here, entrance.region) if here is not None else None
                proof = subject.study.decider(program).find(here, surely_refused) if here is not None else None
                if proof is not None:
                    return tuple(where for step in proof.steps for where in lines_of(step))
    return ()


CHECKS: tuple[Check, ...] = (
    reachable_from_outside,
    exposed_service,
    no_source_restriction,
    cleartext,
    too_many_sources,
    needless_service,
    default_port,
    keeper_refused,
)

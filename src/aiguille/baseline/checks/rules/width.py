"""Rules that open more than one service from here to there."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import lru_cache
from math import log2

from msgspec.structs import replace

from aiguille.analysis.decide import Ends, Proof, accepting_steps, maybe_accepted, surely_refused
from aiguille.analysis.forwards import Forward, for_itself_alone, forwards_of, meant_ports, ways_of
from aiguille.analysis.loopback import LOOPBACK
from aiguille.analysis.program import Program
from aiguille.analysis.services import is_voice, known_services
from aiguille.analysis.sides import PRIVATE, existing
from aiguille.analysis.study import (
    Admission,
    is_for_translated,
    is_wide,
    lets_forwarded_in,
    lets_in,
    may_let_in,
)
from aiguille.analysis.traffic import extent
from aiguille.baseline.asking import (
    INWARD,
    OUTSIDE,
    RULES_INWARD,
    RULES_THROUGH,
    about,
    common,
    name_of,
    service_boxes,
)
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
    lines_of,
    refer,
    rule_subject,
    speak,
)
from aiguille.baseline.values import networks
from aiguille.baseline.wording import SETTLE_OUTSIDE, UNSETTLED, capital, counted, listed
from aiguille.model import Device, Direction, Field, Named, Rule, Side, Span
from aiguille.model.identity import Same
from aiguille.model.spelling import spell_operand
from aiguille.space import Axis, Box, IntervalSet, box, box_size, covers, meets, overlap
from aiguille.space.fields import COUNTED, ICMP_OF, SYN, TCP, UDP

_ANY_PORT = 65_000


def _admissions(subject: Subject) -> list[Admission]:
    return [one for direction in INWARD for one in subject.study.admissions(direction)]


@check(
    id="rules.any-source",
    title="Anybody outside reaches an inside network",
    severity=Severity.HIGH,
    controls=("AC-4", "SC-7", "AC-3"),
    why="A service meant for the public belongs into a network of its own; inside, its next flaw opens everything.",
    how="Accepting rules that any source on the outside can use to reach a zone that is neither outside nor a dmz; critical where "
    "it is every service of a whole network, medium where all it leads to is one host's tunnel, which asks who comes, low where all it "
    "lets through is ICMP.",
    fix="Name the sources, or move the service into a dmz and let it be reached only there.",
    asks=(
        RULES_THROUGH,
        OUTSIDE,
    ),
)
def any_source(subject: Subject) -> Iterator[Answer]:
    outer = subject.study.on(Side.OUTSIDE)
    inner = subject.study.on(Side.INSIDE, Side.GUEST, Side.MANAGEMENT)
    if not inner:
        yield _beyond_unknown(subject, outer, inner) or NotApplicable("no inside network is known")
        return
    found = False
    inward = box([(Axis.IN, outer), (Axis.OUT, inner)])
    for one in subject.study.admissions(Direction.THROUGH_DEVICE):
        if is_for_translated(one.rule) or one.rule.shipped or one.of_default:
            continue  # what the first lets through the forwards show, further down; the second nobody asked for, or a default
        if not any(is_wide(r, Axis.SRC, one.program) and meets(r, inward) for r in one.regions):
            continue
        strangers = box([(Axis.SRC, subject.study.strangers(one.program))])
        parts = [here for region in one.regions if (here := common(region, inward, strangers)) is not None]
        for here in parts:
            proof = subject.study.find(one.program, here, lets_in(one.program), one.number)
            if proof is None and subject.study.find(one.program, here, may_let_in(one.program), one.number) is not None:
                yield CannotTell(f"{name_of(one)} may let any source outside reach inside networks, {UNSETTLED}")
            if proof is not None and proof.steps[-1] is one.step:
                found = True
                at = extent(one.program, parts).partition(" to ")[2]
                text = f"{name_of(one)} lets any {{family}} source outside reach inside networks: {at}."
                icmp = IntervalSet.of(ICMP_OF[one.program.family])
                severity = Severity.MEDIUM if _only_tunnels(parts, one.program.family) else None
                if all(part[Axis.PROTO] == icmp for part in parts):
                    severity = Severity.LOW
                elif severity is None and any(_is_everything(subject, part, one.program.family) for part in parts):
                    severity = Severity.CRITICAL
                elif severity is None and _may_lie_elsewhere(subject, one, inner):
                    text = (
                        f"{text[:-1]}, if that is where they are; public addresses may lie in a network of their own."
                    )
                    severity = Severity.MEDIUM
                yield replace(finding_from(proof, text, severity=severity), who=Who.ANYBODY)
                break
    for forward in _forwarded_inside(subject, outer, inner):
        found = True
        yield forward
    if not found:
        passed = Passed("no rule lets any source outside reach an inside network")
        yield _beyond_unknown(subject, outer, inner) or passed


def _is_everything(subject: Subject, part: Box, family: int) -> bool:
    """Whether every service of a whole network is open: all that is known to be inside, or as much as a site has."""
    if not _every_service(part):
        return False
    ends = part[Axis.DST]
    zones = [z.name for z in subject.device.zones if z.side in (Side.INSIDE, Side.MANAGEMENT)]
    known = IntervalSet((n.first, n.last) for z in zones for n in subject.study.networks(z) if n.family == family)
    return ends is None or ends.size >= _WHOLE_SITE or (bool(known) and known.issubset(ends))


_WHOLE_SITE = 1 << 16


def _may_lie_elsewhere(subject: Subject, one: Admission, inner: IntervalSet) -> bool:
    """Whether a rule leads to a few public addresses of which nothing shows that they are inside."""
    known = [n for z in subject.device.zones if z.side is not Side.OUTSIDE for n in subject.study.networks(z.name)]
    family = one.program.family
    held = IntervalSet((n.first, n.last) for n in known if n.family == family) | networks(PRIVATE, family)
    for region in one.regions:
        ends, ways = region[Axis.DST], region[Axis.OUT]
        if ends is None or ends.size > _FEW_HOSTS or ends.overlaps(held) or (ways is not None and ways.issubset(inner)):
            return False
    return True


_FEW_HOSTS = 256

_TUNNELS = ("udp/500", "udp/4500", "udp/1194", "udp/51820")
"""IKE, IPsec behind translation, OpenVPN, WireGuard (RFC 7296, RFC 3948; the programs' own defaults)."""


def _only_tunnels(parts: Sequence[Box], family: int) -> bool:
    """Whether all that gets in are tunnels that ask who comes, to one host."""
    known = [service for _, service in service_boxes(_TUNNELS, family)]
    hosts = IntervalSet(span for one in parts for span in (one[Axis.DST] or IntervalSet([(0, 1)])).spans)
    return hosts.size == 1 and all(any(covers(service, one) for service in known) for one in parts)


def _forwarded_inside(subject: Subject, outer: IntervalSet, inner: IntervalSet) -> Iterator[Found]:
    """Port forwards that lead anybody outside into an inside network by a rule for whatever was translated."""
    led: dict[tuple[Same, int], tuple[Forward, Proof, list[str]]] = {}
    for forward in forwards_of(subject.device):
        for _, program, region in ways_of(subject.study, forward, outer):
            here = overlap(region, box([(Axis.OUT, inner)]))
            proof = subject.study.find(program, here, lets_forwarded_in(program))
            last = proof.steps[-1] if proof is not None else None
            if proof is None or last is None or last.rule is None or not is_for_translated(last.rule):
                continue
            at = extent(program, [region]).partition(" to ")[2]
            # A map of translations is one rule that leads to many.
            led.setdefault((Same(forward.chain), forward.rule.number), (forward, proof, []))[2].append(at)
    for first, shown, ends in led.values():
        rule = capital(speak(first.chain, first.rule))
        text = f"{rule} leads any {{family}} source outside into an inside network: {listed(dict.fromkeys(ends))}."
        yield replace(_explained_by_forward(first, shown, text), who=Who.ANYBODY)


def _explained_by_forward(forward: Forward, proof: Proof, text: str) -> Found:
    chain, rule = forward.chain, forward.rule
    last = proof.steps[-1]
    # A filter that lets in whatever was translated is as wide as the translations, and not to blame.
    blamed = [] if last.rule is not None and is_for_translated(last.rule) else [last]
    return replace(
        finding_from(proof, text),
        subject=f"{forward.rulebase.name} {rule_subject(chain, rule)}",
        where=tuple(dict.fromkeys((rule.where, *(where for step in blamed for where in lines_of(step))))),
        rules=(refer(forward.rulebase, chain, rule), *(refer(s.rulebase, s.chain, s.rule) for s in blamed)),
    )


def _beyond_unknown(subject: Subject, outer: IntervalSet, inner: IntervalSet) -> CannotTell | None:
    """What there is to say of interfaces that are not known to be inside: whether anybody reaches what is behind them.

    inner: the interfaces that are; where there are some, only those that rules or the export name are looked at beside them
    """
    for one in subject.study.admissions(Direction.THROUGH_DEVICE):
        symbols = one.program.space.symbols
        elsewhere = symbols.present - outer - subject.study.on(Side.DMZ) - inner
        if inner:
            named = IntervalSet.of(*(symbols.number(name) for name in symbols.names if name != LOOPBACK))
            elsewhere &= named & existing(subject.device, symbols)
            if one.of_default:
                continue
        if not elsewhere or not any(is_wide(region, Axis.SRC, one.program) for region in one.regions):
            continue
        inward = box([(Axis.IN, outer), (Axis.OUT, elsewhere), (Axis.SRC, subject.study.strangers(one.program))])
        for region in one.regions:
            if subject.study.find(one.program, common(region, inward), lets_in(one.program), one.number) is not None:
                return CannotTell(
                    f"{name_of(one)} lets any source outside reach what is behind the device, and nothing shows whether that is an "
                    "inside network; say so with --side IFACE=SIDE"
                )
    return None


@check(
    id="rules.any-service",
    title="A rule opens every service",
    severity=Severity.MEDIUM,
    controls=("AC-4", "CM-7", "AC-6"),
    why="What was meant to be one service is all of them, those installed tomorrow included.",
    params=(
        Param("at_most", int, 64, "addresses outside", "so many may be a partner's hosts; more are whole networks"),
    ),
    how="Accepting rules that leave the protocol free, or all ports of TCP, for new connections, high where guests or a dmz reach the "
    "device itself by one, or a network on the internet what lies inside; those open in source and destination as well are the matter "
    "of rules.any-to-any.",
    fix="Name the services that are needed; log for a while to learn which.",
    asks=(RULES_INWARD,),
)
def any_service(subject: Subject) -> Iterator[Answer]:
    looked, found = 0, False
    strange = subject.study.on(Side.GUEST, Side.DMZ)
    to_anything = {
        a.rule
        for a in _admissions(subject)
        for r in a.regions
        if r[Axis.SRC] is None and is_wide(r, Axis.DST, a.program)
    }
    for one in _admissions(subject):
        looked += 1
        if one.rule.shipped:
            continue
        wide = [r for r in one.regions if _every_service(r)] if not _names_unknown(subject.device, one.rule) else []
        if wide and one.rule.unread:
            found = True
            yield CannotTell(f"{name_of(one)} may let every service pass; a part of it was not understood")
        elif wide and one.rule not in to_anything and not is_for_translated(one.rule):
            found, whence = True, ""
            if one.program.direction is Direction.TO_DEVICE:
                grave = any(
                    (into := r[Axis.IN]) is not None and into.overlaps(strange) and is_wide(r, Axis.SRC, one.program)
                    for r in wide
                )
            else:
                grave = any(_from_a_network_outside(subject, one, r) for r in wide)
                whence = " from a network outside to the inside" if grave else ""
            text = f"{name_of(one)} lets every service over {{family}} pass{whence}"
            yield about(one, text, Severity.HIGH if grave else None)
    if looked and not found:
        yield Passed(f"each of {counted(looked, 'accepting rule')} names its services")
    elif not looked:
        yield Passed("no rule accepts new connections")


def _from_a_network_outside(subject: Subject, one: Admission, region: Box) -> bool:
    """Whether what a rule lets through comes from the internet, from a network there and not from a few hosts, and goes inside."""
    into, out, sources = region[Axis.IN], region[Axis.OUT], region[Axis.SRC]
    inner = subject.study.on(Side.INSIDE, Side.MANAGEMENT)
    at_most: int = subject.params["at_most"]
    private = networks(PRIVATE, one.program.family)
    if sources is None or one.rule.qualifiers or (sources - private).size <= at_most:
        return False
    if not subject.study.on(Side.OUTSIDE):
        # Where no interface is known the addresses say which is which.
        ends = region[Axis.DST]
        return not sources.overlaps(private) and ends is not None and ends.issubset(private)
    if into is None or not into.issubset(subject.study.on(Side.OUTSIDE)):
        return False
    return out is not None and out.overlaps(inner)


def _names_unknown(device: Device, rule: Rule) -> bool:
    """Whether a rule is for a service that nothing defines: whatever that is, it is not every service."""
    known = {one.name for one in device.services}
    named = [o for c in rule.match.conditions if c.field is Field.SERVICE for o in c.operands if isinstance(o, Named)]
    return any(one.name not in known for one in named)


def _every_service(region: Box) -> bool:
    protocols, ports = region[Axis.PROTO], region[Axis.B]
    if ports is not None and ports.size < _ANY_PORT:
        return False
    return protocols is None or (TCP in protocols and region[Axis.A] is None)


@check(
    id="rules.wide-ports",
    title="A rule opens a wide range of ports",
    severity=Severity.LOW,
    controls=("CM-7", "AC-4"),
    params=(Param("at_most", int, 256, "ports", "some voice and file services need a range; few need more than this"),),
    why="A range takes in services nobody thought of.",
    how="Counts the ports of accepting rules that do not leave them free altogether.",
    fix="Name the ports, or have the application use a range of {at_most} at most.",
    asks=(RULES_INWARD,),
)
def wide_ports(subject: Subject) -> Iterator[Answer]:
    found = False
    for one in _admissions(subject):
        counts = [r[Axis.B].size for r in one.regions if r[Axis.B] is not None and not _every_service(r)]  # type: ignore[union-attr]
        if counts and max(counts) > subject.params["at_most"] and not one.rule.unread:
            found = True
            yield about(one, f"{name_of(one)} opens {counted(max(counts), 'port')} over {{family}}")
    if not found:
        yield Passed(f"no rule opens a range of more than {subject.params['at_most']} ports")


@check(
    id="rules.openness",
    together="rules are wider than the parameters allow",
    title="A rule decides a vast part of all packets",
    severity=Severity.LOW,
    controls=("AC-4", "AC-6"),
    params=(
        Param(
            "ipv4",
            float,
            88.0,
            "bits of IPv4 packet space",
            "any source to any host on one port has 80: 32 + 32 + 16 for its own port",
        ),
        Param("ipv6", float, 280.0, "bits of IPv6 packet space", "any source to any host on one port has 272"),
    ),
    why="The wider a rule, the less anybody can say what it is used for.",
    how="Counts the packets an accepting rule matches where it stands, over source, destination, "
    "protocol and ports, as a power of two.",
    fix="Narrow the rule in the field that is widest.",
    asks=(RULES_INWARD,),
)
def openness(subject: Subject) -> Iterator[Answer]:
    looked, found = 0, False
    for one in _admissions(subject):
        looked += 1
        if is_for_translated(one.rule) or one.rule.shipped or one.of_default:
            continue
        limit = subject.params["ipv4" if one.program.family == 4 else "ipv6"]
        sizes = [
            box_size(part, one.program.space.tops, COUNTED) for r in one.regions for part in one.program.regions(r)
        ]
        bits = log2(sum(sizes)) if any(sizes) else 0.0
        if bits > limit:
            found = True
            yield about(one, f"{name_of(one)} is open from {extent(one.program, one.regions)} over {{family}}")
    if not found:
        yield Passed(f"none of {counted(looked, 'accepting rule')} is wider than the parameters")


_CONTROL = frozenset(port for one in known_services() if one.gives == "control" for port in one.ports)

_LOGINS = ("tcp/22",)
"""A login that is as safe as its passwords: of strangers alone it is a finding."""

_WITHIN = frozenset((*_LOGINS, *(port for one in known_services() if one.light for port in one.ports)))
"""What serves the networks of a house, and how its machines are looked after: no grave matter among them."""

_FROM_DMZ = frozenset(
    port
    for one in known_services()
    for port in one.ports
    if one.gives in ("login", "control") or one.name in ("Windows file sharing", "NFS")
)
"""What leads further from a host that was taken over; databases and directories are what its service is built on."""

DANGEROUS = tuple(
    port for one in known_services() if one.name != "SSH" and not one.printer and not one.routers for port in one.ports
)


@check(
    id="rules.dangerous-service",
    title="A service that should not leave its network is let through",
    severity=Severity.HIGH,
    controls=("CM-7", "SC-7", "AC-17"),
    params=(
        Param(
            "services",
            tuple,
            DANGEROUS,
            "services",
            "unencrypted, unauthenticated, or the usual way in of malware",
            Of.SERVICE,
        ),
        Param("named", int, 64, "addresses", "between named hosts such services are sometimes needed"),
    ),
    why="These services are what worms and intruders look for first.",
    how="Accepting rules through the device that name ports and include one of the services, and port forwards to them: from any "
    "source outside high, from more sources than the parameter between other sides medium; from so many named ones outside to machines "
    "that control something high; logins, shared files and machines from a dmz into an inside network medium however few may use them. "
    "SSH from outside is medium, and so are SSH from ordinary networks into that of management, and what a host publishes to itself "
    "alone while its rules let in what is sent to the service's own address.",
    fix="Refuse the service between sides; where it is needed, name both hosts or carry it through a VPN.",
    asks=(RULES_THROUGH,),
)
def dangerous_service(subject: Subject) -> Iterator[Answer]:
    outer = subject.study.on(Side.OUTSIDE)
    found = False
    described_rules: set[Span] = set()
    texts = (*subject.params["services"], *_LOGINS)
    ports_of = [one[Axis.B] for family in (4, 6) for _, one in service_boxes(texts, family)]
    forwards = forwards_of(subject.device)
    # Most rules of a long list are about none of the services; a service without ports may be in any.
    asked = IntervalSet(span for held in ports_of for span in (held.spans if held is not None else [(0, 65535)]))
    for one in subject.study.admissions(Direction.THROUGH_DEVICE):
        if is_for_translated(one.rule):
            continue  # what it lets through the forwards show, further down
        for region in sorted(one.regions, key=is_voice):
            ports = region[Axis.B]
            if _every_service(region) or ports is None or not ports.overlaps(asked):
                continue
            names = [*_among(texts, one.program.family, region[Axis.PROTO], ports)]
            sources = region[Axis.SRC]
            many = sources is None or sources.size > subject.params["named"]
            into = region[Axis.IN]
            # A host strangers reach is taken over first; one of it is enough to go on from.
            from_dmz = _leads_inside(subject, region)
            if from_dmz and not many:
                names = [text for text in names if text in _FROM_DMZ]
            if not names or not (many or from_dmz):
                continue
            # With the outside unknown, a rule for any interface lets in whoever comes by that one.
            anywhere = not outer and (into is None or one.program.space.symbols.top in into)
            outside = (into is None or into.overlaps(outer) or anywhere) and is_wide(region, Axis.SRC, one.program)
            leaves = region[Axis.OUT]
            if leaves is not None and outer and leaves.issubset(outer) and not outside:
                continue  # what inside hosts use of the outside is a matter of what they may send there
            from_outer = into is not None and bool(outer) and into.issubset(outer)
            keeping = subject.study.on(Side.MANAGEMENT)
            to_keepers = (
                leaves is not None
                and bool(leaves)
                and leaves.issubset(keeping)
                and not (into or leaves).issubset(keeping)
            )
            if not (outside or from_outer or to_keepers) and all(text in _WITHIN for text in names):
                continue  # between networks of one's own that is what they are for
            found = True
            described_rules.add(one.rule.where)
            whence = (
                "from anybody outside"
                if outside
                else f"from {counted(sources.size, 'address', 'addresses')} outside"
                if from_outer and sources is not None
                else "into the management network"
                if to_keepers
                else "from a dmz into an inside network"
                if from_dmz
                else "between networks"
            )
            itself = outside and for_itself_alone(one.program, region, forwards)
            if itself:
                whence = "from neighbours that send to its own address, though it is published to the host itself alone"
            grave = outside or (from_outer and any(text in _CONTROL for text in names))
            light = not grave or itself or is_voice(region) or all(text in _WITHIN for text in names)
            severity = Severity.MEDIUM if light else None
            among = f" among {counted(ports.size, 'UDP port')}" if is_voice(region) else ""
            described = about(one, f"{name_of(one)} lets {listed(_named(names), 4)}{among} through {whence}", severity)
            who = (
                Who.ANYBODY
                if outside and not itself
                else Who.PARTNER
                if from_outer
                else Who.DMZ
                if from_dmz
                else Who.INSIDE
            )
            yield replace(described, who=who)
            break
    for forward in _dangerous_forwards(subject, described_rules):
        found = True
        yield forward
    if not found:
        yield Passed("no rule that names ports lets such a service through from more than a few hosts")


@lru_cache(maxsize=4096)
def _among(texts: tuple[str, ...], family: int, protocols: IntervalSet | None, ports: IntervalSet) -> tuple[str, ...]:
    """Those of some services that protocols and ports hold."""
    held = [(Axis.B, ports)] if protocols is None else [(Axis.PROTO, protocols), (Axis.B, ports)]
    return tuple(text for text, service in service_boxes(texts, family) if meets(box(held), service))


def _leads_inside(subject: Subject, region: Box) -> bool:
    """Whether packets come from a dmz alone and leave into an inside network."""
    into, leaves = region[Axis.IN], region[Axis.OUT]
    inner = subject.study.on(Side.INSIDE, Side.MANAGEMENT)
    if into is None or leaves is None or not into or not leaves:
        return False
    return into.issubset(subject.study.on(Side.DMZ)) and leaves.issubset(inner)


def _dangerous_forwards(subject: Subject, described: set[Span]) -> Iterator[Found]:
    """Port forwards that lead anybody outside to such a service, where no rule that names its port has been reported."""
    outer = subject.study.on(Side.OUTSIDE)
    for forward in forwards_of(subject.device) if outer else ():
        for text, proof in _dangers_behind(subject, forward, outer):
            if any(where in described for step in proof.steps for where in lines_of(step)):
                continue
            to = spell_operand(forward.target)
            detail = (
                f"{capital(speak(forward.chain, forward.rule))} leads anybody outside to {_named([text])[0]} of {to}."
            )
            severity = Severity.MEDIUM if text in _WITHIN else None
            yield replace(_explained_by_forward(forward, proof, detail), who=Who.ANYBODY, severity=severity)
            break


def _dangers_behind(subject: Subject, forward: Forward, outer: IntervalSet) -> Iterator[tuple[str, Proof]]:
    for protocol, program, region in ways_of(subject.study, forward, outer):
        for text, service in service_boxes((*subject.params["services"], *_LOGINS), program.family):
            if text.startswith("tcp/" if protocol == TCP else "udp/"):
                proof = subject.study.find(program, overlap(region, service), lets_forwarded_in(program))
                if proof is not None:
                    yield text, proof


def _named(ports: list[str]) -> list[str]:
    """Ports with the names of what stands behind them."""
    names = {port: one.name for one in known_services() for port in one.ports}
    return [f"{names[port]} ({port})" if port in names else port for port in ports]


@check(
    id="rules.outgoing-mail",
    title="A network may send mail to anywhere",
    severity=Severity.MEDIUM,
    controls=("SC-7(5)", "AC-4"),
    params=(
        Param("relays", tuple, (), "addresses", "the trusted mail relays; none known by default", Of.NETWORK),
        Param("at_most", int, 16, "other mail hosts", "a provider's few relays pass where none are named"),
        Param("senders", int, 4, "sending hosts", "a site's own relays send everywhere; that is what they are for"),
    ),
    why="One infected machine that sends mail by itself puts the site's addresses on blocklists.",
    how="For each inside network the hosts outside that it reaches on TCP port 25 are computed; more than the parameter beyond the "
    "named relays is a finding, unless few named hosts may do so. So is, as a low one, a rule by which a device that takes no mail may "
    "send it anywhere.",
    fix="Let inside networks reach only the mail relay on port 25, refuse the rest and record who tries.",
    asks=(RULES_THROUGH,),
)
def outgoing_mail(subject: Subject) -> Iterator[Answer]:
    own = list(_own_mail(subject))
    yield from own
    outer = subject.study.on(Side.OUTSIDE)
    inner = (*subject.study.inside, *subject.study.strays)
    if not outer or not inner:
        yield CannotTell("inside and outside are not both known; state zones in engagement.toml")
        return
    found: dict[tuple[int, RuleRef], list[tuple[str, Proof]]] = {}
    for program in subject.programs.all(Direction.THROUGH_DEVICE):
        relays = networks(subject.params["relays"], program.family)
        others = relays.complement(program.space.tops[Axis.DST])
        mail = box([(Axis.OUT, outer), (Axis.DST, others), (Axis.PROTO, IntervalSet.of(TCP)), (Axis.B, IntervalSet.of(25)),
                    (Axis.FLAGS, IntervalSet.of(SYN))])  # fmt: skip
        for one in inner:
            here = common(subject.study.arriving(one, program.family), mail)
            hosts = subject.study.project(program, here, Axis.DST, lets_in(program))
            perhaps = subject.study.project(program, here, Axis.DST, may_let_in(program))
            if (perhaps - hosts).size > subject.params["at_most"]:
                yield CannotTell(f"{one.label} may send mail to other hosts, {UNSETTLED}")
            if hosts.size > subject.params["at_most"]:
                wide = overlap(here, box([(Axis.DST, hosts)])) if here is not None else None
                # The rule or default that lets most hosts be reached is guilty, not the one for the relay.
                proof = _widest(subject, program, wide)
                if proof is not None:
                    last = proof.steps[-1]
                    at = (program.family, refer(last.rulebase, last.chain, last.rule))
                    found.setdefault(at, []).append((one.label, proof))
    for group in found.values():
        proof = group[0][1]
        last = proof.steps[-1]
        names = listed(label for label, _ in group)
        by_itself = last.rule is not None and last.rule.shipped  # a container engine lets all of its own out
        yield finding_from(
            proof,
            f"By {speak(last.chain, last.rule)} {names} may send {{family}} mail to any host outside.",
            severity=Severity.LOW if by_itself else None,
        )
    if not found and not own:
        yield Passed(f"none of {counted(len(inner), 'inside network')} may send mail to more than named hosts")


def _own_mail(subject: Subject) -> Iterator[Found]:
    """Rules by which the device itself may send mail anywhere, unless it takes mail; a default that lets all out says so itself."""
    if 25 in subject.study.open_ports_anywhere(TCP):
        return
    for one in subject.study.admissions(Direction.FROM_DEVICE):
        relays = networks(subject.params["relays"], one.program.family)
        for region in one.regions:
            ports, ends = region[Axis.B], region[Axis.DST]
            left = (ends - relays).size if ends is not None else subject.params["at_most"] + 1
            if ports is not None and 25 in ports and ports.size <= _NAMED_PORTS and left > subject.params["at_most"]:
                yield about(
                    one, f"{name_of(one)} lets the device itself send {{family}} mail to any host", Severity.LOW
                )
                break


_NAMED_PORTS = 64
"""Ports of a rule that names its ports."""


def _widest(subject: Subject, program: Program, region: Box | None) -> Proof | None:
    """Of the rules and defaults that let packets of a region through, the proof of the one with most destinations.

    Those for few senders are none; None if all there are are such, and the destinations of the others are as few.
    """
    best: tuple[int, Proof] | None = None
    seen: set[frozenset[int]] = set()
    reached = IntervalSet()

    def another(ends: Ends) -> bool:
        return lets_in(program)(ends) and accepting_steps(program, ends) not in seen

    while len(seen) < _RULES_TRIED and (proof := subject.study.find(program, region, another)) is not None:
        mine = accepting_steps(program, proof.ends)
        if mine in seen:
            break
        seen.add(mine)

        def by_these(ends: Ends, mine: frozenset[int] = mine) -> bool:
            return lets_in(program)(ends) and accepting_steps(program, ends) == mine

        if subject.study.project(program, region, Axis.SRC, by_these).size <= subject.params["senders"]:
            continue
        hosts = subject.study.project(program, region, Axis.DST, by_these)
        reached |= hosts
        if best is None or hosts.size > best[0]:
            best = (hosts.size, proof)
    if len(seen) < _RULES_TRIED and reached.size <= subject.params["at_most"]:
        return None
    return best[1] if best is not None else None


_RULES_TRIED = 32


@check(
    id="rules.published-service",
    title="A port forward is let through wider than it forwards",
    severity=Severity.MEDIUM,
    controls=("SC-7", "CM-7", "AC-4"),
    why="The forward names one port; the filter behind it decides what else of that host stands open.",
    how="For each destination translation to an inside host, the ports any source outside reaches on "
    "that host are computed; any beyond "
    "the port it forwards to is a finding.",
    fix="Let the filter accept exactly the host and port of the forward, from the outside interface only.",
)
def published_service(subject: Subject) -> Iterator[Answer]:
    outer = subject.study.on(Side.OUTSIDE)
    forwards = forwards_of(subject.device)
    if (nothing := _no_forward(forwards, outer)) is not None:
        yield nothing
        return
    found = False
    for forward in forwards:
        answer = _published(subject, forward, outer)
        if isinstance(answer, Found):
            found = True
        if answer is not None:
            yield answer
    if not found:
        yield Passed(f"what stands behind {counted(len(forwards), 'port forward')} is open on no other port")


def _no_forward(forwards: Sequence[Forward], outer: IntervalSet) -> Answer | None:
    """What there is to say where no forward, or no outside, is known; None where both are."""
    if not forwards:
        return NotApplicable("no port forward is written")
    return None if outer else CannotTell(f"no interface is known to face the outside; {SETTLE_OUTSIDE}")


def _all_meant(subject: Subject, program: Program, target: IntervalSet, protocol: int) -> IntervalSet:
    """The ports that some forward or other leads to on a host: several forwards may lead to one."""
    ports = IntervalSet()
    for other in forwards_of(subject.device):
        if other.target.family == program.family and target.overlaps(
            IntervalSet([(other.target.first, other.target.last)])
        ):
            ports = ports | meant_ports(program, other, protocol)
    return ports


def _published(subject: Subject, forward: Forward, outer: IntervalSet) -> Answer | None:
    chain, rule, addresses = forward.chain, forward.rule, forward.target
    program = subject.programs.get(addresses.family, Direction.THROUGH_DEVICE)
    if program is None:
        return None
    target = IntervalSet([(addresses.first, addresses.last)])
    meant = {protocol: _all_meant(subject, program, target, protocol) for protocol in (TCP, UDP)}
    # What would turn back to the outside does not come to a host behind the device.
    inward = program.space.symbols.present - outer
    behind = box(
        [(Axis.IN, outer), (Axis.OUT, inward), (Axis.SRC, subject.study.strangers(program)), (Axis.DST, target)]
    )
    for protocol, name in ((TCP, "TCP"), (UDP, "UDP")):
        region = common(behind)
        more = subject.study.open_ports(program, region, protocol) - meant[protocol]
        if subject.study.open_ports(program, region, protocol, may_let_in(program)) - meant[protocol] - more:
            return CannotTell(f"behind the forward of {speak(chain, rule)} more may be open, {UNSETTLED}")
        if not more or region is None:
            continue
        flags = [(Axis.FLAGS, IntervalSet.of(SYN))] if protocol == TCP else []
        here = overlap(region, box([(Axis.PROTO, IntervalSet.of(protocol)), (Axis.B, more), *flags]))
        proof = subject.study.find(program, here, lets_in(program))
        if proof is not None:
            last = proof.steps[-1]
            ports_text = f"port {more.first}" if more.size == 1 else counted(more.size, "port")
            return Found(
                f"Behind the forward of {speak(chain, rule)} {speak(last.chain, last.rule)} opens {name} "
                f"{ports_text} more than it forwards to.",
                f"{forward.rulebase.name}: {rule_subject(last.chain, last.rule)}",
                (rule.where, *lines_of(last)),
                (refer(last.rulebase, last.chain, last.rule),),
                proof,
            )
    return None


@check(
    id="rules.dead-forward",
    title="A port forward leads to what the filter refuses",
    severity=Severity.LOW,
    controls=("CM-6", "AC-4"),
    why="Either the service was meant to be reached and is not, or the forward was left over, and opens with the next rule beside it.",
    how="For each destination translation of what anybody outside sends, some new connection to where it leads must be let through, "
    "perhaps.",
    fix="Ask which of the two is meant: take the forward away, or let through what it forwards, from those who need it.",
)
def dead_forward(subject: Subject) -> Iterator[Answer]:
    outer = subject.study.on(Side.OUTSIDE)
    forwards = forwards_of(subject.device)
    if (nothing := _no_forward(forwards, outer)) is not None:
        yield nothing
        return
    looked, found = 0, False
    for forward in forwards:
        ways = list(ways_of(subject.study, forward, outer))
        if not ways:
            continue  # for named sources, or for who comes from inside
        looked += 1
        if any(subject.study.find(program, region, maybe_accepted) is not None for _, program, region in ways):
            continue
        found = True
        _, program, region = ways[0]
        proof = subject.study.decider(program).find(region, surely_refused)
        if proof is None:
            continue
        last = proof.steps[-1]
        yield Found(
            f"{capital(speak(forward.chain, forward.rule))} leads to {spell_operand(forward.target)}, where "
            f"{speak(last.chain, last.rule)} refuses what it forwards.",
            f"{forward.rulebase.name} {rule_subject(forward.chain, forward.rule)}",
            (forward.rule.where, *lines_of(last)),
            (refer(forward.rulebase, forward.chain, forward.rule), refer(last.rulebase, last.chain, last.rule)),
            proof,
        )
    if not looked:
        yield NotApplicable("no port forward is for anybody outside")
    elif not found:
        yield Passed(f"what {counted(looked, 'port forward')} leads to is let through")


CHECKS: tuple[Check, ...] = (
    any_source,
    any_service,
    wide_ports,
    openness,
    dangerous_service,
    outgoing_mail,
    published_service,
    dead_forward,
)

"""What rules are worth where they stand, and those that say the same in more words than needed."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from aiguille.analysis.decide import LONG, Ends, Proof
from aiguille.analysis.loopback import LOOPBACK
from aiguille.analysis.program import Kind, Program, Step
from aiguille.analysis.sides import not_loopback
from aiguille.analysis.standing import Place, Standing, StandingReport
from aiguille.analysis.study import NEW, is_for_translated, lets_in
from aiguille.analysis.traffic import services_of
from aiguille.baseline.catalogue import (
    Answer,
    CannotTell,
    Check,
    Found,
    NotApplicable,
    Passed,
    Severity,
    Subject,
    canonical,
    check,
    lines_of,
    refer,
    rule_subject,
    speak,
    without_rules,
)
from aiguille.baseline.checks.deny.defaults import dead_rules
from aiguille.baseline.checks.rules.documentation import may_go
from aiguille.baseline.wording import capital, counted, lines, listed
from aiguille.model import Action, Chain, Device, Direction, Field, InterfaceName, Named, Rule, Span
from aiguille.model.identity import Same
from aiguille.space import Axis, Box, IntervalSet, overlap
from aiguille.space.effort import ENTANGLED
from aiguille.space.fields import ICMP_OF, UDP

NO_STATEMENTS = "nobody wrote a rule here: all there are come with what the export switches on"


def _because(report: StandingReport) -> str:
    if report.why:
        return f": {report.why}"
    if not report.because:
        return ""
    return " by " + listed((_named(place, jump) for place, jump in _decisive(report)), 3)


def _named(place: Place, jump: Place | None) -> str:
    _, chain, rule = place
    return speak(chain, rule) + (f", which {speak(*jump[1:])} calls" if jump is not None else "")


def _decisive(report: StandingReport) -> list[tuple[Place, Place | None]]:
    """The rules behind a standing, each with the jump that chose it, but for what every rule set begins with where others decide its
    new connections."""
    every = list(zip(report.because, report.jumps, strict=True))
    return [one for one in every if not _is_frame(one[0][2])] or every


def _is_frame(rule: Rule | None) -> bool:
    """Whether a rule came with a program or a zone, or is about the loopback or known connections."""
    return rule is not None and (
        rule.shipped
        or rule.implied
        or (
            bool(rule.match.conditions)
            and all(
                c.field is Field.STATE or (c.field is Field.IN_INTERFACE and c.operands == (InterfaceName(LOOPBACK),))
                for c in rule.match.conditions
            )
        )
    )


def _finding(report: StandingReport, detail: str, severity: Severity | None = None) -> Found:
    because = _decisive(report)[:3]
    places = [*(place for place, _ in because), *(jump for _, jump in because if jump is not None)]
    where = [report.rule.where, *(rule.where for *_, rule in places if rule is not None)]
    return Found(
        detail=detail,
        subject=f"{report.rulebase.name} {rule_subject(report.chain, report.rule)}",
        where=tuple(dict.fromkeys(where)),
        rules=(
            refer(report.rulebase, report.chain, report.rule),
            *(refer(base, chain, rule) for (base, chain, rule), _ in because),
        ),
        severity=severity,
    )


def _dead(subject: Subject) -> set[Same]:
    """The rules below one that takes everything, by identity: another check's matter."""
    found: set[Same] = subject.study.once("dead", lambda: set(dead_rules(subject)))
    return found


def _judged(subject: Subject, standing: Standing, verb: str) -> Iterator[Answer]:
    """The statements all of whose rules have a standing."""
    if not subject.study.standings:
        yield without_rules(subject.device)
        return
    found = False
    written = {where for where, _ in subject.study.written}
    yield from unsettled(subject)
    for _, reports in subject.study.written:
        report = reports[0]
        if any(r.standing is not standing for r in reports) or any(Same(r.rule) in _dead(subject) for r in reports):
            continue
        if standing is Standing.IMPOSSIBLE and waits_for_members(subject.device, report.rule):
            continue
        if standing is Standing.SHADOWED and undermined_by(subject, report) is not None:
            continue
        found = True
        yield _finding(
            report, f"{capital(speak(report.chain, report.rule))} {verb}{_because(report)}{_remedy(subject, report)}."
        )
    if not written:
        yield NotApplicable(NO_STATEMENTS)
    elif not found:
        yield Passed(f"none of {counted(len(written), 'statement')} {verb}")


_TURNED_BACK = "sfilter"
"""Shorewall's chain for what would leave by the interface it came in by (shorewall-interfaces(5), routeback)."""


def _remedy(subject: Subject, report: StandingReport) -> str:
    """What else than its place would let a hidden rule work: an option, or that a rule which hides it for a while goes."""
    if not may_go(subject, report.rule):
        passing = [(chain, rule) for _, chain, rule in report.because if rule is not None and may_go(subject, rule)]
        if passing:
            chain, rule = passing[0]
            return f"; it is needed again once {speak(chain, rule)}, which is there for a while, goes"
    if any(chain.name == _TURNED_BACK for _, chain, _ in report.because):
        return ", as what comes in by an interface leaves by it again only with the option routeback there"
    return ""


def unsettled(subject: Subject) -> Iterator[Answer]:
    """What cannot be determined of rules that are too entangled with those above."""
    left = [report for _, reports in subject.study.written for report in reports if not report.settled]
    if left:
        first = left[0]
        yield CannotTell(
            f"{counted(len(left), 'rule')}, {speak(first.chain, first.rule)} ({first.rule.where}) the first: {ENTANGLED}"
        )


def waits_for_members(device: Device, rule: Rule) -> bool:
    """Whether a rule refuses the members of a set that has none today, and works again once a program puts some there."""
    bare = {one.name for one in device.sets if one.complete and not one.entries}
    return rule.action.refuses and any(
        isinstance(o, Named) and o.name in bare for c in rule.match.conditions if not c.negated for o in c.operands
    )


def takes_the_rest(rule: Rule) -> bool:
    """Whether a rule refuses what is left over, or odd packets: exceptions above such rules are what they are there for."""
    return rule.action.refuses and all(
        c.field in (Field.STATE, Field.IN_INTERFACE, Field.IN_ZONE, Field.OUT_ZONE) for c in rule.match.conditions
    )


@check(
    id="rules.shadowed",
    title="A rule never sees the packets it was meant to decide",
    severity=Severity.MEDIUM,
    controls=("CM-6", "SC-7", "AC-4"),
    why="Somebody believes that it works: what it should allow is refused, or what it should refuse is let in.",
    how="Every packet the rule matches is surely taken by rules above, one of them with another "
    "outcome, and none alone with the same; computed as sets, unions of rules "
    "included; of packets that cannot exist (they would leave by another interface than their destination lies behind) none counts. "
    "Rules below one that takes everything are the matter of deny.after-catch-all.",
    fix="Decide whether the rule was meant to hold: move it above those that hide it then; else it can go, which changes nothing.",
)
def shadowed(subject: Subject) -> Iterator[Answer]:
    answers = list(_judged(subject, Standing.SHADOWED, "is hidden"))
    late = list(_refused_where_it_leads(subject))
    yield from (one for one in answers if not (late and isinstance(one, Passed)))
    yield from late


def _refused_where_it_leads(subject: Subject) -> Iterator[Found]:
    """Accepting rules that a rule above hides for every packet that can exist, though not for every one they match."""
    known = subject.study.standing_of

    def asked(rule: Rule) -> bool:
        report = known.get(Same(rule))
        if report is None or Same(rule) in _dead(subject) or takes_the_rest(rule):
            return False
        if report.standing is Standing.REDUNDANT:  # where other rules let the same in nothing is lost
            others = [other for _, _, other in report.because]
            return not others or any(o is None or o.action is not rule.action for o in others)
        return report.standing not in (Standing.SHADOWED, Standing.IMPOSSIBLE, Standing.OFF)

    for direction in (Direction.TO_DEVICE, Direction.THROUGH_DEVICE):
        for step, proof in subject.study.overtaken(direction, asked):
            rule, last = step.rule, proof.steps[-1]
            yield Found(
                f"{capital(speak(step.chain, rule))} is hidden by {speak(last.chain, last.rule)} for every packet that can exist.",
                f"{step.rulebase.name} {rule_subject(step.chain, rule)}",
                tuple(dict.fromkeys((*lines_of(step), *lines_of(last)))),
                (refer(step.rulebase, step.chain, rule), refer(last.rulebase, last.chain, last.rule)),
                proof,
                family=proof.program.family,
            )


@check(
    id="rules.redundant",
    title="A rule changes nothing",
    severity=Severity.INFO,
    controls=("CM-6", "CM-7"),
    together="rules change nothing beside others",
    why="Rules without effect hide those with one, and come to life when the rule beside them goes.",
    how="Without the rule every packet would have the same verdict, because of other rules that somebody wrote. What only repeats a "
    "default on purpose (a final refusal, a drop of invalid packets), translations, rules that record, and rules that matter as "
    "soon as a faulty default is mended or a rule that is temporary goes are left out.",
    fix="Merge the rule with those named beside it; nothing else changes by that as long as they stay.",
)
def redundant(subject: Subject) -> Iterator[Answer]:
    if not subject.study.standings:
        yield without_rules(subject.device)
        return
    written = {where for where, _ in subject.study.written}
    yield from unsettled(subject)
    found = False
    for _, reports in subject.study.written:
        report = reports[0]
        rule = report.rule
        if any(r.standing is not Standing.REDUNDANT for r in reports) or any(
            Same(r.rule) in _dead(subject) for r in reports
        ):
            continue
        beside = [r for r in report.because if r[2] is not None and r[2].where in written and r[2] is not rule]
        if not _needless(report) or not beside or undermined_by(subject, report) is not None:
            continue
        if any(may_go(subject, other) for _, _, other in beside if other is not None) and not may_go(subject, rule):
            continue
        found = True
        yield replace(
            _finding(report, f"{capital(speak(report.chain, rule))} changes no verdict beside "
                     f"{listed((speak(chain, other) for _, chain, other in beside), 3)}."),
            name=speak(report.chain, rule),
        )  # fmt: skip
    if not written:
        yield NotApplicable(NO_STATEMENTS)
    elif not found:
        yield Passed(
            f"each of {counted(len(written), 'statement')} changes some verdict, or repeats a default on purpose"
        )


def _needless(report: StandingReport) -> bool:
    """Whether a rule that changes no verdict is one too many, and not one that says on purpose what holds anyway."""
    rule = report.rule
    if rule.logs or rule.effects or rule.action not in (Action.ACCEPT, Action.DROP, Action.REJECT):
        return False
    others = [other for *_, other in report.because]
    if any(other is None for other in others):
        return False  # a default decides some of its packets alike: a refusal said on purpose, or an accept that will matter
    if rule.action.refuses and all(takes_the_rest(other) for other in others if other is not None):
        return False  # refused by the final refusal alone: it may be meant to stand higher up, and costs nothing
    return all(other.action is rule.action for other in others if other is not None) and not takes_the_rest(rule)


def undermined_by(subject: Subject, report: StandingReport) -> Rule | None:
    """The rule that lets the same service in from any source, where one for named sources changes nothing beside it."""
    rule = report.rule
    if rule.action is not Action.ACCEPT or not names_sources(rule):
        return None
    for _, _, other in report.because:
        if other is not None and other is not rule and other.action is Action.ACCEPT and not other.built_in:
            mine = {
                c for c in rule.match.conditions if c.field not in (Field.SOURCE, Field.IN_INTERFACE, Field.IN_ZONE)
            }
            theirs = set(other.match.conditions)
            services = {c for c in theirs if c.field in _SERVICE_FIELDS}
            if services and services <= mine and not names_sources(other) and not other.qualifiers:
                return other
    return None


_SERVICE_FIELDS = (Field.SERVICE, Field.DESTINATION_PORT, Field.PROTOCOL)


def names_sources(rule: Rule) -> bool:
    return any(c.field is Field.SOURCE and not c.negated for c in rule.match.conditions)


@check(
    id="rules.contradicted",
    title="A refusal comes too late",
    severity=Severity.MEDIUM,
    controls=("CM-6", "SC-7", "AC-4"),
    why="Whoever wrote it believes that these sources, or this service, are kept out; rules above let them in first.",
    how="A refusal of named addresses, a set, a country, or of a service between networks stands below rules that surely accept new "
    "connections of its members: what still gets in is a finding, with a packet. A narrower exception above a refusal is how "
    "exceptions are written, and none.",
    fix="Move the refusal above the rules that let its members in, if nobody among them is meant to get in.",
)
def contradicted(subject: Subject) -> Iterator[Answer]:
    if not subject.study.standings:
        yield without_rules(subject.device)
        return
    written = {where for where, _ in subject.study.written}
    hidden = {w for w, reports in subject.study.written if all(r.standing is Standing.SHADOWED for r in reports)}
    looked = 0
    described: set[Span] = set(hidden)
    late: dict[tuple[Span | None, Axis, int], list[tuple[Step, Proof]]] = {}
    for direction in (Direction.TO_DEVICE, Direction.THROUGH_DEVICE):
        for program in subject.programs.all(direction):
            for number, step in enumerate(program.steps):
                rule = step.rule
                if (
                    rule is None
                    or step.kind is not Kind.REFUSE
                    or rule.where not in written
                    or (axis := _refused_by(step, direction)) is None
                ):
                    continue
                looked += 1
                above = _let_in_above(subject, program, number, axis) if rule.where not in described else None
                if above is None:
                    continue
                described.add(rule.where)
                late.setdefault((above.steps[-1].where, axis, program.family), []).append((step, above))
    for (_, axis, _), steps in late.items():
        yield _too_late(axis, [step for step, _ in steps], steps[0][1])
    if not looked:
        yield NotApplicable("no rule refuses named sources, or a service between networks")
    elif not late:
        yield Passed(
            f"none of {counted(looked, 'refusal')} of named sources or services stands below a rule that lets them in"
        )


def _too_late(axis: Axis, steps: list[Step], above: Proof) -> Found:
    """Refusals that come too late behind one rule, with a packet that the first of them misses."""
    last, first = above.steps[-1], steps[0]
    what = (
        "sources"
        if axis is Axis.SRC
        else services_of(above.program.family, [p.box for one in steps for p in one.pieces])
    )
    names = listed((speak(one.chain, one.rule) for one in steps), 4)
    return Found(
        f"{capital(names)} refuse{'s' if len(steps) == 1 else ''} {what} that {speak(last.chain, last.rule)} above has let in already.",
        f"{first.rulebase.name} {rule_subject(first.chain, first.rule)}",
        tuple(dict.fromkeys(where for one in steps for where in lines(one.where))) + lines_of(last),
        (*(refer(one.rulebase, one.chain, one.rule) for one in steps), refer(last.rulebase, last.chain, last.rule)),
        above,
        family=above.program.family,
    )


def _refused_by(step: Step, direction: Direction) -> Axis | None:
    """What a refusal is about: who sends, as it names sources and few compared with all there are; else a service between
    networks, as it names few ports. None where it is about neither."""
    sources = [piece.box[Axis.SRC] for piece in step.pieces]
    if sources and all(one is not None and one.size <= 1 << 28 for one in sources):
        return Axis.SRC
    ports = [piece.box[Axis.B] for piece in step.pieces]
    # To the device itself such a refusal may only keep the usual noise out of the log.
    if (
        direction is Direction.THROUGH_DEVICE
        and ports
        and all(one is not None and one.size <= _FEW_PORTS for one in ports)
    ):
        return Axis.B
    return None


_FEW_PORTS = 1024
"""Ports of a service, and no range of those that clients use."""

_A_NETWORK = 64
"""More sources than these are a network, and not an exception for some hosts."""


def _in_line(one: Step, other: Step) -> bool:
    """Whether two steps stand in one chain, or one in a chain that leads to the other's: zones beside one another do not."""
    mine, theirs = ([step.chain, *(chain for chain, _ in step.via)] for step in (one, other))
    return one.chain in theirs or other.chain in mine


def _of_the_link(region: Box) -> bool:
    """Whether a region holds nothing but how hosts of a link get their addresses (RFC 2131, RFC 8415)."""
    protocol, ports = region[Axis.PROTO], region[Axis.B]
    return protocol == IntervalSet.of(UDP) and ports is not None and ports.issubset(_LEASES)


_LEASES = IntervalSet.of(67, 68, 546, 547)


def _implied(step: Step) -> bool:
    return step.rule is not None and step.rule.implied


def _wider(mine: Box, theirs: Box, axis: Axis) -> bool:
    """Whether a box holds more than another of what a refusal is about: more sources, or every service from a whole network."""
    one, other = mine[axis], theirs[axis]
    if axis is Axis.B:
        source = theirs[Axis.SRC]
        return other is None and (source is None or source.size > _A_NETWORK)
    return other is None or (one is not None and one.issubset(other) and one != other)


def _is_icmp(step: Step) -> bool:
    """Whether all a step is about is ICMP."""
    return all((held := piece.box[Axis.PROTO]) is not None and held.issubset(_ICMP_KINDS) for piece in step.pieces)


_ICMP_KINDS = IntervalSet.of(*ICMP_OF.values())


def _let_in_above(subject: Subject, program: Program, number: int, axis: Axis) -> Proof | None:
    """A new connection of those a refusal is about that a wider rule above surely accepts."""
    step = program.steps[number]
    wider = []
    for at in subject.study.decider(program).overlapping(number):
        other = program.steps[at]
        accepts = other.kind is Kind.ACCEPT or (other.kind is Kind.SKIP and other.settles)
        if not accepts or other.rule is None or other.rule.built_in or not _in_line(other, step):
            continue
        if all(_of_the_link(piece.box) for piece in other.pieces) or (_is_icmp(other) and not _is_icmp(step)):
            continue  # who is kept out may well be answered a ping
        if other.rule.implied and is_for_translated(other.rule):
            continue  # what a program lets through for port forwards lets in no more than they do
        if any(_wider(mine.box, theirs.box, axis) for mine in step.pieces for theirs in other.pieces):
            wider.append(at)
    if not wider:
        return None

    gets_in = lets_in(program)

    def by_wider(ends: Ends) -> bool:
        # What a program refuses by itself among odd packets is not why somebody would be kept out, and a rate keeps nobody out.
        meant = frozenset(end for end in ends if end.accepts or not _implied(program.steps[end.step]))
        accepted = [end for end in meant if end.accepts]
        return (
            bool(accepted)
            and (len(accepted) == len(meant) or gets_in(meant))
            and all(end.step in wider or end.settled in wider for end in accepted)
        )

    ways = overlap(NEW, not_loopback(program.space.symbols)) or NEW
    # What a wider rule accepts it matches: in a long program the first packet looked at mostly shows it. In a short one
    # the most convincing of all is soon found.
    theirs = [piece.box for at in wider for piece in program.steps[at].pieces] if len(program.steps) >= LONG else [ways]
    for new in (common for piece in step.pieces if (common := overlap(piece.box, ways)) is not None):
        for one in theirs:
            proof = subject.study.find(program, overlap(new, one), by_wider, number)
            if proof is not None:
                return proof
    return None


@check(
    id="rules.impossible",
    title="No packet can match a rule",
    severity=Severity.LOW,
    controls=("CM-6",),
    why="A rule that cannot match was meant to do something else.",
    how="The rule's own conditions exclude one another, or nothing leads to its chain. A refusal of whoever is in a set that is empty "
    "today waits for members, and is left out.",
    fix="Correct the conditions, or call its chain; a rule left over from a change can go.",
)
def impossible(subject: Subject) -> Iterator[Answer]:
    yield from _judged(subject, Standing.IMPOSSIBLE, "can match no packet")


_MERGED = (
    "source",
    "destination",
    "service",
    "source port",
    "destination port",
    "protocol",
    "interface in",
    "zone in",
    "zone out",
)


@check(
    id="rules.near-duplicate",
    together="groups of neighbouring rules differ in one field only and could be one rule each",
    title="Rules differ in one field only",
    severity=Severity.INFO,
    controls=("CM-6",),
    why="Rules that belong together drift apart when only one of them is changed.",
    how="Rules of one chain with nothing but one of their kind between them, which do the same and differ in exactly one condition.",
    fix="Make one rule of them, with a group or a list in the field that differs.",
)
def near_duplicate(subject: Subject) -> Iterator[Answer]:
    looked, found = 0, False
    written = {where for where, _ in subject.study.written}
    for rulebase in subject.device.rulebases:
        for chain in rulebase.chains:
            for field, group in _runs(chain):
                if not written.issuperset(r.where for r in group) or len({r.where for r in group}) < len(group):
                    continue
                if not _worth_merging(group):
                    continue
                found = True
                first, last = group[0], group[-1]
                yield Found(
                    f"Rules {', '.join(str(r.number) for r in group)} of chain {chain.name} differ only in {field}.",
                    f"{rulebase.name} {chain.name} {field}: " + "; ".join(canonical(r.match) for r in group),
                    tuple(r.where for r in group),
                    tuple(refer(rulebase, chain, r) for r in (first, last)),
                    name=f"rules {first.number} to {last.number} of chain {chain.name}",
                )
            looked += len(chain.rules)
    if not looked:
        yield without_rules(subject.device)
    elif not found:
        yield Passed(f"no neighbours among {counted(looked, 'rule')} differ in one field only")


def _runs(chain: Chain) -> Iterator[tuple[str, list[Rule]]]:
    """Neighbours that differ in the same single field."""
    run: list[Rule] = []
    field = ""
    for rule in chain.rules:
        if rule.built_in or not rule.enabled:
            continue
        differs = _single_difference(run[-1], rule) if run else ""
        if differs and field in ("", differs):
            run.append(rule)
            field = differs
            continue
        if len(run) > 1:
            yield field, run
        run, field = [rule], ""
    if len(run) > 1:
        yield field, run


def _worth_merging(group: list[Rule]) -> bool:
    """Whether one rule would say the same and be read more easily: none of them has a purpose of its own in its description,
    and they are not the loopback's or ICMP's twins."""
    said = {(rule.name, rule.comment) for rule in group if rule.name or rule.comment}
    fields = {c.field for rule in group for c in rule.match.conditions}
    names = {o.name for r in group for c in r.match.conditions for o in c.operands if isinstance(o, InterfaceName)}
    return len(said) < 2 and Field.ICMP not in fields and LOOPBACK not in names


def _single_difference(one: Rule, other: Rule) -> str:
    """The only field in which two rules differ, empty if they are alike or differ in more."""
    rest = ("action", "target", "qualifiers", "marks", "effects", "schedule", "reply")
    if any(getattr(one, name) != getattr(other, name) for name in rest) or one.action.value not in (
        "accept",
        "drop",
        "reject",
    ):
        return ""
    mine = {c.field.value: c for c in one.match.conditions}
    theirs = {c.field.value: c for c in other.match.conditions}
    if set(mine) != set(theirs) or len(mine) != len(one.match.conditions) or len(theirs) != len(other.match.conditions):
        return ""
    differs = [name for name in mine if mine[name] != theirs[name]]
    if len(differs) != 1 or differs[0] not in _MERGED or mine[differs[0]].negated or theirs[differs[0]].negated:
        return ""
    return differs[0]


CHECKS: tuple[Check, ...] = (shadowed, redundant, contradicted, impossible, near_duplicate)

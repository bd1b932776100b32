"""What `rules` says: a listing for the terminal, and JSON by `schemas/rules.schema.json`."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import groupby
from math import log2

from rich.console import Console
from rich.text import Text

from aiguille.analysis.breadth import Breadth, breadth
from aiguille.analysis.objects import Object, kind_of
from aiguille.analysis.program import Programs
from aiguille.analysis.sharing import share
from aiguille.analysis.standing import Standing, StandingReport
from aiguille.model import (
    AddressObject,
    Condition,
    Device,
    Documentation,
    Field,
    Named,
    NameKind,
    Numbers,
    Operand,
    Rule,
    SetEntry,
    SetObject,
    Span,
    State,
    Translate,
    Tuples,
)
from aiguille.model.identity import Same
from aiguille.model.masking import mask_secrets
from aiguille.model.rules import DestinationType
from aiguille.model.spelling import spell_operand, spell_protocol
from aiguille.reports.data import Data, place_of
from aiguille.reports.layout import hanging, show
from aiguille.reports.styles import LINE_STYLE, PACKET_STYLE
from aiguille.reports.text import counted, to_json, visible

_STYLES = {
    Standing.OFF: "dim",
    Standing.IMPOSSIBLE: "black on orange1",
    Standing.SHADOWED: "white on red3",
    Standing.REDUNDANT: "black on orange1",
    Standing.CONTRADICTED: "black on light_sky_blue1",
    Standing.PARTLY_HIDDEN: "black on light_sky_blue1",
    Standing.LIVE: "black on dark_sea_green2",
}
_NAMES_SHOWN = 6
_SHARED = 1000
"""Rules written at a time; of more than that, by several processes."""

_MARGIN = 7

Line = list[tuple[str, str]]
"""Pieces of text with their style."""


def show_rules(
    console: Console,
    found: Sequence[tuple[Programs, Sequence[StandingReport]]],
    plain: Callable[[str], object],
    *,
    details: bool = False,
) -> None:
    """The listing; `plain` takes the text where nobody looks at colours, since long lists take long to lay out.

    details: with each rule's place, text and a packet that reaches it, instead of a line or two
    """
    # Of many devices those without a rule to show are told in one line.
    bare = [programs.device.name for programs, reports in found if not reports] if len(found) > 1 else []
    last: Line = [("no such rule: ", "dim"), (", ".join(map(visible, bare)), "")]
    listed = [_listing(*one, details) for one in found if one[1] or len(found) == 1]
    for number, described in enumerate([*listed, *([[last]] if bare else [])]):
        for line in [*([[]] if number else []), *described]:
            if console.is_terminal:
                text = [Text(*piece) for piece in line] or [Text()]
                margin = text.pop(0) if len(text[0].plain) == _MARGIN else Text()
                show(console, hanging(margin, Text.assemble(*text), console.width))
            else:
                plain("".join(text for text, _ in line).rstrip() + "\n")


def _listing(programs: Programs, reports: Sequence[StandingReport], details: bool) -> Iterator[Line]:
    device = programs.device
    counts = {standing: sum(r.standing is standing for r in reports) for standing in Standing}
    summary = ", ".join(f"{count} {standing.value}" for standing, count in counts.items() if count)
    yield [(visible(device.name), "bold"), (f"  {counted(len(reports), 'rule')}: {summary or 'none'}", "")]
    describer = Describer(device, programs)
    for _, group in groupby(reports, lambda one: (Same(one.rulebase), Same(one.chain))):
        mine = list(group)
        file = mine[0].rule.where.file if len({one.rule.where.file for one in mine}) == 1 else ""
        names = dict.fromkeys((visible(mine[0].rulebase.name), visible(mine[0].chain.name)))
        yield []
        yield [
            (" ".join(names), "bold"),
            _end_of(mine[0]),
            (f"  {visible(file)}" if file and not details else "", "dim"),
        ]
        for report in mine:
            opened = describer.breadth(report).words
            yield from _rule_lines(device, describer, report, opened, None if details else file)


def _end_of(report: StandingReport) -> tuple[str, str]:
    policy = report.chain.policy
    families = " and ".join(f"IPv{f}" for f in sorted(report.rulebase.families))
    return (f"  {families}" + (f", then {policy.value}" if policy else ""), "dim")


def _rule_lines(
    device: Device, describer: Describer, report: StandingReport, opened: str, file: str | None
) -> Iterator[Line]:
    """file: that the chain's head names, empty where it names none; None for all there is to say."""
    rule = report.rule
    short = file is not None
    place = f":{rule.where.first}" if file else str(rule.where)
    yield [
        (f"{rule.number:>5}  ", ""),
        (f"{place:<5} " if file else "", "dim"),
        (f" {report.standing.value} ", _STYLES[report.standing]),
        (" " * (14 - len(report.standing.value)), ""),
        (f"{visible(action_of(rule))}", "bold"),
        (f"  {visible(describer.rule(rule))}", ""),
    ]
    facts = [
        "" if file else place,
        opened,
        counted(rule.hits.packets, "hit") if rule.hits else "",
        "built in" if rule.built_in else "",
        rule.name or rule.comment,
    ]
    margin = (" " * _MARGIN, "")
    said = " · ".join(filter(None, facts))
    because = "; ".join(filter(None, [_because(report) if report.because else "", report.why]))
    if short:
        if said or because:
            yield [margin, (visible(said), "dim"), (f"{' · ' if said and because else ''}{because}", "")]
        return
    yield [margin, (visible(said), "dim")]
    for line in device.text(rule.where)[:1] if rule.where.first == rule.where.last else ():
        if any(sign.isalnum() for sign in line):  # a rule the make has built in may rest on a bracket
            yield [margin, (visible(line.strip()), LINE_STYLE)]
    if because:
        yield [margin, (because, "")]
    if report.witness is not None and report.standing is not Standing.LIVE:
        yield [margin, ("reached by ", "dim"), (visible(report.witness.sentence()), PACKET_STYLE)]


_BECAUSE = {
    Standing.SHADOWED: "taken above by",
    Standing.REDUNDANT: "the same is done by",
    Standing.CONTRADICTED: "the opposite is done above by",
    Standing.PARTLY_HIDDEN: "in part taken above by",
}


def _because(report: StandingReport) -> str:
    names = []
    for (_, chain, rule), jump in zip(report.because[:_NAMES_SHOWN], report.jumps, strict=False):
        where = chain.policy_where if rule is None else rule.where
        name = f"the policy of {visible(chain.name)}" if rule is None else f"{visible(chain.name)} rule {rule.number}"
        called = (
            f", called by {visible(jump[1].name)} rule {jump[2].number}"
            if jump is not None and jump[2] is not None
            else ""
        )
        names.append(name + (f" ({_place(where, report.rule.where)}{called})" if where else called))
    names = list(dict.fromkeys(names))  # elements of one map share their rule
    more = len(report.because) - _NAMES_SHOWN
    if more > 0:
        names.append(f"{more} more")
    joint = " together" if report.standing is Standing.SHADOWED and len(names) > 1 else ""
    return f"{_BECAUSE.get(report.standing, 'because of')} {', '.join(names)}{joint}"


def _place(where: Span, here: Span) -> str:
    if where.file != here.file:
        return visible(str(where).rsplit("/", 1)[-1])
    return f"line {where.first}" + (f" column {where.column}" if where.column else "")


def action_of(rule: Rule) -> str:
    """What a rule does, in a word or two."""
    if any(isinstance(one, Translate) for one in rule.effects):
        return rule.action_text
    return f"{rule.action.value} {rule.target}" if rule.target else rule.action.value


def rules_data(found: Iterable[tuple[Programs, Sequence[StandingReport]]], jobs: int = 1) -> Iterator[str]:
    """The JSON text, piece by piece. jobs: processes to share long lists among"""
    yield '{"rules": ['
    before = "\n"
    for programs, reports in found:
        for text in share(_Entries(programs, reports).text, range(0, len(reports), _SHARED), jobs):
            yield before + text
            before = ",\n"
    yield "\n]}\n"


class _Entries:
    """The entries of a device's rules in JSON."""

    def __init__(self, programs: Programs, reports: Sequence[StandingReport]) -> None:
        self._device, self._reports = programs.device, reports
        self._describer = Describer(programs.device, programs)

    def text(self, start: int) -> str:
        """Those of a stretch of rules, with commas between them."""
        some = self._reports[start : start + _SHARED]
        return ",\n".join([to_json(rule_data(self._device, self._describer, report)) for report in some])


def rule_data(device: Device, describer: Describer, report: StandingReport) -> Data:
    """One rule; an entry of `schemas/rules.schema.json`."""
    rule, openness = report.rule, report.openness
    wide = describer.breadth(report)
    return {
        "device": device.name,
        "rulebase": report.rulebase.name,
        "chain": report.chain.name,
        "rule": rule.number,
        "file": rule.where.file,
        "line": rule.where.first,
        "last_line": rule.where.last,
        **({"column": rule.where.column} if rule.where.column else {}),
        "text": "\n".join(device.text(rule.where)),
        "name": rule.name,
        "comment": rule.comment,
        "match": describer.rule(rule),
        "action": rule.action.value,
        "target": rule.target,
        "standing": report.standing.value,
        "because": [
            {
                "rulebase": rulebase.name,
                "chain": chain.name,
                "rule": "policy" if other is None else other.number,
                **place_of(chain.policy_where if other is None else other.where),
                "called_by": None
                if jump is None or jump[2] is None
                else {"chain": jump[1].name, "rule": jump[2].number, **place_of(jump[2].where)},
            }
            for (rulebase, chain, other), jump in zip(report.because, report.jumps, strict=True)
        ],
        "shortest": report.shortest,
        "why": report.why or None,
        "witness": None
        if report.witness is None
        else {**report.witness.to_dict(), "sentence": report.witness.sentence()},
        "openness": None if not openness.high else round(log2(openness.high), 4),
        "breadth": wide.words,
        "width": wide.width,
        "openness_at_least": None if not openness.low else round(log2(openness.low), 4),
        "qualifiers": [{"name": q.name, "text": mask_secrets(q.text)} for q in rule.qualifiers],
        "hits": rule.hits.packets if rule.hits else None,
        "last_hit": rule.last_hit or None,
        "built_in": rule.built_in,
        "documentation": {
            name: described
            for name in Documentation.__struct_fields__
            if (described := getattr(rule.documentation, name))
        },
    }


class Describer:
    """Puts what rules match into words; names with what they stand for. Conditions that rules share are spelt once."""

    def __init__(self, device: Device, programs: Programs | None = None) -> None:
        """programs: the device's, where they are made already"""
        self._device = device
        self._programs = programs
        # By identity, as equal conditions are shared anyhow and hashing them takes longer than spelling; the condition is
        # kept beside its words so that its identity stays its own.
        self._known: dict[int, tuple[Condition, str]] = {}

    def breadth(self, report: StandingReport) -> Breadth:
        """How wide an accepting rule is; see `aiguille.analysis.breadth`."""
        if self._programs is None:
            self._programs = Programs(self._device)
        return breadth(self._programs, report.rulebase, report.chain, report.rule)

    def rule(self, rule: Rule) -> str:
        words = [self._condition(condition) for condition in rule.match.conditions]
        words += [f"mark {'not ' if t.negated else ''}{t.value:#x}/{t.mask:#x}" for t in rule.marks]
        words += [f"({qualifier.name})" for qualifier in rule.qualifiers]
        return ", ".join(words) or "everything"

    def _condition(self, condition: Condition) -> str:
        found = self._known.get(id(condition))
        if found is None:
            found = self._known[id(condition)] = (condition, _condition(self._device, condition))
        return found[1]


def _condition(device: Device, condition: Condition) -> str:
    shown = [_operand(device, condition.field, operand) for operand in condition.operands[:_NAMES_SHOWN]]
    if len(condition.operands) > _NAMES_SHOWN:
        shown.append(f"{len(condition.operands) - _NAMES_SHOWN} more")
    if condition.field is Field.TRANSLATED:
        return f"destination {'not ' if condition.negated else ''}translated"
    field = "" if condition.field is Field.SET else f"{condition.field.value} "
    return f"{field}{'not ' if condition.negated else ''}{' or '.join(shown) or 'none'}"


def _operand(device: Device, field: Field, operand: Operand) -> str:
    match operand:
        case Numbers(first, last) if field is Field.STATE:
            return "/".join(tuple(State)[n].value for n in range(first, last + 1))
        case Numbers(first, last) if field in (Field.DESTINATION_TYPE, Field.SOURCE_TYPE):
            return "/".join(tuple(DestinationType)[n].value for n in range(first, last + 1))
        case Numbers(first, last) if field is Field.PROTOCOL:
            return "any" if (first, last) == (0, 255) else spell_protocol(first)
        case Numbers(first, _) if field is Field.FAMILY:
            return f"IPv{first}" if first else "none"
        case Tuples(roles, entries):
            return f"({' . '.join(roles)}) in {_entries(device, roles, entries)}"
        case Named(NameKind.SET, name, roles):
            return f"({' . '.join(roles)}) in {name}{_content(device, name, roles)}"
        case Named(kind, name):
            inside = _members(device, kind, name)
            return f"{name} = {inside}" if inside else name
        case _:
            return spell_operand(operand)


def _content(device: Device, name: str, roles: tuple[str, ...]) -> str:
    """What a set holds, in a few words."""
    one = next((one for one in device.sets if one.name == name), None)
    if one is None:
        return ", which nothing defines"
    return f" = {_entries(device, roles, one.entries)}" if one.complete else ", whose content changes or is not known"


def _entries(device: Device, roles: tuple[str, ...], entries: tuple[SetEntry, ...]) -> str:
    fields = [Field(role) if role not in ("src", "dst") else Field.SET for role in roles]
    shown = []
    for entry in entries[:_NAMES_SHOWN]:
        parts = [
            _operand(device, fields[min(at, len(fields) - 1)], value) if not isinstance(value, Named) else value.name
            for at, value in enumerate(entry.values)
        ]
        shown.append(("not " if entry.excluded else "") + " . ".join(parts))
    if len(entries) > _NAMES_SHOWN:
        shown.append(f"{len(entries) - _NAMES_SHOWN} more")
    return " or ".join(shown) or "nothing"


def object_members(device: Device, one: Object) -> str:
    """What an object stands for, groups opened."""
    if isinstance(one, SetObject):
        held = [" . ".join(spell_operand(v) for v in e.values) for e in one.entries[:_NAMES_SHOWN]]
        more = [f"{len(one.entries) - _NAMES_SHOWN} more"] if len(one.entries) > _NAMES_SHOWN else []
        rest = [] if one.complete else ["what comes and goes or is not known"]
        return " or ".join([*held, *more, *rest]) or "nothing"
    return _members(device, kind_of(one), one.name) or "nothing"


def _members(device: Device, kind: NameKind, name: str, depth: int = 0) -> str:
    """What a name stands for, groups opened; empty if nothing defines it."""
    if kind is NameKind.ZONE:
        zone = device.zone(name)
        return " or ".join(zone.interfaces) if zone else ""
    objects = device.addresses if kind is NameKind.ADDRESS else device.services if kind is NameKind.SERVICE else ()
    found = next((one for one in objects if one.name == name), None)
    if found is None or depth > 8:
        return ""
    parts = [
        _members(device, m.kind, m.name, depth + 1) or m.name if isinstance(m, Named) else spell_operand(m)
        for m in found.members[:_NAMES_SHOWN]
    ]
    if len(found.members) > _NAMES_SHOWN:
        parts.append(f"{len(found.members) - _NAMES_SHOWN} more")
    if not isinstance(found, AddressObject):
        return " or ".join(parts)
    text = " or ".join([*parts, *found.unresolved])
    if not found.excluded:
        return text
    text += " except " + " or ".join(m.name if isinstance(m, Named) else spell_operand(m) for m in found.excluded)
    return f"({text})" if depth else text

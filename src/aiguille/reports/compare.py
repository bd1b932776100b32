"""What `compare` says: a view for the terminal, and JSON by `schemas/compare.schema.json`."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from aiguille.analysis.compare import Change
from aiguille.analysis.edits import Edit, RuleEdit, ThingEdit
from aiguille.analysis.program import Step
from aiguille.analysis.traffic import Traffic
from aiguille.baseline import Finding
from aiguille.baseline.catalogue import speak
from aiguille.baseline.comparing import Comparison, Pair
from aiguille.model import Device, Rule
from aiguille.model.spelling import spell_spans
from aiguille.reports.data import Data, finding_data, place_of
from aiguille.reports.rules import Describer
from aiguille.reports.styles import LINE_STYLE, PACKET_STYLE, severity_badge
from aiguille.reports.text import counted, visible

_ROWS = 20
"""Rows of traffic, and edits, shown of each device; JSON has all."""

_TEXT = 160
"""Signs of a value that are shown."""


def compare_data(found: Comparison) -> Data:
    """A comparison; `schemas/compare.schema.json`."""
    return {
        "pairs": [_pair_data(pair) for pair in found.pairs],
        "only_before": list(found.only_before),
        "only_after": list(found.only_after),
        "findings": {
            "new": [finding_data(one) for one in found.new],
            "mended": [finding_data(one) for one in found.mended],
            "due": [finding_data(one) for one in found.due],
            "unchanged": found.unchanged,
        },
        "opened": found.opened,
    }


def _pair_data(pair: Pair) -> Data:
    return {
        "device": pair.after.name,
        "against": pair.against,
        "entangled": pair.changes is None,
        "opens": [_change_data(one) for one in pair.opened],
        "closes": [_change_data(one) for one in pair.closed],
        "not_compared": [
            {"family": family, "direction": direction.value, "rules_only": "after" if after else "before"}
            for family, direction, after in pair.silent
        ],
        "rules": [
            {
                "edit": one.edit.value,
                "rulebase": one.rulebase,
                "chain": one.chain,
                "before": _rule_data(pair.before, one.before),
                "after": _rule_data(pair.after, one.after),
            }
            for one in pair.rules
        ],
        "things": [
            {
                "edit": one.edit.value,
                "kind": one.kind,
                "name": one.name,
                "before": one.before,
                "after": one.after,
                "where": [place_of(where) for where in one.where],
            }
            for one in pair.things
        ],
        "administrators": [
            {
                "administrator": one.administrator,
                "service": one.service,
                "before": one.before,
                "after": one.after,
                "running_before": one.running_before,
                "running_after": one.running_after,
                "lost": one.lost,
                "after_each": [{"change": change, "new_session": verdict} for change, verdict in one.between],
            }
            for one in pair.access
        ],
    }


def _rule_data(device: Device, rule: Rule | None) -> Data | None:
    if rule is None:
        return None
    return {"rule": rule.number or None, **place_of(rule.where), "text": list(device.text(rule.where))}


def traffic_data(traffic: Traffic) -> Data:
    """New connections that are treated alike."""
    return {
        "family": traffic.family,
        "direction": traffic.direction.value,
        "in": list(traffic.enters),
        "out": list(traffic.leaves),
        "sources": spell_spans(traffic.family, traffic.sources.spans),
        "destinations": spell_spans(traffic.family, traffic.destinations.spans),
        "services": traffic.service_words(0),
        "packet": traffic.packet.to_dict(),
        "words": traffic.words(),
    }


def _change_data(one: Change) -> Data:
    before, after = one.deciders
    return {
        **traffic_data(one.traffic),
        "before": _verdict(one.before),
        "after": _verdict(one.after),
        "certain": one.certain,
        "likely": one.likely,
        "decided_before": [step_data(step) for step in before],
        "decided_after": [step_data(step) for step in after],
    }


def step_data(step: Step) -> Data:
    """A rule or default that decides."""
    return {
        "rulebase": step.rulebase.name,
        "chain": str(step.chain.name),
        "rule": step.rule.number if step.rule is not None else None,
        "action": step.action.value,
        **(place_of(step.where) if step.where is not None else {"file": None, "line": None}),
    }


def _verdict(ends: frozenset[bool]) -> str:
    if len(ends) > 1:
        return "perhaps"
    return "accepted" if True in ends else "refused"


def show_compare(console: Console, found: Comparison) -> None:
    """Device by device: what opens and closes, what was rewritten; then the findings."""
    same = [pair.after.name for pair in found.pairs if _is_same(pair)]
    for pair in found.pairs:
        if pair.after.name in same and len(same) > 1:
            continue
        against = f" against {visible(pair.against)}" if pair.against else ""
        console.print(Text.assemble((visible(pair.after.name), "bold"), f"{against}  {_summary(pair)}"))
        for line in _pair_lines(pair):
            console.print(Padding(line, (0, 0, 0, 2)))
    if len(same) > 1:
        alike = "as they were" if not any(pair.against for pair in found.pairs) else "alike"
        console.print(Text(f"{len(same)} devices are {alike}: {', '.join(map(visible, same))}", "dim"))
    for names, side in ((found.only_before, "before"), (found.only_after, "after")):
        if names:
            word = f"Only {side}" if not any(pair.against for pair in found.pairs) else "Of another make"
            console.print(Text(f"{word}: {', '.join(map(visible, names))}"))
    if found.unchanged is None:
        return
    console.print()
    console.print(
        f"Findings: {len(found.new)} new, {len(found.mended)} mended, {len(found.due)} due since only time has passed, "
        f"{found.unchanged} unchanged."
    )
    for word, some in (("new", found.new), ("due", found.due), ("mended", found.mended)):
        for one in some[:_ROWS]:
            console.print(_finding(word, one))
        if len(some) > _ROWS:
            console.print(Text(f"  and {len(some) - _ROWS} more {word}", "dim"))


def _is_same(pair: Pair) -> bool:
    """Whether there is nothing to tell of a device."""
    return pair.changes == () and not (pair.rules or pair.things or pair.silent or any(one.lost for one in pair.access))


def _summary(pair: Pair) -> str:
    if pair.changes is None:
        return "too entangled to say what opens or closes; --effort 20 works longer"
    if not pair.changes:
        return "lets the same through"
    opened, closed = (sum(one.likely for one in some) or len(some) for some in (pair.opened, pair.closed))
    if pair.against:
        return f"{counted(opened, 'row')} open here alone, {closed} there alone"
    return f"{counted(opened, 'row')} newly open, {closed} newly closed"


def _pair_lines(pair: Pair) -> Iterator[Text | Table]:
    for one in (one for one in pair.access if one.lost):
        running = _RUNNING[one.running_after]
        gets_in = f" {one.administrator} reaches {visible(one.service)} before and {_after(one.after)} after"
        yield Text.assemble((" LOCKED OUT ", "white on red3"), f"{gets_in}; a session that runs {running}")
    for one in (one for one in pair.access if one.interrupted):
        said = f" {one.administrator} no longer surely reaches {visible(one.service)} after '{visible(one.interrupted)}' alone"
        yield Text.assemble((" LOCKED OUT ON THE WAY ", "white on red3"), said)
    kept = [one for one in pair.access if not one.lost and not one.interrupted]
    for who in dict.fromkeys(one.administrator for one in kept):
        names = ", ".join(visible(one.service) for one in kept if one.administrator == who)
        yield Text(f"{who} still reaches {names}", "dim")
    for word, style, some in (
        ("opens", "white on red3", pair.opened),
        ("closes", "black on dark_sea_green2", pair.closed),
    ):
        likely = [one for one in some if one.likely] or list(some)
        for one_change in likely[:_ROWS]:
            yield _change(word, style, one_change, pair.against)
        if len(likely) > _ROWS:
            yield Text(f"and {len(likely) - _ROWS} more that {word[:-1]}; --json has all", "dim")
        if forged := len(some) - len(likely):
            does = word if forged == 1 else word[:-1]
            why = "for sources that do not live where they come in; --json has all"
            yield Text(f"and {counted(forged, 'row')} that {does} {why}", "dim")
    for family, direction, after in pair.silent:
        side = "after" if after else "before"
        yield Text(f"IPv{family} {direction.value}: there are rules {side} only, so nothing is said of it", "dim")
    yield from _edits(pair)


_RUNNING = {"yes": "goes on", "no": "ends", "perhaps": "may end"}


def _after(verdict: str) -> str:
    return "perhaps no longer" if verdict == "perhaps" else "no longer"


def _change(word: str, style: str, one: Change, against: str) -> Table:
    badge = f" {word if one.certain else 'may ' + word[:-1]} "
    before, after = (_by(steps) for steps in one.deciders)
    rows = _grid()
    rows.add_row(
        Text(badge, style), Text.assemble(visible(one.traffic.words()), (f"  {one.traffic.direction.value}", "dim"))
    )
    first, second = ("there", "here") if against else ("before", "after")
    decided = f"{first} {_verdict(one.before)} by {before}; {second} {_verdict(one.after)} by {after}"
    rows.add_row("", Text(decided, LINE_STYLE))
    rows.add_row("", Text(one.traffic.packet.sentence(), PACKET_STYLE))
    return rows


def _grid() -> Table:
    """Two columns: a word, and what is said of it, whose further lines stay clear of the word."""
    rows = Table.grid(padding=(0, 1, 0, 0))
    rows.add_column(min_width=8, no_wrap=True)
    rows.add_column(overflow="fold")
    return rows


def _by(steps: Sequence[Step]) -> str:
    said = [
        f"{speak(step.chain, step.rule)} ({step.where})" if step.where else speak(step.chain, step.rule)
        for step in steps
    ]
    return visible(" or ".join(said[:2])) + (f" or {len(said) - 2} more" if len(said) > 2 else "")


def _edits(pair: Pair) -> Iterator[Text | Table]:
    if pair.rules:
        counts = [f"{n} {edit.value}" for edit in Edit if (n := sum(one.edit is edit for one in pair.rules))]
        yield Text(f"Rules: {', '.join(counts)}")
    rows = Table(box=None, show_header=False, padding=(0, 2, 0, 0), pad_edge=False)
    for one in pair.rules[:_ROWS]:
        rows.add_row(one.edit.value, Text(_places(one)), Text(_texts(pair, one), "dim", overflow="fold"))
    for thing in pair.things[:_ROWS]:
        name = visible(f"{thing.kind} {thing.name}")
        rows.add_row(thing.edit.value, Text(name), Text(visible(_values(thing)), "dim", overflow="fold"))
    if rows.row_count:
        yield rows
    for noun, edits in (("rule", pair.rules), ("other edit", pair.things)):
        if len(edits) > _ROWS:
            yield Text(f"and {counted(len(edits) - _ROWS, 'more ' + noun)}; --json has all", "dim")


def _places(one: RuleEdit) -> str:
    places = [str(rule.where).rpartition("/")[2] for rule in (one.before, one.after) if rule is not None]
    return visible(f"{one.chain} {' -> '.join(dict.fromkeys(places))}")


def _texts(pair: Pair, one: RuleEdit) -> str:
    sides = ((pair.before, one.before), (pair.after, one.after))
    texts = [_text(device, rule) for device, rule in sides if rule is not None]
    return visible(" -> ".join(dict.fromkeys(texts)))


def _text(device: Device, rule: Rule) -> str:
    if rule.name == "default" and not rule.number:
        return f"default {rule.action.value}"
    lines = device.text(rule.where)
    if not lines:
        return f"{rule.action.value} {Describer(device).rule(rule)}"
    return " ".join(line.strip() for line in lines)[:_TEXT]


def _values(thing: ThingEdit) -> str:
    if thing.edit is Edit.CHANGED:
        return f"{thing.before[:_TEXT]} -> {thing.after[:_TEXT]}"
    return (thing.before or thing.after)[:_TEXT]


def _finding(word: str, one: Finding) -> Table:
    where = f"  {one.evidence[0].where}" if one.evidence else ""
    rows = _grid()
    said = Text.assemble(severity_badge(one.severity), f" {visible(one.detail)}", (visible(where), LINE_STYLE))
    rows.add_row(f"  {word}", said)
    return rows

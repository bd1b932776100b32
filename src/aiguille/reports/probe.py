"""What `probe` says: the walk of a packet for the terminal, and JSON by `schemas/probe.schema.json`."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from aiguille.analysis import Answer, Decision, Verdict, Visit, Way
from aiguille.model import Action, Device, Log, SetMark, Span, Translate
from aiguille.model.guarding import guarded
from aiguille.model.spelling import spell_address
from aiguille.reports.data import Data, place_of
from aiguille.reports.terminal import LINE_STYLE, PACKET_STYLE
from aiguille.reports.text import counted, to_json, visible
from aiguille.space import Fault

_VERDICT_STYLES = {"accept": "black on dark_sea_green2", "drop": "white on red3", "reject": "black on orange1"}


def show_answer(console: Console, device: Device, answer: Answer, before: Answer | None = None) -> None:
    """The verdict on top, then the walk. With `before`, both verdicts are compared first."""
    if before is not None:
        was, now = _verdicts(before), _verdicts(answer)
        changed = "nothing changes" if was == now else "the verdict changes"
        console.print(
            Text.assemble(("before ", "dim"), was, ("  without the rules named ", "dim"), now, f"  ({changed})")
        )
        console.print()
    for number, verdict in enumerate(answer.verdicts):
        if number:
            console.print()
        if len(answer.verdicts) > 1:
            console.print(Text(f"possible verdict {number + 1} of {len(answer.verdicts)}, by example", "bold"))
        _verdict(console, device, verdict)


def _verdicts(answer: Answer) -> Text:
    names = dict.fromkeys(way.verdict.value for verdict in answer.verdicts for way in verdict.ways)
    return Text(" or ").join([_badge(name) for name in names])


def _badge(verdict: str) -> Text:
    return Text(f" {verdict.upper()} ", _VERDICT_STYLES.get(verdict, ""))


def _verdict(console: Console, device: Device, verdict: Verdict) -> None:
    console.print(Text.assemble((visible(verdict.packet.sentence()), PACKET_STYLE)))
    names = dict.fromkeys(way.verdict.value for way in verdict.ways)
    head = Text(" or ").join([_badge(name) for name in names])
    if verdict.certain:
        head.append("  certain")
    else:
        head.append("  not certain: a condition stands in the way that a packet does not settle")
    console.print(head)
    for number, way in enumerate(verdict.ways):
        if len(verdict.ways) > 1:
            console.print()
            console.print(Text.assemble(f"way {number + 1}: ", _badge(way.verdict.value)))
        console.print(_decided(device, way.decided_by))
        _walk(console, device, way)


def _decided(device: Device, visit: Visit) -> Text:
    where = _where(visit)
    name = "policy" if visit.rule is None else f"rule {visit.rule.number}"
    out = Text.assemble(("decided by ", "dim"), f"{visible(visit.rulebase.name)} {visible(visit.chain.name)} {name}")
    if where is not None:
        out.append("  ")
        out.append(visible(str(where)), "underline")
    else:
        out.append(", built into the make")
    return out


def _walk(console: Console, device: Device, way: Way) -> None:
    place: tuple[int, int] | None = None
    for visit in way.visits:
        here = (id(visit.rulebase), id(visit.chain))
        indent = 2 + 2 * visit.depth
        if here != place:
            console.print(Padding(_chain_line(visit), (0, 0, 0, indent)))
            place = here
        console.print(Padding(_visit_line(device, visit), (0, 0, 0, indent + 2)))


def _chain_line(visit: Visit) -> Text:
    return Text(f"{visible(visit.rulebase.name)} {visible(visit.chain.name)}", "bold")


def _visit_line(device: Device, visit: Visit) -> Text:
    out = Text()
    if visit.tried:
        verb = "does" if visit.tried == 1 else "do"
        out.append(f"{counted(visit.tried, 'rule')} before {verb} not match\n", "dim")
    if visit.rule is None:
        hits = f", {visit.chain.hits.packets} packets so far" if visit.chain.hits else ""
        return out.append(f"end of the chain: policy {visit.action.value}{hits}")
    rule = visit.rule
    doubt = (
        ""
        if visit.matched
        else " may match, here taken as if it did"
        if visit.taken
        else " may match, here taken as if not"
    )
    hits = f", {rule.hits.packets} packets so far" if rule.hits else ""
    out.append(f"rule {rule.number}: {_does(visit)}{doubt}{hits}")
    for qualifier in rule.qualifiers if not visit.matched else ():
        out.append(f"\nopen: {qualifier.name} ({visible(guarded(qualifier.text))})", "dim")
    for line in device.text(rule.where)[:1]:
        out.append("\n")
        out.append(f"{visible(str(rule.where))} ", "dim")
        out.append(visible(line.strip()), LINE_STYLE)
    return out


def _does(visit: Visit) -> str:
    rule = visit.rule
    if rule is None:
        return visit.action.value
    words = [f"{visit.action.value} {visible(rule.target)}" if rule.target else visit.action.value]
    for effect in rule.effects:
        match effect:
            case Translate(kind, addresses, ports):
                to = spell_address(addresses.family, addresses.first) if addresses else ""
                port = f" port {ports.first}" if ports else ""
                words.append(f"translate {kind.value} {to}{port}".rstrip())
            case SetMark(value, _):
                words.append(f"mark {value:#x}")
            case Log():
                words.append("record")
    return ", ".join(words)


def probe_data(
    device: Device, ids: Sequence[str], answers: Sequence[Answer | Decision], faults: Iterable[Fault]
) -> Iterator[str]:
    """The JSON text, piece by piece: tables of packets may be long."""
    yield '{"packets": ['
    texts: dict[tuple[int, int], str] = {}
    for number, (name, one) in enumerate(zip(ids, answers, strict=True)):
        start = ",\n" if number else "\n"
        if isinstance(one, Answer):
            yield start + to_json({"id": name, **answer_data(device, one)})
            continue
        key = (id(one[0]), one[1])
        text = texts.get(key)
        if text is None:
            text = texts[key] = to_json(_decision_data(device, one))[1:]
        yield f'{start}{{"id": {to_json(name)}, {text}'
    failed = [{"line": f.line, "id": f.id, "why": f.why} for f in faults]
    yield f'\n], "faults": {to_json(failed)}}}\n'


def answer_data(device: Device, answer: Answer) -> Data:
    """One packet's answer; ``possible`` lists every way where there are several."""
    first = answer.verdicts[0]
    out: Data = {
        "verdict": first.verdict.value,
        "certain": answer.certain,
        "decided_by": _place_data(device, first.decided_by),
        "walk": [_visit_data(device, visit) for visit in first.ways[0].visits],
    }
    ways = [(verdict, way) for verdict in answer.verdicts for way in verdict.ways]
    if len(ways) > 1:
        out["possible"] = [
            {
                "verdict": way.verdict.value,
                "decided_by": _place_data(device, way.decided_by),
                "packet": {**verdict.packet.to_dict(), "sentence": verdict.packet.sentence()},
            }
            for verdict, way in ways
        ]
    return out


def _decision_data(device: Device, decision: Decision) -> Data:
    program, number = decision
    step = program.steps[number]
    verdict = step.chain.policy if step.rule is None else step.rule.action
    visit = Visit(step.rulebase, step.chain, step.rule, verdict or Action.ACCEPT)
    return {
        "verdict": visit.action.value,
        "certain": True,
        "decided_by": _place_data(device, visit),
        "walk": [_visit_data(device, visit)],
    }


def _place_data(device: Device, visit: Visit) -> Data:
    where = _where(visit)
    return {
        "device": device.name,
        "rulebase": visit.rulebase.name,
        "chain": visit.chain.name,
        "rule": "policy" if visit.rule is None else visit.rule.number,
        **place_of(where),
        **({"column": where.column} if where and where.column else {}),
        "text": "\n".join(device.text(where)) if where else None,
    }


def _visit_data(device: Device, visit: Visit) -> Data:
    where = _where(visit)
    return {
        "rulebase": visit.rulebase.name,
        "chain": visit.chain.name,
        "rule": "policy" if visit.rule is None else visit.rule.number,
        **place_of(where),
        "action": visit.action.value,
        "matched": "yes" if visit.matched else "may",
        "taken": visit.taken,
    }


def _where(visit: Visit) -> Span | None:
    return visit.chain.policy_where if visit.rule is None else visit.rule.where


def show_table(console: Console, ids: Sequence[str], answers: Sequence[Answer | Decision]) -> None:
    """A line a packet: id, verdict, what decides."""
    width = max((len(visible(name)) for name in ids), default=2)
    for name, one in zip(ids, answers, strict=True):
        line = Text(f"{visible(name):<{width}}  ")
        if isinstance(one, Answer):
            first = one.verdicts[0]
            visit, certain = first.decided_by, one.certain
        else:
            step = one[0].steps[one[1]]
            verdict = step.chain.policy if step.rule is None else step.rule.action
            visit, certain = Visit(step.rulebase, step.chain, step.rule, verdict or Action.ACCEPT), True
        rule = "policy" if visit.rule is None else f"rule {visit.rule.number}"
        verdict_text = (first.verdict if isinstance(one, Answer) else visit.action).value
        line.append(f"{verdict_text:<7}")
        line.append("  " if certain else " ?")
        line.append(f"  {visible(visit.rulebase.name)} {visible(visit.chain.name)} {rule}")
        where = _where(visit)
        if where is not None:
            line.append(f"  {visible(str(where))}", "dim")
        console.print(line, soft_wrap=True)

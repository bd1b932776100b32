"""The walk of a packet for the terminal."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from aiguille.analysis.walk.answers import Answer
from aiguille.analysis.walk.probe import Verdict, Visit, Way
from aiguille.model import Device, HandOver, Log, SetMark, Stage, Translate
from aiguille.model.identity import Same
from aiguille.model.masking import mask_secrets
from aiguille.model.spelling import spell_address
from aiguille.reports.styles import LINE_STYLE, PACKET_STYLE
from aiguille.reports.text import counted, visible
from aiguille.reports.visits import where_of

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


def show_answers(console: Console, device: Device, described: Sequence[str], answers: Sequence[Answer]) -> None:
    """What becomes of each of the packets that one told by names stands for: all in a line, then each with its verdicts."""
    names = list(dict.fromkeys(_verdicts(one).plain for one in answers))
    if len(names) == 1:
        console.print(Text.assemble(f"all {len(described)} ways: ", _verdicts(answers[0])))
    else:
        console.print(Text(f"{len(described)} ways, which differ"))
    for sentence, one in zip(described, answers, strict=True):
        console.print()
        console.print(Text.assemble((visible(sentence), "bold"), "  ", _verdicts(one)))
        for verdict in one.verdicts:
            console.print(Text.assemble("  ", (visible(verdict.packet.sentence()), PACKET_STYLE)))
            for way in verdict.ways:
                doubt = "" if verdict.certain else "  not certain"
                console.print(
                    Text.assemble("  ", _badge(way.verdict.value), "  ", _decided(device, way.decided_by), doubt)
                )


def _verdicts(answer: Answer) -> Text:
    names = dict.fromkeys(way.verdict.value for verdict in answer.verdicts for way in verdict.ways)
    return Text(" or ").join([_badge(name) for name in names])


def _badge(verdict: str) -> Text:
    return Text(f" {verdict.upper()} ", _VERDICT_STYLES.get(verdict, ""))


def _why_open(verdict: Verdict) -> str:
    """Why there are several ways, in words."""
    stages = {stage for way in verdict.ways if (stage := _filtered(way)) is not None}
    told = all(visit.matched for way in verdict.ways for visit in way.visits)
    if told and {Stage.INPUT, Stage.FORWARD} <= stages:
        return "the export does not show whether it then goes to the device itself or through it; say it with 'leaving INTERFACE'"
    return "a condition stands in the way that a packet does not settle"


def _filtered(way: Way) -> Stage | None:
    """Where a way was decided: coming to the device, or going through it."""
    bases = [visit.chain.base for visit in way.visits if visit.chain.base is not None]
    return next((base.stage for base in reversed(bases) if base.stage in (Stage.INPUT, Stage.FORWARD)), None)


def _verdict(console: Console, device: Device, verdict: Verdict) -> None:
    console.print(Text.assemble((visible(verdict.packet.sentence()), PACKET_STYLE)))
    names = dict.fromkeys(way.verdict.value for way in verdict.ways)
    head = Text(" or ").join([_badge(name) for name in names])
    if verdict.certain:
        head.append("  certain")
    else:
        head.append(f"  not certain: {_why_open(verdict)}")
    console.print(head)
    for number, way in enumerate(verdict.ways):
        if len(verdict.ways) > 1:
            console.print()
            console.print(Text.assemble(f"way {number + 1}: ", _badge(way.verdict.value)))
        console.print(_decided(device, way.decided_by))
        _walk(console, device, way)


def _decided(device: Device, visit: Visit) -> Text:
    where = where_of(visit)
    name = "policy" if visit.rule is None else f"rule {visit.rule.number}"
    out = Text.assemble(("decided by ", "dim"), f"{visible(visit.rulebase.name)} {visible(visit.chain.name)} {name}")
    if where is not None:
        out.append("  ")
        out.append(visible(str(where)), "underline")
    else:
        out.append(", built into the make")
    return out


def _walk(console: Console, device: Device, way: Way) -> None:
    place: tuple[Same, Same] | None = None
    for visit in way.visits:
        here = (Same(visit.rulebase), Same(visit.chain))
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
        out.append(f"\nopen: {qualifier.name} ({visible(mask_secrets(qualifier.text))})", "dim")
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
            case HandOver(bypass):
                words.append("ask a program, accept while none runs" if bypass else "ask a program")
    return ", ".join(words)

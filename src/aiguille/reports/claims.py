"""What `claims` says: for the terminal, as JSON by `schemas/claims.schema.json`, and as JUnit XML for pipelines."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from aiguille.analysis.claims import Answer, Holds
from aiguille.baseline.catalogue import speak
from aiguille.baseline.claims import Judged
from aiguille.reports.compare import step_data
from aiguille.reports.data import Data
from aiguille.reports.endtoend import row_data, rows_table
from aiguille.reports.styles import LINE_STYLE, PACKET_STYLE
from aiguille.reports.text import visible

_STYLES = {
    Holds.PROVED: "black on dark_sea_green2",
    Holds.REFUTED: "white on red3",
    Holds.CANNOT_TELL: "black on light_sky_blue1",
}


def claims_data(found: Sequence[Judged]) -> Data:
    """Every claim with its answers; `schemas/claims.schema.json`."""
    return {
        "claims": [
            {
                "claim": one.stated.claim.text,
                "title": one.stated.entry.title,
                "reason": one.stated.entry.reason,
                "owner": one.stated.entry.owner,
                "severity": one.stated.entry.severity.value,
                "file": one.stated.file,
                "line": one.stated.line,
                "holds": one.holds.value,
                "devices": [
                    {
                        "device": answer.device,
                        "holds": answer.holds.value,
                        "why": answer.why,
                        "packet": answer.proof.packet.to_dict() if answer.proof is not None else None,
                        "sentence": answer.proof.packet.sentence() if answer.proof is not None else None,
                        "decided_by": [step_data(step) for step in answer.proof.steps]
                        if answer.proof is not None
                        else [],
                        "end_to_end": row_data(answer.row) if answer.row is not None else None,
                    }
                    for answer in one.answers
                ],
            }
            for one in found
        ],
        "summary": {holds.value: sum(one.holds is holds for one in found) for holds in Holds},
    }


def show_claims(console: Console, found: Sequence[Judged]) -> None:
    """Refuted ones first, each with the packet that refutes it and the line that lets it do so."""
    counts = {holds: sum(one.holds is holds for one in found) for holds in Holds}
    console.print(Text(", ".join(f"{count} {holds.value}" for holds, count in counts.items()), "bold"))
    order = (Holds.REFUTED, Holds.CANNOT_TELL, Holds.PROVED)
    for one in sorted(found, key=lambda judged: order.index(judged.holds)):
        entry = one.stated.entry
        console.print()
        title = f"  {visible(entry.title)}" if entry.title else ""
        console.print(
            Text.assemble(
                (f" {one.holds.value} ", _STYLES[one.holds]), f" {visible(one.stated.claim.text)}", (title, "italic")
            )
        )
        notes = [
            entry.severity.value,
            f"owner {entry.owner}" if entry.owner else "",
            f"{one.stated.file}:{one.stated.line}",
        ]
        console.print(Padding(Text(visible(", ".join(filter(None, notes))), "dim"), (0, 0, 0, 2)))
        if entry.reason:
            console.print(Padding(Text(visible(entry.reason)), (0, 0, 0, 2)))
        for answer in one.answers:
            if answer.holds is one.holds and answer.holds is not Holds.PROVED:
                _answer(console, answer)
        proved = [answer.device for answer in one.answers if answer.holds is Holds.PROVED]
        if proved:
            console.print(Padding(Text(f"holds on {visible(', '.join(proved))}", "dim"), (0, 0, 0, 2)))


def _answer(console: Console, answer: Answer) -> None:
    line = Text.assemble((visible(answer.device), "bold"), f": {visible(answer.why)}" if answer.why else "")
    console.print(Padding(line, (0, 0, 0, 2)))
    if answer.row is not None:
        console.print(Padding(rows_table([answer.row]), (0, 0, 0, 4)))
    if answer.proof is None:
        return
    console.print(Padding(Text(answer.proof.packet.sentence(), PACKET_STYLE), (0, 0, 0, 4)))
    by = [f"{speak(step.chain, step.rule)} ({step.where})" for step in answer.proof.steps[-2:]]
    console.print(Padding(Text(visible(f"by {' or '.join(by)}"), LINE_STYLE), (0, 0, 0, 4)))


def _because(answer: Answer) -> str:
    if answer.proof is not None:
        return answer.proof.packet.sentence()
    return answer.row.traffic.words() if answer.row is not None else answer.why


def claims_junit(found: Sequence[Judged]) -> str:
    """One test case a claim; what is refuted fails, what cannot be determined is skipped."""
    from lxml import etree

    suite = etree.Element(
        "testsuite",
        name="aiguille claims",
        tests=str(len(found)),
        failures=str(sum(one.holds is Holds.REFUTED for one in found)),
        skipped=str(sum(one.holds is Holds.CANNOT_TELL for one in found)),
    )
    for one in found:
        case = etree.SubElement(suite, "testcase", name=visible(one.stated.claim.text), classname="claims")
        said = "; ".join(f"{answer.device}: {_because(answer)}" for answer in one.answers if answer.holds is one.holds)
        if one.holds is Holds.REFUTED:
            etree.SubElement(case, "failure", message=visible(said))
        elif one.holds is Holds.CANNOT_TELL:
            etree.SubElement(case, "skipped", message=visible(said))
    return etree.tostring(suite, xml_declaration=True, encoding="UTF-8").decode() + "\n"

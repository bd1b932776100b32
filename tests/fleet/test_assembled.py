"""What is put together on disk is what folding makes of all findings in memory."""

from __future__ import annotations

from datetime import date

from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from aiguille.analysis.outlines import Outline, outline, set_outlines, surroundings_of
from aiguille.baseline import Audit, Severity
from aiguille.baseline import answers as replies
from aiguille.baseline.answers import Kept
from aiguille.baseline.catalogue import Outcome, RuleRef, Who
from aiguille.baseline.causes import causes
from aiguille.baseline.findings import CheckOutcome, Consequence, Evidence, Finding, Reply, Status, order
from aiguille.baseline.folding import folded
from aiguille.fleet.assembled import Assembled, many
from aiguille.fleet.tasks import Checked
from aiguille.model import Device, Estate, Ledger, Source, Span

NAMES = ("gw-a", "gw-b", "gw-c", "gw-d", "gw-e")


def device(at: int, shared: bool, tag: str) -> Device:
    """shared: whether it is described in an export with the others that are"""
    path = "huts.json" if shared else f"{NAMES[at]}.json"
    return Device(NAMES[at], "made-up", "make", (Source(path, "0" * 64, 1),), Ledger(), tags=(tag,) if tag else ())


@st.composite
def findings(draw: st.DrawFn, one: Device) -> Finding:
    check = draw(st.sampled_from(("rules.any-to-any", "system.drift", "rules.undocumented", "access.cleartext")))
    line = draw(st.integers(1, 3))
    where = Span(one.sources[0].path, line, line)
    ref = RuleRef("filter", "in", line, where)
    goes = draw(st.lists(st.sampled_from(("a", "b")), max_size=1))
    return Finding(
        fingerprint=f"{draw(st.integers(0, 1 << 60)):016x}",
        check=check,
        area=check.partition(".")[0],
        severity=draw(st.sampled_from(list(Severity))),
        device=one.name,
        title="",
        detail=draw(st.sampled_from(("one", "two ä", "two z"))),
        why="",
        fix="",
        controls=(),
        evidence=(Evidence(where, ("text",)),) if draw(st.booleans()) else (),
        rules=(ref,) if draw(st.booleans()) else (),
        who=draw(st.sampled_from((None, *Who))),
        consequences=tuple(Consequence("f" * 16, "x.y", Severity.LOW, "", text) for text in goes),
        hits=((one.name, 3),),
    )


@st.composite
def estates(draw: st.DrawFn) -> tuple[list[Device], list[list[Finding]]]:
    devices = [
        device(at, draw(st.booleans()), draw(st.sampled_from(("", "hut", "edge"))))
        for at in range(draw(st.integers(1, len(NAMES))))
    ]
    found = [sorted(draw(st.lists(findings(one), max_size=6)), key=order) for one in devices]
    seen: set[str] = set()
    for mine in found:
        mine[:] = [one for one in mine if one.fingerprint not in seen and not seen.add(one.fingerprint)]  # type: ignore[func-returns-value]
    return devices, found


@given(estates(), st.integers(0, 3))
def test_it_is_what_folding_makes(made: tuple[list[Device], list[list[Finding]]], answered: int) -> None:
    devices, found = made
    every: list[Outline] = [outline(one) for one in devices]
    outcomes = [
        CheckOutcome("rules.any-to-any", one.name, Outcome.FAIL if mine else Outcome.PASS, "since")
        for one, mine in zip(devices, found, strict=True)
    ]
    some = [one.fingerprint for mine in found for one in mine][:answered]
    numbers = {fingerprint: 10 * at for at, fingerprint in enumerate(some, 1)}
    kept = Kept(tuple(Reply(one, Status.OPEN) for one in some[:1]), numbers)
    whole = Audit(Estate(tuple(devices), date(2026, 11, 30)), outcomes, [one for mine in found for one in mine])
    expected = replies.apply(whole.folded(), kept)

    around = surroundings_of(every)
    assembled = Assembled(every, around)
    for one, mine, said in zip(every, found, outcomes, strict=True):
        assembled.add(one, Checked(tuple(folded(mine)), (said,)))
    assembled.finish(kept)
    estate = Estate(tuple(devices), date(2026, 11, 30))
    set_outlines(estate, every)
    audit = many(Audit(estate, (), (), answers=kept.replies), assembled)

    assert list(audit.findings) == list(expected.findings)
    assert list(audit.outcomes) == list(expected.outcomes)
    assert list(audit.causes()) == list(causes(expected.findings))
    assert (audit.counts(), audit.worst(), audit.tally()) == (expected.counts(), expected.worst(), expected.tally())
    assert audit.findings[:2] == tuple(expected.findings[:2])
    assert [audit.findings[at] for at in range(len(audit.findings))] == list(expected.findings)
    for one in devices:
        assert audit.findings_on(one.name) == expected.findings_on(one.name)
        assert audit.outcomes_on(one.name) == expected.outcomes_on(one.name)
        assert audit.counts_on(one.name) == expected.counts_on(one.name)
    assert audit.narrowed(severity="medium").findings == expected.narrowed(severity="medium").findings
    assert replace(audit.held(), estate=expected.estate, answers=()) == replace(
        expected, findings=tuple(expected.findings), outcomes=tuple(outcomes), answers=()
    )

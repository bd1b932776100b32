"""The full story of one finding, for the terminal and as JSON by `schemas/explain.schema.json`."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from aiguille._version import __version__
from aiguille.baseline import Finding
from aiguille.baseline.mending import Mended
from aiguille.baseline.story import Excerpt, Story
from aiguille.model.spelling import grouped
from aiguille.reports.data import Data, finding_data, params_data, place_of
from aiguille.reports.styles import LINE_STYLE, severity_badge
from aiguille.reports.text import counted, visible
from aiguille.reports.visits import answer_data
from aiguille.reports.walk import show_answer

_LONGEST = 30
"""Lines of an excerpt that are shown; longer blocks are cut in the middle."""


def story_data(story: Story) -> Data:
    """`schemas/explain.schema.json`."""
    accepted = story.accepted
    return {
        "aiguille": {"version": __version__},
        "finding": finding_data(story.finding),
        "outcome": story.chosen.check.how if story.chosen else None,
        "parameters": _params(story),
        "excerpts": [
            {
                **place_of(one.where),
                "last_line": one.where.last,
                "lines": [{"line": line.number, "text": line.text, "meant": line.meant} for line in one.lines],
            }
            for one in story.excerpts
        ],
        "walk": None if story.walk is None else answer_data(story.device, story.walk),
        "if_mended": None if story.mended is None else _mended_data(story.mended),
        "elsewhere": [{"device": device, "findings": count} for device, count in story.elsewhere],
        "accepted": None
        if accepted is None
        else {
            "reason": accepted.risk.reason,
            "owner": accepted.risk.owner,
            "until": accepted.risk.until.isoformat(),
            "file": accepted.file,
            "line": accepted.line,
        },
        "acceptance": acceptance(story),
    }


def stories_data(stories: Sequence[Story]) -> Data:
    """The second form of `schemas/explain.schema.json`."""
    return {"aiguille": {"version": __version__}, "stories": [story_data(one) for one in stories]}


def _mended_data(one: Mended) -> Data:
    def described(found: Sequence[Finding]) -> list[Data]:
        return [
            {"fingerprint": f.fingerprint, "check": f.check, "severity": f.severity.value, "detail": f.detail}
            for f in found
        ]

    return {
        "change": one.change,
        "gone": described(one.gone),
        "new": described(one.new),
        "opens": None if one.opens is None else [change.traffic.words() for change in one.opens],
        "closes": None if one.closes is None else [change.traffic.words() for change in one.closes],
        "hits": one.hits.packets if one.hits is not None else None,
    }


def _params(story: Story) -> Data:
    return params_data(story.chosen.params) if story.chosen else {}


def acceptance(story: Story) -> str:
    """The entry of a file of accepted risks that would set this finding aside, to be filled in."""
    return (
        f"  - finding: {story.finding.fingerprint}\n"
        '    reason: ""  # why this is lived with\n'
        '    owner: ""   # who answers for it\n'
        f"    until: {story.until.isoformat()}\n"
    )


def show_stories(console: Console, stories: Sequence[Story]) -> None:
    """Each of several findings in full, with a line between them."""
    for number, story in enumerate(stories):
        if number:
            console.print()
            console.rule(style="dim")
        show_story(console, story)
    if not stories:
        console.print("No finding is left by what was asked for.")


def show_story(console: Console, story: Story) -> None:
    """What was found, why it matters, the lines around, the walk of the packet, the fix, and how to accept it."""
    finding = story.finding
    console.print(Text.assemble(severity_badge(finding.severity), " ", (finding.title, "bold")))
    console.print(
        Text(f"{visible(finding.device)}  {finding.check}  {finding.fingerprint}", "dim"),
    )
    _part(console, "What was found", finding.detail)
    _part(console, "Why it matters", finding.why)
    if story.chosen is not None:
        _part(console, "How it is judged", story.chosen.check.how)
        for name, value in _params(story).items():
            shown = ", ".join(map(str, value)) if isinstance(value, list) else value
            console.print(Padding(Text(f"{name}: {visible(str(shown))}", "dim"), (0, 0, 0, 2)))
    _heading(console, "Where it is written")
    if not story.excerpts:
        console.print(Padding(Text("nowhere: the export does not say it"), (0, 0, 0, 2)))
    for excerpt in story.excerpts:
        _excerpt(console, excerpt)
    if story.walk is not None:
        _heading(console, "The packet that proves it, and its way")
        show_answer(console, story.device, story.walk)
    if finding.consequences:
        _heading(console, "What goes with it")
        for one in finding.consequences:
            console.print(Padding(Text(f"{one.severity.value}: {visible(one.detail)} ({one.check})"), (0, 0, 0, 2)))
    _part(console, "How to mend it", finding.fix)
    if story.mended is not None:
        _mended(console, story.mended)
    if story.elsewhere:
        described = ", ".join(f"{visible(device)} ({count})" for device, count in story.elsewhere)
        _part(console, "The same elsewhere", f"{counted(len(story.elsewhere), 'more device')}: {described}")
    _acceptance(console, story)


def _mended(console: Console, one: Mended) -> None:
    """What would go and come without what the finding speaks of."""
    _heading(console, f"If {visible(one.change)}")

    def say(text: str, style: str = "") -> None:
        console.print(Padding(Text(visible(text), style), (0, 0, 0, 2)))

    say(
        f"{counted(len(one.gone), 'finding')} would go, and {counted(len(one.new), 'new one') if one.new else 'none'} come."
    )
    for found in one.new[:_SHOWN_ROWS]:
        say(f"new, {found.severity.value}: {found.detail}")
    if one.closes is None or one.opens is None:
        say("What it opens and closes is too entangled to say.")
        return
    hits = f" (it was hit {grouped(one.hits.packets)} times)" if one.hits is not None else ""
    say(
        f"No longer let in{hits}:"
        if one.closes
        else "Nothing that gets in now would be refused: other rules let it in too."
    )
    for rows, word in ((one.closes, ""), (one.opens, "newly let in: ")):
        told = [*dict.fromkeys(row.traffic.words() for row in rows)]  # those of both families may read alike
        for words in told[:_SHOWN_ROWS]:
            say(f"  {word}{words}", "dim")
        if len(told) > _SHOWN_ROWS:
            say(f"  and {counted(len(told) - _SHOWN_ROWS, 'more row')}", "dim")


_SHOWN_ROWS = 5


def _acceptance(console: Console, story: Story) -> None:
    if story.accepted is not None:
        risk = story.accepted.risk
        said = f"{risk.owner} answers for it until {risk.until}: {risk.reason}"
        _part(console, "Accepted", f"{said} ({story.accepted.file}:{story.accepted.line})")
        return
    _heading(console, "How to accept it for a while")
    console.print(
        Padding(Text("In the file of accepted risks (--accepted, or accepted in engagement.toml):"), (0, 0, 0, 2))
    )
    console.print(Padding(Text(f"accepted:\n{acceptance(story)}".rstrip(), LINE_STYLE), (0, 0, 0, 4)))


def _heading(console: Console, title: str) -> None:
    console.print()
    console.print(Text(title, "bold"))


def _part(console: Console, title: str, text: str) -> None:
    _heading(console, title)
    console.print(Padding(Text(visible(text)), (0, 0, 0, 2)))


def _excerpt(console: Console, excerpt: Excerpt) -> None:
    console.print(Padding(Text(visible(str(excerpt.where)), "underline"), (0, 0, 0, 2)))
    lines = excerpt.lines
    half = _LONGEST // 2
    rows = Table.grid(padding=(0, 1))
    rows.add_column(width=1)
    rows.add_column(justify="right", no_wrap=True)
    rows.add_column(overflow="fold")
    for at, line in enumerate(lines):
        if len(lines) > _LONGEST and half <= at < len(lines) - half:
            if at == half:
                rows.add_row("", "", Text(f"… {counted(len(lines) - 2 * half, 'line')}", "dim"))
            continue
        style = LINE_STYLE if line.meant else "dim"
        rows.add_row(">" if line.meant else "", Text(str(line.number), "dim"), Text(visible(line.text), style))
    console.print(Padding(rows, (0, 0, 0, 4)))

"""Questions to the owners of devices, ready to send: Markdown that reads as plain text too; JSON by `schemas/questions.schema.json`."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from importlib.resources import files

from aiguille.baseline import Audit
from aiguille.baseline.questions import BLOCK, Enquiry, Question
from aiguille.reports.data import Data
from aiguille.reports.text import visible

_SIDES = "the internet, your own users, guests, servers that strangers may reach, or those who look after the devices"


def collecting() -> str:
    """The commands that collect all there is on a Linux host, as docs/collecting.md shows them."""
    return files("aiguille.reports").joinpath("collect.sh").read_text(encoding="utf-8")


def questions_data(audit: Audit, asked: Sequence[Enquiry]) -> Data:
    """The questions by device; `schemas/questions.schema.json`."""
    return {
        "title": audit.estate.title,
        "as_of": audit.estate.as_of.isoformat(),
        "devices": [
            {
                "device": one.device,
                "requests": [
                    {
                        "ask": q.request.ask,
                        "command": _command(q),
                        "settles": list(q.checks),
                        "because": list(q.reasons),
                    }
                    for q in one.questions
                ],
                "interfaces_of_unknown_side": list(one.sides),
                "assumed_sides": [{"interfaces": names, "side": side} for names, side in one.assumed],
                "rules_without_reason": list(one.rules),
                "more_rules_without_reason": one.more,
                "accounts": [{"name": name, "last_used": last or None} for name, last in one.accounts],
            }
            for one in asked
        ],
    }


def _command(question: Question) -> str:
    return collecting() if question.request.command == BLOCK else question.request.command


def as_text(audit: Audit, asked: Sequence[Enquiry]) -> str:
    """The text, a part for each device."""
    return "\n".join(_lines(audit, asked)) + "\n"


def _lines(audit: Audit, asked: Sequence[Enquiry]) -> Iterator[str]:
    estate = audit.estate
    yield f"# Questions on the firewalls: {visible(estate.title) or 'audit'}, {estate.as_of.isoformat()}"
    yield ""
    if not asked:
        yield "Nothing is open: the exports answer all that was asked of them."
        return
    yield "To complete the audit we need what is listed here. Each part is for the owner of one device. Please send files and"
    yield "answers back as they are; nothing on the devices has to be changed for it."
    for one in asked:
        yield ""
        yield f"## {visible(one.device)}"
        yield from _device(one)


def _device(one: Enquiry) -> Iterator[str]:
    number = 0
    for question in one.questions:
        number += 1
        yield ""
        yield f"{number}. {question.request.ask}."
        yield from _asked(question)
    if one.sides:
        number += 1
        yield ""
        yield f"{number}. Which networks are behind these interfaces: {_SIDES}?"
        yield ""
        yield from (f"   - {visible(name)}: " for name in one.sides)
    if one.assumed:
        number += 1
        yield ""
        yield f"{number}. We took the following for granted. Is it right?"
        yield ""
        yield from (f"   - {visible(names)} leads to: {_plainly(side)}" for names, side in one.assumed)
    if one.accounts:
        number += 1
        yield ""
        yield f"{number}. Who uses these accounts, and are they all still needed?"
        yield ""
        for name, last in one.accounts:
            used = f" (last used {visible(last)})" if last else ""
            yield f"   - {visible(name)}{used}: "
    if one.rules:
        number += 1
        yield ""
        yield f"{number}. What are these rules for, who asked for them, and until when?"
        yield ""
        yield from (f"   - `{visible(text)}`" for text in one.rules)
        if one.more:
            yield f"   - and {one.more} more"


def _plainly(side: str) -> str:
    return {
        "outside": "the internet",
        "inside": "your own users and machines",
        "dmz": "servers that strangers may reach",
        "guest": "guests",
        "management": "those who look after the devices",
    }.get(side, side)


def _asked(question: Question) -> Iterator[str]:
    """The commands to run, and what they settle."""
    command = question.request.command
    if command:
        yield ""
        what = (
            "Please run this as root; it only reads, and says where it wrote its archive"
            if command == BLOCK
            else "Please run"
        )
        yield f"   {what}:"
        yield ""
        yield "   ```sh"
        lines = collecting().splitlines() if command == BLOCK else command.split("; ")
        yield from (f"   {line}".rstrip() for line in lines)
        yield "   ```"
    yield ""
    yield f"   This settles {len(question.checks)} open point{'s' if len(question.checks) > 1 else ''}:"
    yield ""
    for reason in dict.fromkeys(_point(reason) for reason in question.reasons):
        yield f"   - {visible(reason)}"


def _point(reason: str) -> str:
    """What is open, without what the auditor could do about it."""
    said = reason.partition("; ")[0]
    for before, after in _PLAINLY.items():
        said = said.replace(before, after)
    return said


_PLAINLY = {
    "the export does not state ": "",
    "the export does not say ": "",
    "the table of releases does not know ": "until when its maker mends release ",
    "the export does not hold both the running and the stored rules": "whether the rules that run are those loaded at the next start",
    "the export does not hold ": "there is no copy of ",
    "the export holds no ": "there are no ",
    "the export counts no hits": "how often each rule was used",
    "no chain has hits on all of its rules": "how often each rule was used",
}
"""What checks say of an export, in the words of whoever owns the device."""

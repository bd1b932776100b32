"""`aiguille explain`: the full story of one finding, or of each that was asked for."""

from __future__ import annotations

import argparse
import re
from typing import TYPE_CHECKING

from msgspec.structs import replace

from aiguille.cli import inputs, options, output

if TYPE_CHECKING:
    from aiguille.baseline import Audit

NAME = "explain"
HELP = "give the full story of a finding: the lines around it, the packet's walk, the fix, how to accept it"
EXAMPLES = """examples:
  aiguille explain 7c6e395a6dbe9131 engagement/
  aiguille explain F-3 engagement/
  aiguille explain C-3 engagement/
  aiguille explain all engagement/ --device valley-gw --severity high
  aiguille explain 7c6e39 valley-gw.v4 --baseline strict --json

The first digits of a fingerprint will do where no other finding begins so. C-3 stands for every finding behind that cause.
Give the same paths and baseline as to the audit."""


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "fingerprint",
        metavar="FINGERPRINT",
        help="the finding's number or id, as audit prints them, or its first digits; C-N for all behind a cause; "
        "all for what the filters leave",
    )
    options.add_paths(parser)
    options.add_baseline(parser)
    options.add_filters(parser)
    options.add_output(parser)


_CAUSE = re.compile(r"[Cc]-?[0-9]{1,5}")


def run(arguments: argparse.Namespace) -> int:
    word, wanted = arguments.fingerprint, options.filters(arguments)
    # Four digits of a fingerprint may look like a cause without its dash.
    several = word == "all" or ("-" in word and _CAUSE.fullmatch(word))
    if several and word != "all":
        wanted["cause"] = [*wanted["cause"], word]
    audit, others = _audit(arguments, word)
    from aiguille.baseline.story import describe, story_of
    from aiguille.reports.story import show_stories, show_story, stories_data, story_data

    shown = audit.narrowed(**wanted)
    if not several:
        story = describe(replace(audit, findings=shown.findings, accepted=shown.accepted), word, others)
        output.report(arguments, lambda: story_data(story), lambda console: show_story(console, story))
        return inputs.exit_code(audit.estate)
    stories = []
    with output.progress(arguments, "findings", "explained") as explained:
        for number, one in enumerate(shown.findings, 1):
            stories.append(story_of(audit, one, others=others))
            explained(number, len(shown.findings))
    output.report(arguments, lambda: stories_data(stories), lambda console: show_stories(console, stories))
    return inputs.exit_code(audit.estate)


def _prepare() -> None:
    """Load what comes after the reading."""
    from aiguille.baseline import story as made
    from aiguille.fleet import numbered
    from aiguille.reports import story as shown

    _ = made, numbered, shown


def _audit(arguments: argparse.Namespace, word: str) -> tuple[Audit, list[tuple[str, str]]]:
    """The audit, of no more devices than the finding is on where an audit of the same was done before; and check and device of the
    findings on the others."""
    found = inputs.gathered(arguments)
    estate = inputs.read_estate(arguments, found=found, meanwhile=_prepare)
    from aiguille.fleet.numbered import keep, load, renumbered

    asked = inputs.meant(arguments, estate)
    name = inputs.name_of_audit(arguments, found, estate, asked)
    numbers = load(name)
    if meant := numbers.meant(word):
        names = [one.name for one in estate.devices]
        places = {at for one in meant for at in one.devices}
        part = renumbered(inputs.run_audit(arguments, estate, asked, {names[at] for at in places}), numbers)
        known = {one.fingerprint for one in part.findings} | {one.fingerprint for one, _ in part.accepted}
        if all(one.fingerprint in known for one in meant):
            return part, [*numbers.elsewhere(names, places)]
    whole = inputs.run_audit(arguments, estate, asked)
    keep(name, whole)
    return whole, []

"""Dialects in the terminal and as JSON: which there are, what one takes for granted, how one did on trial."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from itertools import groupby, islice

from msgspec import to_builtins
from rich.console import Console
from rich.padding import Padding
from rich.rule import Rule as Line
from rich.table import Table
from rich.text import Text

from aiguille._version import __version__
from aiguille.model import Device, LedgerEntry, Rule
from aiguille.readers.mapped import Coverage, Description, Dialect, LogTrial, Outline, Trial, describe, family_of
from aiguille.reports.data import Data, entry_data
from aiguille.reports.rules import Describer, action_of
from aiguille.reports.styles import LINE_STYLE, PACKET_STYLE
from aiguille.reports.text import counted, visible

_SHOWN = 20
_LINES = 6


def list_data(dialects: Sequence[tuple[Dialect, str]]) -> Data:
    """All dialects with the file each comes from; `schemas/dialect-list.schema.json`."""
    return {
        "aiguille": {"version": __version__},
        "dialects": [
            {"name": d.dialect, "make": d.make, "family": family_of(d.structure), "about": d.about, "file": file}
            for d, file in dialects
        ],
    }


def show_list(console: Console, dialects: Sequence[tuple[Dialect, str]]) -> None:
    table = Table(box=None, padding=(0, 2, 0, 0), show_edge=False, header_style="dim", pad_edge=False)
    for heading in ("dialect", "make", "family", "file"):
        table.add_column(heading, overflow="fold")
    for dialect, file in dialects:
        table.add_row(
            Text(visible(dialect.dialect), "bold"), visible(dialect.make), family_of(dialect.structure), visible(file)
        )
    console.print(table)


def explain_data(dialect: Dialect) -> Data:
    """What a dialect reads and assumes; `schemas/dialect-explain.schema.json`."""
    described = describe(dialect)
    return {
        "aiguille": {"version": __version__},
        "name": described.name,
        "make": described.make,
        "about": described.about,
        "family": described.family,
        "recognised": described.recognised,
        "reads": [{"part": r.part, "key": r.key, "place": r.place, "means": r.means} for r in described.reads],
        "assumes": [{"key": key, "value": value} for key, value in described.assumes],
        "built_in_rules": list(described.built_in),
        "behaviour": list(described.behaviour),
        "ignored": [{"at": at, "why": why} for at, why in described.ignored],
        "secrets": list(described.secrets),
        "examples": list(described.examples),
    }


def show_explain(console: Console, dialect: Dialect) -> None:
    described = describe(dialect)
    console.print(_head(f"{described.name}", f"{described.make}, {described.family}"))
    if described.about:
        console.print(Padding(Text(visible(described.about)), (0, 0, 0, 2)))
    console.print(Padding(Text(f"Recognised where {visible(described.recognised)}."), (0, 0, 0, 2)))
    _reads(console, described)
    _pairs(console, "assumes, where an export is silent", described.assumes)
    _lines(console, "does by itself", described.behaviour)
    _lines(console, "rules the make has built in", described.built_in)
    _pairs(console, "leaves out", described.ignored)
    _lines(console, "never shows", described.secrets)
    _lines(console, "tests itself by", described.examples)


def _reads(console: Console, described: Description) -> None:
    _heading(console, "reads")
    table = Table(box=None, padding=(0, 2, 0, 2), show_edge=False, show_header=False, pad_edge=False)
    table.add_column(style="dim", no_wrap=True)
    table.add_column(overflow="fold", ratio=2)
    table.add_column(overflow="fold", ratio=3)
    for part, several in groupby(described.reads, key=lambda r: r.part):
        first = part
        for one in dict.fromkeys(several):
            table.add_row(first, Text(visible(one.key)), Text(visible(one.place), PACKET_STYLE))
            first = ""
    console.print(table)


def trial_data(trial: Trial, top: int = 0) -> Data:
    """How a dialect did; `schemas/dialect-check.schema.json`."""
    return {
        "aiguille": {"version": __version__},
        "dialect": trial.dialect.dialect,
        "passed": trial.passed,
        "examples": [{"name": one.name, "faults": list(one.faults)} for one in trial.examples],
        "samples": [_coverage_data(one, top) for one in trial.samples],
        "paths_that_matched_nothing": [{"key": key, "path": path} for key, path in trial.idle],
        "fields_that_no_rule_has": [{"key": key, "path": path} for key, path in trial.barren],
        "logs": [_log_data(one, top) for one in trial.logs],
        "words_without_meaning": [{"key": key, "words": words} for key, words in trial.empty_words],
    }


def _understood(one: Coverage) -> Iterator[tuple[Device, Rule, str]]:
    """The rules of a sample that stand in it, each with what it is taken to say."""
    for device in one.devices:
        describer = Describer(device)
        for base in device.rulebases:
            for chain, rule in base.rules():
                if not rule.built_in:
                    off = "" if rule.enabled else " (off)"
                    place = f"{chain.name}: " if len(base.chains) > 1 else ""
                    yield device, rule, f"{place}{action_of(rule)}{off}  {describer.rule(rule)}"


def _coverage_data(one: Coverage, top: int) -> Data:
    understood = list(islice(_understood(one), top or None))
    return {
        "file": one.path,
        "devices": [device.name for device in one.devices],
        "lines": one.lines,
        "read": one.read,
        "known": one.known,
        "unread_lines": one.unread_lines,
        "unread": [entry_data(one.devices[0], entry) for entry in one.unread],
        "problems": [entry_data(one.devices[0], entry) for entry in one.problems],
        "rules": one.rules,
        "rules_in_doubt": one.doubtful,
        "rules_that_may_match": one.uncertain,
        "rule_lines": one.rule_lines,
        "rule_lines_read": one.rule_lines_read,
        "words": one.words,
        "words_settled": one.words_settled,
        "understood": [
            {"line": rule.where.first, "text": "\n".join(device.text(rule.where)), "rule": said}
            for device, rule, said in understood
        ],
    }


def _log_data(one: LogTrial, top: int) -> Data:
    return {
        "file": one.path,
        "lines": one.lines,
        "aside": one.aside,
        "read": len(one.records),
        "records": [to_builtins(record) for record in one.records[: top or None]],
        "unread": [{"line": line, "why": why} for line, why in one.unread],
        "not_asked_for": [{"name": name, "times": times} for name, times in one.left],
        "rules_no_sample_has": [{"name": name, "times": times} for name, times in one.strange_rules],
        "paths_that_matched_nothing": [{"key": key, "path": path} for key, path in one.idle],
    }


def show_trial(console: Console, trial: Trial, top: int = 0) -> None:
    """Examples first, then each sample with what it leaves unread, then paths that led nowhere."""
    console.print(_head(trial.dialect.dialect, f"{trial.dialect.make}; the file is sound"))
    failed = [one for one in trial.examples if one.faults]
    if not trial.examples:
        console.print("  no examples: add some, so that the file tests itself")
    elif not failed:
        number = len(trial.examples)
        console.print(f"  {counted(number, 'example')} {'holds' if number == 1 else 'hold'}")
    for one in failed:
        console.print(Text(f"  example '{visible(one.name)}' does not hold", "bold red3"))
        for fault in one.faults:
            console.print(Padding(Text(visible(fault)), (0, 0, 0, 4)))
    for sample in trial.samples:
        _sample(console, sample, top)
    for log in trial.logs:
        _log(console, log, top)
    if trial.barren:
        _pairs(console, "fields that no rule of the samples has, though their places lead somewhere", trial.barren)
    if trial.empty_words:
        _pairs(console, "words taken to mean nothing", trial.empty_words)
    if trial.idle:
        where = "the samples" if trial.samples else "the examples"
        _pairs(console, f"paths that matched nothing in {where}", trial.idle)


def tree_data(made: Outline, file: str, top: int) -> Data:
    """The tree of a sample; `schemas/dialect-tree.schema.json`."""
    return {
        "aiguille": {"version": __version__},
        "file": file,
        "family": family_of(made.structure),
        "mapped": made.mapped,
        "statements": [
            {
                "path": one.path,
                "line": one.line,
                "words": [{"text": text, "taken": taken} for text, taken in one.words],
                "taken": one.taken,
            }
            for one in made.twigs[:top]
        ],
        "more": max(0, len(made.twigs) - top),
    }


def show_tree(console: Console, made: Outline, top: int) -> None:
    """A statement a line: where it is, its path, its words; what no mapping took stands in angle brackets."""
    how = "what the mapping did not take stands in ‹ ›" if made.mapped else "the structure is guessed"
    console.print(_head("tree", f"{family_of(made.structure)}; {how}"))
    for one in made.twigs[:top]:
        left = made.mapped and not one.taken
        words = " ".join(
            f"‹{visible(text)}›" if made.mapped and not taken else visible(text) for text, taken in one.words
        )
        path = "  " * one.depth + (f"‹{visible(one.path)}›" if left else visible(one.path))
        line = Text.assemble((f"{one.line:>6}  ", "dim"), (path, "bold" if not left else "dark_orange"), "  ", words)
        console.print(line, no_wrap=True, overflow="ellipsis")
    if len(made.twigs) > top:
        console.print(f"        and {counted(len(made.twigs) - top, 'more statement')}: --top 0")


def _sample(console: Console, one: Coverage, top: int) -> None:
    console.print()
    devices = ", ".join(visible(device.name or "unnamed") for device in one.devices)
    console.print(Text.assemble((visible(one.path), "bold"), f"  {devices}"))
    # Rounded down: all is said of all only.
    share = f" ({100 * one.words_settled // one.words} %)" if one.words else ""
    doubt = f", {one.uncertain} of them only may match" if one.uncertain else ""
    doubt += f", {one.doubtful} read in part" if one.doubtful else ""
    console.print(f"  {one.lines} lines: {one.read} read, {one.known} set aside, {one.unread_lines} not understood")
    console.print(
        f"  {counted(one.rules, 'rule')}{doubt}; {one.rule_lines_read} of {one.rule_lines} lines of rules read; "
        f"{one.words_settled} of {one.words} words settled{share}"
    )
    understood = list(_understood(one))
    for device, rule, said in islice(understood, top or None):
        text = " · ".join(" ".join(line.split()) for line in device.text(rule.where))
        console.print(
            Text.assemble((f"{rule.where.first:>6}  ", "dim"), (visible(text), LINE_STYLE)),
            no_wrap=True,
            overflow="ellipsis",
        )
        console.print(Padding(Text(visible(said)), (0, 0, 0, 8)))
    if top and len(understood) > top:
        console.print(f"        and {counted(len(understood) - top, 'more rule')}: --top 0")
    if one.rules > len(understood):
        console.print(f"        and {counted(one.rules - len(understood), 'rule')} that the make has built in")
    _entries(console, one, one.unread, "not understood")
    _entries(console, one, one.problems, "contradicts the rest")


def _log(console: Console, one: LogTrial, top: int) -> None:
    """Records a line each, then what was not understood, and what no key asks for."""
    console.print()
    console.print(Text.assemble((visible(one.path), "bold"), "  log"))
    verdicts = Counter(record.verdict or "no verdict" for record in one.records)
    said = ", ".join(f"{times} {verdict}" for verdict, times in verdicts.most_common())
    console.print(
        f"  {counted(one.lines, 'line')}: {len(one.records)} read{f' ({said})' if said else ''}, {one.aside} set aside, "
        f"{len(one.unread)} not understood"
    )
    for record in one.records[: top or None]:
        source = f"{record.source}:{record.source_port}" if record.source_port else record.source
        target = f"{record.destination}:{record.destination_port}" if record.destination_port else record.destination
        ways = [
            *(f"in {record.in_interface}" for _ in record.in_interface[:1]),
            *(f"out {record.out_interface}" for _ in record.out_interface[:1]),
        ]
        decided = " ".join(filter(None, [record.rule and f"rule {record.rule}", record.prefix]))
        words = [record.time, record.verdict or "?", f"{record.protocol} {source} to {target}".strip(), *ways, decided]
        console.print(
            Text.assemble((f"{record.line:>6}  ", "dim"), (visible("  ".join(filter(None, words))), PACKET_STYLE)),
            no_wrap=True,
            overflow="ellipsis",
        )
    if top and len(one.records) > top:
        console.print(f"        and {counted(len(one.records) - top, 'more record')}: --top 0")
    _pairs(console, "not understood", [(f"line {line}", why) for line, why in one.unread[:_SHOWN]])
    _pairs(
        console,
        "stands in records, and no key asks for it",
        [(name, counted(n, "time")) for name, n in one.left[:_SHOWN]],
    )
    _pairs(
        console,
        "named by records, and no rule of the samples",
        [(name, counted(n, "time")) for name, n in one.strange_rules],
    )
    _pairs(console, "paths that matched nothing in the log", one.idle)


def _entries(console: Console, sample: Coverage, entries: Sequence[LedgerEntry], heading: str) -> None:
    """Entries for the same reason together, with the text of the first."""
    if not entries:
        return
    console.print(Padding(Text(heading, "bold"), (1, 0, 0, 2)))
    reasons: dict[str, list[LedgerEntry]] = {}
    for entry in entries:
        reasons.setdefault(entry.why, []).append(entry)
    for why, alike in list(reasons.items())[:_SHOWN]:
        numbers = [str(entry.where.first) for entry in alike]
        more = f" and {len(numbers) - _LINES} more" if len(numbers) > _LINES else ""
        place = f"line{'s' if len(numbers) > 1 else ''} {', '.join(numbers[:_LINES])}{more}"
        console.print(Padding(Text.assemble((place, "underline"), f"  {visible(why)}"), (0, 0, 0, 4)))
        text = sample.devices[0].text(alike[0].where)
        if text:
            console.print(Padding(Text(visible(text[0].strip()), LINE_STYLE), (0, 0, 0, 6)))
    if len(reasons) > _SHOWN:
        console.print(f"    and {len(reasons) - _SHOWN} reasons more; --json has all")


def _head(name: str, facts: str) -> Line:
    return Line(Text.assemble((visible(name), "bold"), "  ", (visible(facts), "dim")), align="left", style="dim")


def _heading(console: Console, text: str) -> None:
    console.print()
    console.print(Text(text, "bold"))


def _lines(console: Console, heading: str, lines: Sequence[str]) -> None:
    if lines:
        _heading(console, heading)
        for line in lines:
            console.print(Padding(Text(visible(line)), (0, 0, 0, 2)))


def _pairs(console: Console, heading: str, pairs: Sequence[tuple[str, str]]) -> None:
    if not pairs:
        return
    _heading(console, heading)
    table = Table(box=None, padding=(0, 2, 0, 2), show_edge=False, show_header=False, pad_edge=False)
    table.add_column(overflow="fold")
    table.add_column(overflow="fold")
    for key, value in pairs:
        table.add_row(Text(visible(key)), Text(visible(value), "dim"))
    console.print(table)

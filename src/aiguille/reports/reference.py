"""References made from the program itself: checks, formats, the files an audit writes, and the keys of every file a user writes."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence

import msgspec
from msgspec import Struct

from aiguille.baseline import CATALOGUE, Audit, Check, Outcome
from aiguille.baseline.claims import ClaimEntry, ClaimsFile
from aiguille.baseline.spec import TABLES, AcceptedFile, BaselineFile
from aiguille.estate import engagement
from aiguille.readers import HOST, formats, mapped
from aiguille.readers.firewalld import services
from aiguille.readers.iptables import matches, targets
from aiguille.readers.keys import schema_of
from aiguille.readers.nftables import keys
from aiguille.readers.shorewall import actions, macros
from aiguille.reports.baselines import fix_of
from aiguille.reports.outputs import OUTPUTS

_OUTCOMES = """Every check answers pass, fail, cannot tell or not applicable, with the reason; accepted, where a named owner answers for
all it finds. Cannot tell means that facts are missing from the export; the reason names them, and none passes for want of them.
Parameters and severities are set in [a baseline file](baselines.md); `aiguille baseline explain CHECK` shows the same text."""


def checks_markdown(audit: Audit, key: Sequence[Mapping[str, str]]) -> str:
    """All checks as Markdown: `docs/checks.md` is this text, and a test says so when it is not.

    audit: that of the sample estate; key: the planted faults of its answer key
    """
    parts = [
        "# Checks",
        "",
        "Made from the catalogue; do not edit by hand. Control numbers are those of NIST SP 800-53 Rev. 5.",
        "",
        _OUTCOMES,
        "",
        "## On the sample estate",
        "",
        f"How many of {len(audit.estate.devices)} devices each check fails and passes, and the faults planted for it.",
        "",
        "| check | severity | fails | passes | cannot tell | planted |",
        "|---|---|---|---|---|---|",
    ]
    planted = Counter(fault["check"] for fault in key)
    for one in CATALOGUE:
        seen = Counter(o.outcome for o in audit.outcomes if o.check == one.id)
        counts = (seen[o] for o in (Outcome.FAIL, Outcome.PASS, Outcome.CANNOT_TELL))
        cells = " | ".join(str(n) if n else "·" for n in (*counts, planted[one.id]))
        parts.append(f"| [`{one.id}`](#{one.id.replace('.', '')}) | {one.severity.value} | {cells} |")
    for area in dict.fromkeys(one.area for one in CATALOGUE):
        parts += ["", f"## {area.value}"]
        for one in CATALOGUE:
            if one.area is area:
                parts += ["", *_check(one)]
    return "\n".join(parts) + "\n"


def _check(one: Check) -> list[str]:
    lines = [
        f"### `{one.id}`",
        "",
        f"**{one.title}.** Severity {one.severity.value}; {', '.join(one.controls)}.",
        "",
        f"{one.why} {one.how}",
        "",
        f"*Fix:* {fix_of(one)}",
    ]
    for number, param in enumerate(one.params):
        default = ", ".join(map(str, param.default)) if isinstance(param.default, tuple) else param.default
        shown = f"`{default}`" if isinstance(param.default, tuple | str) and default else default or "none"
        lines += [*([] if number else [""]), f"- `{param.name}`, {param.unit}: {shown} by default; {param.why}."]
    if one.needs or one.asks:
        needs = (*(f"`{name}`" for name in one.needs), *(need.words for need in one.asks))
        lines += ["", f"Needs: {', '.join(needs)}."]
    return lines


def formats_markdown() -> str:
    """What each open format's reader knows, word by word, as Markdown: a part of `docs/formats.md`."""
    known = formats()
    parts = ["| format (`--format`) | make | files of one device go together |", "|---|---|---|"]
    parts += [f"| `{one.name}` | {one.make} | {'yes' if one.grouped or one.name == HOST else 'no'} |" for one in known]
    parts += ["", "### Words of iptables", "", "| match | read exactly | else a qualifier |", "|---|---|---|"]
    for name in sorted({*matches.MODELLED, *matches.QUALIFIERS}):
        options = _code(matches.MODELLED.get(name, {}))
        parts.append(f"| `{name}` | {options or '·'} | {matches.QUALIFIERS.get(name, '·')} |")
    exact = [*(f"meta {name}" for name in keys.META), *(" ".join(name) for name in keys.PAYLOAD)]
    parts += [
        "",
        f"Targets that let evaluation go on: {_code(sorted(targets.PASSING))}.",
        "",
        f"Targets whose verdict something outside the rules gives: {_code(sorted(targets.OUTSIDE_VERDICT))}.",
        "",
        "### Words of nftables",
        "",
        f"Read exactly: {_code([*exact, 'ct state', 'fib daddr type', 'fib saddr type'])}.",
        "",
        "| qualifier | condition |",
        "|---|---|",
    ]
    parts += [f"| `{name}` | {described} |" for name, described in sorted(keys.QUALIFIERS.items())]
    parts += [
        "",
        "### Words of Shorewall and firewalld",
        "",
        f"Standard actions of Shorewall: {_code(sorted(actions.STANDARD))}.",
        "",
        f"Macros of Shorewall that come as data of ours: {_code(sorted(macros.MACROS))}.",
        "",
        f"Services of firewalld that come as data of ours: {_code(sorted(services.shipped_services()))}.",
    ]
    return "\n".join(parts) + "\n"


def _code(words: Iterable[str]) -> str:
    return ", ".join(f"`{word}`" for word in words)


def engagement_keys_markdown() -> str:
    """Every key of `engagement.toml` by table, as Markdown: a part of `docs/guide.md`."""
    headings = {"Header": "[engagement]", "DeviceTable": "[[device]]", "ZoneTable": "zones.NAME of a device"}
    return _tables(engagement.TABLES, lambda table: f"`{headings[table.__name__]}`")


def outputs_markdown() -> str:
    """The files an audit can be written to, as Markdown: a part of `docs/reports.md`."""
    rows = [f"| `{ending}` | {about} |" for ending, (about, _) in OUTPUTS.items()]
    return "\n".join(["| ending | what it is |", "|---|---|", *rows, "| `.txt` | the terminal view |"]) + "\n"


def baseline_keys_markdown() -> str:
    """Every key of baseline files and files of accepted risks by table, as Markdown: a part of `docs/baselines.md`."""
    return _tables(TABLES, lambda table: re.sub(r"(?<!^)(?=[A-Z])", " ", table.__name__).lower())


def dialect_keys_markdown() -> str:
    """Every key of the dialect language by table, on one page and then explained, as Markdown: a part of `docs/dialects.md` is this
    text."""
    return f"{_on_one_page(mapped.tables())}\n{_tables(mapped.tables(), _heading)}"


def _on_one_page(tables: Iterable[type[Struct]]) -> str:
    """The keys of every table, a line each; those that are needed in bold."""
    lines = ["### On one page", "", "| table | keys, those needed in bold |", "|---|---|"]
    for table in tables:
        docs = mapped.key_docs(table)
        keys = [one for one in msgspec.structs.fields(table) if one.encode_name in docs]
        if keys:
            told = ", ".join(f"**{one.encode_name}**" if one.required else one.encode_name for one in keys)
            lines.append(f"| {_heading(table)} | {told} |")
    return "\n".join([*lines, ""])


def _heading(table: type[Struct]) -> str:
    tag = table.__struct_config__.tag
    name = re.sub(r"(?<!^)(?=[A-Z])", " ", table.__name__.removesuffix("Map").removesuffix("Structure")).lower()
    return f"structure, family {tag}" if tag else name


def _tables(tables: Iterable[type[Struct]], heading: Callable[[type[Struct]], str]) -> str:
    parts: list[str] = []
    for table in tables:
        docs = mapped.key_docs(table)
        about = (table.__doc__ or "").partition("\n\n")[0].strip()
        parts += [f"### {heading(table)}", "", about, ""]
        fields = [one for one in msgspec.structs.fields(table) if one.encode_name in docs]
        if fields:
            parts += ["| key | meaning |", "|---|---|"]
            parts += [
                f"| `{one.encode_name}`{_need(table, one)} | {docs[one.encode_name].replace('|', '&#124;')} |"
                for one in fields
            ]
            parts.append("")
    return "\n".join(parts)


def _need(table: type[Struct], one: msgspec.structs.FieldInfo) -> str:
    return " (needed)" if one.required else ""


def file_schemas() -> dict[str, dict[str, object]]:
    """The JSON Schemas of the files a user writes, for editors, by the name of the schema."""
    return {
        "dialect-file": mapped.schema(),
        "baseline-file": schema_of(BaselineFile, TABLES, "Aiguille baseline file"),
        "accepted-file": schema_of(AcceptedFile, TABLES, "Aiguille file of accepted risks"),
        "claims-file": schema_of(ClaimsFile, (ClaimsFile, ClaimEntry), "Aiguille file of claims"),
        "engagement-file": schema_of(
            engagement.EngagementFile, (*engagement.TABLES, engagement.EngagementFile), "Aiguille engagement file"
        ),
    }

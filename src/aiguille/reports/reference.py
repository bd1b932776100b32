"""References made from the program itself: the checks, and the keys of the dialect language."""

from __future__ import annotations

import re

import msgspec
from msgspec import Struct

from aiguille.baseline import CATALOGUE, Check
from aiguille.readers import mapped

_OUTCOMES = """Every check answers pass, fail, cannot tell or not applicable, with the reason. Cannot tell means that facts are
missing from the export; the reason names them."""


def checks_markdown() -> str:
    """All checks as Markdown: `docs/checks.md` is this text, and a test says so when it is not."""
    parts = [
        "# Checks",
        "",
        "Made from the catalogue; do not edit by hand. Control numbers are those of NIST SP 800-53 Rev. 5.",
        "",
        _OUTCOMES,
    ]
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
        f"{one.why} {one.fix.format(**one.defaults())}",
    ]
    for param in one.params:
        lines += ["", f"- `{param.name}`: {param.default} {param.unit} by default; {param.why}."]
    if one.needs:
        lines += ["", "Needs from the export: " + ", ".join(f"`{name}`" for name in one.needs) + "."]
    return lines


def dialect_keys_markdown() -> str:
    """Every key of the dialect language by table, as Markdown: a part of `docs/dialects.md` is this text."""
    parts: list[str] = []
    for table in mapped.tables():
        docs = mapped.key_docs(table)
        about = (table.__doc__ or "").partition("\n\n")[0].strip()
        tag = table.__struct_config__.tag
        name = re.sub(r"(?<!^)(?=[A-Z])", " ", table.__name__.removesuffix("Map").removesuffix("Structure")).lower()
        heading = f"structure, family {tag}" if tag else name
        parts += [f"### {heading}", "", about, ""]
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

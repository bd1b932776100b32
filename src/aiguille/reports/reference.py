"""The check reference, made from the catalogue itself."""

from __future__ import annotations

from aiguille.baseline import CATALOGUE, Check

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

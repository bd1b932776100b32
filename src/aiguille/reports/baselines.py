"""Views of baselines and their checks, and the commented file to tailor."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from aiguille._version import __version__
from aiguille.baseline import Acceptance, Area, Baseline, Check, Param
from aiguille.reports.data import Data
from aiguille.reports.text import counted, visible


def _value(value: Any) -> Any:
    return list(value) if isinstance(value, tuple) else value


def list_data(baselines: Sequence[Baseline], checks: Sequence[Check]) -> Data:
    """Baselines and checks; `schemas/baseline-list.schema.json`."""
    return {
        "aiguille": {"version": __version__},
        "baselines": [{"name": one.name, "about": one.layers[-1].about} for one in baselines],
        "checks": [
            {
                "check": one.id,
                "area": one.area.value,
                "severity": one.severity.value,
                "title": one.title,
                "controls": list(one.controls),
            }
            for one in checks
        ],
    }


def explain_data(check: Check) -> Data:
    """One check; `schemas/baseline-explain.schema.json`."""
    return {
        "aiguille": {"version": __version__},
        "check": check.id,
        "area": check.area.value,
        "title": check.title,
        "severity": check.severity.value,
        "why": check.why,
        "how": check.how,
        "needs": [*check.needs, *(need.words for need in check.asks)],
        "parameters": [
            {"name": p.name, "type": _type(p), "unit": p.unit, "default": _value(p.default), "why": p.why}
            for p in check.params
        ],
        "fix": fix_of(check),
        "controls": list(check.controls),
    }


def check_data(baseline: Baseline | None, risks: Sequence[Acceptance], path: str) -> Data:
    """What a file says; `schemas/baseline-check.schema.json`."""
    return {
        "aiguille": {"version": __version__},
        "file": path,
        "kind": "baseline" if baseline is not None else "accepted risks",
        "baseline": baseline.name if baseline is not None else None,
        "extends": [layer.name for layer in baseline.layers[:-1]] if baseline is not None else [],
        "checks": len(chosen_ids(baseline)) if baseline is not None else None,
        "own_checks": [one.id for layer in baseline.layers for one in layer.own] if baseline is not None else [],
        "accepted": [
            {"line": one.line, "about": one.about, "owner": one.risk.owner, "until": str(one.risk.until)}
            for one in risks
        ],
    }


def chosen_ids(baseline: Baseline) -> list[str]:
    """The checks that run on a device no scope is about."""
    return [one.check.id for one in baseline.usual()]


def fix_of(check: Check) -> str:
    """The advice with default parameters."""
    return check.fix.format(
        **{
            name: ", ".join(map(str, value)) if isinstance(value, tuple) else value
            for name, value in check.defaults().items()
        }
    )


def _type(param: Param) -> str:
    return (
        f"list of {param.of.value}"
        if param.type is tuple
        else {int: "whole number", float: "number", bool: "true or false"}.get(param.type, "text")
    )


def show_list(console: Console, baselines: Sequence[Baseline], checks: Sequence[Check]) -> None:
    """Baselines, then checks by area."""
    table = Table.grid(padding=(0, 2))
    for one in baselines:
        table.add_row(Text(one.name, "bold"), Text(one.layers[-1].about))
    console.print(Text("Baselines", "bold"))
    console.print(Padding(table, (0, 0, 0, 2)))
    for area in Area:
        mine = [check for check in checks if check.area is area]
        if not mine:
            continue
        console.print()
        console.print(Text(f"{area.value}, {counted(len(mine), 'check')}", "bold"))
        rows = Table.grid(padding=(0, 2))
        rows.add_column(no_wrap=True)
        rows.add_column(no_wrap=True)
        rows.add_column(overflow="fold")
        for check in mine:
            rows.add_row(Text(check.id), Text(check.severity.value, "dim"), Text(check.title))
        console.print(Padding(rows, (0, 0, 0, 2)))


def show_explain(console: Console, check: Check) -> None:
    """Everything there is to know of a check."""
    console.print(Text.assemble((check.id, "bold"), "  ", (f"severity {check.severity.value}", "dim")))
    console.print(Text(check.title))
    rows = Table.grid(padding=(0, 2))
    rows.add_column(width=10, justify="right")
    rows.add_column(overflow="fold")
    rows.add_row(Text("why", "dim"), Text(check.why))
    rows.add_row(Text("outcome", "dim"), Text(check.how))
    settings = (name.rpartition(".")[2].replace("_", " ") for name in check.needs)
    needs = ", ".join((*settings, *(need.words for need in check.asks)))
    rows.add_row(
        Text("needs", "dim"),
        Text(f"{needs}; where that is missing, the outcome says so" if needs else "see under outcome"),
    )
    for number, param in enumerate(check.params):
        default = ", ".join(map(str, param.default)) if isinstance(param.default, tuple) else str(param.default)
        kind = _type(param) if param.unit in _type(param) else f"{_type(param)}, {param.unit}"
        said = Text.assemble((param.name, "bold"), f"  {kind}; default {default or 'none'}: {param.why}")
        rows.add_row(Text("" if number else "parameters", "dim"), said)
    rows.add_row(Text("fix", "dim"), Text(fix_of(check)))
    rows.add_row(
        Text("controls", "dim"),
        Text(f"{', '.join(check.controls)} (NIST SP 800-53 Rev. 5)" if check.controls else "none named"),
    )
    console.print()
    console.print(rows)


def show_check(console: Console, baseline: Baseline | None, risks: Sequence[Acceptance], path: str) -> None:
    """What a file says, in a few lines."""
    if baseline is None:
        console.print(
            f"{visible(path)}: a file of accepted risks, {counted(len(risks), 'risk')}, nothing wrong with it"
        )
        rows = Table.grid(padding=(0, 2))
        for one in risks:
            rows.add_row(
                Text(f"line {one.line}", "dim"),
                Text(visible(one.about)),
                Text(f"until {one.risk.until}, {visible(one.risk.owner)}"),
            )
        console.print(Padding(rows, (0, 0, 0, 2)))
        return
    layer = baseline.layers[-1]
    console.print(f"{visible(path)}: baseline '{visible(layer.name)}', nothing wrong with it")
    rows = Table.grid(padding=(0, 2))
    rows.add_column(justify="right")
    rows.add_column(overflow="fold")
    if len(baseline.layers) > 1:
        rows.add_row(
            Text("extends", "dim"), Text(", ".join(visible(one.name) for one in reversed(baseline.layers[:-1])))
        )
    rows.add_row(
        Text("checks", "dim"),
        Text(f"{len(chosen_ids(baseline))} of {len(baseline.catalogue)}, where no scope says otherwise"),
    )
    if layer.own:
        rows.add_row(Text("own", "dim"), Text(", ".join(one.id for one in layer.own)))
    if layer.settings:
        rows.add_row(Text("set", "dim"), Text(", ".join(layer.settings)))
    if layer.scopes:
        rows.add_row(Text("scopes", "dim"), Text(counted(len(layer.scopes), "scope")))
    console.print(Padding(rows, (0, 0, 0, 2)))


def template(name: str, extends: str, checks: Sequence[Check]) -> str:
    """A commented baseline file to tailor: every check with its parameters, all of them commented out."""
    lines = [
        "# A baseline to make your own. What starts with # is as the baseline it extends has it: take the # away to change it.",
        "# `aiguille baseline explain CHECK` explains what a check does; `aiguille baseline check THIS-FILE` whether all is well.",
        f"baseline: {name}",
        "about: say for whom and for what",
        f"extends: {extends}",
        "",
        "# Checks or whole areas to leave out.",
        "omit: []",
        "",
        "# What is different for some devices: by names (* stands for anything), tags, dialects or sides.",
        "scopes: []",
        "#  - devices: {tags: [server]}",
        "#    omit: [deny.egress]",
        "#    settings:",
        "#      access.idle-timeout: {at_most: 5 minutes}",
        "",
        "# Checks of your own: rules that fit the condition are findings.",
        "own-checks: []",
        "#  - id: rules.no-ftp",
        "#    title: FTP is let through",
        "#    severity: high",
        "#    advice: Use SFTP instead.",
        "#    rules: {action: [accept], to: [outside], service: [tcp/21]}",
        "",
        "# Parameters and severities. Take the {} away with the first # below; lines with -- explain.",
        "settings: {}",
    ]
    for area in Area:
        mine = [one for one in checks if one.area is area]
        lines += ["", f"  # ---- {area.value} ----"] if mine else []
        for one in mine:
            lines += [f"  # -- {one.title}.", f"  #{one.id}:", f"  #  severity: {one.severity.value}"]
            for param in one.params:
                lines += [f"  # -- {param.unit}: {param.why}", f"  #  {param.name}: {_yaml(param.default)}"]
    return "\n".join(lines) + "\n"


def _yaml(value: Any) -> str:
    if isinstance(value, tuple):
        return "[" + ", ".join(_yaml(one) for one in value) + "]"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, str):
        return "'" + value.replace("'", "''") + "'"
    return f"{value:g}" if isinstance(value, float) else str(value)

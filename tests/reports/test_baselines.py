"""Views of baselines, location data and audits with accepted risks: whole, within the width, safe with hostile words."""

from __future__ import annotations

import io
from collections.abc import Callable
from datetime import date
from pathlib import Path

import pytest
from rich.console import Console

import aiguille
from aiguille.analysis.countries import located
from aiguille.baseline import CATALOGUE, accepted, load
from aiguille.baseline.files import shipped
from aiguille.baseline.reaching import reach_of
from aiguille.model import Estate
from aiguille.reports import baselines, data, geo, terminal
from tests.baseline.devices import SSH, zoned
from tests.baseline.test_reaching import DATA


def shown(view: Callable[[Console], None], width: int = 100) -> str:
    out = io.StringIO()
    view(Console(file=out, width=width, no_color=True, highlight=False, emoji=False, markup=False))
    return out.getvalue()


@pytest.mark.parametrize("width", [60, 100, 140])
def test_every_check_is_explained_within_the_width(width: int) -> None:
    for one in CATALOGUE:
        text = shown(lambda console, one=one: baselines.show_explain(console, one), width)
        assert max(map(len, (line.rstrip() for line in text.splitlines()))) <= width
        flat = " ".join(text.split())
        assert all(" ".join(part.split()) in flat for part in (one.title, one.why, one.how, baselines.fix_of(one)))
        assert all(param.name in flat for param in one.params)
        assert not any(f"{{{param.name}" in flat for param in one.params)


def test_the_list_names_every_check_and_baseline() -> None:
    known = [load(name, CATALOGUE) for name in shipped()]
    text = shown(lambda console: baselines.show_list(console, known, CATALOGUE))
    assert all(one.id in text for one in CATALOGUE)
    assert all(one.name in text for one in known)
    told = baselines.list_data(known, CATALOGUE)
    assert [c["check"] for c in told["checks"]] == [one.id for one in CATALOGUE]


def test_a_file_is_summed_up(tmp_path: Path) -> None:
    (tmp_path / "own.yaml").write_text(
        "baseline: own\nextends: strict\nomit: [geo]\nsettings: {access.redirect: {severity: high}}\n"
        "scopes:\n  - {devices: {tags: [x]}, omit: [usage]}\nown-checks:\n"
        "  - {id: rules.mine, title: t, advice: a., rules: {service: [tcp/21]}}\n"
    )
    baseline = load(str(tmp_path / "own.yaml"), CATALOGUE)
    flat = " ".join(shown(lambda console: baselines.show_check(console, baseline, (), "own.yaml")).split())
    assert "baseline 'own', nothing wrong with it" in flat
    geo_checks = sum(one.area.value == "geo" for one in CATALOGUE)
    assert f"checks {len(CATALOGUE) + 1 - geo_checks} of {len(CATALOGUE) + 1}" in flat
    assert all(word in flat for word in ("extends strict", "own rules.mine", "set access.redirect", "1 scope"))


HOSTILE = "\x1b[31mred\x1b]0;title\x07 [bold]not[/bold] <b>bold</b> =1+1"


def test_words_of_strangers_reach_no_terminal_raw(tmp_path: Path) -> None:
    risk = f"accepted:\n  - check: rules.undocumented\n    reason: {HOSTILE!r}\n    owner: {HOSTILE!r}\n    until: 2027-01-31\n"
    (tmp_path / "risks.yaml").write_text(risk.replace("\\x1b", "").replace("\\x07", ""))
    device = located(
        zoned(
            f'-A INPUT -i eth0 {SSH} -j ACCEPT\n-A FORWARD -i eth0 {SSH} -m comment --comment "a [red]b[/red]" -j ACCEPT'
        ),
        DATA,
    )
    estate = Estate((device,), date(2026, 11, 30), locations=DATA)
    audit = aiguille.audit(estate, accepted=str(tmp_path / "risks.yaml"))
    assert audit.accepted
    risks = accepted.load(str(tmp_path / "risks.yaml"), CATALOGUE)
    views: tuple[Callable[[Console], None], ...] = (
        lambda console: terminal.show_audit(console, audit),
        lambda console: geo.show_reach(console, estate, reach_of(estate)),
        lambda console: baselines.show_check(console, None, risks, "risks.yaml"),
    )
    for view in views:
        text = shown(view)
        assert "\x1b" not in text
        assert max(len(line.rstrip()) for line in text.splitlines()) <= 100
    assert "[bold]not[/bold]" in " ".join(shown(views[0]).split())
    content = data.audit_data(audit)
    assert content["accepted"][0]["reason"].endswith("=1+1")


def test_open_questions_with_one_reason_stand_together() -> None:
    audit = aiguille.audit(Estate((zoned(""),), date(2026, 11, 30)))
    text = shown(lambda console: terminal.show_audit(console, audit))
    reason = "the export names no accounts; ask for the list of those who may log in"
    assert " ".join(text.split()).count("names no accounts") == 1
    asked = [o.check for o in audit.outcomes if o.because == reason]
    assert len(asked) >= 3
    assert all(check in text for check in asked)

"""The report to hand in: one HTML file that needs no network, and no script to be read."""

from __future__ import annotations

from base64 import b64encode
from functools import cache
from hashlib import sha256
from importlib import resources
from typing import TYPE_CHECKING

from aiguille._version import __version__
from aiguille.analysis.sharing import share
from aiguille.baseline import Severity
from aiguille.reports import figures
from aiguille.reports.dossier import Dossier
from aiguille.reports.page.sections import SECTIONS, Section
from aiguille.reports.text import counted, visible, visible_lines

if TYPE_CHECKING:
    from jinja2 import Environment


def as_html(dossier: Dossier) -> str:
    """The page; the same for the same audit. A section without anything to say is left out, and its link with it."""
    environment = _environment()

    def rendered(section: Section) -> str | None:
        content = section.build(dossier)
        return None if content is None else environment.get_template(f"{section.name}.html").render(content)

    figures.load()
    _ = dossier.rules, dossier.reach  # several sections ask for them
    # Figures take longest, so those that have one are handed out first.
    order = sorted(SECTIONS, key=lambda one: not one.figure)
    texts = dict(zip((one.name for one in order), share(rendered, order, dossier.jobs), strict=True))
    parts = [
        {"name": one.name, "title": one.title, "html": text, "appendix": one.appendix}
        for one in SECTIONS
        if (text := texts[one.name]) is not None
    ]
    # Figures carry styles of their own, so that these stay free; of scripts this very one runs and no other (CSP3, 6.7.2.3).
    folder = resources.files("aiguille.reports.page") / "templates"
    script = (folder / "page.js").read_text(encoding="utf-8")
    return environment.get_template("page.html").render(
        estate=dossier.audit.estate,
        baseline=dossier.audit.baseline.name if dossier.audit.baseline else "none",
        version=__version__,
        sections=parts,
        style=(folder / "style.css").read_text(encoding="utf-8"),
        script=script,
        script_hash=f"sha256-{b64encode(sha256(script.encode()).digest()).decode()}",
    )


@cache
def _environment() -> Environment:
    from jinja2 import Environment, PackageLoader, StrictUndefined

    made = Environment(
        loader=PackageLoader("aiguille.reports.page"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        # Everything that is put in goes through `visible`, so that no template can forget it.
        finalize=_shown,
    )
    made.filters["lines"] = visible_lines
    made.globals.update(counted=counted, severities=list(Severity))
    return made


def _shown(value: object) -> object:
    """Text with its control characters made visible; what was escaped before is left alone."""
    if isinstance(value, str) and not hasattr(value, "__html__") and not value.isprintable():
        return "\n".join(map(visible, value.split("\n")))
    return value

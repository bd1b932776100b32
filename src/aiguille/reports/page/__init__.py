"""The report to hand in: one HTML file that needs no network, and no script to be read."""

from __future__ import annotations

from base64 import b64encode
from functools import cache
from hashlib import sha256
from importlib import resources
from typing import TYPE_CHECKING

from aiguille._version import __version__
from aiguille.baseline import Severity
from aiguille.reports.dossier import Dossier
from aiguille.reports.page.sections import SECTIONS
from aiguille.reports.text import counted, visible, visible_lines

if TYPE_CHECKING:
    from jinja2 import Environment


def as_html(dossier: Dossier) -> str:
    """The page; the same for the same audit. A section without anything to say is left out, and its link with it."""
    made = environment()
    parts = [
        {
            "name": one.name,
            "title": one.title,
            "html": made.get_template(f"{one.name}.html").render(content),
            "appendix": one.appendix,
        }
        for one in SECTIONS
        if (content := one.build(dossier)) is not None
    ]
    # Bars have a width each, so styles stay free; of scripts this very one runs and no other (CSP3, 6.7.2.3).
    folder = resources.files("aiguille.reports.page") / "templates"
    script = (folder / "page.js").read_text(encoding="utf-8")
    return made.get_template("page.html").render(
        estate=dossier.audit.estate,
        baseline=dossier.audit.baseline.name if dossier.audit.baseline else "none",
        version=__version__,
        sections=parts,
        style=(folder / "style.css").read_text(encoding="utf-8"),
        script=script,
        script_hash=f"sha256-{b64encode(sha256(script.encode()).digest()).decode()}",
    )


@cache
def environment() -> Environment:
    """What templates are filled in by; takes long to load."""
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

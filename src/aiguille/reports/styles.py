"""Colours of the terminal, which can be read on light and on dark ground."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.text import Text

if TYPE_CHECKING:
    from aiguille.baseline import Severity  # whoever lists rules waits for no check

_STYLES = {
    "critical": "bold white on dark_red",
    "high": "bold white on red3",
    "medium": "black on orange1",
    "low": "black on light_sky_blue1",
    "info": "black on grey85",
}
LINE_STYLE = "green4"
PACKET_STYLE = "dark_cyan"


def severity_style(severity: Severity) -> str:
    """The colours of a severity."""
    return _STYLES[severity.value]


def severity_badge(severity: Severity) -> Text:
    """The severity as it stands before a finding's title."""
    return Text(f" {severity.value.upper()} ", _STYLES[severity.value])

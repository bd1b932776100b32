"""Colours of the terminal, which can be read on light and on dark ground."""

from __future__ import annotations

from rich.text import Text

from aiguille.baseline import Severity

_STYLES = {
    Severity.CRITICAL: "bold white on dark_red",
    Severity.HIGH: "bold white on red3",
    Severity.MEDIUM: "black on orange1",
    Severity.LOW: "black on light_sky_blue1",
    Severity.INFO: "black on grey85",
}
LINE_STYLE = "green4"
PACKET_STYLE = "dark_cyan"


def severity_style(severity: Severity) -> str:
    """The colours of a severity."""
    return _STYLES[severity]


def severity_badge(severity: Severity) -> Text:
    """The severity as it stands before a finding's title."""
    return Text(f" {severity.value.upper()} ", _STYLES[severity])

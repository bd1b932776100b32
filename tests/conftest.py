"""Settings of the whole suite."""

from __future__ import annotations

import pytest
from hypothesis import HealthCheck, settings

# Times vary on shared machines, so no test may fail for being slow; speed is measured in benchmarks/.
settings.register_profile("suite", deadline=None, suppress_health_check=[HealthCheck.too_slow], max_examples=100)
settings.load_profile("suite")


def pytest_terminal_summary(terminalreporter: pytest.TerminalReporter) -> None:
    """What was compared with the kernel, with the seeds, also where workers keep their own output."""
    for report in terminalreporter.getreports("passed"):
        for name, text in report.user_properties:
            if name == "kernel":
                terminalreporter.write_line(f"kernel: {text}")

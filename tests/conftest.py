"""Settings of the whole suite."""

from __future__ import annotations

import os

import pytest
from hypothesis import HealthCheck, settings

# An installed program keeps its bytecode; compiling it for each command anew would take twice as long as most commands.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)

# Times vary on shared machines, so no test may fail for being slow; speed is measured in benchmarks/.
settings.register_profile("suite", deadline=None, suppress_health_check=[HealthCheck.too_slow], max_examples=100)
settings.load_profile("suite")


def pytest_terminal_summary(terminalreporter: pytest.TerminalReporter) -> None:
    """What was compared with the kernel, with the seeds, also where workers keep their own output."""
    for report in terminalreporter.getreports("passed"):
        for name, text in report.user_properties:
            if name == "kernel":
                terminalreporter.write_line(f"kernel: {text}")


_LONGEST = ("test_the_guide_goes_as_it_says", "test_the_examples_of_the_library_print_what_the_page_says")


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """What takes longest begins first, so that no worker is left with it alone at the end."""
    items.sort(key=lambda item: item.originalname not in _LONGEST if isinstance(item, pytest.Function) else True)

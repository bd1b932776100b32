"""Network namespaces for tests against the real packet filter."""

from __future__ import annotations

import os
import shutil
import subprocess
import uuid
from collections.abc import Iterator

import pytest

REQUIRED = os.environ.get("AIGUILLE_REQUIRE_KERNEL") == "1"


def missing() -> str:
    """Why the kernel cannot be asked here; empty if it can."""
    if os.geteuid() != 0:
        return "needs root"
    for program in ("ip", "iptables-restore", "ip6tables-restore", "iptables-save"):
        if shutil.which(program) is None:
            return f"needs the program {program}"
    name = f"aig-probe-{os.getpid()}"  # the workers of a test run ask at the same time
    probe = subprocess.run(["ip", "netns", "add", name], capture_output=True, check=False)
    subprocess.run(["ip", "netns", "del", name], capture_output=True, check=False)
    return "" if probe.returncode == 0 else "network namespaces are not allowed here"


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    mine = [item for item in items if "tests/kernel" in str(item.path)]
    why = missing() if mine else ""
    for item in mine:
        item.add_marker(pytest.mark.kernel)
        if why and not REQUIRED:
            item.add_marker(pytest.mark.skip(reason=f"kernel tests: {why}"))


class Namespace:
    """A network namespace of our own."""

    def __init__(self, name: str) -> None:
        self.name = name

    def try_run(self, *words: str) -> bool:
        """Whether a command succeeds."""
        return (
            subprocess.run(["ip", "netns", "exec", self.name, *words], capture_output=True, check=False).returncode == 0
        )

    def run(self, *words: str, text: str | None = None) -> str:
        done = subprocess.run(
            ["ip", "netns", "exec", self.name, *words], input=text, capture_output=True, text=True, check=False
        )
        assert done.returncode == 0, f"{' '.join(words)}: {done.stderr}"
        return done.stdout


@pytest.fixture
def namespace() -> Iterator[Namespace]:
    name = f"aig-{uuid.uuid4().hex[:8]}"
    subprocess.run(["ip", "netns", "add", name], check=True)
    try:
        yield Namespace(name)
    finally:
        subprocess.run(["ip", "netns", "del", name], check=True)

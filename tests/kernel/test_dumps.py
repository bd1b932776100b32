"""What the packet filter's own programs print is what we read."""

from __future__ import annotations

import json
import re
from pathlib import Path

from aiguille.demo import files
from tests.helpers import run
from tests.kernel.conftest import Namespace


def bare(dump: str) -> list[str]:
    """A dump without comments and counters, which time and traffic change, tables in alphabetical order."""
    lines = [re.sub(r"\[\d+:\d+\]\s*", "", line).strip() for line in dump.splitlines() if not line.startswith("#")]
    tables = "\n".join(lines).split("COMMIT")
    return sorted(table.strip() for table in tables if table.strip())


def test_the_sample_dumps_are_what_the_kernel_would_print(namespace: Namespace) -> None:
    for name, tool in (("iptables.v4", "iptables"), ("iptables.v6", "ip6tables")):
        dump = files()[f"exports/valley-gw/{name}"].decode()
        namespace.run(f"{tool}-restore", text=dump)
        assert bare(namespace.run(f"{tool}-save")) == bare(dump)


def test_a_namespace_filled_by_hand_is_audited(namespace: Namespace, tmp_path: Path) -> None:
    for command in (
        "-P INPUT DROP",
        "-N admin",
        "-A INPUT -i lo -j ACCEPT",
        "-A INPUT -m state --state ESTABLISHED -j ACCEPT",
        "-A INPUT -p tcp -m multiport --dports 20:23,443 -j admin",
        "-A admin -s 10.0.0.0/8 -j RETURN",
        "-A admin -j ACCEPT",
        "-t nat -A POSTROUTING -o wan0 -j MASQUERADE",
    ):
        namespace.run("iptables", *command.split())
    (tmp_path / "host.v4").write_text(namespace.run("iptables-save", "-c"))
    done = run("audit", "host.v4", "--json", cwd=tmp_path)
    assert done.returncode == 1, done.stderr
    data = json.loads(done.stdout)
    found = {f["check"]: f for f in data["findings"]}
    reachable = found["access.reachable-from-outside"]
    assert "ssh" in reachable["detail"]
    assert reachable["witness"]["in"] == "wan0"
    assert not reachable["witness"]["src"].startswith("10.")
    assert [e["text"].split("] ")[1] for e in reachable["evidence"]] == [
        "-A INPUT -p tcp -m multiport --dports 20:23,443 -j admin",
        "-A admin -j ACCEPT",
    ]
    assert {"access.cleartext", "deny.through-device", "deny.from-device", "logging.refusals"} <= set(found)
    assert any("is a guess" in note for note in data["notes"])

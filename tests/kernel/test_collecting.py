"""The block of commands that docs/collecting.md gives, run on a host, leads to an audit that leaves no question open."""

from __future__ import annotations

import json
import re
from pathlib import Path

from tests.helpers import run
from tests.kernel.sandbox import Sandbox

PAGE = Path(__file__).parents[2] / "docs" / "collecting.md"
RULES = """
ip link add eth0 type veth peer name far; ip link set eth0 up; ip link set far up
ip addr add 192.0.2.2/24 dev eth0; ip route add default via 192.0.2.1
ipset create admins hash:ip; ipset add admins 192.0.2.77
iptables -P INPUT DROP; iptables -P FORWARD DROP
iptables -A INPUT -i lo -j ACCEPT
iptables -A INPUT -m conntrack --ctstate ESTABLISHED,RELATED -j ACCEPT
iptables -A INPUT -p tcp --dport 22 -m set --match-set admins src -j ACCEPT
iptables -A INPUT -p tcp --dport 2200 -j ACCEPT
iptables -A INPUT -m limit --limit 5/min -j LOG
ip6tables -P INPUT DROP; ip6tables -P FORWARD DROP
"""
FILES = {
    "etc/ssh/sshd_config": "Port 22\nPort 2200\nClientAliveInterval 300\n",
    "etc/fail2ban/jail.local": "[sshd]\nenabled = true\nmaxretry = 3\nbantime = 1h\n",
}


def test_what_the_page_asks_for_is_enough(tmp_path: Path) -> None:
    found = re.search(r"<!-- collect -->\n```sh\n(.*?)```", PAGE.read_text(), re.DOTALL)
    assert found is not None
    block = found[1].replace('"/tmp/$(hostname).tgz"', f'"{tmp_path}/gate.tgz"')
    assert str(tmp_path) in block
    with Sandbox(tmp_path) as box:
        for place, text in FILES.items():
            folder = "/".join(place.split("/")[:2])
            target = tmp_path / place
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_text(text)
            box.mounts[folder] = tmp_path / folder
        made = [Path("/", folder) for folder in box.mounts if not Path("/", folder).exists()]
        for point in made:
            point.mkdir()
        try:
            box.run(f"{RULES}\n{block}")
        finally:
            for point in made:
                point.rmdir()
    done = run("audit", "gate.tgz", "--json", cwd=tmp_path)
    assert done.returncode == 1, done.stderr
    data = json.loads(done.stdout)
    assert not data["failures"]
    (device,) = data["devices"]
    assert device["make"] == "Linux host (the dump of iptables)"
    high = [(f["check"], f["detail"]) for f in data["findings"] if f["severity"] == "high"]
    assert high[0] == ("access.reachable-from-outside", "ssh answers through zone outside to any IPv4 address.")
    assert {check for check, _ in high[1:]} <= {"system.start-up", "system.unsaved"}  # as it happens to be set up here
    (finding,) = (f for f in data["findings"] if f["check"] == "access.reachable-from-outside")
    assert finding["witness"]["certain"]
    assert {Path(e["file"]).name for e in finding["evidence"]} == {"rules.v4", "sshd_config"}
    # Which networks are inside only the auditor knows; the rest no host tells, or not this one, which has nothing listening,
    # no rules stored, and leaves its ciphers to its release.
    still_open = {o["check"] for o in data["outcomes"] if o["outcome"] == "cannot tell"}
    assert still_open <= {
        "access.no-source-restriction", "access.redirect", "access.password-policy", "access.weak-ciphers", "access.discovery",
        "logging.collector-days", "logging.time-source", "rules.outgoing-mail", "usage.never-hit", "usage.unused-account",
        "usage.rule-order", "usage.no-listener", "system.old-firmware", "system.updates", "system.unsaved",
    }  # fmt: skip
    read = json.loads(run("read", "gate.tgz", "--json", cwd=tmp_path).stdout)["devices"][0]
    assert (read["ledger"]["unread"], read["ledger"]["problems"]) == ([], [])
    settings = {one["name"]: one["value"] for one in read["settings"]}
    assert settings["lockout after failed logins"] == "3"
    assert settings["idle sessions close after"] == "15 minutes"
    assert "net.ipv4.tcp_syncookies" in settings

"""What keeps a host in order: time, passwords, units, announcements, stored rules."""

from __future__ import annotations

import pytest

from aiguille.demo import files
from aiguille.model import Device
from aiguille.readers.bundle import is_wanted
from tests.helpers import DUMP, linux

UNITS = "UNIT FILE STATE PRESET\n%s\n\n2 unit files listed.\n"


@pytest.mark.parametrize(
    ("host", "expected", "standing"),
    [
        (
            {"etc/chrony/chrony.conf": "# none\nserver 10.0.0.2 iburst\npool pool.example\n"},
            ("10.0.0.2", "pool.example"),
            "stated",
        ),
        ({"etc/chrony.conf": "driftfile /var/lib/x\n"}, (), "default"),
        (
            {"etc/chrony/sources.d/a.sources": "peer 10.0.0.3\n", "etc/chrony/chrony.conf": "rtcsync\n"},
            ("10.0.0.3",),
            "stated",
        ),
        ({"etc/systemd/timesyncd.conf": "[Time]\nNTP=a.example b.example\n"}, ("a.example", "b.example"), "stated"),
        ({"etc/systemd/timesyncd.conf": "[Time]\n"}, ("the servers built in",), "default"),
        ({"etc/ntp.conf": "restrict default\nserver 10.0.0.9\n"}, ("10.0.0.9",), "stated"),
        ({}, None, "unknown"),
    ],
)
def test_time_sources(host: dict[str, str], expected: tuple[str, ...] | None, standing: str) -> None:
    device = linux(host)
    found = device.time_sources
    assert (found.value if found.known else None, found.standing) == (expected, standing)
    assert device.ledger.unread_lines == 0


def test_keys_of_time_servers_are_left_where_they_are() -> None:
    wanted = (
        "chrony/chrony.conf",
        "chrony/conf.d/a.conf",
        "chrony/sources.d/a.sources",
        "chrony.conf",
        "ntp.conf",
        "ntpsec/ntp.conf",
    )
    assert all(is_wanted(f"etc/{place}") for place in wanted)
    assert not any(is_wanted(f"etc/{place}") for place in ("chrony/chrony.keys", "ntp.keys", "ntp/keys", "ntpsec/keys"))


@pytest.mark.parametrize(
    ("text", "length", "classes"),
    [("minlen = 14\nminclass=3\n", (14, "stated"), (3, "stated")), ("# nothing\n", (8, "default"), (0, "default"))],
)
def test_passwords(text: str, length: tuple[int, str], classes: tuple[int, str]) -> None:
    admin = linux({"etc/security/pwquality.conf": text}).administration
    assert (admin.password_length.value, admin.password_length.standing) == length
    assert (admin.password_classes.value, admin.password_classes.standing) == classes


def ufw(enabled: str) -> dict[str, str]:
    """The shop's files of ufw, switched on or off."""
    root = "exports/season-pass-web/"
    wanted = (root + "etc/ufw/", root + "etc/default/")
    found = {name.removeprefix(root): data.decode() for name, data in files().items() if name.startswith(wanted)}
    return {**found, "etc/ufw/ufw.conf": f"ENABLED={enabled}\n"}


@pytest.mark.parametrize(
    ("host", "dump", "expected"),
    [
        ({"units": UNITS % "netfilter-persistent.service enabled enabled"}, DUMP, True),
        ({"units": UNITS % "netfilter-persistent.service disabled enabled"}, DUMP, False),
        ({"units": UNITS % "ssh.service enabled enabled"}, DUMP, False),
        ({}, DUMP, None),
        (ufw("yes"), "", True),
        (ufw("no"), "", False),
        ({**ufw("yes"), "units": UNITS % "ufw.service disabled enabled"}, "", False),
        ({**ufw("yes"), "units": UNITS % "ufw.service enabled enabled"}, "", True),
    ],
)
def test_whether_rules_are_loaded_at_start_up(host: dict[str, str], dump: str, expected: bool | None) -> None:
    found = linux(host, dump).loads_rules
    assert (found.value if found.known else None) == expected


@pytest.mark.parametrize(
    ("sockets", "expected"),
    [
        ("udp UNCONN 0 0 0.0.0.0:5353 0.0.0.0:*\n", True),
        ("udp UNCONN 0 0 [::]:1900 [::]:*\n", True),
        ("tcp LISTEN 0 0 0.0.0.0:5353 0.0.0.0:*\n", False),
        ("udp UNCONN 0 0 127.0.0.1:5355 0.0.0.0:*\n", False),
    ],
)
def test_announcements(sockets: str, expected: bool) -> None:
    assert linux({"ss": sockets}).administration.discovery.value is expected
    assert not linux({}).administration.discovery.known


def saved(device: Device) -> list[int] | None:
    """How many rules each base chain stored has."""
    if device.saved is None:
        return None
    return [len(chain.rules) for base in device.saved for chain in base.chains if chain.base is not None]


def test_rules_stored_for_the_next_start_stand_beside_those_that_run() -> None:
    chain = "type filter hook input priority filter; policy drop;\n\t\tiifname lo accept"
    running = f"table inet f {{\n\tchain input {{\n\t\t{chain}\n\t}}\n}}\n"
    both = linux({"ruleset": running, "etc/nftables.conf": "flush ruleset\n" + running}, dump="")
    assert (saved(both), both.make) == ([1, 0, 0], "Linux host (nftables.conf, with the dump of nftables)")
    assert saved(linux({"etc/nftables.conf": running}, dump="")) is None  # stored is all there is, nothing to compare
    assert saved(linux({"ruleset": running}, dump="")) is None
    assert saved(linux({"etc/iptables/rules.v4": DUMP})) == [1, 0, 0]
    assert both.ledger.unread_lines == 0

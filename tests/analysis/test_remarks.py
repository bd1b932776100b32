"""What a rule's name or remark says of the device's own page."""

from __future__ import annotations

import pytest

from aiguille.analysis.program import Programs
from aiguille.analysis.remarks import said_to_manage
from aiguille.analysis.services import LOGINS
from tests.helpers import DUMP, filter_table, linux

RULE = '-A %s -i eth0 -p tcp -m multiport --dports %s -m comment --comment "%s" -j %s'


@pytest.mark.parametrize(
    ("chain", "ports", "said", "action", "expected"),
    [
        ("INPUT", "443", "admin page", "ACCEPT", [("web administration", 443, False)]),
        (
            "INPUT",
            "80,443",
            "web gui for management",
            "ACCEPT",
            [("http", 80, True), ("web administration", 443, False)],
        ),
        ("INPUT", "7443", "management-console LV-9", "ACCEPT", [("web administration", 7443, False)]),
        ("INPUT", "443", "webadmin", "ACCEPT", [("web administration", 443, False)]),
        ("INPUT", "22,443", "admin_login", "ACCEPT", [("web administration", 443, False)]),
        ("INPUT", "443", "shop, asked for by administration", "ACCEPT", []),
        ("INPUT", "443", "booking page", "ACCEPT", []),
        ("INPUT", "443", "configured for web shop", "ACCEPT", []),
        ("INPUT", "443", "managed web hosting", "ACCEPT", []),
        ("INPUT", "443", "web shop for administration", "ACCEPT", []),
        ("INPUT", "443", "asked for by web admin", "ACCEPT", []),
        ("INPUT", "443", "remote web admin", "ACCEPT", [("web administration", 443, False)]),
        ("INPUT", "443", "admin page", "DROP", []),
        ("FORWARD", "443", "admin page of the camera", "ACCEPT", []),
        ("INPUT", "8000:9000", "admin page", "ACCEPT", []),
    ],
)
def test_pages_a_remark_speaks_of(
    chain: str, ports: str, said: str, action: str, expected: list[tuple[str, int, bool]]
) -> None:
    found = list(said_to_manage(Programs(filter_table(RULE % (chain, ports, said, action))), LOGINS))
    assert [(one.name, one.terms[0].destination_ports[0].first, one.cleartext) for one in found] == expected
    assert all(one.where is not None for one in found)


def test_where_sockets_are_known_only_what_listens_counts() -> None:
    rules = DUMP.replace("COMMIT", RULE % ("INPUT", "443,7443", "admin page", "ACCEPT") + "\nCOMMIT")
    device = linux({"ss-tuln.txt": "tcp LISTEN 0 128 0.0.0.0:7443 0.0.0.0:*\n"}, rules)
    assert [one.terms[0].destination_ports[0].first for one in said_to_manage(Programs(device), LOGINS)] == [7443]

"""Which files make up which host, by their paths alone."""

from __future__ import annotations

import posixpath

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from aiguille.model import Side
from aiguille.readers import is_wanted, layout
from tests.helpers import linux

NAMES = st.sampled_from(
    ("etc", "usr", "box", "a", "b", "ufw", "firewalld", "shorewall", "ssh", "zones", "policy", "user.rules", "before.rules",
     "firewalld.conf", "sshd_config", "rules.v4", "notes.txt", "default", "lib")
)  # fmt: skip
PATHS = st.lists(NAMES, min_size=1, max_size=5).map("/".join)


@settings(max_examples=400)
@given(st.sets(PATHS, max_size=12))
def test_every_file_belongs_to_one_host_at_most_and_lies_below_its_root(paths: set[str]) -> None:
    # A name cannot be a file and a folder at once.
    files = sorted(p for p in paths if not any(other.startswith(f"{p}/") for other in paths))
    found = layout(files)
    seen: dict[str, str] = {}
    for root, places in found.items():
        for path, place in places.items():
            assert path in files
            assert path not in seen, f"{path} belongs to {seen.get(path)} and to {root}"
            seen[path] = root
            assert not place.startswith("/")
            assert ".." not in place.split("/")
            assert not root or path.startswith(f"{root}/")
            assert path.endswith(posixpath.basename(place))
    assert layout(list(reversed(files))) == found


@given(st.sets(PATHS, max_size=12), st.sampled_from(("deep", "deep/er")))
def test_a_folder_above_changes_no_place_below_etc(paths: set[str], above: str) -> None:
    files = sorted(f"etc/{p}" for p in paths if not any(other.startswith(f"{p}/") for other in paths))
    plain = layout(files).get("", {})
    moved = layout([f"{above}/{path}" for path in files]).get(above, {})
    assert {f"{above}/{path}": place for path, place in plain.items()} == moved


@pytest.mark.parametrize(
    ("place", "wanted"),
    [
        ("etc/ufw/user.rules", True),
        ("etc/default/ufw", True),
        ("etc/default/grub", False),
        ("etc/ssh/sshd_config.d/10.conf", True),
        ("etc/ssh/ssh_host_ed25519_key", False),
        ("etc/shadow", False),
        ("etc/passwd", True),
        ("etc/passwd-", False),
        ("etc/shorewall6/rules", True),
        ("etc/sysconfig/ip6tables", True),
        ("usr/lib/firewalld/services/ssh.xml", True),
        ("usr/share/shorewall/macro.SSH", True),
        ("usr/bin/nft", False),
        ("home/ann/.ssh/id_rsa", False),
        ("root/.bash_history", False),
        ("var/log/syslog", False),
        ("nft-ruleset.txt", True),
        ("printed/ip-addr.json", True),
    ],
)
def test_only_what_an_audit_needs_is_opened(place: str, wanted: bool) -> None:
    assert is_wanted(place) is wanted


def test_the_zone_of_the_default_route_is_the_outside_and_others_keep_their_interfaces() -> None:
    routes = '[{"dst":"default","dev":"eth0"}]\n'
    links = '[{"ifname":"eth0","flags":["UP"]},{"ifname":"eth1","flags":["UP"]},{"ifname":"eth2","flags":[]}]\n'
    files = {
        "etc/firewalld/firewalld.conf": "DefaultZone=public\n",
        "etc/firewalld/zones/public.xml": "<zone><forward/></zone>\n",
        "etc/firewalld/zones/office.xml": '<zone><interface name="eth1"/></zone>\n',
        "r.json": routes,
        "l.json": links,
    }
    device = linux(files, dump="")
    zones = {zone.name: (zone.interfaces, zone.side) for zone in device.zones}
    # Interfaces that no zone names are in the default zone.
    assert zones == {"office": (("eth1",), None), "public": (("eth0", "eth2"), Side.OUTSIDE)}
    assert "default route" in next(zone.guessed for zone in device.zones if zone.name == "public")

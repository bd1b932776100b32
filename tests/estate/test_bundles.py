"""Folders and archives laid out like the root of a host, or parts of one; and those that are packed to do harm."""

from __future__ import annotations

import io
import tarfile
import zipfile
from pathlib import Path

import pytest

from aiguille.estate import read
from tests.helpers import DUMP

UFW = {
    "ufw.conf": "ENABLED=yes\nLOGLEVEL=low\n",
    "before.rules": "*filter\n:ufw-before-input - [0:0]\n-A ufw-before-input -i lo -j ACCEPT\nCOMMIT\n",
    "after.rules": "*filter\n:ufw-after-input - [0:0]\nCOMMIT\n",
    "user.rules": "*filter\n-A ufw-user-input -p tcp --dport 22 -j ACCEPT\nCOMMIT\n",
    "before6.rules": "*filter\n:ufw6-before-input - [0:0]\nCOMMIT\n",
    "after6.rules": "*filter\n:ufw6-after-input - [0:0]\nCOMMIT\n",
    "user6.rules": "*filter\n:ufw6-user-input - [0:0]\nCOMMIT\n",
}
FIREWALLD = {"firewalld.conf": "DefaultZone=public\n", "zones/public.xml": '<zone><service name="ssh"/></zone>\n'}
SHOREWALL = {
    "zones": "fw firewall\nnet ipv4\n",
    "interfaces": "net eth0\n",
    "policy": "$FW net ACCEPT\nall all DROP\n",
    "shorewall.conf": "STARTUP_ENABLED=Yes\n",
}


def write(folder: Path, files: dict[str, str], below: str = "") -> Path:
    for name, text in files.items():
        path = folder / below / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
    return folder


def below(prefix: str, files: dict[str, str]) -> dict[str, str]:
    return {f"{prefix}{name}": text for name, text in files.items()}


LAYOUTS = [
    # files of the folder "in", names and makes of what is read
    (below("etc/ufw/", UFW), [("in", "ufw")]),
    (below("box/etc/ufw/", UFW), [("box", "ufw")]),
    (below("ufw/", UFW), [("in", "ufw")]),
    (UFW, [("in", "ufw")]),
    (below("firewalld/", FIREWALLD), [("in", "firewalld")]),
    (below("etc/firewalld/", FIREWALLD), [("in", "firewalld")]),
    (below("a/etc/ufw/", UFW) | below("b/etc/firewalld/", FIREWALLD), [("a", "ufw"), ("b", "firewalld")]),
    (below("shorewall/", SHOREWALL), [("in", "Shorewall")]),
    (SHOREWALL, [("in", "Shorewall")]),
    ({"etc/iptables/rules.v4": DUMP}, [("in", "the rules stored for the next start")]),
    ({"etc/ssh/sshd_config": "Port 22\n", "now.txt": DUMP}, [("in", "the dump of iptables")]),
    ({"host.v4": DUMP, "x/etc/nftables.conf": "table inet t {\n}\n"}, [("x", "nftables.conf"), ("host", "")]),
]


@pytest.mark.parametrize(("files", "expected"), LAYOUTS)
def test_hosts_are_found_by_their_layout(
    tmp_path: Path, files: dict[str, str], expected: list[tuple[str, str]]
) -> None:
    write(tmp_path / "in", files)
    estate = read([tmp_path / "in"])
    assert not estate.failures
    found = [
        (d.name, d.make.partition("(")[2].rstrip(")") if d.dialect == "linux-host" else "") for d in estate.devices
    ]
    assert found == expected


@pytest.mark.parametrize("kind", ["tar.gz", "tgz", "tar", "zip"])
def test_an_archive_reads_as_its_folder_does(tmp_path: Path, kind: str) -> None:
    files = below("box/etc/ufw/", UFW) | {"box/etc/passwd": "root:x:0:0::/root:/bin/bash\n", "box/home/x/secret": "s\n"}
    write(tmp_path / "in", files)
    path = tmp_path / f"box.{kind}"
    if kind == "zip":
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
            for name, text in files.items():
                archive.writestr(name, text)
    else:
        with tarfile.open(path, "w:gz" if "g" in kind else "w") as archive:
            archive.add(tmp_path / "in" / "box", "box")
    packed, plain = read([path]), read([tmp_path / "in"])
    assert not packed.failures
    (one,), (other,) = packed.devices, plain.devices
    assert (one.name, one.make) == (other.name, other.make) == ("box", "Linux host (ufw)")
    assert [s.sha256 for s in one.sources] == [s.sha256 for s in other.sources]
    assert str(one.rulebases[0].where).startswith(f"{path}/box/etc/")
    assert not any("secret" in s.path for s in one.sources)
    assert any("of no use" in note for note in packed.notes)


def tar(path: Path, *members: tuple[str, bytes | None, str]) -> Path:
    """name, content (None: a link), where a link leads"""
    with tarfile.open(path, "w:gz") as archive:
        for name, data, link in members:
            info = tarfile.TarInfo(name)
            if data is None:
                info.type, info.linkname = tarfile.SYMTYPE, link
                archive.addfile(info)
            else:
                info.size = len(data)
                archive.addfile(info, io.BytesIO(data))
    return path


RULES = DUMP.encode()


@pytest.mark.parametrize(
    ("members", "said"),
    [
        ([("/etc/iptables/rules.v4", RULES, "")], "would lead out"),
        ([("a/../../etc/iptables/rules.v4", RULES, "")], "would lead out"),
        ([("c:\\etc\\rules.v4", RULES, "")], "would lead out"),
        ([("etc/iptables/rules.v4", b"\0" * 60_000_000, "")], "unpacks to more than"),
        ([(f"f{n}", b"x", "") for n in range(10_001)], "more than 10000 members"),
    ],
)
def test_archives_that_would_do_harm_are_refused_whole(
    tmp_path: Path, members: list[tuple[str, bytes | None, str]], said: str
) -> None:
    path = tar(tmp_path / "x.tgz", *members)
    (failure,) = read([path]).failures
    assert said in failure.message
    assert failure.message.startswith(str(path))


@pytest.mark.parametrize("form", [tarfile.GNU_FORMAT, tarfile.PAX_FORMAT])
def test_an_archive_whose_headers_are_the_bomb(tmp_path: Path, form: int) -> None:
    with tarfile.open(tmp_path / "x.tgz", "w:gz", format=form) as archive:
        archive.addfile(tarfile.TarInfo("a" * 60_000_000))
    (failure,) = read([tmp_path / "x.tgz"]).failures
    assert "unpacks to more than" in failure.message


def test_an_archive_that_lies_about_what_it_holds(tmp_path: Path) -> None:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("rules.v4", b"a" * 60_000_000)
    data = bytearray(out.getvalue())
    for mark, at in ((b"PK\x03\x04", 22), (b"PK\x01\x02", 24)):  # the size unpacked (APPNOTE 4.3.7, 4.3.12)
        place = data.find(mark) + at
        data[place : place + 4] = (100).to_bytes(4, "little")
    (tmp_path / "x.zip").write_bytes(data)
    (failure,) = read([tmp_path / "x.zip"]).failures
    assert "cannot be read" in failure.message or "larger than" in failure.message


def test_links_in_an_archive_are_told_of_and_not_followed(tmp_path: Path) -> None:
    path = tar(tmp_path / "x.tgz", ("etc/iptables/rules.v4", RULES, ""), ("etc/iptables/rules.v6", None, "/etc/passwd"))
    estate = read([path])
    (device,) = estate.devices
    assert len(device.sources) == 1
    assert any("rules.v6: is a link to '/etc/passwd'" in note for note in estate.notes)


@pytest.mark.parametrize("data", [b"PK\x03\x04broken", b"\x1f\x8b\x08\x00broken"])
def test_damaged_archives(tmp_path: Path, data: bytes) -> None:
    path = tmp_path / "x.zip"
    path.write_bytes(data)
    (failure,) = read([path]).failures
    assert failure.message.startswith(str(path))


def test_a_link_that_climbs_out_of_a_bundle_is_not_followed(tmp_path: Path) -> None:
    outside = tmp_path / "secret"
    outside.write_text("Port 2222\n")
    write(tmp_path / "in", {"etc/iptables/rules.v4": DUMP})
    (tmp_path / "in/etc/ssh").mkdir()
    (tmp_path / "in/etc/ssh/sshd_config").symlink_to(outside)
    estate = read([tmp_path / "in"])
    (device,) = estate.devices
    assert not device.administration.services
    assert any("leads out of the folder" in note for note in estate.notes)


def test_one_bad_file_of_a_bundle_is_told_and_the_rest_is_read(tmp_path: Path) -> None:
    write(tmp_path / "in", {"etc/iptables/rules.v4": DUMP, "etc/hosts.d/x": "y\n", "etc/fail2ban/jail.local": ""})
    (tmp_path / "in/etc/passwd").write_bytes(b"\x80\x81")
    estate = read([tmp_path / "in"])
    assert len(estate.devices) == 1
    assert ["passwd:1" in failure.message for failure in estate.failures] == [True]

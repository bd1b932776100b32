"""Programs that fill the packet filter, run in a network namespace on copies of their configuration."""

from __future__ import annotations

import shutil
import subprocess
import uuid
from pathlib import Path

from msgspec.structs import replace

from aiguille.analysis.compare import differences
from aiguille.analysis.program import Programs
from aiguille.analysis.written import as_written
from aiguille.model import Device, Direction
from aiguille.readers import ExportFile, host
from aiguille.readers.files import decode


class Sandbox:
    """A network namespace, and folders of ours mounted over those of the machine while a script runs."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.name = f"aig-{uuid.uuid4().hex[:8]}"
        self.mounts: dict[str, Path] = {}

    def __enter__(self) -> Sandbox:
        subprocess.run(["ip", "netns", "add", self.name], check=True)
        return self

    def __exit__(self, *_: object) -> None:
        subprocess.run(["ip", "netns", "del", self.name], check=True)

    def copy(self, place: str) -> Path:
        """A copy of a file or folder of the machine, to be mounted over it."""
        source, target = Path("/", place), self.folder / place
        target.parent.mkdir(parents=True, exist_ok=True)
        if source.is_dir():
            shutil.copytree(source, target, dirs_exist_ok=True)
        else:
            shutil.copy(source, target)
        self.mounts[place] = target
        return target

    def run(self, script: str) -> None:
        """Run shell commands inside; `$OUT` is a folder for what they print."""
        out = self.folder / "out"
        out.mkdir(exist_ok=True)
        mounts = "".join(f"mount --bind '{path}' '/{place}'\n" for place, path in self.mounts.items())
        whole = f"set -e\nmount -t tmpfs none /run\nmkdir -p /run/dbus /run/lock\nexport OUT='{out}'\nip link set lo up\n{mounts}{script}\n"
        done = subprocess.run(
            ["ip", "netns", "exec", self.name, "unshare", "-m", "sh", "-c", whole],
            capture_output=True, text=True, check=False, timeout=120,
        )  # fmt: skip
        assert done.returncode == 0, f"{script}\n{done.stdout}\n{done.stderr}"

    def bundle(self, *folders: str) -> list[ExportFile]:
        """What lies below some folders, as a bundle."""
        out = []
        for folder in folders:
            for path in (
                sorted((self.folder / folder).rglob("*")) if (self.folder / folder).is_dir() else [self.folder / folder]
            ):
                if path.is_file() and path.read_bytes().strip():
                    place = str(path.relative_to(self.folder))
                    out.append(replace(decode(place, path.read_bytes()), place=place))
        return out


def compare(
    files: list[ExportFile], dumps: list[ExportFile], families: tuple[int, ...] = (4, 6)
) -> tuple[Device, Device]:
    """Read a program's own files and the dump it led to; they must let through the same sets of packets."""
    written, running = host.read(files, "files"), host.read(dumps, "dump")
    for device in (written, running):
        assert not device.ledger.unread, device.ledger.unread
        assert not device.ledger.problems, device.ledger.problems
    for device in (written, running):
        programs = Programs(device)
        assert all(programs.get(family, direction) for family in families for direction in Direction)
    found = differences(written, running)
    told = [f"{d.direction}: {d.packet.sentence()}: files {set(d.one)}, dump {set(d.other)}" for d in found]
    assert not found, "\n".join(told)
    if any(file.place.startswith("etc/") for file in files):
        as_one(files, dumps)
    return written, running


def as_one(files: list[ExportFile], dumps: list[ExportFile]) -> Device:
    """Read both as the bundle of one host: the statements of the files, with the counters of the dump."""
    device = as_written(host.read([*files, *dumps], "both"))
    assert "lends its counters" in device.recognised, device.recognised
    assert not device.ledger.unread, device.ledger.unread
    rules = [(chain, rule) for base in device.rulebases for chain, rule in base.rules()]
    dumped = {file.path for file in dumps}
    assert {rule.where.file for _, rule in rules} - dumped
    if any(base.name == "filter" for base in device.rulebases):
        assert any(rule.hits is not None for _, rule in rules)  # nft lists no counters of firewalld's
    return device


def compare_listing(files: list[ExportFile], running: Device, only: int | None = None) -> None:
    """The listing of ufw, with the rules it ships, must let through what the kernel does.

    only: the family to compare, where ufw leaves the other alone, which its listing does not tell but has to warn of
    """
    listed = host.read(files, "listing")
    assert not listed.ledger.unread, listed.ledger.unread
    found = differences(listed, running)
    if only is not None:
        assert any("no line is for IPv6" in problem.why for problem in listed.ledger.problems)
        found = [one for one in found if one.packet.family == only]
    assert not found, "\n".join(f"{d.direction}: {d.packet.sentence()}: {set(d.one)}, {set(d.other)}" for d in found)

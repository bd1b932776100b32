"""Exports come from strangers: whatever is done to one, nothing crashes, nothing is lost, no rule becomes surer."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from functools import partial

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from aiguille.baseline import CATALOGUE, run
from aiguille.demo import files
from aiguille.model import Action, AiguilleError, Device, Estate
from aiguille.readers import host, iptables, mapped, nftables
from aiguille.readers.files import ExportFile, decode
from aiguille.readers.mapped.starting import start
from tests.baseline.test_checks import audit
from tests.helpers import dialect, placed
from tests.readers.test_firewall_files import STATUS
from tests.readers.test_scripts import DOUBTS, LISTING, STEPS

DUMP = files()["exports/valley-gw/iptables.v4"].decode().splitlines()
Reader = Callable[[Sequence[ExportFile], str], Device]
DESCRIBED = {
    "veskara": "summit-gw.txt",
    "ormelune": "midway-perimeter.xml",
    "tindrel": "mast-router.txt",
    "castrevo": "huts.json",
    "sheet": "contractor-sheet.csv",
}
JUNK = (
    "",
    "!",
    "-j",
    "{",
    "}",
    "[",
    "]",
    '"',
    "\\",
    "\x00",
    "-m set --match-set x src",
    ": :",
    "*filter",
    "COMMIT",
    "\u202e",
    "é" * 50,
    "<a>",
    "],",
    ",,,",
    "== x ==",
)


@st.composite
def damaged(draw: st.DrawFn, lines: list[str]) -> bytes:
    """An export with lines dropped, doubled, swapped, cut short, or with junk put in."""
    out = list(lines)
    for _ in range(draw(st.integers(1, 4))):
        if not out:
            break
        at = draw(st.integers(0, len(out) - 1))
        match draw(st.sampled_from(("drop", "double", "swap", "cut", "junk", "word"))):
            case "drop":
                out.pop(at)
            case "double":
                out.insert(at, out[at])
            case "swap":
                other = draw(st.integers(0, len(out) - 1))
                out[at], out[other] = out[other], out[at]
            case "cut":
                out[at] = out[at][: draw(st.integers(0, len(out[at])))]
            case "junk":
                out.insert(at, draw(st.sampled_from(JUNK)))
            case "word":
                words = out[at].split(" ")
                words[draw(st.integers(0, len(words) - 1))] = draw(st.sampled_from(JUNK))
                out[at] = " ".join(words)
    return "\n".join(out).encode()


def check(device: Device) -> None:
    ledger = device.ledger
    assert ledger.lines == sum(len(source.lines) for source in device.sources)
    assert ledger.lines == ledger.read + ledger.known + ledger.unread_lines
    touched = {
        (e.where.file, line)
        for e in ledger.unread
        for line in range(e.where.first, e.where.last + 1)
        # Text that stands around a rule, on the line it begins in, is not a part of it.
        if not e.where.stop and not re.search(r"reads of '(arrivals|faces?|forwards|ormelune)'", e.why)
    }
    for rulebase in device.rulebases:
        if rulebase.name == "management access":
            continue  # made of single words of a line, of which others may be unread
        for _, rule in rulebase.rules():
            if rule.where.file.endswith(("/interfaces", "/hosts", "/zones")):
                continue  # they say where packets come from; an option of theirs that is unread is told apart
            lines = range(rule.where.first, rule.where.last + 1)
            partly = any((rule.where.file, line) in touched for line in lines)
            # A loop makes several rules of one line, of which some may be understood and some not.
            alike = [r for _, r in rulebase.rules() if r.where == rule.where]
            unsure = any(bool(r.qualifiers) or r.action is Action.UNKNOWN for r in alike)
            assert unsure or not partly, f"{rule.where} was read in part only, yet counts as certain"
    outcomes = run(Estate((device,), audit_day), CATALOGUE, raise_crashes=True).outcomes
    assert all(outcome.because for outcome in outcomes)


audit_day = audit(iptables.read([decode("d", "\n".join(DUMP).encode())], "x")).estate.as_of


def read_or_refuse(read: Reader, name: str, data: bytes) -> Device | None:
    """The device, or None where the export is refused in a sentence that begins with its name."""
    refusal = ""
    try:
        return read([decode(name, data)], "test")
    except AiguilleError as error:
        refusal = str(error)
    assert refusal.startswith(name)
    return None


def read_described(make: str, exports: Sequence[ExportFile], name: str) -> Device:
    return mapped.read(dialect(make), exports, name)[0]


@settings(max_examples=25, deadline=None)
@given(damaged(DUMP))
def test_damaged_dumps(data: bytes) -> None:
    if (device := read_or_refuse(iptables.read, "dump", data)) is not None:
        check(device)


@pytest.mark.parametrize("make", DESCRIBED)
@settings(max_examples=25, deadline=None)
@given(data=st.data())
def test_damaged_exports_of_described_makes(make: str, data: st.DataObject) -> None:
    lines = files()[f"exports/{DESCRIBED[make]}"].decode().splitlines()
    broken = data.draw(damaged(lines))
    refusals = []
    try:
        for device in mapped.read(dialect(make), [decode("export", broken)], ""):
            check(device)
    except AiguilleError as error:
        refusals.append(str(error))
    try:
        start(decode("export", broken))
    except AiguilleError as error:
        refusals.append(str(error))
    assert all(refusal.startswith("export") for refusal in refusals), refusals


@example(data=b"\xef\xbb\xbf")
@given(st.binary(max_size=200))
def test_any_bytes_at_all(data: bytes) -> None:
    for read in (iptables.read, *(partial(read_described, make) for make in DESCRIBED)):
        read_or_refuse(read, "f", data)


HOSTS = {
    name: {
        path.removeprefix(f"exports/{name}/"): data.decode()
        for path, data in files().items()
        if path.startswith(f"exports/{name}/")
    }
    for name in ("midway-gw", "season-pass-web", "ticket-hall", "rescue-relay")
}


@pytest.mark.parametrize("name", HOSTS)
@settings(max_examples=12, deadline=None)
@given(data=st.data())
def test_damaged_hosts(name: str, data: st.DataObject) -> None:
    place = data.draw(st.sampled_from(sorted(HOSTS[name])))
    broken = data.draw(damaged(HOSTS[name][place].splitlines()))
    refusal = ""
    try:
        changed = {**HOSTS[name], place: broken.decode()}
        device = host.read(placed({p: text for p, text in changed.items() if text.strip()}), name)
    except AiguilleError as error:
        refusal = str(error)
        assert any(refusal.startswith(path) for path in (*HOSTS[name], "etc/shorewall")), refusal
        return
    check(device)


SENT = {
    "ufw": STATUS.splitlines(),
    "listing": LISTING.splitlines(),
    "script": "".join([text for text, _ in STEPS] + [case[0] for case in DOUBTS]).splitlines(),
}
"""What people send instead of an export, as the tests beside this one have it."""


@pytest.mark.parametrize("kind", SENT)
@settings(max_examples=25, deadline=None)
@given(data=st.data())
def test_damaged_listings_and_scripts(kind: str, data: st.DataObject) -> None:
    read = iptables.read if kind != "ufw" else host.read
    if (device := read_or_refuse(read, "sent", data.draw(damaged(SENT[kind])))) is not None:
        check(device)


SHORT = [
    ("-P INPUT DROP\n-P \n-A INPUT -j ACCEPT\n", iptables.read),
    ("#!/bin/sh\nA='x\niptables -A INPUT -j DROP\n", iptables.read),
    ("#!/bin/sh\nfor a in 'x; do iptables -A INPUT -j DROP; done\n", iptables.read),
    (STATUS + "/tcp                       ALLOW IN    Anywhere\n", host.read),
    ("table ip t {\n\tchain a {\n\t\ttype filter hook\n\t}\n}\n", nftables.read),
    ("table ip t {\n\tchain a {\n\t\tpolicy\n\t}\n}\n", nftables.read),
    ("table ip t {\n\tchain a {\n\t\tcounter packets x bytes 0 accept\n\t}\n}\n", nftables.read),
]


@pytest.mark.parametrize(("text", "read"), SHORT)
def test_lines_that_break_off(text: str, read: Reader) -> None:
    if (device := read_or_refuse(read, "short", text.encode())) is not None:
        assert (
            device.ledger.unread
            or device.ledger.problems
            or any(r.qualifiers for b in device.rulebases for _, r in b.rules())
        )

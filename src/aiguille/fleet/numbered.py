"""What the findings of an audit were called, kept so that one of them can be explained without all the others.

In the user's cache folder, by the digest of all the audit followed from: of each finding its number, its fingerprint, its check, and
the places of its devices in the estate. No name, no line and no word of an export is in it; it may be deleted at any time.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from pathlib import Path

import msgspec
from msgspec.structs import replace

from aiguille.analysis.outlines import outlines
from aiguille.baseline.audit import Audit
from aiguille.baseline.findings import Finding
from aiguille.readers.kept import cache_folder, store

_KEPT = 40
"""Audits whose numbers are kept, the latest."""

SHORTEST = 4
"""Digits of a fingerprint that are enough to name a finding."""


class Called(msgspec.Struct, frozen=True, array_like=True):
    """A finding as it was called. devices: their places in the estate; number: 0 for one that is accepted"""

    number: int
    cause: int
    fingerprint: str
    check: str
    devices: tuple[int, ...]
    consequences: tuple[str, ...] = ()


class Numbers(msgspec.Struct, frozen=True):
    """All findings of an audit as they were called, the accepted ones behind them."""

    findings: tuple[Called, ...]

    def meant(self, word: str) -> tuple[Called, ...]:
        """Those that a number, a cause or the first digits of a fingerprint may mean; none for another word."""
        text = word.lower()
        kind, dash, rest = text.partition("-")
        if kind == "f" and dash and rest.isdecimal():
            return tuple(one for one in self.findings if one.number == int(rest) > 0)
        if kind == "c" and dash and rest.isdecimal():
            return tuple(one for one in self.findings if one.cause == int(rest) > 0)
        if len(text) < SHORTEST:
            return ()
        return tuple(
            one for one in self.findings if any(f.startswith(text) for f in (one.fingerprint, *one.consequences))
        )

    def elsewhere(self, names: Sequence[str], places: Iterable[int]) -> Iterator[tuple[str, str]]:
        """Check and first device of each finding on none of some devices. names: of all devices, in order"""
        here = frozenset(places)
        for one in self.findings:
            if one.number and one.devices[0] not in here:
                yield one.check, names[one.devices[0]]


def numbers_of(audit: Audit) -> Numbers:
    """What the findings of an audit are called."""
    place = {one.name: at for at, one in enumerate(outlines(audit.estate))}

    def called(one: Finding, number: int) -> Called:
        on = tuple(place[name] for name in (one.device, *one.also_on))
        goes = tuple(other.fingerprint for other in one.consequences)
        return Called(number, one.cause if number else 0, one.fingerprint, one.check, on, goes)

    open_ones = [called(one, one.number) for one in audit.findings]
    return Numbers((*open_ones, *(called(one, 0) for one, _ in audit.accepted)))


def renumbered(audit: Audit, numbers: Numbers) -> Audit:
    """An audit of a part of the devices with its findings called as in the whole one; what the part makes differently goes."""
    known = {one.fingerprint: one for one in numbers.findings if one.number}
    place = {one.name: at for at, one in enumerate(outlines(audit.estate))}
    out = []
    for one in audit.findings:
        called = known.get(one.fingerprint)
        if called is not None and called.devices == tuple(place[name] for name in (one.device, *one.also_on)):
            out.append(replace(one, number=called.number, cause=called.cause))
    return replace(audit, findings=tuple(sorted(out, key=lambda one: one.number)))


def load(name: bytes | None) -> Numbers:
    """What is kept of the audit that a digest stands for; nothing of one without."""
    place = _place(name)
    if place is not None:
        with suppress(OSError, msgspec.MsgspecError):
            return msgspec.msgpack.decode(place.read_bytes(), type=Numbers)
    return Numbers(())


def keep(name: bytes | None, audit: Audit) -> None:
    """Keep what the findings of an audit are called, in place of what was kept longest ago; nothing of one without a digest."""
    place = _place(name)
    if place is None:
        return
    with suppress(OSError):
        store(place, msgspec.msgpack.encode(numbers_of(audit)))
        every = sorted(place.parent.glob(f"*{_ENDING}"), key=lambda one: one.stat().st_mtime, reverse=True)
        for old in every[_KEPT:]:
            old.unlink(missing_ok=True)


_ENDING = ".numbers"


def _place(name: bytes | None) -> Path | None:
    folder = cache_folder()
    return None if name is None or folder is None else folder / f"{name.hex()}{_ENDING}"

"""The results of many devices put together: what several share joined, numbered, and read one by one from a file that goes with
the run. In memory is what one device takes, however many there are."""

from __future__ import annotations

import sqlite3
import weakref
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from itertools import islice
from typing import Any, Generic, TypeVar, overload

import msgspec
from msgspec.structs import replace

from aiguille.analysis.outlines import Outline, Surroundings
from aiguille.baseline.answers import Kept
from aiguille.baseline.audit import Audit
from aiguille.baseline.catalogue import Outcome, Severity
from aiguille.baseline.causes import Cause, cause_of, key_of
from aiguille.baseline.findings import CheckOutcome, Finding, first_line
from aiguille.baseline.folding import joined_alike, joined_by_lines, lines_of, words_of
from aiguille.fleet.results import digest, encoder
from aiguille.fleet.tasks import Checked

T = TypeVar("T")

_TABLES = """
CREATE TABLE raw (
    id INTEGER PRIMARY KEY, device INTEGER, rank INTEGER, reach INTEGER, chk TEXT, file TEXT, line INTEGER, detail TEXT,
    fingerprint TEXT, area TEXT, lines BLOB, words BLOB, key BLOB, clears INTEGER, body BLOB);
CREATE TABLE found (
    at INTEGER PRIMARY KEY, number INTEGER, cause INTEGER, rank INTEGER, fingerprint TEXT, key BLOB, clears INTEGER, body BLOB);
CREATE TABLE stands (device TEXT, at INTEGER, rank INTEGER);
CREATE TABLE outcome (device TEXT, chk TEXT, outcome TEXT, because TEXT);
"""

_ORDER = "rank DESC, reach DESC, device, chk, file, line, detail, fingerprint"
"""That of `Audit.folded`; SQLite compares text by code points, as Python does (https://www.sqlite.org/datatype3.html, 7.1)."""


class Assembled:
    """Outcomes and findings of all devices, on disk."""

    def __init__(self, devices: Sequence[Outline], around: Surroundings) -> None:
        self._base = sqlite3.connect("", isolation_level=None)
        self._base.executescript("PRAGMA journal_mode=OFF; PRAGMA synchronous=OFF;" + _TABLES)
        weakref.finalize(self, self._base.close)
        self._groups: Mapping[str, str] = {name: group.words for name, group in around.siblings.items()}
        exports: dict[str, int] = {}
        for one in devices:
            for source in one.sources:
                exports[source.path] = exports.get(source.path, 0) + 1
        self._shared = {path for path, count in exports.items() if count > 1}
        self._place = {one.name: at for at, one in enumerate(devices)}
        self.count = 0
        self._decode = msgspec.json.Decoder(Finding).decode

    def add(self, device: Outline, done: Checked) -> None:
        """The results of one device, in the order of the devices."""
        self._base.execute("BEGIN")
        place = self._place[device.name]
        may_share = any(source.path in self._shared for source in device.sources)
        self._base.executemany(
            "INSERT INTO raw VALUES (NULL, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (self._row(one, place, may_share=may_share) for one in done.findings),
        )
        self._base.executemany(
            "INSERT INTO outcome VALUES (?, ?, ?, ?)",
            ((one.device, one.check, one.outcome.value, one.because) for one in done.outcomes),
        )
        self._base.execute("COMMIT")

    def _row(self, one: Finding, place: int, *, may_share: bool) -> tuple[object, ...]:
        file, line = first_line(one)
        lines = lines_of(one) if may_share else None
        words = words_of(one, self._groups)
        return (
            place,
            one.severity.rank,
            one.who.rank if one.who is not None else -1,
            one.check,
            file,
            line,
            one.detail,
            one.fingerprint,
            one.area,
            None if lines is None else digest(repr(lines)),
            None if words is None else digest(repr((*words[:3], sorted(words[3]), words[4]))),  # type: ignore[call-overload]
            digest(repr(key_of(one))),
            1 + len(one.consequences),
            encoder.encode(one),
        )

    def finish(self, kept: Kept) -> None:
        """Join what devices share and number all, as `Audit.folded` and `answers.apply` do."""
        self._join("lines", joined_by_lines)
        self._join("words", lambda some: joined_alike(some, self._groups))
        base = self._base
        base.execute("BEGIN")
        base.execute(
            "INSERT INTO found SELECT row_number() OVER "
            f"(ORDER BY {_ORDER}), NULL, NULL, rank, fingerprint, key, clears, body FROM raw ORDER BY {_ORDER}"
        )
        base.execute("DROP TABLE raw")
        if kept.numbers:
            free = max(kept.numbers.values(), default=0)
            for at, fingerprint in base.execute("SELECT at, fingerprint FROM found ORDER BY at").fetchall():
                number = kept.numbers.get(fingerprint)
                if number is None:
                    number = free = free + 1
                base.execute("UPDATE found SET number = ? WHERE at = ?", (number, at))
        else:
            base.execute("UPDATE found SET number = at")
        base.execute("CREATE INDEX by_key ON found (key, at)")
        base.execute(
            "UPDATE found SET cause = (SELECT number FROM found AS f WHERE f.key = found.key ORDER BY at LIMIT 1)"
        )
        rows = base.execute("SELECT at, rank, body FROM found ORDER BY at")
        insert = self._base.cursor()
        for at, rank, body in rows:
            one = self._decode(body)
            insert.executemany(
                "INSERT INTO stands VALUES (?, ?, ?)", ((n, at, rank) for n in (one.device, *one.also_on))
            )
        base.execute("CREATE INDEX by_device ON stands (device, at)")
        base.execute("CREATE INDEX outcomes_by_device ON outcome (device)")
        base.execute("COMMIT")
        (self.count,) = base.execute("SELECT count(*) FROM found").fetchone()
        self._replies = {one.finding: one for one in kept.replies}

    def _join(self, column: str, join: Callable[[list[Finding]], list[Finding]]) -> None:
        """Findings that have a value in common, joined."""
        base = self._base
        base.execute(f"CREATE INDEX by_{column} ON raw ({column})")
        query = f"SELECT {column} FROM raw WHERE {column} IS NOT NULL GROUP BY {column} HAVING count(*) > 1"
        for (value,) in base.execute(query).fetchall():
            rows = base.execute(f"SELECT id, body FROM raw WHERE {column} = ? ORDER BY id", (value,)).fetchall()
            some = [(number, self._decode(body)) for number, body in rows]
            left = {one.fingerprint: one for one in join([one for _, one in some])}
            base.execute("BEGIN")
            for number, before in some:
                after = left.get(before.fingerprint)
                if after is None:
                    base.execute("DELETE FROM raw WHERE id = ?", (number,))
                elif after != before:
                    where = (*first_line(after), digest(repr(key_of(after))))
                    query = "UPDATE raw SET file = ?, line = ?, key = ?, body = ? WHERE id = ?"
                    base.execute(query, (*where, encoder.encode(after), number))
            base.execute("COMMIT")

    def _finding(self, row: tuple[Any, ...]) -> Finding:
        number, cause, body = row
        one = self._decode(body)
        return replace(one, number=number, cause=cause, answer=self._replies.get(one.fingerprint))

    def findings(self) -> Stored[Finding]:
        """All findings, in order."""
        query = "SELECT number, cause, body FROM found WHERE at > ? ORDER BY at"
        return Stored(self.count, lambda at: map(self._finding, self._base.execute(query, (at,))))

    def on(self, device: str) -> tuple[Finding, ...]:
        """The findings on a device, in order."""
        query = "SELECT number, cause, body FROM stands JOIN found ON found.at = stands.at WHERE device = ? ORDER BY found.at"
        return tuple(map(self._finding, self._base.execute(query, (device,))))

    def severities(self, device: str | None = None) -> dict[Severity, int]:
        """How many findings of each severity there are, in all or on one device."""
        query = "SELECT rank, count(*) FROM found GROUP BY rank"
        if device is not None:
            query = "SELECT rank, count(*) FROM stands WHERE device = ? GROUP BY rank"
        counts = dict(self._base.execute(query, () if device is None else (device,)))
        return {severity: counts.get(severity.rank, 0) for severity in Severity}

    def outcomes(self) -> Stored[CheckOutcome]:
        """All outcomes, by device."""
        (count,) = self._base.execute("SELECT count(*) FROM outcome").fetchone()
        query = "SELECT chk, device, outcome, because FROM outcome WHERE rowid > ? ORDER BY rowid"
        return Stored(count, lambda at: map(_outcome, self._base.execute(query, (at,))))

    def outcomes_on(self, device: str) -> tuple[CheckOutcome, ...]:
        """The outcomes on a device, in order."""
        query = "SELECT chk, device, outcome, because FROM outcome WHERE device = ? ORDER BY rowid"
        return tuple(map(_outcome, self._base.execute(query, (device,))))

    def tally(self) -> dict[Outcome, int]:
        """How many outcomes there are of each kind."""
        found = self._base.execute("SELECT outcome, count(*) FROM outcome GROUP BY outcome")
        return {Outcome(kind): count for kind, count in found}

    def causes(self) -> Stored[Cause]:
        """The causes of the findings, in the order of the gravest of each."""
        (count,) = self._base.execute("SELECT count(DISTINCT key) FROM found").fetchone()
        firsts = "SELECT key FROM found GROUP BY key ORDER BY min(at) LIMIT -1 OFFSET ?"
        held = "SELECT number, cause, body FROM found WHERE key = ? ORDER BY at"

        def made(row: tuple[bytes]) -> Cause:
            return cause_of(tuple(map(self._finding, self._base.execute(held, row))))

        return Stored(count, lambda at: map(made, self._base.execute(firsts, (at,))))


def _outcome(row: tuple[str, str, str, str]) -> CheckOutcome:
    check, device, outcome, because = row
    return CheckOutcome(check, device, Outcome(outcome), because)


class Stored(Sequence[T], Generic[T]):
    """A sequence that is read anew each time it is asked for."""

    def __init__(self, count: int, after: Callable[[int], Iterator[T]]) -> None:
        """after: all from a place on, the first at 0"""
        self._count = count
        self._after = after

    def __len__(self) -> int:
        return self._count

    def __iter__(self) -> Iterator[T]:
        return self._after(0)

    @overload
    def __getitem__(self, at: int) -> T: ...
    @overload
    def __getitem__(self, at: slice) -> Sequence[T]: ...
    def __getitem__(self, at: int | slice) -> T | Sequence[T]:
        if isinstance(at, slice):
            first, last, step = at.indices(self._count)
            return tuple(islice(self._after(first), 0, max(0, last - first), step))
        place = at + self._count if at < 0 else at
        if not 0 <= place < self._count:
            raise IndexError(at)
        return next(self._after(place))


class ManyAudit(Audit, frozen=True, dict=True):
    """An audit whose findings and outcomes are on disk; see `Assembled`."""

    assembled: Assembled | None = None

    @property
    def _held(self) -> Assembled:
        if self.assembled is None:
            raise LookupError("an audit of many devices has its findings on disk")
        return self.assembled

    def counts(self) -> dict[Severity, int]:
        return self._held.severities()

    def counts_on(self, device: str) -> dict[Severity, int]:
        return self._held.severities(device)

    def worst(self) -> Severity | None:
        return next((severity for severity, count in self.counts().items() if count), None)

    def tally(self) -> dict[Outcome, int]:
        return self._held.tally()

    def causes(self) -> Sequence[Cause]:
        return self._held.causes()

    def findings_on(self, device: str) -> tuple[Finding, ...]:
        return self._held.on(device)

    def outcomes_on(self, device: str) -> tuple[CheckOutcome, ...]:
        return self._held.outcomes_on(device)

    def held(self) -> Audit:
        """The same with all of it in memory."""
        known = {name: getattr(self, name) for name in Audit.__struct_fields__}
        return Audit(**{**known, "findings": tuple(self.findings), "outcomes": tuple(self.outcomes)})


def many(audit: Audit, assembled: Assembled) -> ManyAudit:
    """An audit with what was assembled in place of its findings and outcomes."""
    known = {name: getattr(audit, name) for name in Audit.__struct_fields__}
    found: Iterable[tuple[str, Any]] = [("findings", assembled.findings()), ("outcomes", assembled.outcomes())]
    return ManyAudit(**{**known, **dict(found)}, assembled=assembled)

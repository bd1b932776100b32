"""What is done of an audit, device by device, in a file of SQLite: an interrupted run goes on from there.

An entry goes by the digest of all it follows from, so that it is never out of date; what is not asked for stays where it is. A
file that somebody else made can hold wrong findings, as any report can, and no code.
"""

from __future__ import annotations

import hashlib
import sqlite3
import zlib
from pathlib import Path
from time import monotonic
from typing import TypeVar

import msgspec

from aiguille._version import __version__
from aiguille.analysis.outlines import Outline, Surroundings
from aiguille.estate.finding import Job
from aiguille.fleet.tasks import Checked, Order, Read
from aiguille.model import UsageError

_FORM = "1"
_TITLE = "aiguille: what is done of an audit"
_OFTEN = 2.0
"""Seconds after which what came meanwhile is written down."""

T = TypeVar("T", Read, Checked)

encoder = msgspec.json.Encoder()


class Results:
    """A file of results, or none that outlives the run."""

    def __init__(self, path: Path | None) -> None:
        """Raises UsageError for a file that is something else, or cannot be written."""
        self.path = path
        self._written = monotonic()
        try:
            self._base = sqlite3.connect(str(path) if path is not None else "")
            if path is not None:
                self._base.execute("PRAGMA journal_mode=WAL")
            (tables,) = self._base.execute("SELECT count(*) FROM sqlite_master WHERE type = 'table'").fetchone()
            if not tables:
                self._base.execute("CREATE TABLE about (title TEXT)")
                self._base.execute("INSERT INTO about VALUES (?)", (_TITLE,))
                self._base.execute("CREATE TABLE done (key BLOB PRIMARY KEY, body BLOB NOT NULL) WITHOUT ROWID")
                self._base.commit()
            if self._base.execute("SELECT title FROM about").fetchone() != (_TITLE,):
                raise UsageError(f"{path}: holds something else than the results of an audit; name another file")
        except sqlite3.Error as error:
            raise UsageError(f"{path}: is no file of results of an audit, or cannot be written ({error})") from error

    def get(self, key: bytes, kind: type[T]) -> T | None:
        """What is kept under a key; what is damaged counts as missing."""
        body = self.body(key)
        try:
            return None if body is None else msgspec.json.decode(zlib.decompress(body), type=kind)
        except (zlib.error, msgspec.MsgspecError):
            return None

    def body(self, key: bytes) -> bytes | None:
        """The same, as it is kept."""
        row = self._base.execute("SELECT body FROM done WHERE key = ?", (key,)).fetchone()
        return None if row is None else bytes(row[0])

    def has(self, key: bytes) -> bool:
        """Whether something readable is kept under a key."""
        return self.get(key, Checked) is not None

    def put(self, key: bytes, body: bytes) -> None:
        """Keep what `encoded` made."""
        try:
            self._base.execute("INSERT OR REPLACE INTO done VALUES (?, ?)", (key, body))
            if monotonic() - self._written > _OFTEN:
                self.write()
        except sqlite3.Error as error:
            if self.path is None:
                raise
            raise UsageError(f"{self.path}: cannot be written ({error})") from error

    def write(self) -> None:
        """Make sure that what was put is in the file."""
        self._base.commit()
        self._written = monotonic()

    def close(self) -> None:
        self.write()
        self._base.close()


def encoded(value: Read | Checked) -> bytes:
    """A result as it is kept and sent."""
    return zlib.compress(encoder.encode(value), 1)


def decoded(body: bytes) -> Checked:
    """What the baseline says of a device, out of what `encoded` made."""
    return msgspec.json.decode(zlib.decompress(body), type=Checked)


def digest(*parts: object) -> bytes:
    """32 bytes that stand for some values and their order."""
    out = hashlib.sha256()
    for one in parts:
        data = one if isinstance(one, bytes) else str(one).encode(errors="surrogatepass")
        out.update(len(data).to_bytes(8, "big"))
        out.update(data)
    return out.digest()


def digest_of_terms(order: Order) -> bytes:
    """Stands for all that every device is held to."""
    terms = order.terms
    layers = [(one.name, one.sha256, repr(one.settings)) for one in terms.baseline.layers]
    catalogue = [repr((one.id, one.severity, one.title, one.how)) for one in terms.baseline.catalogue]
    known = (sorted(terms.known.sides.items()), terms.known.administrators, terms.known.locations.digests)
    rest = (terms.acceptances, terms.as_of, terms.effort, terms.whole, order.dialects())
    return digest(_FORM, __version__, repr(layers), repr(catalogue), repr(known), repr(rest))


def digest_of_order(order: Order) -> bytes:
    """Stands for a whole audit: all devices, all they are held to, and how findings were numbered before."""
    terms = digest_of_terms(order)
    jobs = [digest_of_job(job, terms) for job in order.gathered.jobs]
    return digest("order", terms, repr(order.asked.kept), repr(order.asked.stated), *jobs)


def digest_of_job(job: Job, terms: bytes) -> bytes:
    """Stands for an export: the content of its files, where they lie, and what the auditor says of it."""
    files = [(one.path, one.place, one.table, one.source.sha256, one.source.size) for one in job.files]
    return digest("read", terms, job.name, job.format.name, job.why, repr(job.entry), repr(files))


def digest_of_check(read: bytes, at: int, one: Outline, around: Surroundings, groups: dict[int, bytes]) -> bytes:
    """Stands for a device among the others.

    at: which of its export it is
    groups: digests of the groups of siblings, by their `id`
    """
    asked = {family: spans for family, spans in around.ways.items() if family in one.whole_ways}
    siblings = around.siblings.get(one.name)
    shared = b"" if siblings is None else groups[id(siblings)]
    return digest("check", read, at, one.name, repr(asked), one.dialect in around.describing, shared)

"""Files of an export as readers get them, and the ledger they fill while reading."""

from __future__ import annotations

import re
from codecs import BOM_UTF8
from collections.abc import Mapping, Sequence
from functools import cache
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from aiguille.model import EmptyFileError, Ledger, LedgerEntry, Source, Span, UnreadableError
from aiguille.model.masking import mask_secrets
from aiguille.readers import workbook

SIZE_LIMIT = 512 * 1024 * 1024
"""Larger files are refused: no device writes them, and they would fill the memory."""


class ExportFile(Struct, frozen=True):
    """One text file of an export. `path` is the spelling shown to the user.

    place: for a file of a bundle, where it stands below the root of the host it was copied from ("etc/ufw/ufw.conf")
    table: for a sheet of a workbook, its name; such a file has a line for each row
    sheets: for a workbook, its sheets
    data: its bytes, where they are its lines as they stand; else empty
    origin: where it was loaded from, empty for what came by another way
    left: whether its lines were left behind, to be loaded again when it is their turn; see `left_behind`
    """

    path: str
    source: Source
    place: str = ""
    table: str = ""
    sheets: tuple[ExportFile, ...] = ()
    data: bytes = b""
    origin: str = ""
    left: bool = False

    @property
    def lines(self) -> tuple[str, ...]:
        return self.source.lines

    def span(self, first: int, last: int | None = None) -> Span:
        return Span(self.path, first, first if last is None else last)


def printable(name: str) -> str:
    """A name as outputs can hold it: bytes that are no UTF-8, which file systems and archives allow in names, as ``\\udcff``."""
    return name.encode(errors="backslashreplace").decode()


def load(path: Path, shown: str | None = None) -> ExportFile:
    """Read a text file whole.

    Raises UnreadableError, with what to do, for a path that is missing, no regular file, empty, too large, binary, or in
    another encoding than UTF-8 (a byte order mark is allowed).
    """
    name = printable(shown if shown is not None else str(path))
    try:
        if not path.exists():
            raise UnreadableError(f"{name}: there is no such file or folder; check the path")
        if not path.is_file():
            raise UnreadableError(f"{name}: this is not a regular file; name the export itself")
        size = path.stat().st_size
        if size > SIZE_LIMIT:
            raise UnreadableError(f"{name}: {size} bytes is more than an export can have; is this the right file?")
        data = path.read_bytes()
    except OSError as error:
        raise UnreadableError(f"{name}: cannot be read ({error.strerror}); check its permissions") from error
    return replace(decode(name, data), origin=str(path))


def left_behind(file: ExportFile) -> ExportFile:
    """A file without its lines, where it can be loaded again: a thousand exports need not be in memory at once."""
    if not file.origin:
        return file
    return replace(file, source=replace(file.source, lines=()), sheets=(), data=b"", left=True)


def loaded(file: ExportFile) -> ExportFile:
    """A file with its lines; raises UnreadableError, as `load` does, and where it has changed meanwhile."""
    if not file.left:
        return file
    again = load(Path(file.origin), file.path)
    if again.source != file.source:
        raise UnreadableError(f"{file.path}: the file changed while it was being audited; start again")
    return replace(again, place=file.place, table=file.table)


PACKED = (b"PK", b"\x1f\x8b", b"BZh", b"\xfd7zXZ")
"""How what zip, gzip, bzip2 and xz pack begins; the header of a tar member is filled up with zeros (POSIX pax, ustar)."""


def begins_packed(path: Path) -> bool:
    """Whether a file may be an archive, by its first bytes; without looking further, which takes the modules that unpack."""
    try:
        if not path.is_file():
            return False
        with path.open("rb") as file:
            head = file.read(512)
    except OSError:
        return False
    return head.startswith(PACKED) or 0 in head


def decode(name: str, data: bytes) -> ExportFile:
    """Make an export file of bytes; errors as for `load`."""
    name = printable(name)
    if workbook.is_workbook(data):
        return _workbook(name, data)
    if not data.strip():
        raise EmptyFileError(f"{name}: the file is empty; export it again")
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        raise UnreadableError(
            f"{name}:1: the file is in UTF-16; convert it to UTF-8, with `iconv -f UTF-16 -t UTF-8` say"
        )
    if (nul := data.find(b"\0")) >= 0:
        line = data.count(b"\n", 0, nul) + 1
        raise UnreadableError(f"{name}:{line}: the file is binary, not a text export; name the export in text form")
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        raise UnreadableError(
            f"{name}:{line}: byte 0x{data[error.start]:02x} is not UTF-8; convert the file, with `iconv -t UTF-8` say"
        ) from error
    # Only line feeds end a line: str.splitlines would also split at form feeds inside a comment.
    # A file that has none has its lines ended by carriage returns, as old programs wrote them.
    body = text.replace("\r\n", "\n") if "\n" in text else text.replace("\r", "\n")
    lines = body.split("\n")
    if lines and not lines[-1]:
        lines.pop()
    plain = b"\r" not in data and not data.startswith(BOM_UTF8)
    return ExportFile(name, Source.of(name, data, tuple(lines)), data=data if plain else b"")


def _workbook(name: str, data: bytes) -> ExportFile:
    """A workbook as one file a sheet, a line a row."""
    sheets = tuple(
        ExportFile(f"{name}[{title}]", Source.of(f"{name}[{title}]", data, lines), table=title)
        for title, lines in workbook.sheets(name, data)
    )
    return ExportFile(name, Source.of(name, data, ()), sheets=sheets)


_HALF = re.compile(
    rb"(\\\\|\\u[dD][89abAB][0-9a-fA-F]{2}\\u[dD][c-fC-F][0-9a-fA-F]{2})|\\u[dD][89a-fA-F][0-9a-fA-F]{2}"
)


def json_data(file: ExportFile) -> bytes:
    """A file's text for a JSON decoder, in UTF-8.

    Escapes of half a surrogate pair (RFC 8259, 8.2) become U+FFFD, as no output could hold them; every place stays.
    """
    data = file.data or "\n".join(file.lines).encode()
    # That there is no backslash at all is by far the quickest to find out.
    if b"\\" not in data or (b"\\ud" not in data and b"\\uD" not in data):
        return data
    return _HALF.sub(lambda found: found[1] or rb"\ufffd", data)


def json_text(file: ExportFile) -> str:
    """`json_data` as text, without the end of its last line, so that no decoder finds a fault behind that."""
    return json_data(file).decode().removesuffix("\n" if file.data else "")


class LedgerBuilder:
    """Collects what becomes of every line, or object; those nobody spoke for come out as unread."""

    _READ, _KNOWN, _UNREAD = 1, 2, 3

    def __init__(
        self,
        files: tuple[ExportFile, ...],
        places: Mapping[str, Sequence[Span]] | None = None,
        idle: re.Pattern[str] | None = None,
    ) -> None:
        """places: for files whose statements are not lines (objects of a JSON file, say) the span of each, by path; they are
        then what is counted
        idle: lines that say nothing by themselves, beside empty ones
        """
        self._idle = idle
        self._files = {file.path: file for file in files}
        self._places = places or {}
        self._status = {file.path: bytearray(len(self._places.get(file.path, file.lines)) + 1) for file in files}
        self._numbers = {
            (path, where.first, where.start): number
            for path, spans in self._places.items()
            for number, where in enumerate(spans, 1)
        }
        self._set_aside: list[LedgerEntry] = []
        self._unread: list[LedgerEntry] = []
        self._problems: list[LedgerEntry] = []

    def read(self, where: Span) -> None:
        """The lines went into the model. A line once unread stays so."""
        self._mark(where, self._READ)

    def read_line(self, path: str, line: int) -> None:
        """`read` for a single line, for loops over many."""
        status = self._status[path]
        if status[line] != self._UNREAD:
            status[line] = self._READ

    def read_lines(self, path: str, first: int, last: int, idle: Sequence[int] = ()) -> None:
        """`read` for whole lines, both included, of a file whose lines are counted, but for some that say nothing."""
        status = self._status[path]
        before = [status[line] for line in idle]
        if status.find(self._UNREAD, first, last + 1) >= 0:
            for line in range(first, last + 1):
                self.read_line(path, line)
        else:
            status[first : last + 1] = bytes((self._READ,)) * (last + 1 - first)
        for line, said in zip(idle, before, strict=True):
            status[line] = said or self._KNOWN

    def set_aside(self, where: Span, why: str) -> None:
        """The lines are understood and no check needs them, for the reason given."""
        self._mark(where, self._KNOWN)
        self._set_aside.append(LedgerEntry(where, why))

    def set_aside_file(self, file: ExportFile, why: str) -> None:
        """`set_aside` for all of a file, whatever is counted in it."""
        if file.path in self._places:
            for where in self._places[file.path]:
                self._mark(where, self._KNOWN)
            self._set_aside.append(LedgerEntry(file.span(1), why))
        elif file.lines:
            self.set_aside(file.span(1, len(file.lines)), why)

    def unread(self, where: Span, why: str) -> None:
        """The lines, or a part of them, were not understood."""
        self._mark(where, self._UNREAD)
        self._unread.append(LedgerEntry(where, mask_secrets(why)))

    def problem(self, where: Span, why: str, *, matters: bool = True) -> None:
        """The lines contradict the rest of the export; how far they were read is said apart from this."""
        self._problems.append(LedgerEntry(where, mask_secrets(why), matters))

    @property
    def unread_entries(self) -> int:
        """How many entries of lines not understood there are so far."""
        return len(self._unread)

    def spoken_for(self, path: str, line: int) -> bool:
        """Whether anything was said of a line."""
        return bool(self._status[path][line])

    def statuses(self) -> dict[str, bytes]:
        """What was said of each line so far, by file; see `merged`."""
        return {path: bytes(status[1:]) for path, status in self._status.items()}

    @classmethod
    def merged(cls, several: Sequence[LedgerBuilder]) -> tuple[int, int, int]:
        """How many lines several readings of the same files read, knew or did not understand, all together: read by one is
        read, and not understood is what none did."""
        counts = [0, 0, 0]
        for path, status in several[0].statuses().items():
            for other in several[1:]:
                status = bytes(map(min, status, other.statuses()[path]))
            for number in range(3):
                counts[number] += status.count(number + 1)
        return counts[0], counts[1], counts[2]

    def untouched(self, file: ExportFile) -> bool:
        """Whether nothing was said of any line of a file."""
        return not any(self._status[file.path])

    def finish(self) -> Ledger:
        """The ledger; empty lines count as known."""
        read = known = unread = 0
        says_nothing = cache(self._says_nothing)  # there are few such lines, often repeated
        for path, status in self._status.items():
            if path in self._places:
                for number, where in enumerate(self._places[path], 1):
                    if not status[number]:
                        self.unread(where, "nothing reads this object")
            lines = () if path in self._places else self._files[path].lines
            number = status.find(0, 1)
            while 0 < number <= len(lines):
                if says_nothing(lines[number - 1]):
                    status[number] = self._KNOWN
                else:
                    self.unread(Span(path, number, number), "nothing reads this line")
                number = status.find(0, number + 1)
            body = status[1:]
            read += body.count(self._READ)
            known += body.count(self._KNOWN)
            unread += body.count(self._UNREAD)
        return Ledger(
            lines=read + known + unread,
            read=read,
            known=known,
            unread_lines=unread,
            set_aside=tuple(sorted(set(self._set_aside))),
            unread=tuple(sorted(set(self._unread))),
            problems=tuple(sorted(set(self._problems))),
        )

    def _says_nothing(self, line: str) -> bool:
        return not line.strip() or (self._idle is not None and self._idle.fullmatch(line) is not None)

    def _mark(self, where: Span, status: int) -> None:
        lines = self._status[where.file]
        if where.file in self._places:
            number = self._numbers.get((where.file, where.first, where.start), 0)
            if lines[number] != self._UNREAD:
                lines[number] = status
            return
        first, stop = where.first, where.last + 1
        if self._UNREAD not in lines[first:stop]:
            lines[first:stop] = bytes((status,)) * (stop - first)
            return
        for line in range(first, stop):
            if lines[line] != self._UNREAD:
                lines[line] = status

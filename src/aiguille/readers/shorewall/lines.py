"""The files of a Shorewall folder as rows of columns (shorewall-files(5), shorewall-params(5), version 5.2).

Continuation lines, comments, INCLUDE, ``?FORMAT``, ``?SECTION``, ``?COMMENT``, ``?SET``, ``?if`` and shell variables are dealt with
here, so that what comes out is what the tables say on the host.
"""

from __future__ import annotations

import posixpath
import re
from collections.abc import Callable, Iterator, Mapping
from typing import TypeVar

from msgspec import Struct, field

from aiguille.model import NotUnderstoodError, Span, UnreadableError
from aiguille.readers.assignments import read_assignments
from aiguille.readers.bundle import Bundle
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.literals import is_whole

T = TypeVar("T")

_DEEPEST_INCLUDE = 4
UNKNOWN = "\x00"
"""Stands in a column for what only the host knows."""
_VARIABLE = re.compile(r"\$\{([A-Za-z_]\w*)\}|\$([A-Za-z_]\w*)")
_SET = re.compile(r"\?set\s+\$?([A-Za-z_]\w*)\s+(.*)", re.IGNORECASE)
_EMBEDDED = re.compile(r"(?:\?begin\s+(?:perl|shell)\b|(?:perl|shell)\s)", re.IGNORECASE)
_ALTERNATIVE = re.compile(r"([A-Za-z_]\w*)\s*=>?\s*(\"[^\"]*\"|[^,;}\s]+)")
_TOKEN = re.compile(r"\s*(\(|\)|&&|\|\||!=|==|!|<=|>=|<|>|\"[^\"]*\"|'[^']*'|\$?\{?[\w.+-]+\}?)")


class ColumnRow(Struct, frozen=True):
    """One entry of a table: its columns, ``-`` where empty; columns given by name; matches added as written.

    gap: why a part of it is not known, such as a variable whose value is found on the host only
    """

    where: Span
    columns: tuple[str, ...]
    named: Mapping[str, str] = field(default_factory=dict)
    inline: tuple[str, ...] = ()
    section: str = ""
    table_format: int = 1
    comment: str = ""
    gap: str = ""

    def column(self, number: int, name: str) -> str:
        """A column by number, or by one of its names, `name` and others after ``|``; "" if empty."""
        for one in name.split("|"):
            if one in self.named:
                return self.named[one]
        said = self.columns[number] if number < len(self.columns) else ""
        return "" if said in ("-", "--") else said


class Folder:
    """The tables below one folder of a bundle, with the variables its params and settings define."""

    def __init__(
        self, bundle: Bundle, root: str, family: int, ledger: LedgerBuilder, defaults: Mapping[str, str]
    ) -> None:
        """root: "etc/shorewall/"; defaults: settings as shipped, which also serve as variables"""
        self.bundle, self.root, self.family, self.ledger = bundle, root, family, ledger
        program = root.strip("/").rsplit("/", 1)[-1]
        self.conf = bundle.get(f"{root}{program}.conf")
        self.said = read_assignments(
            self.conf, ledger, (*defaults,), "a setting that does not change what is let through"
        )
        self.values: dict[str, str | None] = {"CONFDIR": "/etc", "SHAREDIR": "/usr/share", "FW": "fw"}
        self.values |= dict(defaults)
        self._params()
        self.values |= {name: self._expand(one.value)[0] for name, one in self.said.items()}
        self.defaults = defaults
        self._seen: dict[str, list[ColumnRow]] = {}

    @property
    def home(self) -> Span:
        """The line that stands for what Shorewall does by itself: the first setting."""
        for one in self.said.values():
            return one.where
        return next(self.bundle.under(self.root)).span(1)

    def setting(self, name: str) -> str:
        """A setting's value with variables put in."""
        value = self.values.get(name)
        return value if value is not None else self.defaults[name]

    def setting_where(self, name: str) -> Span:
        return self.said[name].where if name in self.said else self.home

    def is_on(self, name: str) -> bool:
        return self.setting(name).lower() in ("yes", "on")

    def rows(self, name: str) -> list[ColumnRow]:
        """The entries of a table; none if there is no such file."""
        file = self.bundle.get(self.root + name)
        return [] if file is None else self.file_rows(file)

    def file_rows(self, file: ExportFile) -> list[ColumnRow]:
        """The entries of a file, which is read once."""
        if file.path not in self._seen:
            self._seen[file.path] = list(_Lines(self).rows(file))
        return self._seen[file.path]

    def included(self, name: str) -> ExportFile | None:
        """The file an INCLUDE names: below the folder, or at an absolute place of the bundle."""
        place = name.lstrip("/") if name.startswith("/") else posixpath.normpath(self.root + name)
        return self.bundle.get(place)

    def _params(self) -> None:
        """params is a shell script; only assignments of constants are followed."""
        file = self.bundle.get(f"{self.root}params")
        for name, one in read_assignments(file, self.ledger, None).items():
            value, gap = self._expand(one.value)
            self.values[name] = value
            if gap:
                self.ledger.problem(one.where, f"{gap}; rules that use ${name} count as ones that may match")

    def _expand(self, text: str) -> tuple[str | None, str]:
        """Text with variables put in, and why that failed."""
        if "$(" in text or "`" in text:
            return None, "the value comes from a command that runs on the host"
        gap = ""

        def put(found: re.Match[str]) -> str:
            nonlocal gap
            value = self.values.get(found[1] or found[2])
            if value is None:
                gap = gap or f"the value of ${found[1] or found[2]} is not known from the export"
            return value or ""

        out = _VARIABLE.sub(put, text)
        return (None if gap else out), gap

    def expand(self, text: str) -> tuple[str, str]:
        """A line with variables put in, and why a part of it is not known."""
        value, gap = self._expand(text)
        return (
            value if value is not None else _VARIABLE.sub(lambda m: self.values.get(m[1] or m[2]) or UNKNOWN, text)
        ), gap


def parse_or_raise(where: Span, read: Callable[[str], T], text: str) -> T:
    """What a reader of one word makes of it; Shorewall refuses a folder with such a word, so that nothing of it runs."""
    try:
        return read(text)
    except NotUnderstoodError as error:
        raise UnreadableError(f"{where}: {error}; Shorewall refuses that") from error


class _Lines:
    """Reads one table; state runs on through the files it includes."""

    def __init__(self, folder: Folder) -> None:
        self.folder, self.ledger = folder, folder.ledger
        self.section, self.format, self.comment = "", 1, ""
        self.conditions: list[tuple[bool, bool]] = []
        """For every open ``?if``: whether its present branch holds, and whether one has held."""

    def rows(self, file: ExportFile, depth: int = 0) -> Iterator[ColumnRow]:
        opened = len(self.conditions)
        embedded = ""
        for where, text in _joined(file):
            low = text.lower()
            if embedded:
                self.ledger.unread(where, embedded)
                if re.match(r"\?end\b", low):
                    embedded = ""
            elif not text:
                self.ledger.set_aside(where, "comment")
            elif low.startswith(("?if", "?elsif", "?else", "?endif")):
                self._branch(low, text, where)
            elif not all(holds for holds, _ in self.conditions):
                self.ledger.set_aside(where, "in a branch of ?if that is not taken")
            elif found := re.fullmatch(r"\??include\s+(\S+)", text, re.IGNORECASE):
                yield from self._include(found[1], where, depth)
            elif _EMBEDDED.match(text):
                why = "code that Shorewall runs while it compiles; what it adds is not known"
                self.ledger.problem(where, why)
                self.ledger.unread(where, why)
                embedded = why if low.startswith("?begin") else ""
            elif text[0] == "?" or re.match(r"(?:section|comment)\b", low) or re.match(r"format\s+\d", low):
                self._directive(low.lstrip("?"), text, where)
            else:
                yield self._row(where, text)
        if len(self.conditions) > opened:
            raise UnreadableError(f"{file.path}:{len(file.lines)}: an ?if has no ?endif; the file is cut off")

    def _include(self, name: str, where: Span, depth: int) -> Iterator[ColumnRow]:
        name = self.folder.expand(name)[0]
        file = self.folder.included(name)
        if depth >= _DEEPEST_INCLUDE:
            raise UnreadableError(
                f"{where}: INCLUDE goes deeper than {_DEEPEST_INCLUDE} files, as in a circle; Shorewall refuses that"
            )
        if file is None:
            self.ledger.unread(where, f"'{name}' is not in the bundle; copy it too")
            self.ledger.problem(
                where, f"the included file '{name}' is not in the bundle; the rules in it are missing here"
            )
            return
        self.ledger.read(where)
        yield from self.rows(file, depth + 1)

    def _branch(self, low: str, text: str, where: Span) -> None:
        self.ledger.read(where)
        word = re.match(r"\?(if|elsif|else|endif)\b", low)
        if word is None or (word[1] != "if" and not self.conditions):
            raise UnreadableError(f"{where}: '{text}' belongs to no ?if; Shorewall refuses the file")
        if word[1] == "if":
            holds = self._holds(text[3:], where)
            self.conditions.append((holds, holds))
        elif word[1] == "endif":
            self.conditions.pop()
        else:
            _, before = self.conditions[-1]
            holds = not before and (word[1] == "else" or self._holds(text[6:], where))
            self.conditions[-1] = (holds, before or holds)

    def _holds(self, text: str, where: Span) -> bool:
        try:
            return Expression(text, self.folder).value()
        except NotUnderstoodError as error:
            self.ledger.unread(where, str(error))
            self.ledger.problem(where, f"{error}; the lines it governs are taken as if the condition did not hold")
            return False

    def _directive(self, low: str, text: str, where: Span) -> None:
        rest = text.split(None, 1)[1].strip() if len(text.split(None, 1)) > 1 else ""
        if low.startswith("format"):
            self.format = int(rest) if is_whole(rest) else self.format
            self.ledger.read(where)
        elif low.startswith("section"):
            self.section = rest.upper()
            self.ledger.read(where)
        elif low.startswith("comment"):
            self.comment = rest.strip("'\"")
            self.ledger.read(where)
        elif found := _SET.match(text):
            value, _ = self.folder.expand(found[2].strip().strip("\"'"))
            self.folder.values[found[1]] = value
            self.ledger.read(where)
        elif low.startswith(("info", "warning", "error", "require", "echo", "reset", "verbose")):
            self.ledger.set_aside(where, "tells the administrator something or asks what the kernel can do")
        else:
            self.ledger.unread(where, "is not a directive we know")
            self.ledger.problem(where, f"'{text}' is not known; what it changes is missing here")

    def _row(self, where: Span, text: str) -> ColumnRow:
        text, gap = self.folder.expand(text)
        inline: tuple[str, ...] = ()
        named: dict[str, str] = {}
        if ";;" in text:
            text, _, rest = text.partition(";;")
            inline = tuple(rest.lstrip("+").split())
        elif found := re.search(r"(?:^|\s)\{(.*)\}\s*$|;(.*)$", text):
            # `{...}` inside a word, as in a list of services, is not meant.
            pairs = found[1] or found[2] or ""
            text = text[: found.start()]
            odd = _ALTERNATIVE.sub("", pairs).strip(" ,\t")
            if odd and found[2] is not None and (self.folder.values.get("INLINE_MATCHES") or "No").lower() == "yes":
                inline = tuple(pairs.split())
            elif odd:
                raise UnreadableError(
                    f"{where}: '{odd}' is no pair of a column and its value; Shorewall refuses such a configuration, so these files "
                    "are not what runs"
                )
            else:
                named = {k.lower(): v.strip('"') for k, v in _ALTERNATIVE.findall(pairs)}
        return ColumnRow(where, tuple(_columns(text)), named, inline, self.section, self.format, self.comment, gap)


def _columns(text: str) -> list[str]:
    """Columns are parted by blanks, but not inside parentheses."""
    out: list[str] = []
    depth = 0
    for word in text.split():
        if depth > 0:
            out[-1] += word
        else:
            out.append(word)
        depth += word.count("(") - word.count(")")
    return out


def _joined(file: ExportFile) -> Iterator[tuple[Span, str]]:
    """Lines without comments, continued ones put together."""
    whole, first = "", 0
    for number, line in enumerate(file.lines, 1):
        first = first or number
        bare = _bare(line)
        if bare.endswith("\\") and number < len(file.lines):
            whole += bare[:-1].lstrip() if whole.endswith((",", ":")) else bare[:-1]
            continue
        whole += bare.lstrip() if whole.endswith((",", ":")) else bare
        if whole.strip() or any(file.lines[n - 1].strip() for n in range(first, number + 1)):
            yield file.span(first, number), whole.strip()
        whole, first = "", 0


def _bare(line: str) -> str:
    """A line without its comment."""
    quoted = False
    for at, sign in enumerate(line):
        if sign == '"':
            quoted = not quoted
        elif sign == "#" and not quoted:
            return line[:at].rstrip()
    return line.rstrip()


class Expression:
    """What follows ``?if``: variables, capabilities, comparisons, ``!``, ``&&``, ``||``, parentheses.

    Capabilities (``__ADDRTYPE``) count as given, as they are with the kernels of today; ``__IPV4`` and ``__IPV6`` go by the
    program. Raises NotUnderstoodError for anything else.
    """

    def __init__(self, text: str, folder: Folder) -> None:
        self.folder = folder
        self.tokens: list[str] = []
        at = 0
        text = text.strip()
        while at < len(text):
            found = _TOKEN.match(text, at)
            if found is None:
                raise NotUnderstoodError(f"the condition '{text}' is not one we can settle")
            self.tokens.append(found[1])
            at = found.end()
        self.text, self.at = text, 0

    def value(self) -> bool:
        out = self._either()
        if self.at != len(self.tokens):
            raise NotUnderstoodError(f"the condition '{self.text}' is not one we can settle")
        return _true(out)

    def _peek(self) -> str:
        return self.tokens[self.at] if self.at < len(self.tokens) else ""

    def _next(self) -> str:
        self.at += 1
        if self.at > len(self.tokens):
            raise NotUnderstoodError(f"the condition '{self.text}' ends too early")
        return self.tokens[self.at - 1]

    def _either(self) -> str:
        left = self._both()
        while self._peek() in ("||", "or"):
            self._next()
            right = self._both()
            left = left if _true(left) else right
        return left

    def _both(self) -> str:
        left = self._compared()
        while self._peek() in ("&&", "and"):
            self._next()
            right = self._compared()
            left = right if _true(left) else left
        return left

    def _compared(self) -> str:
        left = self._single()
        sign = self._peek()
        if sign not in ("==", "!=", "eq", "ne", "<", ">", "<=", ">="):
            return left
        self._next()
        right = self._single()
        if sign in ("eq", "ne") or (sign in ("==", "!=") and not (is_whole(left) and is_whole(right))):
            return str(int((left == right) == (sign in ("eq", "=="))))
        if not (is_whole(left) and is_whole(right)):
            raise NotUnderstoodError(f"the condition '{self.text}' compares what are not numbers")
        one, two = int(left), int(right)
        holds = {"==": one == two, "!=": one != two, "<": one < two, ">": one > two, "<=": one <= two, ">=": one >= two}
        return str(int(holds[sign]))

    def _single(self) -> str:
        token = self._next()
        if token in ("!", "not"):
            return "" if _true(self._single()) else "1"
        if token == "(":
            out = self._either()
            if self._next() != ")":
                raise NotUnderstoodError(f"the condition '{self.text}' has a '(' without its ')'")
            return out
        if token[0] in "\"'":
            return self.folder.expand(token[1:-1])[0] if token[0] == '"' else token[1:-1]
        if token[0] == "$":
            name = token.strip("${}")
            if self.folder.values.get(name, "") is None:
                raise NotUnderstoodError(
                    f"the condition '{self.text}' asks for ${name}, whose value the host finds out"
                )
            return self.folder.values.get(name) or ""
        if token in ("&&", "||", ")", "==", "!=", "<", ">", "<=", ">="):
            raise NotUnderstoodError(f"the condition '{self.text}' has a '{token}' with nothing before it")
        if token.startswith("__"):
            return (
                "1" if {"__IPV4": self.folder.family == 4, "__IPV6": self.folder.family == 6}.get(token, True) else ""
            )
        return token


def _true(text: str) -> bool:
    return text.lower() not in ("", "0", "no", "off")

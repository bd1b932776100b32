"""Shell scripts of commands for a firewall, followed as a shell would run them on a host that has no rules yet.

Variables with constant values, loops over constant words and several commands in a line are followed. What depends on the host (the
output of a command, an ``if``) is not guessed: commands in such a place are run with the reason why they may not be.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from itertools import pairwise

from msgspec import Struct, field

from aiguille.model import NotUnderstoodError, Span, UnreadableError
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.quoting import split_words

_ASSIGNMENT = re.compile(r"(?:(?:export|readonly|local|declare)\s+)?([A-Za-z_]\w*)=(.*)", re.DOTALL)
_VARIABLE = re.compile(r"\$\{([A-Za-z_]\w*)\}|\$([A-Za-z_]\w*)|\$[0-9@*#?!{(]|`")
_REDIRECT = re.compile(r"\s*[0-9&]?>>?\s*(?:&[0-9]|\S+)|\s*<\s*\S+")
_LOOP = re.compile(r"for\s+([A-Za-z_]\w*)\s+in\b\s*(.*)")
_QUIET = frozenset([
    "echo", "printf", "modprobe", "insmod", "sysctl", "set", "unset", "true", "false", ":", "exit", "return", "shift",
    "cd", "sleep", "logger", "touch", "mkdir", "rm", "cp", "mv", "chmod", "chown", "cat", "ls", "grep", "date", "hostname",
    "test", "[", "export", "local", "readonly", "declare", "trap", "ulimit", "umask", "ip", "tc", "ethtool",
    "iptables-save", "ip6tables-save",
])  # fmt: skip
"""Commands that change no rule."""


class _Block(Struct):
    """An open loop or branch: the commands of a loop gather until its end."""

    kind: str
    where: Span
    variable: str = ""
    values: list[str] = field(default_factory=list)
    body: list[tuple[str, Span]] = field(default_factory=list)


class ShellScript:
    """Follows a script. What a program of interest is called with goes to `command`; what is not followed, to `unfollowed`."""

    program: re.Pattern[str]
    """How the programs of interest are called; its first group is the name."""

    def __init__(self, file: ExportFile, ledger: LedgerBuilder) -> None:
        self.file, self.ledger = file, ledger
        self.values: dict[str, str] = {}
        self.doubt: list[str] = []
        self.bodies: dict[Span, list[tuple[int, str]]] = {}
        self.ended = False

    def command(self, program: str, text: str, where: Span, gaps: tuple[str, ...]) -> None:
        """Take in a command: what follows the program's name, and why it may not be run as it stands."""
        raise NotImplementedError

    def unfollowed(self, where: Span, text: str, why: str) -> None:
        """Take in a command that may do anything."""
        raise NotImplementedError

    def handed(self, text: str, lines: Sequence[tuple[int, str]], gaps: tuple[str, ...]) -> bool:
        """Take in the lines that a program of interest reads from the script, with their numbers; False where that is not followed."""
        return False

    def run(self) -> None:
        """Follow the script to its end. Raises UnreadableError where it is cut off."""
        self._run(list(self._statements()))

    def _statements(self) -> Iterator[tuple[str, Span]]:
        """Commands one by one: comments gone, continued lines joined, lines parted at ``;``, ``&&`` and ``||``."""
        whole, first, closing = "", 0, ""
        body: list[tuple[int, str]] = []
        for number, line in enumerate(self.file.lines, 1):
            if closing:
                if line.strip() == closing:
                    self.ledger.set_aside(self.file.span(number), "ends what is handed to a command")
                    closing = ""
                else:
                    body.append((number, line))
                continue
            first = first or number
            whole += line[:-1] + " " if line.endswith("\\") else line
            if line.endswith("\\") and number < len(self.file.lines):
                continue
            where = self.file.span(first, number)
            bare = without_comment(whole)
            one_line = first == number
            whole, first = "", 0
            if not bare.strip():
                self.ledger.set_aside(where, "comment")
                continue
            if found := re.search(r"<<-?\s*['\"]?(\w+)", bare):
                closing = found[1]
                body = self.bodies[where] = []
                yield bare, where
                continue
            parts = _parts(bare)
            for part, start, stop in parts:
                yield part, Span(where.file, number, number, start, stop) if one_line and len(parts) > 1 else where

    def _run(self, statements: list[tuple[str, Span]]) -> None:
        blocks: list[_Block] = []
        awaited = 0
        for text, where in statements:
            if self.ended:
                self.ledger.set_aside(where, "stands after the script has ended")
                continue
            if re.match(r"do\b", text):
                if not awaited:
                    # What loops here was not seen, behind a pipe for instance.
                    self._open(blocks, next((one for one in blocks if one.kind == "for"), None), "do", where)
                awaited = max(0, awaited - 1)
                if blocks and blocks[-1].kind == "for" and text.strip() == "do":
                    self.ledger.read(where)  # the loop's own, no part of what it repeats
                    continue
            text = re.sub(r"^(?:do|then)\s+", "", text)
            word = text.split()[0] if text.split() else ""
            loop = next((one for one in blocks if one.kind == "for"), None)
            if word in ("for", "while", "until", "if", "case", "select") or re.fullmatch(
                r"(?:function\s+)?[\w-]+\s*\(\)\s*\{?", text
            ):
                self._open(blocks, loop, text, where)
                awaited += word in ("for", "while", "until", "select")
            elif word in ("done", "fi", "esac", "}") and blocks:
                closed = blocks.pop()
                self.ledger.read(where)
                if closed is loop:
                    self._loop(closed)
                elif loop is not None:
                    loop.body.append((text, where))
                else:
                    self.doubt.pop()
            elif loop is not None:
                loop.body.append((text, where))
            elif word in ("do", "then", "else", "elif", "{", ";;"):
                self.ledger.read(where)
            else:
                self._statement(text, where)
        if blocks:
            raise UnreadableError(f"{blocks[0].where}: '{blocks[0].kind}' is never closed; the script is cut off")

    def _open(self, blocks: list[_Block], loop: _Block | None, text: str, where: Span) -> None:
        self.ledger.read(where)
        if loop is not None:
            blocks.append(_Block("nested", where))
            loop.body.append((text, where))
            return
        found = _LOOP.fullmatch(text)
        values, gap = self._expand(found[2], where) if found else ("", "")
        if found and not gap:
            blocks.append(_Block("for", where, found[1], words_of(values, where)))
            return
        kind = text.split()[0]
        blocks.append(_Block(kind, where))
        why = f"stands inside '{kind}' of line {where.first}, which the host decides"
        self.ledger.problem(
            where, f"what '{kind}' leads to is decided on the host; the rules inside count as ones that may match"
        )
        self.doubt.append(why)

    def _loop(self, loop: _Block) -> None:
        for value in loop.values:
            self.values[loop.variable] = value
            self._run(loop.body)
        if not loop.values:
            for _, where in loop.body:
                self.ledger.set_aside(where, "a loop over nothing")

    def _statement(self, text: str, where: Span) -> None:
        if (assigned := _ASSIGNMENT.fullmatch(text)) is not None and not re.match(r"\w+=[\w./-]*\s+\S", text):
            self._assign(assigned[1], assigned[2].strip(), where)
            return
        text, gap = self._expand(text, where)
        if where in self.bodies:
            self._handed(text, self.bodies[where], where, gap)
            return
        words = text.split()
        while words and (words[0] in ("sudo", "exec", "command") or re.match(r"\w+=", words[0])):
            words.pop(0)
        found = self.program.fullmatch(words[0].strip("\"'")) if words else None
        if found is not None:
            rest = text.split(None, text.split().index(words[0]) + 1)[-1]
            self.command(found[1], _REDIRECT.sub("", rest), where, tuple(filter(None, (gap, *self.doubt))))
        elif words and (
            words[0] in _QUIET or words[0].startswith("/proc") or words == ["netfilter-persistent", "save"]
        ):
            self.ledger.set_aside(where, "a command that changes no rule")
            self.ended = words[0] == "exit" and not self.doubt
        else:
            why = f"'{words[0] if words else text}' is not a command we follow"
            if words and words[0].rpartition("/")[2] == "ipset":
                self.ledger.unread(where, f"{why}; rules that look into a set may match until its members are known")
            else:
                self._doubtful(where, why, text)

    def _handed(self, text: str, body: list[tuple[int, str]], where: Span, gap: str) -> None:
        """A command that reads the lines below it; quotes around their end keep variables as they are."""
        lines = []
        for number, line in body:
            described, unknown = (line, "") if re.search(r"<<-?\s*['\"]", text) else self._expand(line, where)
            lines.append((number, described))
            gap = gap or unknown
        words = [word for word in text.partition("<<")[0].split() if word not in ("sudo", "exec")]
        follows = bool(words) and self.program.fullmatch(words[0].strip("\"'")) is not None
        if follows and self.handed(text, lines, tuple(filter(None, (gap, *self.doubt)))):
            self.ledger.read(where)
            return
        for number, _ in body:
            self.ledger.unread(self.file.span(number), "text that the script hands to a command")
        self._doubtful(where, "a command that reads the lines below it is not followed")

    def _doubtful(self, where: Span, why: str, text: str = "") -> None:
        self.ledger.unread(where, why)
        self.ledger.problem(where, f"{why}; whatever it does to the rules counts as a rule that may do anything")
        self.unfollowed(where, text, why)

    def _assign(self, name: str, value: str, where: Span) -> None:
        self.ledger.read(where)
        asked = re.search(r"(?:which|command -v|type -p)\s+([\w./-]+)", value)
        if asked is not None and self.program.fullmatch(asked[1]) is not None:
            self.values[name] = asked[1]
            return
        value, gap = self._expand(value, where)
        if gap or self.doubt:
            self.values.pop(name, None)
        else:
            self.values[name] = " ".join(words_of(value, where))

    def _expand(self, text: str, where: Span) -> tuple[str, str]:
        """Text with variables put in, and why a part of it is not known."""
        gap = ""

        def put(found: re.Match[str]) -> str:
            nonlocal gap
            name = found[1] or found[2]
            if name and name in self.values:
                return self.values[name]
            gap = gap or (
                f"the value of ${name} is not known" if name else "it depends on what a command prints on the host"
            )
            return found[0]

        put_in = _VARIABLE.sub(put, text)
        if len(put_in) > LONGEST:
            return text, gap or f"its variables hold more than {LONGEST} letters"
        return put_in, gap


LONGEST = 1 << 20
"""Letters a line may have once its variables are put in."""


def words_of(text: str, where: Span) -> list[str]:
    try:
        return split_words(text)
    except NotUnderstoodError as error:
        raise UnreadableError(f"{where}: {error}; mend the line or take it out") from error


def without_comment(line: str) -> str:
    """A line up to the ``#`` that begins a comment, as shells and most files of settings have it."""
    quote = ""
    for at, sign in enumerate(line):
        if quote:
            quote = "" if sign == quote else quote
        elif sign in "\"'":
            quote = sign
        elif sign == "#" and (at == 0 or line[at - 1] in " \t;"):
            return line[:at]
    return line


def _parts(line: str) -> list[tuple[str, int, int]]:
    """A line at its ``;``, ``&&`` and ``||`` outside quotes and parentheses: each part, and where it starts and stops."""
    ends, quote, depth, at = [(0, 0)], "", 0, 0
    while at < len(line):
        sign = line[at]
        if quote:
            quote = "" if sign == quote else quote
        elif sign == "\\":
            at += 2
            continue
        elif sign in "\"'":
            quote = sign
        elif sign in "()":
            depth += 1 if sign == "(" else -1
        elif depth == 0 and (line.startswith(("&&", "||"), at) or sign == ";"):
            wide = 1 if sign == ";" else 2
            ends.append((at, at + wide))
            at += wide
            continue
        at += 1
    out = []
    for (_, start), (stop, _) in pairwise([*ends, (len(line), 0)]):
        part = line[start:stop]
        if bare := part.strip():
            begin = start + len(part) - len(part.lstrip())
            out.append((bare, begin, begin + len(bare)))
    return out

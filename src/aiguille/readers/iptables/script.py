"""Commands of iptables as people send them: the output of ``iptables -S``, and shell scripts of plain ``iptables`` lines.

A script is followed as a shell would run it on a host without rules: variables with constant values, loops over constant words,
several commands in a line. What depends on the host (the output of a command, an ``if``) is not guessed: rules in such a place count
as ones that may match.
"""

from __future__ import annotations

import re

from aiguille.model import Rulebase, Span, UnreadableError
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.iptables.tables import BUILT_IN, STAGES, Table, Tables
from aiguille.readers.literals import is_whole
from aiguille.readers.shell import ShellScript, words_of

_PROGRAM = re.compile(r"(?:\S*/)?(ip6?tables)(?:-(?:nft|legacy))?")
_LINE = re.compile(
    r"(?:^|[;&|]|\bdo[ \t]|\bthen[ \t])[ \t]*(?:\w+=[\w./-]*[ \t]+)*(?:sudo[ \t]+)?(?:[\w./-]*/)?ip6?tables(?:-(?:nft|legacy))?[ \t]"
    r"[^\n;]*?(?<=[ \t])(?:-[APNIFDR]|--(?:append|policy|new-chain|insert|flush|delete|replace))\b",
    re.MULTILINE,
)
_BY_VARIABLE = re.compile(
    r"(?:^|[;&|]|\bdo[ \t]|\bthen[ \t])[ \t]*\"?\$\{?(\w+)\}?\"?\s+(?:-t\s+\w+\s+|-w\s+)*-[APNIF]\b", re.MULTILINE
)
_APPENDED = re.compile(r"(?:\[\d+:\d+\]\s+)?-A\s+(\S+)\s+[-!]")
_FILTERING = ("INPUT", "FORWARD", "OUTPUT")
_LISTED = re.compile(r"-P (INPUT|FORWARD|OUTPUT|PREROUTING|POSTROUTING) (ACCEPT|DROP)(?: -c ([0-9]+) ([0-9]+))?")
_LONG = {
    "--table": "-t", "--append": "-A", "--insert": "-I", "--delete": "-D", "--policy": "-P", "--new-chain": "-N", "--new": "-N",
    "--flush": "-F", "--delete-chain": "-X", "--replace": "-R", "--rename-chain": "-E", "--zero": "-Z", "--list": "-L",
    "--list-rules": "-S", "--check": "-C", "--wait": "-w", "--wait-interval": "-W",
}  # fmt: skip
_TOP = 100_000
"""More rules than that no script holds; a loop within loops may ask for more."""


def recognise(file: ExportFile) -> str | None:
    """Why a file looks like commands of iptables, or what ``iptables -S`` lists."""
    for number, line in enumerate(file.lines[:50], 1):
        if _LISTED.fullmatch(line.strip()):
            return f"line {number} is one of `iptables -S`"
    if is_excerpt(file):
        return "all of its lines append rules to chains of iptables"
    text = "\n".join(file.lines)
    if "iptables" not in text and "ip6tables" not in text:
        return None  # to look for commands in a long export of something else takes as long as to read it
    if found := _LINE.search(text):
        return f"line {text.count(chr(10), 0, found.start()) + 1} is a command of iptables"
    for found in _BY_VARIABLE.finditer(text):
        if re.search(rf"^\s*{found[1]}=.*iptables", text, re.MULTILINE):
            return f"line {text.count(chr(10), 0, found.start()) + 1} is a command of iptables"
    return None


def is_listing(file: ExportFile) -> bool:
    """Whether this is the output of ``iptables -S``, not a script."""
    return any(_LISTED.fullmatch(line.strip()) for line in file.lines[:50])


def is_excerpt(file: ExportFile) -> bool:
    """Whether a file holds rules alone, cut out of a dump or a listing."""
    said = [line.strip() for line in file.lines if line.strip() and line.strip()[0] != "#"]
    found = [_APPENDED.match(line) for line in said]
    return all(found) and any(one is not None and one[1] in _FILTERING for one in found)


def read_excerpt(file: ExportFile, family: int, ledger: LedgerBuilder, sets: frozenset[str]) -> list[Rulebase]:
    """Rule bases of rules alone: what becomes of packets that none of them takes is not known."""
    tables = Tables(family, ledger, sets)
    commands = _Commands(tables, ledger)
    ledger.problem(
        file.span(1),
        "these are rules without their table and policies; they are taken to be all there are, and what becomes of other packets is "
        "not known: ask for iptables-save",
    )
    for number, line in enumerate(file.lines, 1):
        where, text = file.span(number), line.strip()
        found = _APPENDED.match(text)
        if found is None:
            ledger.set_aside(where, "comment")
            continue
        table = tables.table("nat" if found[1] in ("PREROUTING", "POSTROUTING") else "filter", where)
        if found[1] not in table.chains:
            tables.chain(table, found[1], where, "unknown" if found[1] in STAGES else "-")
        commands.run(table, words_of(text[text.index("-A ") :], where), where)
    return tables.finish()


def read_listing(file: ExportFile, family: int, ledger: LedgerBuilder, sets: frozenset[str]) -> list[Rulebase]:
    """Rule bases of one or several tables as ``iptables -S`` lists them; the tables are told by the chains they have."""
    tables = Tables(family, ledger, sets)
    blocks: list[list[int]] = []
    for number, line in enumerate(file.lines, 1):
        words = line.split()
        if words[:1] == ["-P"] and (not blocks or _starts(file, blocks[-1], words[1:2])):
            blocks.append([])
        if not blocks:
            ledger.unread(file.span(number), "stands before the first policy such as '-P INPUT DROP'")
        else:
            blocks[-1].append(number)
    for block in blocks:
        names = set(_policies(file, block))
        kind = next((t for t in BUILT_IN if set(BUILT_IN[t]) == names), "filter")
        where = file.span(block[0])
        if kind in tables.tables:
            raise UnreadableError(f"{where}: the table '{kind}' is listed a second time; keep one listing a file")
        commands = _Commands(tables, ledger)
        for number in block:
            if text := file.lines[number - 1].strip():
                commands.run(tables.table(kind, where), words_of(text, file.span(number)), file.span(number))
    if "nat" not in tables.tables:
        ledger.problem(
            file.span(1),
            "`iptables -S` lists one table; translations and whatever else other tables do is not known, ask for iptables-save",
        )
    return tables.finish()


def _starts(file: ExportFile, block: list[int], name: list[str]) -> bool:
    """Whether a policy of this chain begins another table."""
    others = any(file.lines[n - 1].startswith(("-A ", "-N ")) for n in block)
    return others or name[0] in _policies(file, block) if name else False


def _policies(file: ExportFile, block: list[int]) -> list[str]:
    """The chains that have a policy among some lines."""
    said = [file.lines[n - 1].split() for n in block]
    return [words[1] for words in said if words[:1] == ["-P"] and len(words) > 1]


def read_script(file: ExportFile, ledger: LedgerBuilder, sets: frozenset[str]) -> dict[int, list[Rulebase]]:
    """Rule bases by family, as a script leaves them on a host that had none."""
    return _Script(file, ledger, sets).read()


_TAKES_OUT = "may take it out again"


class _Commands:
    """Runs commands of one family on its tables."""

    def __init__(self, tables: Tables, ledger: LedgerBuilder) -> None:
        self.tables, self.ledger = tables, ledger
        self.count = 0

    def table(self, name: str, where: Span) -> Table:
        if name not in BUILT_IN:
            raise UnreadableError(f"{where}: '{name}' is not a table of iptables ({', '.join(BUILT_IN)})")
        table = self.tables.table(name, where)
        for chain in BUILT_IN[name]:
            if chain not in table.chains:
                self.tables.chain(table, chain, where, "ACCEPT", keep=True)
        return table

    def run(self, table: Table, words: list[str], where: Span, gaps: tuple[str, ...] = ()) -> None:
        """One command after its program and table, in words; gaps: why it may not be run."""
        words = [_LONG.get(word, word) for word in words]
        command, rest = words[0], words[1:]
        chain = rest[0] if rest else ""
        if gaps and command not in ("-A", "-I", "-N"):
            self._doubt(where, f"{gaps[0]}; '{command}' is passed over")
            if command in ("-F", "-D", "-R"):
                self._may_go(table, chain, f"line {where.first} {_TAKES_OUT}")
            return
        self.ledger.read(where)
        match command:
            case "-A" if chain:
                self.tables.append(table, chain, where, rest[1:], gaps=gaps)
            case "-I" if chain:
                number = int(rest[1]) if len(rest) > 1 and is_whole(rest[1]) else None
                self.tables.append(table, chain, where, rest[1 if number is None else 2 :], (number or 1) - 1, gaps)
            case "-R" if len(rest) > 1 and is_whole(rest[1]):
                if self.tables.delete(table, chain, [], int(rest[1])):
                    self.tables.append(table, chain, where, rest[2:], int(rest[1]) - 1, gaps)
                else:
                    self._doubt(where, f"there is no rule {rest[1]} in chain '{chain}' to replace")
            case "-D" if chain:
                number = int(rest[1]) if len(rest) == 2 and is_whole(rest[1]) else None
                if not self.tables.delete(table, chain, rest[1:], number):
                    self._doubt(where, "there is no such rule to delete at this point")
            case "-P" if len(rest) > 1:
                self.tables.chain(table, chain, where, rest[1], keep=True)
            case "-N" if chain:
                self.tables.chain(table, chain, where, keep=True)
            case "-F":
                for name in [chain] if chain else list(table.rules):
                    for one in table.rules.pop(name, ()):
                        self.ledger.set_aside(one.where, "a rule that is flushed again later")
            case "-X":
                for name in [chain] if chain else [n for n in table.chains if n not in BUILT_IN[table.name]]:
                    if not table.rules.get(name):
                        table.chains.pop(name, None)
            case "-E" if len(rest) > 1:
                self._doubt(where, "a chain that is renamed; rules that name it may lead elsewhere")
            case "-Z" | "-L" | "-S" | "-C":
                self.ledger.set_aside(where, "changes no rule")
            case _:
                self._doubt(where, f"'{command}' is not a command of iptables that we follow")
        self.count += 1
        if self.count > _TOP:
            raise UnreadableError(f"{where}: more than {_TOP} rules by now; a loop of this script goes too far")

    def anything(self, where: Span, text: str, why: str) -> None:
        """A command that is not followed: in each chain it names, else in all that decide, it counts as a rule that does anything."""
        words = {word.strip("\"'") for word in text.split()}
        tables = self.tables.tables
        named = [(table, chain) for table in tables.values() for chain in table.chains if chain in words]
        if not named and "filter" in tables:
            named = [(tables["filter"], chain) for chain in BUILT_IN["filter"]]
        for table, chain in named:
            self.tables.anything(table, where, why, chain, first=not words.isdisjoint(("-I", "--insert")))

    def _may_go(self, table: Table, chain: str, why: str) -> None:
        """What a command that is not followed may take out, of one chain or all, counts as rules that may match."""
        for name in [chain] if chain else list(table.rules):
            for one in table.rules.get(name, ()):
                if not any(gap.endswith(_TAKES_OUT) for gap in one.gaps):
                    one.gaps += (why,)

    def _doubt(self, where: Span, why: str) -> None:
        self.ledger.unread(where, why)
        self.ledger.problem(where, f"{why}; the rules may be others than shown")


class _Script(ShellScript):
    program = _PROGRAM

    def __init__(self, file: ExportFile, ledger: LedgerBuilder, sets: frozenset[str]) -> None:
        super().__init__(file, ledger)
        self.sets = sets
        self.commands: dict[int, _Commands] = {}
        self.odd: list[tuple[Span, str, str]] = []

    def read(self) -> dict[int, list[Rulebase]]:
        self.run()
        if not self.commands:
            raise UnreadableError(f"{self.file.path}: no command of iptables was found that could be followed")
        return {family: one.tables.finish() for family, one in self.commands.items()}

    def unfollowed(self, where: Span, text: str, why: str) -> None:
        self.odd.append((where, text, why))
        for commands in self.commands.values():
            commands.anything(where, text, why)

    def command(self, program: str, text: str, where: Span, gaps: tuple[str, ...]) -> None:
        family = 6 if program == "ip6tables" else 4
        name = "filter"
        words = words_of(text, where)
        out: list[str] = []
        at = 0
        while at < len(words):
            word = _LONG.get(words[at], words[at])
            if word == "-t" and at + 1 < len(words):
                name, at = words[at + 1], at + 1
            elif word in ("-w", "-W"):
                at += at + 1 < len(words) and words[at + 1].isdecimal()
            elif word in ("-4", "-6"):
                family = int(word[1])
            elif not (word in ("-n", "-v", "--line-numbers") and not any(w in ("-A", "-I") for w in out)):
                out.append(word)
            at += 1
        if not out:
            return
        first = next((i for i, w in enumerate(out) if w in _LONG.values()), 0)
        out = [*out[first:], *out[:first]]
        commands = self.commands.get(family)
        if commands is None:
            commands = self.commands[family] = _Commands(Tables(family, self.ledger, self.sets), self.ledger)
            commands.table("filter", where)
            for odd in self.odd:
                commands.anything(*odd)
        table = commands.table(name, where)
        if gaps and any(_OPEN.search(word) for word in out):
            kept, lost = _without_unknown(out)
            if lost:
                # Where it stands or what it does is what is not known.
                self.ledger.unread(where, f"{gaps[0]}; the line is kept as a rule that may do anything")
                commands.anything(where, " ".join(kept), gaps[0])
                return
            out = kept
        commands.run(table, out, where, gaps)


_OPEN = re.compile(r"[$`]")


def _without_unknown(words: list[str]) -> tuple[list[str], bool]:
    """The words of a command without conditions of which a value is not known, and whether what is not known is something else."""
    out: list[str] = []
    lost = False
    for word in words:
        if not _OPEN.search(word):
            out.append(word)
        elif len(out) > 2 and out[-1].startswith("-") and out[-1] not in ("-j", "-g", "--jump", "--goto"):
            out.pop()
            if out[-1] == "!":
                out.pop()
        else:
            lost = True
    return out, lost

"""Tables of iptables put together: from dumps, from commands, and from the files of programs that write such rules."""

from __future__ import annotations

import re
from collections.abc import Callable

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.model import (
    Action,
    Base,
    Chain,
    Condition,
    Field,
    Hits,
    Named,
    NotUnderstoodError,
    Rulebase,
    Span,
    Stage,
    UnreadableError,
)
from aiguille.readers.calls import refuse_circles
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.iptables.rule import CommandReader, RuleLine
from aiguille.readers.literals import is_whole, whole
from aiguille.readers.quoting import split_words

TABLE = re.compile(r"\*(filter|nat|mangle|raw|security)")
_CHAIN = re.compile(r":(\S+) (ACCEPT|DROP|QUEUE|RETURN|-)(?: \[([0-9]+):([0-9]+)\])?")
_COUNTED = re.compile(r"\[([0-9]+):([0-9]+)\] ")
_POLICIES = {"ACCEPT": Action.ACCEPT, "DROP": Action.DROP}

PRIORITY = {"raw": -300, "mangle": -150, "nat": -100, "filter": 0, "security": 50}
"""Order of the tables at one stage (nft(8), "Standard priority names"); source translation stands at 100."""

STAGES = {
    "PREROUTING": Stage.PREROUTING,
    "INPUT": Stage.INPUT,
    "FORWARD": Stage.FORWARD,
    "OUTPUT": Stage.OUTPUT,
    "POSTROUTING": Stage.POSTROUTING,
}
BUILT_IN = {
    "filter": ("INPUT", "FORWARD", "OUTPUT"),
    "nat": ("PREROUTING", "INPUT", "OUTPUT", "POSTROUTING"),
    "mangle": ("PREROUTING", "INPUT", "FORWARD", "OUTPUT", "POSTROUTING"),
    "raw": ("PREROUTING", "OUTPUT"),
    "security": ("INPUT", "FORWARD", "OUTPUT"),
}


class Pending(Struct):
    """A rule before the chains of its table are all known: the text of its line, or its words from the match on.

    gaps: what was not understood before it came to words
    """

    where: Span
    text: str
    words: list[str] | None = None
    gaps: tuple[str, ...] = ()
    unknown: bool = False


class Table(Struct):
    """A table while it is put together."""

    name: str
    where: Span
    chains: dict[str, Chain] = field(default_factory=dict)
    rules: dict[str, list[Pending]] = field(default_factory=dict)


class Tables:
    """All tables of one address family.

    A chain declared again is emptied, as iptables-restore does it; rules may come from several files.
    """

    def __init__(self, family: int, ledger: LedgerBuilder, sets: frozenset[str] = frozenset()) -> None:
        self.family = family
        self.ledger = ledger
        self.sets = sets
        self.tables: dict[str, Table] = {}

    def table(self, name: str, where: Span) -> Table:
        return self.tables.setdefault(name, Table(name, where))

    def chain(
        self, table: Table, name: str, where: Span, policy: str = "-", hits: Hits | None = None, *, keep: bool = False
    ) -> None:
        """Declare a chain; policy: "ACCEPT", "DROP" or "-"; keep: leave the rules it has."""
        built_in = name in STAGES and policy != "-"
        if not keep:
            table.rules.pop(name, None)
        table.chains[name] = Chain(
            name=name,
            rules=(),
            where=where,
            base=_base(table.name, name) if built_in else None,
            policy=_POLICIES.get(policy, Action.UNKNOWN) if built_in else None,
            policy_where=where if built_in else None,
            hits=hits if built_in else None,
        )

    def rule(self, table: Table, where: Span, text: str) -> None:
        """A line such as ``[3:180] -A INPUT -p tcp -j ACCEPT``, or one that inserts or deletes a rule; others are unread."""
        found = _COMMAND.match(text)
        if found is None:
            named = next((chain for word in text.split() if (chain := word.strip("\"'")) in table.chains), "")
            self.odd(table, where, "is not a rule such as '-A INPUT ... -j ACCEPT'", named)
            return
        command, chain = found[1], found[2].strip("\"'")
        if command in ("-A", "--append"):
            table.rules.setdefault(chain, []).append(Pending(where, text))
            return
        try:
            words = split_words(text[found.end() :])
        except NotUnderstoodError as error:
            raise UnreadableError(f"{where}: {error}; the rule cannot be read, save the dump again") from error
        number = int(words.pop(0)) if words and is_whole(words[0]) else None
        if command in ("-I", "--insert"):
            self.append(table, chain, where, words, (number or 1) - 1)
        else:
            self.ledger.read(where)
            self.delete(table, chain, words, number)

    def odd(self, table: Table, where: Span, why: str, chain: str) -> None:
        """A line that was not understood; in the chain it stands in or names, if any, it counts as a rule that does anything."""
        self.ledger.unread(where, f"{why}; the line is kept as a rule that may do anything" if chain else why)
        if chain:
            self.anything(table, where, why, chain)

    def anything(self, table: Table, where: Span, why: str, chain: str, *, first: bool = False) -> None:
        """At the end of a chain so far, or at its beginning, a rule that may do anything."""
        rules = table.rules.setdefault(chain, [])
        rules.insert(0 if first else len(rules), Pending(where, "", [], (why,), unknown=True))

    def delete(self, table: Table, chain: str, words: list[str], number: int | None = None) -> bool:
        """Take a rule out again, by its number or by its words; False if there is none."""
        rules = table.rules.get(chain, [])
        for at, one in enumerate(rules, 1):
            if at == number or (number is None and _words_of(one) == words):
                del rules[at - 1]
                self.ledger.set_aside(one.where, "a rule that is deleted again later")
                return True
        return False

    def append(
        self,
        table: Table,
        chain: str,
        where: Span,
        words: list[str],
        at: int | None = None,
        gaps: tuple[str, ...] = (),
    ) -> None:
        """A rule given by its words; `at` inserts it before the rule of that index; `gaps` make it one that may match."""
        rules = table.rules.setdefault(chain, [])
        rules.insert(len(rules) if at is None else at, Pending(where, "", words, gaps))

    def finish(self) -> list[Rulebase]:
        """The rule bases; raises UnreadableError for chains that go in a circle."""
        return [self._close(table) for table in self.tables.values()]

    def _close(self, table: Table) -> Rulebase:
        reader = CommandReader(self.family, set(table.chains))
        read: dict[str, list[RuleLine]] = {}
        for name, pending in table.rules.items():
            for one in pending:
                if (line := self._rule(one, name, table, reader)) is not None:
                    read.setdefault(name, []).append(line)
        chains = []
        for name, chain in table.chains.items():
            rules = tuple(line.rule(i) for i, line in enumerate(read.get(name, ()), 1))
            chains.append(replace(chain, rules=rules))
        for chain in chains:
            for rule in chain.rules:
                self._check_names(rule.where, rule.match.conditions)
        refuse_circles(chains)
        return Rulebase(table.name, frozenset({self.family}), tuple(chains), table.where)

    def _rule(self, pending: Pending, chain: str, table: Table, reader: CommandReader) -> RuleLine | None:
        where, line = pending.where, RuleLine(pending.where, chain)
        try:
            words = _words_of(pending)
        except NotUnderstoodError as error:
            raise UnreadableError(f"{where}: {error}; the rule cannot be read, save the dump again") from error
        if counted := _COUNTED.match(pending.text):
            line.hits = Hits(whole(counted[1]), whole(counted[2]))
        if chain not in table.chains:
            self.ledger.unread(where, f"appends to chain '{chain}', which table '{table.name}' does not have")
            self.ledger.problem(where, f"the rule belongs to chain '{chain}', which table '{table.name}' does not have")
            return None
        if pending.unknown:
            line.action = Action.UNKNOWN
        else:
            reader.read(words, 0, line)
        line.gaps += pending.gaps
        if line.target is not None and line.action in (Action.UNKNOWN, Action.GOTO) and line.target not in table.chains:
            line.action = Action.UNKNOWN
            self.ledger.problem(
                where,
                f"'{line.target}' is neither a chain of table '{table.name}' nor a target we know; the rule may do anything",
            )
        if pending.unknown:
            return line
        for gap in line.gaps:
            self.ledger.unread(where, f"{gap}; the rule is kept as one that may match")
        if not line.gaps:
            self.ledger.read(where)
        return line

    def _check_names(self, where: Span, conditions: tuple[Condition, ...]) -> None:
        for condition in conditions:
            if condition.field is Field.SET:
                for operand in condition.operands:
                    if isinstance(operand, Named) and operand.name not in self.sets:
                        self.ledger.problem(
                            where,
                            f"the rule looks into set '{operand.name}', which the export does not define; until its "
                            "members are known (ask for `ipset save`) the rule counts as one that may match",
                        )


_COMMAND = re.compile(
    r"""(?:\[[0-9]+:[0-9]+\] )?(-A|--append|-I|--insert|-D|--delete)\s+("[^"]*"|'[^']*'|\S+)(?=\s|$)"""
)


def _words_of(pending: Pending) -> list[str]:
    """The words of a rule from its match on."""
    if pending.words is not None:
        return pending.words
    counted = _COUNTED.match(pending.text)
    return split_words(pending.text[counted.end() :] if counted else pending.text)[2:]


def read_tables(file: ExportFile, tables: Tables, ledger: LedgerBuilder, comment: Callable[[Span, str], None]) -> None:
    """Read the lines of a file that iptables-restore takes into tables.

    comment: called for each comment. Raises UnreadableError where a table has no COMMIT.
    """
    table: Table | None = None
    first = 0
    for number, line in enumerate(file.lines, 1):
        text = line.strip()
        if not text:
            continue
        where = Span(file.path, number, number)
        if text[0] == "#":
            comment(where, text)
        elif text[0] == "*":
            if table is not None:
                raise UnreadableError(
                    f"{where}: table '{table.name}', opened in line {first}, has no COMMIT before the next table; "
                    "save the dump again"
                )
            found = TABLE.fullmatch(text)
            if found is None:
                raise UnreadableError(
                    f"{where}: '{text}' is not a table of iptables (filter, nat, mangle, raw, security)"
                )
            ledger.read_line(file.path, number)
            table, first = tables.table(found[1], where), number
        elif table is None:
            ledger.unread(where, "stands outside every table")
        elif text == "COMMIT":
            ledger.read_line(file.path, number)
            table = None
        elif text[0] == ":":
            declared = _CHAIN.fullmatch(text)
            if declared is None:
                ledger.unread(where, "is not a chain such as ':INPUT DROP [0:0]'")
                continue
            ledger.read_line(file.path, number)
            hits = Hits(whole(declared[3]), whole(declared[4])) if declared[3] else None
            tables.chain(table, declared[1], where, declared[2], hits)
        else:
            tables.rule(table, where, text)
    if table is not None:
        raise UnreadableError(
            f"{file.path}:{len(file.lines)}: the dump is cut off: table '{table.name}', opened in line {first}, has no "
            "COMMIT; save it again, since missing rules would make every answer wrong"
        )


def _base(table: str, chain: str) -> Base:
    stage = STAGES[chain]
    if table == "nat":
        source = stage in (Stage.INPUT, Stage.POSTROUTING)
        return Base(stage, 100 if source else PRIORITY["nat"], "nat")
    return Base(stage, PRIORITY[table], "filter")

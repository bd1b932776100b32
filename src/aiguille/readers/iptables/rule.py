"""One rule line of iptables into a model rule."""

from __future__ import annotations

from msgspec import Struct, field

from aiguille.model import (
    NOT_UNDERSTOOD,
    Action,
    Condition,
    Effect,
    Field,
    Hits,
    MarkTest,
    Match,
    NotUnderstoodError,
    Numbers,
    Qualifier,
    Rule,
    Span,
)
from aiguille.readers.iptables.matches import (
    BASE,
    BASE_LONG,
    IMPLIED,
    MODELLED,
    QUALIFIERS,
    TURNING,
    Option,
    read_condition,
)
from aiguille.readers.iptables.targets import PASSING, read_target
from aiguille.readers.literals import is_whole, read_number

_MARK_TOP = 0xFFFFFFFF


class RuleLine(Struct):
    """What a line says, before its chain is complete.

    gaps: what was not understood, in words; the rule is kept as "may match" for each
    """

    where: Span
    chain: str
    conditions: list[Condition] = field(default_factory=list)
    qualifiers: list[Qualifier] = field(default_factory=list)
    marks: list[MarkTest] = field(default_factory=list)
    effects: list[Effect] = field(default_factory=list)
    gaps: list[str] = field(default_factory=list)
    action: Action = Action.CONTINUE
    action_text: str = ""
    target: str | None = None
    reply: str = ""
    comment: str = ""
    hits: Hits | None = None

    def rule(self, number: int) -> Rule:
        """The finished rule at its place in the chain."""
        return Rule(
            number=number,
            where=self.where,
            action=self.action,
            match=Match(tuple(self.conditions)),
            action_text=self.action_text,
            comment=self.comment,
            target=self.target,
            reply=self.reply,
            effects=tuple(self.effects),
            marks=tuple(self.marks),
            qualifiers=(*self.qualifiers, *(Qualifier(NOT_UNDERSTOOD, gap) for gap in self.gaps)),
            hits=self.hits,
        )


class CommandReader:
    """Reads the words of rule lines of one table and family; equal conditions are read once and shared."""

    def __init__(self, family: int, chains: frozenset[str] | set[str]) -> None:
        """chains: the names the table defines, which a jump may go to"""
        self._family = family
        self._chains = chains
        self._seen: dict[tuple[str, bool, tuple[str, ...]], Condition] = {}

    def read(self, words: list[str], start: int, line: RuleLine) -> None:
        """Read `words[start:]`, what follows ``-A CHAIN``, into `line`. Whatever is not understood lands in its gaps."""
        at, module, negated = start, "", False
        implied = ""
        while at < len(words):
            word = words[at]
            if word == "!":
                negated, at = True, at + 1
                continue
            word = BASE_LONG.get(word, word)
            option = BASE.get(word)
            if option is None and word.startswith("--"):
                option = MODELLED.get(module, {}).get(word) or MODELLED.get(implied, {}).get(word)
            if option is not None:
                arguments = words[at + 1 : at + 1 + option.words]
                self._condition(word, option, arguments, negated, line)
                if word == "-p":
                    implied = self._implied(line)
                at += 1 + option.words
            elif word == "-m" or word == "--match":
                module = words[at + 1] if at + 1 < len(words) else ""
                at += 2
                if module not in MODELLED and module in QUALIFIERS and not _has_option(words, at):
                    line.qualifiers.append(Qualifier(QUALIFIERS[module], f"-m {module}"))
                elif module not in MODELLED and module not in QUALIFIERS and not _has_option(words, at):
                    line.gaps.append(f"the match '{module}' is not known")
            elif word in ("-j", "-g", "--jump", "--goto"):
                at = self._target(words, at, line)
            else:
                stop = _end_of_option(words, at + 1)
                self._other(module, word, words[at + 1 : stop], negated, line)
                at = stop
            negated = False
        if negated:
            line.gaps.append("a '!' that negates nothing")
        turned = {field for word in words[start:] if word in TURNING for field in TURNING[word]}
        line.conditions = [one for one in line.conditions if one.field not in turned] if turned else line.conditions

    def _condition(self, word: str, option: Option, words: list[str], negated: bool, line: RuleLine) -> None:
        key = (word, negated, tuple(words))
        found = self._seen.get(key)
        if found is None:
            if len(words) < option.words:
                line.gaps.append(f"'{word}' ends the line without its value")
                return
            try:
                if word in ("--ctstate", "--state") and words[0].upper() == "DNAT":
                    found = Condition(Field.TRANSLATED, (), negated)
                else:
                    found = read_condition(option, words, self._family, negated)
            except NotUnderstoodError as error:
                if word in ("--ctstate", "--dst-type", "--src-type"):
                    line.qualifiers.append(
                        Qualifier(
                            "connection detail" if word == "--ctstate" else "address type", _spell(word, words, negated)
                        )
                    )
                else:
                    line.gaps.append(str(error))
                return
            self._seen[key] = found
        line.conditions.append(found)

    def _implied(self, line: RuleLine) -> str:
        last = line.conditions[-1] if line.conditions else None
        if last is None or last.field is not Field.PROTOCOL or last.negated:
            return ""
        operand = last.operands[0]
        return IMPLIED.get(operand.first, "") if isinstance(operand, Numbers) and operand.first == operand.last else ""

    def _other(self, module: str, word: str, words: list[str], negated: bool, line: RuleLine) -> None:
        """An option that is no exact condition: a comment, a counter, a mark, a qualifier, or not understood."""
        text = _spell(word, words, negated)
        if word == "--comment":
            line.comment = " ".join(words)
        elif word in ("-c", "--set-counters") and len(words) == 2 and all(is_whole(w) for w in words):
            line.hits = Hits(int(words[0]), int(words[1]))
        elif word in ("-f", "--fragment"):
            line.qualifiers.append(Qualifier("fragment", text))
        elif module == "mark" and word == "--mark" and words:
            self._mark(words[0], negated, line)
        elif module in QUALIFIERS and word.startswith("--"):
            name = QUALIFIERS[module]
            if line.qualifiers and line.qualifiers[-1].name == name:
                line.qualifiers[-1] = Qualifier(name, f"{line.qualifiers[-1].text} {text}")
            else:
                line.qualifiers.append(Qualifier(name, f"-m {module} {text}"))
        else:
            line.gaps.append(f"'{text}' is not known" + (f" to the match '{module}'" if module else ""))

    def _mark(self, text: str, negated: bool, line: RuleLine) -> None:
        value, _, mask = text.partition("/")
        try:
            line.marks.append(MarkTest(read_number(value), read_number(mask) if mask else _MARK_TOP, negated))
        except NotUnderstoodError as error:
            line.gaps.append(str(error))

    def _target(self, words: list[str], at: int, line: RuleLine) -> int:
        goes = words[at] in ("-g", "--goto")
        if at + 1 >= len(words):
            line.gaps.append("the jump does not say where to")
            line.action = Action.UNKNOWN
            return at + 1
        name = words[at + 1]
        at += 2
        line.action_text = name
        options: dict[str, list[str]] = {}
        while at < len(words) and words[at].startswith("--"):
            stop = _end_of_option(words, at + 1)
            options[words[at]] = words[at + 1 : stop]
            at = stop
        if goes or name in self._chains:
            line.action = Action.GOTO if goes else Action.JUMP
            line.target = name
            return at
        try:
            target = read_target(name, options, self._family)
        except NotUnderstoodError as error:
            line.gaps.append(str(error))
            line.action = Action.CONTINUE if name in PASSING else Action.UNKNOWN
            return at
        if target is None:
            line.action = Action.UNKNOWN
            line.target = name
            return at
        line.action, line.reply = target.action, target.reply
        line.effects += target.effects
        return at


def _has_option(words: list[str], at: int) -> bool:
    """Whether an option of the module just named follows."""
    if at < len(words) and words[at] == "!":
        at += 1
    return at < len(words) and words[at].startswith("--")


def _end_of_option(words: list[str], at: int) -> int:
    """Where the values of an option end: at the next word that is an option or a negation.

    The first word after an option is its value even if it begins with a hyphen, as a comment may; but flags such as
    ``--update`` have none, which shows in the next word being an option we could know.
    """
    start = at
    while at < len(words):
        word = words[at]
        if word == "!" or (word.startswith("-") and (at > start or _looks_like_option(word))):
            break
        at += 1
    return at


def _looks_like_option(word: str) -> bool:
    return (
        word in BASE
        or word in ("-m", "-j", "-g", "-f", "-c")
        or (word.startswith("--") and " " not in word and len(word) > 3)
    )


def _spell(word: str, words: list[str], negated: bool) -> str:
    return " ".join((["!"] if negated else []) + [word, *words])

"""Sentences in a sample: which of their words are keywords, and which are what keywords take.

A keyword is followed by values of many kinds and preceded by them; a value follows a keyword. What is neither for certain stays a
value: a name nobody defines makes a rule one that may match, a keyword taken for granted would not.
"""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Sequence
from itertools import pairwise

from msgspec import Struct, field

from aiguille.model import NotUnderstoodError
from aiguille.readers.literals import read_protocol
from aiguille.readers.mapped.spec import Keyword, Sentence, TextStructure
from aiguille.readers.mapped.starting import hints
from aiguille.readers.mapped.tree import Node, Token

_PLAIN = re.compile(r"[^\W\d_]+(?:[-_][^\W\d_]+)*")
_SIGNS = {"=": "is", ":=": "is", "->": "to", "=>": "to", "<-": "from"}
_BETWEEN = frozenset((":", "::", "|", "||", "/", ">", ">>", "--"))
"""Signs that part columns; none of those by which people turn a condition round."""
_LINKING = ("and", "or")
_NOT = ("not", "no")
_KEYWORDS = frozenset(
    word
    for words in (
        *(hints.IN, hints.OUT, hints.SOURCE, hints.DESTINATION, hints.COUNTS, hints.LOGS, hints.SWITCH_OFF, hints.ZONES),
        *(hints.EXCEPT, hints.PREPOSITIONS, hints.MOVING, hints.WHAT, _SIGNS),
        *hints.TEXTS.values(),
    )
    for word in words
)  # fmt: skip
_ALONE = frozenset((*hints.LOGS, *hints.SWITCH_OFF))
"""Words that say all by themselves, so that a keyword behind one is another."""

_LEADING = 2
"""A verdict among so many first words has its place; a number and a name may stand before it."""
_Phrase = tuple[str, ...]


class Found(Struct, frozen=True):
    """The sentences of a sample.

    excepting: by keyword of an exception, the keyword it is an exception of; None where that differs
    negated: keywords whose values a word turns round, with that word
    """

    sentences: tuple[Sentence, ...] = ()
    excepting: dict[str, str | None] = {}
    negated: dict[str, str] = {}


NONE = Found()
"""No sentences."""


class _Word(Struct, frozen=True):
    """A word without the comma behind it. `value`: whether it cannot be a keyword."""

    text: str
    value: bool
    quoted: bool

    @property
    def text_of_several(self) -> bool:
        return self.quoted and " " in self.text


class _Use(Struct):
    """How a keyword is used: how often it takes how many words, and what it stands behind."""

    takes: list[int] = field(default_factory=list)
    quoted: bool = True
    behind: set[_Phrase] = field(default_factory=set)
    turned: str = ""


def find_sentences(root: Node, structure: TextStructure) -> Found:
    """The sentences among the statements of text; none where its words are pairs."""
    if structure.pairs:
        return NONE
    groups: dict[str, list[Node]] = defaultdict(list)
    for node in root.walk():
        if node.words and _PLAIN.fullmatch(node.name):
            groups["" if node.name.lower() in hints.ACTIONS else node.name].append(node)
    groups = {name: nodes for name, nodes in groups.items() if any(len(node.words) > 1 for node in nodes)}
    firsts = {name: {_bare(node.words[0].text) for node in nodes} - _KEYWORDS for name, nodes in groups.items()}
    found: list[Sentence] = []
    excepting: dict[str, str | None] = {}
    negated: dict[str, str] = {}
    for name, nodes in groups.items():
        elsewhere = set().union(*(words for other, words in firsts.items() if other != name))
        one = _Grammar(nodes, elsewhere)
        if signs := one.columns():
            found.append(Sentence(tuple(dict.fromkeys(node.name for node in nodes)), {}, (*one.fillers, *signs)))
        elif one.uses or one.fillers or one.said_verdicts:
            found.append(one.sentence(tuple(dict.fromkeys(node.name for node in nodes))))
            excepting |= one.excepting()
            negated |= {_name(phrase): use.turned for phrase, use in one.uses.items() if use.turned}
    return Found(tuple(found), excepting, negated)


class _Grammar:
    """The keywords of statements of one kind.

    elsewhere: what other statements define, which is what this one refers to
    """

    def __init__(self, nodes: Sequence[Node], elsewhere: set[str]) -> None:
        self.fillers = tuple(_fillers(nodes))
        self.said = [[_word(token, elsewhere) for token in node.words if _bare(token.text)] for node in nodes]
        self.said = [[word for word in words if word.text.lower() not in _LINKING] for words in self.said]
        self.verdicts: frozenset[str] = frozenset()
        self.keywords = self._keywords()
        if nodes[0].name.lower() not in hints.ACTIONS:
            self.verdicts = self._floating_verdicts()
        self.uses: dict[_Phrase, _Use] = {}
        self.said_verdicts: dict[str, None] = {}
        self._use()

    def _floating_verdicts(self) -> frozenset[str]:
        """Words for what a rule does, where they stand now here and now there, so that no number of a word finds them."""
        first = [
            next((at for at, word in enumerate(words) if _decides(word)), -1) for words in self.said
        ]  # fmt: skip
        places = {at for at in first if at >= 0}
        behind = any(self._phrase(words, n) for words, at in zip(self.said, first, strict=True) for n in range(at))
        if not places or (len(places) == 1 and max(places) <= _LEADING and not behind):
            return frozenset()
        return frozenset(word.text for words in self.said for word in words if _decides(word))

    def _keywords(self) -> set[str]:
        counts = Counter(word.text for words in self.said for word in words if not word.value)
        # Nobody writes a name before a text: what stands there says what the text is.
        titles = {a.text for words in self.said for a, b in pairwise(words) if b.text_of_several}
        keywords = {word for word in counts if word.lower() in _KEYWORDS or word in titles}
        values: set[str] = set()
        everywhere: dict[str, list[tuple[list[_Word], int]]] = defaultdict(list)
        for words in self.said:
            for at, one in enumerate(words):
                everywhere[one.text].append((words, at))
        for _ in range(3):
            for word in sorted(counts.keys() - keywords - values):
                if counts[word] < 2:
                    continue
                places = everywhere[word]
                led = sum(at > 0 and words[at - 1].text in keywords for words, at in places)
                leads = sum(
                    at + 1 < len(words)
                    and (words[at + 1].value or words[at + 1].text in values or counts[words[at + 1].text] == 1)
                    for words, at in places
                )
                first = all(at == 0 for _, at in places)
                if led * 2 >= len(places):
                    values.add(word)
                elif leads * 3 > len(places) * 2 and (not first or len(places) * 5 >= len(self.said) * 4):
                    keywords.add(word)
        return keywords

    def _use(self) -> None:
        for words in self.said:
            at, before = 0, None
            while at < len(words):
                phrase = self._phrase(words, at)
                if not phrase:
                    at += 1
                    continue
                if phrase[0] in self.verdicts:
                    self.said_verdicts.setdefault(" ".join(phrase))
                    at += len(phrase)
                    continue
                at += len(phrase)
                begin = at
                while at < len(words) and not self._phrase(words, at):
                    at += 1
                turned = ""
                if len(phrase) > 1 and phrase[-1].lower() in _NOT and phrase[-2].lower() not in hints.EXCEPT:
                    turned, phrase = phrase[-1], phrase[:-1]
                use = self.uses.setdefault(phrase, _Use())
                use.takes.append(at - begin)
                use.quoted &= all(word.quoted for word in words[begin:at])
                use.turned = use.turned or turned
                if before is not None:
                    use.behind.add(before)
                before = before if hints.takes_back(phrase) else phrase

    def _phrase(self, words: Sequence[_Word], at: int) -> _Phrase:
        """The keywords in a row that begin at a place, those that say all by themselves alone."""
        out: list[str] = []
        while at < len(words) and words[at].text in self.verdicts and not words[at].quoted:
            out.append(words[at].text)
            at += 1
        if out:
            return tuple(out)
        if self._denies(words, at):
            out.append(words[at].text)
            at += 1
        while at < len(words) and not words[at].value and words[at].text in self.keywords:
            word = words[at].text
            led = bool(out) and (out[-1].lower() in (*hints.EXCEPT, *hints.DENYING) or out[-1].lower() == "with")
            if out and (out[-1].lower() in _ALONE or (word.lower() in _ALONE and not led)):
                break
            if out and out[-1].lower() in hints.WAYS:
                break
            if (
                out
                and word.lower() in hints.EXCEPT
                and out[-1].lower() not in hints.EXCEPT
                and word.lower() not in _NOT
            ):
                break
            out.append(word)
            at += 1
        return tuple(out)

    def _denies(self, words: Sequence[_Word], at: int) -> bool:
        """Whether a word takes back what the next one says: "no log"."""
        if at + 1 >= len(words) or words[at].quoted or words[at].text.lower() not in hints.DENYING:
            return False
        behind = words[at + 1]
        return not behind.value and behind.text in self.keywords and behind.text.lower() in _ALONE

    def columns(self) -> tuple[str, ...]:
        """The signs between columns, where all statements have the same at the same places: the number of a word finds it then."""
        signs = [
            [(at, word.text) for at, word in enumerate(words) if not word.text[:1].isalnum()] for words in self.said
        ]
        between = {text for _, text in signs[0]}
        alike = all(one == signs[0] for one in signs)
        return tuple(sorted(between)) if alike and between & _BETWEEN and between <= _BETWEEN | _SIGNS.keys() else ()

    def excepting(self) -> dict[str, str | None]:
        """What each exception is an exception of: the keyword it repeats, or the one it always stands behind."""
        out: dict[str, str | None] = {}
        for phrase, use in self.uses.items():
            if not hints.takes_back(phrase):
                continue
            rest = tuple(word for word in phrase if word.lower() not in hints.EXCEPT)
            owners = {rest} if rest else use.behind
            owner = next(iter(owners)) if len(owners) == 1 else None
            out[_name(phrase)] = _name(owner) if owner in self.uses and owner is not None else None
        return out

    def sentence(self, names: tuple[str, ...]) -> Sentence:
        keywords = {_name(phrase): _keyword(phrase, use) for phrase, use in self.uses.items()}
        if self.said_verdicts:
            keywords["verdict"] = Keyword(tuple(self.said_verdicts), "none")
        return Sentence(names, keywords, self.fillers)


def _word(token: Token, elsewhere: set[str]) -> _Word:
    text = token.text if token.quoted else _bare(token.text)
    plain = _PLAIN.fullmatch(text) is not None or text in _SIGNS
    low = text.lower()
    value = token.quoted or not plain or text in elsewhere or low in hints.ANY or _is_protocol(text)
    # Words for verdicts are values, but for those that are also what people call a record.
    return _Word(text, value or (low in hints.ACTIONS and low not in _KEYWORDS), token.quoted)


def _decides(word: _Word) -> bool:
    return not word.quoted and hints.ACTIONS.get(word.text.lower()) in hints.DECIDING


def _is_protocol(text: str) -> bool:
    try:
        return read_protocol(text) is not None
    except NotUnderstoodError:
        return False


def _bare(text: str) -> str:
    """A word without the sign that parts it from the next; such signs alone are words where they may part columns."""
    return text if text in _SIGNS or text == ":" else text.rstrip(",;:")


def _fillers(nodes: Iterable[Node]) -> Iterator[str]:
    words = [word.text for node in nodes for word in node.words if not word.quoted]
    firsts = [node.words[0].text for node in nodes if node.words]
    yield from (sign for sign in ",;" if any(word.endswith(sign) for word in words))
    if sum(word.endswith(":") for word in firsts) * 2 > len(firsts):
        yield ":"
    yield from (word for word in _LINKING if word in words)


def _keyword(phrase: _Phrase, use: _Use) -> Keyword:
    said = () if len(phrase) == 1 and phrase[0] == _name(phrase) else (" ".join(phrase),)
    if not any(use.takes):
        return Keyword(said, "none")
    return Keyword(said, "word" if use.quoted and set(use.takes) == {1} else "words")


def _name(phrase: _Phrase) -> str:
    """A phrase as the name of a statement."""
    return "-".join(_SIGNS.get(word, word) for word in phrase)

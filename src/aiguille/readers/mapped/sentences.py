"""Words of a sentence sorted by keywords: ``let 40 out of A towards [B C] for [web mail], seen 5``."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from aiguille.readers.mapped.spec import Keyword, Sentence
from aiguille.readers.mapped.tree import Token

_Child = tuple[str, tuple[Token, ...], tuple[Token, ...]]
"""A keyword's name, its own words, and what it takes."""


class Sorter:
    """The keywords of one kind of sentence, the longest that begin with a word first; one pass, nothing is tried twice."""

    def __init__(self, sentence: Sentence) -> None:
        self.of = frozenset(sentence.of)
        self.fillers = frozenset(sentence.fillers)
        self.signs = tuple(one for one in sentence.fillers if not one[-1:].isalnum())
        self.by_first: dict[str, list[tuple[tuple[str, ...], str, Keyword]]] = {}
        for name, keyword in sentence.keywords.items():
            for said in keyword.said or (name,):
                spelled = tuple(said.split())
                self.by_first.setdefault(spelled[0], []).append((spelled, name, keyword))
        for one in self.by_first.values():
            one.sort(key=lambda held: -len(held[0]))

    def sort(self, words: Sequence[Token], listed: set[Token]) -> tuple[tuple[Token, ...], list[_Child]]:
        """The words before and between what keywords take, and what each keyword takes.

        listed: the words within a list, by identity, of which none is a keyword
        """
        free: list[Token] = []
        out: list[_Child] = []
        at = 0
        while at < len(words):
            found = self._keyword(words, at, listed)
            if found is None:
                if (word := self._bare(words[at])) is not None:
                    free.append(word)
                at += 1
                continue
            own, name, takes = found
            start = at = at + own
            if takes == "word":
                at = min(at + 1, len(words))
            elif takes == "rest":
                at = len(words)
            elif takes == "words":
                while at < len(words) and self._keyword(words, at, listed) is None:
                    at += 1
            held = [word if takes == "rest" else self._bare(word) for word in words[start:at]]
            out.append(
                (
                    name,
                    tuple(self._bare(word) or word for word in words[start - own : start]),
                    tuple(word for word in held if word is not None),
                )
            )
        return tuple(free), out

    def _keyword(self, words: Sequence[Token], at: int, listed: set[Token]) -> tuple[int, str, str] | None:
        """How many words the keyword that begins at a place has, its name, and what it takes."""
        for spelled, name, keyword in self.by_first.get(self._plain(words[at]), ()):
            here = words[at : at + len(spelled)]
            if any(one.quoted or one in listed for one in here):
                continue
            if tuple(self._plain(one) if n + 1 == len(spelled) else one.text for n, one in enumerate(here)) == spelled:
                return len(spelled), name, keyword.takes
        return None

    def _plain(self, word: Token) -> str:
        return word.text if word.quoted else (self._bare(word) or word).text

    def _bare(self, word: Token) -> Token | None:
        """A word without the signs that only part it from the next; None if nothing else is left of it."""
        if word.quoted:
            return word
        text = word.text
        while text.endswith(self.signs):
            text = text[: -len(next(sign for sign in self.signs if text.endswith(sign)))]
        if not text or text in self.fillers:
            return None
        return word if text == word.text else replace(word, text=text, stop=word.start + len(text))

"""Text exports described by a dialect: comments, quotes, blocks, indentation, sections and pairs, into a tree."""

from __future__ import annotations

import re
from collections.abc import Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.model import UnreadableError
from aiguille.model.patterns import pattern
from aiguille.readers.files import ExportFile
from aiguille.readers.mapped.sentences import Sorter
from aiguille.readers.mapped.spec import Block, TextStructure
from aiguille.readers.mapped.tree import DEPTH_LIMIT, Asides, Node, Token

NUMBER = re.compile(r"[0-9]{1,9}[.):]?")
"""How statements of a numbered list begin."""
_BLOCK, _PHRASE, _SECTION, _INDENT = "block", "phrase", "section", "indentation"


class _Open(Struct):
    """A statement that may still get children. `indent` is the column it stands in."""

    kind: str
    name: str
    words: tuple[Token, ...]
    first: int
    head_last: int
    children: list[Node] = field(default_factory=list)
    indent: int = 0


class _Pair(Struct):
    """``key=value``: a statement inside the one it stands in."""

    key: Token
    value: Token | None


def parse(file: ExportFile, structure: TextStructure, asides: Asides) -> Node:
    """The tree of a file; comments are set aside.

    Raises UnreadableError for a block, list, quote or raw text that is not closed, a closing mark too many, and nesting
    beyond `DEPTH_LIMIT`.
    """
    parser = _Parser(file, structure, asides)
    for number, (line, following) in enumerate(zip(file.lines, [*file.lines[1:], ""], strict=False), 1):
        parser.line(number, line, following)
    return parser.finish()


class _Parser:
    def __init__(self, file: ExportFile, structure: TextStructure, asides: Asides) -> None:
        self.file = file
        self.path = file.path
        self.structure = structure
        self.asides = asides
        self.stack = [_Open(_BLOCK, "", (), 1, 1, indent=-1)]
        self.statement: list[Token | _Pair] = []
        self.listed: set[Token] = set()  # words of the statement within a list
        self.sentences = [Sorter(one) for one in structure.sentences]
        self.key: Token | None = None
        self.list_open: Token | None = None
        self.long: _Long | None = None
        self.indent = 0
        self.blocks = 0
        self.opens, self.closes = _marks(structure.block)
        self.begins, self.ends = _marks(structure.list)
        self.raw_opens, self.raw_closes = _marks(structure.raw)
        self.phrase_ends = {word: p.closes for p in structure.phrases for word in p.opens}
        self.end_words = {word for p in structure.phrases for word in p.closes}
        self.heading = pattern(structure.headings.pattern) if structure.headings else None
        self.scan = _scanner(structure).match
        self.unescape = re.compile(re.escape(structure.escape) + "(.)") if structure.escape else None
        self.in_quotes = {q: _inside(q, structure.escape) for q in structure.quotes}

    def line(self, number: int, line: str, following: str = "") -> None:
        """Take in one line, and see whether the following one goes on with its statement."""
        at = 0
        sign = self.structure.continues
        if sign and self.statement and self.long is None and line.lstrip().startswith(sign):
            at = line.index(sign) + len(sign)
        if self.long is not None:
            at = self._go_on(number, line)
            if at < 0:
                return
        elif not self.statement and self.list_open is None:
            if self.heading is not None and not self.blocks and (found := self.heading.fullmatch(line.strip())):
                self._section(number, line, found[1] or "")
                return
            self.indent = len(line) - len(line.lstrip())
        whole = self._tokens(number, line, at) and self.list_open is None and self.long is None
        if whole and not (sign and following.lstrip().startswith(sign)):
            self._end_statement()

    def _tokens(self, number: int, line: str, at: int) -> bool:
        """Take in the words from a column on; False if the next line belongs to the same statement."""
        length = len(line)
        scan = self.scan
        while at < length:
            found = scan(line, at)
            if found is None:  # nothing but space is left
                break
            kind = found.lastgroup
            start, at = found.span(kind or 0)
            match kind:
                case "word":
                    self._word(Token(found[kind], self.path, number, start, at))
                case "quoted":
                    text = found[kind][1:-1]
                    if self.unescape is not None and self.structure.escape in text:
                        text = self.unescape.sub(r"\1", text)
                    self._word(Token(text, self.path, number, start, at, quoted=True))
                case "mark":
                    self._mark(Token(found[kind], self.path, number, start, at))
                case "comment":
                    if not line[:start].strip():
                        self.asides.set_aside(self.file.span(number), "comment")
                    break
                case "key":
                    self.key = Token(found[kind], self.path, number, start, at)
                    at += len(self.structure.pairs)
                    if at >= length or line[at].isspace():
                        self._word(None)
                case "more":
                    return False
                case "raw":
                    self.long = _Long(self.raw_closes, number, start, [], raw=True)
                    at = self._go_on(number, line, at)
                    if at < 0:
                        return False
                case _:
                    self.long = _Long(line[start], number, start, [], raw=False)
                    self._go_on(number, line, start + 1)
                    return False
        return True

    def _go_on(self, number: int, line: str, at: int = 0) -> int:
        """Look for the end of a quote or raw text that began above; the column behind it, -1 if it is not in this line."""
        long = self.long
        if long is None:
            return at
        if long.raw:
            stop = line.find(long.closes, at)
        else:
            found = self.in_quotes[long.closes].match(line, at)
            stop = found.end() - 1 if found else -1
        if stop < 0:
            long.text.append(line[at:])
            return -1
        long.text.append(line[at:stop])
        behind = stop + len(long.closes)
        text = "\n".join(long.text)
        if not long.raw and self.unescape is not None:
            text = self.unescape.sub(r"\1", text)
        self.long = None
        self._word(Token(text, self.path, long.line, long.start, behind, quoted=True, last=number))
        return behind

    def _word(self, token: Token | None) -> None:
        if self.key is not None:
            self.statement.append(_Pair(self.key, token))
            self.key = None
        elif token is not None:
            self.statement.append(token)
            if self.list_open is not None:
                self.listed.add(token)

    def _mark(self, token: Token) -> None:
        mark = token.text
        if self.list_open is not None:
            if mark == self.ends:
                self.list_open = None
            elif mark in (self.opens, self.closes):
                raise UnreadableError(
                    f"{token.where}: the list opened in line {self.list_open.line} is not closed by '{self.ends}'"
                )
            elif mark not in self.structure.separator:
                self.statement.append(token)
        elif mark in self.structure.separator:
            self._end_statement()
        elif mark == self.begins:
            if not self.statement:
                raise UnreadableError(f"{token.where}: a list opens here without a name before '{mark}'")
            self.list_open = token
        elif mark == self.opens:
            if not self.statement:
                raise UnreadableError(f"{token.where}: a block opens here without a name before '{mark}'")
            self._open(_BLOCK, token.line)
            self.blocks += 1
        elif mark == self.closes:
            self._end_statement()
            while self.stack[-1].kind in (_INDENT, _PHRASE) and len(self.stack) > 1:
                if self.stack[-1].kind == _PHRASE:
                    raise UnreadableError(f"{token.where}: '{self.stack[-1].name}' is not ended before '{mark}'")
                self._close(token.line - 1)
            if self.stack[-1].kind != _BLOCK or len(self.stack) == 1:
                raise UnreadableError(f"{token.where}: '{mark}' closes a block that was never opened")
            self._close(token.line, closing=True)
            self.blocks -= 1
        else:
            raise UnreadableError(f"{token.where}: '{mark}' ends a list that was never opened")

    def _end_statement(self) -> None:
        if not self.statement:
            return
        first = self.statement[0]
        name = first.text if isinstance(first, Token) and not first.quoted else ""
        if name in self.end_words and len(self.statement) == 1:
            self._end_phrase(name, first.line)  # type: ignore[union-attr]
        elif name in self.phrase_ends:
            self._open(_PHRASE, _last_line(self.statement))
        elif self.structure.indentation and not self.blocks:
            while self.stack[-1].kind == _INDENT and self.stack[-1].indent >= self.indent:
                self._close(self._last_inside())
            self._open(_INDENT, _last_line(self.statement))
        else:
            name, words, children, line, last = self._parts()
            # A line of nothing but pairs says one thing after the other; in others they belong to the statement.
            inner, later = ([], children) if isinstance(first, _Pair) else (children, [])
            self.stack[-1].children += [Node(name, words, self.path, line, last, inner=tuple(inner)), *later]

    def _end_phrase(self, word: str, line: int) -> None:
        self.statement = []
        while self.stack[-1].kind == _INDENT:
            self._close(line - 1)
        top = self.stack[-1]
        if top.kind != _PHRASE or word not in self.phrase_ends[top.name]:
            raise UnreadableError(f"{self.path}:{line}: '{word}' ends something that was never begun")
        self._close(line, closing=True)

    def _open(self, kind: str, last: int) -> None:
        if len(self.stack) > DEPTH_LIMIT:
            raise UnreadableError(f"{self.path}:{last}: blocks are nested deeper than {DEPTH_LIMIT}")
        name, words, children, line, _ = self._parts()
        self.stack.append(_Open(kind, name, words, line, last, children, self.indent))

    def _close(self, last: int, *, closing: bool = False) -> None:
        top = self.stack.pop()
        node = Node(
            top.name, top.words, self.path, top.first, top.head_last, last, tuple(top.children),
            closing=last if closing else 0,
        )  # fmt: skip
        self.stack[-1].children.append(node)

    def _parts(self) -> tuple[str, tuple[Token, ...], list[Node], int, int]:
        """The statement collected so far as name, words, pairs below it, first and last line; and begin the next."""
        statement, self.statement = self.statement, []
        listed, self.listed = self.listed, set()
        if self.structure.numbered and isinstance(number := statement[0], Token) and NUMBER.fullmatch(number.text):
            bare = number.part(number.text.rstrip(".):"), 0)
            statement = [replace(number, text=self.structure.numbered), bare, *statement[1:]]
        first, last = statement[0], _last_line(statement)
        children = [_pair_node(p, self.path) for p in statement[1:] if isinstance(p, _Pair)]
        words = tuple(w for w in statement[1:] if isinstance(w, Token))
        if isinstance(first, Token) and (sorting := self._sentence(first)) is not None:
            words, more = sorting.sort(words, listed)
            children += [_keyword_node(name, keyword, held, self.path) for name, keyword, held in more]
        if isinstance(first, Token):
            return first.text, words, children, first.line, last
        value = () if first.value is None else (first.value,)
        return first.key.text, (*value, *words), children, first.key.line, last

    def _sentence(self, first: Token) -> Sorter | None:
        """How the words of a statement are sorted, None if they are not."""
        if not self.sentences:
            return None
        named = [one for one in self.sentences if first.text in one.of]
        return next(iter(named or [one for one in self.sentences if not one.of]), None)

    def _section(self, number: int, line: str, text: str) -> None:
        while self.stack[-1].kind in (_INDENT, _SECTION):
            self._close(number - 1)
        if self.stack[-1].kind == _PHRASE:
            raise UnreadableError(f"{self.path}:{number}: '{self.stack[-1].name}' is not ended before this section")
        split = self.structure.headings.split if self.structure.headings else ""
        names = [part for part in text.split(split) if part] if split else [text]
        for part in names:
            at = line.find(part)
            tokens = [Token(m[0], self.path, number, at + m.start(), at + m.end()) for m in re.finditer(r"\S+", part)]
            if tokens:
                self.stack.append(_Open(_SECTION, tokens[0].text, tuple(tokens[1:]), number, number))

    def _last_inside(self) -> int:
        top = self.stack[-1]
        return top.children[-1].last if top.children else top.head_last

    def finish(self) -> Node:
        last = max(len(self.file.lines), 1)
        cut = f"{self.path}:{last}: the export is cut off:"
        if self.long is not None:
            what = "raw text" if self.long.raw else f"quote {self.long.closes}"
            raise UnreadableError(f"{cut} the {what} opened in line {self.long.line} is not closed")
        if self.list_open is not None:
            raise UnreadableError(f"{cut} the list opened in line {self.list_open.line} is not closed")
        self._end_statement()
        for top in reversed(self.stack[1:]):
            if top.kind in (_BLOCK, _PHRASE):
                raise UnreadableError(
                    f"{cut} block '{top.name}', opened in line {top.first}, is not closed; "
                    "export it again, since missing rules would make every answer wrong"
                )
        while len(self.stack) > 1:
            self._close(self._last_inside())
        return Node("", (), self.path, 1, 1, last, tuple(self.stack[0].children))


class _Long(Struct):
    """A quote or raw text whose end has not come: its end mark, and where it began."""

    closes: str
    line: int
    start: int
    text: list[str]
    raw: bool


def _keyword_node(name: str, keyword: Sequence[Token], words: Sequence[Token], path: str) -> Node:
    last = [*keyword, *words][-1]
    return Node(name, tuple(words) or (keyword[-1],), path, keyword[0].line, max(last.line, last.last))


def _pair_node(pair: _Pair, path: str) -> Node:
    words = () if pair.value is None else (pair.value,)
    last = pair.value.where.last if pair.value is not None else pair.key.line
    return Node(pair.key.text, words, path, pair.key.line, last)


def _last_line(statement: list[Token | _Pair]) -> int:
    last = statement[-1]
    token = last if isinstance(last, Token) else last.value or last.key
    return max(token.line, token.last)


def _marks(block: Block | None) -> tuple[str, str]:
    return (block.opens, block.closes) if block is not None else ("", "")


def _inside(quote: str, escape: str) -> re.Pattern[str]:
    """The rest of a quoted text with its closing sign."""
    q, e = re.escape(quote), re.escape(escape)
    return re.compile(rf"(?:{e}.|[^{q}{e}])*{q}" if escape else rf"[^{q}]*{q}")


def _scanner(s: TextStructure) -> re.Pattern[str]:
    """One pattern that finds the next word, mark or comment. A comment mark counts only where a word would begin."""
    quotes = "".join(re.escape(q) for q in s.quotes)
    marks = re.escape(s.marks()) if s.marks() else ""
    words = rf"[^\s{marks}]"
    parts = []
    if s.comments:
        parts.append(rf"(?P<comment>{'|'.join(re.escape(c) for c in s.comments)})")
    if s.continuation:
        parts.append(rf"(?P<more>{re.escape(s.continuation)})\s*$")
    if s.raw is not None:
        parts.append(rf"(?P<raw>{re.escape(s.raw.opens)})")
    for n, quote in enumerate(s.quotes):
        # The group's name must show the kind, so alternatives of quotes share one group.
        q, e = re.escape(quote), re.escape(s.escape)
        parts.append(rf"{q}(?:{e}.|[^{q}{e}])*{q}" if s.escape else rf"{q}[^{q}]*{q}")
        if n + 1 == len(s.quotes):
            joined = "|".join(parts[-n - 1 :])
            parts[-n - 1 :] = [f"(?P<quoted>{joined})"]
    if quotes:
        parts.append(rf"(?P<open>[{quotes}])")
    if marks:
        parts.append(rf"(?P<mark>[{marks}])")
    if s.pairs:
        parts.append(rf"(?P<key>[^\s{marks}{quotes}{re.escape(s.pairs)}]+)(?={re.escape(s.pairs)})")
    parts.append(rf"(?P<word>{words}+)")
    return re.compile(rf"\s*(?:{'|'.join(parts)})")

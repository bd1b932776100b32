"""Text exports described by a dialect: comments, quotes, blocks and lists, into a tree with line numbers."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field

from aiguille.model import Span, UnreadableError
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.mapped.spec import TextStructure
from aiguille.readers.mapped.tree import Node, Token

DEPTH_LIMIT = 100


@dataclass(slots=True)
class _Open:
    """A block whose closing mark has not come yet."""

    name: str
    words: tuple[Token, ...]
    head: Span
    children: list[Node] = field(default_factory=list)


def parse(file: ExportFile, structure: TextStructure, ledger: LedgerBuilder) -> Node:
    """The tree of a file; comments are set aside in the ledger.

    Raises UnreadableError for a block, list or quote that is not closed, a closing mark too many, and nesting beyond
    `DEPTH_LIMIT`.
    """
    whole = file.span(1, len(file.lines))
    stack = [_Open("", (), whole)]
    statement: list[Token] = []
    list_open: Token | None = None
    opens, closes = structure.block.opens, structure.block.closes
    begins, ends = (structure.list.opens, structure.list.closes) if structure.list else ("", "")

    def finish(statement: list[Token]) -> None:
        if statement:
            head = file.span(statement[0].line, statement[-1].line)
            stack[-1].children.append(Node(statement[0].text, tuple(statement[1:]), head, head))

    for number, line in enumerate(file.lines, 1):
        for token in _tokens(file.path, number, line, structure, ledger):
            mark = None if token.quoted else token.text
            if list_open is not None:
                if mark == ends:
                    list_open = None
                elif mark in (opens, closes):
                    raise UnreadableError(
                        f"{token.where}: the list opened in line {list_open.line} is not closed by '{ends}'"
                    )
                else:
                    statement.append(token)
            elif mark == structure.separator and mark:
                finish(statement)
                statement = []
            elif mark == begins and begins:
                if not statement:
                    raise UnreadableError(f"{token.where}: a list opens here without a name before '{begins}'")
                list_open = token
            elif mark == opens:
                if not statement:
                    raise UnreadableError(f"{token.where}: a block opens here without a name before '{opens}'")
                if len(stack) > DEPTH_LIMIT:
                    raise UnreadableError(f"{token.where}: blocks are nested deeper than {DEPTH_LIMIT}")
                head = file.span(statement[0].line, token.line)
                stack.append(_Open(statement[0].text, tuple(statement[1:]), head))
                statement = []
            elif mark == closes:
                finish(statement)
                statement = []
                if len(stack) == 1:
                    raise UnreadableError(f"{token.where}: '{closes}' closes a block that was never opened")
                block = stack.pop()
                where = file.span(block.head.first, number)
                stack[-1].children.append(Node(block.name, block.words, block.head, where, tuple(block.children)))
            else:
                statement.append(token)
        if list_open is None:
            finish(statement)
            statement = []
    last = len(file.lines)
    if list_open is not None:
        raise UnreadableError(
            f"{file.path}:{last}: the export is cut off: the list opened in line {list_open.line} is not closed"
        )
    if len(stack) > 1:
        block = stack[-1]
        raise UnreadableError(
            f"{file.path}:{last}: the export is cut off: block '{block.name}', opened in line {block.head.first}, is not closed; "
            "export it again, since missing rules would make every answer wrong"
        )
    return Node("", (), file.span(1), whole, tuple(stack[0].children))


def _tokens(path: str, number: int, line: str, structure: TextStructure, ledger: LedgerBuilder) -> Iterator[Token]:
    """The words of a line. A comment mark counts only at the start of a word."""
    at = 0
    length = len(line)
    marks = structure.marks()
    while at < length:
        sign = line[at]
        if sign.isspace():
            at += 1
            continue
        if any(line.startswith(comment, at) for comment in structure.comments):
            if not line[:at].strip():
                ledger.set_aside(Span(path, number, number), "comment")
            return
        if sign in structure.quotes:
            stop = _closing(line, at, sign)
            if stop < 0:
                raise UnreadableError(f"{path}:{number}: the quote {sign} opened in column {at + 1} is not closed")
            text = re.sub(r"\\(.)", r"\1", line[at + 1 : stop])
            yield Token(text, path, number, at, stop + 1, quoted=True)
            at = stop + 1
            continue
        if sign in marks:
            yield Token(sign, path, number, at, at + 1)
            at += 1
            continue
        stop = at
        while stop < length and not line[stop].isspace() and line[stop] not in marks:
            stop += 1
        yield Token(line[at:stop], path, number, at, stop)
        at = stop


def _closing(line: str, at: int, quote: str) -> int:
    stop = at + 1
    while stop < len(line):
        if line[stop] == "\\":
            stop += 2
            continue
        if line[stop] == quote:
            return stop
        stop += 1
    return -1

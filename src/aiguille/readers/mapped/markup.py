"""XML and YAML exports into a tree."""

from __future__ import annotations

import re
from xml.parsers import expat

import yaml
from msgspec import Struct, field

from aiguille.model import UnreadableError
from aiguille.readers.files import ExportFile
from aiguille.readers.mapped.tree import DEPTH_LIMIT, Asides, Node, Token, is_dense

ATTRIBUTE_LIMIT = 2_000
"""Attributes an element may have; exports have some ten."""
NODE_LIMIT = 5_000_000
"""More would fill the memory; only aliases that multiply get there."""


class _Element(Struct):
    name: str
    first: int
    column: int = 0
    children: list[Node] = field(default_factory=list)
    text: list[tuple[str, int, int]] = field(default_factory=list)


def parse_xml(file: ExportFile, asides: Asides) -> Node:
    """Elements and attributes as nodes, text as one word. Nothing is fetched; a document type is refused, since only it can
    declare entities (XML 1.0, 4.2).

    Raises UnreadableError, with the line, for what is not well-formed.
    """
    stack: list[_Element] = [_Element("", 1)]
    parser = expat.ParserCreate()
    parser.buffer_text = False
    lines = file.lines
    dense = is_dense(sum(map(len, lines)), len(lines))
    # Comments may go over several lines; what stands beside them on those is marked when it is read.
    comments: list[tuple[int, int]] = []

    def refuse(*_: object) -> None:
        raise UnreadableError(
            f"{file.path}:{parser.CurrentLineNumber}: the file declares a document type, which could hide what it says; "
            "export it without"
        )

    def begin(name: str, attributes: list[str]) -> None:
        line = parser.CurrentLineNumber
        if len(stack) > DEPTH_LIMIT:
            raise UnreadableError(f"{file.path}:{line}: elements are nested deeper than {DEPTH_LIMIT}")
        if len(attributes) > 2 * ATTRIBUTE_LIMIT:
            raise UnreadableError(f"{file.path}:{line}: an element with more than {ATTRIBUTE_LIMIT} attributes")
        column = parser.CurrentColumnNumber
        one = _Element(_local(name), line, column)
        place_of = line, column
        for key, value in zip(attributes[::2], attributes[1::2], strict=True):
            word = _attribute(file, *place_of, key, value)
            # They come in the order in which they are written: the next one stands behind this.
            place_of = (word.last, word.stop + 1) if word.stop < 1 << 30 else place_of
            word.dense = dense
            at_line, place = word.line, (word.start, word.stop) if dense else (0, 0)
            one.children.append(
                Node(_local(key), (word,) if value else (), file.path, at_line, at_line, start=place[0], stop=place[1])
            )
        stack.append(one)

    def text(data: str) -> None:
        if data.strip() or (stack[-1].text and data):
            stack[-1].text.append((data, parser.CurrentLineNumber, parser.CurrentColumnNumber))

    def end(_: str) -> None:
        one = stack.pop()
        last = parser.CurrentLineNumber
        words = _words(one.text, file)
        for word in words:
            word.dense = dense
        head_last = words[-1].where.last if words else one.first
        closing = last if one.children and last > head_last else 0
        if not one.children:
            head_last = max(head_last, last)
        behind = parser.CurrentColumnNumber
        if lines[last - 1].startswith("</", behind):
            behind = lines[last - 1].find(">", behind) + 1
        start, stop = (one.column, behind) if dense else (0, 0)
        stack[-1].children.append(
            Node(
                one.name, words, file.path, one.first, head_last, last, tuple(one.children),
                closing=closing, start=start, stop=stop,
            )
        )  # fmt: skip

    def comment(data: str) -> None:
        line = parser.CurrentLineNumber
        comments.append((line, line + data.count("\n")))

    parser.ordered_attributes = True
    parser.StartElementHandler = begin
    parser.EndElementHandler = end
    parser.CharacterDataHandler = text
    parser.CommentHandler = comment
    parser.StartDoctypeDeclHandler = refuse
    parser.EntityDeclHandler = refuse
    try:
        # A carriage return alone would be a line to the parser and is none to us.
        parser.Parse("\n".join(lines).replace("\r", " "), True)
    except expat.ExpatError as error:
        raise UnreadableError(
            f"{file.path}:{error.lineno}: this is not well-formed XML: {expat.ErrorString(error.code)}; export it again"
        ) from error
    for first, last in comments:
        asides.set_aside(file.span(first, last), "comment")
    if lines and lines[0].lstrip().startswith("<?xml"):
        asides.set_aside(file.span(1), "the declaration of XML")
    return Node("", (), file.path, 1, 1, max(len(lines), 1), tuple(stack[0].children))


def _local(name: str) -> str:
    return name.rpartition(":")[2]


def _words(pieces: list[tuple[str, int, int]], file: ExportFile) -> tuple[Token, ...]:
    """The text of an element as one word, with the place of its first and last sign that is no space."""
    while pieces and not pieces[-1][0].strip():
        pieces.pop()
    whole = "".join(data for data, _, _ in pieces)
    bare = whole.strip()
    if not bare:
        return ()
    line, column = pieces[0][1], pieces[0][2]
    lead = whole[: len(whole) - len(whole.lstrip())]
    if breaks := lead.count("\n"):
        line, column = line + breaks, len(lead) - lead.rfind("\n") - 1
    else:
        column += len(lead)
    body, tail_line, tail_column = pieces[-1]
    body = body.rstrip()
    last = tail_line + body.count("\n")
    stop = len(body) - body.rfind("\n") - 1 if "\n" in body else tail_column + len(body)
    # An entity is longer as written than as read; text goes on to the next tag.
    tag = file.lines[last - 1].find("<", tail_column if last == tail_line else 0)
    written = len(file.lines[last - 1][:tag].rstrip()) if tag >= 0 else 0
    return (Token(bare, file.path, line, column, max(stop, written), last=last),)


def _attribute(file: ExportFile, line: int, column: int, key: str, value: str) -> Token:
    """An attribute's value with its place, from quote to quote as written: expat shows the element's place only.

    Whatever cannot be placed is taken to fill the whole line.
    """
    wanted = re.compile(rf"(?<![\w:.-]){re.escape(key)}\s*=\s*([\"'])")
    for at in range(line, min(line + 200, len(file.lines)) + 1):
        found = wanted.search(file.lines[at - 1], column if at == line else 0)
        if found is None:
            continue
        start = found.end()
        for last in range(at, len(file.lines) + 1):
            stop = file.lines[last - 1].find(found[1], start if last == at else 0)
            if stop >= 0:
                return Token(value, file.path, at, start, stop, last=last)
    return Token(value, file.path, line, 0, 1 << 30)


def parse_yaml(file: ExportFile) -> Node:
    """Mappings as nodes by key, sequences as several nodes of one name, scalars as one word.

    Raises UnreadableError, with the line, for what is not YAML, and where aliases or depth go beyond bounds.
    """
    try:
        documents = list(yaml.compose_all("\n".join(file.lines) + "\n", Loader=yaml.CSafeLoader))
    except yaml.YAMLError as error:
        mark = getattr(error, "problem_mark", None)
        line = mark.line + 1 if mark else 1
        why = getattr(error, "problem", None) or str(error)
        raise UnreadableError(f"{file.path}:{line}: this is not valid YAML: {why}") from error
    grower = _YamlGrower(file.path)
    for document in documents:
        if document is not None:
            grower.refuse_bombs(document)
    children = [node for document in documents if document is not None for node in grower.below(document, "item", 0)]
    if len(children) == 1 and not children[0].words:
        children = list(children[0].children)
    return Node("", (), file.path, 1, 1, max(len(file.lines), 1), tuple(children))


class _YamlGrower:
    def __init__(self, path: str) -> None:
        self.path = path
        self.sizes: dict[yaml.Node, int] = {}

    def refuse_bombs(self, value: yaml.Node, depth: int = 0) -> int:
        """How many values there are with every alias written out, each counted once; raises where that is too many."""
        if value not in self.sizes:
            self.refuse_depth(value, depth)
            below = value.value if isinstance(value, yaml.CollectionNode) else []
            ones = [one for pair in below for one in (pair if isinstance(pair, tuple) else (pair,))]
            self.sizes[value] = 1 + sum(self.refuse_bombs(one, depth + 1) for one in ones)
            self.refuse_depth(value, 0, self.sizes[value])
        return self.sizes[value]

    def refuse_depth(self, value: yaml.Node, depth: int, size: int = 0) -> None:
        if depth > DEPTH_LIMIT or size > NODE_LIMIT:
            raise UnreadableError(
                f"{self.path}:{value.start_mark.line + 1}: the file is nested too deep, or its aliases make too much of it"
            )

    def below(self, value: yaml.Node, name: str, depth: int, first: int = 0) -> list[Node]:
        """The nodes a value becomes under a name. `first` is the line of its key, if it has one."""
        line = value.start_mark.line + 1
        self.refuse_depth(value, depth)
        first = first or line
        match value:
            case yaml.MappingNode():
                children = [
                    node
                    for key, below in value.value
                    for node in self.below(below, str(key.value), depth + 1, key.start_mark.line + 1)
                ]
                last = max((node.last for node in children), default=value.end_mark.line + 1)
                return [Node(name, (), self.path, first, first, last, tuple(children))]
            case yaml.SequenceNode():
                nested = any(isinstance(item, yaml.SequenceNode) for item in value.value)
                inner = "item" if nested else name
                items = [node for item in value.value for node in self.below(item, inner, depth + 1)]
                if not nested:
                    return items
                return [Node(name, (), self.path, first, first, items[-1].last if items else first, tuple(items))]
            case _:
                mark, end = value.start_mark, value.end_mark
                last = end.line + 1 if end.column or end.line == mark.line else end.line
                quoted = isinstance(value, yaml.ScalarNode) and value.style in ("'", '"')
                token = Token(
                    value.value,
                    self.path,
                    line,
                    mark.column,
                    end.column if end.column else 1 << 30,
                    quoted,
                    max(last, line),
                )
                empty = value.tag == "tag:yaml.org,2002:null"
                return [Node(name, () if empty else (token,), self.path, first, max(last, line, first))]

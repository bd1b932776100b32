"""INI files: sections in brackets and assignments below them, into a tree."""

from __future__ import annotations

import re

from aiguille.model import UnreadableError
from aiguille.readers.files import ExportFile
from aiguille.readers.mapped.spec import IniStructure
from aiguille.readers.mapped.tree import Asides, Node, Token

_SECTION = re.compile(r"\s*\[([^\]]*)\]\s*")


def parse(file: ExportFile, structure: IniStructure, asides: Asides) -> Node:
    """The tree: a node for each section (its first word the name, the others its words), in it one for each assignment.

    A line that stands deeper than the assignment above goes on with its value. Raises UnreadableError for a line that is
    neither section, assignment nor continuation.
    """
    top: list[Node] = []
    section: tuple[list[Token], int] | None = None
    inside: list[Node] = []
    assign = re.compile(
        rf"\s*([^{re.escape(''.join(structure.assigns))}]*?)\s*[{re.escape(''.join(structure.assigns))}]"
    )

    def close() -> None:
        nonlocal section, inside
        if section is not None:
            words, line = section
            last = inside[-1].last if inside else line
            top.append(Node(words[0].text, tuple(words[1:]), file.path, line, line, last, tuple(inside)))
        section, inside = None, []

    for number, line in enumerate(file.lines, 1):
        bare = line.strip()
        if not bare:
            continue
        if bare.startswith(structure.comments):
            asides.set_aside(file.span(number), "comment")
        elif found := _SECTION.fullmatch(line):
            close()
            words = [
                Token(m[0], file.path, number, found.start(1) + m.start(), found.start(1) + m.end())
                for m in re.finditer(r"\S+", found[1])
            ]
            if not words:
                raise UnreadableError(f"{file.path}:{number}: a section without a name")
            section = (words, number)
        elif line[0].isspace() and (inside or (section is None and top)):
            # A value over several lines; what is below another section's header cannot go on with the one before.
            before = inside if section is not None else top
            old = before[-1]
            start = len(line) - len(line.lstrip())
            more = Token(bare, file.path, number, start, start + len(bare))
            before[-1] = Node(old.name, (*old.words, more), file.path, old.first, number)
        elif found := assign.match(line):
            value = line[found.end() :]
            text = value.strip()
            start = found.end() + len(value) - len(value.lstrip())
            words_of = (Token(text, file.path, number, start, start + len(text)),) if text else ()
            (inside if section is not None else top).append(Node(found[1], words_of, file.path, number, number))
        else:
            raise UnreadableError(
                f"{file.path}:{number}: '{bare[:60]}' is neither a section in brackets nor an assignment"
            )
    close()
    return Node("", (), file.path, 1, 1, max(len(file.lines), 1), tuple(top))

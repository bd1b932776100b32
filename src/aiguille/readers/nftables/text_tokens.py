"""Words of the nft language (nft(8)), with the lines they stand in."""

from __future__ import annotations

import re
from collections.abc import Sequence

from msgspec import Struct

from aiguille.model import UnreadableError

_TOKEN = re.compile(
    r'\n|[^\S\n]+|\\\n|#[^\n]*|"[^"\n]*"|==|!=|<=|>=|<<|>>|[{}();,=!<>&|^]|@[^\s{}();,=!<>&|"]*|[^\s{}();,=!<>&|"#@^]+|.'
)


class Words(Struct, frozen=True):
    """All words of a file, line ends among them, and the line of each; comments apart.

    comments: lines that hold a comment and nothing else
    """

    words: list[str]
    lines: list[int]
    comments: list[int]


def split(text: Sequence[str], path: str) -> Words:
    """Split the lines of a file into words; raises UnreadableError where a quote stays open."""
    words: list[str] = []
    lines: list[int] = []
    comments: list[int] = []
    line, fresh = 1, True
    for word in _TOKEN.findall("\n".join(text)):
        first = word[0]
        if first == "\n":
            words.append("\n")
            lines.append(line)
            line += 1
            fresh = True
        elif first == " " or first == "\t" or word.isspace():
            continue
        elif first == "#":
            if fresh:
                comments.append(line)
        elif word == "\\\n":
            line += 1
        elif word == '"':
            raise UnreadableError(f"{path}:{line}: a quote is opened and never closed; save the rule set again")
        else:
            words.append(word)
            lines.append(line)
            fresh = False
    words.append("\n")
    lines.append(line)
    return Words(words, lines, comments)

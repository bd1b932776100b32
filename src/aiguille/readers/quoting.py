"""Splitting a line of iptables-save into words, quoted as iptables writes and reads them.

iptables-save puts a word in double quotes if it holds a character outside ``[a-zA-Z0-9_-]`` and escapes quotes and
backslashes by a backslash; iptables-restore undoes it (iptables-save(8); behaviour of version 1.8).
"""

from __future__ import annotations

import re

from aiguille.model import NotUnderstoodError

# Possessive, so that a word of megabytes leaves no way back on the stack of the engine.
_WORD = re.compile(r"""(?:[^\s"'\\]++|\\.|"(?:[^"\\]++|\\.)*+"|'[^']*+')++""")
_PART = re.compile(r"""\\(.)|"((?:[^"\\]++|\\.)*+)"|'([^']*+)'""")
_ESCAPED = re.compile(r"\\(.)")


def split_words(text: str) -> list[str]:
    """The words of a line; raises NotUnderstoodError if a quote stays open."""
    if '"' not in text and "'" not in text and "\\" not in text:
        return text.split()
    if (plain := _with_plain_quotes(text)) is not None:
        return plain
    words: list[str] = []
    at = 0
    for found in _WORD.finditer(text):
        if found.start() > at and text[at : found.start()].strip():
            break
        at = found.end()
        word = found[0]
        words.append(_PART.sub(_bare, word) if '"' in word or "'" in word or "\\" in word else word)
    if text[at:].strip():
        raise NotUnderstoodError(f"a quote or backslash is opened and never closed, from {text[at:].strip()[:20]!r} on")
    return words


def _with_plain_quotes(text: str) -> list[str] | None:
    """The words of a line that has nothing but double quotes, each around whole words, as nearly all lines have; else None."""
    parts = text.split('"')
    if not len(parts) % 2 or "'" in text or "\\" in text:
        return None
    words = parts[0].split()
    for at in range(1, len(parts), 2):
        before, after = parts[at - 1], parts[at + 1]
        if (before and not before[-1].isspace()) or (after and not after[0].isspace()) or not (before or at == 1):
            return None
        words.append(parts[at])
        words += after.split()
    return words


def _bare(part: re.Match[str]) -> str:
    """A quoted or escaped part of a word as it is meant."""
    if part[1] is not None:
        return part[1]
    return _ESCAPED.sub(r"\1", part[2]) if part[2] is not None else part[3]

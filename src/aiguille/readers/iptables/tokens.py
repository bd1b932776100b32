"""Splitting a line of iptables-save into words, quoted as iptables writes and reads them.

iptables-save puts a word in double quotes if it holds a character outside ``[a-zA-Z0-9_-]`` and escapes quotes and
backslashes by a backslash; iptables-restore undoes it (iptables-save(8); behaviour of version 1.8).
"""

from __future__ import annotations

from aiguille.model import NotUnderstoodError


def split_words(text: str) -> list[str]:
    """The words of a line; raises NotUnderstoodError if a quote stays open."""
    if '"' not in text and "'" not in text and "\\" not in text:
        return text.split()
    words: list[str] = []
    word: list[str] | None = None
    quote = ""
    escaped = False
    for sign in text:
        if escaped:
            word = [*(word or []), sign]
            escaped = False
        elif sign == "\\" and quote != "'":
            escaped = True
        elif quote:
            if sign == quote:
                quote = ""
            else:
                word = word or []
                word.append(sign)
        elif sign in "\"'":
            quote = sign
            word = word or []
        elif sign.isspace():
            if word is not None:
                words.append("".join(word))
                word = None
        else:
            word = word or []
            word.append(sign)
    if quote or escaped:
        raise NotUnderstoodError(f"a quote ({quote or chr(92)}) is opened and never closed")
    if word is not None:
        words.append("".join(word))
    return words

"""Making text from strangers safe to show: control characters become visible, nothing else changes."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from pathlib import Path, PurePath
from urllib.parse import quote

import msgspec

# Line and paragraph separators, marks that reorder text (Unicode TR 36, 2.11), signs that take no room (soft hyphen, zero-width ones,
# tags), and what XML cannot hold.
_HIDDEN = (
    "\xad\u061c\u200b-\u200f\u2028-\u202e\u2060-\u2064\u2066-\u2069\ufeff\ufff9-\ufffb\ufffe\uffff\U000e0000-\U000e007f"
)
# Beside these, C0 and C1 controls; a tab becomes spaces.
_UNSAFE = re.compile(f"[\x00-\x08\x0a-\x1f\x7f-\x9f{_HIDDEN}]")

# What JSON leaves as it is, though a terminal or an editor may act on it.
_RAW_IN_JSON = re.compile(f"[\x7f-\x9f{_HIDDEN}]")


def to_json(value: object, indent: int | None = None) -> str:
    """JSON text (RFC 8259). Every control character is written as ``\\u009b``: the same value, harmless on a terminal."""
    text = msgspec.json.format(msgspec.json.encode(value), indent=indent or 0).decode()
    if text.isascii() and "\x7f" not in text:
        return text
    return _RAW_IN_JSON.sub(lambda found: json.dumps(found[0])[1:-1], text)


def visible(text: str) -> str:
    """The text with every control character spelled as ``\\x1b`` or ``\\u202e``; tabs become spaces."""
    return _UNSAFE.sub(lambda found: _spell(ord(found[0])), text.expandtabs(4))


def visible_lines(text: str) -> str:
    """The same, but line breaks stay: for places that hold several lines."""
    return "\n".join(map(visible, text.split("\n")))


def _spell(number: int) -> str:
    return f"\\x{number:02x}" if number < 256 else f"\\u{number:04x}" if number < 1 << 16 else f"\\U{number:08x}"


def counted(number: int, noun: str, plural: str = "") -> str:
    """``1 rule``, ``2 rules``."""
    return f"{number} {noun if number == 1 else plural or noun + 's'}"


def uri_of(path: str) -> str:
    """A path as a URI reference (RFC 3986): absolute ones as ``file://``."""
    pure = PurePath(path)
    return Path(path).as_uri() if pure.is_absolute() else quote(pure.as_posix())


def over(families: Sequence[int]) -> str:
    """Address families in words: ``IPv4 and IPv6``."""
    return " and ".join(f"IPv{family}" for family in families)

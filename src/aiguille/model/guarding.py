"""Guarding text that no reader vouches for: what looks like a secret does not get into any output."""

from __future__ import annotations

import re

MASK = "[secret]"

_CALLED = (
    "passw(?:or)?d",
    "passphrase",
    "secret",
    "psk",
    "pre-?shared-?key",
    "community",
    "token",
    "(?:private|api|auth)-?key",
)
_WORD = rf"[\w.-]*(?:{'|'.join(_CALLED)})[\w.-]*"
_PLAIN = r"(?!\[secret\]|[=:]|(?i:yes|no|true|false|on|off|none|[0-9]{1,5})(?![\w.-]))"  # settings of these names, not secrets
_VALUE = _PLAIN + r"""(?:"[^"]*"|'[^']*'|[^\s,;<>\]})'"]+)"""
_SHAPES = (
    re.compile(rf"(?i)(?<![\w-])({_WORD}[\"']?\s*[=:]\s*){_VALUE}"),  # name = value, "name": "value"
    re.compile(rf"(?i)(?<![\w-])({_WORD}\s+)(?:\"[^\"]*\"|'[^']*')"),  # name "value"
    re.compile(rf"(?i)((?:^|[{{;])\s*{_WORD}\s+){_VALUE}"),  # a statement: name value
    re.compile(rf"(?i)(?<![\w-])(--?{_WORD}\s+){_VALUE}"),  # an option: --name value
    re.compile(rf"(?i)(<{_WORD}(?:\s[^<>]*)?>)[^<]+"),  # <name>value</name>
    re.compile(r"(://[^/\s:@]+:)[^@\s/]+(?=@)"),  # the user information of a URI (RFC 3986, 3.2.1)
    re.compile(r"^()\s*[A-Za-z0-9+/]{40,}={0,2}\s*$"),  # a line of a key or certificate (RFC 7468)
    re.compile(r"()\$(?:1|2[abxy]?|5|6|7|y|gy)\$[./A-Za-z0-9$]+"),  # a password's hash (crypt(5))
)


def guarded(text: str) -> str:
    """A line with the values of what is called a password, key, token and the like, and what looks like one, masked.

    For lines no reader understood, and lines shown beside those a finding rests on: where a reader knows the place of a secret it
    is masked exactly, see `Device.text`.
    """
    for shape in _SHAPES:
        text = shape.sub(lambda found: found[1] + MASK, text)
    return text

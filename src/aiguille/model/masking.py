"""Guarding text that no reader vouches for: what looks like a secret does not get into any output."""

from __future__ import annotations

import re
from functools import cache

MASK = "[secret]"

_CALLED = (
    "passw(?:or)?d",
    "passphrase",
    "passwd",
    "pwd",
    "bindpw",
    "secret",
    "psk",
    "(?:pre-?)?shared-?key",
    "community",
    "token",
    "credentials?",
    "(?:private|api|auth|access|server|radius|tacacs|encryption|wep|wpa|session|master|license)[-_]?key",
    "key[-_]?string",
)
_BARE = ("pin", "pw")
"""Words that mean a secret only where they stand alone."""

_WORD = rf"(?:[\w.-]*(?:{'|'.join(_CALLED)})[\w.-]*|(?:{'|'.join(_BARE)})(?![\w.-]))"
_PLAIN = r"(?!\[secret\]|[=:]|(?i:yes|no|true|false|on|off|none|accept|drop|reject|[0-9]{1,5})(?![\w.-]))"  # settings, not secrets
_VALUE = _PLAIN + r"""(?:"[^"]*"|'[^']*'|[^\s,;<>\]})'"]+)"""
_ALWAYS = r"""(?!\[secret\])(?:"[^"]*"|'[^']*'|[^\s,;<>\]})'"]+)"""
_ABOUT = r"(?!(?:length|min\w*|max\w*|complexity|policy|age|history|expir\w*|required|login|logins|is|and|or|for|of|by)\b|\w+=)"
_SPEAKERS = "radius|tacacs|ldap|kerberos|isakmp|ike|ipsec|ospf|bgp|rip|vrrp"
"""What shares a key with another host, of which a line speaks before it says the key."""
_FORM = r"(?:(?:[0-9]|1[0-9]|md5|sha\d*|sha-\d+|hmac-\w+|encrypted|hidden|plain|cleartext|ascii|hex|ro|rw)\s+)"
"""How a secret is written, which stands before it."""


@cache
def shapes() -> tuple[re.Pattern[str], ...]:
    """What secrets look like, the part before each as a group. Made when a line first needs it: most commands never do."""
    return (
        re.compile(r"(?i)((?<!\w)authorization\s*:\s*(?:basic|bearer|digest|negotiate)\s+)\S+"),  # RFC 9110, 11.6.2
        re.compile(
            rf"(?i)(?<![\w.-])({_WORD}[\"']?\s*[=:]\s*(?!\[secret\])[\[{{(]?\s*){_ALWAYS}"
        ),  # name = value, "name": ["value"]
        re.compile(rf"(?i)(?<![\w.-])((?:{_WORD}|key|auth(?:entication)?)\s+{_FORM}){_ALWAYS}"),  # name 7 value
        re.compile(
            r"(?i)(?<![\w.-])((?:pin|pass|passwd|password|passphrase)\s+)\d{4,}(?![\w.-])"
        ),  # one of digits alone
        re.compile(
            rf"(?i)(?<![\w.-])((?:passwd|password|passphrase|psk|community|secret|token)\s+){_ABOUT}(?=public\b|private\b|\S*\d){_VALUE}"
        ),  # ... name value
        re.compile(
            rf"(?i)((?<![\w.-])(?:{_SPEAKERS})[\w+.-]*\s(?:[^#]*?\s)?key\s+){_VALUE}"
        ),  # radius-server host 192.0.2.1 key value
        re.compile(rf"(?i)(?<![\w.-])(pass\s*[=:]\s*){_ALWAYS}"),
        re.compile(rf"(?i)(?<![\w.-])({_WORD}\s+)(?:\"[^\"]*\"|'[^']*')"),  # name "value"
        re.compile(rf"(?i)((?:^|[{{;])\s*{_WORD}\s+){_VALUE}"),  # a statement: name value
        re.compile(rf"(?i)(?<![\w.-])(--?{_WORD}\s+){_VALUE}"),  # an option: --name value
        re.compile(rf"(?i)(<{_WORD}(?:\s[^<>]*)?>)[^<]+"),  # <name>value</name>
        re.compile(rf"(?i)(<{_WORD}\s+(?:\w+=\"[^\"]*\"\s+)*(?:v|val|value|text)=)\"[^\"]*\""),  # <name value="..."/>
        re.compile(r"(?i)([?&](?:key|token|sig|signature|code|auth)=)[^&\s\"']+"),  # a query of a URI
        re.compile(r"((?:^|\s)(?:-u|--user|--proxy-user)\s+[^\s:]+:)\S+"),  # curl(1)
        re.compile(r"(://[^/\s:@]+:)[^@\s/]+(?=@)"),  # the user information of a URI (RFC 3986, 3.2.1)
        re.compile(r"^()\s*[A-Za-z0-9+/]{40,}={0,2}\s*$"),  # a line of a key or certificate (RFC 7468)
        re.compile(r"(-----BEGIN [A-Z ]*PRIVATE KEY-----).*?(?=-----END|$)"),  # the same on one line
        re.compile(r"()(?<![\w.-])eyJ[\w-]{8,}\.[\w-]{8,}\.[\w-]*"),  # a web token (RFC 7519)
        re.compile(
            r"()\$(?:1|2[abxy]?|5|6|7|8|9|y|gy|apr1|sha1|md5|argon2i?d?|scrypt|pbkdf2[\w-]*)\$[./A-Za-z0-9$,=+-]+"
        ),  # crypt(5)
    )


_LIKELY = re.compile(
    rf"(?i){'|'.join(_CALLED)}|\b(?:{'|'.join(_BARE)}|pass|key|auth)|authorization|[?&](?:sig|code)|-u\s|--user"
    r"|--proxy-user|://|[A-Za-z0-9+/]{40}|PRIVATE KEY|eyJ|\$[0-9a-z]"
)
"""What every shape holds; most lines of an export hold none of it."""


_HINTS = (
    "pass", "pw", "pin", "secret", "psk", "key", "community", "token", "credential", "auth", "sig", "code", "-u", "://", "eyj", "$",
)  # fmt: skip
_LETTERS = re.compile(r"[A-Za-z0-9+/]{40}")
"""What `_LIKELY` cannot do without, in small letters, or a run of letters: to look for these takes a tenth of what that takes."""


_LONGEST = 1 << 18
"""Letters of a line or comment that are looked at and shown; nobody writes more, nor reads it."""


def mask_secrets(text: str) -> str:
    """A line with the values of what is called a password, key, token and the like, and what looks like one, masked.

    Where a reader knows the place of a secret it is masked exactly, see `Device.text`.
    """
    if len(text) > _LONGEST:
        text = f"{text[:_LONGEST]}[{len(text) - _LONGEST} letters more]"
    if text.isascii():  # of other letters some are the same as these in small and large (U+017F, U+212A)
        small = text.lower()
        if not any(hint in small for hint in _HINTS) and _LETTERS.search(text) is None:
            return text
    if _LIKELY.search(text) is None:
        return text
    for shape in shapes():
        text = shape.sub(lambda found: found[1] + MASK, text)
    return text

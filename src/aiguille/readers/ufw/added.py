"""Commands of ufw as people send them (ufw(8)): what `ufw show added` prints, and scripts of ``ufw allow ...`` lines.

What commands leave out, before.rules and after.rules, is taken to be as ufw ships it; policies that none of them states are unknown.
"""

from __future__ import annotations

import re

from msgspec.structs import replace

from aiguille.model import NotUnderstoodError, Span
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.literals import is_whole
from aiguille.readers.part import FirewallPart
from aiguille.readers.shell import ShellScript, words_of
from aiguille.readers.ufw.shipped import PROFILES
from aiguille.readers.ufw.status import V6_ADDRESS, Shown, made_of

_LINE = re.compile(
    r"(?m)^[ \t]*(?:sudo[ \t]+)?(?:/\S*/)?ufw[ \t]+(?:--force[ \t]+)?"
    r"(?:allow|deny|reject|limit|route|insert|prepend|delete|default)[ \t]"
)
_ADDED = "Added user rules (see 'ufw status' for running firewall):"
_ACTIONS = ("allow", "deny", "reject", "limit")
_IDLE = frozenset(["enable", "reload", "logging", "app", "status", "show", "version", "--version"])
_WAYS = {"incoming": 0, "outgoing": 1, "routed": 2}
_UNSTATED = ("unknown", "unknown", "unknown")
"""The policies for what comes in, goes out and is routed, as long as no command states them."""


def recognise(file: ExportFile) -> str | None:
    """Why a file looks like commands of ufw; None if it does not."""
    text = "\n".join(file.lines[:400])
    found = _LINE.search(text) if "ufw" in text and "### tuple ###" not in text else None
    return f"line {text.count(chr(10), 0, found.start()) + 1} is a command of ufw" if found else None


def read(file: ExportFile, ledger: LedgerBuilder) -> FirewallPart:
    """The rules that commands leave on a host where ufw had none."""
    script = _Script(file, ledger)
    script.run()
    home = file.span(1)
    ledger.problem(
        home,
        "commands are the poorer source: before.rules and after.rules are not in them and are taken to be as shipped; ask for a "
        "copy of /etc/ufw and /etc/default/ufw",
    )
    return made_of(script.rules, script.policies or _UNSTATED, home, script.where or home, ledger)


class _Script(ShellScript):
    program = re.compile(r"(?:\S*/)?(ufw)")

    def __init__(self, file: ExportFile, ledger: LedgerBuilder) -> None:
        super().__init__(file, ledger)
        self.rules: list[tuple[Span, Shown]] = []
        self.policies: tuple[str, str, str] | None = None
        self.where: Span | None = None

    def _statement(self, text: str, where: Span) -> None:
        if text.strip() == _ADDED:
            self.ledger.set_aside(where, "the head of the listing")
        elif text.strip() == "(None)":
            self.ledger.set_aside(where, "says that there are none")
        else:
            super()._statement(text, where)

    def unfollowed(self, where: Span, text: str, why: str) -> None:
        anything = [(where, Shown("Anywhere", "ALLOW", way, "Anywhere", gap=why)) for way in ("IN", "OUT", "FWD")]
        # What is put before others, or taken out, may be any of them.
        at = 0 if re.search(r"\b(?:insert|prepend|delete|reset|disable)\b", f"{text} {why}") else len(self.rules)
        self.rules[at:at] = anything

    def command(self, program: str, text: str, where: Span, gaps: tuple[str, ...]) -> None:
        words = [word for word in words_of(text, where) if word not in ("--force", "--dry-run")]
        if not words or words[0] in _IDLE:
            self.ledger.set_aside(where, "a command that changes no rule")
        elif words[0] == "default":
            self._default(words[1:], where, gaps)
        elif words == ["reset"] and not gaps:
            self.rules.clear()
            self.policies = None
            self.ledger.read(where)
        elif words[0] in ("disable", "reset"):
            self._doubtful(where, f"'ufw {words[0]}' stands among the rules")
        else:
            try:
                self._rule(words, where, gaps)
            except NotUnderstoodError as error:
                self._doubtful(where, str(error), text)

    def _default(self, words: list[str], where: Span, gaps: tuple[str, ...]) -> None:
        at = _WAYS.get(words[1] if len(words) > 1 else "incoming")
        if not words or words[0] not in ("allow", "deny", "reject") or at is None or gaps:
            self._doubtful(where, gaps[0] if gaps else f"'ufw default {' '.join(words)}' is not known")
            return
        before = self.policies or _UNSTATED
        a, b, c = (words[0] if way == at else said for way, said in enumerate(before))
        self.policies, self.where = (a, b, c), where
        self.ledger.read(where)

    def _rule(self, words: list[str], where: Span, gaps: tuple[str, ...]) -> None:
        place, placed, deletes, routed = len(self.rules), False, False, False
        while words and words[0] in ("insert", "prepend", "delete", "route", "rule"):
            word = words.pop(0)
            routed = routed or word == "route"
            deletes = deletes or word == "delete"
            placed = placed or word in ("insert", "prepend")
            if word == "prepend":
                place = 0
            elif word == "insert":
                if not words or not is_whole(words[0]):
                    raise NotUnderstoodError("'ufw insert' names no place")
                place = min(int(words.pop(0)) - 1, place)
        if deletes and words and is_whole(words[0]):
            raise NotUnderstoodError("'ufw delete' of a number depends on what the host numbers")
        shown = _shown(words, routed=routed, gap=gaps[0] if gaps else "")
        alike = [at for at, (_, one) in enumerate(self.rules) if _match(one) == _match(shown)]
        same = [at for at in alike if (self.rules[at][1].action, self.rules[at][1].log) == (shown.action, shown.log)]
        self.ledger.read(where)
        if gaps and (deletes or alike):
            raise NotUnderstoodError(f"{gaps[0]}; whether a rule like it is there is not known")
        if deletes:
            for at in reversed(same):
                del self.rules[at]
        elif same:
            return  # ufw skips what is there
        elif alike and placed:
            # ufw leaves one of both families where it is and puts the other in.
            raise NotUnderstoodError("a rule for the same packets is there, and where ufw puts this one is not certain")
        elif alike:
            self.rules[alike[0]] = (where, shown)  # ufw changes what is there
        else:
            self.rules.insert(max(place, 0), (where, shown))


def _match(rule: Shown) -> Shown:
    """What a rule is for, whatever becomes of it: by that ufw takes two for one."""
    return replace(rule, action="", log="", comment="", gap="")


def _shown(words: list[str], *, routed: bool, gap: str) -> Shown:
    """A rule of ufw as its listing would show it; raises NotUnderstoodError for a word that is not known."""
    if not words or words[0] not in _ACTIONS:
        raise NotUnderstoodError(f"'ufw {words[0] if words else ''}' is not a command we follow")
    action, rest = words[0].upper(), words[1:]
    way = "FWD" if routed else "IN"
    comment = log = protocol = into = out = ""
    ends = {"from": ["", ""], "to": ["", ""]}
    at = 0
    while at < len(rest):
        word, value = rest[at], rest[at + 1] if at + 1 < len(rest) else ""
        if word in ("in", "out"):
            way = way if routed else word.upper()
            if value == "on":
                name = rest[at + 2] if at + 2 < len(rest) else ""
                into, out = (name, out) if word == "in" else (into, name)
                at += 2
        elif word in ("log", "log-all"):
            log = word
        elif word in ("from", "to"):
            ends[word][0] = value
            at += 1
            if rest[at + 1 : at + 2] == ["port"] or rest[at + 1 : at + 2] == ["app"]:
                ends[word][1] = rest[at + 2] if at + 2 < len(rest) else ""
                at += 2
        elif word == "proto":
            protocol, at = value, at + 1
        elif word == "port":
            ends["to"][1], at = value, at + 1
        elif word == "comment":
            comment, at = value, at + 1
        elif re.fullmatch(r"[0-9:,]+(?:/(?:tcp|udp))?", word):
            ends["to"][1], _, said = word.partition("/")
            protocol = said or protocol
        elif word in _NAMES:
            ends["to"][1], protocol = _NAMES[word]
        elif word in PROFILES:
            ends["to"][1] = word
        else:
            raise NotUnderstoodError(f"'{word}' is no port, or names an application profile whose ports are not here")
        at += 1
    beside = {"to": out if routed or way == "OUT" else into, "from": into if routed else ""}
    to, source = (_end(ends[name][0], ends[name][1], protocol, beside[name]) for name in ("to", "from"))
    six = any(V6_ADDRESS.match(ends[name][0]) for name in ends)
    return Shown(f"{to} (v6)" if six else to, action, way, source, log, comment, gap, both=not six)


def _end(address: str, ports: str, protocol: str, interface: str) -> str:
    where = "Anywhere" if address in ("", "any") else address
    said = f"{ports}/{protocol}" if ports and protocol else ports
    parts = [where if where != "Anywhere" or not said else "", said]
    if protocol and not said:
        parts[0] = f"{where}/{protocol}"
    return " ".join(filter(None, parts)) + (f" on {interface}" if interface else "")


_NAMES = {
    "ssh": ("22", "tcp"), "http": ("80", "tcp"), "https": ("443", ""), "smtp": ("25", "tcp"), "domain": ("53", ""),
    "telnet": ("23", "tcp"), "ftp": ("21", "tcp"), "imap": ("143", "tcp"), "imaps": ("993", "tcp"), "pop3": ("110", "tcp"),
    "pop3s": ("995", "tcp"), "ntp": ("123", "udp"), "mysql": ("3306", "tcp"), "postgresql": ("5432", "tcp"), "ldap": ("389", ""),
    "ldaps": ("636", ""), "snmp": ("161", ""), "tftp": ("69", "udp"), "submission": ("587", "tcp"),
}  # fmt: skip
"""Services by the names of /etc/services (IANA) with the protocols they have there."""

"""Reader for what ``iptables -L -n -v --line-numbers`` prints for people (iptables(8), ``--list``).

Such a listing hides the interfaces unless ``-v`` is given, rounds its counters, and shows one table at a time. Each line is put
back into the words of a command, and what has no such words makes the rule one that may match.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator

from msgspec import Struct

from aiguille.model import Hits, Rulebase, Span
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.iptables.tables import Pending, Table, Tables

_CHAIN = re.compile(
    r"Chain (\S+) \((?:policy (ACCEPT|DROP)(?: ([0-9.]+[KMGT]?) packets, ([0-9.]+[KMGT]?) bytes)?|-?[0-9]+ references)\)"
)
_COLUMNS = re.compile(r"(num +)?(pkts +bytes +)?target +prot +opt +(in +out +)?source +destination")
_OPTIONS = ("--", "-f", "!f")
_ANYTHING = ("0.0.0.0/0", "::/0", "anywhere", "*", "any")
_ADDRESS = re.compile(r"\s[0-9]{1,3}(?:\.[0-9]{1,3}){3}(?:/[0-9]+)?(?=\s|$)")
_COUNT = re.compile(r"([0-9]+(?:\.[0-9]+)?)([KMGT]?)")


class _Layout(Struct):
    """Which columns stand before the source."""

    numbered: bool
    counted: bool
    interfaces: bool


def is_printed(file: ExportFile) -> bool:
    """Whether a file holds such a listing."""
    heads = [number for number, line in enumerate(file.lines[:200]) if _CHAIN.match(line.strip())]
    return any(_COLUMNS.match(line.strip()) for at in heads for line in file.lines[at + 1 : at + 2])


def read_printed(file: ExportFile, family: int, ledger: LedgerBuilder, sets: frozenset[str]) -> list[Rulebase]:
    """The rule bases of a listing; its one table is told by the chains it has."""
    tables = Tables(family, ledger, sets)
    names = {found[1] for line in file.lines if (found := _CHAIN.match(line.strip()))}
    kind = "nat" if names & {"PREROUTING", "POSTROUTING"} and "FORWARD" not in names else "filter"
    table = tables.table(kind, file.span(1))
    chain, layout = "", _Layout(False, False, False)
    hidden = False
    for number, line in enumerate(file.lines, 1):
        text, where = line.strip(), file.span(number)
        if not text:
            continue
        if found := _CHAIN.match(text):
            chain = found[1]
            hits = Hits(_count(found[3]), _count(found[4])) if found[3] else None
            tables.chain(table, chain, where, found[2] or "-", hits)
            ledger.read(where)
        elif found := _COLUMNS.match(text):
            layout = _Layout(bool(found[1]), bool(found[2]), bool(found[3]))
            hidden = hidden or not layout.interfaces
            ledger.set_aside(where, "the heads of columns")
        elif not chain or not _rule(table, chain, layout, text, where):
            # A prompt at the end is no rule; what has addresses is.
            addressed = not set(text.split()).isdisjoint(_ANYTHING) or _ADDRESS.search(text)
            tables.odd(table, where, "is not a line of `iptables -L -n -v`", chain if addressed else "")
    lost = (
        "the interfaces rules look at, exact counters and other tables" if hidden else "exact counters and other tables"
    )
    ledger.problem(file.span(1), f"a listing for people hides {lost}; ask for iptables-save -c")
    return tables.finish()


def _count(text: str) -> int:
    """A counter; large ones are rounded to thousands and their powers."""
    found = _COUNT.fullmatch(text)
    if found is None:
        return 0
    powers = {"": 1, "K": 10**3, "M": 10**6, "G": 10**9, "T": 10**12}
    return int(float(found[1][:18]) * powers[found[2]])


def _rule(table: Table, chain: str, layout: _Layout, text: str, where: Span) -> bool:
    """Enter a line as a rule; False if it is none."""
    cells = text.split()
    if layout.numbered:
        cells = cells[1:]
    counts = cells[:2] if layout.counted else []
    cells = cells[len(counts) :]
    at = next((n for n, cell in enumerate(cells[:3]) if cell in _OPTIONS), -1)
    if at not in (1, 2) or (counts and not all(_COUNT.fullmatch(one) for one in counts)):
        return False
    target = cells[0] if at == 2 else ""
    protocol, option = cells[at - 1], cells[at]
    cells = cells[at + 1 :]
    into, out = (cells[0], cells[1]) if layout.interfaces and len(cells) > 1 else ("*", "*")
    cells = cells[2:] if layout.interfaces else cells
    if len(cells) < 2:
        return False
    words: list[str] = []
    for flag, value in (("-i", into), ("-o", out), ("-s", cells[0]), ("-d", cells[1])):
        if value not in _ANYTHING:
            words += ["!", flag, value[1:]] if value.startswith("!") else [flag, value]
    if protocol not in ("all", "0"):
        words += ["!", "-p", protocol[1:]] if protocol.startswith("!") else ["-p", protocol]
    if option != "--":
        words += ["!", "-f"] if option == "!f" else ["-f"]
    rest = text.split(maxsplit=len(text.split()) - len(cells[2:]))[-1] if cells[2:] else ""
    gaps: list[str] = [] if layout.interfaces else ["the listing hides the interfaces the rule looks at"]
    more, jump, gap = _extras(rest)
    words += more
    gaps += gap
    if target:
        words += ["-g" if "[goto]" in rest else "-j", target, *jump]
    hits = f"[{_count(counts[0])}:{_count(counts[1])}] " if counts else ""
    table.rules.setdefault(chain, []).append(Pending(where, f"{hits}-A {chain} {_joined(words)}", None, tuple(gaps)))
    return True


def _joined(words: list[str]) -> str:
    return " ".join('"' + word.replace('"', "'") + '"' if " " in word or not word else word for word in words)


_Found = tuple[list[str], list[str]]
_EXTRAS: tuple[tuple[re.Pattern[str], Callable[[re.Match[str]], _Found]], ...] = (
    (re.compile(r"/\* (.*?) \*/"), lambda m: (["-m", "comment", "--comment", m[1]], [])),
    (re.compile(r"(?:tcp|udp|sctp|dccp) (?=[ds]pts?:)"), lambda m: ([], [])),
    (
        re.compile(r"([ds])pts?:(!?)([0-9a-z-]+(?::[0-9]+)?)(?=\s|$)"),
        lambda m: ([*_not(m[2]), f"--{m[1]}port", m[3]], []),
    ),
    (re.compile(r"tcp flags:(!?)(?:0x)?([0-9A-Za-z,]+)/(?:0x)?([0-9A-Za-z,]+)"), lambda m: _flags(m[1], m[2], m[3])),
    (
        re.compile(r"multiport ([ds]?ports) (!?)([0-9,:]+)"),
        lambda m: (["-m", "multiport", *_not(m[2]), f"--{m[1]}", m[3]], []),
    ),
    (re.compile(r"(?:state|ctstate) ([A-Z,]+)"), lambda m: (["-m", "conntrack", "--ctstate", m[1]], [])),
    (re.compile(r"(?:icmp ?type|ipv6-icmptype) ([0-9]+)(?: code ([0-9]+))?"), lambda m: _icmp(m[0], m[1], m[2])),
    (
        re.compile(r"limit: avg (\S+) burst ([0-9]+)"),
        lambda m: (["-m", "limit", "--limit", m[1], "--limit-burst", m[2]], []),
    ),
    (re.compile(r"ADDRTYPE match dst-type (\S+)"), lambda m: (["-m", "addrtype", "--dst-type", m[1]], [])),
    (re.compile(r"(!?) ?match-set (\S+) (\S+)"), lambda m: (["-m", "set", *_not(m[1]), "--match-set", m[2], m[3]], [])),
    (re.compile(r"source IP range (\S+)"), lambda m: (["-m", "iprange", "--src-range", m[1]], [])),
    (re.compile(r"destination IP range (\S+)"), lambda m: (["-m", "iprange", "--dst-range", m[1]], [])),
    (re.compile(r"mark match (0x[0-9a-f]+(?:/0x[0-9a-f]+)?)"), lambda m: (["-m", "mark", "--mark", m[1]], [])),
    (re.compile(r"reject-with (\S+)"), lambda m: ([], ["--reject-with", m[1]])),
    (re.compile(r"to:(\S+)"), lambda m: ([], ["--to-destination", m[1]])),
    (re.compile(r"redir ports ([0-9-]+)"), lambda m: ([], ["--to-ports", m[1]])),
    (
        re.compile(r'LOG flags [0-9]+ level [0-9]+(?: prefix ["`](.*?)["\'])?'),
        lambda m: ([], ["--log-prefix", m[1] or ""]),
    ),
    (re.compile(r"\[goto\]"), lambda m: ([], [])),
)
"""What stands behind the destination, and the words of the match or of the target that print so."""


def _not(sign: str) -> list[str]:
    return ["!"] if sign else []


def _icmp(text: str, kind: str, code: str | None) -> _Found:
    option = "--icmpv6-type" if "ipv6" in text else "--icmp-type"
    return [option, kind if code is None else f"{kind}/{code}"], []


_FLAGS = ("FIN", "SYN", "RST", "PSH", "ACK", "URG")


def _flags(sign: str, mask: str, value: str) -> _Found:
    def names(text: str) -> str:
        if not re.fullmatch(r"[0-9A-Fa-f]{1,2}", text):
            return text
        bits = int(text, 16)
        return ",".join(name for at, name in enumerate(_FLAGS) if bits >> at & 1) or "NONE"

    return [*_not(sign), "--tcp-flags", names(mask), names(value)], []


def _extras(text: str) -> tuple[list[str], list[str], list[str]]:
    """The words of matches and of the target behind the destination, and what was not understood."""
    words: list[str] = []
    jump: list[str] = []
    for shape, make in _EXTRAS:
        for found in shape.finditer(text):
            match, target = make(found)
            words += match
            jump += target
        text = shape.sub(" ", text)
    left = " ".join(text.split())
    return words, jump, [f"'{left}' is not known in such a listing"] if left else []


def families_of(file: ExportFile) -> Iterator[int]:
    """4 or 6, by the addresses that stand for anywhere."""
    for line in file.lines:
        if "0.0.0.0/0" in line:
            yield 4
        elif "::/0" in line:
            yield 6

"""The text of `ufw status verbose` (ufw(8)): policies and the user's rules, without the rules ufw keeps around them.

What it leaves out, before.rules and after.rules, is taken to be as ufw ships it; the ledger says so.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from msgspec import Struct

from aiguille.model import NotUnderstoodError, Span
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.iptables.tables import Table, Tables
from aiguille.readers.part import FirewallPart, with_implied
from aiguille.readers.ufw.shipped import PROFILES, shipped_rules

_STATUS = re.compile(r"Status: (active|inactive)")
_DEFAULT = re.compile(r"Default: (\w+) \(incoming\), (\w+) \(outgoing\), (\w+) \(routed\)")
_RULE = re.compile(
    r"(\S.*?)\s+(ALLOW|DENY|REJECT|LIMIT)(?: (IN|OUT|FWD))?\s{2,}(\S.*?)(?:\s+\((log|log-all)\))?(?:\s+#\s*(.*))?"
)
_PART = re.compile(
    r"(?:([0-9]+(?::[0-9]+)?(?:,[0-9]+(?::[0-9]+)?)*)|(Anywhere|[0-9a-fA-F.:]*[.:][0-9a-fA-F.:]*(?:/[0-9.]+)?))?(?:/([a-z][a-z0-9-]*))?"
)
"""Ports, or an address, and a protocol after either."""
V6_ADDRESS = re.compile(r"[0-9a-fA-F]*:[0-9a-fA-F]*:")
"""What an address of version 6 starts with, and no range of ports."""
_POLICY = {"unknown": "unknown", "deny": "DROP", "reject": "DROP", "allow": "ACCEPT", "disabled": "DROP"}
_TARGET = {"ALLOW": "ACCEPT", "DENY": "DROP", "REJECT": "REJECT", "LIMIT": "ACCEPT"}


class Shown(Struct, frozen=True):
    """A rule as the listing shows it; both: whether it is one of both families without being shown twice; gap: why it may not hold."""

    to: str
    action: str
    way: str
    source: str
    log: str = ""
    comment: str = ""
    gap: str = ""
    both: bool = False


def recognise(file: ExportFile) -> str | None:
    """Why a file looks like the output of `ufw status`; None if it does not."""
    for number, line in enumerate(file.lines[:5], 1):
        if _STATUS.fullmatch(line.strip()):
            return f"line {number} states the status of ufw"
    return None


def read(file: ExportFile, ledger: LedgerBuilder) -> FirewallPart:
    """The rules of a listing; where it does not state the default policies, they are unknown."""
    home = file.span(1)
    policies: tuple[str, str, str] | None = None
    where = home
    rules: list[tuple[Span, Shown]] = []
    for number, line in enumerate(file.lines, 1):
        text, here = line.strip(), file.span(number)
        if not text or set(text) <= {"-", " "}:
            ledger.set_aside(here, "a line of the table's frame")
        elif (status := _STATUS.fullmatch(text)) is not None:
            ledger.read(here)
            home = here
            if status[1] == "inactive":
                policies, where = ("allow", "allow", "allow"), here
        elif (found := _DEFAULT.fullmatch(text)) is not None:
            policies, where = (found[1], found[2], found[3]), here
            ledger.read(here)
        elif text.startswith(("Logging:", "New profiles:", "To ")):
            ledger.set_aside(here, "says nothing on packets")
        elif (rule := _RULE.fullmatch(text)) is not None:
            to, action, way, source, log, comment = rule.groups()
            rules.append((here, Shown(to, action, way or "IN", source, log or "", comment or "")))
        else:
            ledger.unread(here, "is not a rule of the listing")
    ledger.problem(
        home,
        "this listing is the poorer source: before.rules and after.rules are not in it and are taken to be as shipped; ask for "
        "a copy of /etc/ufw and /etc/default/ufw",
    )
    if policies is not None and policies[2] == "disabled":
        ledger.problem(
            where,
            "routing was off when this was listed, so the policy for routed packets is not stated; it is taken to refuse",
        )
    if rules and not any("(v6)" in rule.to or V6_ADDRESS.search(f"{rule.to} {rule.source}") for _, rule in rules):
        ledger.problem(
            home,
            "no line is for IPv6: if /etc/default/ufw says IPV6=no, ufw refuses all of it, and what is shown for IPv6 is wrong",
        )
    return made_of(rules, policies or ("unknown", "unknown", "unknown"), home, where, ledger)


def made_of(
    rules: Sequence[tuple[Span, Shown]],
    policies: tuple[str, str, str],
    home: Span,
    where: Span,
    ledger: LedgerBuilder,
) -> FirewallPart:
    """What ufw makes of rules and policies for incoming, outgoing and routed packets, which stand at `where`."""
    if "unknown" in policies:
        ledger.problem(
            home,
            "nothing here states all of the default policies, so what becomes of packets that no rule takes is not known; ask for "
            "`ufw status verbose`, or better for /etc/ufw",
        )
    bases = []
    for family in (4, 6):
        tables = Tables(family, ledger)
        table = tables.table("filter", home)
        for chain, policy in zip(("INPUT", "OUTPUT", "FORWARD"), policies, strict=True):
            tables.chain(table, chain, where, _POLICY.get(policy, "DROP"))
            for words in shipped_rules(chain, family):
                tables.append(table, chain, home, words)
        for here, rule in rules:
            _rule(tables, table, here, rule, family)
            if family == 4 and (name := next((one for one in PROFILES if f" {one} " in f" {rule.to} "), "")):
                said = f"the application profile '{name}' is taken as it is shipped; ask for /etc/ufw/applications.d"
                ledger.problem(here, said)
        for chain, policy in zip(("INPUT", "OUTPUT", "FORWARD"), policies, strict=True):
            if policy == "reject":
                tables.append(table, chain, where, ["-j", "REJECT"])
        bases += tables.finish()
    return FirewallPart(with_implied(bases, lambda _, rule: rule.where in (home, where)))


def _rule(tables: Tables, table: Table, here: Span, rule: Shown, family: int) -> None:
    to, source = rule.to, rule.source
    addressed = re.search(r"\d+\.\d+\.\d+\.\d+", to + source) is not None
    shown = "(v6)" in to or "(v6)" in source or any(V6_ADDRESS.match(part) for part in (to, source))
    six, four = shown or (rule.both and not addressed), addressed or not shown
    if (family == 6 and not six) or (family == 4 and not four):
        return
    chain = {"IN": "INPUT", "OUT": "OUTPUT", "FWD": "FORWARD"}[rule.way]
    if rule.gap and rule.to == rule.source == "Anywhere":
        tables.anything(table, here, rule.gap, chain)
        return
    try:
        words = _words(to, source, rule.way)
    except NotUnderstoodError as error:
        tables.ledger.unread(here, str(error))
        return
    tail = ["-m", "comment", "--comment", rule.comment] if rule.comment else []
    new = ["-m", "conntrack", "--ctstate", "NEW"]
    gaps = (rule.gap,) if rule.gap else ()
    if rule.log:
        fresh = new if rule.log == "log" else []
        for each in words:
            logged = [*each, *fresh, "-m", "limit", "--limit", "3/min", "-j", "LOG"]
            tables.append(table, chain, here, logged, gaps=gaps)
    if rule.action == "LIMIT":
        limited = [*new, "-m", "recent", "--update", "--seconds", "30", "--hitcount", "6", "-j", "REJECT"]
        for each in words:
            tables.append(table, chain, here, [*each, *limited], gaps=gaps)
    for each in words:
        tables.append(table, chain, here, [*each, *tail, "-j", _TARGET[rule.action]], gaps=gaps)


def _profile(text: str) -> tuple[str, tuple[tuple[str, str], ...]] | None:
    """The address, if any, and the ports of an application profile that is shipped."""
    for known, terms in PROFILES.items():
        if text == known or (text.endswith(f" {known}") and re.fullmatch(r"[0-9a-fA-F.:/]+", text[: -len(known) - 1])):
            return text[: -len(known)].strip(), terms
    return None


def _from(source: str, way: str) -> list[str]:
    """The words of the source alone."""
    return _words("Anywhere", source, way)[0]


def _words(to: str, source: str, way: str) -> list[list[str]]:
    """The rule's matches; one for each protocol where ports have none."""
    out: list[str] = []
    ports: list[str] = []
    protocols: set[str] = set()
    for text, address, port, inner in ((to, "-d", "--dports", "-o"), (source, "-s", "--sports", "-i")):
        bare = text.replace("(v6)", "").strip()
        if (found := re.search(r"\s+on\s+(\S+)$", bare)) is not None:
            # An incoming rule names the interface beside "to", a routed one beside both ends.
            out += [inner if way == "FWD" else ("-i" if way == "IN" else "-o"), found[1]]
            bare = bare[: found.start()]
        bare = re.sub(r"\s+\([^)]*\)$", "", bare).strip()
        if address == "-d" and (profile := _profile(bare)) is not None:
            place, terms = profile
            return [
                [
                    *out,
                    *(["-d", place] if place else []),
                    *_from(source, way),
                    "-p",
                    one,
                    "-m",
                    "multiport",
                    "--dports",
                    said,
                ]
                for said, given in terms
                for one in ([given] if given else ["tcp", "udp"])
            ]
        for part in bare.split():
            found = _PART.fullmatch(part)
            if found is None:
                raise NotUnderstoodError(f"'{text}' names an application profile whose ports the listing does not give")
            numbers, place, protocol = found.groups()
            if numbers:
                ports += ["-m", "multiport", port, numbers]
            elif place and place != "Anywhere":
                out += [address, place]
            if protocol:
                protocols.add(protocol)
    if ports and not protocols:
        protocols = {"tcp", "udp"}
    return [[*out, "-p", protocol, *ports] for protocol in sorted(protocols)] if protocols else [out]

"""ufw's files into the rules it loads (ufw(8), ufw-framework(8), version 0.36).

ufw hands its files to iptables-restore one after the other and hooks a fixed set of chains of its own around them. The same is done
here, so that chains and rules are those of the running kernel; what ufw adds by itself carries the line of the setting it
stands for.
"""

from __future__ import annotations

import re

from msgspec import Struct
from msgspec.structs import replace

from aiguille.model import (
    Chain,
    NotUnderstoodError,
    Numbers,
    Rule,
    Rulebase,
    ServiceObject,
    ServiceTerm,
    Span,
    UnreadableError,
)
from aiguille.readers.assignments import Assigned, read_assignments
from aiguille.readers.bundle import Bundle
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.iptables.tables import Table, Tables, read_tables
from aiguille.readers.literals import read_ports, read_protocol
from aiguille.readers.part import FirewallPart, as_made, with_implied, with_shipped
from aiguille.readers.stock import is_shipped
from aiguille.readers.ufw.shipped import shipped_rules

_POLICIES = {"INPUT": "DEFAULT_INPUT_POLICY", "OUTPUT": "DEFAULT_OUTPUT_POLICY", "FORWARD": "DEFAULT_FORWARD_POLICY"}
_SHIPPED = {
    "DEFAULT_INPUT_POLICY": "DROP",
    "DEFAULT_OUTPUT_POLICY": "ACCEPT",
    "DEFAULT_FORWARD_POLICY": "DROP",
    "IPV6": "yes",
}
"""What /etc/default/ufw says as it is shipped."""
_UNTOLD = "etc/default/ufw is missing from the copy of ufw's files, so the default policies are not known"
_ORDER = ("before-logging", "before", "after", "after-logging", "reject", "track")
_USER = ("user-input", "user-output", "user-forward", "user-logging-input", "user-logging-output", "user-logging-forward",
         "user-limit", "user-limit-accept")  # fmt: skip
_ALONE = {":ufw-user-input", ":ufw6-user-input"}
_FRAME = re.compile(r"ufw6?-(logging|user-limit|user-logging|track|skip|not-local|reject)")
_TUPLE = re.compile(r"### tuple ### (.+)")


def read(bundle: Bundle, ledger: LedgerBuilder) -> FirewallPart:
    """The rules ufw would load. Raises UnreadableError if the files of its rules are missing."""
    conf = bundle.get("etc/ufw/ufw.conf")
    settings = read_assignments(bundle.get("etc/default/ufw"), ledger, (*_SHIPPED,))
    state = read_assignments(conf, ledger, ("ENABLED", "LOGLEVEL"))
    anchor = next(bundle.under("etc/ufw/"))
    home = Span(anchor.path, 1, 1)
    enabled = state.get("ENABLED")
    services = tuple(one for file in bundle.under("etc/ufw/applications.d/") for one in _profiles(file, ledger))
    for file in bundle.under("etc/ufw/"):
        if file.place.endswith(".init"):
            _aside(ledger, file, "a script that ufw runs only if it is executable; no rules of ufw itself")
        elif file.place.endswith("sysctl.conf"):
            pass  # read with the kernel's other settings
    if enabled is not None and enabled.value.lower() != "yes":
        for place in (*_places(4), *_places(6)):
            if (found := bundle.get(place)) is not None:
                _aside(ledger, found, "ufw is switched off (ENABLED=no) and loads none of its rules")
        opened = tuple(_open(family, ledger, enabled.where) for family in (4, 6))
        # What it would load is looked at apart: no line of it counts today.
        waiting = _loaded(bundle, LedgerBuilder(bundle.files), settings, home)
        return FirewallPart(opened, services=services, waiting=waiting)
    return FirewallPart(_loaded(bundle, ledger, settings, home), services=services)


def _loaded(bundle: Bundle, ledger: LedgerBuilder, settings: dict[str, Assigned], home: Span) -> tuple[Rulebase, ...]:
    """The rules ufw loads where it is switched on."""
    six = settings.get("IPV6", Assigned(_SHIPPED["IPV6"], home))
    rulebases: list[Rulebase] = []
    there = {family: any(bundle.get(place) for place in _places(family)) for family in (4, 6)}
    for family, wanted in ((4, True), (6, six.value.lower() == "yes")):
        if wanted and not there[family] and there[10 - family]:
            missing = f"ufw's files for IPv{family} are missing from the copy; copy the whole folder /etc/ufw as root"
            ledger.problem(home, missing)
        elif wanted:
            rulebases += _family(family, bundle, ledger, settings, home)
    if six.value.lower() != "yes":
        rulebases += _closed(ledger, six.where)
        for place in _places(6):
            if (found := bundle.get(place)) is not None:
                _aside(ledger, found, "ufw leaves IPv6 closed (IPV6=no) and loads none of these rules")

    def implied(chain: Chain, rule: Rule) -> bool:
        return rule.where == home or not rule.where.file.endswith(".rules") or _FRAME.match(chain.name) is not None

    # What it makes of a setting is the line of that setting to whoever wrote it.
    spoken = as_made(rulebases, lambda rule: rule.where != home and not rule.where.file.endswith(".rules"))
    return with_shipped(with_implied(spoken, implied), is_shipped)


def recognise(file: ExportFile) -> str | None:
    """Why a single file looks like ufw's rules of its user, sent without the folder they belong to; None if it does not."""
    chains = {line.split()[0] for line in file.lines[:200] if line.startswith(":")}
    return "it holds the rules ufw keeps for its user" if chains & _ALONE and ":INPUT" not in chains else None


def read_alone(file: ExportFile, ledger: LedgerBuilder) -> FirewallPart:
    """The rules of its user alone, between those ufw ships with."""
    six = "6" if any(line.startswith(":ufw6-") for line in file.lines[:200]) else ""
    return read(Bundle((replace(file, place=f"etc/ufw/user{six}.rules"),)), ledger)


def _places(family: int) -> tuple[str, ...]:
    six = "6" if family == 6 else ""
    return tuple(f"etc/ufw/{name}{six}.rules" for name in ("before", "after", "user"))


def _aside(ledger: LedgerBuilder, file: ExportFile, why: str) -> None:
    ledger.set_aside(file.span(1, len(file.lines)), why)


def _open(family: int, ledger: LedgerBuilder, where: Span) -> Rulebase:
    tables = Tables(family, ledger)
    table = tables.table("filter", where)
    for name in _POLICIES:
        tables.chain(table, name, where, "ACCEPT")
    return tables.finish()[0]


def _closed(ledger: LedgerBuilder, where: Span) -> list[Rulebase]:
    """IPv6 as ufw leaves it when it is told not to manage it."""
    tables = Tables(6, ledger)
    table = tables.table("filter", where)
    for name in ("INPUT", "FORWARD", "OUTPUT"):
        tables.chain(table, name, where, "DROP")
    tables.append(table, "INPUT", where, ["-i", "lo", "-j", "ACCEPT"])
    tables.append(table, "OUTPUT", where, ["-o", "lo", "-j", "ACCEPT"])
    return tables.finish()


def _family(
    family: int, bundle: Bundle, ledger: LedgerBuilder, settings: dict[str, Assigned], home: Span
) -> list[Rulebase]:
    six = "6" if family == 6 else ""
    tables = Tables(family, ledger, bundle.sets)
    table = tables.table("filter", home)
    told = bundle.get("etc/default/ufw") is not None
    if not told:
        ledger.problem(home, f"{_UNTOLD}; copy it as well")
    policies = {
        chain: settings.get(key, Assigned(_SHIPPED[key] if told else "", home)) for chain, key in _POLICIES.items()
    }
    for chain, policy in policies.items():
        said = policy.value.upper()
        if told and said not in ("ACCEPT", "DROP", "REJECT"):
            raise UnreadableError(f"{policy.where}: '{policy.value}' is not a policy of ufw (ACCEPT, DROP, REJECT)")
        tables.chain(table, chain, policy.where, {"ACCEPT": "ACCEPT", "": "unknown"}.get(said, "DROP"))
    for part in _ORDER:
        for chain in _POLICIES:
            tables.chain(table, f"ufw{six}-{part}-{chain.lower()}", policies[chain].where)
    for chain, policy in policies.items():
        for part in _ORDER:
            tables.append(table, chain, policy.where, ["-j", f"ufw{six}-{part}-{chain.lower()}"])
    for chain, policy in policies.items():
        low, said = chain.lower(), policy.value.upper()
        if said == "REJECT":
            tables.append(table, f"ufw{six}-reject-{low}", policy.where, ["-j", "REJECT"])
        if said == "ACCEPT":
            for protocol in ("tcp", "udp"):
                words = ["-p", protocol, "-m", "conntrack", "--ctstate", "NEW", "-j", "ACCEPT"]
                tables.append(table, f"ufw{six}-track-{low}", policy.where, words)
    for name in ("logging-deny", "logging-allow"):
        tables.chain(table, f"ufw{six}-{name}", home)
    for chain, policy in policies.items():
        name = f"ufw{six}-skip-to-policy-{chain.lower()}"
        tables.chain(table, name, policy.where)
        if policy.value:
            tables.append(table, name, policy.where, ["-j", policy.value.upper()])
        else:
            tables.anything(table, home, _UNTOLD, name)
    comments: dict[tuple[str, int], str] = {}
    for name in ("before", "after", "user"):
        file = bundle.get(f"etc/ufw/{name}{six}.rules")
        if file is None and name == "user":
            raise UnreadableError(
                f"{home.file}: etc/ufw/{name}{six}.rules is missing from the copy of ufw's files, or empty; copy the whole "
                "folder /etc/ufw as root"
            )
        if file is None:
            ledger.problem(
                home,
                f"etc/ufw/{name}{six}.rules is missing from the copy of ufw's files, or empty; the rules ufw ships with are "
                "taken in its place until the whole folder /etc/ufw is here",
            )
            for chain in _POLICIES if name == "before" else ():
                for words in shipped_rules(chain, family):
                    tables.append(table, f"ufw{six}-before-{chain.lower()}", home, words)
            continue
        if name == "user":
            for chain in _USER:
                tables.chain(table, f"ufw{six}-{chain}", file.span(1))
        read_tables(file, tables, ledger, _Comments(file, ledger, comments))
        if name == "user":
            _limits(file, f"ufw{six}-user-limit", tables, table, ledger)
    for chain in _POLICIES:
        words = ["-j", f"ufw{six}-user-{chain.lower()}"]
        tables.append(table, f"ufw{six}-before-{chain.lower()}", policies[chain].where, words)
    return [_commented(one, comments) for one in tables.finish()]


def _limits(file: ExportFile, limit: str, tables: Tables, table: Table, ledger: LedgerBuilder) -> None:
    """The chains behind `limit`, which ufw writes at the end of its rules, where an excerpt of them was cut off before."""
    lines = [line.split() for line in file.lines]
    jumps = [n for n, words in enumerate(lines, 1) if words[:1] == ["-A"] and words[-1].startswith(limit)]
    there = {
        words[0 if words[0].startswith(":") else 1].lstrip(":") for words in lines if words[1:] and words[0][:1] in ":-"
    }
    if not jumps or there & {limit, f"{limit}-accept"}:
        return
    where = file.span(jumps[0])
    ledger.problem(
        where,
        f"the chains {limit} and {limit}-accept that ufw writes for it are missing here; they are taken as ufw makes them",
    )
    tables.append(table, limit, where, ["-j", "REJECT"])
    tables.append(table, f"{limit}-accept", where, ["-j", "ACCEPT"])


class _Comments(Struct):
    """Takes in comment lines: ufw writes what the user said of a rule into one above it."""

    file: ExportFile
    ledger: LedgerBuilder
    described: dict[tuple[str, int], str]

    def __call__(self, where: Span, text: str) -> None:
        found = _TUPLE.match(text)
        if found is None:
            self.ledger.set_aside(where, "comment")
            return
        self.ledger.read(where)
        said = " ".join(filter(None, (_profile_of(found[1]), _user_comment(found[1]))))
        at = where.first
        while said and at < len(self.file.lines) and self.file.lines[at].startswith("-"):
            at += 1
            self.described[where.file, at] = said


def _user_comment(text: str) -> str:
    found = re.search(r"comment=([0-9a-fA-F]+)", text)
    try:
        return bytes.fromhex(found[1]).decode() if found else ""
    except (ValueError, UnicodeDecodeError):
        return ""


def _profile_of(text: str) -> str:
    """The application profile a rule was made from: the words after the six that every rule has (ufw(8))."""
    words = text.split()
    for word in words[6:8]:
        if word not in ("-", "in", "out") and not word.startswith(("in_", "out_", "comment=")):
            return word.replace("%20", " ")
    return ""


def _commented(rulebase: Rulebase, comments: dict[tuple[str, int], str]) -> Rulebase:
    def described(rule: Rule) -> Rule:
        said = comments.get((rule.where.file, rule.where.first))
        return replace(rule, comment=said) if said and not rule.comment else rule

    return replace(
        rulebase, chains=tuple(replace(c, rules=tuple(described(rule) for rule in c.rules)) for c in rulebase.chains)
    )


def _profiles(file: ExportFile, ledger: LedgerBuilder) -> list[ServiceObject]:
    """Application profiles: sections with a title and ports such as ``80,443/tcp|53`` (ufw(8), "Application integration")."""
    out: list[ServiceObject] = []
    name, where = "", file.span(1)
    for number, line in enumerate(file.lines, 1):
        text, here = line.strip(), file.span(number)
        if not text:
            continue
        if text[0] in "#;":
            ledger.set_aside(here, "comment")
        elif text[0] == "[" and text[-1] == "]":
            name, where = text[1:-1], here
            ledger.read(here)
        elif text.startswith("ports=") and name:
            try:
                members = tuple(term for part in text[6:].split("|") for term in _terms(part))
            except NotUnderstoodError as error:
                ledger.unread(here, str(error))
                continue
            out.append(ServiceObject(name, members, Span(file.path, where.first, number)))
            ledger.read(here)
        elif text.split("=")[0] in ("title", "description"):
            ledger.set_aside(here, "describes an application profile")
        else:
            ledger.unread(here, "is not a line of an application profile")
    return out


def _terms(part: str) -> list[ServiceTerm]:
    ports, _, protocol = part.strip().partition("/")
    numbers = tuple(read_ports(one.strip()) for one in ports.split(","))
    protocols = (read_protocol(protocol),) if protocol else (Numbers(6, 6), Numbers(17, 17))
    return [ServiceTerm(one, (), numbers) for one in protocols]

"""Rows of rules, blacklists and translations into entries of chains (shorewall-rules(5), shorewall-blrules(5), shorewall-snat(5))."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field, replace

from aiguille.model import NotUnderstoodError, Span, UnreadableError
from aiguille.readers.files import ExportFile
from aiguille.readers.shorewall.actions import (
    NEEDED_ICMP,
    RECORDING,
    SIX,
    STANDARD,
    TARGETS,
    TRANSLATING,
    Call,
    read_call,
    read_policy,
    split_actions,
)
from aiguille.readers.shorewall.columns import (
    Matches,
    Side,
    address_words,
    alternatives,
    detail_words,
    joined,
    negated,
    ports_words,
    protocols_of,
    rate_words,
    read_side,
)
from aiguille.readers.shorewall.lines import UNKNOWN, Folder, Row, or_refuse
from aiguille.readers.shorewall.macros import MACROS
from aiguille.readers.shorewall.zones import Network

_DETAILS = ("rate", "user", "mark", "connlimit", "time", "headers", "switch")
_DEEPEST_CALL = 20
SECTIONS = ("ALL", "ESTABLISHED", "RELATED", "INVALID", "UNTRACKED", "NEW")
_STATES = SECTIONS[1:5]
SIGNS = {"ESTABLISHED": "^", "RELATED": "+", "INVALID": "_", "UNTRACKED": "="}
"""What the names of chains for one state begin with."""
LATER = Span("", 0, 0)
"""The place of a rule that stands for the policy of its pair, whatever that is."""
LIMIT = ("-j", "@")
"""Stands where a policy limits the rate of new connections."""


@dataclass(frozen=True, slots=True)
class Entry:
    """A rule to be: its words without the target, the target, what was not understood."""

    where: Span
    words: tuple[str, ...]
    target: tuple[str, ...]
    gaps: tuple[str, ...] = ()

    @property
    def catches_all(self) -> bool:
        """Whether it decides on every packet, so that nothing after it is reached."""
        bare = not self.words or (self.words[:3] == ("-m", "comment", "--comment") and len(self.words) == 4)
        final = self.target in (("-j", "ACCEPT"), ("-j", "DROP"), ("-g", "reject")) or self.target[:2] == (
            "-j",
            "REJECT",
        )
        return bare and final and not self.gaps


@dataclass(frozen=True, slots=True)
class Columns:
    """The columns of a rule, which macros fill in further."""

    where: Span
    source: str = ""
    dest: str = ""
    protocol: str = ""
    dport: str = ""
    sport: str = ""
    origdest: str = ""
    details: tuple[tuple[str, str], ...] = ()
    inline: tuple[str, ...] = ()
    comment: str = ""
    gap: str = ""


@dataclass(slots=True)
class Pair:
    """What the tables say of packets from one zone to another, in the order Shorewall writes it.

    body: rules of the chain itself; those that states and policies add by themselves have their place `LATER`
    states: rules of the sections for one connection state, each a chain of its own
    closed: states that have had their say; referenced: whether any rule named the pair
    """

    blacklist: list[Entry] = field(default_factory=list)
    body: list[Entry] = field(default_factory=list)
    states: dict[str, list[Entry]] = field(default_factory=dict)
    closed: set[str] = field(default_factory=set)
    referenced: bool = False

    @property
    def is_empty(self) -> bool:
        return not self.blacklist and not self.referenced


class Rules:
    """All rules by pair of zones, and translations by source zone."""

    def __init__(self, folder: Folder, network: Network) -> None:
        self.folder, self.network, self.ledger = folder, network, folder.ledger
        self.pairs: dict[tuple[str, str], Pair] = {}
        self.chains: dict[str, list[Entry]] = {}
        """Chains of actions of the user's own, in the filter table."""
        self.nat: dict[str, list[Entry]] = {}
        self._section = ""
        self.limit = rate_words(limit) if (limit := folder.setting("LOGLIMIT")) else []
        self._running: list[str] = []

    def read(self) -> None:
        for row in self.folder.rows("blrules"):
            self._row(row, blacklist=True)
        for row in self.folder.rows("rules"):
            self._row(row)

    def pair(self, source: str, dest: str) -> Pair:
        return self.pairs.setdefault((source, dest), Pair())

    # -- one row -------------------------------------------------------------------------------------------------

    def _row(self, row: Row, blacklist: bool = False) -> None:
        self.ledger.read(row.where)
        section = row.section or "NEW"
        if section not in SECTIONS:
            raise UnreadableError(f"{row.where}: '{section}' is not a section of rules ({', '.join(SECTIONS)})")
        if not blacklist and section != self._section:
            self._begin(section)
        columns = _columns(row)
        try:
            call = read_call(row.columns[0])
        except NotUnderstoodError as error:
            call, columns = Call("?"), replace(columns, gap=str(error))
        if call.name in ("ADD", "DEL", "HELPER", "INLINE", "IPTABLES", "IP6TABLES") or (
            blacklist and call.name == "BLACKLIST"
        ):
            columns, call = self._special(call, columns, row)
        for one, said in self._expanded(call, columns):
            self._between(one, said, section, blacklist)

    def _between(self, call: Call, columns: Columns, section: str, blacklist: bool) -> None:
        """Put a rule, free of macros, where packets between its zones pass."""
        sources, own = self._zones(_zone_part(columns.source) or "all", columns.where)
        if call.name.startswith("REDIRECT") or call.name in ("DNAT-", "NONAT"):
            dests, its = [self.network.firewall], False
        else:
            dests, its = self._zones(_zone_part(columns.dest) or "all", columns.where)
        both = len(sources) == 1 == len(dests) or own or its
        for source in sources:
            if call.name in TRANSLATING and any(dest != source or both for dest in dests):
                self._translation(call, columns, source)
            if call.name.endswith("-") or call.name == "NONAT":
                continue
            for dest in dests:
                if source != dest or both:
                    held = self.pair(source, dest)
                    entries = list(self.entries(call, columns, f"{source}-{dest}"))
                    if blacklist:
                        held.blacklist += entries
                    else:
                        self._put(held, f"{source}-{dest}", section, entries)

    # -- sections ------------------------------------------------------------------------------------------------

    def _begin(self, section: str) -> None:
        """A rule of another section follows: states of sections gone by are closed in every pair that has rules."""
        before, self._section = self._section, section
        done = _before(section)
        for (source, dest), pair in self.pairs.items():
            if pair.referenced:
                self._close(pair, f"{source}-{dest}", before, done)

    def _put(self, pair: Pair, name: str, section: str, entries: list[Entry]) -> None:
        if not pair.referenced:
            self._close(pair, name, "", _before(section))
            pair.referenced = True
        if section in SIGNS:
            if section not in pair.states:
                pair.states[section] = []
                pair.body.append(Entry(LATER, ("-m", "conntrack", "--ctstate", section), ("-j", SIGNS[section] + name)))
            pair.states[section] += entries
        else:
            pair.body += entries

    def finish(self, pair: Pair, name: str, section: str) -> None:
        """Close all states of a pair that no rule names."""
        self._close(pair, name, section, set(_STATES), new=True)

    def _close(self, pair: Pair, name: str, section: str, states: set[str], *, new: bool = False) -> None:
        """What Shorewall adds for states at the end of their sections.

        A pair that has rules in the section that ends gets that state's disposition at the end of those; states closed in the
        same step after it get none, which Shorewall 5.2 does so.
        """
        left = [state for state in _STATES if state in states - pair.closed]
        pair.closed |= states
        for state in list(left):
            said = "ACCEPT" if state == "ESTABLISHED" else self.disposition(state)
            level = "" if state == "ESTABLISHED" else self.folder.setting(f"{state}_LOG_LEVEL")
            own = state == section and state in pair.states
            if not (own or level or said != "ACCEPT"):
                continue
            where = LATER if state == "ESTABLISHED" else self._setting_place(state)
            target: tuple[str, ...] = () if said == "CONTINUE" else _TARGETS.get(said, ("-j", said))
            chain = pair.states.setdefault(state, []) if own or level else pair.body
            if level:
                chain.append(Entry(where, (), self.recorded(level, SIGNS[state] + name, said)))
            if own or level:
                chain += [Entry(where, (), target)] if target else []
                target = ("-j", SIGNS[state] + name)
            left.remove(state)
            if own:
                break
            if target:
                if "ESTABLISHED" in left:
                    left.remove("ESTABLISHED")
                    pair.body.append(self._accepted(["ESTABLISHED"]))
                pair.body.append(Entry(where, ("-m", "conntrack", "--ctstate", state), target))
        usual: list[str] = (
            [] if self.folder.is_on("FASTACCEPT") else [s for s in ("ESTABLISHED", "RELATED") if s in left]
        )
        if "UNTRACKED" in left and self.disposition("UNTRACKED") == "ACCEPT":
            usual.append("UNTRACKED")
        if usual:
            pair.body.append(self._accepted(usual))
        if new or self._section == "NEW":
            pair.body.append(Entry(LATER, (), LIMIT))

    def _accepted(self, states: list[str]) -> Entry:
        return Entry(LATER, ("-m", "conntrack", "--ctstate", ",".join(states)), ("-j", "ACCEPT"))

    def _setting_place(self, state: str) -> Span:
        name = f"{state}_DISPOSITION"
        return self.folder.setting_where(name) if name in self.folder.said else LATER

    def disposition(self, name: str) -> str:
        """What a setting says is done with packets of a kind."""
        name = f"{name}_DISPOSITION"
        call = or_refuse(self.folder.setting_where(name), read_policy, self.folder.setting(name).upper())
        return call.name.removeprefix("A_")

    def _special(self, call: Call, columns: Columns, row: Row) -> tuple[Columns, Call]:
        """Actions that write iptables' own words, fill sets or attach helpers."""
        if call.name == "BLACKLIST":
            name = self.folder.setting("BLACKLIST_DISPOSITION")
            return columns, Call(name, level=call.level or self.folder.setting("BLACKLIST_LOG_LEVEL"))
        if call.name == "INLINE" and row.inline:
            words = list(row.inline)
            if "-j" in words:
                at = words.index("-j")
                columns = replace(columns, inline=tuple(words[:at]))
                return columns, Call(words[at + 1], level=call.level)
            return columns, Call(call.parameters[0] if call.parameters else "COUNT", level=call.level)
        if call.name in ("IPTABLES", "IP6TABLES") and call.parameters:
            return columns, Call(call.parameters[0].split()[0], level=call.level)
        return columns, Call("COUNT", level=call.level)

    def _zones(self, text: str, where: Span) -> tuple[list[str], bool]:
        """The zones meant, and whether packets from a zone to itself are."""
        firewall = self.network.firewall
        head, _, without = text.partition("!")
        own = head.endswith("+")
        head = head.rstrip("+")
        left_out = {self.network.zone(name, where).name for name in filter(None, without.split(","))}
        if (found := re.fullmatch(r"(all|any)(-?)", head)) is not None:
            names = [firewall, *(zone.name for zone in self.network.order)]
            if found[1] == "any":
                names = [name for name in names if not self.network.zones[name].parents]
            if found[2]:
                names.remove(firewall)
            return [name for name in names if name not in left_out], own
        names = [self.network.zone(name.rstrip("+"), where).name for name in head.split(",")]
        return [name for name in names if name not in left_out], own

    # -- macros and actions --------------------------------------------------------------------------------------

    def _expanded(self, call: Call, columns: Columns, depth: int = 0) -> Iterator[tuple[Call, Columns]]:
        """A call with macros replaced by the rules they stand for."""
        name = call.name
        if depth > _DEEPEST_CALL:
            raise UnreadableError(f"{columns.where}: the macro '{name}' calls itself")
        lines: list[tuple[str, Columns]] | None = None
        if not self._known(name):
            if (file := self._definition("macro", name)) is not None:
                lines = [(row.columns[0], _columns(row)) for row in self.folder.file_rows(file)]
                for row in self.folder.file_rows(file):
                    self.ledger.read(row.where)
            elif name in MACROS and self._action_file(name) is None:
                lines = [_macro_line(line, self.folder.family) for line in MACROS[name]]
        if lines is None:
            yield call, columns
            return
        auto = name if self.folder.is_on("AUTOCOMMENT") and not columns.comment else columns.comment
        inner = replace(columns, comment=auto)
        default = "ACCEPT"
        for word, body in lines:
            if word in ("DEFAULT", "DEFAULTS"):
                default = body.source or default
                continue
            parameter = call.parameters[0] if call.parameters and call.parameters[0] != "-" else default
            try:
                one = read_call(parameter if word == "PARAM" else word)
            except NotUnderstoodError as error:
                one, inner = Call("?"), replace(inner, gap=str(error))
            if word != "PARAM" and not one.parameters and not self._known(one.name):
                one = replace(one, parameters=call.parameters)
            one = replace(one, level=call.level or one.level, tag=call.tag or one.tag)
            yield from self._expanded(one, _merged(body, inner), depth + 1)

    def _known(self, name: str) -> bool:
        return name in TARGETS or name in TRANSLATING or name in RECORDING or name in STANDARD or name in _CHAINS

    def _definition(self, kind: str, name: str) -> ExportFile | None:
        bundle, root = self.folder.bundle, self.folder.root
        shared = "shorewall6" if self.folder.family == 6 else "shorewall"
        for place in (
            f"{root}{kind}.{name}",
            f"usr/share/{shared}/{kind}.{name}",
            f"usr/share/shorewall/{kind}.{name}",
        ):
            if (file := bundle.get(place)) is not None:
                return file
        return None

    def _action_file(self, name: str) -> ExportFile | None:
        """The definition of an action that the folder's own ``actions`` lists."""
        if not any(row.columns[0] == name for row in self.folder.rows("actions")):
            return None
        return self._definition("action", name)

    # -- entries -------------------------------------------------------------------------------------------------

    def entries(self, call: Call, columns: Columns, chain: str, *, translated: bool = True) -> Iterator[Entry]:
        """The rules that one row becomes in a chain, for logging and for the action."""
        if translated and call.name in ("DNAT", "REDIRECT"):
            columns, extra = self._after_translation(call, columns)
            call = Call("ACCEPT")
        else:
            extra = ()
        try:
            bodies, target = self._action(call, columns)
        except NotUnderstoodError as error:
            bodies, target = [[]], ("-j", "?")
            columns = replace(columns, gap=columns.gap or str(error))
        matches = self.matches(columns, zones=True)
        matches.words = [[*words, *extra] for words in matches.words]
        yield from self._finished(call, matches, bodies, target, columns, chain)

    def _finished(
        self,
        call: Call,
        matches: Matches,
        bodies: list[list[str]],
        target: tuple[str, ...],
        columns: Columns,
        chain: str,
    ) -> Iterator[Entry]:
        comment = ("-m", "comment", "--comment", columns.comment) if columns.comment else ()
        gaps = (*matches.gaps, *((columns.gap,) if columns.gap else ()))
        where = columns.where
        targets = [*([self.log(call, chain)] if call.logs or call.name in ("LOG", "NFLOG", "ULOG") else []), target]
        done = [one for one in targets if one]
        for words in matches.words:
            for body in bodies:
                both = joined([*words, *matches.without], body)
                if both is not None:
                    yield from (Entry(where, (*both, *comment), one, gaps) for one in done)

    def log(self, call: Call, chain: str) -> tuple[str, ...]:
        """Words that record a packet."""
        said = "LOG" if call.name in ("LOG", "NFLOG", "ULOG") else call.name.rstrip("+-")
        return self.recorded(call.level, chain, said, call.tag)

    def recorded(self, level: str, chain: str, said: str, tag: str = "") -> tuple[str, ...]:
        form = self.folder.setting("LOGFORMAT")
        prefix = re.sub(r"%\w", "{}", form).format(chain, said, 0) if form.count("%") <= 3 else f"{chain} {said} "
        if tag:
            prefix = f"{prefix}{tag} "
        target = "NFLOG" if re.match(r"(?:NFLOG|ULOG)", level, re.IGNORECASE) else "LOG"
        option = "--nflog-prefix" if target == "NFLOG" else "--log-prefix"
        return (*self.limit, "-j", target, option, prefix)

    def _action(self, call: Call, columns: Columns) -> tuple[list[list[str]], tuple[str, ...]]:
        """What an action asks of packets beside the columns, and its target. Raises NotUnderstoodError."""
        name = call.name
        if name == "REJECT" and call.parameters and call.parameters[0]:
            return [[]], ("-j", "REJECT", "--reject-with", call.parameters[0])
        if name in TARGETS:
            return [[]], tuple(TARGETS[name])
        if name in ("ACCEPT+", "ACCEPT!"):
            return [[]], ("-j", "ACCEPT")
        if name in RECORDING:
            return [[]], ()
        if name in STANDARD:
            default, bodies = STANDARD[name]
            if self.folder.family == 6:
                bodies = SIX.get(name, bodies)
            inner = read_call(default.rstrip("!"))
            if call.parameters and call.parameters[0] not in ("", "-", "audit") and not default.endswith("!"):
                inner = read_call(call.parameters[0])
            return list(bodies), self._action(inner, columns)[1]
        if name == "AllowICMPs":
            inner = read_call(call.parameters[0] if call.parameters else "ACCEPT")
            return NEEDED_ICMP[self.folder.family], self._action(inner, columns)[1]
        if name in _CHAINS:
            return [["-p", "tcp"] if name == "TCPFlags" else []], ("-j", name)
        if name == "Limit":
            return [[]], ("-m", "recent", "--rcheck", "-j", "ACCEPT")
        file = self._action_file(name)
        if file is not None:
            return [[]], ("-j", self._own_action(name, call, file))
        raise NotUnderstoodError(
            f"'{name}' is neither an action nor a macro we know; copy /usr/share/shorewall too, which defines it"
        )

    def _own_action(self, name: str, call: Call, file: ExportFile) -> str:
        """The chain of an action that the administrator wrote, one for each set of parameters."""
        chain = name if not call.parameters else f"{name}({','.join(call.parameters)})"
        if name in self._running:
            raise UnreadableError(
                f"{file.path}:1: the action '{name}' calls itself, by way of {' and '.join(self._running)}"
            )
        if chain in self.chains:
            return chain
        out: list[Entry] = []
        self.chains[chain] = out
        self._running.append(name)
        given = dict(enumerate(call.parameters, 1))
        for row in self.folder.file_rows(file):
            self.ledger.read(row.where)
            if row.columns[0] in ("DEFAULTS", "DEFAULT"):
                for number, value in enumerate(",".join(row.columns[1:]).split(","), 1):
                    if given.get(number, "-") in ("", "-"):
                        given[number] = value
                continue
            said = [re.sub(r"@\{?(\d)\}?", lambda m: given.get(int(m[1]), ""), one) for one in row.columns]
            row = replace(row, columns=tuple(one or "-" for one in said))
            try:
                for inner, columns in self._expanded(read_call(row.columns[0]), _columns(row)):
                    out += self._inside(inner, columns, chain)
            except NotUnderstoodError as error:
                out.append(Entry(row.where, (), ("-j", "?"), (str(error),)))
        self._running.pop()
        return chain

    def _inside(self, call: Call, columns: Columns, chain: str) -> Iterator[Entry]:
        """A row within an action, where no zones are named."""
        bodies, target = self._action(call, columns)
        matches = self.matches(columns, zones=False)
        yield from self._finished(call, matches, bodies, target, columns, chain)

    def defaults(self, text: str, where: Span, chain: str) -> list[Entry]:
        """The rules of a list of actions that runs before a policy."""
        out: list[Entry] = []
        for one in split_actions(text):
            for call, columns in self._expanded(read_call(one), Columns(where)):
                out += self._inside(call, columns, chain)
        return out

    # -- matches -------------------------------------------------------------------------------------------------

    def matches(self, columns: Columns, *, zones: bool, destination: bool = True) -> Matches:
        """Read the columns; whatever cannot be read becomes a gap."""
        out = Matches()
        parts: list[list[list[str]]] = []
        for text, way in ((columns.source, "s"), (columns.dest, "d")):
            side = read_side(text, has_zone=zones) if text else Side()
            if side.interface:
                # An interface is named as the tables do; the kernel may know it by another name.
                held = self.network.interfaces.get(side.interface)
                parts.append([["-i" if way == "s" else "-o", held.name if held else side.interface]])
            if way == "s" or destination:
                self._side(side, way, parts, out)
        try:
            services = []
            for protocol in protocols_of(columns.protocol):
                services += self._service(protocol, columns)
            parts.append(services)
            parts.append([[*self._origin(columns), *detail_words(dict(columns.details)), *columns.inline]])
        except NotUnderstoodError as error:
            out.gaps.append(str(error))
        out.words = alternatives(parts)
        return out

    def _side(self, side: Side, way: str, parts: list[list[list[str]]], out: Matches) -> None:
        try:
            if side.addresses:
                parts.append([address_words(one, way) for one in side.addresses])
            for one in side.without:
                out.without += negated(address_words(one, way))
        except NotUnderstoodError as error:
            out.gaps.append(str(error))

    def _service(self, protocol: str, columns: Columns) -> list[list[str]]:
        name, _, flags = protocol.partition(":")
        negated = ["!"] if name.startswith("!") else []
        name = name.lstrip("!")
        if name == "icmp" and self.folder.family == 6:
            name = "ipv6-icmp"
        head = [*negated, "-p", name] if name and name.lower() not in ("-", "all") else []
        if flags:
            if flags.lower() not in ("syn", "!syn"):
                raise NotUnderstoodError(f"'{protocol}' is not a protocol we know")
            head += [*(["!"] if flags[0] == "!" else []), "--tcp-flags", "FIN,SYN,RST,ACK", "SYN"]
        to = ports_words(name, columns.dport, "d", self.folder.family)
        return [[*head, *one, *two] for one in to for two in ports_words(name, columns.sport, "s", self.folder.family)]

    def _origin(self, columns: Columns) -> list[str]:
        """The destination before translation."""
        out: list[str] = []
        if columns.origdest:
            inside, _, outside = columns.origdest.partition("!")
            for text, negated in ((inside, []), (outside, ["!"])):
                if text:
                    out += ["-m", "conntrack", *negated, "--ctorigdst", text]
        return out

    # -- translation ---------------------------------------------------------------------------------------------

    def _after_translation(self, call: Call, columns: Columns) -> tuple[Columns, tuple[str, ...]]:
        """What the filter sees of packets that a rule has translated: the new destination; the old port by tracking."""
        server = _server(call, columns)
        extra: tuple[str, ...] = ()
        port = columns.dport
        if server.port:
            if port and re.fullmatch(r"[\w:-]+", port):
                extra = ("-m", "conntrack", "--ctorigdstport", port)
            port = server.port
        dest = f"{server.zone}:{server.address}" if server.address else server.zone
        return replace(columns, dest=dest, dport=port), extra

    def _translation(self, call: Call, columns: Columns, source: str) -> None:
        """The rule that translates, in the chain for packets from a zone."""
        name = call.name.rstrip("-")
        server = _server(call, columns)
        if name in ("NONAT", "ACCEPT+"):
            target: tuple[str, ...] = ("-j", "ACCEPT")
            columns = replace(columns, dest=columns.dest if name == "NONAT" else "")
        elif name == "REDIRECT":
            target = ("-j", "REDIRECT", "--to-ports", server.port) if server.port else ("-j", "REDIRECT")
        else:
            address = f"[{server.address}]" if ":" in server.address else server.address
            target = ("-j", "DNAT", "--to-destination", f"{address}:{server.port}" if server.port else address)
        inside, _, outside = columns.origdest.partition("!")
        matches = self.matches(replace(columns, origdest=""), zones=True, destination=False)
        try:
            origin = [address_words(text, "d") for text in inside.split(",") if text]
            for text in filter(None, outside.split(",")):
                matches.without += negated(address_words(text, "d"))
            matches.words = alternatives([matches.words, origin]) if origin else matches.words
        except NotUnderstoodError as error:
            matches.gaps.append(str(error))
        entries = self._finished(call, matches, [[]], target, columns, f"{source}_dnat")
        self.nat.setdefault(source, []).extend(entries)


_CHAINS = ("DropSmurfs", "TCPFlags")
"""Standard actions that are chains of several rules; the writer of the tables adds them."""


@dataclass(frozen=True, slots=True)
class _Server:
    zone: str
    address: str
    port: str


def _server(call: Call, columns: Columns) -> _Server:
    """Where a rule sends packets: ``dmz:10.0.5.11:8080``, ``dmz:[2001:db8::5]:8080``, ``3128``."""
    text = columns.dest
    if call.name.startswith("REDIRECT"):
        return _Server("", "", text.rsplit(":", 1)[-1] if text not in ("", "-") else "")
    zone = ""
    if not call.name.endswith("-"):
        zone, _, text = text.partition(":")
    text = re.sub(r":(?:random|persistent)$", "", text)
    if found := re.fullmatch(r"\[([^\]]+)\](?::(\w+))?", text):
        return _Server(zone, found[1], found[2] or "")
    if text.count(":") > 1:
        return _Server(zone, text, "")
    address, _, port = text.partition(":")
    return _Server(zone, address, port)


def _before(section: str) -> set[str]:
    """The states whose sections stand before one."""
    return set(SECTIONS[1 : SECTIONS.index(section)]) if section in SECTIONS[1:] else set()


_TARGETS = {"REJECT": ("-g", "reject")}


def _zone_part(text: str) -> str:
    head = re.match(r"(?:\{[^}]*\}|[^:{])*", text)
    return head[0].strip("{}") if head else text


def _columns(row: Row) -> Columns:
    details = {
        name: value
        for at, name in enumerate(_DETAILS, 7)
        if (value := row.column(at, f"{name}|ratelimit" if name == "rate" else name))
    }
    return Columns(
        row.where,
        source=_known(row.column(1, "source")),
        dest=_known(row.column(2, "dest")),
        protocol=_known(row.column(3, "proto|protocol")),
        dport=_known(row.column(4, "dport|dports|port|ports")),
        sport=_known(row.column(5, "sport|sports|cport")),
        origdest=_known(row.column(6, "origdest|origdst")),
        details=tuple(sorted((name, value) for name, value in details.items() if UNKNOWN not in value)),
        inline=tuple(word for word in row.inline if UNKNOWN not in word),
        comment=row.comment or row.named.get("comment", ""),
        gap=row.gap,
    )


def _known(text: str) -> str:
    """A column without what only the host knows, so that the rule is taken for as wide as it may be: the zone stays."""
    if UNKNOWN not in text:
        return text
    zone = _zone_part(text)
    return "" if UNKNOWN in zone or not zone else zone


def _macro_line(line: str, family: int) -> tuple[str, Columns]:
    """A line of our own table of macros as the body of a macro."""
    if family == 6:
        line = line.replace("icmp 8", "ipv6-icmp 128")
    turned = line.startswith("<")
    source, dest = ("DEST", "SOURCE") if turned else ("", "")
    words = line.lstrip("< ").split()
    body = Columns(Span("", 0, 0), source, dest)
    if words[0].startswith("@"):
        return words[0][1:], body
    words += [""] * (3 - len(words))
    return "PARAM", replace(body, protocol=words[0], dport=words[1], sport=words[2])


def _merged(body: Columns, outer: Columns) -> Columns:
    """The columns of a macro's line with those of the rule that calls it (shorewall-macros(5))."""
    ends = {"SOURCE": outer.source, "DEST": outer.dest}

    def end(text: str, own: str) -> str:
        if not text:
            return own
        name, found, rest = text.partition(":")
        if name in ends:
            return f"{ends[name]}:{rest}" if found else ends[name]
        return f"{own}:{text}" if own else text

    return replace(
        outer,
        source=end(body.source, outer.source),
        dest=end(body.dest, outer.dest),
        protocol=outer.protocol or body.protocol,
        dport=outer.dport or body.dport,
        sport=outer.sport or body.sport,
        origdest=outer.origdest or body.origdest,
        details=tuple(sorted((dict(body.details) | dict(outer.details)).items())),
        inline=(*body.inline, *outer.inline),
        comment=body.comment or outer.comment,
        gap=body.gap or outer.gap,
    )

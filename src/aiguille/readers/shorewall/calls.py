"""Calls of macros and actions into the entries of chains (shorewall-macros(5), shorewall-actions(5))."""

from __future__ import annotations

import re
from collections.abc import Iterator

from msgspec.structs import replace

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
    shared_files,
    split_actions,
)
from aiguille.readers.shorewall.bodies import ActionLine, Columns, columns_of, macro_line, merged, server_of
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
from aiguille.readers.shorewall.lines import Folder
from aiguille.readers.shorewall.macros import MACROS
from aiguille.readers.shorewall.zones import Network

_DEEPEST_CALL = 20
_CHAINS = ("DropSmurfs", "TCPFlags")
"""Standard actions that are chains of several rules; the writer of the tables adds them."""


class Calls:
    """Expands calls; the chains of the user's own actions gather on the way."""

    def __init__(self, folder: Folder, network: Network) -> None:
        self.folder, self.network, self.ledger = folder, network, folder.ledger
        self.chains: dict[str, list[ActionLine]] = {}
        """Chains of actions of the user's own, in the filter table."""
        self.limit = rate_words(limit) if (limit := folder.setting("LOGLIMIT")) else []
        self._running: list[str] = []

    def expanded(self, call: Call, columns: Columns, depth: int = 0) -> Iterator[tuple[Call, Columns]]:
        """A call with macros replaced by the rules they stand for."""
        name = call.name
        if depth > _DEEPEST_CALL:
            raise UnreadableError(f"{columns.where}: the macro '{name}' calls itself")
        lines: list[tuple[str, Columns]] | None = None
        if not self._known(name):
            if (file := self._definition("macro", name)) is not None:
                lines = [(row.columns[0], columns_of(row)) for row in self.folder.file_rows(file)]
                for row in self.folder.file_rows(file):
                    self.ledger.read(row.where)
            elif name in MACROS and self._action_file(name) is None:
                lines = [macro_line(line, self.folder.family) for line in MACROS[name]]
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
            yield from self.expanded(one, merged(body, inner), depth + 1)

    def _known(self, name: str) -> bool:
        return (
            name in TARGETS
            or name in TRANSLATING
            or name in RECORDING
            or name in STANDARD
            or name in _CHAINS
            or name == "GlusterFS"
        )

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

    def entries(self, call: Call, columns: Columns, chain: str, *, translated: bool = True) -> Iterator[ActionLine]:
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
        yield from self.finished(call, matches, bodies, target, columns, chain)

    def finished(
        self,
        call: Call,
        matches: Matches,
        bodies: list[list[str]],
        target: tuple[str, ...],
        columns: Columns,
        chain: str,
    ) -> Iterator[ActionLine]:
        comment = ("-m", "comment", "--comment", columns.comment) if columns.comment else ()
        gaps = (*matches.gaps, *((columns.gap,) if columns.gap else ()))
        where = columns.where
        targets = [*([self.log(call, chain)] if call.logs or call.name in ("LOG", "NFLOG", "ULOG") else []), target]
        done = [one for one in targets if one]
        for words in matches.words:
            for body in bodies:
                both = joined([*words, *matches.without], body)
                if both is not None:
                    yield from (ActionLine(where, (*both, *comment), one, gaps) for one in done)

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
        if name == "GlusterFS":
            return list(shared_files(call.parameters)), ("-j", "ACCEPT")
        if name in _CHAINS:
            return [["-p", "tcp"] if name == "TCPFlags" else []], ("-j", name)
        if name == "Limit":
            return [[]], ("-m", "recent", "--rcheck", "-j", "ACCEPT")
        file = self._action_file(name)
        if file is not None:
            return [[]], ("-j", self._own_action(name, call, file))
        if self._definition("action", name) is not None:
            raise NotUnderstoodError(f"'{name}' is an action of Shorewall's own that is not followed")
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
        out: list[ActionLine] = []
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
                for inner, columns in self.expanded(read_call(row.columns[0]), columns_of(row)):
                    out += self._inside(inner, columns, chain)
            except NotUnderstoodError as error:
                out.append(ActionLine(row.where, (), ("-j", "?"), (str(error),)))
        self._running.pop()
        return chain

    def _inside(self, call: Call, columns: Columns, chain: str) -> Iterator[ActionLine]:
        """A row within an action, where no zones are named."""
        bodies, target = self._action(call, columns)
        matches = self.matches(columns, zones=False)
        yield from self.finished(call, matches, bodies, target, columns, chain)

    def defaults(self, text: str, where: Span, chain: str) -> list[ActionLine]:
        """The rules of a list of actions that runs before a policy."""
        out: list[ActionLine] = []
        for one in split_actions(text):
            for call, columns in self.expanded(read_call(one), Columns(where)):
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

    def _after_translation(self, call: Call, columns: Columns) -> tuple[Columns, tuple[str, ...]]:
        """What the filter sees of packets that a rule has translated: the new destination; the old port by tracking."""
        server = server_of(call, columns)
        extra: tuple[str, ...] = ()
        port = columns.dport
        if server.port:
            if port and re.fullmatch(r"[\w:-]+", port):
                extra = ("-m", "conntrack", "--ctorigdstport", port)
            port = server.port
        dest = f"{server.zone}:{server.address}" if server.address else server.zone
        return replace(columns, dest=dest, dport=port), extra

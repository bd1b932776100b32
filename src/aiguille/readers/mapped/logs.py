"""Log lines of a described make: what each says of a packet, and what was done with it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from ipaddress import ip_address

from msgspec import Struct

from aiguille.model import Action, AiguilleError, Device, Log, NotUnderstoodError
from aiguille.readers.files import ExportFile, LedgerBuilder, decode
from aiguille.readers.literals import read_protocol
from aiguille.readers.mapped.paths import read_path
from aiguille.readers.mapped.spec import Dialect, LogMap, Where, paths_of
from aiguille.readers.mapped.structure import parse
from aiguille.readers.mapped.tree import Node, NodePlace
from aiguille.readers.mapped.values import Extractor

_ADDRESSES = ("source", "destination")
_PORTS = ("source_port", "destination_port")


class LogRecord(Struct, frozen=True):
    """What a log line says; "" for what it does not. `line` counts from 1.

    verdict: accept, drop or reject
    source, destination: addresses; protocol: by name or number; source_port, destination_port: numbers
    """

    line: int
    time: str = ""
    verdict: str = ""
    rule: str = ""
    prefix: str = ""
    in_interface: str = ""
    out_interface: str = ""
    source: str = ""
    destination: str = ""
    protocol: str = ""
    source_port: str = ""
    destination_port: str = ""


class LogTrial(Struct, frozen=True):
    """How a dialect reads log lines.

    lines, aside: how many lines there are, and how many of them are empty or comments
    unread: lines that were not understood, with the reason
    left: names of what stands in records and no key asks for, with how often
    idle: paths that led nowhere, as key of the file and path
    strange_rules: rules and prefixes that records name and no rule of the samples has, with how often
    """

    path: str
    lines: int
    aside: int
    records: tuple[LogRecord, ...]
    unread: tuple[tuple[int, str], ...]
    left: tuple[tuple[str, int], ...]
    idle: tuple[tuple[str, str], ...]
    strange_rules: tuple[tuple[str, int], ...]


def try_log(dialect: Dialect, file: ExportFile, devices: Sequence[Device] = ()) -> LogTrial:
    """Read a make's log lines by its dialect, line by line.

    devices: of samples, so that rules that records name can be looked for
    """
    m = dialect.log
    if m is None:
        return LogTrial(file.path, len(file.lines), 0, (), (), (), (), ())
    records: list[LogRecord] = []
    unread: list[tuple[int, str]] = []
    left: Counter[str] = Counter()
    found: set[str] = set()
    aside = 0
    for number, line in enumerate(file.lines, 1):
        if not line.strip():
            aside += 1
            continue
        try:
            tree = parse((decode(file.path, line.encode()),), m.structure)
            if not tree.root.children and tree.asides.entries:
                aside += 1
                continue
            get = Extractor(dialect, LedgerBuilder(()), NodePlace(tree.root))
            nodes = list(get.each(tree.root, m.at))
            if not nodes:
                unread.append((number, f"nothing stands at '{m.at}'"))
            for node in nodes:
                records.append(_record(get, node, m, number))
                left.update(child.name for child in node.children if not child.touched())
            found |= get.found
        except NotUnderstoodError as error:
            unread.append((number, error.message))
        except AiguilleError as error:
            # Of one line alone, so that its place within the file is another.
            unread.append((number, str(error).removeprefix(f"{file.path}:1: ")))
    idle = tuple((key, path) for key, path in paths_of(m, "log/") if read_path(path).text not in found)
    return LogTrial(
        path=file.path,
        lines=len(file.lines),
        aside=aside,
        records=tuple(records),
        unread=tuple(unread),
        left=tuple(left.most_common()),
        idle=idle,
        strange_rules=tuple(_strange(records, devices)) if devices else (),
    )


def _record(get: Extractor, node: Node, m: LogMap, number: int) -> LogRecord:
    """One record; raises NotUnderstoodError for a word that is not what it should be."""
    fields = (name for name in LogRecord.__struct_fields__ if name != "line")
    said = {name: _said(get, node, getattr(m, name), _READERS.get(name)) for name in fields}
    if not said["source"] or not said["destination"]:
        raise NotUnderstoodError("no source or no destination stands where the dialect says", node.head)
    return LogRecord(number, **said)


def _said(get: Extractor, node: Node, where: Where | None, read: Callable[[str], object] | None) -> str:
    if where is None:
        return ""
    words = [str(get.translated(token, where)) for token in get.tokens(node, where, strict=True) or ()]
    if read is not None:
        for word in words:
            read(word)
    return " ".join(words)


def _address(text: str) -> None:
    try:
        ip_address(text)
    except ValueError:
        raise NotUnderstoodError(f"'{text}' is no address") from None


def _port(text: str) -> None:
    if not (text.isascii() and text.isdecimal() and len(text) <= 5 and int(text) <= 65535):
        raise NotUnderstoodError(f"'{text}' is no port")


def _verdict(text: str) -> None:
    if text not in (Action.ACCEPT.value, Action.DROP.value, Action.REJECT.value):
        raise NotUnderstoodError(f"'{text}' is no verdict; it is accept, drop or reject, by a word table")


_READERS: dict[str, Callable[[str], object]] = {
    **dict.fromkeys(_ADDRESSES, _address),
    **dict.fromkeys(_PORTS, _port),
    "protocol": read_protocol,
    "verdict": _verdict,
}


def _strange(records: Sequence[LogRecord], devices: Sequence[Device]) -> Iterator[tuple[str, int]]:
    """Rules that records name by number, name or prefix, and that no device has."""
    rules = [rule for device in devices for base in device.rulebases for _, rule in base.rules()]
    known = {str(rule.number) for rule in rules} | {rule.name for rule in rules if rule.name}
    prefixes = {effect.prefix.strip() for rule in rules for effect in rule.effects if isinstance(effect, Log)}
    missing = Counter(one.rule for one in records if one.rule and one.rule not in known)
    missing += Counter(one.prefix for one in records if one.prefix and one.prefix.strip() not in prefixes | known)
    yield from missing.most_common()

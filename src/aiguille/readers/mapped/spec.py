"""The dialect language: what a `*.dialect.yaml` may say. Loading checks every key and type and names the line.

A dialect describes a make's export without code: how its text becomes a tree (`structure`), which places of the tree mean
what (`device`, `interfaces`, `zones`, `addresses`, `services`, `rulebases`, `management`, `logging`), what the make does where
the export is silent (`behaviour`), and which statements are left out for a stated reason (`ignore`).
"""

from __future__ import annotations

import difflib
import re
from functools import cache
from importlib import resources
from typing import Annotated, Any, Literal

import msgspec
import yaml
from msgspec import Meta, Struct, field

from aiguille.model import UsageError

Scalar = str | int | bool | float


class Value(Struct, forbid_unknown_fields=True, rename="kebab", frozen=True):
    """Where a value stands and how it is read.

    from: path to the statement, or ``@n`` for the n-th word of the statement at hand
    words: the word table that turns the make's words into ours
    missing: what the make does if the statement is not there; the value then counts as the make's default
    any: words that stand for "no restriction"
    never: words that stand for "never", infinity
    """

    source: str = field(name="from")
    words: str | None = None
    missing: Scalar | None = None
    any: tuple[str, ...] = ()
    never: tuple[str, ...] = ()
    negated_by: str | None = None


Where = str | Value


class Block(Struct, forbid_unknown_fields=True, frozen=True):
    """The marks that open and close a block or list."""

    opens: Annotated[str, Meta(min_length=1, max_length=1)]
    closes: Annotated[str, Meta(min_length=1, max_length=1)]


class TextStructure(Struct, forbid_unknown_fields=True, frozen=True):
    """How text becomes statements: one a line, unless a list or block goes on or a `separator` ends it earlier."""

    family: Literal["text"]
    block: Block
    comments: tuple[str, ...] = ()
    quotes: tuple[str, ...] = ('"',)
    list: Block | None = None
    separator: str = ""

    def marks(self) -> str:
        found = self.block.opens + self.block.closes + self.separator
        return found + (self.list.opens + self.list.closes if self.list else "")


class Recognise(Struct, forbid_unknown_fields=True, rename="kebab", frozen=True):
    """How an export of the make is known: an RE2 pattern found in one of the first twenty lines."""

    first_lines: str


class DeviceMap(Struct, forbid_unknown_fields=True, rename="kebab", frozen=True):
    name: Where | None = None
    firmware: Where | None = None
    taken_at: Where | None = None
    counters_since: Where | None = None


class InterfaceMap(Struct, forbid_unknown_fields=True, rename="kebab", frozen=True):
    at: str
    name: Where
    comment: Where | None = None
    addresses: Where | None = None
    zone: Where | None = None
    services: Where | None = None
    enabled: Where | None = None


class ZoneMap(Struct, forbid_unknown_fields=True, rename="kebab", frozen=True):
    at: str
    name: Where
    side: Where | None = None
    comment: Where | None = None


class AddressMap(Struct, forbid_unknown_fields=True, rename="kebab", frozen=True):
    """`members` are literals or names of other objects; `kind` says whether a group or a single object is described."""

    at: str
    name: Where
    members: Where
    comment: Where | None = None
    kind: Literal["single", "group"] = "single"


class ServiceMap(Struct, forbid_unknown_fields=True, rename="kebab", frozen=True):
    at: str
    name: Where
    protocol: Where | None = None
    destination_ports: Where | None = None
    source_ports: Where | None = None
    icmp: Where | None = None
    members: Where | None = None
    comment: Where | None = None


class RuleMap(Struct, forbid_unknown_fields=True, rename="kebab", frozen=True):
    """The fields of a rule, relative to its statement."""

    action: Where
    name: Where | None = None
    comment: Where | None = None
    enabled: Where | None = None
    in_zone: Where | None = None
    out_zone: Where | None = None
    source: Where | None = None
    destination: Where | None = None
    service: Where | None = None
    logged: Where | None = None
    hits: Where | None = None
    schedule: Where | None = None
    requester: Where | None = None
    ticket: Where | None = None
    expires: Where | None = None


class Unmatched(Struct, forbid_unknown_fields=True, rename="kebab", frozen=True):
    """What happens to packets no rule matches, and whether that is logged."""

    action: Where
    logged: Where | None = None


class RulebaseMap(Struct, forbid_unknown_fields=True, rename="kebab", frozen=True):
    """One ordered list of rules between zones; first match decides."""

    name: str
    direction: Literal["to-device", "through-device", "from-device"]
    at: str
    rule: RuleMap
    unmatched: Unmatched


class ServiceEntry(Struct, forbid_unknown_fields=True, rename="kebab", frozen=True):
    """A way of managing the device. `ports` may be left to the make's default by `missing` or a word table."""

    at: str
    name: Where
    ports: Where
    enabled: Where | None = None


class KnownService(Struct, forbid_unknown_fields=True, rename="kebab", frozen=True):
    """What a service of this name is: its protocol, its usual port, and whether it is readable on the wire."""

    protocol: str
    port: int | None = None
    icmp: str | None = None
    cleartext: bool = False
    managing: bool = True


class AccountMap(Struct, forbid_unknown_fields=True, rename="kebab", frozen=True):
    at: str
    name: Where
    role: Where | None = None
    sources: Where | None = None
    enabled: Where | None = None


class Management(Struct, forbid_unknown_fields=True, rename="kebab", frozen=True):
    known: dict[str, KnownService] = {}
    services: ServiceEntry | None = None
    accounts: AccountMap | None = None
    lockout_attempts: Where | None = None
    lockout_seconds: Where | None = None
    idle_minutes: Where | None = None


class LoggingMap(Struct, forbid_unknown_fields=True, rename="kebab", frozen=True):
    device_days: Where | None = None
    collectors: Where | None = None


class ToDevice(Struct, forbid_unknown_fields=True, rename="kebab", frozen=True):
    """How the make guards its own services: those an interface names answer on it, to the sources accounts allow."""

    action: Literal["accept", "drop", "reject"]
    services_on_interfaces: bool = False
    sources_from_accounts: bool = False
    logged: Where | None = None


class Behaviour(Struct, forbid_unknown_fields=True, rename="kebab", frozen=True):
    to_device: ToDevice | None = None
    from_device: Literal["accept", "drop", "reject"] | None = None


class Ignore(Struct, forbid_unknown_fields=True, rename="kebab", frozen=True):
    at: str
    why: str


class Dialect(Struct, forbid_unknown_fields=True, rename="kebab", frozen=True):
    """A whole dialect file."""

    dialect: Annotated[str, Meta(pattern=r"^[a-z][a-z0-9-]*$")]
    make: str
    language: Literal[1]
    recognise: Recognise
    structure: TextStructure
    words: dict[str, dict[str, Scalar]] = {}
    device: DeviceMap = DeviceMap()
    interfaces: InterfaceMap | None = None
    zones: ZoneMap | None = None
    addresses: tuple[AddressMap, ...] = ()
    services: tuple[ServiceMap, ...] = ()
    rulebases: tuple[RulebaseMap, ...] = ()
    management: Management = Management()
    logging: LoggingMap = LoggingMap()
    behaviour: Behaviour = Behaviour()
    secrets: tuple[str, ...] = ()
    ignore: tuple[Ignore, ...] = ()


def load(name: str, text: str) -> Dialect:
    """Read a dialect file; raises UsageError with file, line and the nearest valid key."""
    try:
        root = yaml.compose(text, Loader=yaml.CSafeLoader)
        data = yaml.load(text, Loader=yaml.CSafeLoader)
    except yaml.YAMLError as error:
        mark = getattr(error, "problem_mark", None)
        line = mark.line + 1 if mark else 1
        raise UsageError(f"{name}:{line}: this is not valid YAML: {getattr(error, 'problem', error)}") from error
    if not isinstance(data, dict):
        raise UsageError(f"{name}:1: a dialect file is a table of keys, such as 'dialect: my-make'")
    try:
        dialect = msgspec.convert(data, Dialect)
    except msgspec.ValidationError as error:
        raise UsageError(_explain(name, root, str(error))) from error
    _check_tables(name, root, dialect, data)
    return dialect


@cache
def shipped() -> tuple[Dialect, ...]:
    """The dialects that come with the package, by name."""
    folder = resources.files("aiguille.dialects")
    files = sorted((f for f in folder.iterdir() if f.name.endswith(".dialect.yaml")), key=lambda f: f.name)
    return tuple(load(f.name, f.read_text(encoding="utf-8")) for f in files)


_STEP = re.compile(r"\.([A-Za-z0-9_-]+)|\[(\d+)\]|\[\.\.\.\]")


def _explain(name: str, root: yaml.Node | None, message: str) -> str:
    """A message of msgspec as a sentence with the line it is about."""
    text, _, path = message.partition(" - at `")
    steps = _STEP.findall(path.rstrip("`"))
    unknown = re.search(r"unknown field `([^`]+)`", text)
    node = _descend(root, steps)
    if unknown:
        key = unknown[1]
        near = difflib.get_close_matches(key, _known_keys(), n=1)
        hint = f"; did you mean '{near[0]}'?" if near else ""
        return f"{name}:{_line(_key_node(node, key) or node)}: '{key}' is not a key of the dialect language here{hint}"
    where = "".join(f"/{a or b}" for a, b in steps).lstrip("/")
    hint = "; YAML takes yes, no, on and off for truth values unless they stand in quotes" if "`bool`" in text else ""
    return f"{name}:{_line(node)}: {where or 'the file'}: {text[0].lower()}{text[1:]}{hint}"


def _descend(node: yaml.Node | None, steps: list[tuple[str, str]]) -> yaml.Node | None:
    for key, index in steps:
        below: yaml.Node | None = None
        if key and isinstance(node, yaml.MappingNode):
            below = next((v for k, v in node.value if k.value == key), None)
        elif index and isinstance(node, yaml.SequenceNode):
            below = node.value[int(index)]
        if below is None:
            return node
        node = below
    return node


def _key_node(node: yaml.Node | None, key: str) -> yaml.Node | None:
    if isinstance(node, yaml.MappingNode):
        return next((k for k, _ in node.value if k.value == key), None)
    return None


def _line(node: yaml.Node | None) -> int:
    return node.start_mark.line + 1 if node is not None else 1


@cache
def _known_keys() -> tuple[str, ...]:
    structs = [s for s in globals().values() if isinstance(s, type) and issubclass(s, Struct) and s is not Struct]
    return tuple(sorted({f.encode_name for s in structs for f in msgspec.structs.fields(s)}))


def _check_tables(name: str, root: yaml.Node | None, dialect: Dialect, data: dict[str, Any]) -> None:
    """Every word table that is named must exist."""

    def visit(value: Any, node: yaml.Node | None) -> None:
        if isinstance(value, dict):
            table = value.get("words")
            if "from" in value and isinstance(table, str) and table not in dialect.words:
                near = difflib.get_close_matches(table, dialect.words, n=1)
                hint = f"; did you mean '{near[0]}'?" if near else ""
                raise UsageError(f"{name}:{_line(node)}: there is no word table '{table}'{hint}")
            for key, below in value.items():
                visit(below, _descend(node, [(str(key), "")]))
        elif isinstance(value, list):
            for index, below in enumerate(value):
                visit(below, _descend(node, [("", str(index))]))

    visit(data, root)

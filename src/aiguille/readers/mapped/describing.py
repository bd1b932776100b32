"""What a dialect reads and takes for granted, told in words."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from aiguille.readers.keys import key_docs
from aiguille.readers.mapped.spec import (
    Dialect,
    JsonStructure,
    RulebaseMap,
    SheetStructure,
    Structure,
    TextStructure,
    Value,
    XmlStructure,
    YamlStructure,
    field_kinds,
    fields_of,
)

_PARTS = (
    "device", "interfaces", "zones", "addresses", "services", "schedules", "rulebases", "management", "portal", "geo", "logging",
)  # fmt: skip


class Described(Struct, frozen=True):
    """A mapped field: the part of the model, its key, where it stands, and what its key means."""

    part: str
    key: str
    place: str
    means: str


class Description(Struct, frozen=True):
    """A dialect in words.

    assumes: what it takes for granted where an export is silent, as key and value
    built_in: rules the make has by itself; behaviour: what it does with packets, a sentence each
    """

    name: str
    make: str
    about: str
    family: str
    recognised: str
    reads: tuple[Described, ...]
    assumes: tuple[tuple[str, str], ...]
    built_in: tuple[str, ...]
    behaviour: tuple[str, ...]
    ignored: tuple[tuple[str, str], ...]
    secrets: tuple[str, ...]
    examples: tuple[str, ...]


def describe(dialect: Dialect) -> Description:
    """Tell a dialect in words."""
    reads: list[Described] = []
    assumes: list[tuple[str, str]] = []
    built_in: list[str] = []
    for part in _PARTS:
        for key, at, value, means in _places(getattr(dialect, part), ""):
            full = f"{part}/{key}" if key else part
            if isinstance(value, Value) and value.constant is not None:
                if key.endswith("rule/name"):
                    built_in.append(str(value.constant))
                continue
            reads.append(Described(part, key, _spelt(at, value), means))
            if isinstance(value, Value) and value.missing is not None:
                assumes.append((full, _word(value.missing)))
    return Description(
        name=dialect.dialect,
        make=dialect.make,
        about=dialect.about,
        family=family_of(dialect.structure),
        recognised=_recognised(dialect),
        reads=tuple(reads),
        assumes=tuple(dict.fromkeys(assumes)),
        built_in=tuple(dict.fromkeys(built_in)),
        behaviour=tuple(_behaviour(dialect)),
        ignored=tuple((one.at, one.why) for one in dialect.ignore),
        secrets=dialect.secrets,
        examples=tuple(one.name for one in dialect.examples),
    )


def family_of(structure: Structure) -> str:
    """The family of a structure in a few words."""
    match structure:
        case TextStructure():
            traits = [
                name
                for name, there in (
                    ("blocks in marks", structure.block),
                    ("indentation", structure.indentation),
                    ("phrases", structure.phrases),
                    ("headings", structure.headings),
                    ("key and value", structure.pairs),
                    ("sentences", structure.sentences),
                )
                if there
            ]
            return "text" + (f" ({', '.join(traits)})" if traits else "")
        case JsonStructure():
            return "JSON"
        case YamlStructure():
            return "YAML"
        case XmlStructure():
            return "XML"
        case SheetStructure():
            return "sheet"
        case _:
            return "INI"


def _places(given: object, prefix: str, at: str = "") -> Iterator[tuple[str, str, str | Value, str]]:
    """Every mapped place below a part: its key, the statement it starts from, the place, and what its key means."""
    if isinstance(given, tuple):
        for one in given:
            name = one.name if isinstance(one, RulebaseMap) else ""
            yield from _places(one, f"{prefix}{name}/" if name else prefix, at)
        return
    if not isinstance(given, Struct):
        return
    own = getattr(given, "at", None) or at
    at = own if isinstance(own, str) else " or ".join(own)
    docs, kinds = key_docs(type(given)), field_kinds(type(given))
    for field in fields_of(type(given)):
        value = getattr(given, field.name)
        key = f"{prefix}{field.encode_name}"
        if isinstance(value, Value) or (isinstance(value, str) and kinds.get(field.name) == "place"):
            yield key, at, value, docs.get(field.encode_name, "")
        elif isinstance(value, Struct | tuple):
            # The lists of a rule base are told together.
            yield from _places(value, prefix if field.encode_name == "lists" else f"{key}/", at)


def _from(at: str, path: str) -> str:
    """A path from the top, where it starts from a statement."""
    if not at or at == "." or path.startswith(("/", "^")):
        return path
    return f"{at}{path}" if path.startswith("@") else f"{at}/{path}"


def _spelt(at: str, value: str | Value) -> str:
    if isinstance(value, str):
        return _from(at, value)
    if value.join:
        return f" {value.between} ".join(_from(at, path) for path in value.join)
    sources = (value.source,) if isinstance(value.source, str) else value.source or ()
    return " or ".join(_from(at, path) for path in sources)


def _word(value: object) -> str:
    return {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)


def _recognised(dialect: Dialect) -> str:
    described = dialect.recognise
    if described.first_lines:
        return f"one of the first lines fits '{described.first_lines}'"
    return f"a row of headings holds {', '.join(described.columns)}"


def _behaviour(dialect: Dialect) -> Iterator[str]:
    b = dialect.behaviour
    for m in dialect.rulebases:
        for name, described in [(m.name, m.unmatched), *((f"{m.name}, chain {c.name}", c.unmatched) for c in m.chains)]:
            if described is None:
                continue
            value = described.action if isinstance(described.action, Value) else Value(described.action)
            does = value.constant if value.constant is not None else value.missing
            if does is not None:
                silent = "" if value.constant is not None else ", where the export does not say"
                yield f"{name}: what no rule matches is handled by {does}{silent}"
        if m.decides == "last":
            yield f"{m.name}: the last rule that matches decides"
    if b.to_device is not None:
        yield f"to the device: {b.to_device.action}, but for its own services"
        if b.to_device.services_on_interfaces:
            yield "services answer on the interfaces that name them"
        if b.to_device.sources_from_accounts:
            yield "and only to addresses from which some account may log in"
    if b.from_device is not None:
        yield f"what the device sends itself: {b.from_device}"
    if b.services_keep_sources:
        yield "services refuse addresses outside their own list, whatever the rules say"
    if b.well_known_services:
        yield "rules may name services by their well-known names"
    if b.labelled_addresses:
        yield "an address may stand beside a name for it"
    if b.sides_as_addresses:
        yield "a word for a side (internet, lan, dmz, guests) where an address would stand means the zone of that name"
    if dialect.devices is not None:
        yield f"each of '{dialect.devices.at}' is a device"
        if dialect.devices.template is not None:
            yield f"a device falls back on its '{dialect.devices.template}' for what it does not say"

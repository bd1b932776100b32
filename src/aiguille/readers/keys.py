"""What the files a user writes may hold, out of the tables they are read into: the meaning of each key, and a schema for editors."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Any

import msgspec
from msgspec import Struct


def schema_of(file: type[Struct], tables: Iterable[type[Struct]], title: str) -> dict[str, Any]:
    """The JSON Schema (2020-12) of a file, described by the docstrings of its tables."""
    made = msgspec.json.schema(file)
    for kind in tables:
        described = made["$defs"].get(kind.__name__)
        if described is not None:
            docs = key_docs(kind)
            described["description"] = (kind.__doc__ or "").partition("\n\n")[0]
            for key, prop in described.get("properties", {}).items():
                if key in docs:
                    prop["description"] = docs[key]
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": title, **made}


def key_docs(kind: type[Struct]) -> dict[str, str]:
    """What a table's docstring says of each key."""
    out: dict[str, str] = {}
    key = ""
    for line in (kind.__doc__ or "").partition("\n\n")[2].splitlines():
        found = re.fullmatch(r"    ([a-z][a-z_-]*): (.*)", line)
        if found:
            key = found[1]
            out[key] = found[2]
        elif key and line.startswith("        "):
            out[key] += " " + line.strip()
    return out

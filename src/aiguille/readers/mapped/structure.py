"""From the files of an export to a tree, by the family a dialect names."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import assert_never

from aiguille.readers.files import ExportFile
from aiguille.readers.mapped import markup, sectioned, sheet, text
from aiguille.readers.mapped.spec import (
    IniStructure,
    JsonStructure,
    SheetStructure,
    Structure,
    TextStructure,
    XmlStructure,
    YamlStructure,
)
from aiguille.readers.mapped.tree import Asides, Tree

_JSON_IDLE = re.compile(r'(?:[\s,\[\]{}]|"(?:[^"\\]|\\.)*"\s*:)*')
_YAML_IDLE = re.compile(r"\s*(?:#.*|---.*|\.\.\.|(?:-\s+)*[^\s#].*:(?:\s+#.*)?)\s*")


def parse(files: Sequence[ExportFile], structure: Structure) -> Tree:
    """The tree of an export. Errors as for the parser of each family: UnreadableError with file and line."""
    asides = Asides([])
    file = files[0]
    match structure:
        case TextStructure():
            marks = re.escape(structure.marks())
            idle = re.compile(rf"[\s{marks}]*") if marks else None
            return Tree(text.parse(file, structure, asides), asides, idle)
        case IniStructure():
            return Tree(sectioned.parse(file, structure, asides), asides)
        case JsonStructure():
            from aiguille.readers.mapped import jsontext  # which needs NumPy

            return Tree(jsontext.parse(file, asides), asides, _JSON_IDLE)
        case YamlStructure():
            return Tree(markup.parse_yaml(file), asides, _YAML_IDLE)
        case XmlStructure():
            return Tree(markup.parse_xml(file, asides), asides)
        case SheetStructure():
            return Tree(sheet.parse(files, structure, asides), asides)
        case _:
            assert_never(structure)

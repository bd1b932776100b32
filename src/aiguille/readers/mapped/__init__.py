"""The engine behind dialect files: exports of makes that are described as data."""

from aiguille.readers.mapped.build import Reading, examine, read, recognise
from aiguille.readers.mapped.loading import key_docs, load, schema, shipped, shipped_files, tables
from aiguille.readers.mapped.spec import Dialect

__all__ = [
    "Dialect",
    "Reading",
    "examine",
    "key_docs",
    "load",
    "read",
    "recognise",
    "schema",
    "shipped",
    "shipped_files",
    "tables",
]

"""The engine behind dialect files: exports of makes that are described as data."""

from aiguille.readers.keys import key_docs
from aiguille.readers.mapped.build import Reading, examine, read, recognise
from aiguille.readers.mapped.describing import Description, describe, family_of
from aiguille.readers.mapped.loading import load, schema, shipped, shipped_files, tables
from aiguille.readers.mapped.logs import LogRecord, LogTrial
from aiguille.readers.mapped.outline import Outline, Twig, outline
from aiguille.readers.mapped.spec import Dialect
from aiguille.readers.mapped.trial import Coverage, Trial, Tried, parts_of, try_out

__all__ = [
    "Coverage",
    "Description",
    "Dialect",
    "LogRecord",
    "LogTrial",
    "Outline",
    "Reading",
    "Trial",
    "Tried",
    "Twig",
    "describe",
    "examine",
    "family_of",
    "key_docs",
    "load",
    "outline",
    "parts_of",
    "read",
    "recognise",
    "schema",
    "shipped",
    "shipped_files",
    "tables",
    "try_out",
]

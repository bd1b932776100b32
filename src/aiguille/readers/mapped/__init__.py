"""The engine behind dialect files: exports of makes that are described as data."""

from aiguille.readers.mapped.build import read, recognise
from aiguille.readers.mapped.spec import Dialect, load, shipped

__all__ = ["Dialect", "load", "read", "recognise", "shipped"]

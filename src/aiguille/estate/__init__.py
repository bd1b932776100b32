"""From paths to an estate."""

from aiguille.estate.reading import read

__all__ = ["read"]

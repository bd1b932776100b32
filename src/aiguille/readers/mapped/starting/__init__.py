"""A first dialect file out of a sample: structure and mappings guessed by content, for a person to check and go on from."""

from aiguille.readers.mapped.starting.writing import Start, start

__all__ = ["Start", "start"]

"""Patterns that people write into dialects and baselines: RE2, so that none takes long; errors in words, and nowhere else."""

from __future__ import annotations

from functools import cache

import re2

from aiguille.model.errors import UsageError

_QUIET = re2.Options()
_QUIET.log_errors = False


@cache
def pattern(text: str) -> re2._Regexp:
    """A pattern ready for use; raises UsageError with what is wrong with it."""
    try:
        return re2.compile(text, _QUIET)
    except re2.error as error:
        why = error.args[0] if error.args else error
        said = why.decode(errors="replace") if isinstance(why, bytes) else why
        raise UsageError(f"'{text}' is no RE2 pattern: {said}") from None

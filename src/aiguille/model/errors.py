"""The errors Aiguille raises on purpose: each is one sentence for the user and knows the exit code it means."""

from __future__ import annotations

from aiguille.model.spans import Span

EXIT_OK = 0
EXIT_FINDINGS = 1
EXIT_USAGE = 2
EXIT_UNREADABLE = 3


class AiguilleError(Exception):
    """Root of all errors meant for the user; `exit_code` is what the command ends with when it gets this far."""

    exit_code = EXIT_USAGE

    def __init__(self, message: str, where: Span | None = None) -> None:
        super().__init__(message)
        self.message = message
        self.where = where

    def __str__(self) -> str:
        return f"{self.where}: {self.message}" if self.where else self.message

    def __reduce__(self) -> tuple[type[AiguilleError], tuple[str, Span | None]]:
        return type(self), (self.message, self.where)


class UsageError(AiguilleError):
    """A wrong option, argument or configuration file (engagement, baseline, dialect)."""

    exit_code = EXIT_USAGE


class UnreadableError(AiguilleError):
    """An export that cannot be read; the others are still read."""

    exit_code = EXIT_UNREADABLE


class NotRecognisedError(UnreadableError):
    """A file of no format that is known; in a folder it may be something else altogether."""


class EmptyFileError(UnreadableError):
    """A file with nothing in it."""


class NotUnderstoodError(AiguilleError):
    """A part of an export that a reader does not understand; raised and caught inside readers, where it becomes a
    qualifier of the rule and an unread entry of the ledger."""

    exit_code = EXIT_UNREADABLE


class TooComplexError(AiguilleError):
    """A computation was given up at its stated bound rather than answered wrongly."""

    exit_code = EXIT_UNREADABLE

"""Errors of the use cases, each with the status that the web gives it.

MivloError (core)            400  a sentence for a musician
├── NotFound                 404
├── StaleRevision            409  somebody else changed the song meanwhile
├── NothingToUndo            409
└── NotReady                 503  a part of the application is not running
"""

from __future__ import annotations

from mivlo.core.errors import MivloError


class NotFound(MivloError):
    """The thing is not there (any more)."""

    def __init__(self, what: str, key: object) -> None:
        super().__init__(f"There is no {what} {key} here any more. Go back to the list and choose again.")


class StaleRevision(MivloError):
    """A change was made against an old state of the song."""

    def __init__(self, wanted: int, present: int) -> None:
        super().__init__(
            "The song was changed elsewhere meanwhile. The page now shows its present state; "
            "make your change again if it is still needed."
        )
        self.wanted, self.present = wanted, present


class NothingToUndo(MivloError):
    """The list of edits has no step in that direction."""


class NotReady(MivloError):
    """A part of the application is not there; the text says what to do."""

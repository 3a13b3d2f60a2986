"""Errors of the use cases, each with the status that the web gives it.

MivloError (core)            400  a sentence for a musician
├── NotFound                 404
├── AlreadyMade              200  a change that was sent again; the present state is the answer
├── StaleRevision            409  somebody else changed the same thing meanwhile
├── NothingToUndo            409
├── ChangedSince             409  an undo would take back somebody's later work
└── NotReady                 503  a part of the application is not running
"""

from __future__ import annotations

from mivlo.core.errors import MivloError


class NotFound(MivloError):
    """The thing is not there (any more)."""

    def __init__(self, what: str, key: object) -> None:
        super().__init__(f"There is no {what} {key} here any more. Go back to the list and choose again.")


class StaleRevision(MivloError):
    """A change was made against an old state."""

    def __init__(self, song_id: int, wanted: int, present: int) -> None:
        super().__init__(
            "This was changed elsewhere meanwhile. The page now shows its present state; "
            "make your change again if it is still needed."
        )
        self.song_id, self.wanted, self.present = song_id, wanted, present


class AlreadyMade(MivloError):
    """A change that was sent again had been made; only its answer was lost."""

    def __init__(self, song_id: int) -> None:
        super().__init__("This change was made already.")
        self.song_id = song_id


class NothingToUndo(MivloError):
    """The log has no step in that direction."""


class ChangedSince(MivloError):
    """What would be undone was changed again by a later step."""

    def __init__(self, label: str, later: str) -> None:
        super().__init__(
            f"“{label}” can't be taken back or done again by itself: “{later}” has changed the same since. Take that "
            "back first, or go to a point of the history."
        )
        self.later = later


class NotReady(MivloError):
    """A part of the application is not there; the text says what to do."""

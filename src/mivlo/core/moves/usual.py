"""What most kinds of moves answer, where a kind says nothing else."""

from __future__ import annotations


class Usual:
    """A move that listens to nobody, gathers with its like, glides to any value, and of which every field counts."""

    __slots__ = ()

    @property
    def absent(self) -> tuple[str, ...]:
        """Fields that mean nothing with its present values: none."""
        return ()

    @property
    def implied(self) -> tuple[str, ...]:
        """Fields that only say what goes without saying: none."""
        return ()

    @property
    def needed(self) -> tuple[str, ...]:
        """Fields that a document must give, though the type has a default: none."""
        return ()

    @property
    def listens_to(self) -> tuple[int, ...]:
        """Strips whose sound it needs beside its own: none."""
        return ()

    @property
    def gathers(self) -> bool:
        """Whether one processor does several of its kind at once: yes."""
        return True

    @property
    def structure(self) -> tuple[object, ...]:
        """What can't glide to another value while it sounds: nothing."""
        return ()

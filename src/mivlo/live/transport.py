"""Where in the song the playhead is, and where it goes next. No sound, no clock: rules only.

With loop on, the passage (or the whole song) repeats from the moment its end is reached; its period is exactly its
length. Its last LOOP_FADE_S are a blend into what lies before its start; once begun, the turn is carried out.
Behind the passage, and with loop off, the song plays to its end and stops.
"""

from __future__ import annotations

from dataclasses import dataclass

from mivlo.core.errors import InvalidValue
from mivlo.live.modes import Passage

LOOP_FADE_S = 0.005
SHORTEST_PASSAGE_S = 0.02


@dataclass(frozen=True, slots=True)
class Piece:
    """Frames of the song that are played in a row.

    turn : the passage at whose end they lie, if they are blended into what lies before its start.
    """

    start: int
    stop: int
    turn: Passage | None = None

    @property
    def count(self) -> int:
        return self.stop - self.start


class Transport:
    """The playhead of one listener.

    Parameters
    ----------
    sample_rate : Hz.
    end : frames of the song.
    """

    def __init__(self, sample_rate: int, end: int) -> None:
        self.sample_rate = sample_rate
        self.end = end
        self.position = 0
        self.playing = False
        self.looping = True
        self.passage: Passage | None = None
        self.target: int | None = None
        """Where a seek goes once what is heard has faded out."""
        self._placed = False
        self._turning: Passage | None = None

    @property
    def fade(self) -> int:
        """Frames of the blend at a passage's end."""
        return max(1, round(LOOP_FADE_S * self.sample_rate))

    @property
    def shortest(self) -> int:
        """Frames that a passage has at least."""
        return max(2 * self.fade, round(SHORTEST_PASSAGE_S * self.sample_rate))

    @property
    def loop(self) -> Passage | None:
        """What repeats: the passage, or the whole song; None with loop off, or where that is too short."""
        if not self.looping:
            return None
        wanted = self.passage or Passage(0, self.end)
        stop = min(wanted.stop, self.end)
        return Passage(wanted.start, stop) if stop - wanted.start >= self.shortest else None

    # --- what is asked of it --------------------------------------------------------------------

    def play(self, *, resting: bool) -> None:
        """Play on from the playhead; from the passage's start if nobody put the playhead elsewhere."""
        if not self.end:
            return
        if resting:  # a turn that fell silent half-way is over
            self._turning = None
        passage = self.passage
        free = resting and self.looping and not self._placed and self.target is None
        if free and passage is not None and not passage.start <= self.position < passage.stop:
            self.jump(passage.start)
        self.playing = True

    def pause(self) -> None:
        self.playing = False

    def seek(self, frame: int, *, resting: bool) -> None:
        """Go elsewhere: at once while nothing is heard, else once what is heard has faded out. The last seek wins."""
        self._placed = True
        target = max(0, min(frame, max(0, self.end - 1)))
        if resting:
            self.jump(target)
        else:
            self.target = target

    def set_passage(self, passage: Passage | None) -> None:
        """What is looped; None is the whole song.

        Raises
        ------
        InvalidValue : it is shorter than 20 ms, or does not lie in the song.
        """
        if passage is not None:
            if passage.stop - passage.start < self.shortest:
                length = (passage.stop - passage.start) / self.sample_rate
                raise InvalidValue("passage", f"{length:.4f} s", "it must last 0.02 s at least")
            if passage.start < 0 or min(passage.stop, self.end) - passage.start < self.shortest:
                raise InvalidValue("passage", f"{passage.start / self.sample_rate:.3f} s", "it must lie in the song")
        self.passage = passage
        self._placed = False

    def jump(self, frame: int) -> None:
        """Be elsewhere."""
        self.position, self.target, self._turning = frame, None, None

    # --- going on -------------------------------------------------------------------------------

    def take(self, count: int) -> list[Piece]:
        """The next `count` frames; fewer where the song ends, which stops it and puts it back to its start."""
        out: list[Piece] = []
        while count > 0:
            if self.position >= self.end:
                if self.target is not None:  # it fades out here to go elsewhere: that counts
                    break
                self.playing = False
                self.jump(0)
                break
            piece = self._next(count)
            out.append(piece)
            count -= piece.count
            self.position = piece.stop
            if piece.turn is not None and piece.stop == piece.turn.stop:
                self.position, self._turning = piece.turn.start, None
        return out

    def _next(self, count: int) -> Piece:
        loop = self._turning or self.loop
        if loop is None or self.position >= loop.stop:
            return Piece(self.position, min(self.position + count, self.end))
        blend = loop.stop - self.fade
        if self.position < blend:
            return Piece(self.position, min(self.position + count, blend))
        self._turning = loop
        return Piece(self.position, min(self.position + count, loop.stop), loop)

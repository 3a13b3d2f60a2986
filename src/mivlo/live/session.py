"""One client's listening session: commands in, blocks and reports out.

All computing happens in the session's own thread; the event loop only passes messages on.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
import math
import time
from collections import deque
from collections.abc import Awaitable, Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
import orjson
from pydantic import ValidationError

from mivlo.core.errors import MivloError
from mivlo.core.moves import treatment_db
from mivlo.core.spectra import LongTermSpectrum, band_levels, log_grid
from mivlo.core.units import Floats
from mivlo.live import protocol as p
from mivlo.live.engine import BLOCK_FRAMES, Engine, EngineTrack
from mivlo.live.matching import match_of
from mivlo.live.modes import Passage
from mivlo.services.importing import library
from mivlo.services.state import SongState, read_song
from mivlo.store.database import session

log = logging.getLogger("mivlo.live")

AHEAD_S = 0.064
"""How far the server renders ahead of what the client says it has played."""
REPORT_EVERY_S = 1.0 / 30.0
SPECTRUM_WINDOW = 8192
SPECTRUM_POINTS_PER_OCTAVE = 24
MATCH_AFTER_S = 0.08

Send = Callable[[str | bytes], Awaitable[None]]
Out = list[str | bytes]


def engine_tracks(song: SongState) -> list[EngineTrack]:
    """The song's tracks with their working copies opened."""
    files = library()
    return [
        EngineTrack(
            id=track.id,
            samples=files.samples(track.audio_sha256, song.sample_rate),
            fader_db=track.fader_db,
            pan=track.pan,
            mute=track.mute,
            solo=track.solo,
            keys=tuple(str(move.id) for move in track.moves),
            moves=tuple(move.move() for move in track.moves),
        )
        for track in song.tracks
    ]


class LiveSession:
    """Drives an engine for one client.

    Parameters
    ----------
    song_id : what is listened to.
    send : passes a message down; called from the event loop only.
    """

    def __init__(self, song_id: int, send: Send) -> None:
        self.song_id = song_id
        self._send = send
        self._commands: deque[p.Message] = deque()
        self._wake = asyncio.Event()
        self._thread = ThreadPoolExecutor(1, thread_name_prefix=f"live-{song_id}")
        self._background = ThreadPoolExecutor(1, thread_name_prefix=f"match-{song_id}")
        self._engine: Engine
        self._grid = log_grid()
        self._spectrum_grid = log_grid(SPECTRUM_POINTS_PER_OCTAVE)
        self._seq = 0
        self._rendered = 0
        self._played = 0
        self._dropped = 0
        self._late = 0
        self._matching = True
        self._match_lu = 0.0
        self._match_due: float | None = None
        self._song_passage: Passage | None = None
        self._next_report = 0.0
        self._reload = False
        self._state_due = True
        self._curves_due = True
        self._recent: tuple[Floats, Floats] = (np.zeros((0, 1)), np.zeros((0, 1)))

    async def run(self) -> None:
        """Serve until cancelled."""
        loop = asyncio.get_running_loop()
        for message in await loop.run_in_executor(self._thread, self._open):
            await self._send(message)
        try:
            while True:
                with contextlib.suppress(TimeoutError):
                    await asyncio.wait_for(self._wake.wait(), 0.04)
                self._wake.clear()
                for message in await loop.run_in_executor(self._thread, self._step):
                    await self._send(message)
                if self._match_due is not None and time.monotonic() >= self._match_due:
                    self._match_due = None
                    loop.run_in_executor(self._background, self._measure_match)
        finally:
            self._thread.shutdown(wait=False, cancel_futures=True)
            self._background.shutdown(wait=False, cancel_futures=True)

    def receive(self, text: str) -> str | None:
        """Take a message from the client; an error to send back, or None."""
        try:
            self._commands.append(p.parse(text))
        except ValidationError as error:
            first = error.errors()[0]
            place = ".".join(str(part) for part in first["loc"])
            return _json({"type": "error", "message": f"message not understood: {place}: {first['msg']}"})
        self._wake.set()
        return None

    def song_changed(self) -> None:
        """The song was saved anew: take over its state before the next block."""
        self._reload = True
        self._wake.set()

    # --- in the session's thread ------------------------------------------------------------------

    def _open(self) -> Out:
        song = self._read()
        self._engine = Engine(song.sample_rate, engine_tracks(song))
        self._take_passage(song)
        return [
            _json(
                {
                    "type": "hello",
                    "protocol": p.VERSION,
                    "song_id": song.id,
                    "sample_rate": song.sample_rate,
                    "channels": 2,
                    "block_frames": BLOCK_FRAMES,
                    "ahead_s": AHEAD_S,
                    "grid_hz": np.round(self._grid, 4).tolist(),
                    "spectrum_hz": np.round(self._spectrum_grid, 4).tolist(),
                }
            )
        ]

    def _read(self) -> SongState:
        with session() as open_session:
            return read_song(open_session, self.song_id)

    def _take_passage(self, song: SongState) -> None:
        passage = None
        if song.passage_from_s is not None and song.passage_to_s is not None:
            passage = self._passage(song.passage_from_s, song.passage_to_s)
        if passage != self._song_passage:  # what a listener chose for itself outlives other news of the song
            self._song_passage = passage
            self._engine.set_passage(passage)
            self._match_soon()

    def _passage(self, from_s: float, to_s: float) -> Passage | None:
        rate, end = self._engine.sample_rate, self._engine.end
        start, stop = max(0, int(from_s * rate)), min(end, int(to_s * rate))
        return Passage(start, stop) if stop - start >= BLOCK_FRAMES else None

    def _match_soon(self) -> None:
        self._match_due = time.monotonic() + MATCH_AFTER_S

    def _step(self) -> Out:
        """Carry out what was asked, render as far ahead as is due, report."""
        out: Out = []
        if self._reload:
            self._reload = False
            self._refresh(out)
        while self._commands:
            self._carry_out(self._commands.popleft(), out)
        self._render(out)
        if self._curves_due:
            self._curves_due = False
            out.extend(self._curves())
        if self._state_due:
            self._state_due = False
            out.append(self._state())
        return out

    def _refresh(self, out: Out) -> None:
        try:
            song = self._read()
        except MivloError as gone:
            self._engine.pause()
            out.append(_json({"type": "error", "message": str(gone)}))
            return
        self._engine.set_tracks(engine_tracks(song))
        self._take_passage(song)
        self._curves_due = self._state_due = True
        self._match_soon()

    def _carry_out(self, message: p.Message, out: Out) -> None:
        self._seq = max(self._seq, message.seq)
        if isinstance(message, p.Played):
            self._played = message.frames
            self._dropped = message.dropped
            return
        try:
            self._change(message)
        except MivloError as refused:
            out.append(_json({"type": "error", "seq": message.seq, "message": str(refused)}))
        if not isinstance(message, p.SetProbe | p.SetMoves):
            self._state_due = True

    def _change(self, message: p.Message) -> None:
        engine = self._engine
        match message:
            case p.Play():
                engine.play()
            case p.Pause():
                engine.pause()
            case p.Seek(at_s=at_s):
                engine.seek(int(at_s * engine.sample_rate) if math.isfinite(at_s) else 0)
            case p.SetPassage(from_s=from_s, to_s=to_s):
                whole = from_s is None or to_s is None
                engine.set_passage(None if whole else self._passage(from_s or 0.0, to_s or 0.0))
                self._match_soon()
            case p.SetLoop(on=on):
                engine.looping = on
            case p.SetFocus(track_id=track_id):
                engine.set_focus(track_id)
                self._recent = (np.zeros((0, 1)), np.zeros((0, 1)))
                self._curves_due = True
                self._match_soon()
            case p.SetScope(scope=scope):
                engine.scope = scope
                self._match_soon()
            case p.SetSignal(signal=signal):
                engine.signal = signal
            case p.SetMatch(on=on):
                self._matching = on
                engine.match_db = self._match_lu if on else 0.0
            case p.SetProbe(probe=probe):
                engine.set_probe(probe.probe() if probe else None)
            case p.SetMoves(track_id=track_id, moves=moves):
                values = tuple(move.move() for move in moves)
                engine.set_moves(track_id, tuple(str(move.id) for move in moves), values)
                self._curves_due = True
                self._match_soon()
            case p.SetAudition(move_id=move_id):
                engine.set_audition(None if move_id is None else str(move_id))
                self._curves_due = True

    def _render(self, out: Out) -> None:
        engine = self._engine
        ahead = int(AHEAD_S * engine.sample_rate)
        while self._rendered - self._played < ahead:
            if engine.resting:
                break
            block = engine.render()
            out.append(p.sound(block, self._seq, self._rendered, engine.sample_rate))
            self._rendered += BLOCK_FRAMES
            self._remember()
            now = time.monotonic()
            if now >= self._next_report:
                self._next_report = now + REPORT_EVERY_S
                out.extend(self._reports(block.samples))
            if not engine.playing:
                self._state_due = True

    def _remember(self) -> None:
        """Keep the last window of the focused track for the live spectrum."""
        if self._engine.focus is None:
            return
        joined = []
        for kept, new in zip(self._recent, (self._engine.last_untreated, self._engine.last_treated), strict=True):
            if kept.shape[1:] != new.shape[1:]:
                kept = new[:0]
            joined.append(np.concatenate([kept, new])[-SPECTRUM_WINDOW:])
        self._recent = (joined[0], joined[1])

    def _reports(self, heard: np.ndarray) -> Out:
        peak = np.abs(heard).max(axis=0)
        power = np.mean(heard.astype(np.float64) ** 2, axis=0)
        report = {
            "type": "report",
            "position_s": round(self._engine.position / self._engine.sample_rate, 4),
            "peak_db": [_db(float(v)) for v in peak],
            "rms_db": [_db(math.sqrt(float(v))) for v in power],
            "tracks": {str(key): _db(value) for key, value in self._engine.peaks().items()},
            "dropped": self._dropped,
            "probe_held_back_db": round(self._engine.probe_held_back_db, 1),
            "limiter_db": round(self._engine.limiter.held_back_db, 1),
        }
        out: Out = [_json(report)]
        if len(self._recent[0]) >= SPECTRUM_WINDOW:
            before, after = (self._levels(x) for x in self._recent)
            out.append(p.spectrum(before, after))
        return out

    def _levels(self, x: Floats) -> Floats:
        spectrum = LongTermSpectrum(self._engine.sample_rate, x.shape[1], window_at_48k=SPECTRUM_WINDOW)
        padded = np.zeros((max(spectrum.length, len(x)), x.shape[1]))
        padded[-len(x) :] = x
        spectrum.add(padded[-spectrum.length :])
        return band_levels(spectrum.power(), spectrum.bin_hz, self._spectrum_grid, bands_per_octave=12)

    def _curves(self) -> Out:
        engine = self._engine
        track = next((track for track in engine.tracks if track.id == engine.focus), None)
        if track is None:
            return []
        rate = engine.sample_rate
        each = [treatment_db([move], self._grid, sample_rate=rate) for move in track.moves]
        total = treatment_db(engine.heard_moves(track), self._grid, sample_rate=rate)
        return [p.curves(self._seq, track.id, total, [int(key) for key in track.keys], each)]

    def _state(self) -> str:
        engine = self._engine
        passage, rate = engine.passage, engine.sample_rate
        return _json(
            {
                "type": "state",
                "seq": self._seq,
                "playing": engine.playing,
                "position_s": round(engine.position / rate, 4),
                "passage": [passage.start / rate, passage.stop / rate] if passage else None,
                "looping": engine.looping,
                "focus": engine.focus,
                "scope": str(engine.scope),
                "signal": str(engine.signal),
                "matching": self._matching,
                "match_lu": round(self._match_lu, 2),
                "audition": int(engine.audition) if engine.audition else None,
            }
        )

    # --- in the background thread -----------------------------------------------------------------

    def _measure_match(self) -> None:
        engine = self._engine
        passage = engine.passage or Passage(0, engine.end)
        try:
            if passage.stop > passage.start:
                match = match_of(engine.tracks, engine.focus, engine.scope, passage, engine.sample_rate)
                self._match_lu = match
                engine.match_db = match if self._matching else 0.0
        except Exception:
            log.exception("the level match could not be measured")
            return
        self._state_due = True


def _db(value: float) -> float:
    return round(20.0 * math.log10(value), 1) if value > 1e-6 else -120.0


def _json(value: dict[str, Any]) -> str:
    return orjson.dumps(value).decode()

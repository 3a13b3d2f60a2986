"""One client's listening session: commands in, blocks and reports out.

All computing happens in threads, one step of a session at a time; the event loop only passes messages on.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
import os
import time
from collections import deque
from collections.abc import Awaitable, Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

import numpy as np
import orjson

from mivlo.core.errors import MivloError
from mivlo.core.graph.streams import Samples
from mivlo.core.moves import DynamicMove, curve_db
from mivlo.core.spectra import log_grid
from mivlo.live import protocol as p
from mivlo.live.engine import BLOCK_FRAMES, Engine
from mivlo.live.matching import Compared, measure, measure_bypass
from mivlo.live.meters import LevelsMeter, SpectrumMeter, report
from mivlo.live.modes import Match, Passage
from mivlo.services.recordings.importing import song_sources
from mivlo.services.recordings.treated import known_treated, maker
from mivlo.services.song.state import SongState, read_song
from mivlo.store.database import session
from mivlo.store.outages import is_away

log = logging.getLogger("mivlo.live")

AHEAD_S = 0.064
"""How far the server renders ahead of what the client says it has played."""
REPORT_EVERY_S = 1.0 / 30.0
MATCH_AFTER_S = 0.08
MOST_WAITING = 512
"""Messages that may wait to be carried out; a client that sends more waits."""
READ_AGAIN_S = 1.0
"""When the song could not be read, it is tried again so much later; what is known of it plays on."""

_rendering = ThreadPoolExecutor(max(2, os.cpu_count() or 2), thread_name_prefix="listening")
"""Shared by all sessions: more threads than processors would only wait for each other. Nothing in it waits."""

_OF_THE_SONG = (p.SetFocus, p.SetCompanions, p.SetOnly, p.SetKey)
"""Messages that name strips and moves."""

Send = Callable[[str | bytes], Awaitable[None]]
Out = list[str | bytes]


@dataclass(frozen=True, slots=True)
class _Read:
    """A song as it was read, with its recordings and the treated sounds that are known."""

    song: SongState
    sources: dict[int, Samples]
    treated: dict[int, Samples]


_last_read: dict[int, _Read] = {}
"""Songs as they were last read, so that listening begins without the database, too."""
_MOST_KNOWN = 8


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
        self._waiting: deque[str | bytes] = deque()
        self._wake = asyncio.Event()
        self._room = asyncio.Event()
        self._background = ThreadPoolExecutor(1, thread_name_prefix=f"match-{song_id}")
        self._engine: Engine
        self._spectrum: SpectrumMeter
        self._grid = log_grid()
        self._seq = 0
        self._rendered = 0
        self._played = 0
        self._dropped = 0
        self._matching = True
        self._matched = (0.0, Match())
        self._measured: tuple[float, Match] | None = None
        self._match_due: float | None = None
        self._bypass_db = 0.0
        self._bypass_measured: float | None = None
        self._levels: LevelsMeter
        self._song_passage: Passage | None = None
        self._next_report = 0.0
        self._outdated = False
        self._reading: asyncio.Task[None] | None = None
        self._news: tuple[_Read | MivloError, int] | None = None
        self._ended = 0
        self._ending: dict[int, int] = {}
        """Previews that end with the next state of the song that is read after now, in the order they were ended."""
        self._later: dict[type[p.Message], p.Message] = {}
        """Messages, the last of each kind, that speak of what is not known yet."""
        self._state_due = True
        self._curves_due = True
        self._was_exact = True
        self._song: SongState
        self._made = maker.made

    async def run(self) -> None:
        """Serve until cancelled."""
        loop = asyncio.get_running_loop()
        read = await self._read_patiently()
        for message in await loop.run_in_executor(_rendering, self._open, read):
            await self._send(message)
        try:
            while True:
                with contextlib.suppress(TimeoutError):
                    await asyncio.wait_for(self._wake.wait(), 0.04)
                self._wake.clear()
                for message in await loop.run_in_executor(_rendering, self._step):
                    await self._send(message)
                self._room.set()
                if self._outdated and self._reading is None:
                    self._outdated = False
                    self._reading = asyncio.create_task(self._read_anew(self._ended))
                if self._match_due is not None and time.monotonic() >= self._match_due:
                    self._match_due = None
                    loop.run_in_executor(self._background, self._measure_match, self._compared(), self._engine.bypassed)
        finally:
            if self._reading is not None:
                self._reading.cancel()
            self._background.shutdown(wait=False, cancel_futures=True)

    async def _read_patiently(self) -> _Read:
        """The song. While the database is away: as it was last known here, else once it is back."""
        told = False
        while True:
            try:
                return await asyncio.to_thread(self._read)
            except Exception as error:
                if not is_away(error):
                    raise
            if self.song_id in _last_read:
                self._outdated = True
                return _last_read[self.song_id]
            if not told:
                told = True
                await self._send(_json({"type": "waiting", "message": "The database is away; waiting for it."}))
            await asyncio.sleep(READ_AGAIN_S)

    async def _read_anew(self, ended: int) -> None:
        """Read the song while it plays on; the next step takes it over and ends the first `ended` previews."""
        try:
            self._news = (await asyncio.to_thread(self._read), ended)
        except MivloError as gone:
            self._news = (gone, ended)
        except Exception:  # the database is away: what is known plays on
            log.exception("the song could not be read; it is tried again")
            await asyncio.sleep(READ_AGAIN_S)
            self._outdated = True
        self._reading = None
        self._wake.set()

    async def receive(self, message: str | bytes) -> None:
        """Take a message from the client; waits while too many are not carried out yet."""
        while len(self._waiting) >= MOST_WAITING:
            self._room.clear()
            await self._room.wait()
        self._waiting.append(message)
        self._wake.set()

    def song_changed(self) -> None:
        """The song was saved anew: take over its state before the next block."""
        self._outdated = True
        self._wake.set()

    # --- in a thread, one step at a time ----------------------------------------------------------

    def _open(self, read: _Read) -> Out:
        song = read.song
        self._engine = Engine(song.plan, read.sources, read.treated)
        self._spectrum = SpectrumMeter(song.sample_rate)
        self._levels = LevelsMeter(song.sample_rate)
        self._know(song)
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
                    "spectrum_hz": np.round(self._spectrum.grid_hz, 4).tolist(),
                }
            )
        ]

    def _read(self) -> _Read:
        """From the database and the store; may take long where working copies have to be made."""
        try:
            with session() as open_session:
                song = read_song(open_session, self.song_id)
        except MivloError:
            _last_read.pop(self.song_id, None)
            raise
        sources = song_sources(song, skip_missing=True)
        read = _Read(song, sources, known_treated(song, sources))
        _last_read[self.song_id] = read
        while len(_last_read) > _MOST_KNOWN:
            _last_read.pop(next(iter(_last_read)), None)
        return read

    def _take_passage(self, song: SongState) -> None:
        passage = None
        if song.passage_from_s is not None and song.passage_to_s is not None:
            passage = self._frames(song.passage_from_s, song.passage_to_s)
        if passage != self._song_passage:  # what a listener chose for itself outlives other news of the song
            self._song_passage = passage
            try:
                self._engine.set_passage(passage)
            except MivloError:  # behind the end, or too short to be looped
                self._engine.set_passage(None)
            self._match_soon()

    def _frames(self, from_s: float, to_s: float) -> Passage:
        rate, end = self._engine.sample_rate, self._engine.end
        return Passage(round(from_s * rate), min(end, round(to_s * rate)))

    def _match_soon(self) -> None:
        self._match_due = time.monotonic() + MATCH_AFTER_S

    def _step(self) -> Out:
        """Carry out what was asked, render as far ahead as is due, report."""
        out: Out = []
        if self._news is not None:
            news, self._news = self._news, None
            self._take_news(*news, out)
        if maker.made != self._made:
            self._made = maker.made
            self._engine.set_treated(known_treated(self._song, self._engine.sources))
        if self._measured is not None:
            self._take_match(self._measured)
            self._measured = None
        if self._bypass_measured is not None:
            self._bypass_db, self._bypass_measured = self._bypass_measured, None
            self._follow_bypass(self._engine.bypassed)
        for message in self._understood(out):
            self._carry_out(message, out)
        self._render(out)
        if self._curves_due:
            self._curves_due = False
            out.extend(self._curves())
        if self._engine.exact != self._was_exact:
            self._was_exact, self._state_due = self._engine.exact, True
        if self._state_due:
            self._state_due = False
            out.append(self._state())
        return out

    def _take_news(self, news: _Read | MivloError, ended: int, out: Out) -> None:
        if isinstance(news, MivloError):
            self._engine.pause()
            self._later.clear()
            out.append(_error(str(news)))
            return
        self._engine.set_song(news.song.plan, news.sources, news.treated)
        self._know(news.song)
        for strip_id in [i for i, number in self._ending.items() if number <= ended]:
            del self._ending[strip_id]
            if strip_id in news.song.plan.strips:
                self._engine.set_preview(strip_id, None)
        self._curves_due = self._state_due = True
        self._match_soon()
        if not self._outdated:  # else what is read next may know more
            for message in list(self._later.values()):
                self._carry_out(message, out, again=True)

    def _know(self, song: SongState) -> None:
        self._song = song
        maker.want(song)
        self._take_passage(song)

    def _understood(self, out: Out) -> list[p.Message]:
        """The messages that wait; of values that follow each other at once, the last."""
        messages: list[p.Message] = []
        while self._waiting:
            raw = self._waiting.popleft()
            try:
                if isinstance(raw, bytes):
                    raise p.NotUnderstood("it is binary; send JSON text")
                message = p.parse(raw)
            except p.NotUnderstood as refused:
                out.append(_error(str(refused), refused.seq))
                continue
            if messages and _same_value(messages[-1], message):
                message.seq = max(message.seq, messages[-1].seq)
                messages[-1] = message
            else:
                messages.append(message)
        return messages

    def _carry_out(self, message: p.Message, out: Out, *, again: bool = False) -> None:
        self._later.pop(type(message), None)  # a newer one takes its place
        try:
            if isinstance(message, p.Played):
                self._take_played(message)
                return
            self._change(message)
        except MivloError as refused:
            if isinstance(message, _OF_THE_SONG) and not again:
                # it may speak of what was saved a moment ago, and the news is still on its way
                self._later[type(message)] = message
                self._outdated = True
                return
            out.append(_error(str(refused), message.seq))
            return
        except Exception:  # a fault of ours: it must not end the session
            log.exception("a message could not be carried out: %s", type(message).__name__)
            out.append(_error("Something went wrong inside; nothing was changed.", message.seq))
            return
        self._seq = max(self._seq, message.seq)
        if not isinstance(message, p.SetProbe | p.SetMoves):
            self._state_due = True

    def _take_played(self, message: p.Played) -> None:
        if message.frames > self._rendered:
            raise MivloError(f"{message.frames} frames can't have been played: {self._rendered} were sent.")
        self._played = max(self._played, message.frames)
        self._dropped = message.dropped

    def _change(self, message: p.Message) -> None:
        engine = self._engine
        match message:
            case p.Play():
                engine.play()
            case p.Pause():
                engine.pause()
            case p.Seek(at_s=at_s):
                engine.seek(round(at_s * engine.sample_rate))
            case p.SetPassage(from_s=from_s, to_s=to_s):
                whole = from_s is None or to_s is None
                engine.set_passage(None if whole else self._frames(from_s or 0.0, to_s or 0.0))
                self._match_soon()
            case p.SetLoop(on=on):
                engine.set_loop(on)
            case p.SetFocus(track_id=track_id):
                engine.set_focus(track_id)
                self._spectrum.forget()
                self._levels.forget()
                self._curves_due = True
                self._match_soon()
            case p.SetScope(scope=scope, placed=placed):
                engine.set_scope(scope, placed=placed)
                self._match_soon()
            case p.SetCompanions(track_ids=track_ids):
                engine.set_companions(frozenset(track_ids))
            case p.SetSignal(signal=signal):
                engine.set_signal(signal)
            case p.SetMatch(on=on):
                self._matching = on
                engine.set_match(self._matched[1] if on else Match())
                self._follow_bypass(engine.bypassed)
            case p.SetBypass(on=on):
                self._follow_bypass(on)
                self._match_soon()
            case p.SetMonitor(mono=mono, dim=dim):
                engine.monitor.set(mono=mono, dim=dim)
            case p.SetProbe(probe=probe):
                engine.set_probe(probe)
            case p.SetMoves(track_id=track_id):
                engine.strip(track_id)
                if message.moves is None:  # heard until what was saved before is read: without a step back
                    self._ended += 1
                    self._ending[track_id] = self._ended
                    self._outdated = True
                    return
                self._ending.pop(track_id, None)
                engine.set_preview(track_id, message.entries())
                self._curves_due = True
                self._match_soon()
            case p.SetOnly(move_ids=move_ids):
                engine.set_only(frozenset(move_ids or ()))
                self._curves_due = True
                self._match_soon()
            case p.SetKey(move_id=move_id):
                engine.set_key_of(move_id)

    def _render(self, out: Out) -> None:
        engine = self._engine
        ahead = int(AHEAD_S * engine.sample_rate)
        while self._rendered - self._played < ahead and not engine.resting:
            block = engine.render()
            out.append(p.sound(block, self._seq, self._rendered, engine.sample_rate))
            self._rendered += BLOCK_FRAMES
            if engine.focus is not None:
                self._spectrum.add(engine.last_untreated, engine.last_treated)
                self._levels.add(engine.last_untreated, engine.last_treated)
            now = time.monotonic()
            if now >= self._next_report:
                self._next_report = now + REPORT_EVERY_S
                out.append(_json(report(engine, block.samples, self._dropped, self._levels)))
                if self._spectrum.full:
                    out.append(p.spectrum(*self._spectrum.levels()))
            if not engine.playing:
                self._state_due = True

    def _curves(self) -> Out:
        engine = self._engine
        if engine.focus is None:
            return []
        rate = engine.sample_rate
        entries = engine.strip(engine.focus).treatment.entries
        each = [curve_db(entry.move, self._grid, sample_rate=rate) for entry in entries]
        total = sum((db for e, db in zip(entries, each, strict=True) if e.enabled), np.zeros(len(self._grid)))
        ids = [entry.id for entry in entries]
        for entry in entries:  # how far a dynamic move can go, under its number and REACH
            if isinstance(entry.move, DynamicMove):
                far = entry.move.at_gain(entry.move.gain_db + entry.move.range_db)
                ids.append(entry.id | p.REACH)
                each.append(curve_db(far, self._grid, sample_rate=rate))
        return [p.curves(self._seq, engine.focus, total, ids, each)]

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
                "looping": engine.transport.looping,
                "focus": engine.focus,
                "scope": str(engine.scope),
                "placed": engine.placed,
                "companions": sorted(engine.companions),
                "signal": str(engine.signal),
                "matching": self._matching,
                "match_lu": round(self._matched[0], 2),
                "removed_db": round(self._matched[1].removed_db, 1),
                "turned_down": "untreated" if self._matched[1].untreated_db else "treated",
                "only": sorted(engine.only),
                "key_of": engine.key_of,
                "bypassed": engine.bypassed,
                "bypass_db": round(self._bypass_db, 1),
                "mono": engine.monitor.mono,
                "dim": engine.monitor.dim,
                "exact": engine.exact,
                "delay_ms": round(1000 * engine.latency_s, 1),
            }
        )

    # --- the level match --------------------------------------------------------------------------

    def _compared(self) -> Compared:
        engine = self._engine
        passage = engine.passage or Passage(0, engine.end)
        plan = engine.treated_plan
        return Compared(plan, engine.sources, engine.known, engine.focus, engine.scope, engine.placed, passage)

    def _follow_bypass(self, on: bool) -> None:
        self._engine.set_bypass(on, gain_db=self._bypass_db if self._matching else 0.0)
        self._state_due = True

    def _measure_match(self, compared: Compared, bypassed: bool) -> None:
        """In the background thread; the session's takes it over."""
        try:
            if compared.passage.stop <= compared.passage.start:
                return
            if bypassed:
                self._bypass_measured = measure_bypass(compared)
            self._measured = measure(compared)
        except Exception:
            log.exception("the level match could not be measured")

    def _take_match(self, measured: tuple[float, Match]) -> None:
        self._matched = measured
        self._engine.set_match(measured[1] if self._matching else Match())
        self._state_due = True


def _same_value(one: p.Message, other: p.Message) -> bool:
    """Whether the second message makes the first one needless: both set the same value."""
    if type(one) is not type(other):
        return False
    if isinstance(one, p.SetMoves) and isinstance(other, p.SetMoves):
        return one.track_id == other.track_id
    return isinstance(one, p.SetProbe | p.Seek)


def _json(value: dict[str, Any]) -> str:
    return orjson.dumps(value).decode()


def _error(message: str, seq: int | None = None) -> str:
    return _json({"type": "error", "message": message, **({} if seq is None else {"seq": seq})})

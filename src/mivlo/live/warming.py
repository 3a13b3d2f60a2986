"""Loading compiled code before the first listener comes, so that the first block is not late."""

from __future__ import annotations

import numpy as np

from mivlo.core.graph import Strip, compile
from mivlo.core.loudness import gated_loudness
from mivlo.core.moves import Entry, Shape, StaticMove, Treatment
from mivlo.core.probe import Probe
from mivlo.live.engine import BLOCK_FRAMES, Engine


def warm_up() -> None:
    """Play a little of nothing."""
    samples = np.zeros((64 * BLOCK_FRAMES, 2), dtype=np.float32)
    for channels in (1, 2):
        sources = {1: samples[:, :channels]}
        entry = Entry(move=StaticMove(Shape.BELL, 1000.0, q=2.0, gain_db=-3.0))
        strip = Strip(id=1, channels=1 if channels == 1 else 2, treatment=Treatment(entries=(entry,)))
        engine = Engine(compile([strip], sample_rate=48_000), sources)
        engine.set_focus(1)
        engine.set_probe(Probe(1000.0))
        engine.play()
        engine.render()
        engine.set_preview(1, (Entry(move=StaticMove(Shape.BELL, 900.0, q=2.0, gain_db=-6.0)),))
        engine.set_probe(None)
        engine.render()
        known = Engine(engine.plan, sources, sources)  # and what is known already
        known.play()
        known.render()
        gated_loudness(samples, sample_rate=48_000)

"""The clashes that were planted in the demo song, by its truth file: they come first among all that its tracks lose."""

from __future__ import annotations

import numpy as np

from mivlo.core.loudness import gated_loudness
from mivlo.demo import song
from mivlo.services.clashes.files import FileScene
from mivlo.services.clashes.surveying import ranked
from mivlo.services.song.naming import guess_role
from tests.conftest import Made

HEARD_DB_SPL = 79.0


def test_the_planted_clashes_are_among_the_first_four_of_the_song(made: Made) -> None:
    names = list(made[0])
    sounds = [np.reshape(made[0][name], (len(made[0][name]), -1)).astype(np.float64) for name in names]
    frames = max(map(len, sounds))
    whole = [np.pad(x, ((0, frames - len(x)), (0, 0))) for x in sounds]
    mix = np.sum([np.mean(x, axis=1, keepdims=True) for x in whole], axis=0)
    level = HEARD_DB_SPL - gated_loudness(mix, sample_rate=song.SAMPLE_RATE)
    surveyed = FileScene.of(whole, sample_rate=song.SAMPLE_RATE, full_scale_db=level).survey()
    roles = [guess_role(name) for name in names]
    found = ranked(surveyed.clashes, roles, [None] * len(names))
    planted = [t for t in made[1] if t.kind == "clash"]
    over = {"over the narrator": "Narrator", "in the place of the cajón's low strokes": "Cajón"}
    assert len(planted) == 3
    for trouble in planted:
        pair = {trouble.track, over[trouble.note]}
        places = [
            n
            for n, c in enumerate(found)
            if {names[c.covered], names[c.by]} == pair and c.from_hz <= trouble.frequency_hz <= c.to_hz
        ]
        assert places, trouble
        assert places[0] < 4, (trouble, places)

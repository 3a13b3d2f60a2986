"""Every kind of bad file, dropped on the page: its own sentence, and the good one goes on."""

from __future__ import annotations

import io
import re
from pathlib import Path

import numpy as np
import pytest
import soundfile
from playwright.sync_api import Page, expect

from mivlo.core.units import Floats


def _wav(samples: Floats, rate: int = 48_000, subtype: str = "PCM_16") -> bytes:
    out = io.BytesIO()
    soundfile.write(out, samples, rate, subtype=subtype, format="WAV")
    return out.getvalue()


def _with_nan(noise: Floats) -> Floats:
    x = noise.copy()
    x[100] = np.nan
    return x


CASES = {
    "empty.wav": (lambda noise: b"", "empty.wav: the file is empty"),
    "letter.flac": (lambda noise: b"Dear engineer" * 99, "letter.flac: this is not a sound file we know"),
    "surround.wav": (lambda noise: _wav(np.tile(noise[:4_800], (1, 3))), "surround.wav: it has 6 channels"),
    "nothing.wav": (lambda noise: _wav(noise[:0]), "nothing.wav: there is no sound in it, its length is 0 s"),
    "broken.wav": (
        lambda noise: _wav(_with_nan(noise), subtype="FLOAT"),
        "broken.wav: at 0.00 s it holds values that are not numbers",
    ),
    "slow.wav": (lambda noise: _wav(noise, rate=4_000), "slow.wav: its sample rate is 4000 Hz"),
}


@pytest.mark.usefixtures("empty_song")
def test_each_bad_file_gets_its_sentence_and_the_good_one_goes_on(page: Page, noise: Floats, marimba_wav: Path) -> None:
    page.goto("/tracks")
    files = [(name, make(noise)) for name, (make, _) in CASES.items()] + [("Marimba.wav", marimba_wav.read_bytes())]
    page.locator("[data-test=picker]").set_input_files(
        [{"name": name, "mimeType": "audio/wav", "buffer": data} for name, data in files]
    )
    expect(page.get_by_role("listitem", name="Marimba", exact=True)).to_be_visible()
    tasks = page.locator("[data-test=tasks]")
    for _, sentence in CASES.values():
        expect(tasks).to_contain_text(sentence)
    expect(page.locator(".lane-row.track")).to_have_count(1)


@pytest.mark.usefixtures("empty_song")
def test_a_truncated_file_is_kept_as_far_as_it_goes(page: Page, noise: Floats) -> None:
    data = _wav(noise)[: 44 + 96_000]
    page.goto("/tracks")
    page.locator("[data-test=picker]").set_input_files([{"name": "take3.wav", "mimeType": "audio/wav", "buffer": data}])
    row = page.get_by_role("listitem", name="Take3")
    expect(row).to_contain_text("the file ends after 0.5 s of 2.0 s. The part that could be read was kept.")


@pytest.mark.usefixtures("empty_song")
def test_a_wrong_extension_does_not_matter(page: Page, noise: Floats) -> None:
    page.goto("/tracks")
    page.locator("[data-test=picker]").set_input_files(
        [{"name": "really-a-wav.mp3", "mimeType": "audio/mpeg", "buffer": _wav(noise)}]
    )
    expect(page.get_by_role("listitem", name="Really a wav")).to_be_visible()


def test_dropped_files_come_in(page: Page, empty_song: int, noise: Floats) -> None:
    page.goto("/tracks")
    expect(page.get_by_text(re.compile("No tracks yet"))).to_be_visible()
    page.evaluate(
        """bytes => {
          const transfer = new DataTransfer();
          transfer.items.add(new File([new Uint8Array(bytes)], "05_Dropped.wav", { type: "audio/wav" }));
          const target = document.querySelector("main.tracks");
          target.dispatchEvent(new DragEvent("drop", { dataTransfer: transfer, bubbles: true, cancelable: true }));
        }""",
        list(_wav(noise[:9_600])),
    )
    expect(page.get_by_role("listitem", name="Dropped")).to_be_visible()

"""When recordings begin: by the time references of their files (EBU Tech 3285), or all at zero; and two sides made one."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
import pytest
import soundfile
import wavinfo
from hypothesis import given
from hypothesis import settings as budget
from hypothesis import strategies as st

from mivlo.audio.encode import Container, Depth
from mivlo.audio.marks import Marker, Marks, add_marks
from mivlo.core.errors import InvalidValue
from mivlo.core.moves import Entry, Shape, StaticMove
from mivlo.core.units import Floats
from mivlo.services.handover import exporting, sheets
from mivlo.services.handover.exporting import ExportOptions
from mivlo.services.recordings import pairing, placing
from mivlo.services.recordings.files import recordings
from mivlo.services.recordings.importing import song_sources
from mivlo.services.recordings.placing import Placing, starts_by_reference
from mivlo.services.song import edits, moves, songs
from mivlo.services.song.naming import side_of
from mivlo.services.song.state import SongState
from mivlo.store.database import session
from tests.audio.test_marks import bext, labels
from tests.conftest import bring_in, exported, song_state

RATE = 48_000
HOUR = 3_600 * RATE


@pytest.fixture
def song_id(db: None) -> int:
    with session() as s:
        return songs.create_song(s, "Weir", RATE).id


def _file(
    folder: Path, name: str, reference: int | None, *, frames: int = 9_600, rate: int = RATE, seed: int = 1
) -> Path:
    x = np.random.default_rng(seed).standard_normal((frames, 1)) * 0.1
    soundfile.write(folder / name, x, rate, subtype="PCM_24")
    if reference is not None:
        marks = Marks(bext(reference), (Marker(1, 4_800), Marker(2, 1_200)), labels("late", "early"))
        add_marks(folder / name, marks)
    return folder / name


def _starts(song: SongState) -> list[float]:
    return [track.starts_at_s for track in song.tracks]


def _play(song: SongState) -> Floats:
    """All tracks as the renderer gets them, in one array."""
    out = np.zeros((len(song.tracks), song.frames))
    for row, track in zip(out, song.tracks, strict=True):
        sound = np.asarray(song_sources(song)[track.id][0 : track.frames])[:, 0]
        row[: len(sound)] = sound
    return out


@budget(max_examples=100)
@given(st.dictionaries(st.integers(0, 20), st.none() | st.integers(0, 2**40).map(lambda n: n / RATE), max_size=8))
def test_all_lie_as_far_apart_as_they_were_recorded(references: dict[int, float | None]) -> None:
    starts = starts_by_reference(references)
    assert set(starts) == set(references)
    assert all(starts[key] == 0.0 for key, value in references.items() if value is None)
    known = {key: value for key, value in references.items() if value is not None}
    assert not known or min(starts[key] for key in known) == 0.0
    for a in known:
        for b in known:
            assert starts[a] - starts[b] == pytest.approx(known[a] - known[b], abs=1e-6)


@pytest.mark.parametrize("order", [(0, 1, 2), (2, 1, 0), (1, 2, 0)])
def test_files_are_placed_by_their_reference_in_whatever_order_they_come(
    song_id: int, tmp_path: Path, order: Sequence[int]
) -> None:
    late = [0, 12_345, 96_000]
    for i in order:
        bring_in(song_id, _file(tmp_path, f"take {i}.wav", HOUR + late[i], seed=i))
    song = song_state(song_id)
    assert [round(RATE * s) for s in _starts(song)] == [late[i] for i in order]
    played = _play(song)
    for row, i in zip(played, order, strict=True):
        own, _ = soundfile.read(tmp_path / f"take {i}.wav")
        assert np.array_equal(row[late[i] : late[i] + 9_600], own.astype(np.float32))
        assert not row[: late[i]].any()
        assert not row[late[i] + 9_600 :].any()
    with session() as s:
        placing.place_recordings(s, song_id, Placing.ZERO)
    assert _starts(song_state(song_id)) == [0.0] * 3
    assert song_state(song_id).frames == 9_600
    with session() as s:
        edits.undo(s, song_id)
    assert [round(RATE * s) for s in _starts(song_state(song_id))] == [late[i] for i in order]
    with session() as s:
        placing.place_recordings(s, song_id, Placing.ZERO)
        placing.place_recordings(s, song_id, Placing.REFERENCE)
    assert np.array_equal(_play(song_state(song_id)), played)


def test_a_file_at_another_rate_is_placed_by_its_own(song_id: int, tmp_path: Path) -> None:
    bring_in(song_id, _file(tmp_path, "a.wav", HOUR))
    bring_in(song_id, _file(tmp_path, "b.wav", 3_600 * 96_000 + 9_600, rate=96_000))
    assert _starts(song_state(song_id)) == [0.0, pytest.approx(0.1)]


def test_what_can_not_be_placed_begins_at_zero_and_says_so(song_id: int, tmp_path: Path) -> None:
    bring_in(song_id, _file(tmp_path, "a.wav", 2 * HOUR))
    bring_in(song_id, _file(tmp_path, "no reference.wav", None))
    bring_in(song_id, _file(tmp_path, "much later.wav", 4 * HOUR))
    song = song_state(song_id)
    assert _starts(song) == [0.0] * 3
    assert [track.notice for track in song.tracks[:2]] == ["", ""]
    assert "over an hour" in song.tracks[2].notice
    with session() as s, pytest.raises(InvalidValue, match="over an hour apart"):
        placing.place_recordings(s, song_id, Placing.REFERENCE)
    # they don't lie by their references: one more does not either
    bring_in(song_id, _file(tmp_path, "b.wav", 2 * HOUR + RATE))
    assert "at zero like the song's other tracks" in song_state(song_id).tracks[3].notice


def test_an_earlier_file_moves_nothing_that_a_passage_speaks_of(song_id: int, tmp_path: Path) -> None:
    bring_in(song_id, _file(tmp_path, "a.wav", HOUR))
    with session() as s:
        songs.change_song_values(s, song_id, None, {"passage_from_s": 0.0, "passage_to_s": 0.15})
    bring_in(song_id, _file(tmp_path, "b.wav", HOUR - 4_800))
    song = song_state(song_id)
    assert _starts(song) == [0.0, 0.0]
    assert "before the song's other tracks" in song.tracks[1].notice


def test_nothing_to_place_by_is_said(song_id: int, tmp_path: Path) -> None:
    bring_in(song_id, _file(tmp_path, "a.wav", None))
    with session() as s, pytest.raises(InvalidValue, match="when it began"):
        placing.place_recordings(s, song_id, Placing.REFERENCE)


@pytest.mark.parametrize(("rate", "original"), [(RATE, False), (44_100, True), (44_100, False)])
def test_stems_begin_with_the_song_and_keep_their_marks(
    song_id: int, tmp_path: Path, rate: int, original: bool
) -> None:
    bring_in(song_id, _file(tmp_path, "a.wav", HOUR))
    track = bring_in(song_id, _file(tmp_path, "b.wav", 3_600 * rate + rate // 2, rate=rate))
    song = song_state(song_id)
    said = sheets.sheet_document(sheets.song_sheet(song))["strips"]
    assert [s.get("starts_at_s") for s in said if s["kind"] == "track"] == [None, 0.5]
    assert [(m.at_s, m.label) for m in song.strip(track).markers] == [
        (pytest.approx(0.5 + 1_200 / rate), "early"), (pytest.approx(0.5 + 4_800 / rate), "late")
    ]  # fmt: skip
    options = ExportOptions((track,), Depth.FLOAT_32, Container.WAV, original)
    task = exporting.request_export(song_id, options)
    file = exported(task.id, exporting.run_export(task.id)["files"][0])
    x, written = soundfile.read(file)
    assert written == (rate if original else RATE)
    own, _ = soundfile.read(tmp_path / "b.wav")
    assert not x[: written // 2].any()
    if written == rate:
        assert np.allclose(x[written // 2 : written // 2 + len(own)], own, atol=1e-7)
    info = wavinfo.WavInfoReader(str(file))
    assert info.bext.time_reference == 3_600 * written  # as the song begins
    found = sorted(c.sample_offset for c in info.cues.cues)
    assert found == [round(written * (0.5 + n / rate)) for n in (1_200, 4_800)]


def test_a_working_copy_begins_with_silence_and_measures_the_sound_alone(song_id: int, tmp_path: Path) -> None:
    bring_in(song_id, _file(tmp_path, "a.wav", HOUR))
    bring_in(song_id, _file(tmp_path, "b.wav", HOUR + 30 * RATE + 7, frames=5 * RATE, seed=3))
    song = song_state(song_id)
    placed = song.tracks[1]
    with session() as s:
        placing.place_recordings(s, song_id, Placing.ZERO)
    at_zero = song_state(song_id).tracks[1]
    own, same = (recordings().analysis(t.recording, RATE) for t in (placed, at_zero))
    assert own.frames == same.frames + 30 * RATE + 7 == placed.frames
    assert (own.loudness_lufs, own.true_peak_dbtp, own.levels_db) == (
        same.loudness_lufs,
        same.true_peak_dbtp,
        same.levels_db,
    )
    peaks = recordings().peaks(placed.recording, RATE)
    x = np.asarray(recordings().samples(placed.recording, RATE))[:, 0]
    for i in (0, 100, 5_624, 5_625, 5_626, len(peaks) - 1):
        part = x[256 * i : 256 * (i + 1)]
        assert tuple(peaks[i]) == (part.min(), part.max())


# --- two sides of one -----------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("name", "side"),
    [
        ("Kick.L.wav", ("Kick", "l")), ("Kick_R.flac", ("Kick", "r")), ("03 Room left.wav", ("03 Room", "l")),
        ("Pad (R).aif", ("Pad", "r")), ("Overheads-L.wav", ("Overheads", "l")), ("Bell.wav", None), ("L.wav", None),
        ("Snare.wav", None), ("Guitar.wav", None), ("a\\b\\Kick.R.wav", ("Kick", "r")),
    ],
)  # fmt: skip
def test_sides_are_told_by_names(name: str, side: tuple[str, str] | None) -> None:
    assert side_of(name) == side


def test_left_and_right_are_offered_and_become_one_stereo_track(song_id: int, tmp_path: Path) -> None:
    left = bring_in(song_id, _file(tmp_path, "02_Kick.L.wav", HOUR, seed=1))
    bring_in(song_id, _file(tmp_path, "Shaker.wav", None, seed=5))
    right = bring_in(song_id, _file(tmp_path, "03_Kick.R.wav", HOUR, seed=2))
    bring_in(song_id, _file(tmp_path, "Snare.L.wav", None))
    bring_in(song_id, _file(tmp_path, "Snare.R.wav", None, frames=9_601))
    song = song_state(song_id)
    assert [(p.left_id, p.right_id, p.name) for p in song.pairs] == [(left, right, "Kick")]
    task = pairing.request_pairing(song_id, left, right)
    made = pairing.run_pairing(task.id)
    assert pairing.run_pairing(task.id) == made  # a second worker
    after = song_state(song_id)
    assert [t.name for t in after.tracks] == ["Kick", "Shaker", "Snare.L", "Snare.R"]
    joined = after.strip(int(made["track_id"]))
    assert (joined.channels, joined.reference_s, [m.label for m in joined.markers]) == (2, 3_600.0, ["early", "late"])
    sides = [soundfile.read(tmp_path / f"{name}.wav", dtype="float32")[0] for name in ("02_Kick.L", "03_Kick.R")]
    assert np.array_equal(recordings().samples(joined.recording, RATE), np.stack(sides, axis=1))
    assert not after.pairs
    with session() as s:
        edits.undo(s, song_id)
    assert [t.id for t in song_state(song_id).tracks] == [t.id for t in song.tracks]


def test_what_is_no_pair_is_refused_in_a_sentence(song_id: int, tmp_path: Path, write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    left = bring_in(song_id, _file(tmp_path, "Kick.L.wav", None))
    longer = bring_in(song_id, _file(tmp_path, "Kick.R.wav", None, frames=20_000))
    stereo = bring_in(song_id, write_wav(noise, name="Room.wav"))
    treated = bring_in(song_id, _file(tmp_path, "Tom.R.wav", None))
    with session() as s:
        moves.add_move(s, song_id, treated, Entry(move=StaticMove(Shape.BELL, 200.0, q=2.0, gain_db=-3.0)), None)
    for other, why in (
        (longer, "differ in length"),
        (stereo, "mono"),
        (treated, "moves already"),
        (left, "two tracks"),
    ):
        with pytest.raises(InvalidValue, match=why):
            pairing.request_pairing(song_id, left, other)

"""The command line as others script it: outputs, exit codes, one sentence on standard error."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile
from scipy import signal

from mivlo.core.graph import treat
from mivlo.core.moves import Shape, StaticMove, treatment_sections
from mivlo.core.units import Floats, cents_between, octaves_to_q
from mivlo.jobs import queue
from tests.conftest import Done
from tests.core.findings.sounds import melody
from tests.core.rooms import RATE as ROOM_RATE
from tests.core.rooms import in_room, players

SHEET = {
    "format": "mivlo-sheet",
    "version": 1,
    "moves": [
        {"shape": "bell", "frequency_hz": 412.0, "q": 14.4, "gain_db": -6.0, "mode": "static", "enabled": True},
        {"shape": "low_cut", "frequency_hz": 80.0, "slope_db_per_octave": 24},
    ],
}
MOVES = (StaticMove(Shape.BELL, 412.0, q=14.4, gain_db=-6.0), StaticMove(Shape.LOW_CUT, 80.0, slope_db_per_octave=24))


@pytest.fixture
def sheet(tmp_path: Path) -> Path:
    path = tmp_path / "sheet.json"
    path.write_text(json.dumps(SHEET))
    return path


@pytest.mark.parametrize(
    ("bits", "subtype", "error"), [("32f", "FLOAT", 1e-6), ("24", "PCM_24", 1e-6), ("16", "PCM_16", 5e-5)]
)
def test_treat_gives_the_treated_file(
    run: Callable[..., Done],
    tmp_path: Path,
    write_wav,
    noise: Floats,
    sheet: Path,
    bits: str,
    subtype: str,
    error: float,
) -> None:  # type: ignore[no-untyped-def]
    source, out = write_wav(noise, rate=44_100), tmp_path / "out.wav"
    done = run("treat", source, "--moves", sheet, "-o", out, "--bits", bits)
    assert (done.returncode, done.stderr) == (0, "")
    x, _ = soundfile.read(source, always_2d=True)
    y, rate = soundfile.read(out, always_2d=True)
    reference = signal.sosfilt(treatment_sections(MOVES, sample_rate=44_100), x, axis=0)
    assert rate == 44_100
    assert y.shape == x.shape
    assert soundfile.info(out).subtype == subtype
    assert np.max(np.abs(y - reference)) < error


def test_treat_keeps_the_depth_of_its_input(
    run: Callable[..., Done], tmp_path: Path, write_wav, noise: Floats, sheet: Path
) -> None:  # type: ignore[no-untyped-def]
    source, out = write_wav(noise[:, :1], subtype="PCM_16"), tmp_path / "out.wav"
    assert run("treat", source, "--moves", sheet, "-o", out).returncode == 0
    info = soundfile.info(out)
    assert (info.subtype, info.channels, info.frames) == ("PCM_16", 1, len(noise))


def test_a_bad_input_is_one_sentence_and_exit_code_1(
    run: Callable[..., Done], tmp_path: Path, write_wav, noise: Floats, sheet: Path
) -> None:  # type: ignore[no-untyped-def]
    text = tmp_path / "text.wav"
    text.write_text("not sound")
    bad = tmp_path / "bad.json"
    bad.write_text(json.dumps({**SHEET, "moves": [{"shape": "bell", "frequency_hz": 412, "gain_db": -3, "wide": 2}]}))
    good = write_wav(noise)
    for arguments, says in (
        (("treat", text, "--moves", sheet, "-o", tmp_path / "o.wav"), "text.wav: this is not a sound file"),
        (("treat", tmp_path / "no.wav", "--moves", sheet, "-o", tmp_path / "o.wav"), "There is no file"),
        (("treat", good, "--moves", bad, "-o", tmp_path / "o.wav"), "moves.0.wide is not a known key"),
        (("treat", good, "--moves", sheet, "-o", good), "would replace the input"),
        (("find", text), "text.wav: this is not a sound file"),
        (("find", good, "--from", 5), "There is no sound between"),
    ):
        done = run(*arguments)
        assert done.returncode == 1, arguments
        assert says in done.stderr
        assert len(done.stderr.strip().splitlines()) == 1
    assert not (tmp_path / "o.wav").exists()
    assert not (tmp_path / "o.wav.part").exists()


@pytest.mark.parametrize(
    ("content", "says"),
    [
        (b"[" * 100_000, "nested too deeply"),
        (b'{"a":' * 50_000, "nested too deeply"),
        (b'{"format": "mivlo-sheet", "version": 2, "moves": [], "aftercare": ' + b'{"a":' * 900 + b"1" + b"}" * 901, "a is not a known key"),
        (bytes(range(256)) * 20, "it is not JSON but something binary"),
        (b"\xff\xfe{\x00}\x00", "it is not JSON but something binary"),
        (b"", "it is not JSON"),
        (b"null", "Could not use"),
        (b'{"format": "mivlo-sheet", "version": ' + b"1" * 10_000 + b', "moves": []}', "a number that is too long"),
        (b'{"format": "mivlo-sheet", "version": 1, "moves": [{"shape": "bell", "frequency_hz": NaN, "gain_db": 1, "q": 1}]}', "frequency_hz"),
        (b'{"format": "mivlo-sheet", "version": 1, "moves": [{"shape": "bell", "frequency_hz": 1e999, "gain_db": 1, "q": 1}]}', "frequency_hz"),
        (b" " * 10_000_001, "at most 10 MB"),
    ],
    ids=range(11),
)  # fmt: skip
def test_a_sheet_that_is_none(
    content: bytes,
    says: str,
    refused: Callable[..., str],
    tmp_path: Path,
    write_wav,
    noise: Floats,  # type: ignore[no-untyped-def]
) -> None:
    sheet = tmp_path / "odd.json"
    sheet.write_bytes(content)
    assert says in refused("treat", write_wav(noise[:3_000]), "--moves", sheet, "-o", tmp_path / "o.wav")


def test_a_sheet_may_begin_with_a_byte_order_mark(
    run: Callable[..., Done], sheet: Path, write_wav, noise: Floats
) -> None:  # type: ignore[no-untyped-def]
    source, outs = write_wav(noise[:3_000]), [sheet.with_name("plain.wav"), sheet.with_name("marked.wav")]
    assert run("treat", source, "--moves", sheet, "-o", outs[0]).returncode == 0
    sheet.write_bytes(b"\xef\xbb\xbf" + sheet.read_bytes())
    assert run("treat", source, "--moves", sheet, "-o", outs[1]).returncode == 0
    assert outs[0].read_bytes() == outs[1].read_bytes()


def test_an_output_that_can_not_be(
    refused: Callable[..., str],
    run: Callable[..., Done],
    tmp_path: Path,
    write_wav,
    sheet: Path,
    noise: Floats,  # type: ignore[no-untyped-def]
) -> None:
    source = write_wav(noise[:3_000])
    (tmp_path / "link.wav").hardlink_to(source)
    (tmp_path / "soft.wav").symlink_to(source)
    (tmp_path / "folder.wav").mkdir()
    for name, says in (
        ("o.mp3", "must end in .wav or .flac"), ("o", "must end in .wav or .flac"), ("o.wav.txt", "must end in"),
        ("no/o.wav", "there is no folder"), ("folder.wav", "there is no folder"), ("take.wav/o.wav", "there is no folder"),
        ("link.wav", "would replace the input"), ("soft.wav", "would replace the input"),
        ("folder.wav/../take.wav", "would replace the input"), ("a" * 300 + ".wav", "too long"),
    ):  # fmt: skip
        assert says in refused("treat", source, "--moves", sheet, "-o", tmp_path / name), name
    for name, kind in (("o.FLAC", "FLAC"), ("o.Wav", "WAV"), ("o.wave", "WAV")):
        assert run("treat", source, "--moves", sheet, "-o", tmp_path / name).returncode == 0
        assert soundfile.info(tmp_path / name).format == kind


def test_a_truncated_recording_is_treated_only_if_asked_for(
    refused: Callable[..., str],
    run: Callable[..., Done],
    tmp_path: Path,
    write_wav,
    sheet: Path,
    noise: Floats,  # type: ignore[no-untyped-def]
) -> None:
    for subtype, name in (("PCM_24", "cut.wav"), ("PCM_16", "cut.flac")):
        source = write_wav(noise, name=name, subtype=subtype)
        source.write_bytes(source.read_bytes()[: source.stat().st_size // 2])
        out = tmp_path / f"{name}.wav"
        says = refused("treat", source, "--moves", sheet, "-o", out)
        assert "Could not read all of" in says
        assert "--keep-readable" in says
        done = run("treat", source, "--moves", sheet, "-o", out, "--keep-readable")
        assert done.returncode == 0
        assert "the file ends after" in done.stderr
        assert 0.4 * len(noise) < soundfile.info(out).frames < 0.6 * len(noise)


def test_find_says_what_is_missing_of_a_recording(
    run: Callable[..., Done], write_wav, ringing: Floats, tmp_path: Path
) -> None:  # type: ignore[no-untyped-def]
    for subtype, name in (("PCM_24", "cut.wav"), ("PCM_16", "cut.flac")):
        source = write_wav(ringing, name=name, subtype=subtype)
        source.write_bytes(source.read_bytes()[: source.stat().st_size // 2])
        done = run("find", source, "--json")
        assert done.returncode == 0
        assert f"Could not read all of {name}: the file ends after" in done.stderr
        assert set(json.loads(done.stdout)) >= {"file", "sample_rate", "duration_s", "findings"}
        out = tmp_path / f"{name}.treated.wav"
        assert run("treat", source, "--auto", "-o", out, "--keep-readable").returncode == 0
        assert out.exists()


def test_backups_that_can_not_be(
    refused: Callable[..., str], run: Callable[..., Done], tmp_path: Path, db: None
) -> None:
    assert run("backup", "-o", tmp_path / "x.zip").returncode == 2
    assert run("backup", "A", "--all", "-o", tmp_path / "x.zip").returncode == 2
    assert "There is no song Nowhere" in refused("backup", "Nowhere", "-o", tmp_path / "x.zip")
    assert "there is no folder" in refused("backup", "--all", "-o", tmp_path / "no" / "x.zip")
    (tmp_path / "kept.zip").write_text("mine")
    assert "nothing is overwritten" in refused("backup", "--all", "-o", tmp_path / "kept.zip")
    assert "is not a backup, or it is damaged" in refused("restore", tmp_path / "kept.zip")
    assert "There is no file" in refused("restore", tmp_path / "none.zip")


def test_tidy_says_what_could_go_before_anything_goes(run: Callable[..., Done], db: None) -> None:
    told = run("tidy")
    assert told.returncode == 0
    assert [line.split()[0] for line in told.stdout.splitlines()] == ["free", "exports", "caches"]
    assert "were freed" in run("tidy", "--exports", "--caches").stdout


@pytest.mark.parametrize(
    ("option", "value"), [("--from", "inf"), ("--from", "1e308"), ("--to", "1e308"), ("--to", "inf")]
)  # fmt: skip
def test_a_stretch_that_is_none(
    option: str,
    value: str,
    refused: Callable[..., str],
    write_wav,
    noise: Floats,  # type: ignore[no-untyped-def]
) -> None:
    assert option in refused("find", write_wav(noise[:3_000]), option, value)


def test_the_demo_is_not_written_into_a_file(refused: Callable[..., str], tmp_path: Path) -> None:
    (tmp_path / "file").write_text("mine")
    assert "Could not use" in refused("demo", tmp_path / "file")
    assert "Could not use" in refused("demo", tmp_path / "file" / "in")


@pytest.mark.parametrize(
    ("name", "locale"),
    [
        ("Grüße.wav", {"LC_ALL": "C", "PYTHONUTF8": "0", "PYTHONCOERCECLOCALE": "0"}),
        (b"gr\xfc\xdfe.wav".decode(errors="surrogateescape"), {"LC_ALL": "C"}),
    ],
)
def test_names_in_any_locale(name: str, locale: dict[str, str], tmp_path: Path, sheet: Path, noise: Floats) -> None:
    soundfile.write(os.fsencode(tmp_path / name), noise[:20_000], 48_000)
    out = os.fsencode(tmp_path / f"treated {name}")
    for arguments in (
        ["find", "--json", os.fsencode(tmp_path / name)],
        ["treat", os.fsencode(tmp_path / name), "--moves", str(sheet), "-o", out],
    ):
        command = [sys.executable, "-m", "mivlo.cli", *arguments]
        done = subprocess.run(command, env={**os.environ, **locale}, capture_output=True, timeout=120)
        assert b"Traceback" not in done.stderr
        assert done.returncode == 0, done.stderr
        if "--json" in arguments:
            assert json.loads(done.stdout)["findings"] is not None
    assert os.path.exists(out)


def test_wrong_usage_is_exit_code_2(run: Callable[..., Done], sheet: Path) -> None:
    assert run("treat").returncode == 2
    assert run("treat", "a.wav", "--moves", sheet, "-o", "b.wav", "--bits", "20").returncode == 2
    assert run("nonsense").returncode == 2


FIELDS = {
    "kind", "frequency_hz", "note", "cents", "bandwidth_oct", "excess_db", "confidence", "share_of_time", "moments",
    "similar", "worst_s", "loop_s", "ring_ms", "own_ring_ms", "slope_db_per_db", "harmonic", "threshold_db", "after_db",
    "takes_db", "says", "move",
}  # fmt: skip


@pytest.fixture(scope="module")
def ringing() -> Floats:
    """A melody with a ring at 847 Hz: (n, 1)."""
    move = StaticMove(Shape.BELL, 847.0, q=octaves_to_q(0.12), gain_db=14.0)
    return treat(melody(length_s=8.0)[:, None], [move], sample_rate=48_000)


def test_find_speaks_json(run: Callable[..., Done], write_wav, ringing: Floats) -> None:  # type: ignore[no-untyped-def]
    done = run("find", write_wav(ringing), "--json", "--from", "0.5", "--to", "7.5")
    assert done.returncode == 0
    told = json.loads(done.stdout)
    assert set(told) == {"file", "sample_rate", "duration_s", "findings", "own_tones", "fundamental"}
    assert (told["sample_rate"], told["duration_s"]) == (48_000, 8.0)
    first = told["findings"][0]
    assert set(first) == FIELDS
    assert first["kind"] == "ring"
    assert first["frequency_hz"] == pytest.approx(847.0, rel=0.02)
    assert first["note"] == "G♯5"  # 830.6 Hz (ISO 16)
    assert first["cents"] == pytest.approx(cents_between(830.61, first["frequency_hz"]), abs=0.2)
    assert first["move"]["shape"] == "bell"
    with_evidence = json.loads(run("find", told["file"], "--json", "--evidence", "--limit", 1).stdout)["findings"]
    assert len(with_evidence) == 1
    assert set(with_evidence[0]) == {*FIELDS, "evidence"}


def test_the_tracks_of_a_song_tell_what_rings_in_its_room(
    run: Callable[..., Done], write_wav: Callable[..., Path]
) -> None:
    played = players(8.0, 1)
    room = in_room(played, [(801.0, 35.0, 12.0)], 1)
    tracks = [("Piano", played[0]), ("Flute", played[1]), ("Drums", played[2]), ("Room pair", room)]
    files = [write_wav(x, name=f"{name}.wav", rate=ROOM_RATE) for name, x in tracks]
    documents = [json.loads(line) for line in run("find", *files, "--song", "--json").stdout.splitlines()]
    said = [[f["frequency_hz"] for f in d["findings"] if "into this room" in f["says"]] for d in documents]
    assert said[:3] == [[], [], []]
    assert any(abs(cents_between(801.0, hz)) < 25 for hz in said[3])
    other = write_wav(played[0], name="Cello.wav", rate=48_000)
    refused = run("find", files[3], other, "--song")
    assert refused.returncode == 1
    assert f"Cello.wav has 48000 Hz and Room pair.wav {ROOM_RATE} Hz" in refused.stderr


def test_find_prints_a_table_for_people(run: Callable[..., Done], write_wav, ringing: Floats) -> None:  # type: ignore[no-untyped-def]
    lines = run("find", write_wav(ringing), "--role", "mallets").stdout.splitlines()
    assert lines[0].split()[:2] == ["kind", "Hz"]
    assert lines[1].startswith("ring")
    assert "bell" in lines[1]


def test_find_takes_many_files_and_goes_on_after_a_bad_one(
    run: Callable[..., Done], tmp_path: Path, write_wav, ringing: Floats
) -> None:  # type: ignore[no-untyped-def]
    text = tmp_path / "text.wav"
    text.write_text("not sound")
    files = (write_wav(ringing, name="a.wav"), text, write_wav(ringing[: 4 * 48_000], name="b.wav"))
    done = run("find", *files, "--json")
    assert done.returncode == 1
    assert [json.loads(line)["duration_s"] for line in done.stdout.splitlines()] == [8.0, 4.0]
    assert "text.wav: this is not a sound file" in done.stderr


def test_tones_of_its_own_are_told_apart_and_cut_only_when_asked(
    run: Callable[..., Done], tmp_path: Path, write_wav
) -> None:  # type: ignore[no-untyped-def]
    t = np.arange(48_000) / 48_000
    stroke = 0.3 * np.random.default_rng(4).normal(size=48_000) * np.exp(-t / 0.01)
    stroke += 0.3 * np.exp(-6.91 * t / 0.3) * np.sin(2 * np.pi * 160 * t)  # the fundamental
    stroke += 0.2 * np.exp(-6.91 * t / 1.3) * np.sin(2 * np.pi * 367 * t)
    source, plain, cut = write_wav(np.tile(stroke, 6)[:, None] * 0.5), tmp_path / "plain.wav", tmp_path / "cut.wav"
    told = json.loads(run("find", source, "--json", "--role", "drums").stdout)
    (tone,) = [f for f in told["own_tones"] if abs(f["frequency_hz"] - 367) < 2]
    assert set(tone) == {*FIELDS - {"move"}, "offer", "offer_tail"}
    assert tone["offer_tail"]["mode"] == "dynamic"  # of what rings on alone, as deep
    assert tone["offer_tail"]["range_db"] == tone["offer"]["gain_db"]
    assert tone["kind"] == "own tone"
    assert -8 <= tone["offer"]["gain_db"] <= -4
    assert told["fundamental"]["frequency_hz"] == pytest.approx(160, abs=4)
    assert not any(f["kind"] == "own tone" for f in told["findings"])
    assert run("treat", source, "--auto", "--role", "drums", "-o", plain).returncode == 0
    done = run("treat", source, "--auto", "--own-tones", "--role", "drums", "-o", cut)
    assert "own tone 367 Hz" in done.stdout

    def level(path: Path) -> float:
        x, rate = soundfile.read(path)
        return float(20 * np.log10(np.abs(np.sum(x * np.exp(-2j * np.pi * 367 * np.arange(len(x)) / rate)))))

    assert level(cut) - level(plain) == pytest.approx(tone["offer"]["gain_db"], abs=1.5)
    assert "Tones of its own" in run("find", source, "--role", "drums").stdout


def test_treat_auto_cuts_what_find_proposes(
    run: Callable[..., Done], tmp_path: Path, write_wav, ringing: Floats
) -> None:  # type: ignore[no-untyped-def]
    source, out = write_wav(ringing), tmp_path / "out.wav"
    done = run("treat", source, "--auto", "--limit", 1, "--least-confidence", 0.3, "-o", out, "--bits", "32f")
    assert (done.returncode, done.stderr) == (0, "")
    assert "1 move: ring 8" in done.stdout
    move = json.loads(run("find", source, "--json", "--limit", 1).stdout)["findings"][0]["move"]
    x, _ = soundfile.read(source, always_2d=True)
    y, _ = soundfile.read(out, always_2d=True)
    cut = StaticMove(Shape.BELL, move["frequency_hz"], q=move["q"], gain_db=move["gain_db"])
    reference = signal.sosfilt(treatment_sections([cut], sample_rate=48_000), x, axis=0)
    assert np.max(np.abs(y - reference)) < 1e-4  # the JSON rounds nothing of a move; single floats do


def test_treat_needs_a_sheet_or_auto_and_a_known_role(run: Callable[..., Done], sheet: Path) -> None:
    assert run("treat", "a.wav", "-o", "b.wav").returncode == 2
    assert run("treat", "a.wav", "--auto", "--moves", sheet, "-o", "b.wav").returncode == 2
    assert run("find", "a.wav", "--role", "kazoo").returncode == 2


def test_what_find_proposes_can_be_given_to_treat(
    run: Callable[..., Done], tmp_path: Path, write_wav, ringing: Floats
) -> None:  # type: ignore[no-untyped-def]
    source = write_wav(ringing)
    findings = json.loads(run("find", source, "--json").stdout)["findings"]
    assert findings
    sheet = tmp_path / "found.json"
    sheet.write_text(json.dumps({"format": "mivlo-sheet", "version": 1, "moves": [f["move"] for f in findings]}))
    done = run("treat", source, "--moves", sheet, "-o", tmp_path / "out.wav")
    assert (done.returncode, done.stderr) == (0, "")


def test_help_names_every_command_of_the_installed_program() -> None:
    program = Path(sys.executable).with_name("mivlo")
    text = subprocess.run([program, "--help"], capture_output=True, text=True, timeout=120).stdout
    assert all(name in text for name in ("treat", "find", "doctor", "serve", "worker", "demo", "start"))


def test_doctor_says_what_is_wrong_and_what_to_do(
    run: Callable[..., Done], database_url: str, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.setenv("MIVLO_PAGE_DIR", str(tmp_path))
    monkeypatch.setattr(queue, "DEAD_AFTER_S", -1.0)  # whatever worker runs counts as dead
    done = run("doctor")
    assert done.returncode == 1
    assert "ok   database" in done.stdout
    assert "BAD  worker: none runs" in done.stdout
    assert "Run `mivlo worker`" in done.stdout
    assert "BAD  page: not built. Run `make setup`." in done.stdout
    # in a process of its own: this one keeps its connection to the database
    elsewhere = {**os.environ, "MIVLO_DATABASE_URL": "postgresql+psycopg://nobody@127.0.0.1:1/none"}
    program = Path(sys.executable).with_name("mivlo")
    told = subprocess.run([program, "doctor"], capture_output=True, text=True, timeout=120, env=elsewhere)
    assert told.returncode == 1
    assert "BAD  database: not reachable. Run `make start`" in told.stdout


def _loaded(code: str) -> set[str]:
    """The modules that a new process has loaded after running `code`."""
    told = subprocess.run(
        [sys.executable, "-c", f"import sys\n{code}\nprint(*sys.modules)"], capture_output=True, text=True, check=True
    )
    return set(told.stdout.split())


def test_help_loads_nothing_that_computes() -> None:
    loaded = _loaded("from mivlo import cli")
    assert "typer" in loaded
    assert not loaded & {"numpy", "scipy", "numba", "pydantic", "sqlalchemy", "fastapi", "mivlo.core.filters"}


def test_find_loads_no_more_than_it_needs() -> None:
    # scipy.signal and the scipy.stats behind it take longer to load than ten seconds of sound take to be looked at
    loaded = _loaded("import mivlo.services.findings.documents")
    assert "numba" in loaded
    assert not loaded & {"scipy.signal", "scipy.stats", "sqlalchemy", "fastapi", "procrastinate"}


def test_the_benchmark_says_what_it_can_do() -> None:
    told = subprocess.run([sys.executable, "-m", "bench", "--help"], capture_output=True, text=True, check=True)
    assert "gesture" in told.stdout


# --- sheets of version 2 ----------------------------------------------------------------------------

LISTENS = {"mode": "dynamic", "shape": "bell", "frequency_hz": 1000, "threshold_db": -60, "range_db": -12, "q": 1}


def _sheet2(tmp_path: Path, *moves: dict[str, object], **more: object) -> Path:
    path = tmp_path / "sheet2.json"
    path.write_text(json.dumps({"format": "mivlo-sheet", "version": 2, "moves": moves, **more}))
    return path


def test_a_key_is_a_file_as_it_is_at_any_rate(
    run: Callable[..., Done], tmp_path: Path, write_wav, noise: Floats
) -> None:  # type: ignore[no-untyped-def]
    source, out = write_wav(noise, subtype="FLOAT"), tmp_path / "out.wav"
    x = soundfile.read(source)[0]
    half = noise[:, :1].copy()
    half[: len(half) // 2] = 0.0
    sheet = _sheet2(tmp_path, {**LISTENS, "release_ms": 20, "key": {"source": "Kick"}})
    for rate in (48_000, 44_100):
        key = write_wav(half, name=f"kick{rate}.wav", subtype="FLOAT", rate=rate)
        assert run("treat", source, "--moves", sheet, "-o", out, "--key", f"Kick={key}").stderr == ""
        y = soundfile.read(out)[0]
        assert np.max(np.abs(y - x)[: len(x) // 3]) < 1e-5  # nothing changes while the key is silent
        assert np.max(np.abs(y - x)[-len(x) // 4 :]) > 1e-2
    for given, says in (
        ((), "Give its sound with --key"),
        (("--key", f"Snare={source}"), "No move of the sheet listens"),
    ):
        done = run("treat", source, "--moves", sheet, "-o", out, *given)
        assert done.returncode == 1
        assert says in done.stderr


def test_amounts_scale_gains_and_ranges_but_not_cuts(
    run: Callable[..., Done], tmp_path: Path, write_wav, noise: Floats
) -> None:  # type: ignore[no-untyped-def]
    source, out = write_wav(noise, subtype="FLOAT"), tmp_path / "out.wav"
    x = soundfile.read(source, always_2d=True)[0]
    bell = {"shape": "bell", "frequency_hz": 700, "q": 2, "gain_db": -8, "links": ["room"]}
    cut = {"shape": "low_cut", "frequency_hz": 90, "links": ["room"]}
    sheet = _sheet2(tmp_path, bell, cut, amounts={"all": 0.5, "room": 1.5})
    assert run("treat", source, "--moves", sheet, "-o", out).returncode == 0
    wanted = treat(
        x, [StaticMove(Shape.BELL, 700.0, q=2.0, gain_db=-6.0), StaticMove(Shape.LOW_CUT, 90.0)], sample_rate=48_000
    )
    assert np.max(np.abs(soundfile.read(out, always_2d=True)[0] - wanted)) < 1e-6


def test_a_reverb_is_rendered_only_if_asked_for(
    run: Callable[..., Done], tmp_path: Path, write_wav, noise: Floats
) -> None:  # type: ignore[no-untyped-def]
    source, out = write_wav(noise, subtype="FLOAT"), tmp_path / "out.wav"
    x = soundfile.read(source)[0]
    sheet = _sheet2(tmp_path, aftercare={"reverb": {"send_db": 0, "decay_s": 1}})
    for option, changed in (((), False), (("--reverb",), True)):
        assert run("treat", source, "--moves", sheet, "-o", out, *option).returncode == 0
        assert (np.max(np.abs(soundfile.read(out)[0] - x)) > 1e-3) == changed


@pytest.mark.parametrize(
    ("move", "more", "says"),
    [
        ({"ratio": 1.0}, {}, "moves.0.ratio is 1.0, but it must lie between 1.05 and 100"),
        ({"key": {"source": "self", "wet": 1}}, {}, "moves.0.key.wet is not a known key"),
        ({"key": {"source": 3}}, {}, "moves.0.key.source is 3"),
        ({"id": 3}, {}, "moves.0.id is 3, but it must be a text"),
        ({"mode": "magic"}, {}, "moves.0.mode is 'magic', but it must be one of static, dynamic, adaptive"),
        ({"threshold_db": None}, {}, "moves.0.threshold_db is missing"),
        ({"shape": "notch"}, {}, "moves.0.shape is 'notch'"),
        ({"stretches": [[2, 1]]}, {}, "a stretch must begin before it ends"),
        ({}, {"phase": "most"}, "phase is 'most'"),
        ({}, {"amounts": {"all": 2}}, "amounts.all is 2"),
        ({}, {"aftercare": {"fuzz": 1}}, "aftercare.fuzz is not a known key"),
        ({}, {"aftercare": {"clip": {"drive_db": -1}}}, "aftercare.clip.drive_db is -1"),
    ],
)
def test_what_a_sheet_of_version_2_can_not_say_is_refused_by_name(
    run: Callable[..., Done],
    tmp_path: Path,
    write_wav,
    noise: Floats,
    move: dict[str, object],
    more: dict[str, object],
    says: str,
) -> None:  # type: ignore[no-untyped-def]
    out = tmp_path / "out.wav"
    done = run("treat", write_wav(noise[:3_000]), "--moves", _sheet2(tmp_path, {**LISTENS, **move}, **more), "-o", out)
    assert done.returncode == 1
    assert says in done.stderr
    assert not out.exists()


def test_one_side_of_a_mono_recording_can_not_be_treated(
    run: Callable[..., Done], tmp_path: Path, write_wav, noise: Floats
) -> None:  # type: ignore[no-untyped-def]
    source, out = write_wav(noise[:3_000, :1]), tmp_path / "out.wav"
    done = run("treat", source, "--moves", _sheet2(tmp_path, {**LISTENS, "channels": "side"}), "-o", out)
    assert done.returncode == 1
    assert "the recording is mono" in done.stderr

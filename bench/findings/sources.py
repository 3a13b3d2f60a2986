"""Where the clean clips come from, and which half each source belongs to.

Sampled instruments (sound fonts played by fluidsynth from phrases written here), recorded drums and
percussion (drum kits), synthesised voices and instruments of the demo. All come from Debian's packages
named in PACKAGES or from this project.

A source is in one half only. Programs whose samples are often shared (three pianos of one bank) are one
cluster and stay together, whichever sound font plays them.
"""

from __future__ import annotations

import hashlib
import io
import re
import shutil
import subprocess
import tempfile
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

import mido
import numpy as np
import soundfile
import soxr

from bench.findings import fonts, recorded, unseen
from bench.findings.phrases import SUSTAINED, phrase
from bench.findings.rooms import in_room
from mivlo.core.units import Floats

PACKAGES = (
    "fluidsynth", "timgm6mb-soundfont", "fluid-soundfont-gm", "csound-soundfont",
    "hydrogen-drumkits", "hydrogen-data", "espeak-ng", "flite", "sonic-pi-samples", "klettres-data",
    *fonts.PACKAGES,
    "festival", "festvox-italp16k", "festvox-suopuhe-lj", "festvox-czech-dita", "festvox-ru", "festvox-ca-ona-hts",
    "avldrums.lv2-soundfont", "gcompris-qt-data", *unseen.PACKAGES,
)  # fmt: skip
RATE = recorded.RATE
FONTS = {
    "tim": Path("/usr/share/sounds/sf2/TimGM6mb.sf2"),
    "fluid": Path("/usr/share/sounds/sf2/FluidR3_GM.sf2"),
    "bank": Path("/usr/share/sounds/sf2/sf_GMbank.sf2"),
}
RECORDED_KIT = Path("/usr/share/sounds/sf2/Red_Zeppelin_4_LV2.sf2")
_EVERY_FONT = FONTS | fonts.FONTS | {"recorded kit": RECORDED_KIT}
KITS = recorded.DRUMKITS

# General MIDI programs (numbered from 0) that may share samples
CLUSTERS = (
    (0, 1, 2, 3), (4, 5), (6, 7), (8, 9, 10), (11,), (12, 13), (14,), (15,), (16, 17, 18), (19, 20), (21, 22, 23),
    (24,), (25,), (26, 27, 28), (29, 30), (32,), (33, 34, 35, 36, 37), (38, 39), (40, 110), (41,), (42,), (43,),
    (44, 45), (46,), (47,), (48, 49, 50, 51), (52, 53, 54), (56, 59), (57,), (58,), (60,), (61, 62, 63),
    (64, 65, 66, 67), (68, 69), (70,), (71,), (72, 73), (74, 75, 77, 78, 79), (80, 81), (82, 83, 84), (88, 89, 90),
    (91, 92, 94), (104, 105), (106, 107), (108,), (109, 111), (112, 114), (113, 115), (116, 117, 118),
)  # fmt: skip
HELD_OUT_PROGRAMS = frozenset(
    (4, 5, 11, 12, 13, 15, 19, 20, 25, 33, 34, 35, 36, 37, 40, 110, 42, 46, 52, 53, 54, 56, 59, 60, 64, 65, 66, 67,
     71, 72, 73, 108, 0, 1, 2, 3, 29, 30, 113, 115)
)  # fmt: skip
# what each half of the benchmark plays: (font, program)
HELD_OUT_PLAYED = (
    ("tim", 4), ("fluid", 11), ("tim", 12), ("fluid", 15), ("tim", 19), ("fluid", 25), ("tim", 33), ("fluid", 40),
    ("tim", 42), ("fluid", 46), ("tim", 52), ("fluid", 56), ("tim", 60), ("fluid", 65), ("tim", 71), ("fluid", 73),
    ("tim", 108), ("fluid", 0), ("tim", 0), ("fluid", 29), ("tim", 36), ("fluid", 42),
)  # fmt: skip
TUNE_PLAYED = (
    ("fluid", 7), ("tim", 9), ("fluid", 14), ("tim", 17), ("fluid", 21), ("tim", 24), ("fluid", 27), ("tim", 32),
    ("fluid", 41), ("tim", 43), ("fluid", 45), ("tim", 48), ("fluid", 57), ("tim", 58), ("fluid", 62), ("tim", 68),
    ("fluid", 70), ("tim", 75), ("fluid", 104), ("tim", 107), ("fluid", 114), ("tim", 26),
)  # fmt: skip
HELD_OUT_KITS = ("Gimme A Hand 1.0", "ForzeeStereo")
OTHER_KITS = (
    "GMRockKit", "circAfrique v4", "Millo_MultiLayered2", "ColomboAcousticDrumkit", "BJA_Pacific",
    "Millo_MultiLayered3", "Millo-Drums_v.1", "VariBreaks", "ElectricEmpireKit",
)  # fmt: skip
KNOWN, FOREIGN = ("tune", "held out"), ("foreign", "foreign held out")
"""Halves that no network heard, of origins that they learnt from and of others: first the one that is looked at while
something is made."""
PIECES = {
    "kick": r"^(bd|.*kick|beatbd)", "snare": r"^(sn|sr|.*snare|jsnare)", "tom": r"^(tm|.*tom|bongo|djembe)",
    "hat": r"^(hh|.*hat|hihat)",
    "other": r"^(cb|bl|.*(clave|wood|cowbell|agogo|tamb|rim|side|bell|glass|clap|cajon|sangban|kenkeni))",
}  # fmt: skip
HELD_OUT_VOICES = ("flite:slt", "espeak:fr+f2", "espeak:de+m3")
OTHER_VOICES = (
    "flite:rms", "flite:awb", "flite:kal16", "espeak:en+m1", "espeak:en-us+f1", "espeak:it+m7", "espeak:es+f4",
    "espeak:sv+m2", "espeak:pl+f3", "espeak:nl+m5", "espeak:pt+m4", "espeak:en-gb+m6", "espeak:fi+f1",
)  # fmt: skip
HELD_OUT_DEMO, OTHER_DEMO = ("harmonium", "shakers"), ("marimba", "bass")
_DEMO_ROLES = {"harmonium": "keys", "shakers": "percussion", "marimba": "mallets", "bass": "bass"}
TEXTS = (
    "Seven ferries left the harbour before the tide had turned, and nobody on the pier was counting. "
    "Please put the wooden boxes by the pump, because the path is slippery.",
    "When the bell rang twice the baker opened both shutters and swept the step. "
    "She sells six sorts of bread, but people ask for plain ones.",
    "The clock below the bridge shows hours of water, not of day. Measure it slowly, then write down what you hear.",
)


@dataclass(frozen=True, slots=True)
class Source:
    """One thing that sounds.

    half : tune, held out, or more (only trained on); foreign and foreign held out are of other origins; unseen
        are recordings that nothing was chosen by.
    """

    name: str
    half: str
    role: str
    play: Callable[[np.random.Generator], Floats]

    def clip(self, take: int) -> Floats:
        """(n,) mono at RATE, 8 to 12 s, peak 0.5; the same for the same take."""
        seed = int.from_bytes(hashlib.sha256(f"{self.name} {take}".encode()).digest()[:8], "little")
        random = np.random.default_rng(seed)
        x = self.play(random)
        wanted = int(random.uniform(8.0, 12.0) * RATE)
        x = x[:wanted]
        fade = np.linspace(1.0, 0.0, RATE // 50)
        x[-len(fade) :] *= fade
        return np.asarray(x / (np.max(np.abs(x)) + 1e-12) * 0.5)


def _sequence(notes: list[tuple[float, float, int, int]], program: int, tempo: float, channel: int, bend: int) -> bytes:
    track = mido.MidiTrack()
    track.append(mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(tempo)))
    if channel != 9:
        track.append(mido.Message("program_change", program=program, channel=channel))
        track.append(mido.Message("pitchwheel", pitch=bend, channel=channel))
    else:
        track.append(mido.Message("program_change", program=program, channel=9))
    events = []
    for start, length, note, velocity in notes:
        events.append((start, 1, note, velocity))
        events.append((start + length, 0, note, 0))
    now = 0
    for beat, on, note, velocity in sorted(events):
        tick = round(beat * 480)
        kind = "note_on" if on else "note_off"
        track.append(mido.Message(kind, note=note, velocity=velocity, channel=channel, time=tick - now))
        now = tick
    file = mido.MidiFile(ticks_per_beat=480)
    file.tracks.append(track)
    out = io.BytesIO()
    file.save(file=out)
    return out.getvalue()


def _fluidsynth(font: str, midi: bytes, *, room: bool) -> Floats:
    def command(score: Path, sound: Path) -> list[str]:
        return [
            "fluidsynth", "-ni", "-q", "-g", "0.5", "-C", "0", "-R", str(int(room)), "-r", str(RATE), "-T", "wav",
            "-O", "float", "-F", str(sound), str(_EVERY_FONT[font]), str(score),
        ]  # fmt: skip

    return fonts.played(midi, command)


def render(font: str, program: int, notes: list[tuple[float, float, int, int]], *, tempo: float) -> Floats:
    """(n,) mono at RATE: notes as (start in beats, length in beats, note, velocity), played dry."""
    return _fluidsynth(font, _sequence(notes, program, tempo, 0, 0), room=False)


def _instrument(font: str, program: int) -> Callable[[np.random.Generator], Floats]:
    def play(random: np.random.Generator) -> Floats:
        slow = program in SUSTAINED or 88 <= program <= 95
        tempo = float(random.uniform(70, 110) if slow else random.uniform(80, 140))
        bend = int(random.integers(-2048, 2048)) if random.random() < 0.5 else 0  # a quarter tone at most
        midi = _sequence(phrase(program, random), program, tempo, 0, bend)
        if font == "patches":
            x = fonts.patched(midi)
            return in_room(x, random, RATE) if random.random() < 0.4 else x
        return _fluidsynth(font, midi, room=bool(random.random() < 0.6))

    return play


# --- drums ----------------------------------------------------------------------------------------

_PATTERNS = (
    {"kick": (0, 8, 10), "snare": (4, 12), "hat": tuple(range(0, 16, 2)), "tom": (14, 15), "other": (3, 7)},
    {"kick": (0, 3, 8, 11), "snare": (4, 12, 15), "hat": tuple(range(16)), "tom": (6, 13), "other": (0, 6, 12)},
    {"kick": (0, 6), "snare": (8,), "hat": (0, 4, 8, 12), "tom": (2, 4, 10, 12, 14), "other": (0, 3, 6, 10, 12)},
)
_GM_PIECES = {
    "kick": (36, 35),
    "snare": (38, 40),
    "hat": (42, 44, 46),
    "tom": (41, 45, 48),
    "other": (37, 56, 54, 76),
}
_RECORDED_PIECES = {"kick": (36,), "snare": (38, 40), "hat": (42, 44, 46), "tom": (43, 45), "other": (37, 54, 56)}


def require_packages() -> None:
    """Stop with a sentence where the sources of the whole benchmark are not all installed."""
    needed = (*FONTS.values(), RECORDED_KIT, *(KITS / k for k in (*HELD_OUT_KITS, *OTHER_KITS)))
    missing = [str(p) for p in needed if not p.exists()]
    missing += [program for program in ("fluidsynth", "flite", "espeak-ng") if shutil.which(program) is None]
    missing += recorded.missing() + fonts.missing() + unseen.missing()
    if missing:
        raise SystemExit(f"Not installed: {', '.join(missing)}. Please apt-get install {' '.join(PACKAGES)}.")


def _kit_samples(kit: str, piece: str) -> list[Path]:
    """Its recordings of a piece; none where the kit is not installed, as for the part that runs in the tests."""
    if not (KITS / kit).is_dir():
        return []
    files = [f for f in sorted((KITS / kit).iterdir()) if f.suffix.lower() in (".wav", ".flac", ".aiff")]
    return [f for f in files if re.match(PIECES[piece], f.stem.lower())]


def _sample(path: Path) -> Floats:
    return recorded.read(path)[: RATE * 3]


def _kit(kit: str, pieces: tuple[str, ...]) -> Callable[[np.random.Generator], Floats]:
    def play(random: np.random.Generator) -> Floats:
        pattern = _PATTERNS[int(random.integers(len(_PATTERNS)))]
        step = 60.0 / float(random.uniform(75, 130)) / 4
        out = np.zeros(16 * RATE)
        for piece in pieces:
            files = _kit_samples(kit, piece)
            if not files:
                continue
            some = [_sample(files[i]) for i in random.choice(len(files), min(4, len(files)), replace=False)]
            steps = tuple(range(0, 16, 2)) if len(pieces) == 1 and len(pattern[piece]) < 4 else pattern[piece]
            for bar in range(int(13 / (16 * step)) + 1):
                for at in steps:
                    hit = some[int(random.integers(len(some)))] * float(random.uniform(0.3, 1.0))
                    a = int((bar * 16 + at) * step * RATE)
                    hit = hit[: max(0, len(out) - a)]
                    out[a : a + len(hit)] += hit
        return out

    return play


def _bank_drums(
    font: str,
    kit: int,
    pieces: tuple[str, ...],
    notes_of: Mapping[str, tuple[int, ...]] = _GM_PIECES,
    channel: int = 9,
) -> Callable[[np.random.Generator], Floats]:
    def play(random: np.random.Generator) -> Floats:
        pattern = _PATTERNS[int(random.integers(len(_PATTERNS)))]
        notes = []
        for piece in pieces:
            steps = tuple(range(0, 16, 2)) if len(pieces) == 1 and len(pattern[piece]) < 4 else pattern[piece]
            for bar in range(8):
                for at in steps:
                    note = int(random.choice(notes_of[piece]))
                    notes.append((bar * 4 + at / 4, 0.2, note, int(random.integers(50, 120))))
        midi = _sequence(notes, kit, float(random.uniform(75, 130)), channel, 0)
        return _fluidsynth(font, midi, room=bool(random.random() < 0.5))

    return play


# --- voices and the demo --------------------------------------------------------------------------


def _voice(name: str) -> Callable[[np.random.Generator], Floats]:
    engine, voice = name.split(":")

    def play(random: np.random.Generator) -> Floats:
        text = " ".join(np.array(TEXTS)[random.permutation(len(TEXTS))])
        with tempfile.TemporaryDirectory() as folder:
            sound = Path(folder) / "a.wav"
            if engine == "flite":
                command = ["flite", "-voice", voice, "-t", text, "-o", str(sound)]
            else:
                speed, pitch = str(int(random.integers(130, 180))), str(int(random.integers(25, 75)))
                command = ["espeak-ng", "-v", voice, "-s", speed, "-p", pitch, "-w", str(sound), text]
            subprocess.run(command, check=True, capture_output=True, timeout=60)
            x, rate = soundfile.read(sound)
        return np.asarray(soxr.resample(x, rate, RATE))

    return play


def _demo(name: str) -> Callable[[np.random.Generator], Floats]:
    def play(random: np.random.Generator) -> Floats:
        from mivlo.demo import instruments, score

        whole = getattr(instruments, name)(getattr(score, name)(random), score.LENGTH_S, RATE, random)
        start = int(float(random.uniform(16, score.LENGTH_S - 20)) * RATE)
        return np.asarray(whole[start : start + 13 * RATE])

    return play


# --- all of them ----------------------------------------------------------------------------------


_OTHER_FAMILIES = {
    47: "percussion", 52: "voice", 53: "voice", 54: "voice", 108: "mallets", 109: "winds", 110: "strings",
    111: "winds", 112: "mallets", 114: "mallets",
}  # fmt: skip


def _family(program: int) -> str:
    families = ("keys", "mallets", "keys", "guitar", "bass", "strings", "strings", "brass", "winds", "winds",
                "keys", "keys", "keys", "guitar", "percussion")  # fmt: skip
    return _OTHER_FAMILIES.get(program, families[program // 8])


def _melodic() -> Iterator[Source]:
    for font in FONTS:
        for cluster in CLUSTERS:
            for program in cluster:
                if program in HELD_OUT_PROGRAMS:
                    half = "held out" if (font, program) in HELD_OUT_PLAYED else "never"
                else:
                    half = "tune" if (font, program) in TUNE_PLAYED else "more"
                if half != "never":
                    yield Source(f"{font} {program:03d}", half, _family(program), _instrument(font, program))


def _drums() -> Iterator[Source]:
    whole = ("kick", "snare", "hat")
    for kit in HELD_OUT_KITS:
        for pieces in (("tom", "other"), ("snare",), whole):
            if any(_kit_samples(kit, p) for p in pieces):
                yield Source(f"{kit} {'+'.join(pieces)}", "held out", "drums", _kit(kit, pieces))
    for number, kit in enumerate(OTHER_KITS):
        for pieces in (whole, ("kick",), ("snare",), ("tom",), ("hat",), ("other",), ("tom", "other")):
            if any(_kit_samples(kit, p) for p in pieces):
                half = "tune" if number < 3 and pieces in (whole, ("tom",)) else "more"
                yield Source(f"{kit} {'+'.join(pieces)}", half, "drums", _kit(kit, pieces))
    for font in FONTS:
        for kit in (0, 8, 16, 25, 40):
            for pieces in (whole, ("kick",), ("snare",), ("tom",), ("other",)):
                yield Source(f"{font} kit {kit} {'+'.join(pieces)}", "more", "drums", _bank_drums(font, kit, pieces))


def _further() -> Iterator[Source]:
    """Last, since damage is drawn by a source's number."""
    for font, program in fonts.melodic():
        yield Source(f"{font} {program:03d}", "more", _family(program), _instrument(font, program))
    for kit in (0, 8, 32, 40):
        for pieces in (("kick", "snare", "hat"), ("kick",), ("snare",), ("tom",), ("other",)):
            name = f"sonivox kit {kit} {'+'.join(pieces)}"
            yield Source(name, "more", "drums", _bank_drums("sonivox", kit, pieces))
    for row in recorded.recorded_later():
        yield Source(*row)
    for pieces in (("kick", "snare", "hat"), ("snare",), ("tom", "other")):
        play = _bank_drums("recorded kit", 0, pieces, _RECORDED_PIECES, channel=0)
        yield Source(f"recorded kit {'+'.join(pieces)}", "foreign", "drums", play)


def all_sources() -> list[Source]:
    """Every source, of both halves and those only trained on."""
    out = [*_melodic(), *_drums()]
    for half, names in (("held out", HELD_OUT_VOICES), ("tune", OTHER_VOICES[:3]), ("more", OTHER_VOICES[3:])):
        out += [Source(n, half, "voice", _voice(n)) for n in names]
    for half, names in (("held out", HELD_OUT_DEMO), ("tune", OTHER_DEMO)):
        out += [Source(f"demo {n}", half, _DEMO_ROLES[n], _demo(n)) for n in names]
    out += [Source(*row) for row in recorded.recorded()]
    out += _further()
    out += [Source(*row) for row in unseen.unseen()]
    return out

"""Commands that take several tracks: who covers whom, carves, and the floor."""

from __future__ import annotations

import json
import shutil
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from mivlo.audio.whole import write_json, written_whole
from mivlo.core.errors import MivloError

if TYPE_CHECKING:
    from mivlo.services.clashes.documents import CarvedFiles, Files

Tracks = Annotated[list[Path], typer.Argument(metavar="A.wav B.wav ...", help="the tracks, which start together")]
AsJson = Annotated[bool, typer.Option("--json", help="print JSON")]
Spl = Annotated[
    float | None,
    typer.Option("--spl", min=40.0, max=130.0, help="level in dB SPL of a mean square of 1; 95 if left out"),
]
LEAST_MAX_CUT_DB, DEEPEST_MAX_CUT_DB = 0.5, 12.0


def existing(path: Path) -> Path:
    """A path that leads to a file."""
    if not path.is_file():
        raise MivloError(f"There is no file {path}. Check the name.")
    return path


def _read(paths: list[Path], spl: float | None, least: int = 1) -> Files:
    if len(paths) < least:
        raise MivloError("Give at least two tracks: a clash needs two.")
    from mivlo.services.clashes.documents import Files

    return Files.read([existing(path) for path in paths], spl=spl)


def clash(tracks: Tracks, as_json: AsJson = False, spl: Spl = None) -> None:
    """Say which track covers which, where, when and how much, and which carve would free it."""
    files = _read(tracks, spl, least=2)
    from mivlo.services.clashes.documents import clash_document

    document = clash_document(files)
    typer.echo(json.dumps(document, indent=2) if as_json else _clash_table(document))


def _clash_table(document: dict[str, Any]) -> str:
    lines = [f"{'track':<32}{'sones alone':>12}{'in the mix':>12}{'kept %':>8}"]
    lines += [
        f"{t['file']:<32}{t['loudness_alone']:>12.2f}{t['loudness_in_mix']:>12.2f}{100 * t['kept']:>8.0f}"
        for t in document["tracks"]
    ]
    if not document["clashes"]:
        return "\n".join([*lines, "", "No track covers another."])
    lines += ["", f"{'':<4}{'covered < by':<40}{'Hz':>14}{'lost %':>8}{'time %':>8}  carve"]
    for c in document["clashes"]:
        between = f"{c['from_hz']:.0f}-{c['to_hz']:.0f}"
        carve = "" if c["carve"] is None else _carve_words(c["carve"])
        lines.append(
            f"{c['id']:<4}{c['covered'] + ' < ' + c['by']:<40}{between:>14}{100 * c['lost']:>8.1f}"
            f"{100 * c['share_of_time']:>8.0f}  {carve}".rstrip()
        )
    return "\n".join(lines)


def _carve_words(carve: dict[str, Any]) -> str:
    move = carve["move"]
    while_it_sounds = f" while {carve['key']} sounds" if carve["key"] else ""
    depth = move.get("range_db") or move["gain_db"]
    return f"{carve['on']}: {move['frequency_hz']:.0f} Hz, Q {move['q']:.2f}, {depth:+.1f} dB{while_it_sounds}"


def carve(
    tracks: Tracks,
    keep: Annotated[Path, typer.Option("--keep", metavar="A.wav", help="the track that is to be freed")],
    folder: Annotated[Path, typer.Option("-o", "--output", metavar="DIR", help="where to write all tracks")],
    max_cut: Annotated[
        float,
        typer.Option(
            "--max-cut", metavar="DB", min=LEAST_MAX_CUT_DB, max=DEEPEST_MAX_CUT_DB, help="the deepest cut in dB"
        ),
    ] = 4.0,
    as_json: AsJson = False,
    spl: Spl = None,
) -> None:
    """Free one track: find the smallest cuts on the others, render them, and say what they do."""
    files = _read(tracks, spl, least=2)
    number = next((i for i, path in enumerate(files.paths) if path == keep or path.name == str(keep)), None)
    if number is None:
        raise MivloError(f"{keep} is not among the tracks. Name it with the others, too.")
    from mivlo.core.clashes import Limits
    from mivlo.services.clashes.documents import carve_files

    _prepare(folder, files)
    made = carve_files(files, number, Limits(most_db=max_cut))
    _write(folder, files, made)
    typer.echo(json.dumps(made.document, indent=2) if as_json else _carve_table(made.document))


def _prepare(folder: Path, files: Files) -> None:
    if folder.exists() and not folder.is_dir():
        raise MivloError(f"{folder} is a file. Give a folder with -o.")
    folder.mkdir(parents=True, exist_ok=True)
    for path in files.paths:
        if (folder / path.name).exists() and (folder / path.name).samefile(path):
            raise MivloError("The output would replace the input. Give another folder with -o.")


def _write(folder: Path, files: Files, made: CarvedFiles) -> None:
    """Each file appears under its name only when it is complete."""
    from mivlo.audio.decode import inspect
    from mivlo.audio.encode import CONTAINERS, SoundWriter, depth_of

    for number, path in enumerate(files.paths):
        out = folder / files.written(number, changed=number in made.rendered)
        with written_whole(out) as partial:
            if number in made.rendered:
                info = inspect(path)
                kind = CONTAINERS[out.suffix.lower()]
                with SoundWriter(partial, info.sample_rate, info.channels, depth_of(info.subtype), kind) as writer:
                    writer.write(made.rendered[number])
            else:
                shutil.copyfile(path, partial)
    for number, sheet in made.sheets.items():
        write_json(folder / f"{files.paths[number].stem}.json", sheet)
    write_json(folder / "carve.json", made.document)


def _carve_table(document: dict[str, Any]) -> str:
    if not document["carves"]:
        return f"Nothing worth a cut covers {document['keep']}. All tracks were copied."
    lines = [f"{'track':<32}{'kept %':>14}{'LUFS':>18}{'sones':>16}"]
    for t in document["tracks"]:
        kept, lufs, sones = t["kept"], t["lufs"], t["loudness"]
        lines.append(
            f"{t['file']:<32}{100 * kept['before']:>6.1f} >{100 * kept['after']:>6.1f}"
            f"{lufs['before']:>9.2f} >{lufs['after']:>7.2f}{sones['before']:>8.2f} >{sones['after']:>6.2f}"
        )
    return "\n".join([*lines, "", *(_carve_words(c) for c in document["carves"])])


def floor(
    tracks: Tracks,
    as_json: AsJson = False,
    above_notes: Annotated[
        bool, typer.Option("--above-notes", help="allow corners above the lowest note that a track plays")
    ] = False,
    spl: Spl = None,
) -> None:
    """Say how much low end each track carries, and the highest low cut that is just not heard in the mix."""
    files = _read(tracks, spl)
    from mivlo.services.clashes.documents import floor_document

    document = floor_document(files, above_notes=above_notes)
    typer.echo(json.dumps(document, indent=2) if as_json else _floor_table(document))


def _floor_table(document: dict[str, Any]) -> str:
    def hz(value: float | None) -> str:
        return "-" if value is None else f"{value:.0f}"

    lines = [f"{'track':<32}{'low LUFS':>10}{'share %':>9}{'in mix Hz':>11}{'alone Hz':>10}{'dB/oct':>8}  "]
    for t in document["tracks"]:
        lines.append(
            f"{t['file']:<32}{t['low_lufs']:>10.1f}{100 * t['share']:>9.1f}{hz(t['corner_in_mix_hz']):>11}"
            f"{hz(t['corner_alone_hz']):>10}{t['slope_db_per_octave']:>8}  {t['left_alone'] or ''}".rstrip()
        )
    sums = document["sum_db"]
    return "\n".join([*lines, f"sum of the lows {sums['before']:.2f} dB, with all cuts {sums['after']:.2f} dB"])


def add_to(app: typer.Typer) -> None:
    """Make these commands of an application."""
    for command in (clash, carve, floor):
        app.command()(command)

"""`mivlo ...`: the command line. Exit codes: 0, 1 for a bad input (one sentence), 2 for usage."""

from __future__ import annotations

import io
import json
import os
import sys
from collections.abc import Iterator
from enum import StrEnum
from multiprocessing import get_context
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from mivlo import __version__, cli_habits, cli_mix, compute_in_one_thread
from mivlo.cli_mix import existing
from mivlo.core.errors import MivloError
from mivlo.core.roles import Role
from mivlo.loading import loading

if TYPE_CHECKING:
    from mivlo.services.handover.sheets import ReadSheet

compute_in_one_thread()

LONGEST_S = 3 * 3600.0

app = typer.Typer(
    name="mivlo", add_completion=False, no_args_is_help=True, pretty_exceptions_enable=False,
    help="Finds and cuts what rings, booms and masks on instrument tracks.",
)  # fmt: skip


class Bits(StrEnum):
    B16 = "16"
    B24 = "24"
    B32F = "32f"


def _version(asked: bool) -> None:
    if asked:
        typer.echo(f"mivlo {__version__}")
        raise typer.Exit


@app.callback()
def common(
    version: Annotated[bool, typer.Option("--version", callback=_version, is_eager=True)] = False,
) -> None:
    """Options of all commands."""


@app.command()
def treat(
    source: Annotated[Path, typer.Argument(metavar="IN.wav", help="the recording")],
    out: Annotated[Path, typer.Option("-o", "--output", help="where to write; .wav or .flac")],
    moves: Annotated[Path | None, typer.Option("--moves", help="the sheet, JSON")] = None,
    auto: Annotated[bool, typer.Option("--auto", help="apply what `find` proposes")] = False,
    limit: Annotated[int, typer.Option("--limit", min=1, help="with --auto: at most so many moves")] = 8,
    least: Annotated[
        float, typer.Option("--least-confidence", min=0.0, max=1.0, help="with --auto: only what is at least so sure")
    ] = 0.5,
    own_tones: Annotated[
        bool, typer.Option("--own-tones", help="with --auto: also cut the instrument's own tones, that are no faults")
    ] = False,
    role: Annotated[str | None, typer.Option("--role", help="with --auto: what the track is")] = None,
    reverb: Annotated[bool, typer.Option("--reverb", help="render the sheet's reverb, too")] = False,
    bits: Annotated[Bits | None, typer.Option("--bits", help="depth; as the input if left out")] = None,
    keys: Annotated[
        list[str] | None,
        typer.Option("--key", metavar="NAME=FILE", help="the sound that moves of the sheet listen to"),
    ] = None,
    keep: Annotated[
        bool, typer.Option("--keep-readable", help="of a damaged recording, treat what can be read")
    ] = False,
) -> None:
    """Apply a sheet of moves, or what `find` proposes, to a recording; same length, rate and channels."""
    if (moves is None) != auto:
        raise typer.BadParameter("give either a sheet with --moves or --auto")
    from mivlo.audio.encode import Depth
    from mivlo.core.moves import Treatment
    from mivlo.services.handover.treating import container_of, key_sounds, open_whole, treat_file

    container_of(out)  # before long work
    sound = open_whole(existing(source), keep_readable=keep)
    if moves is not None:
        from mivlo.services.handover.sheets import check_channels, read_sheet

        sheet = read_sheet(existing(moves))
        treatment, sounds = sheet.treatment, key_sounds(sheet, _key_files(sheet, keys or []), sound.info.sample_rate)
        check_channels(treatment, sound.info.channels)
    else:
        from mivlo.services.findings.documents import search_file

        seen = search_file(source, role=_role(role), most=limit, least_confidence=least, keep_readable=keep)[1]
        found = [*seen.findings, *seen.own_tones[: limit - len(seen.findings)]] if own_tones else seen.findings
        treatment, sounds = Treatment.of_entries(f.entry for f in found), {}
        count = "1 move" if len(found) == 1 else f"{len(found)} moves"
        typer.echo(f"{count}: " + ", ".join(_brief(f) for f in found) if found else "Nothing to cut.")
    made = treat_file(
        sound, treatment, out, keys=sounds, depth=Depth(bits.value) if bits else None, reverb=reverb,
        keep_readable=keep,
    )  # fmt: skip
    if made.missing:
        typer.echo(f"mivlo: {made.missing}", err=True)
    if made.clipped:
        typer.echo(f"{made.clipped} samples were above full scale and were clipped.", err=True)


def _key_files(sheet: ReadSheet, given: list[str]) -> dict[str, Path]:
    """The files that --key names, by the names in the sheet."""
    files: dict[str, Path] = {}
    for text in given:
        name, equals, file = text.partition("=")
        if not equals or not name or not file:
            raise MivloError(f"--key is {text!r}; write it as NAME=FILE.")
        files[name] = existing(Path(file))
    if unused := [name for name in files if name not in sheet.keys.values()]:
        raise MivloError(f"No move of the sheet listens to {unused[0]!r}. Leave that --key out, or correct its name.")
    return files


def _brief(finding: Any) -> str:
    move = finding.move
    gain = getattr(move, "range_db", None) or move.gain_db
    return f"{finding.kind} {finding.frequency_hz:.0f} Hz {gain:+.1f} dB"


def _role(name: str | None) -> Role | None:
    if name is not None and name not in list(Role):
        raise typer.BadParameter(f"--role is one of {', '.join(Role)}")
    return None if name is None else Role(name)


@app.command()
def find(
    sources: Annotated[list[Path], typer.Argument(metavar="IN.wav ...", help="the recordings")],
    as_json: Annotated[bool, typer.Option("--json", help="print JSON; of several files one document a line")] = False,
    from_s: Annotated[float, typer.Option("--from", min=0.0, help="start in seconds")] = 0.0,
    to_s: Annotated[float | None, typer.Option("--to", min=0.0, help="end in seconds")] = None,
    role: Annotated[str | None, typer.Option("--role", help="what the track is; guessed from its name")] = None,
    limit: Annotated[int, typer.Option("--limit", min=1, help="at most so many findings")] = 12,
    evidence: Annotated[bool, typer.Option("--evidence", help="with --json: what the page draws, too")] = False,
    song: Annotated[
        bool,
        typer.Option(
            "--song", help="the files are tracks of one song: they tell what rings in its rooms, and what is whose"
        ),
    ] = False,
) -> None:
    """Say what stands out in recordings, why, and which move would bring it to its surroundings."""
    for name, value in (("--from", from_s), ("--to", to_s)):
        if value is not None and not value <= LONGEST_S:
            raise MivloError(f"{name} is {value}, but a recording has at most {LONGEST_S / 3600:.0f} hours.")
    beside = [existing(path) for path in sources] if song else []
    options = {
        "from_s": from_s, "to_s": to_s, "role": _role(role), "most": limit, "evidence": evidence, "beside": beside,
    }  # fmt: skip
    refused = 0
    for path, document in _documents(sources, options):
        if isinstance(document, str):
            typer.echo(f"mivlo: {document}", err=True)
            refused += 1
            continue
        if notice := document.pop("notice"):
            typer.echo(f"mivlo: {notice}", err=True)
        if as_json:
            whole = (sys.stdout.encoding or "").lower().startswith("utf")
            typer.echo(json.dumps(document, indent=2 if len(sources) == 1 else None, ensure_ascii=not whole))
        else:
            typer.echo(_table(document, heading=str(path) if len(sources) > 1 else ""))
    if refused:
        raise typer.Exit(1)


def _documents(paths: list[Path], options: dict[str, Any]) -> Iterator[tuple[Path, dict[str, Any] | str]]:
    """Each file's document, or the sentence why there is none; several files in parallel over the cores."""
    if len(paths) == 1:
        yield paths[0], _document(paths[0], options)
        return
    from concurrent.futures import ProcessPoolExecutor

    with ProcessPoolExecutor(min(len(paths), os.cpu_count() or 1), mp_context=get_context("spawn")) as pool:
        waiting = [(path, pool.submit(_document, path, options)) for path in paths]
        for path, future in waiting:
            yield path, future.result()


def _document(path: Path, options: dict[str, Any]) -> dict[str, Any] | str:
    from mivlo.services.findings.documents import file_document

    try:
        return file_document(existing(path), **options)
    except MivloError as error:
        return str(error)


def _table(document: dict[str, Any], *, heading: str = "") -> str:
    """What a person reads: a line a finding."""
    lines = [heading] if heading else []
    if not document["findings"]:
        lines.append("Nothing stands out.")
    lines += _rows(document["findings"], "move")
    if document["fundamental"]:
        lines.append(
            "Its fundamental: {frequency_hz:.1f} Hz, {note} {cents:+.0f} ct.".format(**document["fundamental"])
        )
    if document["own_tones"]:
        lines += ["Tones of its own, cut with --own-tones only:", *_rows(document["own_tones"], "offer")]
    return "\n".join(lines)


def _rows(found: list[dict[str, Any]], proposed: str) -> list[str]:
    if not found:
        return []
    lines = [
        f"{'kind':<10}{'Hz':>9}  {'note':<10}{'over dB':>8}{'octaves':>9}{'time %':>8}"
        f"{'rings ms':>10}{'sure %':>8}  {proposed}"
    ]
    for f in found:
        move = f[proposed]
        if move["mode"] == "dynamic":
            cut = f"{move['range_db']:+.1f} dB over {move['threshold_db']:.1f} dB"
        elif move.get("gain_db") is not None:
            cut = f"{move['gain_db']:+.1f} dB" + (
                f" at {len(move['stretches'])} moments" if "stretches" in move else ""
            )
        else:
            cut = f"{move['slope_db_per_octave']} dB/oct"
        width = f"Q {move['q']:.1f}" if move.get("q") is not None else ""
        note = f"{f['note']} {f['cents']:+.0f} ct"
        rings = "-" if f["ring_ms"] is None else f"{f['ring_ms']:.0f}"
        lines.append(
            f"{f['kind']:<10}{f['frequency_hz']:>9.1f}  {note:<10}{f['excess_db']:>8.1f}{f['bandwidth_oct']:>9.2f}"
            f"{100 * f['share_of_time']:>8.0f}{rings:>10}{100 * f['confidence']:>8.0f}  "
            f"{move['shape']} {move['frequency_hz']:.1f} Hz {cut} {width}".rstrip()
        )
        lines += [f"{'':<10}{text}" for text in (f["harmonic"], f["says"]) if text]
    return lines


cli_mix.add_to(app)
cli_habits.add_to(app)


@app.command()
def demo(
    folder: Annotated[Path, typer.Argument(help="where to write the tracks")] = Path("tide-clock"),
) -> None:
    """Synthesise the demo song "Tide Clock" as nine WAV files, with its list of planted troubles."""
    from mivlo.demo.song import write_song

    for file in write_song(folder):
        typer.echo(str(file))


def _keep_private(folder: Path) -> None:
    """Whatever this process makes can be read by nobody else."""
    from mivlo.holding import make_private

    os.umask(0o077)
    make_private(folder)


@app.command()
def serve() -> None:
    """Run the web server (MIVLO_HOST, MIVLO_PORT)."""
    from mivlo.config import settings
    from mivlo.web.doors import check_exposed

    check_exposed(settings())  # before all else is loaded
    with loading():
        import uvicorn

        from mivlo.live.protocol import LARGEST_MESSAGE
        from mivlo.web.app import make_app

    _keep_private(settings().data_dir)
    uvicorn.run(
        make_app(), host=settings().host, port=settings().port, log_level="warning",
        ws_max_size=LARGEST_MESSAGE, ws_per_message_deflate=False, timeout_graceful_shutdown=2,
    )  # fmt: skip


@app.command()
def worker() -> None:
    """Run one worker for long work; any number may run, on any machine that reaches the database."""
    with loading():
        from mivlo.config import settings
        from mivlo.jobs.queue import work
        from mivlo.jobs.watcher import Watcher

    _keep_private(settings().data_dir)
    watcher = Watcher()
    watcher.start()
    try:
        work()
    finally:
        watcher.stop()


@app.command(name="compile")
def compile_ahead() -> None:
    """Compile ahead what computes, so that nothing waits for it later; set-up does it."""
    from mivlo.compiling import compile_all

    for part in compile_all():
        typer.echo(f"  {part}")


@app.command()
def migrate() -> None:
    """Bring the database's tables up to date."""
    from mivlo.launch import prepare_database

    prepare_database()


@app.command()
def start() -> None:
    """Start everything on this machine: database, demo song, worker, web server."""
    from mivlo.config import settings
    from mivlo.web.doors import check_exposed

    check_exposed(settings())  # before all else is loaded
    from mivlo.launch import start as start_all

    start_all(lambda text: typer.echo(text))


@app.command()
def openapi() -> None:
    """Print the OpenAPI document of the web interface."""
    from mivlo.web.app import make_app

    typer.echo(json.dumps(make_app().openapi(), indent=1))


@app.command()
def doctor(
    new_password: Annotated[
        bool, typer.Option("--new-password", help="give our own database a new password where its file is lost")
    ] = False,
) -> None:
    """Say whether database, store, worker and page are in order, and what to do if not."""
    from mivlo.doctor import examine

    if new_password:
        from mivlo.launch import own_cluster

        own_cluster().renew_secret()
        typer.echo("The database has a new password, and all that was in it. Start Mivlo again.")
        return
    healthy = True
    for check in examine():
        healthy &= check.ok
        typer.echo(f"{'ok  ' if check.ok else 'BAD '} {check.name}: {check.says}")
    if not healthy:
        raise typer.Exit(1)


@app.command()
def backup(
    out: Annotated[Path, typer.Option("-o", "--output", help="the file to be written, .zip")],
    song: Annotated[str | None, typer.Argument(help="a song's name or number")] = None,
    every: Annotated[bool, typer.Option("--all", help="all songs")] = False,
) -> None:
    """Write songs with originals, decisions and history into a file, while everything runs."""
    if (song is None) != every:
        raise typer.BadParameter("give either a song or --all")
    from mivlo.services.backup.saving import find_songs, save

    if not out.parent.is_dir():
        raise MivloError(f"Could not write {out}: there is no folder {out.parent}.")
    saved = save(find_songs(song), out)
    for notice in saved.notices:
        typer.echo(f"mivlo: {notice}", err=True)
    typer.echo(f"{_count(len(saved.songs), 'song')}, {_count(saved.originals, 'recording')} in {out}.")


@app.command()
def restore(file: Annotated[Path, typer.Argument(metavar="FILE.zip", help="a backup")]) -> None:
    """Bring the songs of a backup back as new songs; what is there stays."""
    from mivlo.services.backup.restoring import restore as bring_back

    found = bring_back(existing(file))
    typer.echo(f"{_count(len(found), 'song')} restored.")


def _count(number: int, what: str) -> str:
    return f"{number} {what}{'' if number == 1 else 's'}"


@app.command()
def tidy(
    exports: Annotated[bool, typer.Option("--exports", help="remove the files of finished exports")] = False,
    caches: Annotated[bool, typer.Option("--caches", help="remove what can be made again")] = False,
) -> None:
    """Say what exports and caches take on disk, and remove them where asked; songs and originals stay."""
    from mivlo.audio.room import size_words
    from mivlo.services.recordings.tidying import disk_use
    from mivlo.services.recordings.tidying import tidy as make_room

    if exports or caches:
        typer.echo(f"{size_words(make_room(exports=exports, caches=caches))} were freed.")
        return
    use = disk_use()
    typer.echo(f"free     {size_words(use.free)}")
    typer.echo(f"exports  {size_words(use.exports)}   `mivlo tidy --exports` removes them")
    typer.echo(f"caches   {size_words(use.caches)}   `mivlo tidy --caches` removes them; they are made again")


def main() -> None:
    """Entry point: our own errors, and what the system refuses, become one sentence and exit code 1."""
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")  # names of files need not be text
    try:
        app()
    except MivloError as error:
        _end(str(error))
    except BrokenPipeError:  # who read our output has enough
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        sys.exit(1)
    except OSError as error:
        from mivlo.audio.room import is_full

        if is_full(error):
            _end("The disk is full. Make room there, or write elsewhere; nothing was left half-written.")
        what = "" if error.filename is None else f" {os.fsdecode(error.filename)}"
        _end(f"Could not use{what}: {(error.strerror or str(error)).lower()}. Check the name and your rights there.")


def _end(sentence: str) -> None:
    print(f"mivlo: {sentence}", file=sys.stderr)
    sys.exit(1)


if __name__ == "__main__":
    main()
